//! Starts a machine in the emulator and waits for what it says on its serial port.
//!
//!     boot-by-emulator domain FILE.xml [--until TEXT]... [--seconds N]
//!     boot-by-emulator disk FILE FORMAT CONTROLLER ADAPTER[,ADAPTER] bios|uefi [--until TEXT]... [--seconds N]
//!
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
use reformis_standin::domain;

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
    let mut tls = None;
    let mut args = std::env::args().skip(1);
    while let Some(word) = args.next() {
        match word.as_str() {
            "--until" => texts.push(args.next().context("--until needs a text")?),
            "--tls" => tls = Some(args.next().context("--tls needs a folder")?),
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
        .stdin(Stdio::null())
        .stdout(Stdio::piped())
        .spawn()
        .context("starting the machine emulator (Debian's qemu-system-x86)")?;
    let mut serial = child.stdout.take().context("no serial port")?;
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
        if texts.iter().all(|text| said.contains(text.as_str())) {
            return Ok(ExitCode::SUCCESS);
        }
    }
    let missing: Vec<_> = texts.iter().filter(|text| !said.contains(text.as_str())).collect();
    writeln!(std::io::stderr(), "not said within {seconds} s: {missing:?}")?;
    Ok(ExitCode::FAILURE)
}

/// The start line of a machine with one disk and one adapter.
fn of_disk(
    file: &str,
    format: &str,
    controller: &str,
    adapter: &str,
    uefi: bool,
    folder: &Path,
) -> Result<Vec<String>> {
    let mut line: Vec<String> = [
        "-machine",
        "q35",
        "-accel",
        "tcg,thread=multi",
        "-cpu",
        "qemu64",
        "-smp",
        "2",
        "-m",
        "1024",
        "-nodefaults",
        "-display",
        "none",
    ]
    .map(String::from)
    .into();
    let mut add = |option: &str, value: String| line.extend([option.to_string(), value]);
    if uefi {
        let variables = folder.join("variables.fd");
        std::fs::copy("/usr/share/OVMF/OVMF_VARS_4M.fd", &variables)?;
        add("-drive", "if=pflash,unit=0,format=raw,readonly=on,file=/usr/share/OVMF/OVMF_CODE_4M.fd".into());
        add("-drive", format!("if=pflash,unit=1,format=raw,file={}", variables.display()));
    }
    add("-blockdev", format!("driver={format},node-name=disk,file.driver=file,file.filename={file}"));
    let device = match controller {
        "ahci" => "ide-hd,bus=ide.0,drive=disk,bootindex=1",
        "nvme" => "nvme,serial=tide,drive=disk,bootindex=1",
        "virtio-blk" => "virtio-blk-pci,drive=disk,bootindex=1",
        "pvscsi" | "virtio-scsi" => {
            let model = if controller == "pvscsi" { "pvscsi" } else { "virtio-scsi-pci" };
            add("-device", format!("{model},id=scsi"));
            "scsi-hd,bus=scsi.0,drive=disk,bootindex=1"
        }
        other => bail!("no controller '{other}'"),
    };
    add("-device", device.into());
    for (number, adapter) in adapter.split(',').enumerate() {
        let adapter = if adapter == "virtio-net" { "virtio-net-pci" } else { adapter };
        add("-netdev", format!("user,id=net{number}"));
        // A place of its own, so that its name does not depend on the disk's controller.
        let (mac, place) = (format!("{MAC}{:02x}", number + 1), 9 + number);
        add("-device", format!("{adapter},netdev=net{number},mac={mac},bus=pcie.0,addr={place:#x}"));
    }
    Ok(line)
}
