//! Which adapters a guest's network configuration goes by: ifupdown, netplan, systemd-networkd, NetworkManager's keyfiles, ifcfg
//! files, and the rules and links that give adapters their names.

use serde::Serialize;

use crate::tree::Tree;

/// An adapter that the configuration names.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct Used {
    /// Its name in the guest.
    pub name: String,
    /// The hardware address that the configuration gives it, in small letters.
    pub mac: Option<String>,
    /// Whether that address, not the name, is what the configuration goes by: it holds wherever the adapter is.
    pub by_mac: bool,
    /// The file that says so.
    pub file: String,
}

/// Old rules that pin names (Debian, `persistent-net-generator`).
pub(crate) const RULES: &str = "/etc/udev/rules.d/70-persistent-net.rules";

/// An address in small letters with colons.
pub(crate) fn mac(text: &str) -> Option<String> {
    let text = text.trim().trim_matches(['"', '\'']).to_ascii_lowercase().replace('-', ":");
    let parts: Vec<&str> = text.split(':').collect();
    let is_pair = |part: &&str| part.len() == 2 && part.bytes().all(|byte| byte.is_ascii_hexdigit());
    (parts.len() == 6 && parts.iter().all(is_pair)).then_some(text)
}

/// Whether a name is one that an adapter of hardware has, not one of what is built on top.
fn is_hardware(name: &str) -> bool {
    let made = [
        "lo", "bond", "br", "virbr", "docker", "veth", "dummy", "tun", "tap", "wg", "vlan", "team", "sit", "ppp", "ib",
        "wl", "ww",
    ];
    let start: String = name.chars().take_while(char::is_ascii_alphabetic).collect();
    // Those of radios stay behind with their hardware.
    let is_radio = start.starts_with("wl") || start.starts_with("ww");
    !name.is_empty()
        && !is_radio
        && name.len() < 16
        && !name.contains(['.', ':', '*', '@', '/', '%', '$'])
        && !made.contains(&start.as_str())
        && !name.starts_with("br-")
}

/// All files that the network's configuration may be in.
pub(crate) fn files(tree: &Tree) -> Vec<String> {
    let mut files = vec!["/etc/network/interfaces".to_string(), RULES.into()];
    for folder in [
        "/etc/network/interfaces.d",
        "/etc/netplan",
        "/etc/systemd/network",
        "/etc/NetworkManager/system-connections",
        "/etc/sysconfig/network-scripts",
        "/etc/sysconfig/network",
    ] {
        files.extend(tree.names(folder).into_iter().map(|name| format!("{folder}/{name}")));
    }
    files.retain(|file| tree.stat(file).is_ok_and(|stat| stat.kind == crate::node::Kind::File));
    files
}

