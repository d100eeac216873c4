//! What a made-up Windows server keeps in its registry and its boot store: the harbour's desk `berths`.

mod made;
mod start;

pub use made::{ADAPTERS as MADE_ADAPTERS, Made, Source};
pub use start::judge;

use crate::hives::{Given, build};

/// A hive's keys by their paths, each with its values.
type Keys = Vec<(String, Vec<(String, Given)>)>;

fn key(path: &str, values: &[(&str, Given)]) -> (String, Vec<(String, Given)>) {
    (path.into(), values.iter().map(|(name, given)| ((*name).to_string(), given.clone())).collect())
}

fn texts(all: &[&str]) -> Given {
    Given::Texts(all.iter().map(|text| (*text).to_string()).collect())
}

/// A time in seconds since 1970 as the registry keeps it.
fn time(seconds: u64) -> Given {
    Given::Bytes(((seconds + 11_644_473_600) * 10_000_000).to_le_bytes().into())
}

const SET: &str = "ControlSet001";
const ADAPTERS: &str = "{4d36e972-e325-11ce-bfc1-08002be10318}";
const INSTANCE: &str = "PCI\\VEN_15AD&DEV_07B0&SUBSYS_07B015AD&REV_01\\0250170000410000";
const ADAPTER: &str = "{5A170000-0000-4000-8000-0000000000A1}";

/// `SYSTEM` of a server of version 10.0 whose files are on the partition `partition`, by its bytes as they lie on a disk.
pub fn system(partition: [u8; 16]) -> Vec<u8> {
    let at = |path: &str, values: &[(&str, Given)]| key(&format!("{SET}\\{path}"), values);
    let mounted = [&b"DMIO:ID:"[..], &partition].concat();
    let mut keys: Keys = vec![
        key(
            "Select",
            &[("Current", 1.into()), ("Default", 1.into()), ("Failed", 0.into()), ("LastKnownGood", 1.into())],
        ),
        key("MountedDevices", &[("\\DosDevices\\C:", Given::Bytes(mounted))]),
        key("Setup", &[("SetupType", 0.into()), ("SystemSetupInProgress", 0.into())]),
        at("Control\\ComputerName\\ComputerName", &[("ComputerName", "BERTHS".into())]),
        at("Control\\Session Manager\\Environment", &[("PROCESSOR_ARCHITECTURE", "AMD64".into())]),
        at("Control\\Session Manager\\Power", &[("HiberbootEnabled", 0.into())]),
        at("Control\\TimeZoneInformation", &[("TimeZoneKeyName", "GMT Standard Time".into())]),
        at("Control\\Windows", &[("ShutdownTime", time(1_772_323_200))]),
        at(
            &format!("Control\\Class\\{ADAPTERS}\\0001"),
            &[
                ("DriverDesc", "Paravirtual adapter".into()),
                ("NetCfgInstanceId", ADAPTER.into()),
                ("DeviceInstanceID", INSTANCE.into()),
            ],
        ),
        at(&format!("Enum\\{INSTANCE}"), &[("ClassGUID", ADAPTERS.into())]),
        at(
            &format!("Control\\Network\\{ADAPTERS}\\{ADAPTER}\\Connection"),
            &[("Name", "Quay".into()), ("PnPInstanceId", INSTANCE.into())],
        ),
        at(
            "Control\\ServiceGroupOrder",
            &[("List", texts(&["Boot Bus Extender", "System Bus Extender", "SCSI miniport", "Primary Disk", "Base"]))],
        ),
        at("Control\\ProductOptions", &[("ProductType", "ServerNT".into())]),
        at("Services\\VMTools", &[("Type", 0x10.into()), ("Start", 2.into()), ("ErrorControl", 1.into())]),
        at(
            &format!("Control\\NetworkSetup2\\Interfaces\\{ADAPTER}\\Kernel"),
            &[("PermanentAddress", Given::Bytes(vec![0x02, 0x5a, 0x17, 0, 0, 0x41]))],
        ),
        at(
            &format!("Services\\Tcpip\\Parameters\\Interfaces\\{}", ADAPTER.to_lowercase()),
            &[
                ("EnableDHCP", 0.into()),
                ("IPAddress", texts(&["192.0.2.41"])),
                ("SubnetMask", texts(&["255.255.255.0"])),
                ("DefaultGateway", texts(&["192.0.2.1"])),
                ("NameServer", "192.0.2.2,192.0.2.3".into()),
            ],
        ),
    ];
    for (name, start, group) in [
        ("disk", 0, ""),
        ("LSI_SAS", 0, "SCSI Miniport"),
        ("storahci", 0, "SCSI Miniport"),
        ("stornvme", 0, "SCSI Miniport"),
        ("storvsc", 0, "Base"),
        ("vmbus", 0, "System Bus Extender"),
        ("vmxnet3ndis6", 3, "NDIS"),
    ] {
        let image = Given::Expand(format!("System32\\drivers\\{name}.sys"));
        let values = [("Type", 1.into()), ("Start", start.into()), ("ErrorControl", 3.into()), ("Group", group.into())];
        keys.push(at(&format!("Services\\{name}"), &[&values[..], &[("ImagePath", image)]].concat()));
    }
    keys.push(at("Services\\storvsc\\StartOverride", &[("0", 3.into())]));
    for name in ["vmicheartbeat", "vmicshutdown"] {
        keys.push(at(&format!("Services\\{name}"), &[("Type", 0x20.into()), ("Start", 3.into())]));
    }
    let generation = Made { version: (10, 0), is_server: true, uefi: true, source: Source::Sas };
    generation.database(&mut keys);
    build(5, &keys)
}

