//! `reformis carry`

use anyhow::Result;
use reformis_disk::ByteSize;
use reformis_move::{
    carry::{self, Ahead, Landing, Options},
    receipt::{CloudRecord, Reread, SecondRead, Told},
};

use super::{JSON_SCHEMA, links, order};
use crate::{
    Session,
    args::CarryArgs,
    chain,
    exit::Exit,
    output::{self, FAINT, GOOD, columns, emit, emit_json, heading, paint, pairs},
    progress::duration,
};

pub(crate) fn run(args: &CarryArgs, session: &Session) -> Result<Exit> {
    let options = Options {
        order: order::order(&args.order, None)?,
        site: session.site.clone(),
        accept: args.accept.clone(),
        force: args.force,
        links: links(args.order.trust_links),
        resume: args.resume,
        with: args.with.clone(),
        job: None,
        is_second: args.finish,
        bitmap: args.bitmap.clone(),
        off_since: None,
    };
    let refused = |error: reformis_move::Error| -> anyhow::Error {
        if let (true, reformis_move::Error::Refused { findings }) = (session.json, &error) {
            emit_json(&serde_json::json!({ "schema": JSON_SCHEMA, "refused": true, "findings": findings })).ok();
        }
        error.into()
    };
    if args.ahead {
        let ahead = carry::ahead(&options, &session.context()).map_err(refused)?;
        if session.json {
            let (folder, pass) = (ahead.folder.to_string_lossy(), &ahead.pass);
            let findings: Vec<_> = ahead.findings.iter().map(reformis_move::Finding::record).collect();
            let document =
                serde_json::json!({ "name": ahead.name, "landing": folder, "pass": pass, "findings": findings });
            emit_json(&serde_json::json!({ "schema": JSON_SCHEMA, "ahead": document }))?;
        } else {
            emit(&show_ahead(&ahead, args))?;
        }
        return Ok(Exit::Done);
    }
    let landing = carry::carry(&options, &session.context()).map_err(refused)?;
    if session.json {
        let folder = landing.folder.to_string_lossy();
        emit_json(&serde_json::json!({ "schema": JSON_SCHEMA, "landing": folder, "receipt": landing.receipt }))?;
    } else {
        emit(&show(&landing))?;
    }
    Ok(Exit::Done)
}

/// A first pass as a person reads it.
fn show_ahead(ahead: &Ahead, args: &CarryArgs) -> String {
    let seconds = ahead.pass.ended.duration_since(ahead.pass.began).as_secs_f64();
    let mut text = format!("{} {}\n", paint(GOOD, "Ahead"), ahead.name);
    text += &pairs(&[
        ("disks", format!("{} of {}", ahead.disks, ByteSize(ahead.size))),
        ("carried", ByteSize(ahead.pass.carried).to_string()),
        ("time", duration(seconds)),
    ]);
    text += &heading("Next");
    let target = quoted_target(&args.order.target.to_string_lossy());
    text += "  shut the machine down, then give the same command without --ahead: only what changed is written\n";
    text += &paint(
        FAINT,
        format!("  reformis carry {target} … --finish refuses where this first pass is not the one that is meant\n"),
    );
    text
}

/// What of a disk the second pass read, and why.
fn second_read(read: &SecondRead) -> &'static str {
    match (read.told, read.reread) {
        (_, Some(Reread::Written)) => "read whole: its files have changed since the first pass",
        (_, Some(Reread::NotSure)) => {
            "read whole: a change since the first pass might not show in what is known of its files"
        }
        (_, Some(Reread::OtherDisk)) => "read whole: the first pass read other files",
        (_, Some(Reread::TooMuch)) => "read whole: its changes are in too many pieces",
        (Told::Bitmap, None) => "read where the map of changes says so",
        (Told::Delta, None) => {
            "read where a delta above the first pass has something; the files below have not changed"
        }
        (Told::Digests, None) => "read whole",
    }
}

