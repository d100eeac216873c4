//! Moves into a store, as a person makes them: the disks go there as they are made, and what lies there is what would have landed here.

use std::{
    fs,
    io::Write as _,
    os::unix::fs::FileExt,
    path::PathBuf,
    process::{Command, Stdio},
    time::{Duration, Instant},
};

use reformis_standin::{
    content::Content,
    servers::{Authority, Nginx, is_installed},
    store::{Faults, Options, PageOptions, PageStore, Store},
};

use crate::support::{AS_IT_IS, Export, PROGRAM, Place, Ran};

const KEY: &str = "quite-a-secret-key";

struct Estuary {
    place: Place,
    store: Store,
}

fn estuary() -> Estuary {
    let place = Place::new();
    let store = Store::start(Options { key: KEY.into(), ..Options::new(place.path("store")) }).unwrap();
    let site = format!(
        "[store.estuary]\nkind = \"objects\"\nat = \"{}\"\nregion = \"estuary-1\"\nkey-id = \"keeper\"\nkey = {{ file = \"key\" }}\n",
        store.link()
    );
    place.write("reformis.toml", site.as_bytes());
    place.write("key", format!("{KEY}\n").as_bytes());
    fs::set_permissions(place.path("key"), std::os::unix::fs::PermissionsExt::from_mode(0o600)).unwrap();
    Estuary { place, store }
}

impl Estuary {
    fn object(&self, name: &str) -> PathBuf {
        self.store.file(name)
    }

    /// Bytes that were sent in parts since `from` requests.
    fn parts_sent(&self, from: usize) -> usize {
        let log = self.store.log();
        log[from..].iter().filter(|line| line.starts_with("PUT") && line.contains("partNumber")).count()
    }
}

fn words<'a>(dest: &'a str, shape: &'a str, more: &[&'a str]) -> Vec<&'a str> {
    let mut words = vec!["carry", "tidelog.ova", "--dest", dest, "--shape", shape];
    words.extend(AS_IT_IS);
    words.extend(more);
    words
}

/// Bytes of a file in which what differs from run to run is zero: the stamp, the identity and the checksum of a VHD's footer, the
/// identity in a descriptor's text.
fn without_stamps(shape: &str, mut bytes: Vec<u8>) -> Vec<u8> {
    if shape == "vhd/full" {
        let footer = bytes.len() - 512;
        // "Hard Disk Footer Format": time stamp at 24, checksum at 64, unique id at 68.
        for range in [24..28, 64..84] {
            bytes[footer..][range].fill(0);
        }
    }
    if shape == "vmdk/stream" {
        let at = bytes.windows(4).position(|window| window == b"CID=").unwrap();
        bytes[at + 4..at + 12].fill(b'0');
    }
    bytes
}

#[test]
fn what_is_put_is_what_lands_here_whatever_its_shape() {
    let estuary = estuary();
    let place = &estuary.place;
    place.write("tidelog.ova", &Export::small().archive());
    for (dest, shape, file, is_made_here) in [
        ("virtio-host", "raw/thin", "tidelog-0.raw", false),
        ("vmx-host", "vmdk/stream", "tidelog-0.vmdk", false),
        ("vmbus-cloud", "vhd/full", "tidelog-0.vhd", false),
        ("virtio-host", "qcow2/thin", "tidelog-0.qcow2", true),
    ] {
        let (here, folder) = (format!("here-{shape}"), format!("estuary:night/{shape}"));
        place.run(&words(dest, shape, &["--into", &here])).expect(0);
        let there = format!("there-{shape}");
        let ran = place.run(&words(dest, shape, &["--into", &there, "--store", &folder, "--json"])).expect(0);
        let json = ran.json();
        let landed = fs::read(place.path(&format!("{here}/tidelog/{file}"))).unwrap();
        let object = fs::read(estuary.object(&format!("night/{shape}/tidelog/{file}"))).unwrap();
        assert!(without_stamps(shape, object) == without_stamps(shape, landed), "{shape}");
        // The folder here keeps what is small, and the store has that too.
        let mut names: Vec<_> = fs::read_dir(place.path(&format!("{there}/tidelog")))
            .unwrap()
            .map(|entry| entry.unwrap().file_name())
            .collect();
        names.sort();
        assert!(!names.iter().any(|name| name.to_string_lossy().starts_with("tidelog-0")), "{names:?}");
        let result = format!("estuary:night/{shape}/tidelog/{file}");
        assert_eq!(json["receipt"]["disks"][0]["result"], result.as_str());
        let receipt = fs::read(place.path(&format!("{there}/tidelog/receipt.json"))).unwrap();
        assert!(fs::read(estuary.object(&format!("night/{shape}/tidelog/receipt.json"))).unwrap() == receipt);
        let codes = json["receipt"]["findings"].to_string();
        assert_eq!(codes.contains("made-here-first"), is_made_here, "{codes}");
        let proof = place.run(&["prove", &format!("{there}/tidelog/receipt.json")]).expect(0);
        assert!(proof.out.contains("The proof holds") && proof.out.contains(&result), "{}", proof.out);
        for text in [&ran.out, &ran.err, &proof.out, &String::from_utf8(receipt).unwrap()] {
            assert!(!text.contains(KEY) && !text.contains("Signature"), "{text}");
        }
    }
    assert!(estuary.store.uploads().is_empty());
    assert!(!estuary.store.log().iter().any(|line| line.contains(KEY)));
    // A byte that changes there is found.
    let object = estuary.object("night/raw/thin/tidelog/tidelog-0.raw");
    let mut bytes = fs::read(&object).unwrap();
    bytes[12 << 20] ^= 1;
    fs::write(&object, bytes).unwrap();
    place.run(&["prove", "there-raw/thin/tidelog/receipt.json"]).expect(4);
}

