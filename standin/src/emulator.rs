//! The machine emulator as a judge: started without a machine, its block layer opens, makes and exports images through
//! its control socket.

use std::{
    io::{BufRead, BufReader, Write},
    os::unix::net::UnixStream,
    path::Path,
    process::{Child, Command, Stdio},
    time::{Duration, Instant},
};

use anyhow::{Context, Result, bail};
use serde_json::{Value, json};
use tempfile::TempDir;

/// A running emulator.
pub struct Emulator {
    child: Child,
    control: BufReader<UnixStream>,
    folder: TempDir,
    names: u32,
}

impl Emulator {
    /// Starts one.
    ///
    /// # Errors
    /// When it is not installed or does not answer.
    pub fn start() -> Result<Self> {
        Self::start_with(&[])
    }

    /// Starts one with `options` more.
    ///
    /// # Errors
    /// When it is not installed, does not take them, or does not answer.
    pub fn start_with(options: &[String]) -> Result<Self> {
        let mut line = ["-machine", "none", "-nodefaults", "-display", "none", "-S"].map(String::from).to_vec();
        line.extend_from_slice(options);
        Self::with(tempfile::tempdir()?, &line)
    }

    /// Starts one with the machine of a domain, before its first instruction.
    ///
    /// # Errors
    /// The emulator's own words, when it does not take the machine.
    pub fn start_domain(xml: &str) -> Result<Self> {
        let folder = tempfile::tempdir()?;
        let mut line = crate::domain::start_line(xml, folder.path())?;
        line.extend(["-S", "-serial", "null"].map(String::from));
        Self::with(folder, &line)
    }

    fn with(folder: TempDir, line: &[String]) -> Result<Self> {
        let socket = folder.path().join("control");
        let child = Command::new("qemu-system-x86_64")
            .args(line)
            .arg("-qmp")
            .arg(format!("unix:{},server=on,wait=off", socket.display()))
            .stdin(Stdio::null())
            .spawn()
            .context("starting the machine emulator (Debian's qemu-system-x86)")?;
        let control = BufReader::new(wait_for(&socket)?);
        let mut emulator = Self { child, control, folder, names: 0 };
        emulator.receive()?;
        emulator.command("qmp_capabilities", &json!({}))?;
        Ok(emulator)
    }

    fn receive(&mut self) -> Result<Value> {
        let mut line = String::new();
        if self.control.read_line(&mut line)? == 0 {
            bail!("the emulator closed its control socket");
        }
        Ok(serde_json::from_str(&line)?)
    }

    /// One command of the control protocol and its answer.
    ///
    /// # Errors
    /// The emulator's own words.
    pub fn command(&mut self, name: &str, arguments: &Value) -> Result<Value> {
        let line = json!({ "execute": name, "arguments": arguments }).to_string() + "\n";
        self.control.get_mut().write_all(line.as_bytes())?;
        loop {
            let mut answer = self.receive()?;
            if let Some(error) = answer.get("error") {
                bail!("{name}: {}", error["desc"]);
            }
            if let Some(value) = answer.get_mut("return") {
                return Ok(value.take());
            }
        }
    }

    /// A name that was not used before.
    pub fn fresh_name(&mut self) -> String {
        self.names += 1;
        format!("n{}", self.names)
    }

    /// Waits until job `id` is over.
    ///
    /// # Errors
    /// Its own error.
    pub fn finish_job(&mut self, id: &str) -> Result<()> {
        loop {
            let jobs = self.command("query-jobs", &json!({}))?;
            let job = jobs.as_array().and_then(|jobs| jobs.iter().find(|job| job["id"] == id));
            let Some(job) = job.cloned() else { return Ok(()) };
            if job["status"] == "concluded" {
                self.command("job-dismiss", &json!({ "id": id }))?;
                return match job.get("error") {
                    Some(error) => bail!("job: {error}"),
                    None => Ok(()),
                };
            }
            std::thread::sleep(Duration::from_millis(10));
        }
    }

    /// Opens `path` as an image of `driver`; returns the node's name.
    ///
    /// # Errors
    /// The emulator's own words.
    pub fn open(&mut self, driver: &str, path: &Path, read_only: bool) -> Result<String> {
        let name = self.fresh_name();
        let file = json!({ "driver": "file", "filename": path, "locking": "off" });
        let node = json!({
            "node-name": name, "driver": driver, "read-only": read_only, "discard": "unmap", "file": file,
        });
        self.command("blockdev-add", &node)?;
        Ok(name)
    }

    /// Closes a node.
    ///
    /// # Errors
    /// The emulator's own words.
    pub fn close(&mut self, node: &str) -> Result<()> {
        self.command("blockdev-del", &json!({ "node-name": node })).map(drop)
    }

    /// Makes an image with the emulator's own writer; `options` adds to driver and size.
    ///
    /// # Errors
    /// The emulator's own words.
    pub fn create(&mut self, driver: &str, path: &Path, size: u64, options: &Value) -> Result<()> {
        std::fs::File::create(path)?;
        let file = self.fresh_name();
        let node = json!({ "node-name": file, "driver": "file", "filename": path, "locking": "off" });
        self.command("blockdev-add", &node)?;
        let mut create = json!({ "driver": driver, "file": file, "size": size });
        if let (Some(create), Some(options)) = (create.as_object_mut(), options.as_object()) {
            create.extend(options.clone());
        }
        let job = self.fresh_name();
        self.command("blockdev-create", &json!({ "job-id": job, "options": create }))?;
        self.finish_job(&job)?;
        self.close(&file)
    }

    /// Copies node `from` into node `to`, of the same size.
    ///
    /// # Errors
    /// The emulator's own words.
    pub fn copy(&mut self, from: &str, to: &str, compress: bool) -> Result<()> {
        let job = self.fresh_name();
        let arguments = json!({
            "job-id": job, "device": from, "target": to, "sync": "full", "compress": compress,
            "auto-dismiss": false, "x-perf": { "max-workers": 1 },
        });
        self.command("blockdev-backup", &arguments)?;
        self.finish_job(&job)
    }

    /// Ends the emulator in order: everything that was written through it is in the files afterwards.
    ///
    /// # Errors
    /// The emulator's own words.
    pub fn quit(mut self) -> Result<()> {
        self.command("quit", &json!({}))?;
        self.child.wait()?;
        Ok(())
    }

    /// Exports a node and connects to it.
    ///
    /// # Errors
    /// The emulator's own words.
    pub fn export(&mut self, node: &str, writable: bool) -> Result<crate::nbd::Client> {
        let socket = self.folder.path().join(format!("nbd-{node}"));
        let address = json!({ "type": "unix", "data": { "path": socket } });
        self.command("nbd-server-stop", &json!({})).ok();
        self.command("nbd-server-start", &json!({ "addr": address }))?;
        let export = json!({ "type": "nbd", "id": format!("export-{node}"), "node-name": node, "name": node, "writable": writable });
        self.command("block-export-add", &export)?;
        Ok(crate::nbd::Client::connect(&socket, node)?)
    }
}

impl Drop for Emulator {
    fn drop(&mut self) {
        self.child.kill().ok();
        self.child.wait().ok();
    }
}

fn wait_for(socket: &Path) -> Result<UnixStream> {
    let until = Instant::now() + Duration::from_secs(30);
    loop {
        match UnixStream::connect(socket) {
            Ok(stream) => return Ok(stream),
            Err(error) if Instant::now() > until => return Err(error).context("waiting for the emulator"),
            Err(_) => std::thread::sleep(Duration::from_millis(20)),
        }
    }
}
