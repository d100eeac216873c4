//! What is before and what will be, line by line.

use reformis_disk::ByteSize;
use reformis_machine::{Mac, Machine, Name, RemovableKind};
use reformis_wire::clouds::Then;
use serde::Serialize;

use crate::prepare::Prepared;

/// A line of the summary.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct Row {
    /// What it is about: `machine`, `disks`, `adapters`, `drives`.
    pub part: &'static str,
    /// The setting, or the disk's or adapter's name.
    pub what: String,
    /// As it is now; empty for what is new.
    pub before: String,
    /// As it will be; empty for what stays behind.
    pub after: String,
}

/// The lines of all that is prepared; `before` is the machine as it is now.
pub(super) fn summary(prepared: &Prepared, before: &Machine) -> Vec<Row> {
    let new = &prepared.settled.brief.machine;
    let guessed = prepared.settled.target.described.is_none();
    let mut rows = Vec::new();
    let mut row = |what: &str, before: String, after: String| {
        let before = if guessed { String::new() } else { before };
        rows.push(Row { part: "machine", what: what.into(), before, after });
    };
    let clock = |clock, zone: &Option<String>| match (clock, zone) {
        (reformis_machine::Clock::Utc, _) => "UTC".to_string(),
        (_, Some(zone)) => format!("local time of {zone}"),
        (_, None) => "local time".to_string(),
    };
    let word = |flag: bool| if flag { "yes" } else { "no" }.to_string();
    let system = |number: Option<u16>, word: &Option<String>| match (number, word) {
        (_, Some(word)) => word.clone(),
        (Some(number), None) => format!("CIM OS type {number}"),
        (None, None) => "not said".to_string(),
    };
    let file = prepared.settled.target.described.as_ref().map_or("none", |described| described.kind.name());
    row("machine file", file.into(), prepared.settled.brief.journey.machine_file.name().into());
    row("name", before.name.to_string(), new.name.clone());
    let cpu = reformis_machine::Cpu { sockets: new.sockets, cores: new.cores };
    row("processors", before.cpu.to_string(), cpu.to_string());
    row("memory", ByteSize(before.memory).to_string(), ByteSize(new.memory.0).to_string());
    row("firmware", before.firmware.to_string(), new.starts_with().to_string());
    row("clock", clock(before.clock, &before.time_zone), clock(new.clock, &new.time_zone));
    let (number, words) =
        (before.system.as_ref().map(|s| s.cim_os_type), before.system.as_ref().and_then(|s| s.description.clone()));
    row("system", system(number, &words), system(new.system, &new.system_name));
    if before.tpm.is_some() || new.tpm.is_some() {
        let words = |tpm: Option<reformis_machine::Tpm>| tpm.map_or("none".into(), |tpm| format!("version {tpm}"));
        row("TPM", words(before.tpm), new.tpm.map_or("none".into(), |tpm| format!("version {tpm}, empty")));
    }
    if before.serial_ports > 0 || new.serial_ports > 0 {
        row("serial ports", before.serial_ports.to_string(), new.serial_ports.to_string());
    }
    if before.start_with_host || new.start_with_host {
        row("starts with its host", word(before.start_with_host), word(new.start_with_host));
    }
    disks(prepared, before, &mut rows);
    adapters(prepared, before, &mut rows);
    drives(prepared, before, &mut rows);
    rows
}

fn drives(prepared: &Prepared, before: &Machine, rows: &mut Vec<Row>) {
    for (kind, word) in [(RemovableKind::Cdrom, "CD"), (RemovableKind::Floppy, "floppy")] {
        let old: Vec<_> = before.removable.iter().filter(|drive| drive.kind == kind).collect();
        let new: Vec<_> = prepared.settled.brief.drives.iter().filter(|drive| drive.kind == kind).collect();
        for index in 0..old.len().max(new.len()) {
            let was = old.get(index).map(|drive| {
                let media = drive.media.as_ref().map_or("empty".into(), |media| format!("with {media}"));
                format!("on {}, {media}", drive.controller)
            });
            let after = new.get(index).map(|drive| format!("on {}, empty", drive.controller));
            let (before, after) = (was.unwrap_or_default(), after.unwrap_or_default());
            rows.push(Row { part: "drives", what: word.into(), before, after });
        }
    }
}

