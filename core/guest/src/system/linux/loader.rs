//! Boot loaders' configuration: entries of GRUB 2 (beside this), of loaders that read entry files (Boot Loader Specification, types 1 and 2), and of
//! extlinux; and which of them is started by itself.

use std::collections::BTreeMap;

use super::{
    entry::{BASES, Entry, GRUB_ENV, Menu, in_tree, named},
    grub,
    unified::{self, Unified},
    version,
};
use crate::fs::tree::Tree;

/// Entry files of a volume, and early boot images of an entry, that are read: real ones have a few.
const MOST_FILES: usize = 1024;
const MOST_IMAGES: usize = 64;
/// Names that are kept between starts.
const MOST_KEPT: usize = 1024;
/// The longest parameters of a kernel, in bytes: kernels take 2 to 4 KiB (`COMMAND_LINE_SIZE` in their source), and what is longer starts nothing.
const MOST_PARAMETERS: usize = 64 << 10;
/// Files of GRUB.
pub(crate) const GRUB: [&str; 3] = ["/boot/grub/grub.cfg", "/boot/grub2/grub.cfg", "/boot/grub/custom.cfg"];
const EXTLINUX: [&str; 5] = [
    "/boot/extlinux/extlinux.conf",
    "/boot/extlinux.conf",
    "/extlinux.conf",
    "/boot/syslinux/syslinux.cfg",
    "/boot/syslinux.cfg",
];
/// Files that the configuration is made from when it is made anew.
pub(crate) fn defaults(tree: &Tree) -> Vec<String> {
    let mut files = vec!["/etc/default/grub".to_string(), "/etc/kernel/cmdline".into(), "/etc/default/extlinux".into()];
    files.extend(tree.names("/etc/default/grub.d").into_iter().map(|name| format!("/etc/default/grub.d/{name}")));
    files.retain(|file| tree.exists(file));
    files
}

/// What the loaders of a system start.
pub(crate) struct Loaders {
    /// All entries, the one that is started by itself first.
    pub(crate) entries: Vec<Entry>,
    /// Why it is not known which one that is.
    pub(crate) unknown: Option<String>,
}

/// The entry files of a volume, each with its name.
fn entry_files(tree: &Tree, base: &str) -> Vec<(String, Entry)> {
    let folder = format!("{base}/loader/entries");
    let names = tree.names(&folder).into_iter().filter(|name| name.ends_with(".conf")).take(MOST_FILES);
    // The same for all of them.
    let text = GRUB_ENV.iter().find_map(|env| tree.text(env)).unwrap_or_default();
    let environment = kept(&text);
    names
        .filter_map(|name| {
            let file = format!("{folder}/{name}");
            let stem = name.strip_suffix(".conf")?.to_string();
            Some((stem, entry_file(tree, &file, &tree.text(&file)?, &environment)?))
        })
        .collect()
}

/// The menu of a loader that reads entry files and unified images by itself (`man 7 systemd-boot`, `man 5 loader.conf`).
fn entry_menu(tree: &Tree, base: &str, files: &[(String, Entry)]) -> Menu {
    let mut all: Vec<(String, Entry)> = files.to_vec();
    all.extend(unified::find(tree, base).into_iter().map(|(path, image)| {
        let name = path.rsplit('/').next().unwrap_or_default();
        (name.strip_suffix(".efi").unwrap_or(name).to_string(), unified_entry(path.clone(), &image))
    }));
    let key = |entry: &Entry, key: &str| {
        let text = tree.text(&entry.file).filter(|_| !entry.is_unified).unwrap_or_default();
        text.lines().find_map(|line| Some(line.trim().strip_prefix(key)?.trim().to_string()))
    };
    // Those with a key come first, by it, and the newest of each first; then by name.
    let mut keyed: Vec<_> = all
        .into_iter()
        .map(|(name, entry)| (key(&entry, "sort-key "), key(&entry, "version ").unwrap_or_default(), name, entry))
        .collect();
    keyed.sort_by(|one, other| {
        let keys = (one.0.is_none(), &one.0).cmp(&(other.0.is_none(), &other.0));
        let versions = || if one.0.is_some() { version::compare(&other.1, &one.1) } else { std::cmp::Ordering::Equal };
        keys.then_with(versions).then_with(|| version::compare(&other.2, &one.2))
    });
    let settings = tree.text(&format!("{base}/loader/loader.conf")).unwrap_or_default();
    let wanted = settings.lines().find_map(|line| Some(line.trim().strip_prefix("default")?.trim().to_string()));
    let fits = |name: &str| {
        wanted.as_ref().is_some_and(|wanted| {
            let wanted = wanted.strip_suffix(".conf").or_else(|| wanted.strip_suffix(".efi")).unwrap_or(wanted);
            glob(wanted.as_bytes(), name.as_bytes())
        })
    };
    // What it keeps in the variables of its firmware stays with the old host.
    let default = keyed.iter().position(|(_, _, name, _)| fits(name)).unwrap_or(0);
    let entries: Vec<Entry> = keyed.into_iter().map(|(.., entry)| entry).collect();
    Menu { default: (!entries.is_empty()).then_some(Ok(default)), entries }
}

