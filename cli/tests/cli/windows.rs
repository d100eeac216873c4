//! Windows guests: surveyed, looked into and patched from outside, on the demo's server `berths`.

use std::{os::unix::fs::FileExt, process::Command};

use reformis_standin::{hives, ntfs_check};

use crate::support::Place;

const BERTHS: &[u8] = include_bytes!("../../../demo/berths.vmdk");
/// Where the NTFS volume lies on the disk.
const VOLUME: usize = 17 << 20;

fn berths() -> Place {
    let place = Place::new();
    place.write("berths.vmdk", BERTHS);
    place
}

#[test]
fn a_survey_tells_what_the_system_is_and_is_set_to() {
    let place = berths();
    let text = place.run(&["survey", "berths.vmdk"]).expect(0).out;
    for told in [
        "System: Windows Server 2022 Standard 21H2",
        "10.0; build 20348.2340; ServerStandard; AMD64",
        "BERTHS",
        "GMT Standard Time",
        "2026-03-01 00:00 UTC",
        "yes, it was shut down fully",
        "\\Windows\\system32\\winload.efi on disk 1 partition 2, by default",
        "LSI_SAS; storahci; stornvme",
        "Quay (02:5a:17:00:00:41): 192.0.2.41/24, by 192.0.2.1",
        "vmicheartbeat; vmicshutdown",
    ] {
        assert!(text.contains(told), "{told}\n{text}");
    }
    let json = place.run(&["survey", "berths.vmdk", "--json"]).expect(0).json();
    let guest = &json["targets"][0]["guest"];
    assert_eq!(guest["unread"], serde_json::json!([]));
    let windows = &guest["systems"][0]["windows"];
    assert_eq!(windows["letters"], serde_json::json!([["C:", "disk 1 partition 2"]]));
    assert_eq!((&windows["boot_mode"], &windows["not_changeable"]), (&"UEFI".into(), &serde_json::Value::Null));
    let adapter = &windows["settings"]["adapters"][0];
    assert_eq!(adapter["name_servers"], serde_json::json!(["192.0.2.2", "192.0.2.3"]));
    let storvsc =
        windows["settings"]["drivers"].as_array().unwrap().iter().find(|driver| driver["service"] == "storvsc");
    assert_eq!(storvsc.unwrap()["starts_at_boot"], false, "an override takes it back");
    assert_eq!(windows["boot_entries"][0]["place"]["gpt"]["partition"], "5a170000-0000-4000-8000-000000000041");
}

#[test]
fn files_streams_and_keys_are_shown() {
    let place = berths();
    let out = |args: &[&str]| place.run(&[&["peek", "berths.vmdk"], args].concat()).expect(0).out;
    assert!(out(&["/windows/SYSTEM32/Drivers"]).contains("stornvme.sys"));
    assert!(out(&["c:/Harbour/berths.csv"]).starts_with("berth,length_m,near\n"), "a drive is its volume");
    let listed = out(&["/harbour", "--streams"]);
    assert!(
        listed.contains("tide tables 2026.txt:Zone.Identifier") && !out(&["/harbour"]).contains("Zone"),
        "{listed}"
    );
    assert_eq!(out(&["/HARBOUR/Tide Tables 2026.TXT:zone.identifier"]), "[ZoneTransfer]\r\nZoneId=3\r\n");
    let root = out(&["/"]);
    assert!(root.contains("pagefile.sys") && !root.contains("$MFT"), "the file system's own files are none: {root}");
    let select = out(&["--hive", "SYSTEM", "select"]);
    assert!(select.contains("LastKnownGood  dword  1 (0x1)"), "{select}");
    let keys = out(&["--hive", "system"]);
    assert!(keys.contains("ControlSet001") && keys.contains("MountedDevices"), "{keys}");
    let json = place.run(&["peek", "berths.vmdk", "--hive", "SYSTEM", r"CurrentControlSet\Services\disk", "--json"]);
    let key = &json.expect(0).json()["peek"]["key"];
    assert_eq!(key["key"], r"ControlSet001\Services\disk");
    let image = key["values"].as_array().unwrap().iter().find(|value| value["name"] == "ImagePath").unwrap();
    assert_eq!(
        image,
        &serde_json::json!({ "name": "ImagePath", "type": "expand", "data": r"System32\drivers\disk.sys" })
    );
    let store = out(&["--hive", "BCD", "Objects"]);
    assert!(store.contains("{9dea862c-5cdd-4e70-acc1-f32b344d4795}"), "{store}");
    let own = out(&["--hive", "/Windows/System32/config/SOFTWARE", r"Saltmarsh\Berths"]);
    assert!(own.contains("Berths  dword  14 (0xe)"), "{own}");
    let error = place.run(&["peek", "berths.vmdk", "--hive", "SYSTEM", "Nowhere"]).expect(1).err;
    assert!(error.contains("there is no Nowhere in SYSTEM in the guest"), "{error}");
    let error = place.run(&["peek", "berths.vmdk", "--hive", "/pagefile.sys"]).expect(1).err;
    assert!(error.contains("it is no registry hive"), "{error}");
}

