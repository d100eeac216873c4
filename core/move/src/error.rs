//! What ends a step.

use std::io;

use crate::finding::{Finding, Severity};

/// Result of this crate.
pub type Result<T, E = Error> = std::result::Result<T, E>;

/// An error with a whole sentence as its message; [`Error::remedy`] says what the person can do.
#[derive(Debug, thiserror::Error)]
pub enum Error {
    /// From a disk.
    #[error(transparent)]
    Disk(#[from] reformis_disk::Error),
    /// From a machine file or a destination.
    #[error(transparent)]
    Machine(#[from] reformis_machine::Error),
    /// From inside a guest.
    #[error(transparent)]
    Guest(#[from] reformis_guest::Error),
    /// Of a fleet as a whole.
    #[error(transparent)]
    Fleet(#[from] crate::fleet::FleetError),
    /// An edit was to be left out that there is not.
    #[error("there is no edit called '{name}'; there are {known}")]
    NoSuchEdit {
        /// The name.
        name: String,
        /// The names of all.
        known: String,
    },
    /// No system is there to be made ready or looked into.
    #[error("no system was found in '{path}'")]
    NoSystem {
        /// The disk or the machine.
        path: String,
    },
    /// No boot store is there.
    #[error("no boot store was found in '{path}'")]
    NoBootStore {
        /// The disk or the machine.
        path: String,
    },
    /// A medium that cannot be read.
    #[error("the driver medium '{path}' cannot be read: {why}")]
    Medium {
        /// The medium.
        path: String,
        /// Why.
        why: String,
    },
    /// A medium without drivers.
    #[error("there is no driver on '{path}': no file of it ends in .inf")]
    NoDrivers {
        /// The medium.
        path: String,
        /// Whether it has a UDF file system too, which is not read.
        has_udf: bool,
    },
    /// No volume of the name.
    #[error("there is no volume called '{volume}'; there are {known}")]
    NoSuchVolume {
        /// The name.
        volume: String,
        /// The names of all.
        known: String,
    },
    /// A volume that the guest keeps encrypted.
    #[error("'{volume}' is encrypted by the guest ({kind}), and can neither be looked into nor changed")]
    VolumeLocked {
        /// The name.
        volume: String,
        /// By what.
        kind: String,
    },
    /// A volume without a file system that is read.
    #[error("'{volume}' holds {kind}, whose files cannot be read yet")]
    VolumeNotRead {
        /// The name.
        volume: String,
        /// What it holds.
        kind: String,
    },
    /// A file that gives fewer bytes than it says it has.
    #[error("{path} in the guest says that it has {size} bytes, and gives {copied}")]
    Shorter {
        /// The path.
        path: String,
        /// What it says.
        size: u64,
        /// What it gives.
        copied: u64,
    },
    /// More than is done at once.
    #[error("'{path}' holds more than {most} files")]
    TooMany {
        /// The folder.
        path: String,
        /// How many are taken.
        most: usize,
    },
    /// Something of this machine that is neither file, folder nor link.
    #[error("'{path}' is {what}, and cannot be put into a guest")]
    NotPut {
        /// Its path here.
        path: String,
        /// What it is: "a pipe".
        what: &'static str,
    },
    /// A disk whose place cannot be taken by a result.
    #[error("'{path}' cannot be changed in place: {what}")]
    NotInPlace {
        /// The disk.
        path: String,
        /// Why.
        what: String,
    },
    /// Findings that stand in the way.
    #[error("refused before anything was written: {}", blockers(findings))]
    Refused {
        /// All findings, the blockers among them.
        findings: Vec<Finding>,
    },
    /// A brief that cannot be read.
    #[error("the brief '{file}': {what}")]
    Brief {
        /// The file.
        file: String,
        /// What is wrong, with its line.
        what: String,
    },
    /// Something was chosen that the destination does not have.
    #[error("{destination} does not offer the {what} '{asked}'; it offers {offered}")]
    NotOffered {
        /// What kind of thing.
        what: &'static str,
        /// What was asked for.
        asked: String,
        /// The destination.
        destination: String,
        /// What it has.
        offered: String,
    },
    /// A file describes several machines, and none was named.
    #[error("'{path}' describes {} machines: {}", names.len(), names.join(", "))]
    Several {
        /// The file.
        path: String,
        /// Their names.
        names: Vec<String>,
    },
    /// No machine of the name.
    #[error("'{path}' does not describe a machine called '{name}'; it has {}", names.join(", "))]
    NoSuchMachine {
        /// The file.
        path: String,
        /// The name.
        name: String,
        /// The names that it has.
        names: Vec<String>,
    },
    /// A folder without anything to move.
    #[error("there is no machine or disk in '{folder}'")]
    NothingHere {
        /// The folder.
        folder: String,
    },
    /// A folder with more than one thing to move.
    #[error("'{folder}' holds more than one: {}", files.join(", "))]
    SeveralHere {
        /// The folder.
        folder: String,
        /// Their names.
        files: Vec<String>,
    },
    /// A landing that cannot go into a store.
    #[error("the landing cannot go into a store: {what}")]
    NotIntoStore {
        /// Why.
        what: String,
    },
    /// A second pass without its first one.
    #[error("there is no first pass to finish for '{path}': {what}")]
    NoFirstPass {
        /// The folder that would be the landing.
        path: String,
        /// Why, as the end of a sentence.
        what: String,
    },
    /// A landing that cannot be made in two passes.
    #[error("the machine cannot be carried ahead: {what}")]
    NotAhead {
        /// Why.
        what: String,
    },
    /// A disk whose source has no map of what was written.
    #[error("disk '{disk}' has no map of what was written: {what}")]
    NoBitmap {
        /// The disk.
        disk: String,
        /// Why, as the end of a sentence.
        what: String,
    },
    /// A landing that cannot go into a cloud.
    #[error("the landing cannot go into a cloud: {what}")]
    NotIntoCloud {
        /// Why.
        what: String,
    },
    /// A cloud that did not make of the disks what it was to make.
    #[error("{doing} failed at {cloud}: {what}")]
    CloudFailed {
        /// The cloud.
        cloud: String,
        /// What it was doing.
        doing: &'static str,
        /// What it says.
        what: String,
    },
    /// A seed that cannot be made.
    #[error("no seed can be made of '{path}': {what}")]
    Seed {
        /// The file.
        path: String,
        /// Why.
        what: String,
    },
    /// Something lies where a disk is to go in a store.
    #[error("'{place}' is there already")]
    TakenThere {
        /// The place.
        place: String,
    },
    /// A blocker was to be accepted that cannot be.
    #[error("'{code}' cannot be accepted: without it there is nothing to move")]
    NotAcceptable {
        /// Its code.
        code: String,
    },
    /// A file is not the one that was exported.
    #[error("'{file}' is not what its manifest says: {algorithm} is {found}, expected {expected}")]
    ManifestMismatch {
        /// The file.
        file: String,
        /// The digest's algorithm.
        algorithm: &'static str,
        /// Digest of the bytes.
        found: String,
        /// Digest in the manifest.
        expected: String,
    },
    /// A receipt that cannot be read.
    #[error("the receipt '{path}' cannot be read: {what}")]
    Receipt {
        /// The file.
        path: String,
        /// What is wrong.
        what: String,
    },
    /// A result of a step is a file of its source.
    #[error("'{path}' is the source itself, or a part of it: a source is never written")]
    SameFile {
        /// The file.
        path: String,
    },
    /// A smaller disk was asked for.
    #[error("'{path}' has a disk of {size} bytes, and making it smaller ({asked}) would lose its end")]
    Shrink {
        /// The source.
        path: String,
        /// Its size in bytes.
        size: u64,
        /// The size that was asked for.
        asked: u64,
    },
    /// A size that no number holds.
    #[error("a disk of {size} bytes cannot be rounded up to a multiple of {align}")]
    TooLarge {
        /// Size in bytes.
        size: u64,
        /// What was asked for.
        align: u64,
    },
    /// What was taken for a raw disk ends like a fixed VHD.
    #[error("'{path}' ended with the footer of a VHD, and was read as raw bytes")]
    FooterAtEnd {
        /// The source.
        path: String,
    },
    /// A result without a name.
    #[error("'{path}' has no name that a file could get")]
    NoFileName {
        /// The path.
        path: String,
    },
    /// The temporary name of a result is taken by something that is not ours: another user may have put it there.
    #[error("'{path}' is in the way: {what}")]
    InTheWay {
        /// The temporary name.
        path: String,
        /// What lies there.
        what: String,
    },
    /// What was kept of a lent guest does not belong to what is asked for.
    #[error("'{path}' cannot be used: {what}")]
    NotKept {
        /// The folder.
        path: String,
        /// Why, as the end of a sentence.
        what: String,
    },
    /// No machine file of the destination has a word for disks that are served.
    #[error("no machine file of {destination} has a word for disks that are served over a network")]
    NoWordForServed {
        /// The destination.
        destination: String,
    },
    /// A file can only be replaced by one of another owner.
    #[error("'{path}' belongs to user {owner} and group {group}, and what replaces it cannot be given to them")]
    OwnerNotKept {
        /// The file.
        path: String,
        /// Number of its user.
        owner: u32,
        /// Number of its group.
        group: u32,
    },
    /// The place of a landing holds something that is no landing.
    #[error("'{path}' exists and is not a landing (it holds no receipt), so nothing may replace it")]
    NotALanding {
        /// The folder.
        path: String,
    },
}

fn blockers(findings: &[Finding]) -> String {
    let codes: Vec<_> = findings.iter().filter(|f| f.severity() == Severity::Blocker).map(Finding::code).collect();
    let blockers = if codes.len() == 1 { "1 blocker".to_string() } else { format!("{} blockers", codes.len()) };
    format!("{blockers} ({})", codes.join(", "))
}

impl Error {
    /// The stable word for its kind, for scripts.
    pub fn code(&self) -> &'static str {
        match self {
            Self::Disk(error) => error.code(),
            Self::Machine(error) => error.code(),
            Self::Guest(error) => error.code(),
            Self::Fleet(error) => error.code(),
            Self::NoSuchEdit { .. } => "no-such-edit",
            Self::NoSystem { .. } => "no-system",
            Self::NotIntoStore { .. } => "not-into-store",
            Self::Seed { .. } => "no-seed",
            Self::NotIntoCloud { .. } => "not-into-cloud",
            Self::NoFirstPass { .. } => "no-first-pass",
            Self::NotAhead { .. } => "not-ahead",
            Self::NoBitmap { .. } => "no-bitmap",
            Self::CloudFailed { .. } => "cloud-failed",
            Self::TakenThere { .. } => "taken-there",
            Self::NoBootStore { .. } => "no-boot-store",
            Self::Medium { .. } => "medium-not-read",
            Self::NoDrivers { .. } => "no-drivers",
            Self::NoSuchVolume { .. } => "no-such-volume",
            Self::VolumeLocked { .. } => "volume-locked",
            Self::VolumeNotRead { .. } => "volume-not-read",
            Self::Shorter { .. } => "guest-damaged",
            Self::TooMany { .. } => "too-many-files",
            Self::NotPut { .. } => "not-put",
            Self::NotInPlace { .. } => "not-in-place",
            Self::Refused { .. } => "refused",
            Self::Brief { .. } => "bad-brief",
            Self::NotOffered { .. } => "not-offered",
            Self::Several { .. } => "several-machines",
            Self::NoSuchMachine { .. } => "no-such-machine",
            Self::NothingHere { .. } => "nothing-here",
            Self::SeveralHere { .. } => "several-here",
            Self::NotAcceptable { .. } => "not-acceptable",
            Self::ManifestMismatch { .. } => "manifest-mismatch",
            Self::Receipt { .. } => "bad-receipt",
            Self::SameFile { .. } => "source-is-result",
            Self::Shrink { .. } => "would-shrink",
            Self::TooLarge { .. } => "size-too-large",
            Self::FooterAtEnd { .. } => "footer-at-end",
            Self::NoFileName { .. } => "no-file-name",
            Self::InTheWay { .. } => "in-the-way",
            Self::OwnerNotKept { .. } => "owner-not-kept",
            Self::NotKept { .. } => "not-kept",
            Self::NoWordForServed { .. } => "no-word-for-served",
            Self::NotALanding { .. } => "not-a-landing",
        }
    }

    pub(crate) fn io(action: &'static str, path: &std::path::Path) -> impl FnOnce(io::Error) -> Self {
        let convert = reformis_disk::Error::io(action, path.to_string_lossy(), None);
        move |source| Self::Disk(convert(source))
    }

    /// As an error of the crate below, which passes it through.
    pub(crate) fn into_disk(self) -> reformis_disk::Error {
        match self {
            Self::Disk(error) => error,
            Self::SameFile { path } => {
                let what = "it is the source itself, or a part of it: a source is never written".into();
                reformis_disk::Error::Unwritable { path, what }
            }
            other => reformis_disk::Error::Io {
                action: "writing",
                path: String::new(),
                offset: None,
                source: io::Error::other(other.to_string()),
            },
        }
    }

    /// What the person can do about it, as a sentence; `None` when the message says it all.
    pub fn remedy(&self) -> Option<&'static str> {
        match self {
            Self::Disk(error) => error.remedy(),
            Self::Guest(error) => error.remedy(),
            Self::Fleet(error) => error.remedy(),
            Self::ManifestMismatch { .. } => {
                Some("The file was damaged or changed on its way: export it or fetch it again.")
            }
            Self::Medium { .. } | Self::NoDrivers { has_udf: false, .. } => {
                Some("Name a folder, an ISO image, an archive or a cabinet with drivers; fetch it again if it is one.")
            }
            Self::NoDrivers { has_udf: true, .. } => Some(
                "What is on it may lie in its UDF file system, which is not read: copy its files into a folder, and name that.",
            ),
            Self::Receipt { .. } => Some("Name the receipt.json in the folder of a landing."),
            Self::FooterAtEnd { .. } => {
                Some("Say vhd if it is a fixed VHD, or raw if a raw disk ends like that; nothing was made.")
            }
            Self::Several { .. } => Some("Name the one that you mean."),
            Self::TakenThere { .. } => Some("Choose another folder in the store, or replace it with --force."),
            Self::Seed { .. } => Some("Put what is long where the guest fetches it, and its address into the seed."),
            Self::NotIntoCloud { .. } => {
                Some("Choose a destination whose machine file is launch-json, and a cloud of `reformis hosts`.")
            }
            Self::CloudFailed { .. } => {
                Some("When that is mended, go on with --resume: no disk that is in the store is sent again.")
            }
            Self::NoBitmap { .. } => Some("Leave it out: then all of the disk is read, and what differs is written."),
            Self::NoFirstPass { .. } => Some("Make the first pass while it runs, or move it in one."),
            Self::NotIntoStore { .. } => {
                Some("`reformis hosts` lists the stores; docs/clouds.md shows how one is named.")
            }
            Self::NoSystem { .. } | Self::VolumeNotRead { .. } => {
                Some("`reformis survey` lists the volumes; name one to look into it alone.")
            }
            Self::VolumeLocked { .. } => Some(
                "Turn the encryption off in the guest where it is (manage-bde -off C: on Windows), let that finish, and shut it down.",
            ),
            Self::NotInPlace { .. } => Some("Write the result elsewhere."),
            Self::SeveralHere { .. } => Some("Name one of them, not the folder."),
            Self::InTheWay { .. } => Some(
                "See who put it there, and remove it: results are written under this name first, and never through a \
                 link or over someone else's file.",
            ),
            Self::NotKept { .. } => Some(
                "Give the brief that the guest was lent with; or lend it anew, into another folder with --kept FOLDER.",
            ),
            Self::NoWordForServed { .. } => {
                Some("Attach the exports by hand, as network block devices, to a machine with the brief's settings.")
            }
            Self::OwnerNotKept { .. } => Some("Run as that user or as root, or remove the file first."),
            Self::NotALanding { .. } => Some("Choose another folder, or move that one away."),
            _ => None,
        }
    }

    /// Whether the person or the system asked us to stop.
    pub fn is_interrupted(&self) -> bool {
        let below = match self {
            Self::Disk(error) | Self::Guest(reformis_guest::Error::Disk(error)) => error,
            _ => return false,
        };
        matches!(below, reformis_disk::Error::Interrupted)
    }
}
