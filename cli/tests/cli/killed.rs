//! Every command that writes, killed at system calls that are drawn at random: the same command, given again, ends what was begun, and nothing
//! of the killed run is left.

use std::{
    collections::BTreeMap,
    fs,
    path::Path,
    process::{Command, Stdio},
    sync::OnceLock,
};

use reformis_standin::{content::Content, servers::is_installed};

use crate::support::{AS_IT_IS, PROGRAM, Place, TIDELOG};

/// The calls that make, name, change, flush or remove something, and those that look for it first.
const CALLS: &str = "openat,mkdir,mkdirat,rename,renameat,renameat2,link,linkat,unlink,unlinkat,rmdir,fsync,fdatasync,ftruncate,fchmod,\
                     fchown,flock,fallocate,pwrite64,write,newfstatat,fcntl";

struct Chance(u64);

impl Chance {
    fn below(&mut self, most: u64) -> u64 {
        self.0 = self.0.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
        (self.0 >> 33) % most
    }
}

/// A call of a thread: its name, and which of that name it is there, from 1.
type Call = (String, u64);

/// The program under a tracer that kills it at a call, or that writes all calls to `trace`.
fn traced(place: &Place, words: &[&str], when: Option<&Call>) -> Command {
    let mut command = Command::new("strace");
    command.args(["-f", "-qq", "-o"]);
    match when {
        None => command.arg(place.path("trace")),
        Some(_) => command.arg("/dev/null"),
    };
    command.args(["-e", &format!("trace={CALLS}")]);
    if let Some((call, when)) = when {
        command.args(["-e", &format!("inject={call}:signal=SIGKILL:when={when}")]);
    }
    command.arg(PROGRAM).args(words).current_dir(place.path(""));
    command.stdin(Stdio::null()).stdout(Stdio::null()).stderr(Stdio::null());
    command
}

/// The calls in a trace, in their order.
fn calls_of(trace: &str) -> Vec<Call> {
    let mut counts: BTreeMap<(&str, &str), u64> = BTreeMap::new();
    let calls = trace.lines().filter_map(|line| line.split_once(' ')).filter_map(|(thread, rest)| {
        let (name, _) = rest.trim().split_once('(')?;
        CALLS.split(',').any(|call| call == name).then_some((thread, name))
    });
    let mut found = Vec::new();
    for (thread, name) in calls {
        let count = counts.entry((thread, name)).or_default();
        *count += 1;
        found.push((name.to_string(), *count));
    }
    found
}

/// One command, what it starts from, and what must hold in the end.
struct Trial {
    name: &'static str,
    words: Vec<&'static str>,
    /// Brings the place to its beginning.
    prepare: fn(&Place),
    /// Whether a second run may find that the first one had ended.
    may_be_there: bool,
    judge: fn(&Place),
}

/// All that lies in the place, hidden or not.
fn names(place: &Path) -> Vec<String> {
    let mut names: Vec<String> =
        fs::read_dir(place).unwrap().map(|entry| entry.unwrap().file_name().to_string_lossy().into_owned()).collect();
    names.sort();
    names
}

fn disk(place: &Place) {
    let content = Content::empty(5 << 20).with(0, 900_000, 1).with(3 << 20, 1 << 20, 2);
    let mut bytes = vec![0; 5 << 20];
    content.read_at(0, &mut bytes);
    bytes[446..510].fill(0);
    bytes[510..512].copy_from_slice(&[0x55, 0xaa]);
    place.write("gauge.raw", &bytes);
}

