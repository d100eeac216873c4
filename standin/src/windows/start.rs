//! The rules by which a system starts drivers of disks, written a second time: would a control set start one for a device?

use crate::hives::Keys;

/// The processor of the file in `bytes`, where it is a program.
fn processor(bytes: &[u8]) -> Option<u16> {
    let head = u32::from_le_bytes(bytes.get(0x3c..0x40)?.try_into().ok()?) as usize;
    let is_program = bytes.starts_with(b"MZ") && bytes.get(head..head + 4)? == b"PE\0\0";
    is_program.then(|| u16::from_le_bytes([bytes[head + 4], bytes[head + 5]]))
}

/// A path of the registry as one of the guest.
fn guest_path(image: &str) -> Option<String> {
    let path = image.replace('\\', "/");
    let lower = path.to_lowercase();
    if lower.starts_with("system32/") {
        return Some(format!("/windows/{lower}"));
    }
    lower.strip_prefix("/systemroot/").map(|rest| format!("/windows/{rest}"))
}

/// What keeps the control set `set` of `system` from starting a driver of its own for a device with the identities `ids`, the
/// likeliest first; nothing when one is started. `version` is the system's, `file` reads a file of the guest.
pub fn judge(
    system: &Keys,
    set: &str,
    version: (u32, u32),
    ids: &[String],
    file: &dyn Fn(&str) -> Option<Vec<u8>>,
) -> Vec<String> {
    let mut faults = Vec::new();
    let services = format!("{set}\\Services");
    // The filters of disks and of their controllers come before anything else counts.
    for class in system.below(&format!("{set}\\Control\\Class")) {
        if !["{4d36e967", "{71a27cdd", "{4d36e97b", "{4d36e96a"].iter().any(|start| class.starts_with(start)) {
            continue;
        }
        for kind in ["UpperFilters", "LowerFilters"] {
            for filter in system.texts(&format!("{set}\\Control\\Class\\{class}"), kind) {
                let key = format!("{services}\\{filter}");
                if system.number(&key, "Start").is_none_or(|start| start > 3) {
                    faults.push(format!("the filter {filter} of {class} does not start"));
                }
            }
        }
    }
    let service = if version < (6, 2) {
        critical(system, set, ids, &mut faults)
    } else {
        database(system, ids, file, &mut faults)
    };
    let Some(service) = service else {
        faults.push("nothing binds the device to a service".into());
        return faults;
    };
    let key = format!("{services}\\{service}");
    if system.number(&key, "Type") != Some(1) {
        faults.push(format!("{service} is no kernel driver"));
    }
    if system.number(&key, "Start") != Some(0) {
        faults.push(format!("{service} is not started by the loader"));
    }
    if system.number(&key, "ErrorControl").is_none() {
        faults.push(format!("{service} does not say what its failure means"));
    }
    let overrides = system.get(&format!("{key}\\StartOverride"));
    if overrides.is_some_and(|values| values.values().any(|(_, bytes)| bytes != &[0; 4])) {
        faults.push(format!("the start of {service} is taken back"));
    }
    let groups = system.texts(&format!("{set}\\Control\\ServiceGroupOrder"), "List");
    match system.text(&key, "Group") {
        Some(group) if groups.iter().any(|known| known.eq_ignore_ascii_case(&group)) => {}
        group => faults.push(format!("{service} is of the group {group:?}, which is in no order")),
    }
    let image = system.text(&key, "ImagePath").unwrap_or_else(|| format!("System32\\drivers\\{service}.sys"));
    match guest_path(&image).and_then(|path| file(&path)) {
        None => faults.push(format!("{image} is not there")),
        Some(bytes) if processor(&bytes) != Some(0x8664) => {
            faults.push(format!("{image} is no driver for this processor"));
        }
        Some(_) => {}
    }
    faults
}

/// The service of a device by the table of critical devices.
fn critical(system: &Keys, set: &str, ids: &[String], faults: &mut Vec<String>) -> Option<String> {
    for id in ids {
        let key = format!("{set}\\Control\\CriticalDeviceDatabase\\{}", id.replace('\\', "#"));
        if let Some(service) = system.text(&key, "Service") {
            if system.text(&key, "ClassGUID").is_none_or(|class| class.len() != 38) {
                faults.push(format!("{key} names no class"));
            }
            return Some(service);
        }
    }
    None
}

/// The service of a device by the driver database.
fn database(
    system: &Keys,
    ids: &[String],
    file: &dyn Fn(&str) -> Option<Vec<u8>>,
    faults: &mut Vec<String>,
) -> Option<String> {
    for id in ids {
        let Some(values) = system.get(&format!("DriverDatabase\\DeviceIds\\{id}")) else { continue };
        for (inf, (kind, bytes)) in values {
            if *kind != 3 || bytes.len() != 4 || !matches!(bytes[..2], [1 | 2, 0xff]) {
                faults.push(format!("{id} is bound to {inf} by {bytes:?}"));
            }
            let files = format!("DriverDatabase\\DriverInfFiles\\{inf}");
            let Some(package) = system.text(&files, "Active") else {
                faults.push(format!("{inf} has no active package"));
                continue;
            };
            if !system.texts(&files, "").contains(&package) {
                faults.push(format!("{package} is not among the packages of {inf}"));
            }
            let key = format!("DriverDatabase\\DriverPackages\\{package}");
            if system.text(&key, "").as_deref() != Some(inf) {
                faults.push(format!("{package} does not say that it is {inf}"));
            }
            match system.value(&key, "Version") {
                Some((3, version)) if version.len() == 48 && version[2] == 9 => {}
                _ => faults.push(format!("{package} has no version for this processor")),
            }
            let configuration = system.text(&format!("{key}\\Descriptors\\{id}"), "Configuration");
            let service =
                configuration.and_then(|name| system.text(&format!("{key}\\Configurations\\{name}"), "Service"));
            if let Some(number) =
                inf.strip_prefix("oem").and_then(|rest| rest.strip_suffix(".inf")?.parse::<usize>().ok())
            {
                let map =
                    system.value("DriverDatabase", "OemInfMap").map(|(_, bytes)| bytes.clone()).unwrap_or_default();
                if map.get(number / 8).is_none_or(|byte| byte & (0x80 >> (number % 8)) == 0) {
                    faults.push(format!("the map of such files does not have {inf}"));
                }
                if file(&format!("/windows/inf/{inf}")).is_none() {
                    faults.push(format!("{inf} is not there"));
                }
            }
            match service {
                Some(service) => return Some(service),
                None => faults.push(format!("{package} installs no service for {id}")),
            }
        }
    }
    None
}
