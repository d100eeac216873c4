//! Moves into a cloud and back home, as a person makes them.

use std::{
    fs,
    os::unix::fs::PermissionsExt,
    process::Stdio,
    time::{Duration, Instant},
};

use reformis_standin::{
    cloud::{Cloud, Faults, Options},
    content::Content,
    servers::is_installed,
    store,
};

use crate::support::{AS_IT_IS, Place};

pub(crate) const KEY: &str = "quite-a-secret-key";
pub(crate) const TOKEN: &str = "quite-a-secret-token";

pub(crate) struct Estuary {
    pub(crate) place: Place,
    pub(crate) cloud: Cloud,
}

/// A cloud that was set up as `change` says, and a place with a disk of 12 MiB which a BIOS would start.
pub(crate) fn estuary(change: impl Fn(&mut Options)) -> Estuary {
    let place = Place::new();
    let mut options = Options { token: TOKEN.into(), ..Options::new(place.path("cloud")) };
    options.store.key = KEY.into();
    change(&mut options);
    let cloud = Cloud::start(options).unwrap();
    write_site(&place, &cloud);
    let mut disk = vec![0; 12 << 20];
    Content::empty(12 << 20).with(0, 300_000, 1).with(5 << 20, 900_000, 2).read_at(0, &mut disk);
    disk[510..512].copy_from_slice(&[0x55, 0xaa]);
    place.write("ledger.raw", &disk);
    Estuary { place, cloud }
}

/// What a site says of `cloud` and its store.
pub(crate) fn site_of(cloud: &Cloud) -> String {
    format!(
        "[cloud.estuary]\nkind = \"import\"\nat = \"{0}\"\nstore = \"jetty:moves\"\n\n[link.\"{0}\"]\ntoken = {{ file = \"token\" }}\n\n\
         [store.jetty]\nkind = \"objects\"\nat = \"{1}\"\nregion = \"estuary-1\"\nkey-id = \"keeper\"\nkey = {{ file = \"key\" }}\n",
        cloud.link(),
        cloud.store().link()
    )
}

fn write_site(place: &Place, cloud: &Cloud) {
    place.write("reformis.toml", site_of(cloud).as_bytes());
    for (name, secret) in [("key", KEY), ("token", TOKEN)] {
        place.write(name, format!("{secret}\n").as_bytes());
        fs::set_permissions(place.path(name), fs::Permissions::from_mode(0o600)).unwrap();
    }
}

