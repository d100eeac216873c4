//! Keys of a registry as text (`.reg`), and text as changes to hives.

use super::{
    hives,
    keys::{HiveChange, resolved},
};
use crate::{
    error::{Error, Result},
    formats::{
        hive::{Hive, Key},
        reg::{self, Line},
    },
    fs::tree::Tree,
};

/// Keys below one another.
const MAX_DEPTH: usize = 512;

/// Where a running system has the keys of a hive, and how the hive is called.
const ROOTS: [(&str, &str); 7] = [
    ("HKEY_LOCAL_MACHINE\\SYSTEM", "SYSTEM"),
    ("HKEY_LOCAL_MACHINE\\SOFTWARE", "SOFTWARE"),
    ("HKEY_LOCAL_MACHINE\\SAM", "SAM"),
    ("HKEY_LOCAL_MACHINE\\SECURITY", "SECURITY"),
    ("HKEY_LOCAL_MACHINE\\BCD00000000", hives::BOOT_STORE),
    ("HKEY_USERS\\.DEFAULT", "DEFAULT"),
    ("HKEY_CURRENT_USER", "NTUSER.DAT"),
];

/// What follows `root` in `key`, case aside.
fn below<'a>(key: &'a str, root: &str) -> Option<&'a str> {
    let (start, rest) = key.split_at_checked(root.len())?;
    let is_below = start.eq_ignore_ascii_case(root) && (rest.is_empty() || rest.starts_with('\\'));
    is_below.then(|| rest.trim_start_matches('\\'))
}

/// The changes that the text in `bytes` asks for, with the hive that each is for; all are for `hive` where that is said.
///
/// # Errors
/// What is wrong, as a sentence.
pub fn changes(bytes: &[u8], hive: Option<&str>) -> Result<Vec<(String, HiveChange)>, String> {
    let place = |key: &str| -> Result<(String, String), String> {
        let long = key.strip_prefix("HKLM\\").map(|rest| format!("HKEY_LOCAL_MACHINE\\{rest}"));
        let key = long.unwrap_or_else(|| key.into());
        let known = ROOTS.iter().find_map(|(root, name)| Some((*name, below(&key, root)?)));
        match (known, hive) {
            (Some((_, rest)), Some(hive)) => Ok((hive.into(), rest.into())),
            (Some(("NTUSER.DAT", _)), None) => {
                Err("name the hive of the user whose keys these are (--hive /Users/NAME/NTUSER.DAT)".into())
            }
            (Some((name, rest)), None) => Ok((name.into(), rest.into())),
            (None, _) => Err(format!("'{key}' is in no hive that is known")),
        }
    };
    let mut found = Vec::new();
    let mut at = None;
    for line in reg::read(bytes)? {
        match (line, &at) {
            (Line::Key(key), _) => {
                let (hive, key) = place(&key)?;
                // The first key of a hive is there.
                found.extend((!key.is_empty()).then(|| (hive.clone(), HiveChange::Make(key.clone()))));
                at = Some((hive, key));
            }
            (Line::RemoveKey(key), _) => {
                let (hive, key) = place(&key)?;
                found.push((hive, HiveChange::RemoveIfThere(key)));
                at = None;
            }
            (Line::Set(name, data), Some((hive, key))) => {
                found.push((hive.clone(), HiveChange::Set(key.clone(), name, data)));
            }
            (Line::Unset(name), Some((hive, key))) => {
                found.push((hive.clone(), HiveChange::UnsetIfThere(key.clone(), name)));
            }
            (Line::Set(..) | Line::Unset(_), None) => return Err("a value is in no key".into()),
        }
    }
    Ok(found)
}

/// The key at `key` of a hive with all below it, as the bytes of a text.
///
/// # Errors
/// [`Error::NotFound`]; those of the hive.
pub fn text(tree: &Tree, hive: &str, key: &str, now: i64) -> Result<Vec<u8>> {
    let path = hives::path(hive);
    let opened = hives::open(tree, &path, now)?;
    let key = resolved(&opened, key.trim_matches('\\'))?;
    let found = opened.find(&key)?.ok_or_else(|| Error::NotFound { path: format!("{key} in {hive}") })?;
    let file = path.rsplit('/').next().unwrap_or_default();
    let root = ROOTS.iter().find(|(_, name)| name.eq_ignore_ascii_case(file));
    let root = root.map_or_else(|| format!("HKEY_LOCAL_MACHINE\\{file}"), |(root, _)| (*root).into());
    let start = if key.is_empty() { root } else { format!("{root}\\{key}") };
    let mut lines = Vec::new();
    let mut hold = tree.budget().hold();
    walk(&opened, found, &start, 0, &mut |line, weight| {
        hold.grow(weight)?;
        lines.push(line);
        Ok(())
    })?;
    let cannot = |name: String| Error::Unsupported {
        volume: path.clone(),
        action: "written as text",
        what: format!("a name in it has letters that a text cannot carry ('{name}')"),
    };
    reg::write(&lines).map_err(cannot)
}

fn walk(hive: &Hive, key: Key, path: &str, depth: usize, add: &mut dyn FnMut(Line, u64) -> Result<()>) -> Result<()> {
    if depth > MAX_DEPTH {
        return Err(Error::Damaged { volume: path.into(), what: "keys lie below themselves".into() });
    }
    // As text, a letter has two bytes, and a byte of data three letters.
    add(Line::Key(path.into()), 4 * path.len() as u64 + 64)?;
    for value in hive.values(key)? {
        let weight = 4 * value.name.len() as u64 + 7 * value.bytes.len() as u64 + 64;
        add(Line::Set(value.name.clone(), value.data()), weight)?;
    }
    for (name, below) in hive.keys(key)? {
        walk(hive, below, &format!("{path}\\{name}"), depth + 1, add)?;
    }
    Ok(())
}