#[test]
fn files_and_keys_are_changed_and_nothing_else() {
    let place = berths();
    place.write("tide.sys", b"MZ: a driver\n");
    let args = [
        "patch",
        "berths.vmdk",
        r"CurrentControlSet\Services\tide",
        "--put",
        "tide.sys:/windows/system32/DRIVERS/tide.sys",
        "--hive",
        "SYSTEM",
        "--set",
        "Start=dword:0",
        "--set",
        r"ImagePath=expand:System32\drivers\tide.sys",
        "--set",
        "=text:a tide gauge",
        "--set",
        "Owners=texts:tide.inf|gauge.inf",
        "--set",
        "Mask=hex:00 ff,10",
        "--out",
        "patched.raw",
        "--receipt",
        "receipt.json",
    ];
    let out = place.run(&args).expect(0).out;
    for told in [
        "/windows/system32/DRIVERS/tide.sys is put in from tide.sys",
        r"SYSTEM\ControlSet001\Services\tide is made",
        r"SYSTEM\ControlSet001\Services\tide: Start is 0 (0x0)",
        r"SYSTEM\ControlSet001\Services\tide: its own value is a tide gauge",
        r"SYSTEM\ControlSet001\Services\tide: Owners is tide.inf | gauge.inf",
    ] {
        assert!(out.contains(told), "{told}\n{out}");
    }
    assert!(
        std::fs::read_to_string(place.path("receipt.json"))
            .unwrap()
            .contains(r"ControlSet001\\Services\\tide: Mask is 00 ff 10")
    );
    let disk = std::fs::read(place.path("patched.raw")).unwrap();
    assert_eq!(ntfs_check::check(&disk[VOLUME..VOLUME + (1_011_712 << 9)]), Vec::<String>::new());
    let listed = place.run(&["peek", "patched.raw", "/Windows/System32/drivers"]).expect(0).out;
    assert!(listed.contains("tide.sys") && !listed.contains("DRIVERS"), "{listed}");
    let shown = place.run(&["peek", "patched.raw", "--hive", "SYSTEM", r"ControlSet001\Services\tide"]).expect(0).out;
    assert!(
        shown.contains("(its own)  text    a tide gauge") && shown.contains("Mask       hex     00 ff 10"),
        "{shown}"
    );
    let hive = Command::new(env!("CARGO_BIN_EXE_reformis"))
        .args(["peek", "patched.raw", "/Windows/System32/config/SYSTEM"])
        .current_dir(place.path("."))
        .output()
        .unwrap();
    assert_eq!(hives::check(&hive.stdout), Vec::<String>::new());
    // All else is as it was: the same files with the same bytes, but for the two.
    let archived = |disk: &str| {
        place.run(&["peek", disk, "/", "--tar", &format!("{disk}.tar")]).expect(0);
        let listed = Command::new("tar")
            .args(["-xOf", &format!("{disk}.tar"), "--exclude=*/config/SYSTEM", "--exclude=*/tide.sys"])
            .current_dir(place.path("."))
            .output()
            .unwrap();
        assert!(listed.status.success());
        listed.stdout
    };
    assert!(archived("berths.vmdk") == archived("patched.raw"));
    // And back: a value, then the key.
    let again = |args: &[&str]| {
        let args =
            [&["patch", "patched.raw", "--hive", "SYSTEM", r"ControlSet001\Services\tide"], args, &["--in-place"]]
                .concat();
        place.run(&args)
    };
    assert!(again(&["--unset", "mask"]).expect(0).out.contains("mask is removed, was 00 ff 10"));
    assert!(again(&["--unset", "mask"]).expect(1).err.contains("there is no value mask"));
    assert!(again(&["--remove-key"]).expect(0).out.contains("tide is removed"));
    place.run(&["peek", "patched.raw", "--hive", "SYSTEM", r"ControlSet001\Services\tide"]).expect(1);
}

