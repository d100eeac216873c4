//! The emulator's NBD server: a file with holes, and a disk with a map of what was written.

use std::path::Path;

use anyhow::Result;
use serde_json::{Value, json};

use super::{Authority, free_port, wait_for_port};
use crate::emulator::Emulator;

/// A running server with the exports `disk` (the file) and `thin` (a disk of 64 MiB with the map `b0`).
pub struct NbdServer {
    emulator: Emulator,
    /// Where it listens.
    pub port: u16,
}

impl NbdServer {
    /// Serves `file`, raw, with its own files in `folder`; over TLS with client certificates where there is an `authority`.
    ///
    /// # Errors
    /// The emulator is not there, or refuses.
    pub fn start(folder: &Path, file: &Path, authority: Option<&Authority>) -> Result<Self> {
        let port = free_port()?;
        let mut options = Vec::new();
        if let Some(authority) = authority {
            let (from, to) = (authority.folder(), folder.join("nbd-server"));
            std::fs::create_dir_all(&to)?;
            for (old, new) in
                [("ca.pem", "ca-cert.pem"), ("local.pem", "server-cert.pem"), ("local.key", "server-key.pem")]
            {
                std::fs::copy(from.join(old), to.join(new))?;
            }
            options.push("-object".into());
            options.push(format!("tls-creds-x509,id=tls0,dir={},endpoint=server,verify-peer=yes", to.display()));
        }
        let mut emulator = Emulator::start_with(&options)?;
        let mut ask = |name: &str, arguments: Value| emulator.command(name, &arguments);
        ask("blockdev-add", json!({ "driver": "file", "node-name": "f0", "filename": file }))?;
        ask("blockdev-add", json!({ "driver": "raw", "node-name": "disk", "file": "f0" }))?;
        let thin = folder.join(format!("thin-{port}"));
        std::fs::write(&thin, b"")?;
        ask("blockdev-add", json!({ "driver": "file", "node-name": "f1", "filename": thin }))?;
        let options = json!({ "driver": "qcow2", "file": "f1", "size": 64 << 20 });
        ask("blockdev-create", json!({ "job-id": "make", "options": options }))?;
        emulator.finish_job("make")?;
        let mut ask = |name: &str, arguments: Value| emulator.command(name, &arguments);
        ask("blockdev-add", json!({ "driver": "qcow2", "node-name": "thin", "file": "f1" }))?;
        ask("block-dirty-bitmap-add", json!({ "node": "thin", "name": "b0" }))?;
        let address = json!({ "type": "inet", "data": { "host": "127.0.0.1", "port": port.to_string() } });
        let mut start = json!({ "addr": address, "max-connections": 0 });
        if authority.is_some() {
            start["tls-creds"] = "tls0".into();
        }
        ask("nbd-server-start", start)?;
        ask(
            "block-export-add",
            json!({ "id": "e0", "type": "nbd", "node-name": "disk", "name": "disk", "writable": true }),
        )?;
        let thin = json!({ "id": "e1", "type": "nbd", "node-name": "thin", "name": "thin", "writable": true, "bitmaps": ["b0"] });
        ask("block-export-add", thin)?;
        wait_for_port(port)?;
        Ok(Self { emulator, port })
    }

    /// Writes a pattern into the disk with the map.
    ///
    /// # Errors
    /// The emulator's own words.
    pub fn write(&mut self, byte: u8, at: u64, len: u64) -> Result<()> {
        let line = format!("qemu-io thin \"write -P {byte} {at} {len}\"");
        self.emulator.command("human-monitor-command", &json!({ "command-line": line })).map(drop)
    }
}
