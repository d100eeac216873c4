//! `reformis survey`

use std::{collections::HashSet, fmt::Write};

use anyhow::Result;
use reformis_disk::{ByteSize, Facts, Format};
use reformis_guest::nt;
use reformis_machine::{Clock, Machine, RemovableKind};
use reformis_move::{
    Finding,
    inside::InsideSurvey,
    survey::{self, Survey, SurveyedDisk},
    target::{self, StreamFacts, Unpack},
};

use super::{JSON_SCHEMA, base_name, links};
use crate::{
    Session,
    args::SurveyArgs,
    chain,
    exit::Exit,
    output::{self, STRONG, columns, emit, emit_json, heading, paint, pairs},
};

pub(crate) fn run(args: &SurveyArgs, session: &Session) -> Result<Exit> {
    let links = links(args.trust_links);
    let (folder, context) = (std::env::temp_dir(), session.context());
    let unpack = args.unpack.then_some(Unpack { folder: &folder, context: &context });
    let mut surveys = Vec::new();
    let mut failed = false;
    let mut hosts = Vec::new();
    for target in &args.targets {
        if let Some((host, "")) = session.wires.host_of(&target.to_string_lossy()) {
            hosts.push((host.to_string(), super::hosts::machines(host, session)?));
            continue;
        }
        let first = surveys.len();
        // A folder of drivers is one thing, however many folders are in it.
        let files = target::files_in(target, &session.wires)?;
        if files.is_some()
            && let found = survey::drivers(target, &context)?
            && found.is_some()
        {
            surveys.extend(found);
            continue;
        }
        let is_folder = files.is_some();
        for path in files.unwrap_or_else(|| vec![target.clone()]) {
            match survey::survey(&path, links, unpack, &context) {
                Ok(found) => surveys.extend(found),
                Err(error) if error.is_interrupted() => return Err(error.into()),
                // In a folder much lies that is no disk; what was named must be one.
                Err(error) if path != *target => tracing::info!(path = %path.display(), %error, "passed over"),
                Err(error) => {
                    crate::failure::report(&error.into());
                    failed = true;
                }
            }
        }
        if is_folder {
            let alone = surveys.split_off(first);
            surveys.extend(without_owned(alone));
        }
    }
    if session.json {
        let mut document = serde_json::json!({ "schema": JSON_SCHEMA, "targets": surveys });
        if let (false, Some(document)) = (hosts.is_empty(), document.as_object_mut()) {
            let list = hosts.iter().map(|(name, machines)| serde_json::json!({ "host": name, "machines": machines }));
            document.insert("hosts".into(), list.collect());
        }
        emit_json(&document)?;
    } else {
        let lists = hosts.iter().map(|(name, machines)| super::hosts::show(name, machines));
        let texts: Vec<String> = lists.chain(surveys.iter().map(show)).collect();
        emit(&texts.join("\n"))?;
        if surveys.is_empty() && hosts.is_empty() && !failed {
            emit("Nothing here is a machine or a disk.\n")?;
        }
    }
    Ok(if failed { Exit::Failed } else { Exit::Done })
}

/// The surveys of a folder without disks that a machine in it has: those are shown with the machine.
fn without_owned(surveys: Vec<Survey>) -> Vec<Survey> {
    let machines = surveys.iter().filter(|survey| survey.machine.is_some());
    let owned: HashSet<String> = machines.flat_map(|m| m.disks.iter().flat_map(|disk| disk.files.clone())).collect();
    let is_owned = |survey: &Survey| {
        survey.machine.is_none()
            && survey.disks.iter().flat_map(|disk| disk.files.first()).any(|file| owned.contains(file))
    };
    surveys.into_iter().filter(|survey| !is_owned(survey)).collect()
}