/// What a brief says of the store is what the command line says of it.
#[test]
fn a_brief_names_the_store() {
    let estuary = estuary();
    let place = &estuary.place;
    place.write("tidelog.ova", &Export::small().archive());
    let mut draft = vec![
        "draft",
        "tidelog.ova",
        "--dest",
        "virtio-host",
        "--into",
        "l",
        "--store",
        "estuary:night",
        "--out",
        "t.toml",
    ];
    draft.extend(&AS_IT_IS[..18]);
    let summary = place.run(&draft).expect(0).out;
    assert!(summary.lines().any(|line| line.contains("store") && line.contains("estuary:night")), "{summary}");
    assert!(fs::read_to_string(place.path("t.toml")).unwrap().contains("store = \"estuary:night\""));
    place.run(&["carry", "t.toml", "--accept", "will-not-boot"]).expect(0);
    assert!(estuary.object("night/tidelog/receipt.json").exists());
    place.run(&["prove", "l/tidelog/receipt.json"]).expect(0);
}

/// A manifest's digests are those of what went by.
#[test]
fn a_manifest_has_the_digests_of_what_is_there() {
    let estuary = estuary();
    let place = &estuary.place;
    place.write("tidelog.ova", &Export::small().archive());
    place
        .run(&words("vmx-host", "vmdk/stream", &["--into", "l", "--machine-file", "ovf", "--store", "estuary:"]))
        .expect(0);
    let manifest = fs::read_to_string(place.path("l/tidelog/tidelog.mf")).unwrap();
    for name in ["tidelog-0.vmdk", "tidelog-1.vmdk", "tidelog.ovf"] {
        let out =
            std::process::Command::new("sha256sum").arg(estuary.object(&format!("tidelog/{name}"))).output().unwrap();
        let sum = String::from_utf8(out.stdout).unwrap()[..64].to_string();
        assert!(manifest.contains(&format!("SHA256({name})= {sum}")), "{name}: {manifest}");
    }
    let refused =
        place.run(&words("vmx-host", "vmdk/stream", &["--into", "o", "--machine-file", "ova", "--store", "estuary:"]));
    assert!(refused.expect(1).err.contains("choose the machine file ovf"));
}