/// The boot store lies on another volume, of another kind: it is changed there, and the survey reads what it says then.
#[test]
fn the_boot_store_is_changed_where_it_lies() {
    let place = berths();
    let element = r"Objects\{5a170000-0000-4000-8000-0000000000b1}\Elements\12000002";
    let loader = r"Element=text:\Windows\system32\boot\winload.efi";
    let args = ["patch", "berths.vmdk", "--hive", "bcd", element, "--set", loader, "--out", "patched.vhdx", "--json"];
    let json = place.run(&args).expect(0).json();
    let changes = json["recast"]["guest"]["edits"][0]["changes"].as_array().unwrap();
    assert!(
        changes.len() == 1 && changes[0].as_str().unwrap().contains("was \\Windows\\system32\\winload.efi, is"),
        "{changes:?}"
    );
    let survey = place.run(&["survey", "patched.vhdx"]).expect(0).out;
    assert!(survey.contains(r"\Windows\system32\boot\winload.efi on disk 1 partition 2, by default"), "{survey}");
    // Its system is not where the store says any more: the chain tells so.
    let element = r"Objects\{5a170000-0000-4000-8000-0000000000b1}\Elements\21000001";
    place.run(&["patch", "patched.vhdx", "--hive", "BCD", element, "--unset", "Element", "--in-place"]).expect(0);
    let other = format!("Element=hex:{}0600000000000000480000000000000011{}", "00".repeat(16), "00".repeat(71));
    let element = r"Objects\{5a170000-0000-4000-8000-0000000000b1}\Elements\11000001";
    place.run(&["patch", "patched.vhdx", "--hive", "BCD", element, "--set", &other, "--in-place"]).expect(0);
    let draft = place.run(&["draft", "patched.vhdx", "--dest", "virtio-host"]).expect(0).out;
    assert!(draft.contains("broken") && draft.contains("on a partition that is not there"), "{draft}");
}

/// A system that sleeps would wake on hardware that it does not know.
#[test]
fn a_sleeping_system_is_not_moved() {
    let place = berths();
    place.write("sleep", &b"HIBR".repeat(2000));
    place.write("awake", &b"wake".repeat(2000));
    let put = |file: &str, out: &str| {
        place.run(&["patch", "berths.vmdk", "--put", &format!("{file}:/hiberfil.sys"), "--out", out, "-q"]).expect(0);
        place.run(&["draft", out, "--dest", "virtio-host"]).expect(0).out
    };
    let (asleep, awake) = (put("sleep", "asleep.qcow2"), put("awake", "awake.qcow2"));
    assert!(asleep.contains("[hibernated]") && asleep.contains("holds a suspended system"), "{asleep}");
    assert!(!awake.contains("[hibernated]"), "{awake}");
    let survey = place.run(&["survey", "asleep.qcow2"]).expect(0).out;
    assert!(survey.contains("a system is kept asleep in it") && survey.contains("shutdown /s /t 0"), "{survey}");
    let error = place.run(&["patch", "asleep.qcow2", "--folder", "/x", "--out", "x.raw"]).expect(1).err;
    assert!(error.contains("a system is kept asleep on it"), "{error}");
}

