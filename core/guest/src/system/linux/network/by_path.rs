//! Adapters that a configuration tells by the place of their card (`ID_PATH` of udev), which is another one on every host.

use super::ini;

/// The one place that a value names; `None` for patterns, and for what is no card's.
pub(super) fn path(value: &str) -> Option<String> {
    let mut all = value.split([';', ' ']).map(str::trim).filter(|path| !path.is_empty());
    let path = all.next().filter(|path| path.starts_with("pci-") && !path.contains(['*', '?', '[', '!']))?;
    all.next().is_none().then(|| path.to_string())
}

/// The name that the adapter at a place has (systemd, `systemd.net-naming-scheme(7)`): `pci-0000:0b:00.0` is `enp11s0`.
pub(super) fn name(path: &str) -> Option<String> {
    let mut parts = path.strip_prefix("pci-")?.split([':', '.']);
    let mut number = || u32::from_str_radix(parts.next()?, 16).ok();
    let (domain, bus, slot, function) = (number()?, number()?, number()?, number()?);
    let domain = if domain == 0 { String::new() } else { format!("P{domain}") };
    let function = if function == 0 { String::new() } else { format!("f{function}") };
    Some(format!("en{domain}p{bus}s{slot}{function}"))
}

/// A file's text that goes by the adapter's name instead of its place.
pub(crate) fn by_name(text: &str, file: &str, name: &str) -> String {
    // One tool has the name beside the place, the other in the section of the whole connection.
    let is_networkd = file.ends_with(".network");
    let (place, section, key) =
        if is_networkd { ("Path", "Match", "Name") } else { ("path", "connection", "interface-name") };
    let has_name = ini(text, section, key).is_some() || !is_networkd && ini(text, "match", "interface-name").is_some();
    let mut new = String::with_capacity(text.len() + 32);
    let mut inside = String::new();
    for line in text.split_inclusive('\n') {
        let plain = line.trim();
        if let Some(rest) = plain.strip_prefix('[') {
            inside = rest.trim_end_matches(']').to_string();
            new.push_str(line);
            if inside == section && !has_name {
                new.push_str(&format!("{key}={name}\n"));
            }
            continue;
        }
        let is_place = plain.split_once('=').is_some_and(|(found, _)| found.trim() == place);
        if !(is_place && inside.eq_ignore_ascii_case("match")) {
            new.push_str(line);
        }
    }
    new
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_place_becomes_the_name_that_was_there() {
        assert_eq!(path("pci-0000:0b:00.0;").as_deref(), Some("pci-0000:0b:00.0"));
        assert_eq!((path("pci-*"), path("!pci-0000:0b:00.0"), path("pci-0;pci-1")), (None, None, None));
        assert_eq!(name("pci-0000:0b:00.0").as_deref(), Some("enp11s0"));
        assert_eq!(name("pci-0001:02:1f.3").as_deref(), Some("enP1p2s31f3"));
        assert_eq!(name("pci-nonsense"), None);
        let keyfile =
            "[connection]\nid=shore\ntype=ethernet\n\n[match]\npath=pci-0000:0b:00.0;\n\n[ipv4]\nmethod=auto\n";
        let wanted =
            "[connection]\ninterface-name=enp11s0\nid=shore\ntype=ethernet\n\n[match]\n\n[ipv4]\nmethod=auto\n";
        assert_eq!(by_name(keyfile, "/etc/NetworkManager/system-connections/shore", "enp11s0"), wanted);
        let network = "[Match]\nPath=pci-0000:0b:00.0\n[Network]\nDHCP=yes\n";
        assert_eq!(by_name(network, "/etc/systemd/network/1.network", "a"), "[Match]\nName=a\n[Network]\nDHCP=yes\n");
    }
}
