//! Made-up Windows systems of three generations: what their registries and their files are as far as a start needs them.

use super::{Keys, boot_store_of, key, texts};
use crate::{
    driver::{SCSI, program},
    hives::{Given, build},
};

const NET: &str = "{4d36e972-e325-11ce-bfc1-08002be10318}";
const HDC: &str = "{4d36e96a-e325-11ce-bfc1-08002be10318}";
const DISK: &str = "{4d36e967-e325-11ce-bfc1-08002be10318}";
const SYSTEM: &str = "{4d36e97d-e325-11ce-bfc1-08002be10318}";

/// The controller that its disk is on where it comes from.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Source {
    /// SATA.
    Ahci,
    /// SAS, with the system's own driver.
    Sas,
    /// A paravirtual one, with a driver that its host brought.
    Paravirtual,
    /// NVMe.
    Nvme,
}

/// A made-up system.
#[derive(Debug, Clone, Copy)]
pub struct Made {
    /// 6.1, 6.3 or 10.0.
    pub version: (u32, u32),
    /// A server, or a client.
    pub is_server: bool,
    /// Whether UEFI starts it.
    pub uefi: bool,
    /// Where its disk is.
    pub source: Source,
}

/// An adapter: its identity, its connection's name, its hardware address, its place on PCI, and its addresses; none ask a server.
type Adapter = (&'static str, &'static str, [u8; 6], u32, &'static [(&'static str, &'static str)]);

/// The adapters of every made-up system. The one that comes first in the registry is not the first on PCI.
pub const ADAPTERS: [Adapter; 3] = [
    (
        "{5A170000-0000-4000-8000-0000000000A2}",
        "Backup & night",
        [2, 0x5a, 0x17, 0, 0, 2],
        11,
        &[("198.51.100.7", "255.255.255.128"), ("198.51.100.8", "255.255.255.128")],
    ),
    (
        "{5A170000-0000-4000-8000-0000000000A1}",
        "Ethernet0",
        [2, 0x5a, 0x17, 0, 0, 1],
        3,
        &[("192.0.2.7", "255.255.255.0")],
    ),
    ("{5A170000-0000-4000-8000-0000000000A3}", "Guest 100%", [2, 0x5a, 0x17, 0, 0, 3], 19, &[]),
];

/// A service that comes with the system: its name, its group, the file that brought it, its class, and the devices that it drives.
type InBox = (&'static str, &'static str, &'static str, &'static str, &'static [&'static str]);

const IN_BOX: [InBox; 7] = [
    ("storahci", "SCSI Miniport", "mshdc.inf", HDC, &["PCI\\CC_0106"]),
    ("stornvme", "SCSI Miniport", "stornvme.inf", SCSI, &["PCI\\CC_010802"]),
    ("LSI_SAS", "SCSI Miniport", "lsi_sas.inf", SCSI, &["PCI\\VEN_1000&DEV_0054"]),
    ("vmbus", "System Bus Extender", "wvmbus.inf", SYSTEM, &["ACPI\\VMBUS"]),
    ("storvsc", "Base", "wstorvsc.inf", SCSI, &["VMBUS\\{ba6163d9-04a1-4d29-b605-72e2ffb1dc7f}"]),
    ("intelide", "System Bus Extender", "mshdc.inf", HDC, &["PCI\\VEN_8086&DEV_7111"]),
    ("atapi", "SCSI Miniport", "mshdc.inf", HDC, &["*PNP0600"]),
];

impl Made {
    fn is_old(&self) -> bool {
        self.version < (6, 2)
    }

