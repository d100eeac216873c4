//! What a cloud wants of a system beside drivers, in whole guests: a console, an address that is asked for, a way in, cloud-init's sources.

use proptest::prelude::*;
use reformis_guest::{Guest, Hardware, HostRules, Refit, Remark, Wishes, edit, refit};

use crate::common::*;

const TOOLS: [&str; 5] = ["mke2fs", "debugfs", "e2fsck", "sfdisk", "mkswap"];
const INTERFACES: &str = "auto lo\niface lo inet loopback\n\nauto ens192\niface ens192 inet static\n\taddress 192.0.2.7/24\n\tgateway 192.0.2.1\n\tup true\n";

fn cloud(sources: &[&str]) -> Hardware {
    let rules = HostRules {
        is_cloud: true,
        serial_console: Some("ttyS0,115200".into()),
        dhcp: true,
        remote_login: true,
        no_swap: true,
        data_sources: sources.iter().map(ToString::to_string).collect(),
    };
    Hardware { rules, ..virtio("sd") }
}

/// The guest with `files` more, moved to `hardware`; written and opened again.
fn moved(hardware: &Hardware, files: &[(&'static str, &str)]) -> (Guest, Refit) {
    let folder = tempfile::tempdir().unwrap();
    let path = guest(folder.path(), |all| {
        all.retain(|(path, _)| !files.iter().any(|(own, _)| path == own));
        all.extend(files.iter().map(|(path, text)| (*path, text.as_bytes().to_vec())));
    });
    let mut before = open(&[&path]);
    let made = refit(&mut before, hardware, &Wishes::default(), NOW);
    assert!(!made.remarks.iter().any(|remark| matches!(remark, Remark::Failed { .. })), "{:?}", made.remarks);
    let mut after = again(&before, folder.path());
    // What is right is not changed once more.
    let second = refit(&mut after, hardware, &Wishes::default(), NOW);
    let again_made: Vec<&str> = names(&second);
    let ours = [edit::CONSOLE, edit::ADDRESSES, edit::REMOTE_LOGIN, edit::DATA_SOURCES];
    assert!(!again_made.iter().any(|name| ours.contains(name)), "{again_made:?}");
    (after, made)
}

fn changes<'r>(made: &'r Refit, name: &str) -> &'r [String] {
    made.done.iter().find(|done| done.name == name).map_or(&[], |done| done.changes.as_slice())
}

#[test]
fn a_system_is_seen_and_reached_in_a_cloud() {
    if !has(&TOOLS) {
        return;
    }
    let (after, made) = moved(
        &cloud(&["NoCloud", "ConfigDrive"]),
        &[
            ("/etc/network/interfaces", INTERFACES),
            ("/usr/sbin/dhclient", "a client"),
            ("/lib/systemd/system/ssh.service", "[Install]\nWantedBy=multi-user.target\n"),
            ("/etc/systemd/system/ssh.service->/dev/null", ""),
            ("/etc/cloud/cloud.cfg", "users: []\n"),
        ],
    );
    let console = "console=tty0 console=ttyS0,115200";
    assert!(text(&after, "/boot/grub/grub.cfg").lines().any(|line| line.contains("linux ") && line.ends_with(console)));
    assert!(text(&after, "/etc/default/grub").contains(&format!(" {console}\"\n")));
    assert_eq!(
        text(&after, "/etc/network/interfaces"),
        "auto lo\niface lo inet loopback\n\nauto ens192\niface ens192 inet dhcp\n\tup true\n"
    );
    assert!(changes(&made, edit::ADDRESSES)[0].ends_with("it had 192.0.2.7/24"), "{:?}", made.done);
    let tree = after.systems[0].tree();
    assert!(!tree.exists("/etc/systemd/system/ssh.service"));
    assert!(tree.exists("/etc/systemd/system/multi-user.target.wants/ssh.service"));
    assert!(
        text(&after, "/etc/cloud/cloud.cfg.d/95-reformis.cfg").contains("datasource_list: [ NoCloud, ConfigDrive ]")
    );
    let swap = Remark::SwapOnSystemDisk { swap: "/dev/sda3".into() };
    assert!(made.remarks.contains(&swap), "{:?}", made.remarks);
    assert!(!made.remarks.iter().any(|remark| matches!(remark, Remark::NoRemoteLogin { .. })));
}

