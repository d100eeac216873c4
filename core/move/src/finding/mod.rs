//! What a person should know: each kind once. What is said of it stands in `words.rs`.

mod remedy;
mod words;

use reformis_disk::{Facts, Trouble};
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
    NoDisk,
    DiskMissing { disk: String, file: String },
    DiskUnreadable { disk: String, why: String },
    DescriptorChanged { file: String },
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
    UnknownDropped { file: &'static str, names: Vec<String> },
    UnknownKept { file: &'static str, names: Vec<String> },
    MisleadingName { result: String, format: &'static str },
    VariablesLeft { file: String, why: String },
    StaleRemoved { path: String },
    PartKept { path: String },
    MadeHereFirst { disk: String, why: String },
    SwapOnSystemDisk { swap: String },
    NoRemoteLogin { system: String },
    SeedMade { file: String },
    CloudRefuses { cloud: String, what: String, remedy: String },
    BegunAnew { path: String },
    GuestWrote { disk: String, bytes: u64 },
    Spooled { source: String, kind: String },
    Running { machine: String },
    ReadWhileRunning { machine: String, how: String },
    Suspended { file: String },
    Locked { lock: String },
    MachineEncrypted { machine: String },
    SnapshotsLeft { count: u32 },
    DeltasFlattened { disk: String, deltas: usize },
    MachineGuessed,
    FirmwareCorrected { said: String, seen: String },
    FirmwareMismatch { said: String, seen: String },
    NoBootLoader { firmware: String },
    NoFallbackLoader,
    NoSecureBoot { destination: String },
    TpmNew,
    TpmBound,
    VolumeEncrypted { kind: String },
    NotOffered { what: &'static str, asked: String, destination: String, offered: String },
    NameNotAllowed { name: String, proposed: String },
    NetworkUnmapped { adapter: String, network: String, to: String },
    Unconnected { adapter: String, network: Option<String> },
    MacTwice { mac: String, other: String },
    NoSuchDisk { disk: String, known: String },
    NoSuchAdapter { adapter: String },
    DiskTwice { disk: String },
    DiskLeft { disk: String },
    WouldShrink { disk: String, size: u64, asked: u64 },
    SizeUneven { disk: String, size: u64, multiple: u64 },
    NoSuchPlace { disk: String, place: String },
    PlaceLost { disk: String, file: &'static str },
    PlaceTaken { first: String, second: String, place: String },
    DoesNotBoot { disk: String, controller: ControllerKind, firmware: String },
    BootOrderUnclear,
    NothingBoots,
    NoRoom { needed: u64, free: u64 },
    LittleRoom { needed: u64, free: u64 },
    SourceInLanding { folder: String },
    SettingLost { setting: String, value: String, file: &'static str },
    Accepted { code: String },
    WillNotBoot { system: String, link: &'static str, about: String, seen: String },
    LinkBroken { system: String, link: &'static str, about: String, seen: String },
    EditFailed { edit: String, why: String },
    VolumeUnread { volume: String, why: String },
    PathUnread { path: String, why: String },
    KeyRefused { volume: String, why: String },
    ArrayIncomplete { array: String, missing: usize, members: usize },
    ArrayUnclean { array: String },
    JournalReplayed { volume: String },
    Hibernated { volume: String },
    AdapterAssumed { name: String, mac: String },
    AdapterUnknown { name: String },
    KernelLeft { kernel: String, why: String },
    NoDriver { device: String, why: String },
    DriverUnread { file: String, why: String },
    DomainController { system: String },
    Activation { system: String },
    AddressesUnread { system: String },
    SeveralSystems { systems: String },
}

impl Finding {
    /// How much it matters.
    pub fn severity(&self) -> Severity {
        self.words().severity
    }

    /// Whether the person may accept it: a blocker after which there is still something to carry.
    pub fn is_acceptable(&self) -> bool {
        matches!(
            self,
            Self::DescriptorChanged { .. }
                | Self::Running { .. }
                | Self::Suspended { .. }
                | Self::Locked { .. }
                | Self::MachineEncrypted { .. }
                | Self::FirmwareMismatch { .. }
                | Self::FirmwareNotOffered { .. }
                | Self::NoSecureBoot { .. }
                | Self::TpmBound
                | Self::DiskTooLarge { .. }
                | Self::SizeUneven { .. }
                | Self::DoesNotBoot { .. }
                | Self::NoRoom { .. }
                | Self::WillNotBoot { .. }
                | Self::Hibernated { .. }
        )
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
        self.remedy_words()
    }

    /// As a record for JSON.
    pub fn record(&self) -> FindingRecord {
        let words::Words { severity, code, sentence } = self.words();
        FindingRecord { severity, code: code.into(), sentence, remedy: self.remedy_words().into() }
    }
}

/// Whether a setting that is lost changes how the guest starts or is reached.
pub(crate) fn matters(setting: &str) -> bool {
    ["firmware", "tpm", "clock", "start_with_host"].iter().any(|key| setting.starts_with(key))
        || setting.ends_with(".boot")
        || setting.ends_with(".mac")
        || setting.ends_with(".connected")
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

#[cfg(test)]
mod tests {
    use std::collections::BTreeSet;

    /// Severity and code of each finding, as `words.rs` has them.
    fn said() -> BTreeSet<(String, String)> {
        let words = include_str!("words.rs");
        let mut found = BTreeSet::new();
        for severity in ["Blocker", "Caution", "Note"] {
            for (at, _) in words.match_indices(&format!("{severity},")) {
                let after = words[at + severity.len() + 1..].trim_start();
                if let Some((code, _)) = after.strip_prefix('"').and_then(|after| after.split_once('"')) {
                    found.insert((severity.to_lowercase(), code.to_string()));
                }
            }
        }
        found
    }

    #[test]
    fn the_guide_lists_every_finding_with_its_severity_and_no_other() {
        let guide = include_str!("../../../../docs/guide.md");
        let (_, table) = guide.split_once("| code | severity |").unwrap();
        let mut listed = BTreeSet::new();
        for row in table.lines().filter_map(|row| row.strip_prefix("| `")) {
            let (codes, rest) = row.split_once(" | ").unwrap();
            let severity = rest.split(" | ").next().unwrap();
            listed.extend(codes.split(", ").map(|code| (severity.to_string(), code.replace('`', ""))));
        }
        // The troubles of an image share one arm there.
        let troubles =
            ["disk-encrypted", "image-corrupt", "parent-changed"].map(|code| ("blocker".into(), code.into()));
        let mut said = said();
        said.extend(troubles);
        assert!(listed.len() > 80);
        assert_eq!(listed, said);
    }

    /// Each is shown by a test of some crate that names it.
    #[test]
    fn every_finding_is_named_by_a_test() {
        let root = std::path::Path::new(env!("CARGO_MANIFEST_DIR")).join("../..");
        let mut folders: Vec<_> =
            ["cli/tests", "core/move/tests", "core/guest/tests"].map(|folder| root.join(folder)).into();
        let mut tests = String::new();
        for own in ["core/move/src/inside.rs", "core/move/src/staging/tests.rs"] {
            tests +=
                std::fs::read_to_string(root.join(own)).unwrap().split_once("#[cfg(test)]").map_or("", |(_, own)| own);
        }
        while let Some(folder) = folders.pop() {
            for entry in std::fs::read_dir(folder).unwrap() {
                let path = entry.unwrap().path();
                match path.extension().is_some_and(|ending| ending == "rs") {
                    true => tests += &std::fs::read_to_string(path).unwrap(),
                    false if path.is_dir() => folders.push(path),
                    false => {}
                }
            }
        }
        let is_part = |c: char| c.is_ascii_alphanumeric() || c == '-';
        let named = |code: &str| {
            let mut places = tests.match_indices(code);
            places.any(|(at, _)| !tests[..at].ends_with(is_part) && !tests[at + code.len()..].starts_with(is_part))
        };
        let unnamed: Vec<String> = said().into_iter().map(|(_, code)| code).filter(|code| !named(code)).collect();
        assert_eq!(unnamed, [""; 0]);
    }
}
