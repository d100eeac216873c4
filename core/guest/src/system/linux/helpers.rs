//! Helpers of hosts: services in a guest that talk to the host which it runs on.

use serde::Serialize;

use crate::fs::tree::Tree;

/// Services of one kind of host, as distributions call them; the kinds are those of destinations.
const SERVICES: [(&str, &[&str]); 4] = [
    (
        "vmx",
        &["open-vm-tools.service", "vmtoolsd.service", "vgauth.service", "vgauthd.service", "vmware-tools.service"],
    ),
    (
        "vdi",
        &[
            "vboxadd.service",
            "vboxadd-service.service",
            "vboxservice.service",
            "virtualbox-guest-utils.service",
            "vboxclient.service",
        ],
    ),
    (
        "vmbus",
        &[
            "hv-kvp-daemon.service",
            "hv-vss-daemon.service",
            "hv-fcopy-daemon.service",
            "hypervkvpd.service",
            "hypervvssd.service",
            "hypervfcopyd.service",
            "hv_kvp_daemon.service",
            "hv_vss_daemon.service",
            "hv_fcopy_daemon.service",
            "walinuxagent.service",
            "waagent.service",
        ],
    ),
    ("virtio", &["qemu-guest-agent.service", "spice-vdagentd.service", "spice-vdagent.service"]),
];

/// Where services are described.
const FOLDERS: [&str; 3] = ["/etc/systemd/system", "/lib/systemd/system", "/usr/lib/systemd/system"];

/// A helper.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct Helper {
    /// Its service.
    pub service: String,
    /// The kind of host that it is for.
    pub host: String,
    /// Whether it is kept from starting.
    pub masked: bool,
    /// Whether it starts with the system.
    pub enabled: bool,
    /// The file that describes it.
    #[serde(skip)]
    pub(crate) unit: String,
}

/// The helpers that are installed.
pub(super) fn find(tree: &Tree) -> Vec<Helper> {
    let mut found = Vec::new();
    for (host, services) in SERVICES {
        for service in services {
            let own = format!("/etc/systemd/system/{service}");
            let masked = tree.link_target(&own).is_ok_and(|target| target == b"/dev/null");
            let folders = if masked { &FOLDERS[1..] } else { &FOLDERS[..] };
            let unit = folders.iter().map(|folder| format!("{folder}/{service}")).find(|path| tree.exists(path));
            let Some(unit) = unit else { continue };
            let wanted = tree.names("/etc/systemd/system").into_iter().filter(|name| name.ends_with(".wants"));
            let enabled = wanted
                .into_iter()
                .any(|folder| tree.stat_link(format!("/etc/systemd/system/{folder}/{service}")).is_ok());
            found.push(Helper { service: (*service).into(), host: host.into(), masked, enabled, unit });
        }
    }
    found
}