/// `carry ledger.raw`, with what each test adds.
pub(crate) fn carry<'a>(dest: &'a str, more: &[&'a str]) -> Vec<&'a str> {
    let mut words = vec!["carry", "ledger.raw", "--dest", dest, "--into", "landing", "--cloud", "estuary"];
    words.extend(["--network", "default", "--memory", "512MiB"]);
    words.extend(AS_IT_IS);
    words.extend(more);
    words
}

impl Estuary {
    /// How many parts and how many whole objects were put since `from` requests.
    pub(crate) fn puts(&self, from: usize) -> usize {
        let log = self.cloud.store().log();
        log[from..].iter().filter(|line| line.starts_with("PUT") && line.contains("ledger-0")).count()
    }
}

#[test]
fn a_disk_becomes_an_instance_and_comes_home_again() {
    for (dest, shape) in [("vmbus-cloud", "vhd/full"), ("nvme-cloud", "raw/thin"), ("nvme-cloud", "vmdk/stream")] {
        if shape == "vmdk/stream" && !is_installed("qemu-system-x86_64") {
            continue;
        }
        let estuary = estuary(|_| ());
        let place = &estuary.place;
        let ran = place.run(&carry(dest, &["--shape", shape])).expect(0);
        assert!(ran.out.contains("instance") && ran.out.contains("ledger, stopped"), "{}", ran.out);
        assert_eq!(estuary.cloud.instances(), ["ledger"]);
        let receipt = fs::read_to_string(place.path("landing/ledger/receipt.json")).unwrap();
        let receipt: serde_json::Value = serde_json::from_str(&receipt).unwrap();
        let image = &estuary.cloud.images()[0];
        assert_eq!((&receipt["cloud"]["image"], image.1.as_str()), (&image.0.as_str().into(), "ledger"));
        assert_eq!(receipt["cloud"]["state"], "stopped");
        place.run(&["prove", "landing/ledger/receipt.json"]).expect(0);
        // What was tried with is gone.
        let objects: Vec<String> = estuary.cloud.store().objects().into_iter().map(|(key, _)| key).collect();
        assert!(!objects.iter().any(|key| key.contains("trial")), "{objects:?}");

        let listed = place.run(&["survey", "estuary:"]).expect(0).out;
        assert!(listed.contains("ledger") && listed.contains("off"), "{listed}");
        let mut home =
            vec!["carry", "estuary:ledger", "--dest", "virtio-host", "--shape", "raw/thin", "--into", "home"];
        home.extend(AS_IT_IS);
        let came = place.run(&home).expect(0);
        assert!(
            fs::read(place.path("home/ledger/ledger-0.raw")).unwrap() == fs::read(place.path("ledger.raw")).unwrap()
        );
        assert!(fs::read_to_string(place.path("home/ledger/ledger.xml")).unwrap().contains("524288"), "its memory");
        place.run(&["prove", "home/ledger/receipt.json"]).expect(0);
        // Pages that hold nothing were not asked for: the map tells which.
        let log = estuary.cloud.log();
        assert!(log.iter().any(|line| line.contains("/maps/disk-0.raw")), "{log:?}");
        let is_hole = |line: &&String| line.contains("/files/") && line.contains("bytes=83");
        assert_eq!(log.iter().filter(is_hole).collect::<Vec<_>>(), [&""; 0], "8 MiB and more are a hole");
        for text in [&ran.out, &ran.err, &came.out, &came.err, &receipt.to_string()] {
            assert!(!text.contains(KEY) && !text.contains(TOKEN) && !text.contains("Signature"), "{text}");
        }
        assert!(!log.iter().any(|line| line.contains(KEY)));
    }
}

/// A cloud that gives snapshots as fixed VHDs: what comes home is the same, and holes are no more fetched.
#[test]
fn a_fixed_vhd_comes_home_too() {
    let estuary = estuary(|options| options.rules.fixed_snapshots = true);
    let place = &estuary.place;
    place.run(&carry("nvme-cloud", &["--shape", "raw/thin"])).expect(0);
    let mut home = vec!["carry", "estuary:ledger", "--dest", "virtio-host", "--shape", "raw/thin", "--into", "home"];
    home.extend(AS_IT_IS);
    place.run(&home).expect(0);
    assert!(fs::read(place.path("home/ledger/ledger-0.raw")).unwrap() == fs::read(place.path("ledger.raw")).unwrap());
    let receipt = fs::read_to_string(place.path("home/ledger/receipt.json")).unwrap();
    assert!(receipt.contains("disk-0.vhd") && receipt.contains("vhd/full"), "{receipt}");
    place.run(&["prove", "home/ledger/receipt.json"]).expect(0);
    let log = estuary.cloud.log();
    assert!(log.iter().any(|line| line.contains("/maps/disk-0.vhd")), "{log:?}");
    let is_hole = |line: &&String| line.contains("/files/") && line.contains("bytes=83");
    assert_eq!(log.iter().filter(is_hole).count(), 0, "8 MiB and more are a hole");
    // What was made for it is given back.
    assert!(!place.tree().iter().any(|path| path.contains("cloud/snapshots/e-1/")), "{:?}", place.tree());
}

#[test]
fn what_a_cloud_would_refuse_is_told_before_the_first_byte() {
    type Change = fn(&mut Options);
    let nothing: Change = |_| ();
    let cases: [(&str, Change, &[&str], &str, &str); 8] = [
        ("images.make", nothing, &[], "the grant 'images.make' is missing", "grant images.make to the role"),
        ("instances.start", nothing, &["--then", "started"], "'instances.start' is missing", "grant instances.start"),
        ("objects.read", nothing, &[], "'objects.read' is missing", "grant objects.read"),
        ("", |options| options.rules.quota = 11 << 20, &[], "11534336 are free", "larger quota"),
        ("", |options| options.rules.shapes = vec!["raw/thin"], &[], "vhd/full is not taken", "take one of raw/thin"),
        ("", |options| options.rules.size_multiple = 1 << 30, &[], "has 12582912 bytes", "multiple of 1073741824"),
        ("", |options| options.rules.largest_disk = 8 << 20, &[], "has 12582912 bytes", "the largest has 8388608"),
        ("", |options| options.rules.firmware = vec!["uefi"], &[], "no firmware 'bios'", "take one of uefi"),
    ];
    for (denied, change, more, what, remedy) in cases {
        let estuary = estuary(change);
        estuary.cloud.deny(&[denied]);
        let mut words = carry("vmbus-cloud", more);
        words.push("--json");
        let ran = estuary.place.run(&words).expect(3);
        let found = ran.json()["findings"].to_string();
        assert!(found.contains("cloud-refuses") && found.contains(what) && found.contains(remedy), "{what}: {found}");
        assert_eq!((estuary.puts(0), estuary.cloud.imports()), (0, 0), "{what}");
        assert!(!estuary.place.path("landing").exists(), "{what}");
        // A draft tells it too, and puts nothing anywhere.
        let from = estuary.cloud.store().log().len();
        words[0] = "draft";
        words.retain(|word| !matches!(*word, "--accept" | "will-not-boot"));
        let draft = estuary.place.run(&words).expect(0);
        assert!(draft.json()["draft"]["findings"].to_string().contains("cloud-refuses"), "{what}");
        assert_eq!(estuary.cloud.store().log().len(), from, "{what}");
    }
    // A name that is taken; a cloud and a machine file that do not fit.
    let estuary = estuary(|_| ());
    estuary.place.run(&carry("vmbus-cloud", &[])).expect(0);
    let taken = estuary.place.run(&carry("vmbus-cloud", &["--force"])).expect(3).err;
    let taken = taken.split_whitespace().collect::<Vec<_>>().join(" ");
    assert!(taken.contains("there is an instance 'ledger'") && taken.contains("choose another name"), "{taken}");
    let other = estuary.place.run(&carry("virtio-host", &["--name", "other"])).expect(1).err;
    assert!(other.contains("launch JSON"), "{other}");
    let wrong = fs::read_to_string(estuary.place.path("reformis.toml")).unwrap().replace("jetty:moves\"", "jetty:\"");
    estuary.place.write("reformis.toml", wrong.as_bytes());
    estuary.place.run(&carry("vmbus-cloud", &["--name", "other", "--then", "image"])).expect(0);
    assert_eq!((estuary.cloud.instances().len(), estuary.cloud.images().len()), (1, 2));
}

#[test]
fn a_brief_says_what_becomes_of_it() {
    let estuary = estuary(|_| ());
    let mut words = carry("vmbus-cloud", &["--out", "ledger.toml", "--then", "image"]);
    words[0] = "draft";
    words.retain(|word| !matches!(*word, "--accept" | "will-not-boot"));
    let draft = estuary.place.run(&words).expect(0).out;
    assert!(draft.contains("an image in estuary") && draft.contains("jetty:moves"), "{draft}");
    let brief = fs::read_to_string(estuary.place.path("ledger.toml")).unwrap();
    for line in ["cloud = \"estuary\"", "then = \"image\"", "store = \"jetty:moves\""] {
        assert!(brief.contains(line), "{brief}");
    }
    estuary.place.run(&["carry", "ledger.toml", "--accept", "will-not-boot"]).expect(0);
    assert_eq!((estuary.cloud.images().len(), estuary.cloud.instances().len()), (1, 0));
}

/// What a failed import costs is the import, and no byte of a disk.
#[test]
fn an_import_that_fails_is_told_and_gone_on_with() {
    let estuary = estuary(|_| ());
    estuary.cloud.go_wrong(Faults { fail: 1, busy: 2, lost: 1, ..Faults::default() });
    let failed = estuary.place.run(&carry("vmbus-cloud", &[])).expect(1).err;
    assert!(failed.contains("importing the disks failed at estuary: the cloud has trouble of its own"), "{failed}");
    assert!(failed.contains("--resume"), "{failed}");
    let from = estuary.cloud.store().log().len();
    estuary.place.run(&carry("vmbus-cloud", &["--resume"])).expect(0);
    assert_eq!(estuary.puts(from), 0, "the disk is there already");
    assert_eq!((estuary.cloud.imports(), estuary.cloud.instances().len()), (2, 1));
    estuary.place.run(&["prove", "landing/ledger/receipt.json"]).expect(0);
}

/// Answers that are lost do not make anything twice.
#[test]
fn nothing_is_made_twice() {
    let estuary = estuary(|_| ());
    for lost in 1..6 {
        estuary.cloud.go_wrong(Faults { lost, ..Faults::default() });
        let (name, landing) = (format!("ledger{lost}"), format!("landing{lost}"));
        let mut words = carry("vmbus-cloud", &["--name", &name]);
        words[5] = &landing;
        estuary.place.run(&words).expect(0);
        assert_eq!((estuary.cloud.images().len(), estuary.cloud.instances().len()), (lost as usize, lost as usize));
    }
}

/// The person ends the run while the cloud imports: the import goes on, and the next run finds it.
#[test]
fn an_interrupted_import_goes_on_in_the_cloud() {
    let estuary = estuary(|_| ());
    estuary.cloud.go_wrong(Faults { slow: 200, ..Faults::default() });
    let mut child =
        estuary.place.command(&carry("vmbus-cloud", &[])).stdout(Stdio::null()).stderr(Stdio::piped()).spawn().unwrap();
    let begun = Instant::now();
    while estuary.cloud.imports() == 0 {
        assert!(begun.elapsed() < Duration::from_secs(60) && child.try_wait().unwrap().is_none());
        std::thread::sleep(Duration::from_millis(20));
    }
    std::thread::sleep(Duration::from_millis(300));
    rustix::process::kill_process(
        rustix::process::Pid::from_raw(child.id() as i32).unwrap(),
        rustix::process::Signal::INT,
    )
    .unwrap();
    let output = child.wait_with_output().unwrap();
    assert_eq!(output.status.code(), Some(130), "{}", String::from_utf8_lossy(&output.stderr));
    assert!(String::from_utf8_lossy(&output.stderr).contains("--resume"));
    let from = estuary.cloud.store().log().len();
    estuary.place.run(&carry("vmbus-cloud", &["--resume"])).expect(0);
    assert_eq!((estuary.puts(from), estuary.cloud.imports(), estuary.cloud.images().len()), (0, 1, 1));
    let left: Vec<_> = estuary.place.tree().into_iter().filter(|path| path.contains("at-cloud")).collect();
    assert!(left.is_empty(), "{left:?}");
}

/// A cloud that starts anew has forgotten the import, and not the image.
#[test]
fn a_cloud_that_was_restarted_is_asked_again() {
    let mut estuary = estuary(|_| ());
    estuary.cloud.go_wrong(Faults { slow: 100, ..Faults::default() });
    let mut child =
        estuary.place.command(&carry("vmbus-cloud", &[])).stdout(Stdio::null()).stderr(Stdio::null()).spawn().unwrap();
    let begun = Instant::now();
    while estuary.cloud.imports() == 0 {
        assert!(begun.elapsed() < Duration::from_secs(60));
        std::thread::sleep(Duration::from_millis(20));
    }
    std::thread::sleep(Duration::from_millis(200));
    child.kill().unwrap();
    child.wait().unwrap();
    let mut options = Options { token: TOKEN.into(), ..Options::new(estuary.place.path("cloud")) };
    options.store =
        store::Options { key: KEY.into(), at: estuary.cloud.store().address().to_string(), ..options.store };
    options.at = estuary.cloud.link().replace("http://", "");
    // Whatever it is in the middle of ends with it.
    while estuary.cloud.images().is_empty() {
        std::thread::sleep(Duration::from_millis(20));
    }
    drop(std::mem::replace(&mut estuary.cloud, Cloud::start(Options::new(estuary.place.path("other"))).unwrap()));
    std::thread::sleep(Duration::from_millis(100));
    estuary.cloud = Cloud::start(options).unwrap();
    let from = estuary.cloud.store().log().len();
    estuary.place.run(&carry("vmbus-cloud", &["--resume"])).expect(0);
    assert_eq!((estuary.puts(from), estuary.cloud.images().len(), estuary.cloud.instances().len()), (0, 1, 1));
}

/// A cloud of the site's own programs, which are told what is meant word by word.
#[test]
fn a_site_brings_its_own_commands() {
    let estuary = estuary(|_| ());
    let place = &estuary.place;
    let site = fs::read_to_string(place.path("reformis.toml")).unwrap();
    let own = "\n[cloud.delta]\nkind = \"commands\"\nstore = \"jetty:own\"\n[cloud.delta.commands]\n\
               check = [\"./tool\", \"check\"]\nimport = [\"./tool\", \"import\", \"--as={name}\", \"{object}\", \"{key}\"]\n\
               poll = [\"./tool\", \"poll\", \"{import}\"]\ninstance = [\"./tool\", \"make\", \"{image}\", \"{then}\"]\n";
    place.write("reformis.toml", format!("{site}{own}").as_bytes());
    let tool = "#!/bin/sh\nprintf '%s\\n' \"$*\" >>calls\nprintf '%s|' \"$@\" >>words\ncase $1 in\n\
        check) cat >wish; if [ -e full ]; then echo '{\"refusals\": [{\"code\": \"full\", \"sentence\": \"no room; $(id)\"}]}'; else echo '{\"refusals\": []}'; fi;;\n\
        import) cat >/dev/null; if [ -e broken ]; then echo 'the gate is shut' >&2; exit 3; fi; echo '{\"import\": \"7\", \"state\": \"running\", \"of\": 2}';;\n\
        poll) if [ -e polled ]; then echo '{\"import\": \"7\", \"state\": \"done\", \"image\": \"im 9\"}'; else touch polled; exit 75; fi;;\n\
        make) echo '{\"instance\": \"n\", \"name\": \"ledger\", \"state\": \"stopped\"}';;\nesac\n";
    place.write("tool", tool.as_bytes());
    fs::set_permissions(place.path("tool"), fs::Permissions::from_mode(0o755)).unwrap();
    let mut words = carry("vmbus-cloud", &[]);
    words[7] = "delta";
    place.write("full", b"");
    let refused = place.run(&words).expect(3).err;
    assert!(refused.contains("no room; $(id)"), "{refused}");
    fs::remove_file(place.path("full")).unwrap();
    place.write("broken", b"");
    let broken = place.run(&words).expect(1).err;
    assert!(broken.contains("'./tool' ends with 3: the gate is shut"), "{broken}");
    fs::remove_file(place.path("broken")).unwrap();
    words.push("--resume");
    place.run(&words).expect(0);
    let called = fs::read_to_string(place.path("words")).unwrap();
    let object = format!("{}/own/ledger/ledger-0.vhd", estuary.cloud.store().link());
    assert!(called.contains(&format!("|--as=ledger|{object}|")), "{called}");
    assert!(called.contains("make|im 9|stopped|"), "one argument, whatever is in it: {called}");
    let wish: serde_json::Value = serde_json::from_slice(&fs::read(place.path("wish")).unwrap()).unwrap();
    assert_eq!((&wish["name"], &wish["launch"]["machine"]["memory"]), (&"ledger".into(), &(512 << 20).into()));
}

/// Whoever ends a run while a program of the site works does not wait for what that started.
#[test]
fn a_program_of_the_site_ends_with_the_run() {
    let estuary = estuary(|_| ());
    let place = &estuary.place;
    let site = fs::read_to_string(place.path("reformis.toml")).unwrap();
    let own = "\n[cloud.delta]\nkind = \"commands\"\nstore = \"jetty:own\"\ncommands = { check = [\"./tool\"], import = [\"./tool\"], instance = [\"./tool\"] }\n";
    place.write("reformis.toml", format!("{site}{own}").as_bytes());
    place.write("tool", b"#!/bin/sh\ntouch begun\nsleep 120\n");
    fs::set_permissions(place.path("tool"), fs::Permissions::from_mode(0o755)).unwrap();
    let mut words = carry("vmbus-cloud", &[]);
    words[7] = "delta";
    let mut child = place.command(&words).stdout(Stdio::null()).stderr(Stdio::null()).spawn().unwrap();
    let begun = Instant::now();
    while !place.path("begun").exists() {
        assert!(begun.elapsed() < Duration::from_secs(60));
        std::thread::sleep(Duration::from_millis(20));
    }
    let pid = rustix::process::Pid::from_raw(child.id() as i32).unwrap();
    rustix::process::kill_process(pid, rustix::process::Signal::INT).unwrap();
    let asked = Instant::now();
    assert_eq!(child.wait().unwrap().code(), Some(130));
    assert!(asked.elapsed() < Duration::from_secs(60), "it waited for the program");
}

#[test]
fn hosts_shows_a_cloud_and_what_our_role_may_do() {
    let estuary = estuary(|options| options.rules.quota = 64 << 20);
    let list = estuary.place.run(&["hosts"]).expect(0).out;
    assert!(list.contains("cloud") && list.contains("estuary") && list.contains("jetty"), "{list}");
    let one = estuary.place.run(&["hosts", "estuary"]).expect(0).out;
    assert!(one.contains("objects.read") && one.contains("64 MiB of 64 MiB are free"), "{one}");
    estuary.cloud.deny(&["images.make"]);
    let one = estuary.place.run(&["hosts", "estuary", "--json"]).expect(0).json();
    assert!(one["cloud"]["about"].to_string().contains("it lacks images.make"), "{one}");
    let none = estuary.place.run(&carry("vmbus-cloud", &["--cloud", "delta"])).code;
    assert_eq!(none, 2, "given twice");
    let mut words = carry("vmbus-cloud", &[]);
    words[7] = "delta";
    let none = estuary.place.run(&words).expect(1).err;
    assert!(none.contains("looking for the cloud 'delta'") && none.contains("there are estuary"), "{none}");
}

/// What cloud-init is to be told lands as a medium that others read, and the cloud puts it into a drive of the instance.
#[test]
fn a_seed_lands_with_the_machine() {
    if !is_installed("7zz") {
        return;
    }
    let estuary = estuary(|_| ());
    let place = &estuary.place;
    let user_data = "#cloud-config\nssh_authorized_keys: [\"ssh-ed25519 AAAA keeper\"]\n";
    place.write("user", user_data.as_bytes());
    place.write("net", b"version: 2\nethernets: {}\n");
    place.run(&carry("vmbus-cloud", &["--user-data", "user", "--host-name", "ledger.example"])).expect(0);
    let seed = place.path("landing/ledger/ledger-seed.iso");
    assert_eq!(fs::metadata(&seed).unwrap().permissions().mode() & 0o077, 0, "it may hold passwords");
    let unpack = |seed: &std::path::Path, to: &str| {
        let out = format!("-o{}", place.path(to).display());
        let made = std::process::Command::new("7zz").args(["x", "-y", &out]).arg(seed).output().unwrap();
        assert!(made.status.success(), "{}", String::from_utf8_lossy(&made.stdout));
    };
    unpack(&seed, "unpacked");
    assert_eq!(fs::read_to_string(place.path("unpacked/user-data")).unwrap(), user_data);
    let meta: serde_json::Value = serde_json::from_slice(&fs::read(place.path("unpacked/meta-data")).unwrap()).unwrap();
    assert_eq!(meta["local-hostname"], "ledger.example");
    assert!(fs::read(&seed).unwrap()[0x8028..].starts_with(b"cidata  "));
    place.run(&["prove", "landing/ledger/receipt.json"]).expect(0);
    assert!(fs::read(place.path("cloud/seed-of-ledger.iso")).unwrap() == fs::read(&seed).unwrap());
    // A config drive, where the site says so; in a machine file with a drive, it is in there.
    let site = fs::read_to_string(place.path("reformis.toml")).unwrap();
    let own = "[destinations.our-cloud]\nlike = \"vmbus-cloud\"\n[destinations.our-cloud.rules]\ndata-sources = [\"ConfigDrive\"]\n";
    place.write("reformis.toml", format!("{site}\n{own}").as_bytes());
    let mut words = carry("our-cloud", &["--user-data", "user", "--network-config", "net"]);
    words.drain(6..8);
    words[5] = "drive";
    let ran = place.run(&words).expect(0);
    assert!(ran.out.contains("seed-made"), "{}", ran.out);
    unpack(&place.path("drive/ledger/ledger-seed.iso"), "drive-unpacked");
    let inside =
        |name: &str| fs::read_to_string(place.path(&format!("drive-unpacked/openstack/latest/{name}"))).unwrap();
    assert_eq!(inside("user_data"), user_data);
    assert!(inside("meta_data.json").contains("ledger") && inside("network_data.json").contains("version"));
    for (name, bytes) in [
        ("ledger.vmx", &include_bytes!("../../../demo/ledger/ledger.vmx")[..]),
        ("ledger.vmdk", include_bytes!("../../../demo/ledger/ledger.vmdk")),
        ("ledger_1.vmdk", include_bytes!("../../../demo/ledger/ledger_1.vmdk")),
    ] {
        place.write(&format!("old/{name}"), bytes);
    }
    let words = ["carry", "old", "--dest", "virtio-host", "--into", "here", "--user-data", "user"];
    place.run(&words).expect(0);
    let xml = fs::read_to_string(place.path("here/ledger/ledger.xml")).unwrap();
    let in_drive = format!("<source file=\"{}\"", place.path("here/ledger/ledger-seed.iso").display());
    assert!(xml.contains("device=\"cdrom\"") && xml.replace('\'', "\"").contains(&in_drive), "{xml}");
    // What is too much for one is told.
    place.write("long", &vec![b'x'; 2 << 20]);
    let mut words = words;
    (words[5], words[7]) = ("there", "long");
    let refused = place.run(&words).expect(1).err;
    assert!(refused.contains("no seed can be made of"), "{refused}");
}
