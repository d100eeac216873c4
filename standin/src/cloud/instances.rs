//! Instances: machines of images, which the machine emulator starts.

use std::{
    collections::BTreeMap,
    fs::{self, File},
    io::{self, BufRead, BufReader, Write},
    os::unix::net::UnixStream,
    path::{Path, PathBuf},
    process::{Child, Command, Stdio},
    time::{Duration, Instant},
};

use anyhow::{Context as _, Result, bail};
use serde_json::{Value, json};

use super::{
    imports::{Image, SEED, disk},
    rules::{list, text},
};
use crate::{
    host::machines::{self, Machine},
    start::{self, Disk, Parts},
};

/// What a machine says when it has come up.
const UP: &str = "login:";
/// How long an address is waited for after that.
const SETTLES: Duration = Duration::from_secs(60);
/// The address that the emulator's network gives to the first who asks.
const ADDRESS: &str = "10.0.2.15";

/// All instances, in a folder.
pub(super) struct Instances {
    folder: PathBuf,
    running: BTreeMap<String, Running>,
}

/// One that was started.
struct Running {
    child: Child,
    /// When it was first seen to ask for a login.
    up: Option<Instant>,
    log: PathBuf,
    control: PathBuf,
    /// The firmware's variables, for as long as it runs.
    _folder: tempfile::TempDir,
}

impl Drop for Running {
    fn drop(&mut self) {
        self.child.kill().ok();
        self.child.wait().ok();
    }
}

impl Instances {
    /// Those in `folder`; none of them runs.
    pub(super) fn new(folder: PathBuf) -> io::Result<Self> {
        fs::create_dir_all(&folder)?;
        let instances = Self { folder, running: BTreeMap::new() };
        for machine in instances.all() {
            fs::write(instances.folder.join(&machine.name).join("power"), "off")?;
        }
        Ok(instances)
    }

    /// Where all of them are.
    pub(super) fn all(&self) -> Vec<Machine> {
        machines::all(&self.folder)
    }

    pub(super) fn get(&self, name: &str) -> Option<Machine> {
        self.all().into_iter().find(|machine| machine.name == name)
    }

    /// The one that was asked for with `key`, also by an earlier process.
    pub(super) fn asked_with(&self, key: &str) -> Option<String> {
        let is_it = |name: &String| fs::read_to_string(self.key_of(name)).is_ok_and(|found| found == key);
        self.all().into_iter().map(|machine| machine.name).find(is_it)
    }

    /// Makes one called `name` of `image`, as `machine` says, which was asked for with `key`.
    pub(super) fn make(&self, name: &str, image: &Image, machine: &Value, key: &str) -> Result<()> {
        let (folder, part) = (self.folder.join(name), self.folder.join(format!("{name}.part")));
        fs::remove_dir_all(&part).ok();
        fs::create_dir_all(&part)?;
        let mut machine = machine.clone();
        machine["name"] = name.into();
        for number in 0.. {
            let file = disk(&image.folder, number);
            if !file.exists() {
                break;
            }
            copy(&file, &disk(&part, number))?;
            let device = machine.pointer_mut(&format!("/disks/{number}")).context("a disk without a device")?;
            device["files"] = json!([format!("disk-{number}.raw")]);
            device["format"] = "raw".into();
            if let Some(device) = device.as_object_mut() {
                device.remove("compression");
            }
        }
        let launch = json!({
            "schema": 1, "kind": "machine-launch", "destination": "", "architecture": "x86_64", "machine": machine, "images": [],
        });
        fs::write(part.join(format!("{name}.launch.json")), serde_json::to_string_pretty(&launch)?)?;
        fs::write(part.join("power"), "off")?;
        fs::write(self.key_of(name), key)?;
        let seed = image.folder.join(SEED);
        if seed.exists() {
            fs::copy(seed, self.seed_of(name))?;
        }
        fs::rename(part, folder)?;
        Ok(())
    }

    /// Starts `name` in the machine emulator.
    pub(super) fn start(&mut self, name: &str) -> Result<()> {
        let found = self.get(name).context("there is no instance of this name")?;
        let launch: Value = serde_json::from_str(&fs::read_to_string(&found.file)?)?;
        let machine = &launch["machine"];
        let device = |(number, device): (usize, &Value)| Disk {
            file: found.files.get(number).cloned().unwrap_or_default(),
            format: "raw".into(),
            controller: text(device, "/controller").into(),
            boot: device.get("boot").and_then(Value::as_u64),
        };
        let adapter = |(number, adapter): (usize, &Value)| {
            let fresh = || format!("02:5a:17:00:01:{:02x}", number + 1);
            let mac = Some(text(adapter, "/mac"))
                .filter(|mac| mac.len() == 17 && mac.chars().all(|c| c.is_ascii_hexdigit() || c == ':'));
            (text(adapter, "/model").to_string(), mac.map_or_else(fresh, String::from))
        };
        let cpu = |of: &str| machine["cpu"][of].as_u64().unwrap_or(1);
        let parts = Parts {
            disks: list(machine, "/disks").iter().enumerate().map(device).collect(),
            adapters: list(machine, "/adapters").iter().enumerate().map(adapter).collect(),
            uefi: text(machine, "/firmware/kind") == "uefi",
            memory: (machine["memory"].as_u64().unwrap_or(1 << 30) >> 20).clamp(256, 4096),
            processors: (cpu("sockets") * cpu("cores")).clamp(1, 4),
        };
        let seed = Some(self.seed_of(name)).filter(|seed| seed.exists());
        let drive = |seed: PathBuf| format!("file={},if=none,id=seed,format=raw,readonly=on", seed.display());
        let seed = seed
            .map(|seed| ["-drive".into(), drive(seed), "-device".into(), "ide-cd,bus=ide.5,drive=seed".to_string()]);
        let own = tempfile::tempdir()?;
        let (log, control) = (self.log_of(name), own.path().join("control"));
        File::create(&log)?;
        let child = Command::new("qemu-system-x86_64")
            .args(start::line(&parts, own.path())?)
            .args(seed.into_iter().flatten())
            .arg("-serial")
            .arg(format!("file:{}", log.display()))
            .arg("-qmp")
            .arg(format!("unix:{},server=on,wait=off", control.display()))
            .arg("-no-reboot")
            .stdin(Stdio::null())
            .stdout(Stdio::null())
            .stderr(Stdio::null())
            .spawn()
            .context("starting the machine emulator (Debian's qemu-system-x86)")?;
        self.running.insert(name.into(), Running { child, up: None, log, control, _folder: own });
        fs::write(self.folder.join(name).join("power"), "running")?;
        Ok(())
    }

