//! Three generations, servers and clients, both kinds of firmware, four kinds of controllers, to every destination.

use std::fs;

use reformis_machine::ControllerKind;
use reformis_move::{
    Error,
    brief::{FirmwareKind, NewGuest},
    change::{RefitOptions, refit},
    recast::Recast,
};
use reformis_standin::{
    hives, ntfs_check,
    windows::{Made, Source, judge},
};

use super::guests::{CONFIG, Lying, disk, medium, ready};
use crate::{
    common::{Place, run},
    recasts::options,
};

/// Identities of the device on each controller, the likeliest first, as a system asks for them.
fn ids(controller: &str) -> Vec<String> {
    let ids: &[&str] = match controller {
        "virtio-scsi" => &["PCI\\VEN_1AF4&DEV_1048&SUBSYS_11001AF4&REV_01", "PCI\\VEN_1AF4&DEV_1048"],
        "virtio-blk" => &["PCI\\VEN_1AF4&DEV_1042&SUBSYS_11001AF4&REV_01", "PCI\\VEN_1AF4&DEV_1042"],
        "ahci" => &["PCI\\VEN_8086&DEV_2922", "PCI\\CC_010601", "PCI\\CC_0106"],
        "nvme" => &["PCI\\VEN_1B36&DEV_0010", "PCI\\CC_010802", "PCI\\CC_0108"],
        "pvscsi" => &["PCI\\VEN_15AD&DEV_07C0"],
        "vmbus-scsi" => &["VMBUS\\{ba6163d9-04a1-4d29-b605-72e2ffb1dc7f}"],
        "ide" => &["PCI\\VEN_8086&DEV_7111"],
        other => panic!("{other}"),
    };
    ids.iter().map(ToString::to_string).collect()
}

pub(crate) fn ready_for(
    place: &Place,
    source: &str,
    result: &str,
    to: &str,
    on: &str,
    drivers: &[String],
) -> Result<Recast, Error> {
    let controller = ControllerKind::ALL.iter().copied().find(|kind| kind.name() == on);
    let mut recast = options(place, source, result);
    recast.receipt = Some(place.path(&format!("{result}.json")));
    let options = RefitOptions {
        recast,
        destination: to.into(),
        site: place.site.clone(),
        controller,
        adapter: None,
        firmware: None::<FirmwareKind>,
        mac: Some("02:5a:17:00:00:01".parse().unwrap()),
        guest: NewGuest { drivers: drivers.to_vec(), ..NewGuest::default() },
        accept: Vec::new(),
    };
    run(|context| refit(&options, context))
}

/// Whether a system has, or finds on the medium, a driver for a controller.
fn is_driven(made: &Made, controller: &str) -> bool {
    match controller {
        "pvscsi" => made.source == Source::Paravirtual,
        "nvme" => made.version > (6, 1) || made.source == Source::Nvme,
        "lsi" => false,
        _ => true,
    }
}

const ALL: [(&str, &[&str], &[&str]); 7] = [
    ("virtio-host", &["virtio-scsi", "virtio-blk", "ahci"], &["virtio-scsi", "virtio-blk", "ahci"]),
    ("vmx-host", &["pvscsi", "ahci"], &["pvscsi", "ahci", "nvme"]),
    ("vdi-host", &["ahci", "virtio-scsi"], &["ahci", "virtio-scsi"]),
    ("vmbus-host", &["ide"], &["vmbus-scsi"]),
    ("virtio-cloud", &["virtio-scsi", "virtio-blk"], &["virtio-scsi", "virtio-blk"]),
    ("nvme-cloud", &["nvme"], &["nvme"]),
    ("vmbus-cloud", &["vmbus-scsi"], &["vmbus-scsi"]),
];

