//! What a person should know: each kind once, with its severity, code, sentence and remedy together.

use reformis_disk::{ByteSize, Facts, formats::Trouble};
use reformis_machine::ControllerKind;
use serde::{Deserialize, Serialize, Serializer};

/// How much a finding matters.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Severity {
    /// The move is refused.
    Blocker,
    /// The move is made, and may need a hand afterwards.
    Caution,
    /// Good to know.
    Note,
}

impl Severity {
    /// The word for it.
    pub fn name(self) -> &'static str {
        match self {
            Self::Blocker => "blocker",
            Self::Caution => "caution",
            Self::Note => "note",
        }
    }
}

/// Something that the person should know.
#[derive(Debug, Clone, PartialEq, Eq)]
#[expect(
    missing_docs,
    reason = "the sentence of each kind says what it is, and its fields are what the sentence names"
)]
pub enum Finding {
    NoMachine,
    NoDisk,
    DiskMissing { disk: String, file: String },
    DiskUnreadable { disk: String, why: String },
    DescriptorChanged { file: String },
    Compressed { file: String, kind: String },
    CannotLand { destination: String },
    FirmwareNotOffered { firmware: String, destination: String, offered: String },
    TooManyDisks { disks: usize, controller: ControllerKind, slots: u32 },
    DiskTooLarge { disk: String, size: u64, most: u64 },
    SizeRounded { disk: String, size: u64, rounded: u64 },
    CapacityDiffers { disk: String, stated: u64, found: u64 },
    LengthDiffers { file: String, stated: u64, found: u64 },
    ImageUnclean { disk: String },
    ImageDirty { disk: String },
    ImageInTrouble { trouble: Trouble },
    PieceAlone { disk: String },
    LooksPacked { file: String, kind: String },
    NotInManifest { file: String },
    ManifestNamesMissing { file: String },
    NoEndMark { archive: String },
    NoManifest,
    CertificateUnchecked { file: String },
    DriverUnchecked { from: ControllerKind, to: ControllerKind },
    NameChanged { name: String, to: String },
    NetworkReplaced { adapter: String, network: String, to: String },
    MacKept { adapter: String, mac: String },
    DeviceDropped { what: String, detail: String },
    MediaDropped { media: String },
    SourceChangedSince { path: String },
    MachineFileChanged { path: String },
    StaleRemoved { path: String },
    Spooled { source: String, kind: String },
}

struct Words {
    severity: Severity,
    code: &'static str,
    sentence: String,
    remedy: &'static str,
}

