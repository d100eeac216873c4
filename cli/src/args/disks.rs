//! Arguments of the commands for one disk.

use std::{ffi::OsString, path::PathBuf};

use clap::Args;
use reformis_disk::{ByteSize, Format, Shape};

use super::{FirmwareWord, GuestArgs, Squeeze};

#[derive(Debug, Args)]
pub(crate) struct RecastArgs {
    /// The disk: a file, a block device, the first of several pieces, a member of an archive, any of them compressed, or
    /// - for stdin
    #[arg(value_name = "SRC")]
    pub(crate) source: PathBuf,
    /// The file to make, or - for stdout
    #[arg(value_name = "DST")]
    pub(crate) result: PathBuf,
    /// The shape to make, FORMAT/LAYOUT, if the name of DST does not say it
    #[arg(long = "as", value_name = "SHAPE")]
    pub(crate) shape: Option<Shape>,
    /// The format of the source; skips detection
    #[arg(long, value_name = "FORMAT")]
    pub(crate) from: Option<Format>,
    /// Read the snapshot NAME inside the image, not its current state (qcow2)
    #[arg(long, value_name = "NAME")]
    pub(crate) snapshot: Option<String>,
    /// Compress what is stored (qcow2/thin)
    #[arg(long, value_name = "METHOD")]
    pub(crate) squeeze: Option<Squeeze>,
    /// Store in clusters of SIZE, from 4KiB to 2MiB (qcow2; 64KiB unless given)
    #[arg(long, value_name = "SIZE")]
    pub(crate) cluster: Option<ByteSize>,
    /// Round the disk's size up to a multiple of SIZE, such as 1MiB
    #[arg(long, value_name = "SIZE")]
    pub(crate) align: Option<ByteSize>,
    /// Make the disk SIZE large, with zeros at its end; smaller is refused
    #[arg(long, value_name = "SIZE")]
    pub(crate) grow: Option<ByteSize>,
    /// Write a record of it, with digests and findings, to FILE
    #[arg(long, value_name = "FILE")]
    pub(crate) receipt: Option<PathBuf>,
    /// Replace DST if it exists
    #[arg(long)]
    pub(crate) force: bool,
    /// Follow names in the source's files that lead out of their folder (never to a device)
    #[arg(long)]
    pub(crate) trust_links: bool,
}

/// Where a changed disk goes.
#[derive(Debug, Args)]
pub(crate) struct ResultArgs {
    /// The file to make
    #[arg(long, value_name = "FILE", required_unless_present = "in_place", conflicts_with = "in_place")]
    pub(crate) out: Option<PathBuf>,
    /// Replace the disk with the result once that is complete, in the same shape
    #[arg(long)]
    pub(crate) in_place: bool,
    /// The shape to make, FORMAT/LAYOUT, if the name of FILE does not say it
    #[arg(long = "as", value_name = "SHAPE", conflicts_with = "in_place")]
    pub(crate) shape: Option<Shape>,
    /// The format of the disk; skips detection
    #[arg(long, value_name = "FORMAT")]
    pub(crate) from: Option<Format>,
    /// Write a record of it, with the ranges that were changed, to FILE
    #[arg(long, value_name = "FILE")]
    pub(crate) receipt: Option<PathBuf>,
    /// Replace FILE if it exists
    #[arg(long)]
    pub(crate) force: bool,
    /// Follow names in the disk's files that lead out of their folder (never to a device)
    #[arg(long)]
    pub(crate) trust_links: bool,
}

#[derive(Debug, Args)]
pub(crate) struct RefitArgs {
    /// The disk
    #[arg(value_name = "DISK")]
    pub(crate) disk: PathBuf,
    /// Where it goes: one of `reformis dests`
    #[arg(long, value_name = "NAME")]
    pub(crate) dest: String,
    /// The controller that the disk will be on; the first of the destination unless given (drivers for the others go in too)
    #[arg(long, value_name = "KIND")]
    pub(crate) controller: Option<String>,
    /// The model of the adapter; the first of the destination unless given
    #[arg(long, value_name = "MODEL")]
    pub(crate) adapter: Option<String>,
    /// The hardware address that the adapter will have
    #[arg(long, value_name = "ADDRESS")]
    pub(crate) mac: Option<String>,
    /// The firmware that will start it; what the disk boots with unless given
    #[arg(long, value_name = "KIND")]
    pub(crate) firmware: Option<FirmwareWord>,
    /// Go on in spite of the blocker CODE; can be given several times
    #[arg(long, value_name = "CODE")]
    pub(crate) accept: Vec<String>,
    #[command(flatten)]
    pub(crate) result: ResultArgs,
    #[command(flatten)]
    pub(crate) guest: GuestArgs,
}