#[test]
fn keys_go_out_as_text_and_come_back() {
    let place = berths();
    place
        .run(&["peek", "berths.vmdk", "--hive", "SYSTEM", r"CurrentControlSet\Services\Tcpip", "--reg", "tcpip.reg"])
        .expect(0);
    let bytes = std::fs::read(place.path("tcpip.reg")).unwrap();
    let text = String::from_utf16(
        &bytes.chunks_exact(2).map(|pair| u16::from_le_bytes([pair[0], pair[1]])).collect::<Vec<_>>(),
    )
    .unwrap();
    assert!(
        text.contains("\r\n[HKEY_LOCAL_MACHINE\\SYSTEM\\ControlSet001\\Services\\Tcpip\\Parameters]\r\n"),
        "{text}"
    );
    assert!(
        text.contains("\"NameServer\"=\"192.0.2.2,192.0.2.3\"") && text.contains("\"EnableDHCP\"=dword:00000000"),
        "{text}"
    );
    // Changed by hand, with more: one key goes, another one comes, in another hive too.
    let text = text.replace("192.0.2.3", "192.0.2.9")
        + "[-HKEY_LOCAL_MACHINE\\SYSTEM\\CurrentControlSet\\Services\\vmicshutdown]\r\n[-HKLM\\SYSTEM\\Nowhere]\r\n\
           [HKEY_LOCAL_MACHINE\\SOFTWARE\\Saltmarsh\\Gauges]\r\n@=\"four\"\r\n\"Old\"=-\r\n";
    place.write("changed.reg", text.as_bytes());
    let out = place.run(&["patch", "berths.vmdk", "--reg", "changed.reg", "--out", "patched.raw"]).expect(0).out;
    for told in [
        "NameServer was 192.0.2.2,192.0.2.3, is 192.0.2.2,192.0.2.9",
        r"SYSTEM\ControlSet001\Services\vmicshutdown is removed",
        r"SOFTWARE\Saltmarsh\Gauges: its own value is four",
    ] {
        assert!(out.contains(told), "{told}\n{out}");
    }
    assert!(!out.contains("EnableDHCP") && !out.contains("Nowhere"), "what is so already is no change: {out}");
    let survey = place.run(&["survey", "patched.raw"]).expect(0).out;
    assert!(survey.contains("192.0.2.9") && !survey.contains("vmicshutdown"), "{survey}");
    // The whole hive, and all of it back: nothing is changed by it.
    place.run(&["peek", "berths.vmdk", "--hive", "SOFTWARE", "--reg", "software.reg"]).expect(0);
    let out = place.run(&["patch", "berths.vmdk", "--reg", "software.reg", "--out", "same.raw"]).expect(0).out;
    assert!(!out.contains("SOFTWARE\\") && out.contains("Nothing had to be changed inside the guest"), "{out}");
    for (text, what) in [
        ("tide", "its first line is neither"),
        ("REGEDIT4\n[HKEY_CURRENT_USER\\Tide]\n", "name the hive of the user"),
        ("REGEDIT4\n[HKEY_DYN_DATA\\Tide]\n", "is in no hive that is known"),
    ] {
        place.write("wrong.reg", text.as_bytes());
        let error = place.run(&["patch", "berths.vmdk", "--reg", "wrong.reg", "--out", "x.raw"]).expect(1).err;
        assert!(error.contains(what), "{error}");
    }
    assert!(
        place
            .run(&["patch", "berths.vmdk", "--hive", "SYSTEM", "--out", "x.raw"])
            .expect(2)
            .err
            .contains("--hive takes a KEY")
    );
}