/// The survey as a person reads it.
pub(crate) fn show(survey: &Survey) -> String {
    let mut text = String::new();
    let shown = reformis_disk::text::printable(&survey.target);
    writeln!(text, "{}  {}", paint(STRONG, shown), survey.kind).ok();
    text += &chain::verdict(survey.guest.as_ref().and_then(|guest| guest.verdict.as_ref()));
    if let Some(machine) = &survey.machine {
        text += &heading("Machine");
        text += &pairs(&machine_pairs(machine));
    }
    if let (None, [disk]) = (&survey.machine, &survey.disks[..]) {
        text += &pairs(&disk_pairs(disk));
        if let Some(facts) = &disk.image {
            text += &if facts.parents.is_empty() { String::new() } else { chain(facts) };
            text += &if facts.snapshots.is_empty() { String::new() } else { snapshots(facts) };
        }
    } else if !survey.disks.is_empty() {
        text += &heading("Disks");
        let attached = survey.machine.iter().flat_map(|machine| &machine.disks).map(Some);
        let attached = attached.chain(std::iter::repeat(None));
        let rows: Vec<_> = survey
            .disks
            .iter()
            .zip(attached)
            .map(|(disk, device)| {
                let size = |bytes: Option<u64>| bytes.map_or("–".into(), |bytes| ByteSize(bytes).to_string());
                let (image, stream) = (disk.image.as_ref(), disk.stream.as_ref());
                let shape = match (image, stream) {
                    (Some(facts), _) => facts.shape.to_string(),
                    (None, Some(stream)) => packed_shape(stream),
                    (None, None) => "starts empty".into(),
                };
                [
                    disk.id.clone(),
                    size(Some(disk.size).filter(|_| stream.is_none())),
                    size(disk.in_use),
                    size(image.map(|facts| facts.file_size).or(stream.map(|stream| stream.size))),
                    shape,
                    disk.files.first().map_or(String::new(), |file| base_name(file).to_string()),
                    device.map_or(String::new(), |d| format!("{} {}:{}", d.controller, d.bus, d.slot)),
                    device.and_then(|d| d.boot).map_or(String::new(), |boot| boot.to_string()),
                ]
            })
            .collect();
        if survey.machine.is_some() {
            let headings = ["disk", "size", "in use", "stored", "shape", "file", "controller", "boot"];
            text += &columns(headings, &rows, &[1, 2, 3]);
        } else {
            let rows: Vec<[String; 5]> =
                rows.into_iter().map(|[id, size, used, stored, shape, ..]| [id, size, used, stored, shape]).collect();
            text += &columns(["disk", "size", "in use", "stored", "shape"], &rows, &[1, 2, 3]);
        }
    }
    if let Some(machine) = survey.machine.as_ref().filter(|machine| !machine.adapters.is_empty()) {
        text += &heading("Adapters");
        let rows: Vec<_> = machine
            .adapters
            .iter()
            .map(|a| [a.name.to_string(), a.model.to_string(), or_dash(a.mac.as_ref()), or_dash(a.network.as_ref())])
            .collect();
        text += &columns(["adapter", "model", "MAC", "network"], &rows, &[]);
    }
    if let Some(drivers) = &survey.drivers {
        text += &offers(drivers);
    }
    if let Some(guest) = &survey.guest {
        text += &inside(guest);
        text += &chain::evidence(&guest.evidence);
    }
    if !survey.findings.is_empty() {
        text += &heading("Findings");
        text += &output::findings(&survey.findings.iter().map(Finding::record).collect::<Vec<_>>());
    }
    text
}

fn or_dash(value: Option<&impl ToString>) -> String {
    value.map_or_else(|| "–".into(), ToString::to_string)
}

/// What a driver medium offers.
fn offers(drivers: &survey::DriverSurvey) -> String {
    let row = |offer: &nt::drivers::Offer| {
        let signature = if offer.signature.is_some() { "catalogue" } else { "none seen" };
        let devices = offer.devices.len().to_string();
        let systems = systems(&offer.systems);
        let (class, version) = (offer.class.clone(), offer.version.clone());
        [class, offer.services.join(", "), version, systems, devices, signature.into(), offer.inf.clone()]
    };
    let rows: Vec<_> = drivers.offers.iter().map(row).collect();
    let headings = ["class", "services", "version", "for", "devices", "signature", "file"];
    let mut text = heading("Drivers") + &columns(headings, &rows, &[4]);
    if drivers.has_udf {
        text += "\n  There is a UDF file system too, which is not read: it may hold other drivers.\n";
    }
    text
}