/// Keys below which a system made ready may differ, in small letters.
const KEYS: [&str; 12] = [
    "\\services\\",
    "\\control\\criticaldevicedatabase",
    "\\control\\class\\{4d36e967-e325-11ce-bfc1-08002be10318}: lowerfilters",
    "\\control\\network\\{4d36e972-e325-11ce-bfc1-08002be10318}\\{5a170000-0000-4000-8000-0000000000a1}\\connection: name",
    "driverdatabase: oeminfmap",
    "driverdatabase\\deviceids\\pci\\ven_1af4",
    "driverdatabase\\deviceids\\{4d36e97b",
    "driverdatabase\\driverinffiles\\oem",
    "driverdatabase\\driverpackages\\tidescsi.inf_amd64_",
    "driverdatabase\\driverpackages\\tideblk.inf_amd64_",
    "\\control\\timezoneinformation",
    "driverdatabase\\deviceids",
];

/// Paths at which its files may.
const PATHS: [&str; 7] = [
    "/Windows/Reformis/",
    "/Windows/INF/oem",
    "/Windows/System32/drivers/tide",
    "/Windows/System32/DriverStore/FileRepository/tide",
    "/Windows/System32/CatRoot/{F750E6C3-38EE-11D1-85E5-00C04FC295EE}/oem",
    "/Windows/System32/config/SYSTEM",
    "/Windows/System32/config/SOFTWARE",
];

/// Destinations at which a second time is tried: a driver put in, one of the system's own, and a bus of its own.
const TWICE: [&str; 3] = ["virtio-host", "nvme-cloud", "vmbus-host"];

/// Whether every controller is tried for a system.
fn has_all_tried(made: &Made) -> bool {
    let all = [((6, 1), Source::Ahci), ((6, 3), Source::Sas), ((10, 0), Source::Paravirtual), ((10, 0), Source::Ahci)];
    all.contains(&(made.version, made.source))
}

fn one(made: &Made) {
    let place = Place::of("x");
    disk(&place, "desk.img", made, |_| {});
    let drivers = [medium(&place, "drivers", |_, bytes| Some(bytes))];
    let before = Lying::on(&place, "desk.img");
    let registry = hives::read(&before.read(&format!("{CONFIG}/SYSTEM")).unwrap());
    let old_files = before.files();
    for (destination, of_bios, of_uefi) in ALL {
        let controllers = if made.uefi { of_uefi } else { of_bios };
        // Of most systems, what is proposed there; of some, each controller that is offered.
        let tried = if has_all_tried(made) { controllers.len() } else { 1 };
        for (index, controller) in controllers.iter().enumerate().take(tried) {
            let case = format!("{made:?} to {destination} on {controller}");
            let result = ready_for(&place, "desk.img", "ready.qcow2", destination, controller, &drivers);
            if !is_driven(made, controller) {
                let Err(Error::Refused { findings }) = result else { panic!("{case}: {:?}", result.map(drop)) };
                assert!(findings.iter().any(|finding| finding.code() == "will-not-boot"), "{case}: {findings:?}");
                assert!(!place.path("ready.qcow2").exists() && !place.path("ready.qcow2.json").exists());
                continue;
            }
            let recast = result.unwrap_or_else(|error| panic!("{case}: {error}"));
            let verdict = recast.verdict.unwrap().to_string();
            assert!(verdict.starts_with(&format!("Boots on {destination}: yes")), "{case}: {verdict}");
            judged(&place, made, controllers, &registry, &old_files, &case);
            let mut made_here = vec!["ready.qcow2"];
            // A second time there is nothing left to do.
            if index == 0 && TWICE.contains(&destination) {
                made_here.push("again.qcow2");
                let again = ready_for(&place, "ready.qcow2", "again.qcow2", destination, controller, &drivers).unwrap();
                let json = serde_json::to_value(&again).unwrap();
                assert_eq!(json["guest"]["edits"], serde_json::json!([]), "{case}");
                assert!(
                    fs::read(place.path("ready.qcow2")).unwrap() == fs::read(place.path("again.qcow2")).unwrap(),
                    "{case}"
                );
            }
            for name in made_here {
                fs::remove_file(place.path(name)).unwrap();
                fs::remove_file(place.path(&format!("{name}.json"))).unwrap();
            }
        }
    }
}