#[derive(Debug, Args)]
pub(crate) struct PeekArgs {
    /// A disk, or a machine with its disks
    #[arg(value_name = "TARGET")]
    pub(crate) target: PathBuf,
    /// A folder to list, a file or a stream (FILE:STREAM) to print, or with --hive a key; the root unless given
    #[arg(value_name = "PATH")]
    pub(crate) path: Option<OsString>,
    /// Show a key of a registry hive: SYSTEM, SOFTWARE and the like, BCD, or the path of a hive in the guest
    #[arg(long, value_name = "HIVE", conflicts_with_all = ["tar", "stat", "streams"])]
    pub(crate) hive: Option<String>,
    /// With --hive: write the key with all below it as registry text (.reg) into FILE
    #[arg(long, value_name = "FILE", requires = "hive")]
    pub(crate) reg: Option<PathBuf>,
    /// List the streams beside each file too
    #[arg(long, conflicts_with = "tar")]
    pub(crate) streams: bool,
    /// Begin paths at the root of this volume, such as 'disk 1 partition 2' or 'group/volume'
    #[arg(long, value_name = "NAME")]
    pub(crate) volume: Option<String>,
    /// Write PATH with all that is below it as a tar archive into FILE, or - for stdout
    #[arg(long, value_name = "FILE", conflicts_with = "stat")]
    pub(crate) tar: Option<PathBuf>,
    /// Show what a file is instead of printing it
    #[arg(long)]
    pub(crate) stat: bool,
    /// Follow names in the files that lead out of their folder (never to a device)
    #[arg(long)]
    pub(crate) trust_links: bool,
}

#[derive(Debug, Args)]
pub(crate) struct PatchArgs {
    /// The disk
    #[arg(value_name = "DISK")]
    pub(crate) disk: PathBuf,
    /// With --hive: the key whose values are changed
    #[arg(value_name = "KEY", requires = "hive")]
    pub(crate) key: Option<String>,
    /// Put a file or a folder of this machine at a path in the guest; can be given several times, as the others
    #[arg(long, value_name = "FILE:PATH")]
    pub(crate) put: Vec<OsString>,
    /// Remove what is at PATH, before anything is put in; a folder with all that is in it
    #[arg(long, value_name = "PATH")]
    pub(crate) remove: Vec<OsString>,
    /// Make a folder, with those that lead to it
    #[arg(long, value_name = "PATH")]
    pub(crate) folder: Vec<OsString>,
    /// Make a symbolic link at PATH that leads to TARGET
    #[arg(long, value_name = "PATH:TARGET")]
    pub(crate) link: Vec<OsString>,
    /// Change KEY in a registry hive: SYSTEM, SOFTWARE and the like, BCD, or the path of a hive in the guest
    #[arg(long, value_name = "HIVE")]
    pub(crate) hive: Option<String>,
    /// Set a value of KEY, which is made if need be: text:, expand:, texts:A|B, dword:, qword:, hex: or hex(N): before the data
    #[arg(long, value_name = "NAME=TYPE:DATA", requires = "key")]
    pub(crate) set: Vec<String>,
    /// Remove a value of KEY
    #[arg(long, value_name = "NAME", requires = "key")]
    pub(crate) unset: Vec<String>,
    /// Remove KEY with all below it, before values are set
    #[arg(long, requires = "key")]
    pub(crate) remove_key: bool,
    /// Do what a registry text (.reg) says: keys and values set and removed, in the hives that it names, or all in --hive
    #[arg(long, value_name = "FILE")]
    pub(crate) reg: Vec<PathBuf>,
    /// Begin paths at the root of this volume
    #[arg(long, value_name = "NAME")]
    pub(crate) volume: Option<String>,
    #[command(flatten)]
    pub(crate) result: ResultArgs,
}