/// All adapters that the configuration names, each once for each file.
#[expect(clippy::string_slice, reason = "cut behind a prefix that was seen there")]
pub(super) fn read(tree: &Tree) -> Vec<Used> {
    let mut found: Vec<Used> = Vec::new();
    let mut virtual_names: Vec<String> = Vec::new();
    let files = |folder: &str, ending: &'static str| {
        let names = tree.names(folder).into_iter().filter(move |name| name.ends_with(ending));
        names.map(|name| format!("{folder}/{name}")).collect::<Vec<_>>()
    };
    let mut interfaces = vec!["/etc/network/interfaces".to_string()];
    interfaces.extend(files("/etc/network/interfaces.d", ""));
    for file in interfaces {
        let Some(text) = tree.text(&file) else { continue };
        ifupdown(&text, &file, &mut found, &mut virtual_names);
    }
    for file in files("/etc/netplan", ".yaml").into_iter().chain(files("/etc/netplan", ".yml")) {
        let Some(text) = tree.text(&file) else { continue };
        netplan(&text, &file, &mut found);
    }
    for file in files("/etc/systemd/network", ".netdev") {
        let text = tree.text(&file).unwrap_or_default();
        virtual_names.extend(ini(&text, "NetDev", "Name"));
    }
    for file in files("/etc/systemd/network", ".network") {
        let Some(text) = tree.text(&file) else { continue };
        let address = ini(&text, "Match", "MACAddress").or_else(|| ini(&text, "Match", "PermanentMACAddress"));
        let names = ini(&text, "Match", "Name").unwrap_or_default();
        push(&mut found, names.split_whitespace(), address.as_deref().and_then(mac), true, &file);
    }
    for file in files("/etc/NetworkManager/system-connections", "") {
        let Some(text) = tree.text(&file) else { continue };
        let kind = ini(&text, "connection", "type").unwrap_or_default();
        if !matches!(kind.as_str(), "ethernet" | "802-3-ethernet") {
            continue;
        }
        let address = ini(&text, "ethernet", "mac-address").or_else(|| ini(&text, "802-3-ethernet", "mac-address"));
        let name = ini(&text, "connection", "interface-name").unwrap_or_default();
        // Both conditions must hold where both are given, so the name still counts.
        push(&mut found, [name.as_str()].into_iter(), address.as_deref().and_then(mac), false, &file);
    }
    for folder in ["/etc/sysconfig/network-scripts", "/etc/sysconfig/network"] {
        for name in tree.names(folder).into_iter().filter(|name| name.starts_with("ifcfg-") && !name.ends_with('~')) {
            let file = format!("{folder}/{name}");
            let Some(text) = tree.text(&file) else { continue };
            ifcfg(&text, &name["ifcfg-".len()..], &file, &mut found, &mut virtual_names);
        }
    }
    found.retain(|used| !virtual_names.contains(&used.name));
    for used in &mut found {
        // Rules and links that give a name to an address.
        if used.mac.is_none() {
            used.mac = pinned(tree, &used.name);
        }
    }
    found
}

fn push<'n>(
    found: &mut Vec<Used>,
    names: impl Iterator<Item = &'n str>,
    mac: Option<String>,
    by_mac: bool,
    file: &str,
) {
    for name in names.filter(|name| is_hardware(name)) {
        if !found.iter().any(|used| used.name == name && used.file == file) {
            let by_mac = by_mac && mac.is_some();
            found.push(Used { name: name.into(), mac: mac.clone(), by_mac, file: file.into() });
        }
    }
}

/// The address that a rule or a link file gives a name to.
pub(crate) fn pinned(tree: &Tree, name: &str) -> Option<String> {
    let rules = tree.text(RULES).unwrap_or_default();
    let quoted = |line: &str, key: &str| Some(line.split_once(key)?.1.split('"').nth(1)?.to_string());
    let by_rule = rules.lines().filter(|line| !line.trim_start().starts_with('#')).find_map(|line| {
        let given = quoted(line, "NAME=").filter(|given| given == name)?;
        (given == name).then(|| quoted(line, "ATTR{address}==").as_deref().and_then(mac)).flatten()
    });
    by_rule.or_else(|| {
        let links = tree.names("/etc/systemd/network").into_iter().filter(|file| file.ends_with(".link"));
        links.into_iter().find_map(|file| {
            let text = tree.text(&format!("/etc/systemd/network/{file}"))?;
            (ini(&text, "Link", "Name").as_deref() == Some(name))
                .then(|| mac(&ini(&text, "Match", "MACAddress")?))
                .flatten()
        })
    })
}

/// The value of a key in a section.
pub(crate) fn ini(text: &str, section: &str, key: &str) -> Option<String> {
    let mut inside = false;
    for line in text.lines().map(str::trim) {
        if let Some(name) = line.strip_prefix('[') {
            inside = name.trim_end_matches(']') == section;
        } else if inside
            && let Some((name, value)) = line.split_once('=')
            && name.trim() == key
        {
            return Some(value.trim().to_string());
        }
    }
    None
}