/// Whether a name fits a pattern with `*` and `?`.
fn glob(pattern: &[u8], name: &[u8]) -> bool {
    // The last star, and where it was tried: each step is taken once for each byte of the name.
    let (mut at, mut place, mut star) = (0, 0, None);
    while place < name.len() {
        match pattern.get(at) {
            Some(b'*') => {
                star = Some((at + 1, place));
                at += 1;
            }
            Some(byte) if *byte == b'?' || Some(byte) == name.get(place) => {
                at += 1;
                place += 1;
            }
            _ => match star {
                Some((behind, tried)) => {
                    star = Some((behind, tried + 1));
                    (at, place) = (behind, tried + 1);
                }
                None => return false,
            },
        }
    }
    pattern.get(at..).unwrap_or_default().iter().all(|byte| *byte == b'*')
}

/// All entries of all loaders: those of the one that comes first in front, and in front of those the one that it starts by itself.
pub(crate) fn read(tree: &Tree) -> Loaders {
    let mut menus = Vec::new();
    let mut files: Vec<String> = GRUB.map(Into::into).into();
    // What stands on an EFI system partition mostly leads to the file in `/boot`, and sometimes is it.
    for base in ["/boot/efi/EFI", "/efi/EFI"] {
        files.extend(tree.names(base).into_iter().map(|name| format!("{base}/{name}/grub.cfg")));
    }
    let by_base = BASES.map(|base| (base, entry_files(tree, base)));
    let all_files: Vec<(String, Entry)> = by_base.iter().flat_map(|(_, files)| files.clone()).collect();
    for file in files {
        if let Some(text) = tree.text(&file) {
            menus.push(grub::menu(tree, &file, &text, &all_files));
        }
    }
    menus.extend(by_base.iter().map(|(base, files)| entry_menu(tree, base, files)));
    for file in EXTLINUX {
        if let Some(text) = tree.text(file) {
            menus.push(extlinux(tree, file, &text));
        }
    }
    let mut unknown = None;
    if let Some(at) = menus.iter().position(|menu| menu.default.is_some()) {
        let mut menu = menus.remove(at);
        match menu.default.take() {
            Some(Ok(default)) if default < menu.entries.len() => {
                menu.entries.get_mut(..=default).unwrap_or_default().rotate_right(1);
            }
            Some(Err(why)) => unknown = Some(why),
            _ => {}
        }
        menus.insert(0, menu);
    }
    let mut entries: Vec<Entry> = Vec::new();
    for entry in menus.into_iter().flat_map(|menu| menu.entries) {
        if !entries.contains(&entry) {
            entries.push(entry);
        }
    }
    Loaders { entries, unknown }
}