impl Finding {
    /// All there is to say, in one place.
    fn words(&self) -> Words {
        use Severity::{Blocker, Caution, Note};
        let (severity, code, sentence, remedy) = match self {
            Self::NoMachine => (
                Blocker,
                "no-machine",
                "there are no machine settings here, only a disk".to_string(),
                "Carry the export that has them (OVF or OVA); to change the disk's shape alone, use `reformis recast`.",
            ),
            Self::NoDisk => {
                (Blocker, "no-disk", "the machine has no disk".into(), "See that its host exported the disks too.")
            }
            Self::DiskMissing { disk, file } => (
                Blocker,
                "disk-missing",
                format!("disk '{disk}' is kept in '{file}', which is not there"),
                "Put the file beside its descriptor, or export the machine again.",
            ),
            Self::DiskUnreadable { disk, why } => (
                Blocker,
                "disk-unreadable",
                format!("disk '{disk}' cannot be read: {why}"),
                "Export or copy the disk again from its host.",
            ),
            Self::DescriptorChanged { file } => (
                Blocker,
                "descriptor-changed",
                format!("'{file}' is not what the manifest says: it was changed after the export"),
                "Export the machine again; if the change was meant, remove the manifest from the package.",
            ),
            Self::Compressed { file, kind } => (
                Blocker,
                "file-compressed",
                format!("'{file}' is compressed as a whole with {kind}, which this version does not read in place"),
                "Export the machine without compressing its files; disks compress themselves.",
            ),
            Self::CannotLand { destination } => (
                Blocker,
                "cannot-land",
                format!("this version cannot land a machine on {destination}"),
                "`reformis dests` lists where it can.",
            ),
            Self::FirmwareNotOffered { firmware, destination, offered } => (
                Blocker,
                "firmware-not-offered",
                format!("the machine starts with {firmware}, and {destination} offers {offered}"),
                "Choose a destination with that firmware.",
            ),
            Self::TooManyDisks { disks, controller, slots } => (
                Blocker,
                "too-many-disks",
                format!("the machine has {disks} disks, and {controller} there holds {slots}"),
                "Choose another destination, or carry some disks by themselves.",
            ),
            Self::DiskTooLarge { disk, size, most } => (
                Blocker,
                "disk-too-large",
                format!("disk '{disk}' has {}, and the destination takes {}", ByteSize(*size), ByteSize(*most)),
                "Shrink the disk in its guest and on its host first, or choose another destination.",
            ),
            Self::SizeRounded { disk, size, rounded } => (
                Note,
                "size-rounded",
                format!("disk '{disk}' grows from {size} to {rounded} bytes with zeros at its end"),
                "Nothing to do: the guest does not see it until its partitions are grown.",
            ),
            Self::CapacityDiffers { disk, stated, found } => (
                Caution,
                "capacity-differs",
                format!("disk '{disk}' is said to have {stated} bytes, and its image has {found}"),
                "The image's own size is used.",
            ),
            Self::LengthDiffers { file, stated, found } => (
                Caution,
                "length-differs",
                format!("'{file}' is said to have {stated} bytes, and has {found}"),
                "Compare it with the original on its host.",
            ),
            Self::ImageUnclean { disk } => (
                Caution,
                "image-unclean",
                format!("the image of disk '{disk}' was not closed properly by its last writer"),
                "See that the guest is shut down and the host has let go of the disk.",
            ),
            Self::ImageDirty { disk } => (
                Note,
                "image-dirty",
                format!(
                    "the counts of references in the image of disk '{disk}' may be wrong; its data is not touched by that"
                ),
                "Nothing to do: the result has counts of its own.",
            ),
            Self::ImageInTrouble { trouble } => {
                let (code, remedy) = match trouble {
                    Trouble::Encrypted { .. } => {
                        ("disk-encrypted", "Have its host write it without encryption, and move that.")
                    }
                    Trouble::Corrupt { .. } => {
                        ("image-corrupt", "Have its host check and repair the image, or restore it from a backup.")
                    }
                    Trouble::WrongParent { .. } => (
                        "parent-changed",
                        "Put back the disk that the delta was made of, or have its host consolidate the chain.",
                    ),
                };
                (Blocker, code, trouble.to_string(), remedy)
            }
            Self::PieceAlone { disk } => (
                Caution,
                "piece-alone",
                format!("the image of disk '{disk}' has no descriptor, and may be one piece of several"),
                "If there is a descriptor beside it (a small text file), name that one.",
            ),
            Self::LooksPacked { file, kind } => (
                Note,
                "read-forwards",
                format!("'{file}' ({kind}) can only be read forwards, so that only its start was looked at"),
                "`reformis recast` turns it into a disk; the survey of that tells more.",
            ),
            Self::NotInManifest { file } => (
                Caution,
                "not-in-manifest",
                format!("'{file}' is not in the manifest, so nothing proves that it is what was exported"),
                "Compare it with the original on its host.",
            ),
            Self::ManifestNamesMissing { file } => (
                Caution,
                "manifest-names-missing",
                format!("the manifest names '{file}', which is not there"),
                "If the machine needs it, export the machine again.",
            ),
            Self::NoEndMark { archive } => (
                Caution,
                "archive-no-end",
                format!("'{archive}' ends without the mark that every archive ends with: it may have been cut short"),
                "Compare its size with the original's.",
            ),
            Self::NoManifest => (
                Note,
                "no-manifest",
                "there is no manifest, so nothing proves that the files are what was exported".into(),
                "Let the host write a manifest with the export.",
            ),
            Self::CertificateUnchecked { file } => (
                Note,
                "certificate-unchecked",
                format!("the manifest is signed with '{file}', and the signature was not checked"),
                "Check it with the tools of whoever signed it.",
            ),
            Self::DriverUnchecked { from, to } => (
                Caution,
                "driver-unchecked",
                format!(
                    "the boot disk moves from {from} to {to}, and this version does not look whether the guest has the driver"
                ),
                "Before the export, have the guest include the new driver in its early boot image.",
            ),
            Self::NameChanged { name, to } => (
                Note,
                "name-changed",
                format!("the name '{name}' is not allowed there: the machine is called '{to}'"),
                "Rename it on its new host if you like.",
            ),
            Self::NetworkReplaced { adapter, network, to } => (
                Note,
                "network-replaced",
                format!("adapter '{adapter}' was on network '{network}', and is put on '{to}'"),
                "Change the network on the new host before the first start if that is not the one.",
            ),
            Self::MacKept { adapter, mac } => (
                Note,
                "mac-kept",
                format!("adapter '{adapter}' keeps its address {mac}"),
                "Do not let the old and the new machine run at the same time on one network.",
            ),
            Self::DeviceDropped { what, detail } => (
                Note,
                "device-dropped",
                format!("the {what} ('{detail}') does not come along"),
                "Add one on the new host if the guest needs it.",
            ),
            Self::MediaDropped { media } => (
                Note,
                "media-dropped",
                format!("the drive arrives empty: '{media}' does not come along"),
                "Insert the medium on the new host if the guest needs it.",
            ),
            Self::SourceChangedSince { path } => (
                Caution,
                "source-changed",
                format!("'{path}' has another size or time than when it was carried"),
                "If its guest was started again, the landing is older than its source: carry it again.",
            ),
            Self::MachineFileChanged { path } => (
                Note,
                "machine-file-changed",
                format!("'{path}' was changed since the landing"),
                "Nothing to do if that was you.",
            ),
            Self::StaleRemoved { path } => (
                Note,
                "stale-removed",
                format!("'{path}' was left by a run that did not end, and was cleared away"),
                "Nothing to do.",
            ),
            Self::Spooled { source, kind } => (
                Note,
                "spooled",
                format!(
                    "'{source}' ({kind}) can only be read forwards: it is unpacked first, into a file beside the result"
                ),
                "Nothing to do; it takes room there for as long as the run takes, and no more than what is not zero.",
            ),
        };
        Words { severity, code, sentence, remedy }
    }