#[test]
fn what_a_store_will_not_take_is_told_before_a_byte_is_written() {
    let estuary = estuary();
    let place = &estuary.place;
    place.write("tidelog.ova", &Export::small().archive());
    let plain = words("virtio-host", "raw/thin", &["--into", "landing", "--store", "estuary:night"]);
    place.run(&plain).expect(0);
    fs::remove_dir_all(place.path("landing")).unwrap();
    let from = estuary.store.log().len();
    let taken = place.run(&plain).expect(1).err;
    assert!(
        taken.contains("'estuary:night/tidelog/tidelog-0.raw' is there already") && taken.contains("--force"),
        "{taken}"
    );
    let mut forced = plain.clone();
    forced.push("--force");
    estuary.store.deny(&["put"]);
    let denied = place.run(&forced).expect(1).err;
    assert!(denied.contains("may not put objects in 'saltmarsh'"), "{denied}");
    assert_eq!(estuary.parts_sent(from), 0);
    assert!(!place.path("landing").exists());
    estuary.store.deny(&[]);
    place.run(&forced).expect(0);
    let nowhere =
        place.run(&words("virtio-host", "raw/thin", &["--into", "x", "--store", "delta:night"])).expect(1).err;
    assert!(nowhere.contains("looking for the store 'delta'") && nowhere.contains("there are estuary"), "{nowhere}");
    let no_place = place.run(&words("virtio-host", "raw/thin", &["--into", "x", "--store", "estuary"])).expect(1).err;
    assert!(no_place.contains("NAME:FOLDER"), "{no_place}");
}

#[test]
fn stores_are_listed_tried_and_cleaned() {
    let estuary = estuary();
    let place = &estuary.place;
    let list = place.run(&["hosts"]).expect(0).out;
    assert!(list.contains("estuary") && list.contains("objects"), "{list}");
    assert_eq!(place.run(&["hosts", "--json"]).expect(0).json()["stores"][0]["name"], "estuary");
    assert!(place.run(&["hosts", "estuary"]).expect(0).out.contains("no upload is left unfinished"));
    let mut export = Export::small();
    export.disks[0] = Export::new(&incompressible(40), &Content::empty(8 << 20)).disks[0].clone();
    place.write("tidelog.ova", &Export::new(&incompressible(40), &Content::empty(8 << 20)).archive());
    estuary.store.set_quota(20 << 20);
    let full = place.run(&words("virtio-host", "raw/thin", &["--into", "l", "--store", "estuary:night"])).expect(1).err;
    assert!(full.contains("no room") && full.contains("--resume"), "{full}");
    assert!(place.run(&["hosts", "estuary"]).expect(0).out.contains("one upload is left unfinished"));
    let cleaned = place.run(&["hosts", "estuary", "--clean"]).expect(0).out;
    assert!(
        cleaned.contains("estuary:night/tidelog/tidelog-0.raw") && cleaned.contains("no upload is left"),
        "{cleaned}"
    );
    assert!(estuary.store.uploads().is_empty());
    // What goes on after that begins anew, and ends right.
    estuary.store.set_quota(u64::MAX);
    place.run(&words("virtio-host", "raw/thin", &["--into", "l", "--store", "estuary:night", "--resume"])).expect(0);
    place.run(&["prove", "l/tidelog/receipt.json"]).expect(0);
}

/// A disk that is in the store, whole, is read again and not sent again; and what was begun is no name that is taken.
#[test]
fn a_disk_that_is_there_is_not_sent_again() {
    for (dest, shape) in [("virtio-host", "raw/thin"), ("vmbus-cloud", "vhd/full"), ("virtio-host", "qcow2/thin")] {
        let estuary = estuary();
        let place = &estuary.place;
        place.write("tidelog.ova", &Export::new(&incompressible(17), &incompressible(6)).archive());
        // Room for the first disk alone.
        estuary.store.set_quota(19 << 20);
        let mut carry = words(dest, shape, &["--into", "l", "--store", "estuary:night"]);
        let full = place.run(&carry).expect(1).err;
        assert!(full.contains("no room") && full.contains("--resume"), "{full}");
        estuary.store.set_quota(u64::MAX);
        let from = estuary.store.log().len();
        carry.push("--resume");
        place.run(&carry).expect(0);
        assert_eq!(estuary.parts_sent(from), 1, "{shape}");
        place.run(&["prove", "l/tidelog/receipt.json"]).expect(0);
        assert!(estuary.store.uploads().is_empty());
    }
}

/// The same move, given once more while it is under way, is refused and does the first one no harm; and a limit is kept.
#[test]
fn a_second_run_leaves_the_first_alone() {
    let estuary = estuary();
    let place = &estuary.place;
    place.write("tidelog.ova", &Export::new(&incompressible(17), &Content::empty(1 << 20)).archive());
    let carry = words("virtio-host", "raw/thin", &["--into", "l", "--store", "estuary:night", "--limit", "4MiB/s"]);
    let start = Instant::now();
    let first = place.command(&carry).stdout(Stdio::null()).stderr(Stdio::null()).spawn().unwrap();
    while estuary.store.uploads().is_empty() {
        assert!(start.elapsed() < Duration::from_secs(30));
        std::thread::sleep(Duration::from_millis(20));
    }
    let second = place.run(&carry).expect(1).err;
    assert!(second.contains("another run"), "{second}");
    assert_eq!(estuary.store.uploads().len(), 1);
    let mut first = first;
    assert!(first.wait().unwrap().success());
    assert!(start.elapsed() > Duration::from_secs(3), "18 MiB at 4 MiB/s took {:?}", start.elapsed());
    place.run(&["prove", "l/tidelog/receipt.json"]).expect(0);
}