fn entry_file(tree: &Tree, file: &str, text: &str, environment: &BTreeMap<&str, &str>) -> Option<Entry> {
    let lines = || text.lines().map(str::trim).filter_map(|line| line.split_once(char::is_whitespace));
    let value = |key: &str| lines().find(|(name, _)| *name == key).map(|(_, value)| value.trim());
    let kernel = value("linux")?;
    let options: Vec<&str> = lines().filter(|(name, _)| *name == "options").map(|(_, value)| value.trim()).collect();
    let options = options.join(" ");
    let parameters = expanded(&options, environment)?;
    let initrds: Vec<&str> = lines().filter(|(name, _)| *name == "initrd").map(|(_, value)| value.trim()).collect();
    let initrds = expanded(&initrds.join(" "), environment)?;
    Some(Entry {
        title: value("title").unwrap_or_default().into(),
        kernel: in_tree(tree, kernel),
        initrds: initrds.split_whitespace().take(MOST_IMAGES).map(|path| in_tree(tree, path)).collect(),
        parameters: parameters.trim().into(),
        ..named(file)
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

/// What GRUB's environment keeps, by its names; the first of a name counts. A block of it has 1024 bytes (its manual, "Environment block").
fn kept(text: &str) -> BTreeMap<&str, &str> {
    let mut known = BTreeMap::new();
    for (key, value) in text.lines().take(MOST_KEPT).filter_map(|line| line.split_once('=')) {
        known.entry(key).or_insert(value);
    }
    known
}

/// `text` with names of GRUB's environment replaced by what is kept there; one that is not kept stands for nothing. `None` where that is longer
/// than any kernel takes.
fn expanded(text: &str, environment: &BTreeMap<&str, &str>) -> Option<String> {
    let kept = |name: &str| environment.get(name).copied().unwrap_or_default();
    let mut parts = text.split('$');
    let mut result = parts.next().unwrap_or_default().to_string();
    for part in parts {
        let inside = part.strip_prefix('{').and_then(|rest| rest.split_once('}'));
        let end = part.find(|c: char| !c.is_ascii_alphanumeric() && c != '_').unwrap_or(part.len());
        let (name, rest) = inside.unwrap_or_else(|| part.split_at(end));
        result.push_str(kept(name));
        result.push_str(rest);
        if result.len() > MOST_PARAMETERS {
            return None;
        }
    }
    (result.len() <= MOST_PARAMETERS).then_some(result)
}

fn extlinux(tree: &Tree, file: &str, text: &str) -> Menu {
    let mut found: Vec<Entry> = Vec::new();
    let (mut title, mut label, mut labels, mut default) = (String::new(), String::new(), Vec::new(), None);
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
            ("default" | "ontimeout", _) => default = Some(rest.to_string()),
            ("label", _) => {
                title = rest.into();
                label = rest.into();
            }
            ("menu", _) => {
                if let Some(text) = rest.strip_prefix("label ").or_else(|| rest.strip_prefix("LABEL ")) {
                    title = text.trim().into();
                } else if rest.eq_ignore_ascii_case("default") {
                    default = Some(label.clone());
                }
            }
            ("linux" | "kernel", _) if labels.len() < MOST_FILES => {
                found.push(Entry { title: title.clone(), kernel: path(rest), ..named(file) });
                labels.push(label.clone());
            }
            ("initrd", Some(entry)) => {
                entry.initrds = rest.split(',').take(MOST_IMAGES).map(|one| path(one.trim())).collect();
            }
            ("append", Some(entry)) => {
                let images = rest.split_whitespace().filter_map(|word| word.strip_prefix("initrd="));
                entry.initrds.extend(images.take(MOST_IMAGES).map(path));
                entry.parameters = rest.into();
            }
            _ => {}
        }
    }
    // A menu's program as the default shows the menu, whose first entry is started.
    let by_label = default.and_then(|default| labels.iter().position(|label| *label == default));
    Menu { default: (!found.is_empty()).then_some(Ok(by_label.unwrap_or(0))), entries: found }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn names_fit_patterns() {
        for (pattern, name, fits) in [
            ("tidal-*", "tidal-6.1", true),
            ("*", "", true),
            ("t?d*1", "tidal-6.1", true),
            ("tidal", "tidal-6.1", false),
            ("*a*a*a*b", "aaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaa", false),
        ] {
            assert_eq!(glob(pattern.as_bytes(), name.as_bytes()), fits, "{pattern} {name}");
        }
    }
}