#[test]
fn what_is_right_stays_and_what_is_missing_is_told() {
    if !has(&TOOLS) {
        return;
    }
    let grub = String::from_utf8(GRUB.to_vec()).unwrap().replace(" quiet", " quiet console=ttyS0,9600n8");
    let fstab = "/dev/sda2 / ext4 defaults 0 1\n/swapfile none swap sw 0 0\n";
    let (after, made) = moved(&cloud(&[]), &[("/boot/grub/grub.cfg", grub.as_str()), ("/etc/fstab", fstab)]);
    for name in [edit::CONSOLE, edit::ADDRESSES, edit::REMOTE_LOGIN, edit::DATA_SOURCES] {
        assert_eq!(changes(&made, name), [""; 0], "{name}");
    }
    assert_eq!(text(&after, "/etc/network/interfaces"), "auto ens192\niface ens192 inet dhcp\n");
    let told = |remark: &Remark| made.remarks.contains(remark);
    assert!(told(&Remark::SwapOnSystemDisk { swap: "/swapfile".into() }), "{:?}", made.remarks);
    assert!(told(&Remark::NoRemoteLogin { system: "Tidal 3".into() }), "{:?}", made.remarks);
}

/// Where nothing asks for an address, the edit is not made, and that is told.
#[test]
fn an_address_that_nobody_could_ask_for_stays() {
    if !has(&TOOLS) {
        return;
    }
    let folder = tempfile::tempdir().unwrap();
    let path = guest(folder.path(), |all| {
        all.retain(|(path, _)| *path != "/etc/network/interfaces");
        all.push(("/etc/network/interfaces", INTERFACES.as_bytes().to_vec()));
    });
    let mut before = open(&[&path]);
    let made = refit(&mut before, &cloud(&[]), &Wishes::default(), NOW);
    let failed = |remark: &Remark| matches!(remark, Remark::Failed { edit, why, .. } if edit == edit::ADDRESSES && why.contains("DHCP client"));
    assert!(made.remarks.iter().any(failed), "{:?}", made.remarks);
    assert_eq!(text(&again(&before, folder.path()), "/etc/network/interfaces"), INTERFACES);
}

/// Home again: what listened to a cloud rests, what listens to its own disk does not.
#[test]
fn cloud_init_rests_at_home() {
    if !has(&TOOLS) {
        return;
    }
    let of = |source: &str| {
        let last = format!("{source}: {source} [net]\n");
        let files = [("/etc/cloud/cloud.cfg", "users: []\n"), ("/var/lib/cloud/instance/datasource", last.as_str())];
        let (after, made) = moved(&virtio("sd"), &files);
        (after.systems[0].tree().exists("/etc/cloud/cloud-init.disabled"), changes(&made, edit::DATA_SOURCES).len())
    };
    assert_eq!(of("DataSourceEstuary"), (true, 1));
    assert_eq!(of("DataSourceNoCloud"), (false, 0));
}

proptest! {
    /// Whatever lines a file has: what was changed once is not changed twice.
    #[test]
    fn any_lines_are_changed_once(lines in prop::collection::vec((0usize..5, prop::sample::select(LINES.to_vec())), 0..24)) {
        let text: String = lines.iter().map(|(depth, line)| format!("{}{line}\n", "  ".repeat(*depth))).collect();
        reformis_guest::fuzzing::cloud_rules(&text);
        reformis_guest::fuzzing::cloud_rules(text.trim_end());
    }
}

/// Lines of configurations of all tools, in no order.
const LINES: [&str; 44] = [
    "network:",
    "ethernets:",
    "ens3:",
    "tide:",
    "- 192.0.2.7/24",
    "addresses:",
    "addresses: [192.0.2.7/24, \"2001:db8::7/64\"]",
    "dhcp4: true",
    "dhcp4: false",
    "set-name: ens3",
    "routes:",
    "# a comment",
    "",
    "auto ens3",
    "iface ens3 inet static",
    "iface ens3 inet6 static",
    "iface ens3 inet dhcp",
    "iface tide inet static",
    "address 192.0.2.7/24",
    "gateway 192.0.2.1",
    "allow-hotplug ens3",
    "[Network]",
    "[Match]",
    "[Address]",
    "[Route]",
    "Address=192.0.2.7/24",
    "DHCP=no",
    "Gateway=192.0.2.1",
    "[ipv4]",
    "[ipv6]",
    "method=manual",
    "address1=192.0.2.7/24,192.0.2.1",
    "IPADDR=192.0.2.7",
    "BOOTPROTO=none",
    "linux /vmlinuz ro",
    "linux /vmlinuz ro console=hvc0",
    "linux",
    "options root=x",
    "append ro",
    "GRUB_CMDLINE_LINUX=\"ro\"",
    "GRUB_CMDLINE_LINUX=",
    "GRUB_CMDLINE_LINUX='ro",
    "EXTLINUX_PARAMETERS=\"\"",
    "console=ttyS0,115200",
];
