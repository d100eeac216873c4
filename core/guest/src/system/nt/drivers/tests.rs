use std::fs;

use reformis_standin::driver;
use tempfile::TempDir;

use super::{package::Copied, *};

const SCSI: &str = "PCI\\VEN_1AF4&DEV_1048&SUBSYS_11001AF4&REV_01&CC_010000";

fn target(machine: &'static str, version: (u32, u32)) -> Target {
    Target { machine, version, build: 20348, product: 3 }
}

/// The made-up medium in a folder, with what `change` makes of each file's text.
fn folder(change: impl Fn(&str, Vec<u8>) -> Option<Vec<u8>>) -> (TempDir, Library) {
    let folder = TempDir::new().unwrap();
    for (path, bytes) in driver::medium() {
        let Some(bytes) = change(&path, bytes) else { continue };
        let place = folder.path().join(path);
        fs::create_dir_all(place.parent().unwrap()).unwrap();
        fs::write(place, bytes).unwrap();
    }
    let budget = Budget::whole();
    let medium = Medium::open(folder.path(), &budget).unwrap();
    (folder, Library::read(vec![medium], &budget).unwrap())
}

fn chosen(library: &Library, target: &Target) -> (Option<String>, Vec<String>) {
    let (choice, why) = library.choose(&device_ids(SCSI), target);
    (choice.map(|choice| choice.package.path.clone()), why)
}

#[test]
fn the_driver_of_this_system_is_chosen_and_it_is_said_why_not_the_others() {
    let (_folder, library) = folder(|_, bytes| Some(bytes));
    assert!(library.unread.is_empty(), "{:?}", library.unread);
    let of = |machine, version| chosen(&library, &target(machine, version));
    let (path, why) = of("amd64", (10, 0));
    assert_eq!(path.as_deref(), Some("tidescsi/2k22/amd64/tidescsi.inf"));
    let about = |folder: &str| why.iter().find(|line| line.contains(folder)).unwrap();
    assert!(about("2k22/x86").ends_with("another one is as new, and closer to this system or before it on the medium"));
    assert!(about("2k8R2/amd64").ends_with("another one is newer"), "{why:?}");
    assert_eq!(of("amd64", (6, 3)).0.as_deref(), Some("tidescsi/2k8R2/amd64/tidescsi.inf"));
    assert!(of("amd64", (6, 3)).1.iter().any(|line| line.ends_with("it is for version 10.0 and later")));
    assert_eq!(of("x86", (6, 1)).0.as_deref(), Some("tidescsi/2k8R2/x86/tidescsi.inf"));
    assert!(of("x86", (10, 0)).1.iter().any(|line| line.ends_with("tidescsi.sys is for amd64")));
    let (none, why) = of("arm64", (10, 0));
    assert!(none.is_none() && why.len() == 4 && why[0].ends_with("it is for amd64"), "{why:?}");
    let (none, why) = library.choose(&device_ids("PCI\\VEN_15AD&DEV_07C0"), &target("amd64", (10, 0)));
    assert!(none.is_none() && why.is_empty(), "{why:?}");
}

#[test]
fn what_is_installed_is_what_the_file_says() {
    let (_folder, library) = folder(|_, bytes| Some(bytes));
    let (choice, _) = library.choose(&device_ids(SCSI), &target("amd64", (10, 0)));
    let choice = choice.unwrap();
    let service = choice.install.service.as_ref().unwrap();
    assert_eq!(
        (service.name.as_str(), service.start, service.group.as_deref()),
        ("tidescsi", 0, Some("SCSI miniport"))
    );
    assert_eq!(
        (service.display.as_deref(), service.binary.as_str()),
        (Some("Tide driver tidescsi"), "%12%\\tidescsi.sys")
    );
    let setting = |key: &str, name: &str, number| Setting {
        key: key.into(),
        name: name.into(),
        data: Some(crate::formats::hive::Data::Number(number)),
    };
    assert_eq!(service.settings, [setting("Parameters\\PnpInterface", "5", 1), setting("Parameters", "BusType", 10)]);
    let interrupts = "Interrupt Management\\MessageSignaledInterruptProperties";
    assert_eq!(choice.install.device, [setting(interrupts, "MSISupported", 1)]);
    let copied =
        Copied { source: "tidescsi.sys".into(), folder: 12, below: String::new(), name: "tidescsi.sys".into() };
    assert_eq!(choice.install.files, [copied]);
    assert_eq!(choice.model.maker, "%Tide%");
    assert_eq!((choice.package.provider.as_str(), choice.package.date), ("Saltmarsh \"Tide\" Works", (2024, 6, 21)));
    assert_eq!(choice.signature, Some("a catalogue"));
    let offers = library.offers();
    assert_eq!(offers.len(), 16);
    assert_eq!(offers[0].systems, ["amd64 from 10.0", "x86 from 10.0"]);
}