/// The landing as a person reads it.
pub(crate) fn show(landing: &Landing) -> String {
    let receipt = &landing.receipt;
    let seconds = (receipt.finished.as_millisecond() - receipt.started.as_millisecond()) as f64 / 1000.0;
    let mut text = format!("{} {}\n", paint(GOOD, "Landed"), landing.machine.after.name);
    text += &chain::verdict(receipt.verdict.as_ref());
    text += &pairs(&[
        ("landing", landing.folder.to_string_lossy().into()),
        ("machine file", landing.machine.file.clone()),
        ("receipt", "receipt.json".into()),
        ("time", duration(seconds)),
    ]);
    if let Some(ahead) = &receipt.ahead {
        let told = match ahead.told {
            Told::Bitmap => "the map of changes",
            Told::Delta => "the delta above a snapshot",
            Told::Digests => "digests",
        };
        let (changed, carried) = (ByteSize(ahead.changed), ByteSize(ahead.carried));
        let changed = format!("{changed} of the {carried} brought near, found by {told}");
        text += &pairs(&[("off for", duration(ahead.off)), ("changed", changed)]);
        let reads: Vec<_> =
            ahead.disks.iter().map(|read| (read.disk.as_str(), second_read(read).to_string())).collect();
        text += &pairs(&reads);
    }
    if let Some(cloud) = &receipt.cloud {
        text += &heading("Cloud");
        text += &pairs(&in_cloud(cloud));
    }
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
    if let Some(guest) = &receipt.guest {
        text += &chain::edits(&guest.edits, "Changed inside the guest");
        text += &chain::evidence(&guest.evidence);
    }
    if !receipt.findings.is_empty() {
        text += &heading("Findings");
        text += &output::findings(&receipt.findings);
    }
    text += &heading("Next");
    for line in next_steps(landing) {
        text += &format!("  {line}\n");
    }
    text
}

/// What a cloud made of a landing, line by line.
fn in_cloud(cloud: &CloudRecord) -> Vec<(&'static str, String)> {
    let shown = |text: &str| reformis_disk::text::printable(text);
    let mut rows = vec![("cloud", cloud.cloud.clone()), ("image", shown(&cloud.image))];
    if let (Some(instance), Some(state)) = (&cloud.instance, &cloud.state) {
        rows.push(("instance", format!("{instance}, {state}")));
    }
    rows.extend(cloud.address.as_ref().map(|address| ("address", address.clone())));
    rows
}

/// What the person does with a landing, by its machine file.
fn next_steps(landing: &Landing) -> Vec<String> {
    let file = quoted(&landing.folder.join(&landing.machine.file).to_string_lossy());
    let prove = format!("reformis prove {}", quoted(&landing.folder.join("receipt.json").to_string_lossy()));
    let take = match landing.machine.kind.as_str() {
        _ if landing.receipt.cloud.is_some() => in_cloud_next(landing),
        "launch-json" if landing.store.is_some() => {
            "the disks are in the store: give the import what the launch JSON says".into()
        }
        _ if landing.store.is_some() => {
            format!("fetch the disks and {} from the store to the host, and import them there", landing.machine.file)
        }
        "domain-xml" => format!("virsh define {file}"),
        "start-script" => format!("copy the folder to the host, and run {} there", landing.machine.file),
        "launch-json" => "upload the disks, and give the import what the launch JSON says".into(),
        "ova" => format!(
            "import {} on the host",
            quoted(&landing.folder.join(archive_of(&landing.machine.file)).to_string_lossy())
        ),
        "ovf" => format!("import {file} on the host"),
        _ => format!("copy the folder to the host, and register {file} there"),
    };
    // Before the first start: afterwards the disks are the guest's again.
    let mut steps = vec![prove, take];
    let kept = landing.receipt.lent.as_ref().map(|lent| quoted(&lent.kept));
    steps.extend(kept.map(|kept| format!("when it runs: rm -r {kept}, which has landed")));
    steps
}

/// What the person does with what a cloud made.
fn in_cloud_next(landing: &Landing) -> String {
    match landing.receipt.cloud.as_ref().map(|cloud| (&cloud.cloud, &cloud.instance, cloud.state.as_deref())) {
        Some((_, Some(_), Some("running"))) => "log in, and look whether it serves what it should".into(),
        Some((cloud, Some(instance), _)) => format!("start {instance} in {cloud}, and log in"),
        Some((cloud, None, _)) => format!("make an instance of the image in {cloud}"),
        None => String::new(),
    }
}

/// The archive that a member's name starts with.
fn archive_of(file: &str) -> &str {
    file.split('/').next().unwrap_or(file)
}

/// A target as a shell takes it: a path, or a machine of a host.
pub(super) fn quoted_target(target: &str) -> String {
    match target.split_once(':') {
        Some((host, machine)) if !machine.is_empty() => format!("{}:{}", quoted(host), quoted(machine)),
        _ => quoted(target),
    }
}

/// A path as a shell takes it.
pub(crate) fn quoted(path: &str) -> String {
    let plain = |c: char| c.is_ascii_alphanumeric() || matches!(c, '/' | '.' | '-' | '_');
    let path = reformis_disk::text::printable(path);
    if path.chars().all(plain) { path } else { format!("'{}'", path.replace('\'', "'\\''")) }
}