fn incompressible(mib: u64) -> Content {
    Content::empty(mib << 20).with(0, mib << 20, 7)
}

/// Killed at some points: `--resume` ends right, sends no part twice that was whole, and leaves nothing unfinished.
fn killed(points: u32) {
    let estuary = estuary();
    let place = &estuary.place;
    place.write("tidelog.ova", &Export::new(&incompressible(17), &Content::empty(1 << 20)).archive());
    let carry = |into: &str, more: &[&str]| {
        let all = [&["--into", into, "--store", "estuary:night"], more].concat();
        place
            .command(&words("virtio-host", "raw/thin", &all))
            .stdout(Stdio::null())
            .stderr(Stdio::null())
            .spawn()
            .unwrap()
    };
    let start = Instant::now();
    assert!(carry("first", &[]).wait().unwrap().success());
    let mut time = start.elapsed().min(Duration::from_secs(4));
    let whole = fs::read(estuary.object("night/tidelog/tidelog-0.raw")).unwrap();
    let mut cut_off = 0;
    for point in 0..points {
        let into = format!("landing-{point}");
        let from = estuary.store.log().len();
        let mut child = carry(&into, &["--force"]);
        let moment = time * (point * 37 % points) / points;
        std::thread::sleep(moment);
        child.kill().unwrap();
        if child.wait().unwrap().success() {
            // It takes less time than was thought.
            time = moment;
        } else {
            cut_off += 1;
        }
        // The first run's object was let go of only when its place was taken.
        let was_there = estuary.store.uploads().len();
        assert!(was_there <= 2, "{was_there}");
        let again = carry(&into, &["--force", "--resume"]).wait().unwrap();
        assert!(again.success(), "point {point}");
        assert!(fs::read(estuary.object("night/tidelog/tidelog-0.raw")).unwrap() == whole, "point {point}");
        assert!(estuary.store.uploads().is_empty(), "point {point}: {:?}", estuary.store.uploads());
        // Two parts and one: whatever was answered before the kill is not sent again. What was under way then may be.
        let sent = estuary.parts_sent(from);
        assert!((3..=3 + 3).contains(&sent), "point {point}: {sent}");
        fs::remove_dir_all(place.path(&into)).unwrap();
    }
    assert!(cut_off > 0, "none of {points} was cut off");
}

#[test]
fn a_move_into_a_store_goes_on_after_a_kill() {
    killed(6);
}

#[test]
#[ignore = "minutes: part of the slower checks"]
fn a_move_into_a_store_goes_on_after_fifty_kills() {
    killed(50);
}

/// The store breaks off in the middle of parts, again and again, and is busy: nobody notices but in what is told.
#[test]
fn a_store_that_breaks_off_is_told_of_and_outlasted() {
    let estuary = estuary();
    let place = &estuary.place;
    place.write("tidelog.ova", &Export::new(&incompressible(40), &Content::empty(8 << 20)).archive());
    estuary.store.go_wrong(Faults { cut: Some((5 << 20, 3)), ..Faults::default() });
    let ran = place.run(&words("virtio-host", "raw/thin", &["--into", "l", "--store", "estuary:night"])).expect(0);
    assert!(ran.err.contains("trying again"), "{}", ran.err);
    place.run(&["prove", "l/tidelog/receipt.json"]).expect(0);
}