/// Systems with those of one version together: `amd64, x86 from 10.0`.
fn systems(all: &[String]) -> String {
    let mut groups: Vec<(&str, Vec<&str>)> = Vec::new();
    for one in all {
        let (processor, version) = one.split_once(' ').unwrap_or((one, ""));
        match groups.iter_mut().find(|(known, _)| *known == version) {
            Some((_, processors)) => processors.push(processor),
            None => groups.push((version, vec![processor])),
        }
    }
    let words = groups.iter().map(|(version, processors)| format!("{} {version}", processors.join(", ")));
    words.map(|words| words.trim_end().to_string()).collect::<Vec<_>>().join("; ")
}

/// Volumes and systems.
fn inside(guest: &InsideSurvey) -> String {
    let mut text = String::new();
    if !guest.volumes.is_empty() {
        let place = |index: usize| {
            let name = &guest.volumes[index].name;
            let places = guest.systems.iter().flat_map(|system| &system.mounts).filter(|(volume, _)| volume == name);
            places.map(|(_, place)| place.as_str()).collect::<Vec<_>>().join(", ")
        };
        let rows: Vec<_> = guest
            .volumes
            .iter()
            .enumerate()
            .map(|(index, volume)| {
                let kind = volume.kind.map_or("–", reformis_guest::Volume::name);
                let uuid = volume.uuid.clone().unwrap_or_else(|| "–".into());
                let size = ByteSize(volume.size).to_string();
                [volume.name.clone(), size, kind.into(), volume.label.clone(), uuid, place(index)]
            })
            .collect();
        text += &heading("Volumes");
        text += &columns(["volume", "size", "holds", "label", "UUID", "mounted"], &rows, &[1]);
    }
    let mut arrays: Vec<_> = guest.volumes.iter().filter_map(|volume| volume.array.as_ref()).collect();
    arrays.dedup();
    if !arrays.is_empty() {
        let rows: Vec<_> = arrays
            .iter()
            .map(|array| {
                let here = array.members.saturating_sub(array.missing);
                let state = if array.clean { "clean" } else { "not stopped cleanly" };
                let members = format!("{here} of {}", array.members);
                [array.name.clone(), array.level.clone(), array.metadata.clone(), members, state.into()]
            })
            .collect();
        text += &heading("Arrays");
        text += &columns(["array", "level", "metadata", "members", "state"], &rows, &[]);
    }
    for system in &guest.systems {
        text += &heading(&format!("System: {}", system.name));
        if let Some(windows) = &system.windows {
            text += &pairs(&windows_pairs(&system.root, windows));
            continue;
        }
        let mut rows = vec![("root", system.root.clone())];
        let kernel = |kernel: &reformis_guest::Kernel| {
            let listed = if kernel.listed { "" } else { ", not in the loader" };
            let modules = if kernel.modules.is_some() { "" } else { ", without its modules" };
            format!("{}{modules}{listed}", kernel.version)
        };
        let list = |all: Vec<String>| if all.is_empty() { "none found".to_string() } else { all.join("; ") };
        rows.push(("kernels", list(system.kernels.iter().map(kernel).collect())));
        let adapter = |used: &reformis_guest::Used| match &used.mac {
            Some(mac) => format!("{} ({mac})", used.name),
            None => used.name.clone(),
        };
        let mut adapters: Vec<String> = system.network.iter().map(adapter).collect();
        adapters.dedup();
        rows.push(("adapters configured", list(adapters)));
        rows.extend(system.time_zone.clone().map(|zone| ("time zone", zone)));
        let helper = |helper: &reformis_guest::Helper| {
            format!("{}{}", helper.service, if helper.masked { ", masked" } else { "" })
        };
        if !system.helpers.is_empty() {
            rows.push(("helpers of hosts", list(system.helpers.iter().map(helper).collect())));
        }
        text += &pairs(&rows);
    }
    text
}

