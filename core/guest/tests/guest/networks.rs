//! Whole guests with two adapters and what is built on them, each configured by another tool: names stay with their adapter, and
//! what is built keeps its own.

use reformis_guest::{AdapterPlace, Guest, Hardware, Link, Refit, Remark, State, Wishes, edit, refit};

use crate::common::*;

const TOOLS: [&str; 5] = ["mke2fs", "debugfs", "e2fsck", "sfdisk", "mkswap"];
const SECOND: &str = "02:5a:17:00:00:02";
const NEW: [&str; 2] = ["02:5a:17:00:0a:01", "02:5a:17:00:0a:02"];

/// A destination with two adapters, which get other addresses.
fn two_adapters() -> Hardware {
    let mut hardware = virtio("vd");
    let first = hardware.adapters.remove(0);
    for (before, after) in [OLD_MAC, SECOND].into_iter().zip(NEW) {
        hardware.adapters.push(AdapterPlace {
            before: Some(before.into()),
            after: Some(after.into()),
            ..first.clone()
        });
    }
    hardware
}

/// A guest whose network is configured by `files`, on that hardware; what became of it, written and opened again.
fn moved(files: &[(&'static str, &str)]) -> (Guest, Refit) {
    let folder = tempfile::tempdir().unwrap();
    let path = guest(folder.path(), |all| {
        all.retain(|(path, _)| *path != "/etc/network/interfaces");
        all.extend(files.iter().map(|(path, text)| (*path, text.as_bytes().to_vec())));
    });
    let mut before = open(&[&path]);
    let made = refit(&mut before, &two_adapters(), &Wishes::default(), NOW);
    assert!(names(&made).contains(&edit::ADAPTER_NAMES), "{made:?}");
    let chain = &made.evidence[0].1;
    let adapters: Vec<_> = chain.iter().filter(|link| link.link == Link::Adapters).collect();
    assert!(!adapters.is_empty());
    assert!(adapters.iter().all(|link| [State::Holds, State::Mended].contains(&link.state)), "{adapters:?}");
    (again(&before, folder.path()), made)
}

/// The address that each link file of ours gives a name to.
fn kept(guest: &Guest) -> Vec<(String, String)> {
    let folder = "/etc/systemd/network";
    let files = guest.systems[0].tree().list(folder).unwrap_or_default();
    let files = files.iter().map(|(name, _)| String::from_utf8_lossy(name).into_owned());
    let ours = files.filter_map(|file| Some(file.strip_prefix("10-keep-")?.strip_suffix(".link")?.to_string()));
    let value =
        |text: &str, key: &str| text.lines().find_map(|line| Some(line.strip_prefix(key)?.to_string())).unwrap();
    let mut kept: Vec<(String, String)> = ours
        .map(|name| {
            let text = text(guest, &format!("{folder}/10-keep-{name}.link"));
            assert_eq!(value(&text, "Name="), name);
            (name, value(&text, "MACAddress="))
        })
        .collect();
    kept.sort();
    kept
}

fn pairs(pairs: [(&str, &str); 2]) -> Vec<(String, String)> {
    pairs.map(|(name, mac)| (name.to_string(), mac.to_string())).to_vec()
}

#[test]
fn ifupdown_with_a_bond_a_bridge_and_a_vlan() {
    if !has(&TOOLS) {
        return;
    }
    let text_before = "auto bond0\niface bond0 inet manual\n bond-slaves ens192 ens224\niface bond0.7 inet dhcp\nauto br0\niface br0 inet static\n bridge_ports bond0\n address 192.0.2.7/24\n";
    let (after, made) = moved(&[("/etc/network/interfaces", text_before)]);
    // Nothing tells which is which, so they are taken in their order, and that is said.
    assert_eq!(kept(&after), pairs([("ens192", NEW[0]), ("ens224", NEW[1])]));
    assert_eq!(made.remarks.iter().filter(|remark| matches!(remark, Remark::AdapterAssumed { .. })).count(), 2);
    assert_eq!(text(&after, "/etc/network/interfaces"), text_before, "names stay, so the file does");
}

#[test]
fn rules_of_old_tell_which_adapter_is_which() {
    if !has(&TOOLS) {
        return;
    }
    let rule = |mac: &str, name: &str| {
        format!(
            "SUBSYSTEM==\"net\", ACTION==\"add\", DRIVERS==\"?*\", ATTR{{address}}==\"{mac}\", ATTR{{type}}==\"1\", NAME=\"{name}\"\n"
        )
    };
    // The other way round than their order.
    let rules = rule(OLD_MAC, "eth1") + &rule(SECOND, "eth0");
    let (after, made) = moved(&[
        ("/etc/network/interfaces", "auto eth0 eth1\niface eth0 inet dhcp\niface eth1 inet dhcp\n"),
        ("/etc/udev/rules.d/70-persistent-net.rules", &rules),
    ]);
    let rules = text(&after, "/etc/udev/rules.d/70-persistent-net.rules");
    assert_eq!(rules, rule(NEW[0], "eth1") + &rule(NEW[1], "eth0"));
    // The kernel gives out these names itself, in its own order: they are given out anew.
    let script = text(&after, "/usr/local/lib/reformis/adapter-names");
    assert!(script.contains(&format!("pairs=\"{}=eth0 {}=eth1\"", NEW[1], NEW[0])), "{script}");
    let linted = std::process::Command::new("sh").args(["-n", "-c", &script]).status().unwrap();
    assert!(linted.success());
    assert!(
        after.systems[0].tree().exists("/etc/systemd/system/multi-user.target.wants/reformis-adapter-names.service")
    );
    assert!(!made.remarks.iter().any(|remark| matches!(remark, Remark::AdapterAssumed { .. })), "{:?}", made.remarks);
}

#[test]
fn netplan_by_address_and_by_name() {
    if !has(&TOOLS) {
        return;
    }
    let yaml = format!(
        "network:\n  version: 2\n  ethernets:\n    shore:\n      match: {{macaddress: \"{OLD_MAC}\"}}\n      set-name: ens5\n    ens224: {{dhcp4: true}}\n  bonds:\n    bond0: {{interfaces: [shore, ens224]}}\n  vlans:\n    tide.7: {{id: 7, link: bond0}}\n"
    );
    let (after, _) = moved(&[("/etc/netplan/01-shore.yaml", &yaml)]);
    assert_eq!(text(&after, "/etc/netplan/01-shore.yaml"), yaml.replace(OLD_MAC, NEW[0]));
    // The one that goes by its address needs nothing more.
    assert_eq!(kept(&after), [("ens224".to_string(), NEW[1].to_string())]);
}

#[test]
fn networkd_with_what_it_makes() {
    if !has(&TOOLS) {
        return;
    }
    let (after, _) = moved(&[
        ("/etc/systemd/network/10-bond.netdev", "[NetDev]\nName=lagoon\nKind=bond\n"),
        ("/etc/systemd/network/20-lagoon.network", "[Match]\nName=lagoon\n\n[Network]\nDHCP=yes\n"),
        ("/etc/systemd/network/30-first.network", "[Match]\nName=ens192\n\n[Network]\nBond=lagoon\n"),
        (
            "/etc/systemd/network/31-second.network",
            &format!("[Match]\nMACAddress={}\n\n[Network]\nBond=lagoon\n", SECOND.to_uppercase()),
        ),
    ]);
    assert_eq!(kept(&after), [("ens192".to_string(), NEW[0].to_string())]);
    assert!(text(&after, "/etc/systemd/network/31-second.network").contains(NEW[1]));
    assert!(text(&after, "/etc/systemd/network/20-lagoon.network").contains("Name=lagoon"));
}

#[test]
fn keyfiles_and_ifcfg_files_with_a_bridge() {
    if !has(&TOOLS) {
        return;
    }
    let (after, _) = moved(&[
        (
            "/etc/NetworkManager/system-connections/first.nmconnection",
            "[connection]\nid=first\ntype=ethernet\ninterface-name=ens192\nmaster=br0\nslave-type=bridge\n",
        ),
        (
            "/etc/NetworkManager/system-connections/br0.nmconnection",
            "[connection]\nid=br0\ntype=bridge\ninterface-name=br0\n",
        ),
        (
            "/etc/sysconfig/network-scripts/ifcfg-ens224",
            &format!("DEVICE=ens224\nHWADDR={}\nONBOOT=yes\n", SECOND.to_uppercase()),
        ),
        ("/etc/sysconfig/network-scripts/ifcfg-ens224.7", "DEVICE=ens224.7\nVLAN=yes\nONBOOT=yes\n"),
    ]);
    assert_eq!(kept(&after), pairs([("ens192", NEW[0]), ("ens224", NEW[1])]));
    assert!(text(&after, "/etc/sysconfig/network-scripts/ifcfg-ens224").contains(&format!("HWADDR={}", NEW[1])));
    assert_eq!(
        text(&after, "/etc/sysconfig/network-scripts/ifcfg-ens224.7"),
        "DEVICE=ens224.7\nVLAN=yes\nONBOOT=yes\n"
    );
}

/// What a card's place tells is told by its name and its address at the destination.
#[test]
fn places_of_cards_a_team_and_a_vlan() {
    if !has(&TOOLS) {
        return;
    }
    let keyfile = "[connection]\nid=first\ntype=ethernet\n\n[match]\npath=pci-0000:0b:00.0;\n\n[ipv4]\nmethod=auto\n";
    let (after, _) = moved(&[
        ("/etc/NetworkManager/system-connections/first.nmconnection", keyfile),
        ("/etc/systemd/network/20-second.network", "[Match]\nPath=pci-0000:13:00.0\n\n[Network]\nDHCP=yes\n"),
        ("/etc/sysconfig/network-scripts/ifcfg-team0", "DEVICE=team0\nDEVICETYPE=Team\nTEAM_CONFIG='{}'\n"),
        ("/etc/sysconfig/network-scripts/ifcfg-lagoon", "DEVICE=lagoon\nVLAN=yes\nPHYSDEV=enp11s0\n"),
    ]);
    assert_eq!(kept(&after), pairs([("enp11s0", NEW[0]), ("enp19s0", NEW[1])]));
    let first = text(&after, "/etc/NetworkManager/system-connections/first.nmconnection");
    assert!(first.contains("[connection]\ninterface-name=enp11s0\n") && !first.contains("path="), "{first}");
    let second = text(&after, "/etc/systemd/network/20-second.network");
    assert!(second.contains("[Match]\nName=enp19s0\n") && !second.contains("Path="), "{second}");
}
