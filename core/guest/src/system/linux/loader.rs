//! Boot loaders' configuration: entries of GRUB 2 (its manual, "The list of commands"), of loaders that read entry files (Boot
//! Loader Specification, type 1), and of extlinux.

use serde::Serialize;

use super::unified::{self, Unified};
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
const BASES: [&str; 4] = ["/boot", "", "/boot/efi", "/efi"];

/// Files of GRUB.
pub(crate) const GRUB: [&str; 3] = ["/boot/grub/grub.cfg", "/boot/grub2/grub.cfg", "/boot/grub/custom.cfg"];
const EXTLINUX: [&str; 5] = [
    "/boot/extlinux/extlinux.conf",
    "/boot/extlinux.conf",
    "/extlinux.conf",
    "/boot/syslinux/syslinux.cfg",
    "/boot/syslinux.cfg",
];
/// Where GRUB keeps parameters for its entry files.
pub(crate) const GRUB_ENV: [&str; 2] = ["/boot/grub2/grubenv", "/boot/grub/grubenv"];

/// Files that the configuration is made from when it is made anew.
pub(crate) fn defaults(tree: &Tree) -> Vec<String> {
    let mut files = vec!["/etc/default/grub".to_string(), "/etc/kernel/cmdline".into(), "/etc/default/extlinux".into()];
    files.extend(tree.names("/etc/default/grub.d").into_iter().map(|name| format!("/etc/default/grub.d/{name}")));
    files.retain(|file| tree.exists(file));
    files
}

/// The path in the guest's tree of what a loader calls `path`.
fn in_tree(tree: &Tree, path: &str) -> String {
    // A volume in brackets in front: the one that the loader was told to read.
    let path = path.strip_prefix('(').and_then(|rest| Some(rest.split_once(')')?.1)).unwrap_or(path);
    let path = path.trim_matches(['"', '\'']);
    let path = if path.starts_with('/') { path.to_string() } else { format!("/{path}") };
    let places = BASES.iter().map(|base| format!("{base}{path}"));
    // A loader that reads subvolumes begins at the first one.
    let below = tree.below_subvolumes(&path);
    places.chain(below).find(|place| tree.exists(place)).unwrap_or(path)
}

/// All entries, in the order in which the files and their lines are.
pub(crate) fn read(tree: &Tree) -> Vec<Entry> {
    let mut entries = Vec::new();
    let mut files: Vec<String> = GRUB.map(Into::into).into();
    // What stands on an EFI system partition mostly leads to the file in `/boot`, and sometimes is it.
    for base in ["/boot/efi/EFI", "/efi/EFI"] {
        files.extend(tree.names(base).into_iter().map(|name| format!("{base}/{name}/grub.cfg")));
    }
    for file in files {
        if let Some(text) = tree.text(&file) {
            entries.extend(grub(tree, &file, &text));
        }
    }
    for base in BASES {
        let folder = format!("{base}/loader/entries");
        // The newest first, as loaders show them.
        for name in tree.names(&folder).into_iter().rev().filter(|name| name.ends_with(".conf")) {
            let file = format!("{folder}/{name}");
            if let Some(text) = tree.text(&file) {
                entries.extend(entry_file(tree, &file, &text));
            }
        }
    }
    for base in BASES {
        entries.extend(unified::find(tree, base).into_iter().map(|(path, image)| unified_entry(path, &image)));
    }
    for file in EXTLINUX {
        if let Some(text) = tree.text(file) {
            entries.extend(extlinux(tree, file, &text));
        }
    }
    let mut known: Vec<Entry> = Vec::new();
    for entry in entries {
        if !known.contains(&entry) {
            known.push(entry);
        }
    }
    known
}

#[expect(clippy::string_slice, reason = "cut behind ASCII that was seen there")]
fn grub(tree: &Tree, file: &str, text: &str) -> Vec<Entry> {
    let mut found: Vec<Entry> = Vec::new();
    let mut title = String::new();
    for line in text.lines().map(str::trim) {
        let (word, rest) = line.split_once(char::is_whitespace).unwrap_or((line, ""));
        match word {
            "menuentry" => {
                let quote = rest.chars().next().filter(|c| ['"', '\''].contains(c));
                let end = quote.and_then(|quote| rest[1..].find(quote));
                title = end.map_or(rest, |end| &rest[1..=end]).into();
            }
            "linux" | "linux16" | "linuxefi" => {
                let (kernel, parameters) = rest.trim().split_once(char::is_whitespace).unwrap_or((rest.trim(), ""));
                found.push(Entry {
                    file: file.into(),
                    title: title.clone(),
                    kernel: in_tree(tree, kernel),
                    initrds: Vec::new(),
                    parameters: parameters.trim().into(),
                    is_unified: false,
                });
            }
            "initrd" | "initrd16" | "initrdefi" => {
                if let Some(entry) = found.last_mut() {
                    entry.initrds = rest.split_whitespace().map(|path| in_tree(tree, path)).collect();
                }
            }
            _ => {}
        }
    }
    found
}