/// `SOFTWARE` of the same server.
pub fn software() -> Vec<u8> {
    let version = [
        ("ProductName", "Windows Server 2022 Standard".into()),
        ("EditionID", "ServerStandard".into()),
        ("InstallationType", "Server".into()),
        ("CurrentVersion", "6.3".into()),
        ("CurrentBuild", "20348".into()),
        ("CurrentBuildNumber", "20348".into()),
        ("CurrentMajorVersionNumber", 10.into()),
        ("CurrentMinorVersionNumber", 0.into()),
        ("UBR", 2340.into()),
        ("DisplayVersion", "21H2".into()),
        ("SystemRoot", "C:\\Windows".into()),
    ];
    build(
        5,
        &[key("Microsoft\\Windows NT\\CurrentVersion", &version), key("Saltmarsh\\Berths", &[("Berths", 14.into())])],
    )
}

/// The device of a boot store's element: the partition `partition` of the GPT disk `disk`.
pub fn on_gpt(partition: [u8; 16], disk: [u8; 16]) -> Given {
    device(0, &partition, &disk)
}

/// The same for the partition that begins at byte `start` of the disk with an MBR and this signature.
pub fn on_mbr(start: u64, signature: u32) -> Given {
    let (mut partition, mut disk) = ([0; 16], [0; 16]);
    partition[..8].copy_from_slice(&start.to_le_bytes());
    disk[..4].copy_from_slice(&signature.to_le_bytes());
    device(1, &partition, &disk)
}

fn device(kind: u32, partition: &[u8; 16], disk: &[u8; 16]) -> Given {
    let mut device = vec![0; 16];
    for word in [6_u32, 0, 0x48, 0] {
        device.extend(word.to_le_bytes());
    }
    device.extend(partition);
    device.extend([0; 4]);
    device.extend(kind.to_le_bytes());
    device.extend(disk);
    device.resize(16 + 0x48, 0);
    Given::Bytes(device)
}

/// Its boot store, which starts the system on that partition of the disk `disk`.
pub fn boot_store(partition: [u8; 16], disk: [u8; 16]) -> Vec<u8> {
    boot_store_of(&on_gpt(partition, disk), "\\Windows\\system32\\winload.efi")
}

fn boot_store_of(device: &Given, loader: &str) -> Vec<u8> {
    const MANAGER: &str = "Objects\\{9dea862c-5cdd-4e70-acc1-f32b344d4795}";
    const LOADER: &str = "{5a170000-0000-4000-8000-0000000000b1}";
    let object = format!("Objects\\{LOADER}");
    let element = |number: &str, given: Given| key(&format!("{object}\\Elements\\{number}"), &[("Element", given)]);
    build(
        3,
        &[
            key("Description", &[("KeyName", "BCD00000000".into())]),
            key(&format!("{MANAGER}\\Description"), &[("Type", 0x1010_0002.into())]),
            key(&format!("{MANAGER}\\Elements\\23000003"), &[("Element", LOADER.into())]),
            key(&format!("{object}\\Description"), &[("Type", 0x1020_0003.into())]),
            element("11000001", device.clone()),
            element("12000002", loader.into()),
            element("12000004", "Windows Server".into()),
            element("21000001", device.clone()),
            element("22000002", "\\Windows".into()),
        ],
    )
}