/// Judges what was made: by the rules of the start, by readers of the registry and of the file system, and by what may differ.
fn judged(
    place: &Place,
    made: &Made,
    controllers: &[&str],
    registry: &hives::Keys,
    old_files: &std::collections::BTreeMap<String, Vec<u8>>,
    case: &str,
) {
    let after = Lying::on(place, "ready.qcow2");
    let bytes = after.read(&format!("{CONFIG}/SYSTEM")).unwrap();
    assert_eq!(hives::check(&bytes), Vec::<String>::new(), "{case}");
    assert_eq!(ntfs_check::check(&after.volume()), Vec::<String>::new(), "{case}");
    let system = hives::read(&bytes);
    // Every controller that the machine may be given there, in both sets that it may start with.
    for controller in controllers.iter().filter(|controller| is_driven(made, controller)) {
        for set in ["ControlSet001", "ControlSet002"] {
            let faults = judge(&system, set, made.version, &ids(controller), &|path| after.read(path));
            assert_eq!(faults, Vec::<String>::new(), "{case}: {controller} in {set}");
        }
    }
    let differs = system.changes(registry);
    let strange: Vec<&String> = differs.iter().filter(|line| !KEYS.iter().any(|key| line.contains(key))).collect();
    assert!(strange.is_empty(), "{case}: {strange:#?}");
    let files = after.files();
    for (path, bytes) in old_files {
        let is_ours = PATHS.iter().any(|start| path.starts_with(start));
        if path == "/Boot/BCD" && case.contains("-cloud") {
            check_store(bytes, &files[path], case);
            continue;
        }
        assert!(is_ours || files.get(path) == Some(bytes), "{case}: {path}");
    }
    for path in files.keys().filter(|path| !old_files.contains_key(*path)) {
        assert!(PATHS.iter().any(|start| path.starts_with(start)), "{case}: {path}");
    }
}

/// In a cloud with a serial port, the loader and the system answer there: nothing else of the store is another.
fn check_store(old: &[u8], new: &[u8], case: &str) {
    const ELEMENTS: [&str; 4] = ["\\15000022", "\\15000023", "\\16000020", "\\260000b0"];
    assert_eq!(hives::check(new), Vec::<String>::new(), "{case}");
    let differs = hives::read(new).changes(&hives::read(old));
    assert!(!differs.is_empty(), "{case}: nobody answers");
    let strange: Vec<&String> = differs.iter().filter(|line| !ELEMENTS.iter().any(|key| line.contains(key))).collect();
    assert!(strange.is_empty(), "{case}: {strange:#?}");
}

macro_rules! systems {
    ($($name:ident: $version:expr, $is_server:expr, $uefi:expr, $source:ident;)*) => {$(
        #[test]
        fn $name() {
            if ready() {
                one(&Made { version: $version, is_server: $is_server, uefi: $uefi, source: Source::$source });
            }
        }
    )*};
}

// Every pair of a generation with a role, a firmware and a source is among them.
systems! {
    v6_1_server_bios_sas: (6, 1), true, false, Sas;
    v6_1_client_uefi_ahci: (6, 1), false, true, Ahci;
    v6_1_client_bios_paravirtual: (6, 1), false, false, Paravirtual;
    v6_1_server_uefi_nvme: (6, 1), true, true, Nvme;
    v6_3_client_bios_ahci: (6, 3), false, false, Ahci;
    v6_3_server_uefi_sas: (6, 3), true, true, Sas;
    v6_3_server_bios_nvme: (6, 3), true, false, Nvme;
    v6_3_client_uefi_paravirtual: (6, 3), false, true, Paravirtual;
    v10_0_server_uefi_paravirtual: (10, 0), true, true, Paravirtual;
    v10_0_client_bios_sas: (10, 0), false, false, Sas;
    v10_0_server_bios_ahci: (10, 0), true, false, Ahci;
    v10_0_client_uefi_nvme: (10, 0), false, true, Nvme;
}
