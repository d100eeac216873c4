//! Drivers that drive nothing: setup information files, program files with a right checksum, and catalogues, for a host with the
//! devices of the made-up vendor 1AF4 (which is what open virtual devices have).

fn put(bytes: &mut [u8], at: usize, value: &[u8]) {
    bytes[at..at + value.len()].copy_from_slice(value);
}

/// A program file for the processor `machine`, with a table of certificates that certifies nothing, or without one.
pub fn program(machine: u16, has_certificate: bool) -> Vec<u8> {
    let is_wide = machine != 0x014c;
    let mut bytes = vec![0; 0x400];
    put(&mut bytes, 0, b"MZ");
    put(&mut bytes, 0x3c, &0x80_u32.to_le_bytes());
    put(&mut bytes, 0x80, b"PE\0\0");
    put(&mut bytes, 0x84, &machine.to_le_bytes());
    put(&mut bytes, 0x86, &1_u16.to_le_bytes());
    let (optional, directories) = (0x98, if is_wide { 112 } else { 96 });
    put(&mut bytes, 0x94, &(directories as u16 + 16 * 8).to_le_bytes());
    put(&mut bytes, optional, &(if is_wide { 0x20b_u16 } else { 0x10b }).to_le_bytes());
    put(&mut bytes, optional + directories - 4, &16_u32.to_le_bytes());
    // Code that does nothing and goes back.
    put(&mut bytes, 0x200, &[0x31, 0xc0, 0xc3]);
    if has_certificate {
        put(&mut bytes, optional + directories + 32, &0x400_u32.to_le_bytes());
        put(&mut bytes, optional + directories + 36, &24_u32.to_le_bytes());
        bytes.extend(24_u32.to_le_bytes());
        bytes.extend([0, 2, 2, 0]);
        bytes.extend(b"NOT-SIGNED-TEST!");
    }
    let mut sum = 0_u32;
    for pair in bytes.chunks(2) {
        sum += u32::from(u16::from_le_bytes([pair[0], pair[1]]));
        sum = (sum & 0xffff) + (sum >> 16);
    }
    let len = bytes.len() as u32;
    put(&mut bytes, optional + 64, &(sum + len).to_le_bytes());
    bytes
}

/// A setup information file: what it is for, and which systems.
struct Inf {
    name: &'static str,
    class: (&'static str, &'static str),
    ids: &'static [&'static str],
    start: u32,
}

/// The class of controllers of disks, and that of adapters.
pub const SCSI: &str = "{4d36e97b-e325-11ce-bfc1-08002be10318}";
const NET: &str = "{4d36e972-e325-11ce-bfc1-08002be10318}";
const SYSTEM: &str = "{4d36e97d-e325-11ce-bfc1-08002be10318}";

const ALL: [Inf; 4] = [
    Inf {
        name: "tidescsi",
        class: ("SCSIAdapter", SCSI),
        ids: &[
            "PCI\\VEN_1AF4&DEV_1004&SUBSYS_00081AF4&REV_00",
            "PCI\\VEN_1AF4&DEV_1048&SUBSYS_11001AF4&REV_01",
            "PCI\\VEN_1AF4&DEV_1048",
        ],
        start: 0,
    },
    Inf {
        name: "tideblk",
        class: ("SCSIAdapter", SCSI),
        ids: &["PCI\\VEN_1AF4&DEV_1001&SUBSYS_00021AF4&REV_00", "PCI\\VEN_1AF4&DEV_1042&SUBSYS_11001AF4&REV_01"],
        start: 0,
    },
    Inf {
        name: "tidenet",
        class: ("Net", NET),
        ids: &["PCI\\VEN_1AF4&DEV_1000&SUBSYS_00011AF4&REV_00", "PCI\\VEN_1AF4&DEV_1041&SUBSYS_11001AF4&REV_01"],
        start: 3,
    },
    Inf {
        name: "tideballoon",
        class: ("System", SYSTEM),
        ids: &["PCI\\VEN_1AF4&DEV_1002&SUBSYS_00051AF4&REV_00", "PCI\\VEN_1AF4&DEV_1045&SUBSYS_11001AF4&REV_01"],
        start: 3,
    },
];