/// Five TiB on the way into a store of each kind, of which little holds something: the memory that is taken does not grow with the size.
#[test]
fn a_huge_disk_takes_no_more_memory_on_its_way() {
    if !is_installed("/usr/bin/time") {
        // Past the runner, which keeps what tests print.
        writeln!(std::io::stderr(), "SKIPPED a_huge_disk_takes_no_more_memory_on_its_way: there is no time").unwrap();
        return;
    }
    let estuary = estuary();
    let place = &estuary.place;
    let pages = PageStore::start(PageOptions::new(place.path("pages"))).unwrap();
    let site = fs::read_to_string(place.path("reformis.toml")).unwrap();
    let quay = format!(
        "[store.quay]\nkind = \"pages\"\nat = \"{}\"\nkey-id = \"saltmarsh\"\nkey = {{ file = \"quay-key\" }}\n",
        pages.link()
    );
    place.write("reformis.toml", format!("{site}{quay}").as_bytes());
    place.write("quay-key", format!("{}\n", PageOptions::new("").key).as_bytes());
    fs::set_permissions(place.path("quay-key"), std::os::unix::fs::PermissionsExt::from_mode(0o600)).unwrap();
    let size = 5u64 << 40;
    let huge = fs::File::create(place.path("huge.raw")).unwrap();
    huge.set_len(size).unwrap();
    let bytes = vec![0x5a; 24 << 20];
    for at in [0, 1 << 40, size - bytes.len() as u64] {
        huge.write_all_at(&bytes, at).unwrap();
    }
    // A stream is 72 MiB in one part of more than half a GiB; pages are put one by one.
    for (shape, dest, store) in
        [("vmdk/stream", "vmx-host", "estuary:night"), ("raw/thin", "virtio-host", "quay:night")]
    {
        let mut words = vec!["-f", "%M", PROGRAM, "carry", "huge.raw", "--dest", dest, "--shape", shape];
        words.extend([
            "--into",
            store.split(':').next().unwrap(),
            "--store",
            store,
            "--memory",
            "1GiB",
            "--network",
            "default",
        ]);
        words.extend(AS_IT_IS);
        let output = Command::new("/usr/bin/time")
            .args(&words)
            .current_dir(place.path(""))
            .stdin(Stdio::null())
            .output()
            .unwrap();
        let ran = Ran::from(output).expect(0);
        let kib: u64 = ran.err.lines().last().unwrap().trim().parse().unwrap();
        assert!(kib < 128 << 10, "{shape}: {kib} KiB of memory");
    }
    let runs = pages.runs("night/huge/huge-0.raw");
    assert_eq!(runs.iter().map(|(start, end)| end - start).sum::<u64>(), 72 << 20);
    assert_eq!((runs.first().unwrap().0, runs.last().unwrap().1), (0, size));
}

/// A folder of a real web server takes whole files, which are made here first.
#[test]
fn a_folder_takes_files_by_put() {
    if !is_installed("nginx") {
        return;
    }
    let place = Place::new();
    fs::create_dir_all(place.path("www/put")).unwrap();
    fs::create_dir_all(place.path("www/dav")).unwrap();
    let authority = Authority::new(&place.path("")).unwrap();
    for (name, names) in [("server", "DNS:store.inner.example"), ("local", "DNS:localhost,IP:127.0.0.1")] {
        authority.issue(name, names, "serverAuth").unwrap();
    }
    let nginx = Nginx::start(&place.path(""), &place.path("www"), &authority).unwrap();
    let at = format!("https://localhost:{}/put", nginx.certificates);
    let site = format!("[store.quay]\nkind = \"folder\"\nat = \"{at}\"\n[link.\"{at}\"]\nauthorities = [\"ca.pem\"]\n");
    place.write("reformis.toml", site.as_bytes());
    place.write("tidelog.ova", &Export::small().archive());
    assert!(place.run(&["hosts", "quay"]).expect(0).out.contains("sent as a whole"));
    let ran = place.run(&words("virtio-host", "raw/thin", &["--into", "l", "--store", "quay:night"])).expect(0);
    assert!(ran.err.contains("is made in the landing's folder first"), "{}", ran.err);
    place.run(&words("virtio-host", "raw/thin", &["--into", "here"])).expect(0);
    let put = fs::read(place.path("www/put/night/tidelog/tidelog-0.raw")).unwrap();
    assert!(put == fs::read(place.path("here/tidelog/tidelog-0.raw")).unwrap());
    assert!(!place.path("l/tidelog/tidelog-0.raw").exists());
    place.run(&["prove", "l/tidelog/receipt.json"]).expect(0);
    // Where the server does not make folders, we do.
    place.write("reformis.toml", site.replace("/put\"", "/dav\"").as_bytes());
    place.run(&words("virtio-host", "raw/thin", &["--into", "n", "--store", "quay:deep/night"])).expect(0);
    assert!(place.path("www/dav/deep/night/tidelog/receipt.json").exists());
    place.write("reformis.toml", site.as_bytes());
    let taken = place.run(&words("virtio-host", "raw/thin", &["--into", "m", "--store", "quay:night"])).expect(1).err;
    assert!(taken.contains("is there already"), "{taken}");
}