    /// What the service that drives the source's disk is called.
    pub fn own_driver(&self) -> &'static str {
        match self.source {
            Source::Ahci if self.is_old() => "msahci",
            Source::Ahci => "storahci",
            Source::Sas => "LSI_SAS",
            Source::Paravirtual => "pvscsi",
            Source::Nvme => "stornvme",
        }
    }

    /// Services: name, group, what brought it, its class, its devices.
    fn services(&self) -> Vec<(String, &'static str, String, &'static str, Vec<&'static str>)> {
        let mut all = Vec::new();
        for (name, group, inf, class, ids) in IN_BOX {
            // The oldest has another driver for SATA; it has one for NVMe only where that was added.
            let name = if self.is_old() && name == "storahci" { "msahci" } else { name };
            if self.is_old() && name == "stornvme" && self.source != Source::Nvme {
                continue;
            }
            all.push((name.to_string(), group, inf.to_string(), class, ids.to_vec()));
        }
        if self.source == Source::Paravirtual {
            all.push(("pvscsi".into(), "SCSI miniport", "oem0.inf".into(), SCSI, vec!["PCI\\VEN_15AD&DEV_07C0"]));
        }
        all
    }

    /// Whether a service is started by the loader as it is, and whether something takes that back.
    fn start(&self, name: &str) -> (u32, bool) {
        match name {
            _ if name == self.own_driver() => (0, false),
            "intelide" | "atapi" => (0, false),
            _ if self.is_old() => (3, false),
            "storvsc" | "vmbus" | "LSI_SAS" => (0, true),
            _ => (3, false),
        }
    }

    /// `SYSTEM`; `mounted` is the value by which the registry knows the system's own volume.
    pub fn system(&self, mounted: &[u8]) -> Vec<u8> {
        let mut keys: Keys = vec![
            key(
                "Select",
                &[("Current", 1.into()), ("Default", 1.into()), ("Failed", 0.into()), ("LastKnownGood", 2.into())],
            ),
            key("MountedDevices", &[("\\DosDevices\\C:", Given::Bytes(mounted.to_vec()))]),
            key("Setup", &[("SetupType", 0.into()), ("CmdLine", "".into())]),
        ];
        for set in ["ControlSet001", "ControlSet002"] {
            self.control_set(set, &mut keys);
        }
        if !self.is_old() {
            self.database(&mut keys);
        }
        build(5, &keys)
    }

    fn control_set(&self, set: &str, keys: &mut Keys) {
        let at = |path: &str, values: &[(&str, Given)]| key(&format!("{set}\\{path}"), values);
        let groups = [
            "System Reserved",
            "Boot Bus Extender",
            "System Bus Extender",
            "SCSI miniport",
            "Port",
            "Primary Disk",
            "Base",
        ];
        let product = if self.is_server { "ServerNT" } else { "WinNT" };
        keys.extend([
            at("Control\\ComputerName\\ComputerName", &[("ComputerName", "TIDE".into())]),
            at("Control\\Session Manager\\Environment", &[("PROCESSOR_ARCHITECTURE", "AMD64".into())]),
            at("Control\\ServiceGroupOrder", &[("List", texts(&groups))]),
            at("Control\\ProductOptions", &[("ProductType", product.into())]),
            at("Control\\TimeZoneInformation", &[("TimeZoneKeyName", "GMT Standard Time".into())]),
            at(
                &format!("Control\\Class\\{DISK}"),
                &[("UpperFilters", texts(&["partmgr"])), ("LowerFilters", texts(&["vsepflt"]))],
            ),
            at(
                "Services\\Tcpip\\Parameters\\PersistentRoutes",
                &[("203.0.113.0,255.255.255.0,192.0.2.254,5", "".into())],
            ),
            at("Services\\VMTools", &[("Type", 0x10.into()), ("Start", 2.into())]),
        ]);
        for name in ["disk", "partmgr", "vsepflt"] {
            keys.push(at(
                &format!("Services\\{name}"),
                &[("Type", 1.into()), ("Start", 0.into()), ("ErrorControl", 1.into())],
            ));
        }
        for (name, group, inf, class, ids) in self.services() {
            let (start, is_held) = self.start(&name);
            let path = format!("Services\\{name}");
            let image = Given::Expand(format!("System32\\drivers\\{name}.sys"));
            let mut values =
                vec![("Type", 1.into()), ("Start", start.into()), ("ErrorControl", 3.into()), ("Group", group.into())];
            values.push(("ImagePath", image));
            if !self.is_old() {
                values.push(("Owners", texts(&[&inf])));
            }
            keys.push(at(&path, &values));
            if is_held {
                keys.push(at(&format!("{path}\\StartOverride"), &[("0", 3.into())]));
            }
            if self.is_old() && start == 0 {
                for id in ids {
                    let critical = format!("Control\\CriticalDeviceDatabase\\{}", id.to_lowercase().replace('\\', "#"));
                    keys.push(at(
                        &critical,
                        &[("Service", name.as_str().into()), ("ClassGUID", class.to_uppercase().as_str().into())],
                    ));
                }
            }
        }
        for (index, (id, name, mac, slot, addresses)) in ADAPTERS.into_iter().enumerate() {
            let instance = format!("PCI\\VEN_8086&DEV_10D3&SUBSYS_07D015AD&REV_00\\{index:04}");
            let place = format!("@System32\\drivers\\pci.sys,#65536;PCI bus %1, device %2, function %3;({slot},0,0)");
            keys.push(at(
                &format!("Enum\\{instance}"),
                &[("ClassGUID", NET.into()), ("LocationInformation", place.as_str().into())],
            ));
            keys.push(at(
                &format!("Control\\Class\\{NET}\\{:04}", index + 1),
                &[
                    ("DriverDesc", "Gigabit".into()),
                    ("NetCfgInstanceId", id.into()),
                    ("DeviceInstanceID", instance.as_str().into()),
                ],
            ));
            keys.push(at(
                &format!("Control\\Network\\{NET}\\{id}\\Connection"),
                &[("Name", name.into()), ("PnPInstanceId", instance.as_str().into())],
            ));
            if self.version >= (10, 0) {
                let kernel = format!("Control\\NetworkSetup2\\Interfaces\\{id}\\Kernel");
                keys.push(at(&kernel, &[("PermanentAddress", Given::Bytes(mac.to_vec()))]));
            }
            let path = format!("Services\\Tcpip\\Parameters\\Interfaces\\{}", id.to_lowercase());
            if addresses.is_empty() {
                keys.push(at(&path, &[("EnableDHCP", 1.into())]));
                continue;
            }
            let (own, masks): (Vec<&str>, Vec<&str>) = addresses.iter().copied().unzip();
            let mut values = vec![("EnableDHCP", 0.into()), ("IPAddress", texts(&own)), ("SubnetMask", texts(&masks))];
            if name == "Ethernet0" {
                values.push(("DefaultGateway", texts(&["192.0.2.1"])));
                values.push(("DefaultGatewayMetric", texts(&["7"])));
                values.push(("NameServer", "192.0.2.2,192.0.2.3".into()));
                values.push(("Domain", "tides.example".into()));
                values.push(("InterfaceMetric", 15.into()));
            }
            keys.push(at(&path, &values));
        }
    }

    /// The driver database of what comes with it.
    pub(super) fn database(&self, keys: &mut Keys) {
        keys.push(key("DriverDatabase", &[("Architecture", 9.into()), ("OemInfMap", Given::Bytes(vec![0x80]))]));
        for (name, _, inf, class, ids) in self.services() {
            let package = format!("{}_amd64_{:016x}", inf, name.len() * 7919);
            let at = |path: &str, values: &[(&str, Given)]| key(&format!("DriverDatabase\\{path}"), values);
            let section = format!("{name}_Inst");
            for id in &ids {
                keys.push(at(&format!("DeviceIds\\{id}"), &[(inf.as_str(), Given::Bytes(vec![1, 0xff, 0, 0]))]));
                let descriptor = format!("DriverPackages\\{package}\\Descriptors\\{id}");
                keys.push(at(&descriptor, &[("Configuration", section.as_str().into())]));
            }
            let of_class = format!("DeviceIds\\{class}");
            let is_there = |(path, values): &(String, Vec<(String, Given)>)| {
                *path == format!("DriverDatabase\\{of_class}") && values.iter().any(|(name, _)| *name == inf)
            };
            if !keys.iter().any(is_there) {
                keys.push(at(&of_class, &[(inf.as_str(), Given::Bytes(Vec::new()))]));
            }
            // Several services of one file share its package.
            let files = format!("DriverDatabase\\DriverInfFiles\\{inf}");
            let package = match keys.iter().find(|(path, _)| *path == files) {
                Some((_, values)) => match &values[0].1 {
                    Given::Text(first) => first.clone(),
                    _ => package,
                },
                None => {
                    keys.push(key(&files, &[("Active", package.as_str().into()), ("", texts(&[&package]))]));
                    keys.push(at(
                        &format!("DriverPackages\\{package}"),
                        &[
                            ("", inf.as_str().into()),
                            ("InfName", inf.as_str().into()),
                            ("Version", Given::Bytes(version(class))),
                        ],
                    ));
                    package
                }
            };
            for id in &ids {
                let descriptor = format!("DriverPackages\\{package}\\Descriptors\\{id}");
                if !keys.iter().any(|(path, _)| *path == format!("DriverDatabase\\{descriptor}")) {
                    keys.push(at(&descriptor, &[("Configuration", section.as_str().into())]));
                }
            }
            keys.push(at(
                &format!("DriverPackages\\{package}\\Configurations\\{section}"),
                &[("Service", name.as_str().into()), ("ConfigScope", 7.into()), ("ConfigFlags", 0.into())],
            ));
        }
    }

    /// `SOFTWARE`.
    pub fn software(&self) -> Vec<u8> {
        let (build_number, shown) = match self.version {
            (6, 1) => ("7601", "6.1"),
            (6, _) => ("9600", "6.3"),
            _ => ("20348", "6.3"),
        };
        let mut values: Vec<(&str, Given)> = vec![
            ("ProductName", (if self.is_server { "Windows Server" } else { "Windows" }).into()),
            ("InstallationType", (if self.is_server { "Server" } else { "Client" }).into()),
            ("CurrentVersion", shown.into()),
            ("CurrentBuild", build_number.into()),
            ("CurrentBuildNumber", build_number.into()),
            ("SystemRoot", "C:\\Windows".into()),
        ];
        if self.version.0 >= 10 {
            values.extend([("CurrentMajorVersionNumber", 10.into()), ("CurrentMinorVersionNumber", 0.into())]);
        }
        let run = "\"C:\\Program Files\\Host\\vmtoolsd.exe\" -n vmusr";
        let own = "C:\\Tide\\gauge.exe";
        build(
            5,
            &[
                key("Microsoft\\Windows NT\\CurrentVersion", &values),
                key("Microsoft\\Windows\\CurrentVersion\\Run", &[("Tray", run.into()), ("Gauge", own.into())]),
            ],
        )
    }

    /// The boot store, for the partition `partition` of the GPT disk `disk`, or the one at `start` of the disk with this signature.
    pub fn boot_store(&self, place: &Given) -> Vec<u8> {
        let loader = if self.uefi { "\\Windows\\system32\\winload.efi" } else { "\\Windows\\system32\\winload.exe" };
        boot_store_of(place, loader)
    }

    /// Its files beside its hives: paths and bytes.
    pub fn files(&self) -> Vec<(String, Vec<u8>)> {
        let own = program(0x8664, true);
        let mut names: Vec<String> = ["ntoskrnl.exe", "winload.exe", "winload.efi"].map(Into::into).to_vec();
        names.extend(["disk", "partmgr", "vsepflt", "e1i65x64"].map(|name| format!("drivers/{name}.sys")));
        names.extend(self.services().into_iter().map(|(name, ..)| format!("drivers/{name}.sys")));
        let mut files: Vec<(String, Vec<u8>)> =
            names.into_iter().map(|name| (format!("/Windows/System32/{name}"), own.clone())).collect();
        files.push(("/Windows/INF/oem0.inf".into(), b"[Version]\r\nSignature=\"$Windows NT$\"\r\n".to_vec()));
        files.push(("/Users/Public/tides.txt".into(), b"High water at noon.\n".to_vec()));
        files
    }
}

/// What the database keeps of a driver's class and processor.
fn version(class: &str) -> Vec<u8> {
    let mut bytes = vec![0; 48];
    bytes[..4].copy_from_slice(&[0, 0xff, 9, 0]);
    let digits: String = class.chars().filter(char::is_ascii_hexdigit).collect();
    for (index, pair) in digits.as_bytes().chunks(2).enumerate() {
        let byte = u8::from_str_radix(std::str::from_utf8(pair).unwrap_or("0"), 16).unwrap_or(0);
        // The first three fields lie with their lowest byte first.
        let place = [3, 2, 1, 0, 5, 4, 7, 6, 8, 9, 10, 11, 12, 13, 14, 15][index];
        bytes[8 + place] = byte;
    }
    bytes
}