#[test]
fn what_cannot_be_done_is_said_and_nothing_is_written() {
    let place = berths();
    // Nothing in the system drives what that host has, and nothing else is at hand.
    let refused = place.run(&["refit", "berths.vmdk", "--dest", "virtio-host", "--out", "ready.qcow2"]).expect(3).err;
    for told in ["will-not-boot", "no driver for PCI\\VEN_1AF4&DEV_1048", "--drivers MEDIUM"] {
        assert!(refused.contains(told), "{told}\n{refused}");
    }
    let error =
        place.run(&["refit", "berths.vmdk", "--dest", "virtio-host", "--drivers", "berths.vmdk", "--out", "x.raw"]);
    assert!(error.expect(1).err.contains("it is no driver medium"));
    for (value, what) in [
        ("Start", "--set takes NAME=TYPE:DATA"),
        ("Start=0", "TYPE:DATA"),
        ("Start=dword:tide", "'tide' is no number"),
        ("Start=dword:4294967296", "more than 32 bits"),
        ("Start=hex:0", "no row of hexadecimal bytes"),
        ("Start=word:0", "'word' is no type"),
    ] {
        let error = place
            .run(&["patch", "berths.vmdk", "--hive", "SYSTEM", "Select", "--set", value, "--out", "x.raw"])
            .expect(2)
            .err;
        assert!(error.contains(what), "{value}: {error}");
    }
    let draft = place.run(&["draft", "berths.vmdk", "--dest", "virtio-host", "--new-ssh-keys"]).expect(0).out;
    let told = draft.split_whitespace().collect::<Vec<_>>().join(" ");
    assert!(told.contains("The edit 'identity' could not be made"), "{draft}");
    place.write("tide.sh", b"#!/bin/sh\n");
    let draft = place.run(&["draft", "berths.vmdk", "--dest", "virtio-host", "--first-boot", "tide.sh"]).expect(0).out;
    let told = draft.split_whitespace().collect::<Vec<_>>().join(" ");
    assert!(told.contains("is a .cmd, .bat or .ps1, and tide.sh is none"), "{draft}");
    let link = place.run(&["patch", "berths.vmdk", "--link", "/a:/b", "--out", "x.raw"]).expect(1).err;
    assert!(link.contains("links are not made on NTFS"), "{link}");
    let name = place.run(&["patch", "berths.vmdk", "--folder", "/what?", "--out", "x.raw"]).expect(1).err;
    assert!(name.contains("allows none of its characters"), "{name}");
    // A volume that is encrypted as a whole: nothing can be told of it, and what helps is said.
    place.run(&["recast", "berths.vmdk", "locked.raw", "-q"]).expect(0);
    let disk = std::fs::OpenOptions::new().write(true).open(place.path("locked.raw")).unwrap();
    disk.write_all_at(b"-FVE-FS-", VOLUME as u64 + 3).unwrap();
    let survey = place.run(&["survey", "locked.raw"]).expect(0).out;
    assert!(survey.contains("BitLocker") && !survey.contains("System:"), "{survey}");
    for args in [&["peek", "locked.raw", "/"][..], &["patch", "locked.raw", "--folder", "/x", "--out", "x.raw"]] {
        let error = place.run(args).expect(1).err;
        assert!(
            error.contains("is encrypted by the guest (BitLocker)") && error.contains("manage-bde -off C:"),
            "{error}"
        );
    }
    assert!(!place.path("x.raw").exists() && !place.path("ready.qcow2").exists());
}

const MEDIUM: &[u8] = include_bytes!("../../../demo/tide-drivers.iso");
const MACHINE: &[u8] = include_bytes!("../../../demo/berths.vmx");

/// `text` with one space between words, however its lines were broken.
fn flat(text: &str) -> String {
    text.split_whitespace().collect::<Vec<_>>().join(" ")
}

fn read(place: &Place, name: &str) -> String {
    std::fs::read_to_string(place.path(name)).unwrap()
}

/// Drivers that come with the system are enough there.
#[test]
fn a_disk_is_made_ready_with_what_the_system_has() {
    let place = berths();
    let args = ["refit", "berths.vmdk", "--dest", "nvme-cloud", "--mac", "02:5a:17:00:00:99", "--out", "ready.vhdx"];
    let told = flat(&place.run(&args).expect(0).out);
    assert!(told.contains("Boots on nvme-cloud: yes"), "{told}");
    // The driver of NVMe starts already: what is left is the adapter, whose address another one has now.
    assert!(told.contains("no driver for PCI\\VEN_1D0F&DEV_EC20"), "{told}");
    place.run(&["refit", "ready.vhdx", "--dest", "nvme-cloud", "--out", "again.vhdx"]).expect(0);
}

