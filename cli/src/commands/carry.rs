//! `reformis carry`

use anyhow::Result;
use reformis_disk::ByteSize;
use reformis_machine::Destination;
use reformis_move::carry::{self, Landing, Options};

use super::{JSON_SCHEMA, links};
use crate::{
    Session,
    args::CarryArgs,
    exit::Exit,
    output::{self, GOOD, columns, emit, emit_json, heading, paint, pairs},
    progress::duration,
};

pub(crate) fn run(args: &CarryArgs, session: &Session) -> Result<Exit> {
    let options = Options {
        target: args.target.clone(),
        destination: Destination::find(&args.dest).map_err(reformis_move::Error::from)?,
        into: args.into.clone(),
        force: args.force,
        links: links(args.trust_links),
    };
    let landing = match carry::carry(&options, &session.context()) {
        Ok(landing) => landing,
        Err(error) => {
            if let (true, reformis_move::Error::Refused { findings }) = (session.json, &error) {
                emit_json(&serde_json::json!({ "schema": JSON_SCHEMA, "refused": true, "findings": findings }))?;
            }
            return Err(error.into());
        }
    };
    if session.json {
        let folder = landing.folder.to_string_lossy();
        emit_json(&serde_json::json!({ "schema": JSON_SCHEMA, "landing": folder, "receipt": landing.receipt }))?;
    } else {
        emit(&show(&landing))?;
    }
    Ok(Exit::Done)
}

/// The landing as a person reads it.
pub(crate) fn show(landing: &Landing) -> String {
    let receipt = &landing.receipt;
    let seconds = (receipt.finished.as_millisecond() - receipt.started.as_millisecond()) as f64 / 1000.0;
    let mut text = format!("{} {}\n", paint(GOOD, "Landed"), landing.machine.after.name);
    text += &pairs(&[
        ("landing", landing.folder.to_string_lossy().into()),
        ("machine file", landing.machine.file.clone()),
        ("receipt", "receipt.json".into()),
        ("time", duration(seconds)),
    ]);
    text += &heading("Disks");
    let rows: Vec<_> = receipt
        .disks
        .iter()
        .zip(&landing.machine.after.disks)
        .map(|(disk, device)| {
            let before = disk.before.as_ref();
            [
                disk.result.clone(),
                ByteSize(disk.after.virtual_size).to_string(),
                before.map_or("starts empty".into(), |b| format!("{} {}", b.shape, ByteSize(b.file_size))),
                format!("{} {}", disk.after.shape, ByteSize(disk.after.file_size)),
                format!("{} {}:{}", device.controller, device.bus, device.slot),
                device.boot.map_or(String::new(), |boot| boot.to_string()),
            ]
        })
        .collect();
    text += &columns(["disk", "size", "before", "after", "controller", "boot"], &rows, &[1]);
    if !receipt.findings.is_empty() {
        text += &heading("Findings");
        text += &output::findings(&receipt.findings);
    }
    text += &heading("Next");
    let domain = landing.folder.join(&landing.machine.file);
    text += &format!("  virsh define {}\n", quoted(&domain.to_string_lossy()));
    text += &format!("  reformis prove {}\n", quoted(&landing.folder.join("receipt.json").to_string_lossy()));
    text
}

/// A path as a shell takes it.
fn quoted(path: &str) -> String {
    let plain = |c: char| c.is_ascii_alphanumeric() || matches!(c, '/' | '.' | '-' | '_');
    let path = reformis_disk::text::printable(path);
    if path.chars().all(plain) { path } else { format!("'{}'", path.replace('\'', "'\\''")) }
}
