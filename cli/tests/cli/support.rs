//! Made-up exports, and running the program.

use std::{
    fs,
    path::{Path, PathBuf},
    process::{Command, Output},
};

use reformis_standin::{
    content::Content,
    export,
    ova::{self, ManifestKind},
};
use serde_json::Value;
use tempfile::TempDir;

/// The built program.
pub(crate) const PROGRAM: &str = env!("CARGO_BIN_EXE_reformis");
/// Options of a move that changes nothing inside the guest.
pub(crate) const AS_IT_IS: [&str; 20] = [
    "--leave-out",
    "fallback-loader",
    "--leave-out",
    "drivers",
    "--leave-out",
    "device-names",
    "--leave-out",
    "adapter-names",
    "--leave-out",
    "helpers",
    "--leave-out",
    "console",
    "--leave-out",
    "addresses",
    "--leave-out",
    "remote-login",
    "--leave-out",
    "data-sources",
    "--accept",
    "will-not-boot",
];

/// The demo's archive: real file systems.
pub(crate) const TIDELOG: &[u8] = include_bytes!("../../../demo/tidelog.ova");
const TEMPLATE: &str = include_str!("../../../demo/tree/tidelog.ovf");

/// An export: descriptor and disks, which a test may bend before it is packed.
pub(crate) struct Export {
    pub(crate) descriptor: String,
    pub(crate) disks: Vec<(String, Vec<u8>)>,
    pub(crate) kind: Option<ManifestKind>,
}

impl Export {
    /// The machine of the demo with made-up disks.
    pub(crate) fn new(system: &Content, tides: &Content) -> Self {
        let disk = |content: &Content, name: &str| (name.into(), export::stream_vmdk_of(content, name).unwrap());
        let disks = vec![disk(system, "tidelog-disk1.vmdk"), disk(tides, "tidelog-disk2.vmdk")];
        let descriptor = TEMPLATE
            .replace("@SIZE1@", &disks[0].1.len().to_string())
            .replace("@SIZE2@", &disks[1].1.len().to_string())
            .replace("\"3\" ovf:capacityAllocationUnits=\"byte * 2^30\"", &format!("\"{}\"", system.size))
            .replace("\"1024\" ovf:capacityAllocationUnits=\"byte * 2^20\"", &format!("\"{}\"", tides.size));
        Self { descriptor, disks, kind: Some(ManifestKind::Sha256) }
    }

    /// Two small disks.
    pub(crate) fn small() -> Self {
        let system = Content::empty(40 << 20).with(0, 300_000, 1).with(20 << 20, 900_000, 2);
        Self::new(&system, &Content::empty(8 << 20).with(5000, 70_000, 3))
    }

    /// The files in the order in which a host packs them.
    pub(crate) fn files(&self) -> Vec<(String, Vec<u8>)> {
        let mut files = vec![("tidelog.ovf".to_string(), self.descriptor.clone().into_bytes())];
        if let Some(kind) = self.kind {
            let all: Vec<_> = files.iter().chain(&self.disks).map(|(n, b)| (n.as_str(), &b[..])).collect();
            let manifest = ova::manifest(kind, &all);
            files.push(("tidelog.mf".into(), manifest.into_bytes()));
        }
        files.extend(self.disks.iter().cloned());
        files
    }

    /// The archive.
    pub(crate) fn archive(&self) -> Vec<u8> {
        pack(&self.files())
    }
}

pub(crate) fn pack(files: &[(String, Vec<u8>)]) -> Vec<u8> {
    let files: Vec<_> = files.iter().map(|(name, bytes)| (name.as_str(), &bytes[..])).collect();
    let mut bytes = Vec::new();
    ova::archive(&mut bytes, &files).unwrap();
    bytes
}

/// A folder to work in, with the program.
pub(crate) struct Place {
    folder: TempDir,
}

/// What the program did.
pub(crate) struct Ran {
    pub(crate) code: i32,
    pub(crate) out: String,
    pub(crate) err: String,
}

impl Ran {
    #[track_caller]
    pub(crate) fn json(&self) -> Value {
        serde_json::from_str(&self.out).unwrap_or_else(|error| panic!("{error}: {}{}", self.out, self.err))
    }

    /// Fails unless the program ended with `code`; returns itself.
    #[track_caller]
    pub(crate) fn expect(self, code: i32) -> Self {
        assert_eq!(self.code, code, "stdout:\n{}\nstderr:\n{}", self.out, self.err);
        assert!(!self.err.contains("panicked"), "{}", self.err);
        self
    }
}

impl From<Output> for Ran {
    fn from(output: Output) -> Self {
        let text = |bytes: &[u8]| String::from_utf8_lossy(bytes).into_owned();
        Self { code: output.status.code().unwrap_or(-1), out: text(&output.stdout), err: text(&output.stderr) }
    }
}

impl Place {
    pub(crate) fn new() -> Self {
        Self { folder: tempfile::tempdir().unwrap() }
    }

    pub(crate) fn path(&self, name: &str) -> PathBuf {
        self.folder.path().join(name)
    }

    pub(crate) fn write(&self, name: &str, bytes: &[u8]) -> PathBuf {
        let path = self.path(name);
        fs::create_dir_all(path.parent().unwrap()).unwrap();
        fs::write(&path, bytes).unwrap();
        path
    }

    /// The program in this folder.
    pub(crate) fn command(&self, args: &[&str]) -> Command {
        let mut command = Command::new(PROGRAM);
        command.args(args).current_dir(self.folder.path());
        command
    }

    pub(crate) fn run(&self, args: &[&str]) -> Ran {
        self.command(args).output().unwrap().into()
    }

    /// `carry tidelog.ova --dest virtio-host --into landing`, and more.
    pub(crate) fn carry(&self, more: &[&str]) -> Ran {
        let mut args = vec!["carry", "tidelog.ova", "--dest", "virtio-host", "--into", "landing"];
        args.extend(more);
        self.run(&args)
    }

    /// Every path below the folder, hidden ones too, sorted.
    pub(crate) fn tree(&self) -> Vec<String> {
        let mut names = Vec::new();
        walk(self.folder.path(), self.folder.path(), &mut names);
        names.sort();
        names
    }
}

fn walk(root: &Path, folder: &Path, names: &mut Vec<String>) {
    for entry in fs::read_dir(folder).unwrap() {
        let path = entry.unwrap().path();
        names.push(path.strip_prefix(root).unwrap().to_string_lossy().into_owned());
        if path.is_dir() {
            walk(root, &path, names);
        }
    }
}
