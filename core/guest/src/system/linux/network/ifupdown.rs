//! Debian's ifupdown (`interfaces(5)`).

use super::{Used, push};

/// The adapters that `text`, the content of `file`, names; those that it makes out of others go into `made`.
pub(super) fn read(text: &str, file: &str, found: &mut Vec<Used>, made: &mut Vec<String>) {
    let mut current = String::new();
    for line in text.lines().map(str::trim).filter(|line| !line.starts_with('#')) {
        let mut words = line.split_whitespace();
        match words.next().unwrap_or_default() {
            "iface" => {
                current = words.next().unwrap_or_default().into();
                push(found, [current.as_str()].into_iter(), None, false, file);
            }
            "auto" | "allow-hotplug" | "allow-auto" => push(found, words, None, false, file),
            // These make the adapter that they stand under out of others.
            "bond-slaves" | "slaves" | "bond_slaves" | "bridge_ports" | "bridge-ports" | "vlan-raw-device"
            | "vlan_raw_device" => {
                made.push(current.clone());
                push(found, words.filter(|word| *word != "none"), None, false, file);
            }
            _ => {}
        }
    }
}
