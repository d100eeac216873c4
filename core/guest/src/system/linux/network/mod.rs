//! Which adapters a guest's network configuration goes by: ifupdown, netplan, systemd-networkd, NetworkManager's keyfiles, ifcfg
//! files, and the rules and links that give adapters their names.

pub(crate) mod by_path;
mod ifcfg;
mod ifupdown;
mod manager;
mod netplan;
mod networkd;

use serde::Serialize;

use crate::fs::tree::Tree;

/// An adapter that the configuration names.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct Used {
    /// Its name in the guest.
    pub name: String,
    /// The hardware address that the configuration gives it, in small letters.
    pub mac: Option<String>,
    /// Whether that address, not the name, is what the configuration goes by: it holds wherever the adapter is.
    pub by_mac: bool,
    /// The place of its card, where the configuration goes by that too.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub path: Option<String>,
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
    files.retain(|file| tree.stat(file).is_ok_and(|stat| stat.kind == crate::fs::node::Kind::File));
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
        ifupdown::read(&text, &file, &mut found, &mut virtual_names);
    }
    for file in files("/etc/netplan", ".yaml").into_iter().chain(files("/etc/netplan", ".yml")) {
        let Some(text) = tree.text(&file) else { continue };
        netplan::read(&text, &file, &mut found);
    }
    for file in files("/etc/systemd/network", ".netdev") {
        virtual_names.extend(networkd::made(&tree.text(&file).unwrap_or_default()));
    }
    for file in files("/etc/systemd/network", ".network") {
        let Some(text) = tree.text(&file) else { continue };
        networkd::read(&text, &file, &mut found);
    }
    for file in files("/etc/NetworkManager/system-connections", "") {
        let Some(text) = tree.text(&file) else { continue };
        manager::read(&text, &file, &mut found);
    }
    for folder in ["/etc/sysconfig/network-scripts", "/etc/sysconfig/network"] {
        for name in tree.names(folder).into_iter().filter(|name| name.starts_with("ifcfg-") && !name.ends_with('~')) {
            let file = format!("{folder}/{name}");
            let Some(text) = tree.text(&file) else { continue };
            ifcfg::read(&text, &name["ifcfg-".len()..], &file, &mut found, &mut virtual_names);
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

/// All adapters that `text` names, read as a file of every tool: for the fuzzers.
pub(crate) fn of_text(text: &str) -> Vec<Used> {
    let (mut found, mut made) = (Vec::new(), Vec::new());
    ifupdown::read(text, "interfaces", &mut found, &mut made);
    netplan::read(text, "netplan", &mut found);
    networkd::read(text, "network", &mut found);
    manager::read(text, "keyfile", &mut found);
    ifcfg::read(text, "ens3", "ifcfg-ens3", &mut found, &mut made);
    made.extend(networkd::made(text));
    found.retain(|used| !made.contains(&used.name));
    found
}

/// Adapters that configurations name, and that are looked at.
const MOST_USED: usize = 2048;

fn push<'n>(
    found: &mut Vec<Used>,
    names: impl Iterator<Item = &'n str>,
    mac: Option<String>,
    by_mac: bool,
    file: &str,
) {
    for name in names.filter(|name| is_hardware(name)) {
        // A server has a few; a list that is searched for each is not made longer by a stranger.
        if found.len() < MOST_USED && !found.iter().any(|used| used.name == name && used.file == file) {
            let by_mac = by_mac && mac.is_some();
            found.push(Used { name: name.into(), mac: mac.clone(), by_mac, path: None, file: file.into() });
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
        ifupdown::read(text, "f", &mut found, &mut made);
        found.retain(|used| !made.contains(&used.name));
        assert_eq!(names(&found), [("ens192", None, false), ("ens224", None, false), ("ens256", None, false)]);
    }

    #[test]
    fn ifcfg_and_sections() {
        let (mut found, mut made) = (Vec::new(), Vec::new());
        ifcfg::read("DEVICE=\"eth0\"\nHWADDR=02:5A:17:00:00:02\n", "eth0", "f", &mut found, &mut made);
        ifcfg::read("HWADDR=02:5A:17:00:00:03\n", "shore", "g", &mut found, &mut made);
        ifcfg::read("DEVICE=bond0\nBONDING_OPTS=mode=1\n", "bond0", "h", &mut found, &mut made);
        assert_eq!(
            names(&found),
            [("eth0", Some("02:5a:17:00:00:02"), false), ("shore", Some("02:5a:17:00:00:03"), true)]
        );
        assert_eq!(made, ["bond0"]);
        assert_eq!(ini("[Match]\nName=a\n[Network]\nName = b\n", "Network", "Name").as_deref(), Some("b"));
    }
}
