//! The file systems: how each is made, by random options, and what checks it.

use std::{fs::File, path::Path, process::Command};

use proptest::prelude::*;

#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Family {
    Ext,
    Xfs,
    Btrfs,
    Fat,
    Ntfs,
}

#[derive(Debug, Clone)]
pub(crate) struct Kind {
    pub(crate) family: Family,
    pub(crate) options: Vec<String>,
    pub(crate) mib: u64,
}

impl Kind {
    pub(crate) fn new(family: Family, options: &str, mib: u64) -> Self {
        Self { family, options: options.split_whitespace().map(Into::into).collect(), mib }
    }

    fn tool(&self) -> Vec<&'static str> {
        match self.family {
            Family::Ext => vec!["mke2fs", "-q", "-F"],
            Family::Xfs => vec!["mkfs.xfs", "--unsupported", "-q", "-f"],
            Family::Btrfs => vec!["mkfs.btrfs", "-q", "-f"],
            Family::Fat => vec!["mkfs.fat"],
            Family::Ntfs => vec!["mkntfs", "-q", "-F", "-Q"],
        }
    }

    /// Makes the volume; false where the tool has no such shape.
    pub(crate) fn make(&self, image: &Path) -> bool {
        File::create(image).unwrap().set_len(self.mib << 20).unwrap();
        let tool = self.tool();
        let made = Command::new(tool[0]).args(&tool[1..]).args(&self.options).arg(image).output().unwrap();
        made.status.success()
    }

    /// What the checker says, where it says that something is wrong.
    pub(crate) fn complaint(&self, image: &Path) -> Option<String> {
        let mut command = match self.family {
            Family::Ext => Command::new("e2fsck"),
            Family::Xfs => Command::new("xfs_repair"),
            Family::Btrfs => Command::new("btrfs"),
            Family::Fat => Command::new("fsck.fat"),
            Family::Ntfs => {
                let found = reformis_standin::ntfs_check::check(&std::fs::read(image).unwrap());
                return (!found.is_empty()).then(|| found.join("\n"));
            }
        };
        match self.family {
            Family::Ext => command.args(["-f", "-n"]),
            Family::Xfs => command.args(["-n", "-f", "-o", "force_geometry"]),
            Family::Btrfs => command.args(["check", "--readonly", "--check-data-csum"]),
            Family::Fat | Family::Ntfs => command.arg("-n"),
        };
        let output = command.arg(image).output().unwrap();
        let text = String::from_utf8_lossy(&output.stdout).into_owned() + &String::from_utf8_lossy(&output.stderr);
        // Wrong counts alone are no failure to one of them.
        (!output.status.success() || text.contains("count wrong")).then_some(text)
    }
}

/// A word, or none.
fn maybe(word: &'static str) -> impl Strategy<Value = String> {
    prop_oneof![Just(String::new()), Just(word.to_string())]
}

fn one_of(words: &'static [&'static str]) -> impl Strategy<Value = String> {
    prop::sample::select(words).prop_map(Into::into)
}

/// Some of these, behind one another with commas.
fn some_of(words: &'static [&'static str]) -> impl Strategy<Value = String> {
    prop::sample::subsequence(words, 0..=words.len().min(5)).prop_map(|words| words.join(","))
}

fn ext() -> impl Strategy<Value = Kind> {
    let options = (
        one_of(&["-t ext2", "-t ext3", "-t ext4", "-t ext4", "-t ext4"]),
        one_of(&["-b 1024", "-b 1024", "-b 2048", "-b 4096", "-b 4096"]),
        one_of(&["-I 128", "-I 256", "-I 256", "-I 512", "-I 1024"]),
        some_of(&[
            "inline_data",
            "^metadata_csum",
            "^64bit",
            "^flex_bg",
            "^extent",
            "^dir_index",
            "uninit_bg",
            "sparse_super2",
            "bigalloc",
            "ea_inode",
            "large_dir",
            "^has_journal",
            "^resize_inode",
            "meta_bg,^resize_inode",
            "^huge_file",
            "^dir_nlink",
            "orphan_file",
            "metadata_csum_seed",
        ]),
        one_of(&["", "", "-m 0", "-N 200", "-g 1024"]),
        prop::sample::select(&[16_u64, 24, 64, 300, 2048][..]),
    );
    options.prop_map(|(kind, block, inode, features, more, mib)| {
        let features = if features.is_empty() { String::new() } else { format!("-O {features}") };
        Kind::new(Family::Ext, &format!("{kind} {block} {inode} {features} {more}"), mib)
    })
}

fn xfs() -> impl Strategy<Value = Kind> {
    let options = (
        one_of(&["-b size=1024", "-b size=1024", "-b size=2048", "-b size=4096", "-b size=4096"]),
        one_of(&["", "-i size=512", "-i size=1024", "-i size=2048"]),
        maybe("-i sparse=0"),
        maybe("-i nrext64=1"),
        one_of(&["", "-n size=4096", "-n size=8192", "-n size=16384"]),
        some_of(&["rmapbt=1", "finobt=0,inobtcount=0", "bigtime=0", "inobtcount=0"]),
        maybe("-m reflink=0"),
        one_of(&["", "-d agcount=1", "-d agcount=2", "-d agcount=7"]),
        prop::sample::select(&[48_u64, 64, 300, 2048][..]),
    );
    options.prop_map(|(block, inode, sparse, wide, folder, features, share, groups, mib)| {
        let features = if features.is_empty() { String::new() } else { format!("-m {features}") };
        let all = format!("{block} {inode} {sparse} {wide} {folder} {features} {share} {groups}");
        Kind::new(Family::Xfs, &all, mib)
    })
}

fn btrfs() -> impl Strategy<Value = Kind> {
    let options = (
        one_of(&["-n 4096", "-n 16384", "-n 16384", "-n 65536"]),
        one_of(&["", "-m single", "-m dup", "-m dup -d dup"]),
        some_of(&["^no-holes", "^free-space-tree", "^skinny-metadata", "^extref", "quota"]),
        one_of(&["", "--csum xxhash", "--csum sha256", "--csum blake2"]),
        prop::sample::select(&[(16_u64, true), (48, true), (128, false), (300, false), (2048, false)][..]),
    );
    options.prop_map(|(node, profiles, features, sums, (mib, mixed))| {
        let features = if features.is_empty() { String::new() } else { format!("-O {features}") };
        let shape = if mixed { "--mixed".to_string() } else { format!("{node} {profiles}") };
        Kind::new(Family::Btrfs, &format!("{shape} {features} {sums}"), mib)
    })
}

fn fat() -> impl Strategy<Value = Kind> {
    prop_oneof![
        one_of(&["-s 1", "-s 2", "-s 4"]).prop_map(|s| Kind::new(Family::Fat, &format!("-F 16 {s}"), 16)),
        one_of(&["-s 1", "-s 8"]).prop_map(|s| Kind::new(Family::Fat, &format!("-F 32 {s}"), 300)),
    ]
}

fn ntfs() -> impl Strategy<Value = Kind> {
    (one_of(&["-c 512", "-c 4096", "-c 65536"]), prop::sample::select(&[16_u64, 64][..]))
        .prop_map(|(cluster, mib)| Kind::new(Family::Ntfs, &format!("-s 512 {cluster}"), mib))
}

pub(crate) fn kind() -> impl Strategy<Value = Kind> {
    prop_oneof![6 => ext(), 5 => xfs(), 3 => btrfs(), 1 => fat(), 1 => ntfs()]
}