fn ifupdown(text: &str, file: &str, found: &mut Vec<Used>, made: &mut Vec<String>) {
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

fn ifcfg(text: &str, suffix: &str, file: &str, found: &mut Vec<Used>, made: &mut Vec<String>) {
    let value = |key: &str| super::release::assignments(text).find(|(name, _)| *name == key).map(|(_, value)| value);
    let name = value("DEVICE").unwrap_or_else(|| suffix.to_string());
    let kind = value("TYPE").unwrap_or_default();
    let is_made = ["VLAN", "BONDING_OPTS", "BONDING_MASTER", "BRIDGE_STP"].iter().any(|key| value(key).is_some())
        || !matches!(kind.as_str(), "" | "Ethernet");
    if is_made {
        made.push(name);
        return;
    }
    let address = value("HWADDR").or_else(|| value("MACADDR").filter(|_| false));
    // Without a device, the address alone says which adapter it is.
    let by_mac = value("DEVICE").is_none();
    push(found, [name.as_str()].into_iter(), address.as_deref().and_then(mac), by_mac, file);
}

/// The adapters below `ethernets`: netplan's files are YAML in blocks, told apart by how far lines are set in.
fn netplan(text: &str, file: &str, found: &mut Vec<Used>) {
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

#[cfg(test)]
mod tests {
    use super::*;

    fn names(found: &[Used]) -> Vec<(&str, Option<&str>, bool)> {
        found.iter().map(|used| (used.name.as_str(), used.mac.as_deref(), used.by_mac)).collect()
    }

    #[test]
    fn ifupdown_with_a_bond_a_bridge_and_a_vlan() {
        let text = "auto lo\niface lo inet loopback\n# iface eth9 inet dhcp\nauto ens192\niface ens192 inet static\n\taddress 192.0.2.7/24\nauto bond0\niface bond0 inet manual\n\tbond-slaves ens224 ens256\niface br0 inet dhcp\n bridge_ports bond0\niface tide inet dhcp\n vlan-raw-device ens192\niface ens192.7 inet dhcp\niface ens192:1 inet static\n";
        let (mut found, mut made) = (Vec::new(), Vec::new());
        ifupdown(text, "f", &mut found, &mut made);
        found.retain(|used| !made.contains(&used.name));
        assert_eq!(names(&found), [("ens192", None, false), ("ens224", None, false), ("ens256", None, false)]);
    }

    #[test]
    fn netplan_by_name_and_by_address() {
        let text = "# made up\nnetwork:\n  version: 2\n  ethernets:\n    ens33: # the shore\n      dhcp4: true\n    \"ens34\":\n      addresses:\n        - 192.0.2.9/24\n  vlans:\n    shore.7:\n      id: 7\n      link: ens33\n";
        let mut found = Vec::new();
        netplan(text, "f", &mut found);
        assert_eq!(names(&found), [("ens33", None, false), ("ens34", None, false)]);
        let text = "network:\n  ethernets:\n    shore:\n      match:\n        macaddress: \"02:5A:17:00:00:01\"\n      set-name: ens5\n";
        let mut found = Vec::new();
        netplan(text, "f", &mut found);
        assert_eq!(names(&found), [("ens5", Some("02:5a:17:00:00:01"), true)]);
    }

    #[test]
    fn ifcfg_and_sections() {
        let (mut found, mut made) = (Vec::new(), Vec::new());
        ifcfg("DEVICE=\"eth0\"\nHWADDR=02:5A:17:00:00:02\n", "eth0", "f", &mut found, &mut made);
        ifcfg("HWADDR=02:5A:17:00:00:03\n", "shore", "g", &mut found, &mut made);
        ifcfg("DEVICE=bond0\nBONDING_OPTS=mode=1\n", "bond0", "h", &mut found, &mut made);
        assert_eq!(
            names(&found),
            [("eth0", Some("02:5a:17:00:00:02"), false), ("shore", Some("02:5a:17:00:00:03"), true)]
        );
        assert_eq!(made, ["bond0"]);
        assert_eq!(ini("[Match]\nName=a\n[Network]\nName = b\n", "Network", "Name").as_deref(), Some("b"));
    }
}