/// What is signed by nobody, damaged, or in the wrong place.
#[test]
fn what_would_not_be_loaded_is_not_taken() {
    let unsigned = |path: &str, bytes: Vec<u8>| match path.rsplit_once('.').unwrap().1 {
        "cat" => None,
        "sys" if path.contains("amd64") => Some(driver::program(0x8664, false)),
        _ => Some(bytes),
    };
    let (_folder, library) = folder(unsigned);
    let (none, why) = chosen(&library, &target("amd64", (10, 0)));
    assert!(none.is_none() && why.iter().any(|line| line.contains("neither a certificate nor a catalogue")), "{why:?}");
    let (_folder, library) = folder(|path, mut bytes| {
        if path.ends_with(".sys") {
            bytes[0x210] = 7;
        }
        Some(bytes)
    });
    let (none, why) = chosen(&library, &target("amd64", (10, 0)));
    assert!(none.is_none() && why.iter().any(|line| line.contains("checksum of tidescsi.sys is wrong")), "{why:?}");
    let (_folder, library) = folder(|path, bytes| (!path.ends_with(".sys")).then_some(bytes));
    let (none, why) = chosen(&library, &target("amd64", (10, 0)));
    assert!(none.is_none() && why.iter().any(|line| line.contains("tidescsi.sys is not on")), "{why:?}");
}

/// Names that a file gives to files, folders and services stay in the guest's own.
#[test]
fn names_of_a_file_cannot_lead_out_of_their_folders() {
    let text = |files: &str, dirs: &str, disk: &str, service: &str| {
        format!(
            "[Version]\nSignature=$Windows NT$\nClass=SCSIAdapter\n[Manufacturer]\nx=M,NTamd64\n[M.NTamd64]\ny=I,PCI\\VEN_1AF4&DEV_1048\n\
             [I]\nCopyFiles={files}\n[list]\n..\\..\\evil.sys\n[DestinationDirs]\nDefaultDestDir={dirs}\n[SourceDisksNames]\n1=x,,,\n\
             [SourceDisksFiles]\nz.sys=1,{disk}\n[I.Services]\nAddService={service},2,S\n[S]\nServiceBinary=%12%\\z.sys\n"
        )
    };
    let read = |text: String| {
        let inf = Inf::read(text.as_bytes(), "x.inf", &Budget::whole()).unwrap();
        Package::of("x.inf", inf).unwrap().install("I", &target("amd64", (10, 0)))
    };
    let sound = read(text("@z.sys", "12,deep\\er", "a\\b", "z")).unwrap();
    assert_eq!((sound.files[0].source.as_str(), sound.files[0].below.as_str()), ("a/b/z.sys", "deep/er"));
    for (files, dirs, disk, service) in [
        ("list", "12", "", "z"),
        ("@..\\z.sys", "12", "", "z"),
        ("@z.sys", "12,..\\..", "", "z"),
        ("@z.sys", "12", "..\\up", "z"),
        ("@z.sys", "12", "", "..\\z"),
        ("@C:z.sys", "12", "", "z"),
    ] {
        assert!(read(text(files, dirs, disk, service)).is_err(), "{files} {dirs} {disk} {service}");
    }
}

/// Makers, systems, sections and settings that multiply: what is looked at has an end.
#[test]
fn a_file_whose_parts_multiply_is_read_to_an_end() {
    let makers = "m=S,NTamd64,NTamd64.6.1,NTamd64.10.0\n".repeat(20_000);
    let models = "d=I,PCI\\VEN_1AF4&DEV_1048\n".repeat(20_000);
    let again = format!("AddReg={}\nNeeds=I,J,I.NT\nCopyFiles=list,list,list\n", "R,".repeat(200));
    let text = format!(
        "[Version]\nSignature=$Windows NT$\n[Manufacturer]\n{makers}[S.NTamd64]\n{models}[S.NTamd64.10.0]\n{models}[I]\n{}[J]\n{again}\
         [I.HW]\n{again}[list]\nz.sys\n[R]\n{}",
        again.repeat(400),
        "HKLM,x\n".repeat(20_000)
    );
    let inf = Inf::read(text.as_bytes(), "x.inf", &Budget::whole()).unwrap();
    assert!(Package::of("x.inf", inf).err().unwrap().contains("name one another too often"));
    // What a package looks through to tell its identities is a part of that; what is asked of it later is counted on.
    let few = text.replace(&makers, "m=S,NTamd64,NTamd64.10.0\n");
    let inf = Inf::read(few.as_bytes(), "x.inf", &Budget::whole()).unwrap();
    let package = Package::of("x.inf", inf).unwrap();
    assert!(package.install("I", &target("amd64", (10, 0))).is_err());
}