fn boot(position: Option<u32>) -> String {
    position.map_or(String::new(), |position| format!(", boots {position}"))
}

fn disks(prepared: &Prepared, before: &Machine, rows: &mut Vec<Row>) {
    for (index, disk) in prepared.settled.target.disks.iter().enumerate() {
        let shape = match (&disk.image, &disk.stream) {
            (Some(image), _) => image.facts.shape.to_string(),
            (None, Some(stream)) => format!("in {}", stream.compression),
            (None, None) => "empty".into(),
        };
        let device = before.disks.get(index).filter(|_| prepared.settled.target.described.is_some());
        let place =
            device.map_or(String::new(), |d| format!(" on {} {}:{}{}", d.controller, d.bus, d.slot, boot(d.boot)));
        let was = format!("{} {shape}{place}", ByteSize(disk.size));
        let new = prepared.settled.brief.disks.iter().find(|new| new.source == disk.id);
        let planned =
            prepared.settled.plan.as_ref().and_then(|plan| plan.disks.iter().find(|planned| planned.source == index));
        let after = new.map_or(String::new(), |new| {
            let size = planned.map_or(disk.size, |planned| planned.size);
            let packed = new.compress.as_ref().map_or(String::new(), |kind| format!(" in {kind}"));
            let place = format!("{} {}:{}{}", new.controller, new.bus, new.slot, boot(new.boot));
            format!("{} {}{packed} on {place}", ByteSize(size), new.shape)
        });
        rows.push(Row { part: "disks", what: disk.id.clone(), before: was, after });
    }
    if let Some(store) = &prepared.settled.brief.journey.store {
        rows.push(Row { part: "disks", what: "store".into(), before: String::new(), after: store.clone() });
    }
    let journey = &prepared.settled.brief.journey;
    if let Some(cloud) = &journey.cloud {
        let after = match journey.then.unwrap_or_default() {
            Then::Image => format!("an image in {cloud}"),
            then => format!("an image and an instance in {cloud}, {}", then.word()),
        };
        rows.push(Row { part: "disks", what: "cloud".into(), before: String::new(), after });
    }
}

fn adapters(prepared: &Prepared, before: &Machine, rows: &mut Vec<Row>) {
    let spelled = |mac: Option<Mac>| mac.map_or_else(|| "no MAC".to_string(), |mac| mac.to_string());
    let words = |model: reformis_machine::AdapterModel, mac: &str, network: &Option<Name>, connected: bool| {
        let network = network.as_deref().unwrap_or("no network");
        let plug = if connected { "" } else { ", unplugged" };
        format!("{model}, {mac}, on {network}{plug}")
    };
    let old: &[_] = if prepared.settled.target.described.is_some() { &before.adapters } else { &[] };
    let mut told = Vec::new();
    for (index, new) in prepared.settled.brief.adapters.iter().enumerate() {
        let was = old.iter().find(|adapter| new.source.as_deref() == Some(&*adapter.name));
        told.extend(was.map(|adapter| adapter.name.clone()));
        let mac = match &new.mac {
            crate::brief::Mac::Keep => {
                was.and_then(|old| old.mac).map_or_else(|| "MAC from the host".into(), |mac| mac.to_string())
            }
            crate::brief::Mac::Fresh => "a fresh MAC".into(),
            crate::brief::Mac::Given(mac) => mac.to_string(),
        };
        let what = new.source.clone().unwrap_or_else(|| format!("adapter {}", index + 1));
        let of_old = |old: &reformis_machine::Adapter| words(old.model, &spelled(old.mac), &old.network, old.connected);
        let before = was.map_or(String::new(), of_old);
        rows.push(Row { part: "adapters", what, before, after: words(new.model, &mac, &new.network, new.connected) });
    }
    for adapter in old.iter().filter(|adapter| !told.contains(&adapter.name)) {
        let before = words(adapter.model, &spelled(adapter.mac), &adapter.network, adapter.connected);
        rows.push(Row { part: "adapters", what: adapter.name.to_string(), before, after: String::new() });
    }
}
