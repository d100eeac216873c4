//! Starts a machine in the emulator and waits for what it says on its serial port.
//!
//!     boot-by-emulator domain FILE.xml [--until TEXT]... [--seconds N]
//!     boot-by-emulator disk FILE[,FILE] FORMAT CONTROLLER ADAPTER[,ADAPTER] bios|uefi [--until TEXT]... [--seconds N]
//!
//! With `--answer TEXT=REPLY` the reply and a new line are typed on the serial port once TEXT was seen.
//! With `--settle N` it runs for N seconds more when all of it was seen.
//! With `--tls FOLDER` the machine's host has its certificate there: ca-cert.pem, client-cert.pem, client-key.pem.
//! Writes what the machine says to stdout. Exit code 0 when every TEXT was seen, 1 when the time ran out.

use std::{
    io::{Read, Write},
    path::Path,
    process::{Child, Command, ExitCode, Stdio},
    sync::mpsc,
    time::{Duration, Instant},
};

use anyhow::{Context, Result, bail};
use reformis_standin::{
    domain,
    start::{self, Disk, Parts},
};

/// What the addresses of adapters begin with on machines that are not described by a file; the last part counts them.
const MAC: &str = "02:5a:17:00:00:";

/// The emulator, ended with us.
struct Running(Child);

impl Drop for Running {
    fn drop(&mut self) {
        self.0.kill().ok();
        self.0.wait().ok();
    }
}

fn main() -> Result<ExitCode> {
    let mut words = Vec::new();
    let mut texts = Vec::new();
    let mut seconds = 300;
    let mut settle = 0;
    let mut tls = None;
    let mut answers = Vec::new();
    let mut args = std::env::args().skip(1);
    while let Some(word) = args.next() {
        match word.as_str() {
            "--until" => texts.push(args.next().context("--until needs a text")?),
            "--answer" => {
                let answer = args.next().context("--answer needs a text and a reply")?;
                let (text, reply) = answer.split_once('=').context("--answer needs TEXT=REPLY")?;
                answers.push((text.to_string(), format!("{reply}\n")));
            }
            "--tls" => tls = Some(args.next().context("--tls needs a folder")?),
            "--settle" => settle = args.next().context("--settle needs a number")?.parse()?,
            "--seconds" => seconds = args.next().context("--seconds needs a number")?.parse()?,
            _ => words.push(word),
        }
    }
    let folder = tempfile::tempdir()?;
    if let Some(tls) = tls {
        std::os::unix::fs::symlink(std::path::absolute(tls)?, folder.path().join("tls"))?;
    }
    let words: Vec<&str> = words.iter().map(String::as_str).collect();
    let line = match words[..] {
        ["domain", file] => domain::start_line(&std::fs::read_to_string(file)?, folder.path())?,
        ["disk", file, format, controller, adapter, firmware] => {
            of_disk(file, format, controller, adapter, firmware == "uefi", folder.path())?
        }
        _ => bail!("say what to start: domain FILE.xml, or disk FILE FORMAT CONTROLLER ADAPTER bios|uefi"),
    };
    let mut child = Command::new("qemu-system-x86_64")
        .args(line)
        .args(["-serial", "stdio", "-no-reboot"])
        .stdin(Stdio::piped())
        .stdout(Stdio::piped())
        .spawn()
        .context("starting the machine emulator (Debian's qemu-system-x86)")?;
    let mut serial = child.stdout.take().context("no serial port")?;
    let mut keyboard = child.stdin.take().context("no serial port")?;
    let _running = Running(child);
    let (sender, receiver) = mpsc::channel();
    std::thread::spawn(move || {
        let mut buf = [0; 4096];
        while let Ok(len) = serial.read(&mut buf) {
            if len == 0 || sender.send(buf[..len].to_vec()).is_err() {
                break;
            }
        }
    });
    let until = Instant::now() + Duration::from_secs(seconds);
    let mut said = String::new();
    let mut out = std::io::stdout();
    while let Ok(bytes) = receiver.recv_timeout(until.saturating_duration_since(Instant::now())) {
        out.write_all(&bytes)?;
        said.push_str(&String::from_utf8_lossy(&bytes));
        // Each is asked for once.
        if let Some(place) = answers.iter().position(|(text, _)| said.contains(text.as_str())) {
            let (_, reply) = answers.swap_remove(place);
            keyboard.write_all(reply.as_bytes())?;
            keyboard.flush()?;
        }
        if texts.iter().all(|text| said.contains(text.as_str())) {
            std::thread::sleep(Duration::from_secs(settle));
            return Ok(ExitCode::SUCCESS);
        }
    }
    let missing: Vec<_> = texts.iter().filter(|text| !said.contains(text.as_str())).collect();
    writeln!(std::io::stderr(), "not said within {seconds} s: {missing:?}")?;
    Ok(ExitCode::FAILURE)
}

/// The start line of a machine with one disk or more, and one adapter or more.
fn of_disk(
    file: &str,
    format: &str,
    controller: &str,
    adapter: &str,
    uefi: bool,
    folder: &Path,
) -> Result<Vec<String>> {
    let disks = file.split(',').zip(1..).map(|(file, boot)| Disk {
        file: file.into(),
        format: format.into(),
        controller: controller.into(),
        boot: Some(boot),
    });
    let adapters = adapter.split(',').enumerate();
    let adapters = adapters.map(|(number, model)| (model.to_string(), format!("{MAC}{:02x}", number + 1))).collect();
    start::line(&Parts { disks: disks.collect(), adapters, uefi, memory: 1024, processors: 2 }, folder)
}