/// A page store has a fixed VHD as pages; what is in no whole pages is refused before a byte is written. What lies there is a target.
#[test]
fn a_page_store_has_the_pages_that_hold_something() {
    let place = Place::new();
    let options = PageOptions::new(place.path("pages"));
    let key = options.key.clone();
    let pages = PageStore::start(options).unwrap();
    let site = format!(
        "[store.quay]\nkind = \"pages\"\nat = \"{}\"\nkey-id = \"saltmarsh\"\nkey = {{ file = \"key\" }}\n",
        pages.link()
    );
    place.write("reformis.toml", site.as_bytes());
    place.write("key", format!("{key}\n").as_bytes());
    fs::set_permissions(place.path("key"), std::os::unix::fs::PermissionsExt::from_mode(0o600)).unwrap();
    place.write("tidelog.ova", &Export::small().archive());
    let about = place.run(&["hosts", "quay"]).expect(0).out;
    assert!(about.contains("those that hold nothing are not sent"), "{about}");
    for (dest, shape) in [("vmx-host", "vmdk/stream"), ("virtio-host", "qcow2/thin")] {
        let refused = place.run(&words(dest, shape, &["--into", "x", "--store", "quay:night"])).expect(1).err;
        assert!(refused.contains("takes raw disks and vhd/full in whole pages of 512 bytes"), "{refused}");
    }
    assert!(!place.path("x").exists());
    for (dest, shape, file) in
        [("vmbus-cloud", "vhd/full", "tidelog-0.vhd"), ("virtio-host", "raw/thin", "tidelog-0.raw")]
    {
        let (here, there, folder) = (format!("here-{shape}"), format!("there-{shape}"), format!("quay:night/{shape}"));
        place.run(&words(dest, shape, &["--into", &here])).expect(0);
        let from = pages.log().len();
        place.run(&words(dest, shape, &["--into", &there, "--store", &folder])).expect(0);
        let name = format!("night/{shape}/tidelog/{file}");
        let landed = fs::read(place.path(&format!("{here}/tidelog/{file}"))).unwrap();
        assert!(without_stamps(shape, pages.bytes(&name)) == without_stamps(shape, landed), "{shape}");
        let put: u64 = pages.runs(&name).iter().map(|(start, end)| end - start).sum();
        assert!(put < 2 << 20, "1.2 MiB of 40 hold something: {put}");
        place.run(&["prove", &format!("{there}/tidelog/receipt.json")]).expect(0);
        // Holes are asked of the list of pages: nothing of them is fetched.
        let log = pages.log();
        let is_read = |line: &&String| line.starts_with("GET") && line.contains("range: bytes=31457280-");
        assert_eq!(log[from..].iter().filter(is_read).count(), 0);
        // As a target, by its name, without what lets in.
        let target = format!("quay:{name}");
        let survey = place.run(&["survey", &target]).expect(0).out;
        assert!(survey.contains(&target), "{survey}");
        place.run(&["recast", &target, &format!("{shape}.qcow2").replace('/', "-")]).expect(0);
        let proof = place.run(&["prove", &target, &format!("{shape}.qcow2").replace('/', "-")]).expect(0).out;
        assert!(!proof.contains("sig="), "{proof}");
    }
    // While a machine runs from it, one moment of it is read; that is said, and nothing stays there.
    let name = "quay:night/vhd/full/tidelog/tidelog-0.vhd";
    let survey = place.run(&["survey", name, "--while-running", "--json"]).expect(0);
    assert!(survey.json()["targets"][0]["findings"].to_string().contains("read-while-running"), "{}", survey.out);
    place.run(&["recast", name, "moment.qcow2", "--while-running"]).expect(0);
    place.run(&["prove", name, "moment.qcow2"]).expect(0);
    assert!(pages.snapshots().is_empty() && pages.log().iter().any(|line| line.contains("comp=snapshot")));
    let none = place.run(&["survey", "quay:night/nothing.vhd"]).expect(1).err;
    assert!(none.contains("nothing of this name") || none.contains("404"), "{none}");
    assert!(!pages.log().iter().any(|line| line.contains(&key)));
}