    /// Ends all that run.
    pub(super) fn end(&mut self) {
        for name in std::mem::take(&mut self.running).into_keys() {
            fs::write(self.folder.join(name).join("power"), "off").ok();
        }
    }

    fn seed_of(&self, name: &str) -> PathBuf {
        self.folder.with_file_name(format!("seed-of-{name}.iso"))
    }

    /// The file with the key by which it was asked for.
    fn key_of(&self, name: &str) -> PathBuf {
        self.folder.with_file_name(format!("key-of-{name}"))
    }

    fn log_of(&self, name: &str) -> PathBuf {
        self.folder.with_file_name(format!("boot-log-of-{name}"))
    }

    /// What `name` said on its serial port.
    pub(super) fn boot_log(&self, name: &str) -> String {
        fs::read(self.log_of(name)).map_or(String::new(), |bytes| String::from_utf8_lossy(&bytes).into_owned())
    }

    /// How it is, as it is sent.
    pub(super) fn state(&mut self, name: &str) -> Option<Value> {
        self.get(name)?;
        let running = self.running.get_mut(name);
        let (mut state, mut address, mut ended) = ("stopped", None, false);
        if let Some(running) = running {
            let log = fs::read(&running.log).unwrap_or_default();
            let log = String::from_utf8_lossy(&log);
            ended = !matches!(running.child.try_wait(), Ok(None));
            address = log.contains(ADDRESS).then_some(ADDRESS);
            if log.contains(UP) {
                running.up.get_or_insert_with(Instant::now);
            }
            // An address comes with the services that wait for the network, or it does not come.
            let is_settled = running.up.is_some_and(|up| address.is_some() || up.elapsed() > SETTLES);
            state = match (ended, running.up.is_some(), is_settled) {
                (true, false, _) => "failed",
                (true, true, _) => "stopped",
                (false, _, true) => "running",
                (false, _, false) => "starting",
            };
        }
        if ended {
            self.running.remove(name);
            fs::write(self.folder.join(name).join("power"), "off").ok();
        }
        let mut value = json!({ "instance": format!("n-{name}"), "name": name, "state": state });
        if let Some(address) = address {
            value["address"] = address.into();
        }
        if state == "failed" {
            value["fault"] = json!({ "code": "ended", "sentence": "it ended before it asked for a login" });
        }
        Some(value)
    }

    /// The files of `name` at one moment, copied into `to` where it runs.
    pub(super) fn snapshot(&self, name: &str, to: &Path) -> Result<Machine> {
        let mut machine = self.get(name).context("there is no instance of this name")?;
        fs::create_dir_all(to)?;
        let mut control = None;
        if let Some(running) = self.running.get(name) {
            let control = control.insert(BufReader::new(UnixStream::connect(&running.control)?));
            command(control, "qmp_capabilities")?;
            // While it stands still, all that it wrote is in its files.
            command(control, "stop")?;
        }
        let copied = machine.files.iter().map(|file| {
            let copied = to.join(file.file_name().unwrap_or_default());
            copy(file, &copied).map(|()| copied)
        });
        let copied: io::Result<Vec<PathBuf>> = copied.collect();
        if let Some(control) = &mut control {
            command(control, "cont")?;
        }
        machine.files = copied?;
        Ok(machine)
    }
}

/// One command of the emulator's control protocol.
fn command(control: &mut BufReader<UnixStream>, name: &str) -> Result<()> {
    control.get_mut().write_all(format!("{{\"execute\": \"{name}\"}}\n").as_bytes())?;
    loop {
        let mut line = String::new();
        if control.read_line(&mut line)? == 0 {
            bail!("the emulator closed its control socket");
        }
        let answer: Value = serde_json::from_str(&line)?;
        if answer.get("error").is_some() {
            bail!("{name}: {}", answer["error"]["desc"]);
        }
        if answer.get("return").is_some() {
            return Ok(());
        }
    }
}

/// Copies a raw disk with its holes.
fn copy(from: &Path, to: &Path) -> io::Result<()> {
    let mut from = File::open(from)?;
    let len = from.metadata()?.len();
    super::object::copy_with_holes(&mut from, len, to, &mut |_| ())
}
