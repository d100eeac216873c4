//! What is written between two passes in ways that leave the time of the last change as it was: whatever lands is what is there then.

use std::{
    fs::{self, File},
    io::{BufRead, BufReader, Write},
    os::unix::fs::FileExt,
    path::Path,
    process::{Child, Command, Stdio},
    time::Duration,
};

use serde_json::Value;

use crate::support::{AS_IT_IS, Place};

/// A writer that has the disk mapped all the while, and never closes it.
struct Mapped(Child, BufReader<std::process::ChildStdout>);

impl Mapped {
    const SCRIPT: &str = "import mmap, sys
file = open(sys.argv[1], 'r+b')
whole = mmap.mmap(file.fileno(), 0)
for line in sys.stdin:
    at, byte = map(int, line.split())
    whole[at] = byte
    print('done', flush=True)
";

    fn new(path: &Path) -> Self {
        let mut command = Command::new("python3");
        command.args(["-c", Self::SCRIPT]).arg(path).stdin(Stdio::piped()).stdout(Stdio::piped());
        let mut child = command.spawn().unwrap();
        let said = BufReader::new(child.stdout.take().unwrap());
        Self(child, said)
    }

    fn put(&mut self, at: usize, byte: u8) {
        writeln!(self.0.stdin.as_mut().unwrap(), "{at} {byte}").unwrap();
        let mut line = String::new();
        self.1.read_line(&mut line).unwrap();
        assert_eq!(line, "done\n");
    }
}

impl Drop for Mapped {
    fn drop(&mut self) {
        self.0.kill().ok();
        self.0.wait().ok();
    }
}

/// Puts `bytes` at `at`, and the time of the last change back to what it was.
fn write_and_set_back(path: &Path, at: u64, bytes: &[u8]) {
    let file = File::options().write(true).open(path).unwrap();
    let time = file.metadata().unwrap().modified().unwrap();
    file.write_all_at(bytes, at).unwrap();
    file.set_modified(time).unwrap();
}

/// Puts another file in its place, with the same length and time.
fn replace(path: &Path, at: u64, bytes: &[u8]) {
    let other = path.with_extension("new");
    assert!(Command::new("cp").arg("-p").arg(path).arg(&other).status().unwrap().success());
    write_and_set_back(&other, at, bytes);
    fs::rename(&other, path).unwrap();
}

/// Copies another disk over it, with that one's time, which is the same.
fn copy_over(path: &Path, at: u64, bytes: &[u8]) {
    let other = path.with_extension("new");
    assert!(Command::new("cp").arg("-p").arg(path).arg(&other).status().unwrap().success());
    write_and_set_back(&other, at, bytes);
    assert!(Command::new("cp").arg("-p").arg(&other).arg(path).status().unwrap().success());
    fs::remove_file(other).unwrap();
}

/// Writes bytes at a place of the file.
type Way = fn(&Path, u64, &[u8]);

const SIZE: usize = 12 << 20;

fn carry(place: &Place, more: &str) -> crate::support::Ran {
    let words = ["carry", "gauge.raw", "--dest", "virtio-host", "--into", "landing", "--name", "gauge", more];
    let more = ["--memory", "512MiB", "--network", "default", "--accept", "no-system"];
    place.run(&[&words[..], &more, &AS_IT_IS].concat())
}

/// Two passes with `between` in the middle; the receipt.
fn moved(place: &Place, between: impl FnOnce(&Path)) -> Value {
    let path = place.path("gauge.raw");
    // Long enough for its time to be trusted.
    std::thread::sleep(Duration::from_millis(2100));
    carry(place, "--ahead").expect(0);
    between(&path);
    carry(place, "--finish").expect(0);
    place.run(&["prove", "gauge.raw", "landing/gauge/gauge-0.qcow2"]).expect(0);
    place.run(&["prove", "landing/gauge/receipt.json"]).expect(0);
    let receipt = fs::read(place.path("landing/gauge/receipt.json")).unwrap();
    fs::remove_dir_all(place.path("landing")).unwrap();
    serde_json::from_slice(&receipt).unwrap()
}

#[test]
fn a_write_that_keeps_the_time_of_change_lands() {
    let place = Place::new();
    place.write("gauge.raw", &vec![1; SIZE]);
    let ways: [(&str, Way); 3] = [("set back", write_and_set_back), ("replaced", replace), ("copied over", copy_over)];
    for (round, (name, write)) in ways.into_iter().enumerate() {
        // In a block that no sample looks at, whichever it is.
        let at = (3 + round as u64) << 20 | 0x1234;
        let receipt = moved(&place, |path| write(path, at, &[round as u8 + 2; 700]));
        assert_eq!(receipt["ahead"]["changed"], 1 << 20, "{name}: {receipt}");
        assert_ne!(receipt["ahead"]["disks"][0]["told"], "delta", "{name}: {receipt}");
    }
    // One that was not written to is not read, where the file system can be trusted.
    let receipt = moved(&place, |_| ());
    assert_eq!(receipt["ahead"]["changed"], 0, "{receipt}");
}

/// A page that is mapped and was written to before the first pass is written to once more, without a word to the file system.
#[test]
fn a_write_through_a_map_that_was_there_all_the_while_lands() {
    let place = Place::new();
    let path = place.write("gauge.raw", &vec![1; SIZE]);
    let mut map = Mapped::new(&path);
    let pages = [5 << 20, 7 << 20, (9 << 20) + 4096];
    pages.iter().for_each(|&at| map.put(at, 2));
    let receipt = moved(&place, |_| pages.iter().for_each(|&at| map.put(at + 1, 3)));
    assert_eq!(receipt["ahead"]["changed"], 3 << 20, "{receipt}");
}