/// What is known of a Windows system.
fn windows_pairs(root: &str, facts: &nt::Facts) -> Vec<(&'static str, String)> {
    let (version, settings) = (&facts.version, &facts.settings);
    let list = |all: Vec<String>| if all.is_empty() { "none found".to_string() } else { all.join("; ") };
    let time = |seconds: i64| {
        let time = jiff::Timestamp::from_second(seconds).unwrap_or_default();
        time.strftime("%Y-%m-%d %H:%M UTC").to_string()
    };
    let mut rows = vec![("root", root.to_string())];
    let build = [version.version.clone(), version.build.as_ref().map(|build| format!("build {build}"))];
    let parts = build.into_iter().flatten().chain(version.edition.clone()).chain(settings.architecture.clone());
    rows.push(("version", list(parts.collect())));
    rows.extend(settings.computer_name.clone().map(|name| ("computer name", name)));
    rows.extend(settings.time_zone.clone().map(|zone| ("time zone", zone)));
    rows.extend(settings.control_set.map(|current| {
        let own = format!("ControlSet{current:03}");
        let others = settings.control_sets.iter().filter(|name| !name.eq_ignore_ascii_case(&own));
        let others: String = others.map(|name| format!(", beside {name}")).collect();
        let good = settings.last_known_good.filter(|good| *good != current);
        let good = good.map_or(String::new(), |good| format!("; number {good} was the last that worked"));
        ("control set", format!("{own}{others}{good}"))
    }));
    rows.extend(settings.shut_down.map(|seconds| ("shut down", time(seconds))));
    let changeable = facts.not_changeable.clone().unwrap_or_else(|| "yes, it was shut down fully".into());
    rows.push(("changeable", changeable));
    rows.extend(settings.fast_startup.map(|on| ("fast startup", if on { "on" } else { "off" }.to_string())));
    rows.extend(facts.hibernation_file.map(|(size, asleep)| {
        let state = if asleep { "a system is kept asleep in it" } else { "empty" };
        ("hibernation file", format!("{}, {state}", ByteSize(size)))
    }));
    rows.extend(facts.page_file.map(|size| ("page file", ByteSize(size).to_string())));
    rows.extend(facts.free.map(|free| ("free", ByteSize(free).to_string())));
    rows.extend(facts.is_compressed.then(|| ("system files", "compressed by the system".to_string())));
    if !facts.replayed_hives.is_empty() {
        rows.push((
            "logs of the registry",
            format!("hold changes of {}, which are shown", facts.replayed_hives.join(", ")),
        ));
    }
    rows.push(("boot mode", facts.boot_mode.clone().unwrap_or_else(|| "not known".into())));
    rows.push(("boot store", facts.boot_store.clone().unwrap_or_else(|| "none found".into())));
    let entry = |entry: &nt::Entry| {
        let volume = entry.volume.clone().unwrap_or_else(|| "a partition that is not there".into());
        let default = if entry.is_default { ", by default" } else { "" };
        format!("{} on {volume}{default}", entry.loader)
    };
    if facts.boot_store.is_some() {
        rows.push(("boot entries", list(facts.boot_entries.iter().map(entry).collect())));
    }
    let at_boot = settings.drivers.iter().filter(|driver| driver.starts_at_boot).map(|driver| driver.service.clone());
    rows.push(("disk drivers at boot", list(at_boot.collect())));
    let adapter = |adapter: &nt::Adapter| {
        let mac = adapter.mac.as_ref().map_or(String::new(), |mac| format!(" ({mac})"));
        let mut parts = if adapter.dhcp { vec!["DHCP".to_string()] } else { adapter.addresses.clone() };
        parts.extend(adapter.gateways.iter().map(|gateway| format!("by {gateway}")));
        if !adapter.name_servers.is_empty() {
            parts.push(format!("names by {}", adapter.name_servers.join(", ")));
        }
        format!("{}{mac}: {}", adapter.name, parts.join(", "))
    };
    rows.push(("adapters configured", list(settings.adapters.iter().map(adapter).collect())));
    if !settings.helpers.is_empty() {
        let helper =
            |helper: &nt::HostService| format!("{}{}", helper.service, if helper.starts { "" } else { ", disabled" });
        rows.push(("helpers of hosts", list(settings.helpers.iter().map(helper).collect())));
    }
    rows
}