    /// How much it matters.
    pub fn severity(&self) -> Severity {
        self.words().severity
    }

    /// The stable word for its kind.
    pub fn code(&self) -> &'static str {
        self.words().code
    }

    /// What was found.
    pub fn sentence(&self) -> String {
        self.words().sentence
    }

    /// What the person can do.
    pub fn remedy(&self) -> &'static str {
        self.words().remedy
    }

    /// As a record for JSON.
    pub fn record(&self) -> FindingRecord {
        let Words { severity, code, sentence, remedy } = self.words();
        FindingRecord { severity, code: code.into(), sentence, remedy: remedy.into() }
    }
}

impl Serialize for Finding {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        self.record().serialize(serializer)
    }
}

/// A finding as it stands in a receipt.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct FindingRecord {
    /// How much it matters.
    pub severity: Severity,
    /// The stable word for its kind.
    pub code: String,
    /// What was found.
    pub sentence: String,
    /// What the person can do.
    pub remedy: String,
}

/// What is to be said of an image, which is the disk `disk`.
pub(crate) fn of_image(disk: &str, facts: &Facts) -> Vec<Finding> {
    let disk = || disk.to_string();
    let mut findings: Vec<Finding> =
        facts.troubles.iter().map(|trouble| Finding::ImageInTrouble { trouble: trouble.clone() }).collect();
    findings.extend(facts.unclean.then(|| Finding::ImageUnclean { disk: disk() }));
    findings.extend(facts.dirty.then(|| Finding::ImageDirty { disk: disk() }));
    findings.extend(facts.piece.then(|| Finding::PieceAlone { disk: disk() }));
    findings
}

/// Whether any of `findings` is a blocker.
pub fn blocked(findings: &[Finding]) -> bool {
    findings.iter().any(|finding| finding.severity() == Severity::Blocker)
}
