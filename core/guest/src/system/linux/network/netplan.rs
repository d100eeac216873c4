//! Netplan.

use super::{Used, is_hardware, mac};

/// The adapters below `ethernets`: netplan's files are YAML in blocks, told apart by how far lines are set in.
pub(super) fn read(text: &str, file: &str, found: &mut Vec<Used>) {
    let mut section = None;
    let mut child: Option<usize> = None;
    let mut current: Option<Used> = None;
    for line in text.lines() {
        let content = line.split(" #").next().unwrap_or(line).trim_end();
        let trimmed = content.trim_start();
        if trimmed.is_empty() || trimmed.starts_with('#') {
            continue;
        }
        let indent = content.len() - trimmed.len();
        let key = trimmed.split_once(':').map(|(key, value)| (key.trim().trim_matches(['"', '\'']), value.trim()));
        if section.is_some_and(|start| indent <= start) {
            section = None;
            child = None;
        }
        if key.is_some_and(|(key, _)| key == "ethernets") {
            section = Some(indent);
            continue;
        }
        let (Some(_), Some((key, value))) = (section, key) else { continue };
        if child.is_none_or(|child| indent <= child) {
            child = Some(indent);
            found.extend(current.take());
            current = Some(Used { name: key.into(), mac: None, by_mac: false, file: file.into() });
        } else if let Some(used) = &mut current {
            match key {
                "macaddress" if used.mac.is_none() => used.mac = mac(value),
                "set-name" => used.name = value.trim_matches(['"', '\'']).into(),
                _ => {}
            }
        }
    }
    found.extend(current);
    // An address under `match` decides; one without is set on whatever has the name.
    for used in found.iter_mut().filter(|used| used.file == file) {
        used.by_mac = used.mac.is_some() && text.contains("match:");
    }
    found.retain(|used| is_hardware(&used.name));
}
