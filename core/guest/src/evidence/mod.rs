//! The chain of boot evidence: firmware, partition, loader, kernel and early boot image, controller driver, root file system,
//! adapters; each link with what was seen.

mod firmware;
pub(crate) mod hardware;
pub(crate) mod linux;
pub(crate) mod look;
pub(crate) mod nt;

use serde::{Deserialize, Serialize};

/// A link of the chain.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Link {
    /// The firmware finds something to start.
    Firmware,
    /// The partition or volume that holds the root file system.
    Partition,
    /// The loader finds its entries.
    Loader,
    /// A kernel and its early boot image are where the loader looks.
    Kernel,
    /// The kernel finds the controller of the disk.
    Driver,
    /// The root file system and what else is mounted is found by its name.
    Root,
    /// Adapters come up under the names that their configuration has.
    Adapters,
}

impl Link {
    /// The words for it.
    pub fn name(self) -> &'static str {
        match self {
            Self::Firmware => "firmware",
            Self::Partition => "partition",
            Self::Loader => "loader",
            Self::Kernel => "kernel",
            Self::Driver => "driver",
            Self::Root => "root",
            Self::Adapters => "adapters",
        }
    }
}

/// Whether a link holds.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum State {
    /// It does.
    Holds,
    /// It did not, and does by an edit.
    Mended,
    /// It does not.
    Broken,
    /// It cannot be told.
    Unknown,
}

impl State {
    /// The words for it.
    pub fn name(self) -> &'static str {
        match self {
            Self::Holds => "holds",
            Self::Mended => "mended",
            Self::Broken => "broken",
            Self::Unknown => "unknown",
        }
    }
}

/// A link as it was seen.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Evidence {
    /// Which link.
    pub link: Link,
    /// What of it: a kernel, a device's name, an adapter. It stays the same when the link is mended.
    pub about: String,
    /// Whether it holds.
    pub state: State,
    /// What was read, and where.
    pub seen: String,
    /// The edit that mends it, or did.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub edit: Option<String>,
    /// Whether the start that is made by itself needs it: of the default entry's kernel, and of what is mounted before the system is up. Receipts of
    /// older versions do not say it.
    #[serde(default)]
    pub needed: bool,
}

impl Evidence {
    /// A link; those from the firmware to the loader every start needs.
    pub(crate) fn new(link: Link, about: impl Into<String>, state: State, seen: impl Into<String>) -> Self {
        let needed = matches!(link, Link::Firmware | Link::Partition | Link::Loader);
        Self { link, about: about.into(), state, seen: seen.into(), edit: None, needed }
    }

    /// The same, as what the start that is made by itself needs, or does not.
    pub(crate) fn needed(self, needed: bool) -> Self {
        Self { needed, ..self }
    }

    fn mended_by(self, edit: &str) -> Self {
        Self { edit: Some(edit.into()), ..self }
    }
}

/// The chain after edits, told beside what it was before them.
pub(crate) fn compared(before: &[Evidence], after: Vec<Evidence>) -> Vec<Evidence> {
    let was_broken = |now: &Evidence| {
        let same = |old: &&Evidence| old.link == now.link && old.about == now.about;
        before.iter().find(same).filter(|old| old.state == State::Broken)
    };
    after
        .into_iter()
        .map(|mut now| {
            match was_broken(&now) {
                Some(old) if now.state == State::Holds => {
                    now.edit.clone_from(&old.edit);
                    now.state = State::Mended;
                }
                _ => now.edit = None,
            }
            now
        })
        .collect()
}

/// Whether anything in `chain` does not hold.
pub fn is_broken(chain: &[Evidence]) -> bool {
    chain.iter().any(|evidence| evidence.state == State::Broken)
}