/// What a machine is, apart from its disks and adapters.
fn machine_pairs(machine: &Machine) -> Vec<(&'static str, String)> {
    let mut pairs = vec![("name", machine.name.to_string())];
    pairs.extend(machine.description.clone().map(|text| ("description", text)));
    pairs.push(("processors", machine.cpu.to_string()));
    pairs.push(("memory", ByteSize(machine.memory).to_string()));
    pairs.push(("firmware", machine.firmware.to_string()));
    pairs.extend(machine.tpm.map(|tpm| ("TPM", format!("version {tpm}"))));
    let clock = match (machine.clock, &machine.time_zone) {
        (Clock::Utc, _) => "UTC".to_string(),
        (Clock::Local, Some(zone)) => format!("local time of {zone}"),
        (Clock::Local, None) => "local time".to_string(),
    };
    pairs.push(("clock", clock));
    pairs.extend(machine.start_with_host.then(|| ("starts", "with its host".to_string())));
    pairs.extend(machine.system.as_ref().map(|system| ("system", system.to_string())));
    let drives: Vec<_> = machine
        .removable
        .iter()
        .map(|drive| {
            let kind = if drive.kind == RemovableKind::Cdrom { "CD drive" } else { "floppy drive" };
            match &drive.media {
                Some(media) => format!("{kind} with {media}"),
                None => format!("{kind}, empty"),
            }
        })
        .collect();
    if !drives.is_empty() {
        pairs.push(("drives", drives.join("; ")));
    }
    if machine.serial_ports > 0 {
        pairs.push(("serial ports", machine.serial_ports.to_string()));
    }
    let others: Vec<_> = machine.leftovers.iter().map(|other| format!("{} ({})", other.what, other.detail)).collect();
    if !others.is_empty() {
        pairs.push(("also", others.join("; ")));
    }
    pairs
}

/// Format and compression of what can only be read forwards.
fn packed_shape(stream: &StreamFacts) -> String {
    let format = stream.format.map_or("unknown", Format::name);
    format!("{format} in {}", stream.compression)
}

/// What an image's metadata says.
fn disk_pairs(disk: &SurveyedDisk) -> Vec<(&str, String)> {
    if let Some(stream) = &disk.stream {
        return vec![("shape", packed_shape(stream)), ("file size", ByteSize(stream.size).to_string())];
    }
    let Some(facts) = &disk.image else { return Vec::new() };
    let mut pairs = vec![
        ("shape", facts.shape.to_string()),
        ("kind", facts.variant.clone()),
        ("size", format!("{} ({} bytes)", ByteSize(facts.virtual_size), facts.virtual_size)),
    ];
    if let Some(in_use) = disk.in_use {
        let share = in_use as f64 * 100.0 / facts.virtual_size.max(1) as f64;
        pairs.push(("in use", format!("{} ({share:.1} %)", ByteSize(in_use))));
    }
    pairs.push(("file size", ByteSize(facts.file_size).to_string()));
    if facts.allocated != facts.file_size {
        pairs.push(("on disk", ByteSize(facts.allocated).to_string()));
    }
    if let Some((name, bytes)) = &facts.unit {
        pairs.push((name, ByteSize(*bytes).to_string()));
    }
    pairs.extend(facts.compression.clone().map(|kind| ("compression", kind)));
    pairs.extend(facts.details.iter().map(|(name, value)| (name.as_str(), value.clone())));
    pairs
}

/// The disks below a delta, nearest first.
fn chain(facts: &Facts) -> String {
    let rows: Vec<_> = facts
        .parents
        .iter()
        .map(|parent| {
            [
                parent.name.clone(),
                ByteSize(parent.virtual_size).to_string(),
                ByteSize(parent.file_size).to_string(),
                ByteSize(parent.allocated).to_string(),
                parent.shape.to_string(),
                parent.variant.clone(),
            ]
        })
        .collect();
    heading("A delta of") + &columns(["file", "size", "stored", "on disk", "shape", "kind"], &rows, &[1, 2, 3])
}

/// The states that are kept inside an image.
fn snapshots(facts: &Facts) -> String {
    let rows: Vec<_> = facts
        .snapshots
        .iter()
        .map(|snapshot| {
            let time = i64::try_from(snapshot.time).ok().and_then(|seconds| jiff::Timestamp::from_second(seconds).ok());
            [
                snapshot.name.clone(),
                snapshot.id.clone(),
                time.map_or(String::new(), |time| time.strftime("%Y-%m-%d %H:%M UTC").to_string()),
                ByteSize(snapshot.virtual_size).to_string(),
                if snapshot.has_memory { "with memory".into() } else { String::new() },
            ]
        })
        .collect();
    heading("Snapshots") + &columns(["name", "ID", "made", "size", ""], &rows, &[3])
}
