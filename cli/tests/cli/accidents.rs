//! Kill it, fill the disk, change the source under it, and look at what is left.

use std::{
    fs,
    io::{Read, Seek, SeekFrom, Write},
    process::{Child, Stdio},
    time::{Duration, Instant},
};

use reformis_standin::content::Content;
use rustix::process::{Pid, Signal, kill_process};

use crate::support::{Export, PROGRAM, Place, Ran};

/// An export that takes a while: hard to compress.
fn large_export(place: &Place) {
    let system = Content::empty(48 << 20).with(0, 32 << 20, 1);
    let export = Export { kind: None, ..Export::new(&system, &Content::empty(8 << 20)) };
    place.write("tidelog.ova", &export.archive());
}

/// A raw disk that takes a while: the same 32 MiB again and again.
fn large(place: &Place) {
    let mut block = vec![0; 32 << 20];
    Content::empty(32 << 20).with(0, 32 << 20, 1).read_at(0, &mut block);
    let mut file = fs::File::create(place.path("large.img")).unwrap();
    for _ in 0..6 {
        file.write_all(&block).unwrap();
    }
}

/// A shape of each writer, and what takes another way through one.
fn shapes() -> Vec<(String, Vec<String>)> {
    let plain = [
        "raw/thin",
        "qcow2/thin",
        "qcow2/full",
        "vmdk/thin",
        "vmdk/stream",
        "vmdk/split",
        "vhdx/thin",
        "vhd/thin",
        "vdi/thin",
    ]
    .map(|shape| ("large.vmdk".to_string(), vec!["--as".into(), shape.into()]));
    let more = [("large.raw.zst", &[][..]), ("large.qcow2", &["--squeeze", "deflate"])];
    let more = more.map(|(name, args)| (name.to_string(), args.iter().map(ToString::to_string).collect()));
    plain.into_iter().chain(more).collect()
}

/// Starts a recast of the large file and waits until its result has begun to grow.
fn start_as(place: &Place, name: &str, more: &[String]) -> Child {
    let child = place
        .command(&["recast", "large.img", name, "--from", "raw"])
        .args(more)
        .stdout(Stdio::piped())
        .stderr(Stdio::piped())
        .spawn()
        .unwrap();
    let until = Instant::now() + Duration::from_secs(30);
    let hidden = |name: &String| name.starts_with('.');
    let size = |name: &String| fs::metadata(place.path(name)).map_or(0, |metadata| metadata.len());
    while place.tree().iter().filter(|name| hidden(name)).map(size).sum::<u64>() < 1 << 20 {
        assert!(Instant::now() < until, "nothing was written");
    }
    child
}

fn start(place: &Place) -> Child {
    start_as(place, "large.qcow2", &[])
}

fn signal(child: &Child, signal: Signal) {
    kill_process(Pid::from_child(child), signal).unwrap();
}

#[test]
fn what_a_killed_run_leaves_is_known_and_the_next_run_succeeds() {
    let place = Place::new();
    large(&place);
    let mut small = vec![7; 3 << 20];
    small[510..512].copy_from_slice(&[0x55, 0xaa]);
    place.write("small.img", &small);
    for (name, more) in shapes() {
        let mut child = start_as(&place, &name, &more);
        signal(&child, Signal::KILL);
        child.wait().unwrap();
        let left = place.tree();
        assert!(left.iter().all(|name| name.starts_with(".large") || name.ends_with(".img")), "{more:?}: {left:?}");
        let args: Vec<&str> = ["recast", "small.img", &name, "--from", "raw"].into_iter().collect();
        Ran::from(place.command(&args).args(&more).output().unwrap()).expect(0);
        let left = place.tree();
        assert!(!left.iter().any(|name| name.starts_with('.')), "{more:?}: {left:?}");
        if !name.ends_with("zst") {
            let ran = place.run(&["recast", &name, "back.img", "--force"]).expect(0);
            assert!(fs::read(place.path("back.img")).unwrap() == small, "{more:?}: {}", ran.out);
        }
        for made in left.iter().filter(|name| name.starts_with("large") && *name != "large.img") {
            fs::remove_file(place.path(made)).unwrap();
        }
    }
}

/// Landings of every way of writing: files, one archive, descriptor and extents, compressed as a whole; and a file of each
/// that grows.
const LANDINGS: [(&str, &str); 5] = [
    ("--dest virtio-host", "tidelog-0.qcow2"),
    ("--dest vmx-host", "tidelog-0.vmdk"),
    ("--dest vmx-host --machine-file ova", "tidelog.ova"),
    ("--dest vmx-host --machine-file vmx --shape vmdk/full", "tidelog-0-flat.vmdk"),
    ("--dest virtio-cloud", "tidelog-0.raw.gz"),
];