fn entry_file(tree: &Tree, file: &str, text: &str) -> Option<Entry> {
    let lines = || text.lines().map(str::trim).filter_map(|line| line.split_once(char::is_whitespace));
    let value = |key: &str| lines().find(|(name, _)| *name == key).map(|(_, value)| value.trim());
    let kernel = value("linux")?;
    let options: Vec<&str> = lines().filter(|(name, _)| *name == "options").map(|(_, value)| value.trim()).collect();
    let options = options.join(" ");
    let environment = GRUB_ENV.iter().find_map(|env| tree.text(env)).unwrap_or_default();
    let parameters = expanded(&options, &environment);
    let initrds: Vec<&str> = lines().filter(|(name, _)| *name == "initrd").map(|(_, value)| value.trim()).collect();
    let initrds = expanded(&initrds.join(" "), &environment);
    Some(Entry {
        file: file.into(),
        title: value("title").unwrap_or_default().into(),
        kernel: in_tree(tree, kernel),
        initrds: initrds.split_whitespace().map(|path| in_tree(tree, path)).collect(),
        parameters: parameters.trim().into(),
        is_unified: false,
    })
}

fn unified_entry(path: String, image: &Unified) -> Entry {
    Entry {
        title: image.title().unwrap_or_default(),
        kernel: path.clone(),
        initrds: image.has_early_image().then(|| path.clone()).into_iter().collect(),
        parameters: image.parameters().unwrap_or_default(),
        is_unified: true,
        file: path,
    }
}

/// `text` with names of GRUB's environment replaced by what is kept there; one that is not kept stands for nothing.
fn expanded(text: &str, environment: &str) -> String {
    let kept = |name: &str| {
        let mut lines = environment.lines().filter_map(|line| line.split_once('='));
        lines.find(|(key, _)| *key == name).map_or("", |(_, value)| value)
    };
    let mut parts = text.split('$');
    let mut result = parts.next().unwrap_or_default().to_string();
    for part in parts {
        let inside = part.strip_prefix('{').and_then(|rest| rest.split_once('}'));
        let end = part.find(|c: char| !c.is_ascii_alphanumeric() && c != '_').unwrap_or(part.len());
        let (name, rest) = inside.unwrap_or_else(|| part.split_at(end));
        result.push_str(kept(name));
        result.push_str(rest);
    }
    result
}

fn extlinux(tree: &Tree, file: &str, text: &str) -> Vec<Entry> {
    let mut found: Vec<Entry> = Vec::new();
    let mut title = String::new();
    // Paths that do not begin at the root begin where the file lies.
    let folder = file.rsplit_once('/').map_or("", |(folder, _)| folder);
    let path = |path: &str| {
        let beside = format!("{folder}/{path}");
        if path.starts_with('/') || !tree.exists(&beside) { in_tree(tree, path) } else { beside }
    };
    for line in text.lines().map(str::trim) {
        let (word, rest) = line.split_once(char::is_whitespace).unwrap_or((line, ""));
        let rest = rest.trim();
        match (word.to_ascii_lowercase().as_str(), found.last_mut()) {
            ("label", _) => title = rest.into(),
            ("menu", _) => {
                if let Some(label) = rest.strip_prefix("label ").or_else(|| rest.strip_prefix("LABEL ")) {
                    title = label.trim().into();
                }
            }
            ("linux" | "kernel", _) => found.push(Entry {
                file: file.into(),
                title: title.clone(),
                kernel: path(rest),
                initrds: Vec::new(),
                parameters: String::new(),
                is_unified: false,
            }),
            ("initrd", Some(entry)) => entry.initrds = rest.split(',').map(|one| path(one.trim())).collect(),
            ("append", Some(entry)) => {
                entry.initrds.extend(rest.split_whitespace().filter_map(|word| word.strip_prefix("initrd=")).map(path));
                entry.parameters = rest.into();
            }
            _ => {}
        }
    }
    found
}