fn carry(more: &[&'static str]) -> Vec<&'static str> {
    let words = ["carry", "gauge.raw", "--dest", "virtio-host", "--into", "landing", "--name", "gauge"];
    [&words[..], &["--memory", "512MiB", "--network", "default", "--accept", "no-system"], &AS_IT_IS, more].concat()
}

fn has_landed(place: &Place) {
    place.run(&["prove", "landing/gauge/receipt.json"]).expect(0);
    place.run(&["prove", "gauge.raw", "landing/gauge/gauge-0.qcow2"]).expect(0);
    assert_eq!(names(&place.path("landing")), ["gauge"]);
    assert_eq!(names(&place.path("landing/gauge")), ["gauge-0.qcow2", "gauge.xml", "receipt.json"]);
}

fn is_recast(place: &Place) {
    place.run(&["prove", "gauge.raw", "gauge.vmdk"]).expect(0);
    let names: Vec<_> = names(&place.path("")).into_iter().filter(|name| name.contains("partial")).collect();
    assert!(names.is_empty(), "{names:?}");
}

/// The demo's tidelog, and a file to put in.
fn guest(place: &Place) {
    static DISK: OnceLock<Vec<u8>> = OnceLock::new();
    let disk = DISK.get_or_init(|| {
        place.write("tidelog.ova", TIDELOG);
        place.run(&["recast", "tidelog.ova/tidelog-disk1.vmdk", "tidelog.qcow2", "-q"]).expect(0);
        fs::read(place.path("tidelog.qcow2")).unwrap()
    });
    place.write("tidelog.qcow2", disk);
    place.write("note", b"the tide is out\n");
}

/// Only what was begun with is there, beside the changed disk.
fn is_alone(place: &Place) {
    let strange: Vec<_> = names(&place.path(""))
        .into_iter()
        .filter(|name| !["note", "tidelog.ova", "tidelog.qcow2", "trace"].contains(&name.as_str()))
        .collect();
    assert!(strange.is_empty(), "{strange:?}");
}

/// Its first file system is sound, as its checker says.
fn is_sound(place: &Place) {
    place.run(&["recast", "tidelog.qcow2", "tidelog.raw", "-q"]).expect(0);
    let table = Command::new("sfdisk").arg("--json").arg(place.path("tidelog.raw")).output().unwrap();
    let table: serde_json::Value = serde_json::from_slice(&table.stdout).unwrap();
    let start = table["partitiontable"]["partitions"][0]["start"].as_u64().unwrap() * 512;
    let volume = format!("{}?offset={start}", place.path("tidelog.raw").display());
    let checked = Command::new("e2fsck").args(["-fn", &volume]).output().unwrap();
    assert!(checked.status.success(), "{}", String::from_utf8_lossy(&checked.stdout));
    fs::remove_file(place.path("tidelog.raw")).unwrap();
}

fn is_patched(place: &Place) {
    is_sound(place);
    let said = place.run(&["peek", "tidelog.qcow2", "/etc/motd"]).expect(0).out;
    assert_eq!(said, "the tide is out\n");
    is_alone(place);
}

fn is_refitted(place: &Place) {
    is_sound(place);
    let again = place.run(&["refit", "tidelog.qcow2", "--dest", "virtio-host", "--in-place"]).expect(0);
    assert!(again.out.contains("Boots on virtio-host"), "{}{}", again.out, again.err);
    is_alone(place);
}

fn trials() -> Vec<Trial> {
    let landed = |name, more: &[&'static str], prepare: fn(&Place), may_be_there| Trial {
        name,
        words: carry(more),
        prepare,
        may_be_there,
        judge: has_landed,
    };
    vec![
        Trial {
            name: "recast",
            words: vec!["recast", "gauge.raw", "gauge.vmdk", "--as", "vmdk/split"],
            prepare: disk,
            may_be_there: true,
            judge: is_recast,
        },
        Trial {
            name: "recast over another",
            words: vec!["recast", "gauge.raw", "gauge.vmdk", "--force"],
            prepare: |place| {
                disk(place);
                place.write("gauge.vmdk", b"an old one");
            },
            may_be_there: false,
            judge: is_recast,
        },
        landed("carry", &[], disk, true),
        landed("resume", &["--resume"], disk, false),
        landed(
            "carry over another",
            &["--force"],
            |place| {
                disk(place);
                place.run(&carry(&[])).expect(0);
            },
            false,
        ),
        landed(
            "second pass",
            &["--finish"],
            |place| {
                disk(place);
                place.run(&carry(&["--ahead"])).expect(0);
                let path = place.path("gauge.raw");
                let file = fs::File::options().write(true).open(path).unwrap();
                std::os::unix::fs::FileExt::write_all_at(&file, &[7; 5000], 4 << 20).unwrap();
            },
            false,
        ),
        Trial {
            name: "both passes",
            words: carry(&["--ahead"]),
            prepare: disk,
            may_be_there: false,
            judge: |place| {
                place.run(&carry(&["--finish"])).expect(0);
                has_landed(place);
            },
        },
        Trial {
            name: "night",
            words: vec!["fleet", "run", "night.toml", "-q", "--at-once", "2"],
            prepare: |place| {
                disk(place);
                let row = |name: &str, more: &str| {
                    format!("[[machine]]\nname = \"{name}\"\nsource = \"gauge.raw\"\n{more}\n")
                };
                let defaults = "[failure]\ntries = 9\n[defaults]\ndestination = \"virtio-host\"\ninto = \"landing\"\nmemory = \"512MiB\"\nnetwork = \"default\"\naccept = [\"no-system\", \"will-not-boot\"]\n";
                let rows = row("gauge", "") + &row("zostera", "ahead = true") + &row("wrack", "after = [\"gauge\"]");
                place.write("night.toml", (defaults.to_string() + &rows).as_bytes());
            },
            may_be_there: false,
            judge: |place| {
                let status = place.run(&["fleet", "status", "night.toml", "--json"]).expect(0).json();
                assert_eq!(status["counts"]["landed"], 3, "{status}");
                assert_eq!(names(&place.path("landing")), ["gauge", "wrack", "zostera"]);
                for name in ["gauge", "wrack", "zostera"] {
                    place.run(&["prove", &format!("landing/{name}/receipt.json")]).expect(0);
                }
            },
        },
        Trial {
            name: "undo",
            words: vec!["fleet", "undo", "night.toml", "zostera"],
            prepare: |place| {
                disk(place);
                // A name behind that of the receipt: what is removed in order would leave it alone.
                let row = "[[machine]]\nname = \"zostera\"\nsource = \"gauge.raw\"\ndestination = \"virtio-host\"\ninto = \"landing\"\n";
                let more = "memory = \"512MiB\"\nnetwork = \"default\"\naccept = [\"no-system\", \"will-not-boot\"]\n";
                place.write("night.toml", (row.to_string() + more).as_bytes());
                place.run(&["fleet", "run", "night.toml", "-q"]).expect(0);
            },
            may_be_there: false,
            judge: |place| {
                let status = place.run(&["fleet", "status", "night.toml", "--json"]).expect(0).json();
                assert_eq!(status["machines"][0]["state"], "undone", "{status}");
                assert!(names(&place.path("landing")).is_empty(), "{:?}", names(&place.path("landing")));
            },
        },
        Trial {
            name: "patch",
            words: vec!["patch", "tidelog.qcow2", "--put", "note:/etc/motd", "--in-place"],
            prepare: guest,
            may_be_there: false,
            judge: is_patched,
        },
        Trial {
            name: "refit",
            words: vec!["refit", "tidelog.qcow2", "--dest", "virtio-host", "--in-place"],
            prepare: guest,
            may_be_there: false,
            judge: is_refitted,
        },
    ]
}

/// Kills each command `times` times in all.
fn killed(times: u64, seed: u64) {
    let mut chance = Chance(seed);
    let trials = trials();
    let places: Vec<Place> = trials.iter().map(|_| Place::new()).collect();
    let mut calls = Vec::new();
    for (trial, place) in trials.iter().zip(&places) {
        (trial.prepare)(place);
        assert!(traced(place, &trial.words, None).status().unwrap().success(), "{}", trial.name);
        (trial.judge)(place);
        let found = calls_of(&fs::read_to_string(place.path("trace")).unwrap());
        assert!(found.len() > 20, "{}: {found:?}", trial.name);
        calls.push(found);
    }
    let mut kills = 0;
    for round in 0..times {
        let which = (round % trials.len() as u64) as usize;
        let (trial, place) = (&trials[which], &places[which]);
        for name in names(&place.path("")) {
            let path = place.path(&name);
            if path.is_dir() { fs::remove_dir_all(path).unwrap() } else { fs::remove_file(path).unwrap() }
        }
        (trial.prepare)(place);
        // Most of what can go wrong is near the end.
        let all = calls[which].len();
        let at = match chance.below(3) {
            0 => chance.below(all as u64) as usize,
            _ => all - 1 - chance.below(all.min(60) as u64) as usize,
        };
        let (call, when) = &calls[which][at];
        let was_killed = !traced(place, &trial.words, Some(&calls[which][at])).status().unwrap().success();
        kills += u64::from(was_killed);
        let again = place.run(&trial.words);
        let told = format!("{}, killed at {call} {when}, {at} of {all}: {}{}", trial.name, again.out, again.err);
        assert!(again.code == 0 || trial.may_be_there && again.err.contains("exist"), "{told}");
        assert!(!again.err.contains("panicked"), "{told}");
        let judged = std::panic::catch_unwind(std::panic::AssertUnwindSafe(|| (trial.judge)(place)));
        assert!(judged.is_ok(), "{told}");
    }
    assert!(kills * 2 > times, "{kills} of {times} runs were killed");
}

#[test]
fn what_is_killed_at_any_call_is_ended_by_the_same_command() {
    if !is_installed("strace") {
        let line = "SKIPPED what_is_killed_at_any_call_is_ended_by_the_same_command: there is no tracer\n";
        return std::io::Write::write_all(&mut std::io::stderr(), line.as_bytes()).unwrap();
    }
    let number = |name: &str| std::env::var(name).ok().and_then(|text| text.parse().ok());
    killed(number("REFORMIS_KILLS").unwrap_or(48), number("REFORMIS_SEED").unwrap_or(15));
}