impl Inf {
    /// The file's text for systems from `version` on, such as `10.0`.
    fn text(&self, version: &str, release: &str) -> String {
        let Self { name, class: (class, guid), ids, start } = self;
        let models: String = ids.iter().map(|id| format!("%{name}.Desc% = {name}_inst, \\\r\n    {id}\r\n")).collect();
        let guid = guid.to_uppercase();
        let storage = if *start == 0 {
            format!(
                "[{name}_inst.NT.HW]\r\nAddReg = {name}_msi\r\n[{name}_msi]\r\n\
                 HKR, \"Interrupt Management\\MessageSignaledInterruptProperties\", MSISupported, %REG_DWORD%, 1\r\n"
            )
        } else {
            String::new()
        };
        let (group, params) = match start {
            0 => (
                "LoadOrderGroup = \"SCSI miniport\"\r\nAddReg = params\r\n",
                "[params]\r\nHKR, \"Parameters\\PnpInterface\", \"5\", %REG_DWORD%, 1\r\n\
                 HKR, Parameters, BusType, %REG_DWORD%, 0x0000000A\r\n",
            ),
            _ => ("", ""),
        };
        format!(
            "; drives nothing: made for tests\r\n[Version]\r\nSignature = \"$WINDOWS NT$\"\r\nClass = {class}\r\n\
             ClassGuid = {guid}\r\nProvider = %Tide%\r\nCatalogFile = {name}.cat\r\nDriverVer = 06/21/2024,1.2.{release}.4\r\n\
             [SourceDisksNames]\r\n1 = %Disk%,,,\r\n[SourceDisksFiles]\r\n{name}.sys = 1\r\n[DestinationDirs]\r\n\
             DefaultDestDir = 12\r\n[Manufacturer]\r\n%Tide% = Models, NTamd64.{version}, NTx86.{version}\r\n\
             [Models.NTamd64.{version}]\r\n{models}[Models.NTx86.{version}]\r\n{models}[{name}_inst.NT]\r\nCopyFiles = @{name}.sys\r\n\
             {storage}[{name}_inst.NT.Services]\r\nAddService = {name}, %ASSOCIATED%, {name}_svc\r\n[{name}_svc]\r\n\
             DisplayName = %{name}.Svc%\r\nServiceType = 1 ; a driver\r\nStartType = {start}\r\nErrorControl = 1\r\n{group}\
             ServiceBinary = %12%\\{name}.sys\r\n{params}[Strings]\r\nTide = \"Saltmarsh \"\"Tide\"\" Works\"\r\nDisk = \"Tide disk\"\r\n\
             {name}.Desc = \"Tide device, {class}\"\r\n{name}.Svc = \"Tide driver {name}\"\r\nASSOCIATED = 0x00000002\r\nREG_DWORD = 0x00010001\r\n"
        )
    }
}

/// The files of a medium: paths and bytes. Each driver is there for 6.1 and for 10.0 and for both processors, in an encoding of its
/// own, with an installer of an agent beside them.
pub fn medium() -> Vec<(String, Vec<u8>)> {
    let mut files = Vec::new();
    for (index, inf) in ALL.iter().enumerate() {
        for (folder, version, release) in [("2k8R2", "6.1", "61"), ("2k22", "10.0", "100")] {
            let text = inf.text(version, release);
            let units = |order: fn(u16) -> [u8; 2]| text.encode_utf16().flat_map(order).collect::<Vec<u8>>();
            let bytes = match (index + release.len()) % 4 {
                0 => [&[0xff, 0xfe][..], &units(u16::to_le_bytes)].concat(),
                1 => [&[0xef, 0xbb, 0xbf][..], text.as_bytes()].concat(),
                2 => [&[0xfe, 0xff][..], &units(u16::to_be_bytes)].concat(),
                _ => text.clone().into_bytes(),
            };
            for (processor, machine) in [("amd64", 0x8664), ("x86", 0x014c)] {
                let place = format!("{}/{folder}/{processor}/{}", inf.name, inf.name);
                files.push((format!("{place}.inf"), bytes.clone()));
                files.push((format!("{place}.sys"), program(machine, true)));
                files.push((format!("{place}.cat"), b"\x30\x05\x06\x03\x2a\x03\x04".to_vec()));
            }
        }
    }
    files.push((
        "agent/tide-agent-x64.msi".into(),
        b"\xd0\xcf\x11\xe0\xa1\xb1\x1a\xe1 an installer that installs nothing".to_vec(),
    ));
    files
}
