//! The crate's tests on file systems, disks and whole guests, in one program.

#![expect(clippy::unwrap_used, reason = "a test that cannot go on has failed")]

mod btrfs;
mod btrfs_changes;
mod btrfs_logs;
mod common;
mod damage;
mod elsewhere;
mod ext;
mod guests;
mod layers;
mod loaders;
mod locked;
mod look;
mod lvm;
mod media;
mod model;
mod networks;
mod ntfs;
mod raid;
mod raid_far;
mod rules;
mod tables;
mod tree;
mod verdicts;
mod volumes;
mod windows;
mod xfs;