/// A cloud gives the first adapter its address, and the network is the only way in.
#[test]
fn a_cloud_is_asked_for_the_address_and_lets_people_in() {
    let place = berths();
    let firewall = r"CurrentControlSet\Services\SharedAccess\Parameters\FirewallPolicy\FirewallRules";
    let rule = "v2.31|Action=Allow|Active=FALSE|Dir=In|Protocol=6|LPort=3389|Name=@FirewallAPI.dll,-28775|";
    for (key, value) in [
        (r"CurrentControlSet\Control\Terminal Server", "fDenyTSConnections=dword:1".to_string()),
        (firewall, format!("RemoteDesktop-UserMode-In-TCP=text:{rule}")),
        (firewall, format!("Harbour-In=text:{rule}")),
    ] {
        place.run(&["patch", "berths.vmdk", key, "--hive", "SYSTEM", "--set", &value, "--in-place"]).expect(0);
    }
    let args = ["refit", "berths.vmdk", "--dest", "vmbus-cloud", "--mac", "02:5a:17:00:00:41", "--out", "ready.vhd"];
    let told = flat(&place.run(&args).expect(0).out);
    assert!(told.contains("Quay: it asks for its address (DHCP); it had 192.0.2.41/24"), "{told}");
    let key = |path: &str| place.run(&["peek", "ready.vhd", "--hive", "SYSTEM", path]).expect(0).out;
    assert!(key(r"CurrentControlSet\Control\Terminal Server").contains("fDenyTSConnections  dword  0 (0x0)"));
    let rules = key(firewall);
    let of = |name: &str| rules.lines().find(|line| line.contains(name)).unwrap().to_string();
    assert!(of("RemoteDesktop").contains("|Active=TRUE|") && of("Harbour").contains("|Active=FALSE|"), "{rules}");
    let adapter = key(r"CurrentControlSet\Services\Tcpip\Parameters\Interfaces\{5a170000-0000-4000-8000-0000000000a1}");
    assert!(adapter.contains("EnableDHCP  dword  1 (0x1)") && !adapter.contains("192.0.2."), "{adapter}");
    // The loader and the system answer on the port that the cloud shows, and the store still starts what it started.
    assert!(
        told.contains("/EFI/Microsoft/Boot/BCD: the loader and the system answer on COM1 at 115200 bit/s"),
        "{told}"
    );
    let store = |object: &str, element: &str| {
        let key = format!(r"Objects\{object}\Elements\{element}");
        place.run(&["peek", "ready.vhd", "--hive", "BCD", &key]).expect(0).out
    };
    let (manager, loader) = ("{9dea862c-5cdd-4e70-acc1-f32b344d4795}", "{5a170000-0000-4000-8000-0000000000b1}");
    for (object, element, bytes) in [
        (manager, "16000020", "01"),
        (loader, "260000b0", "01"),
        (manager, "15000022", "01 00 00 00 00 00 00 00"),
        (loader, "15000023", "00 c2 01 00 00 00 00 00"),
    ] {
        let shown = store(object, element);
        assert!(shown.contains(bytes) || shown.contains(&bytes.replace(' ', "")), "{element}: {shown}");
    }
    let survey = place.run(&["survey", "ready.vhd"]).expect(0).out;
    assert!(survey.contains("winload.efi") || survey.contains("Windows Server"), "{survey}");
    let again = flat(
        &place
            .run(&["refit", "ready.vhd", "--dest", "vmbus-cloud", "--mac", "02:5a:17:00:00:41", "--out", "again.vhd"])
            .expect(0)
            .out,
    );
    assert!(!again.contains("answer on COM1"), "it is changed once: {again}");
    // All of it can be left out, by name.
    let mut bare = args.to_vec();
    bare.truncate(6);
    bare.extend(["--out", "bare.vhd", "--leave-out", "remote-login", "--leave-out", "adapters"]);
    place.run(&bare).expect(0);
    let server = [r"CurrentControlSet\Control\Terminal Server"];
    let bare = place.run(&["peek", "bare.vhd", "--hive", "SYSTEM", server[0]]).expect(0).out;
    assert!(bare.contains("fDenyTSConnections  dword  1 (0x1)"), "{bare}");
}

