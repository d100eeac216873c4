//! What hosts have their guests install, as it is called there: the kinds of hosts are those of destinations.

/// Services and filter drivers of hosts.
const SERVICES: [(&str, &[&str]); 4] = [
    (
        "vmx",
        &[
            "VMTools",
            "VGAuthService",
            "vm3dservice",
            "vmvss",
            "VMUpgradeHelper",
            "VMMemCtl",
            "vmhgfs",
            "vmmouse",
            "vmusbmouse",
            "vmrawdsk",
            "vsepflt",
            "vnetflt",
            "vnetWFP",
            "giappdef",
        ],
    ),
    ("vdi", &["VBoxService", "VBoxGuest", "VBoxMouse", "VBoxSF", "VBoxVideo", "VBoxWddm"]),
    ("vmbus", &["WindowsAzureGuestAgent", "RdAgent", "WindowsAzureTelemetryService"]),
    ("virtio", &["QEMU-GA", "QEMU Guest Agent VSS Provider", "BalloonService", "vdservice", "spice-agent"]),
];

/// Services that come with the system, and sleep where their host is not.
const IN_BOX: [&str; 7] =
    ["vmicheartbeat", "vmickvpexchange", "vmicshutdown", "vmictimesync", "vmicvss", "vmicguestinterface", "vmicrdv"];

/// Programs that start with a session.
const TRAY: [(&str, &[&str]); 3] =
    [("vmx", &["vmtoolsd.exe", "vm3dservice.exe"]), ("vdi", &["VBoxTray.exe"]), ("virtio", &["vdagent.exe"])];

/// The host that a service is for, and whether it came with the system.
pub(crate) fn host_of(service: &str) -> Option<(&'static str, bool)> {
    let is_one = |names: &[&str]| names.iter().any(|name| name.eq_ignore_ascii_case(service));
    if is_one(&IN_BOX) {
        return Some(("vmbus", true));
    }
    SERVICES.iter().find(|(_, names)| is_one(names)).map(|(host, _)| (*host, false))
}

/// The host whose program a command of a session starts.
pub(crate) fn tray_program(command: &str) -> Option<&'static str> {
    let command = command.to_lowercase();
    let is_one = |names: &[&str]| names.iter().any(|name| command.contains(&format!("\\{}", name.to_lowercase())));
    TRAY.iter().find(|(_, names)| is_one(names)).map(|(host, _)| *host)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn hosts_are_told_by_what_they_installed() {
        assert_eq!(host_of("vmtools"), Some(("vmx", false)));
        assert_eq!(host_of("vmicvss"), Some(("vmbus", true)));
        assert_eq!(host_of("Dnscache"), None);
        assert_eq!(tray_program("\"C:\\Program Files\\Tools\\vmtoolsd.exe\" -n vmusr"), Some("vmx"));
        assert_eq!(tray_program("C:\\tide\\notvmtoolsd.exe"), None);
    }
}
