//! The kinds of machine file.

use serde::{Deserialize, Serialize};

/// Kinds of machine file.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum MachineFile {
    /// libvirt's domain XML.
    DomainXml,
    /// An OVF descriptor beside its disks.
    Ovf,
    /// The same in one archive.
    Ova,
    /// A `.vmx` file.
    Vmx,
    /// A `.vbox` file.
    Vbox,
    /// A script that makes the machine, and an OVF descriptor that says what it is.
    StartScript,
    /// What a cloud's import needs, as JSON.
    LaunchJson,
}

impl MachineFile {
    /// All of them.
    pub const ALL: [Self; 7] =
        [Self::DomainXml, Self::Ovf, Self::Ova, Self::Vmx, Self::Vbox, Self::StartScript, Self::LaunchJson];

    /// The word for it in briefs and destinations.
    pub fn word(self) -> &'static str {
        match self {
            Self::DomainXml => "domain-xml",
            Self::Ovf => "ovf",
            Self::Ova => "ova",
            Self::Vmx => "vmx",
            Self::Vbox => "vbox",
            Self::StartScript => "start-script",
            Self::LaunchJson => "launch-json",
        }
    }

    /// The kind that `word` stands for.
    pub fn from_word(word: &str) -> Option<Self> {
        Self::ALL.into_iter().find(|kind| kind.word() == word)
    }

    /// The words for it in sentences.
    pub fn name(self) -> &'static str {
        match self {
            Self::DomainXml => "domain XML",
            Self::Ovf => "OVF",
            Self::Ova => "OVA",
            Self::Vmx => ".vmx",
            Self::Vbox => ".vbox",
            Self::StartScript => "start script",
            Self::LaunchJson => "launch JSON",
        }
    }
}