#[test]
fn a_machine_moves_with_drivers_from_a_medium() {
    let place = berths();
    place.write("berths.vmx", MACHINE);
    place.write("tide-drivers.iso", MEDIUM);
    let survey = place.run(&["survey", "tide-drivers.iso", "--json"]).expect(0).json();
    let medium = &survey["targets"][0];
    assert_eq!(medium["kind"], "driver medium, an ISO image");
    let offers = medium["drivers"]["offers"].as_array().unwrap();
    assert_eq!(offers.len(), 8);
    let scsi = offers.iter().find(|offer| offer["inf"] == "tidescsi/2k22/amd64/tidescsi.inf").unwrap();
    assert_eq!(
        (&scsi["class"], &scsi["version"], &scsi["date"]),
        (&"SCSIAdapter".into(), &"1.2.100.4".into(), &"2024-06-21".into())
    );
    assert_eq!(scsi["signature"], "catalogue tidescsi/2k22/amd64/tidescsi.cat");
    assert!(scsi["devices"].as_array().unwrap().contains(&"PCI\\VEN_1AF4&DEV_1048".into()));
    assert!(place.run(&["survey", "tide-drivers.iso"]).expect(0).out.contains("driver medium"));

    place.write("site.toml", b"drivers = [\"tide-drivers.iso\"]\n");
    let site = [
        "draft",
        "berths.vmx",
        "--dest",
        "virtio-host",
        "--site",
        "site.toml",
        "--into",
        "l",
        "--out",
        "site-brief.toml",
    ];
    place.run(&site).expect(0);
    assert!(read(&place, "site-brief.toml").contains("tide-drivers.iso\"]"), "the site's media are proposed");
    let draft = ["draft", "berths.vmx", "--dest", "virtio-host", "--drivers", "tide-drivers.iso", "--into", "landing"];
    let told = flat(&place.run(&[&draft[..], &["--out", "berths.toml"]].concat()).expect(0).out);
    for what in [
        "Boots on virtio-host: yes, with 3 edits",
        "service tidescsi",
        "tidenet.inf is installed on the first start",
        "Quay: the first start gives 192.0.2.41/24 to the adapter with 02:5a:17:00:00:41",
        "[activation]",
    ] {
        assert!(told.contains(what) || told.contains(&what.replace("tidenet.inf is", "is")), "{what}\n{told}");
    }
    assert!(read(&place, "berths.toml").contains("drivers = ["), "{}", read(&place, "berths.toml"));
    place.run(&["carry", "berths.toml"]).expect(0);
    let landed = "landing/berths/berths-0.qcow2";
    let peek = |path: &str| place.run(&["peek", landed, path]).expect(0).out;
    let script = peek("/Windows/Reformis/20-adapters.cmd");
    assert!(script.contains("set MAC=02-5A-17-00-00-41") && script.contains("newname=\"Quay\""), "{script}");
    let driver = r"CurrentControlSet\Services\tidescsi";
    let key = place.run(&["peek", landed, "--hive", "SYSTEM", driver]).expect(0).out;
    assert!(key.contains(r"\Services\tidescsi") && key.contains("System32\\drivers\\tidescsi.sys"), "{key}");
    let domain = read(&place, "landing/berths/berths.xml");
    for told in
        ["<hyperv mode=\"custom\">", "hypervclock", "offset=\"localtime\"", "win/2k22", "org.qemu.guest_agent.0"]
    {
        assert!(domain.contains(told), "{told}\n{domain}");
    }
    place.run(&["prove", "landing/berths/receipt.json"]).expect(0);
    let edits = read(&place, "landing/berths/receipt.json");
    assert!(edits.contains("drivers for the new disks and adapters"), "the reason of each range");
    // What is left out is not done, and that is told.
    let without = [&draft[..], &["--leave-out", "drivers", "--leave-out", "adapters"]].concat();
    let told = flat(&place.run(&without).expect(0).out);
    assert!(
        told.contains("Boots on virtio-host: no")
            && told.contains("192.0.2.41/24 is on a device that will not be there"),
        "{told}"
    );
}
