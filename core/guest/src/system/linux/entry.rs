//! What a loader starts, and where that lies in the guest's tree.

use serde::Serialize;

use crate::fs::tree::Tree;

/// What a loader starts.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct Entry {
    /// The file that says so.
    pub file: String,
    /// Its title.
    pub title: String,
    /// Path of the kernel in the guest's tree.
    pub kernel: String,
    /// Paths of the early boot images.
    pub initrds: Vec<String>,
    /// The kernel's parameters.
    pub parameters: String,
    /// Whether all of it is one file of the firmware, which a change would break the seal of.
    pub is_unified: bool,
}

impl Entry {
    /// The value of a parameter; the last one counts.
    #[expect(clippy::string_slice, reason = "cut behind ASCII that was seen there")]
    pub fn parameter(&self, key: &str) -> Option<&str> {
        let fits = |word: &str| word.strip_prefix(key).is_some_and(|rest| rest.starts_with('='));
        self.parameters.split_whitespace().rfind(|word| fits(word)).map(|word| &word[key.len() + 1..])
    }
}

/// Folders that may be the root of the volume that a loader reads.
pub(super) const BASES: [&str; 4] = ["/boot", "", "/boot/efi", "/efi"];

/// Where GRUB keeps parameters for its entry files.
pub(crate) const GRUB_ENV: [&str; 2] = ["/boot/grub2/grubenv", "/boot/grub/grubenv"];

/// The path in the guest's tree of what a loader calls `path`.
pub(super) fn in_tree(tree: &Tree, path: &str) -> String {
    // A volume in brackets in front: the one that the loader was told to read.
    let path = path.strip_prefix('(').and_then(|rest| Some(rest.split_once(')')?.1)).unwrap_or(path);
    let path = path.trim_matches(['"', '\'']);
    let path = if path.starts_with('/') { path.to_string() } else { format!("/{path}") };
    let places = BASES.iter().map(|base| format!("{base}{path}"));
    // A loader that reads subvolumes begins at the first one.
    let below = tree.below_subvolumes(&path);
    places.chain(below).find(|place| tree.exists(place)).unwrap_or(path)
}

/// What one loader offers.
pub(super) struct Menu {
    pub(super) entries: Vec<Entry>,
    /// Which of them it starts by itself, or why none of them; `None` where the file has nothing to start.
    pub(super) default: Option<std::result::Result<usize, String>>,
}

/// An entry that a file has, with nothing in it.
pub(super) fn named(file: &str) -> Entry {
    Entry {
        file: file.into(),
        title: String::new(),
        kernel: String::new(),
        initrds: Vec::new(),
        parameters: String::new(),
        is_unified: false,
    }
}