#[test]
fn a_killed_carry_leaves_only_what_is_hidden_and_the_next_one_clears_it_away() {
    let place = Place::new();
    large_export(&place);
    for (how, file) in LANDINGS {
        let args: Vec<&str> = ["carry", "tidelog.ova", "--into", "landing"].into_iter().chain(how.split(' ')).collect();
        let mut child = place.command(&args).stdout(Stdio::null()).stderr(Stdio::null()).spawn().unwrap();
        let partial = place.path("landing/.tidelog.reformis-partial").join(file);
        let until = Instant::now() + Duration::from_secs(30);
        // What has all its space at first has grown when the disk's bytes take it.
        while fs::metadata(&partial).map_or(0, |metadata| metadata.len()) < 1 << 20 {
            assert!(Instant::now() < until, "nothing was written");
        }
        signal(&child, Signal::KILL);
        child.wait().unwrap();
        let listed =
            || -> Vec<_> { fs::read_dir(place.path("landing")).unwrap().map(|e| e.unwrap().file_name()).collect() };
        let left = listed();
        assert!(left.iter().all(|name| name.to_string_lossy().starts_with(".tidelog.reformis-")), "{how}: {left:?}");
        let landed = place.run(&args).expect(0).out;
        assert!(landed.contains("stale-removed"), "{landed}");
        assert_eq!(listed(), ["tidelog"], "{how}");
        place.run(&["prove", "landing/tidelog/receipt.json"]).expect(0);
        fs::remove_dir_all(place.path("landing")).unwrap();
    }
}

#[test]
fn an_interrupt_leaves_nothing() {
    let place = Place::new();
    large(&place);
    for (number, (name, more)) in shapes().into_iter().enumerate() {
        let child = start_as(&place, &name, &more);
        signal(&child, if number % 2 == 0 { Signal::INT } else { Signal::TERM });
        let ran = Ran::from(child.wait_with_output().unwrap()).expect(130);
        assert!(ran.err.contains("interrupted: nothing half-made was left"), "{}", ran.err);
        assert_eq!(place.tree(), ["large.img"], "{more:?}");
    }
}

#[test]
fn two_runs_do_not_write_the_same_result() {
    let place = Place::new();
    large(&place);
    let mut first = start(&place);
    signal(&first, Signal::STOP);
    let second = place.run(&["recast", "large.img", "large.qcow2", "--from", "raw"]).expect(1);
    assert!(second.err.contains("another run is writing"), "{}", second.err);
    signal(&first, Signal::CONT);
    assert!(first.wait().unwrap().success());
}

#[test]
fn a_source_that_is_written_meanwhile_is_an_error() {
    let place = Place::new();
    large(&place);
    // It is noticed by who reads; one that is written slowly is one that is read slowly.
    for (name, more) in [("large.qcow2", vec![]), ("large.vmdk", vec!["--as".into(), "vmdk/stream".into()])] {
        let child = start_as(&place, name, &more);
        signal(&child, Signal::STOP);
        let mut source = fs::File::options().write(true).open(place.path("large.img")).unwrap();
        source.seek(SeekFrom::Start(5)).unwrap();
        source.write_all(b"x").unwrap();
        signal(&child, Signal::CONT);
        let ran = Ran::from(child.wait_with_output().unwrap()).expect(1);
        assert!(ran.err.contains("changed while it was read"), "{more:?}: {}", ran.err);
        assert_eq!(place.tree(), ["large.img"], "{more:?}");
    }
}

#[test]
fn a_source_that_becomes_shorter_is_an_error() {
    let place = Place::new();
    large(&place);
    let child = start(&place);
    signal(&child, Signal::STOP);
    fs::File::options().write(true).open(place.path("large.img")).unwrap().set_len(1 << 20).unwrap();
    signal(&child, Signal::CONT);
    let ran = Ran::from(child.wait_with_output().unwrap()).expect(1);
    assert!(ran.err.contains("changed while it was read (it became shorter)"), "{}", ran.err);
    assert_eq!(place.tree(), ["large.img"]);
}

/// A file size limit fails a write in the middle as a full device does, and needs no rights; `hosts.rs` has the real one.
#[test]
fn a_write_that_fails_in_the_middle_leaves_nothing() {
    let place = Place::new();
    large(&place);
    large_export(&place);
    let recasts =
        shapes().into_iter().map(|(name, more)| format!("recast large.img {name} --from raw {}", more.join(" ")));
    let carries = LANDINGS.map(|(how, _)| format!("carry tidelog.ova --into landing {how}"));
    for command in recasts.chain(carries) {
        // In blocks of 1 KiB; the signal that comes with it is ignored, so that the error arrives.
        let script = format!("trap '' XFSZ; ulimit -f 20000; exec {PROGRAM} {command}");
        let mut shell = std::process::Command::new("bash");
        let output = shell.args(["-c", &script]).current_dir(place.path("")).output().unwrap();
        let ran = Ran::from(output).expect(1);
        assert!(ran.err.contains("File too large"), "{command}: {}", ran.err);
        assert_eq!(place.tree(), ["large.img", "tidelog.ova"]);
    }
}

#[test]
fn the_source_is_never_opened_for_writing() {
    let place = Place::new();
    place.write("tidelog.ova", &Export::small().archive());
    let path = place.path("tidelog.ova");
    let mut permissions = fs::metadata(&path).unwrap().permissions();
    permissions.set_readonly(true);
    fs::set_permissions(&path, permissions).unwrap();
    place.carry(&[]).expect(0);
    let mut bytes = Vec::new();
    fs::File::open(path).unwrap().read_to_end(&mut bytes).unwrap();
    assert_eq!(bytes, Export::small().archive());
}
