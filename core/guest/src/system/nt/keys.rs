//! Keys of a system's registry, looked at and changed one by one.

use serde::Serialize;

use super::hives;
use crate::{
    error::{Error, Result},
    formats::hive::{Changed, Data, Hive},
    fs::{ntfs::seconds, tree::Tree},
    system::Guest,
};

/// What the key of the current control set is called while a system runs.
const CURRENT: &str = "CurrentControlSet";

/// A key, with what is in it.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct KeyFacts {
    /// The hive's file.
    pub hive: String,
    /// The key, from the hive's first one on.
    pub key: String,
    /// When it was changed, in seconds since 1970.
    pub changed: i64,
    /// The keys below it.
    pub keys: Vec<String>,
    /// Its values.
    pub values: Vec<ValueFacts>,
    /// Whether the hive's logs held what it did not.
    pub replayed: bool,
}

/// A value of a key.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct ValueFacts {
    /// Its name; empty for the key's own.
    pub name: String,
    /// What it holds.
    #[serde(flatten)]
    pub data: Data,
}

/// A change to a hive.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum HiveChange {
    /// A value of a key is set; the key is made where it is not there.
    Set(String, String, Data),
    /// A value of a key is removed.
    Unset(String, String),
    /// A key is made, with those above it.
    Make(String),
    /// A key is removed, with all below it.
    Remove(String),
    /// The same, where it is there.
    RemoveIfThere(String),
    /// A value of a key is removed, where it is there.
    UnsetIfThere(String, String),
}

/// The key that `path` means: the current control set is the one that the system starts with.
pub(super) fn resolved(hive: &Hive, path: &str) -> Result<String> {
    let (first, rest) = path.split_once('\\').unwrap_or((path, ""));
    if !first.eq_ignore_ascii_case(CURRENT) {
        return Ok(path.into());
    }
    match hive.number("Select", "Current")? {
        Some(number) => Ok(format!("ControlSet{number:03}\\{rest}").trim_end_matches('\\').into()),
        None => Ok(path.into()),
    }
}

/// What is in the key at `key` of a hive, which is named as its system does, or by its path. Times are seconds since 1970.
///
/// # Errors
/// [`Error::NotFound`]; those of the hive.
pub fn look(tree: &Tree, hive: &str, key: &str, now: i64) -> Result<KeyFacts> {
    let path = hives::path(hive);
    let opened = hives::open(tree, &path, now)?;
    let key = resolved(&opened, key.trim_matches('\\'))?;
    let found = opened.find(&key)?.ok_or_else(|| missing(hive, &key))?;
    let values = opened.values(found)?;
    Ok(KeyFacts {
        hive: path,
        changed: seconds(opened.changed_at(found)?),
        keys: opened.keys(found)?.into_iter().map(|(name, _)| name).collect(),
        values: values.into_iter().map(|value| ValueFacts { data: value.data(), name: value.name }).collect(),
        replayed: opened.was_replayed,
        key,
    })
}

fn missing(hive: &str, what: &str) -> Error {
    Error::NotFound { path: format!("{what} in {hive}") }
}

/// Changes keys and values of a hive, and tells what was changed.
///
/// # Errors
/// [`Error::NotFound`] for what is to be removed; those of the hive and of the tree.
pub fn change(tree: &mut Tree, hive: &str, changes: &[HiveChange], now: i64) -> Result<Vec<Changed>> {
    let path = hives::path(hive);
    let mut opened = hives::open(tree, &path, now)?;
    for change in changes {
        match change {
            HiveChange::Set(key, name, data) => {
                let key = resolved(&opened, key)?;
                opened.set(&key, name, data)?;
            }
            HiveChange::Unset(key, name) => {
                let key = resolved(&opened, key)?;
                if !opened.unset(&key, name)? {
                    return Err(missing(hive, &format!("value {name} of {key}")));
                }
            }
            HiveChange::Make(key) => {
                let key = resolved(&opened, key)?;
                opened.make_key(&key)?;
            }
            HiveChange::Remove(key) => {
                let key = resolved(&opened, key)?;
                if !opened.remove(&key)? {
                    return Err(missing(hive, &key));
                }
            }
            HiveChange::RemoveIfThere(key) => {
                let key = resolved(&opened, key)?;
                opened.remove(&key)?;
            }
            HiveChange::UnsetIfThere(key, name) => {
                let key = resolved(&opened, key)?;
                opened.unset(&key, name)?;
            }
        }
    }
    hives::write(tree, &path, &mut opened)
}

/// The tree of the volume that holds the guest's boot store, and the store's path there.
///
/// # Errors
/// Those of the disks and of the file systems.
pub fn boot_store(guest: &mut Guest, now: i64) -> Result<Option<(Tree, String)>> {
    for index in super::candidates(&guest.volumes) {
        let Some(tree) = guest.volume_tree(index, now)? else { continue };
        if let Some(path) = super::PLACES.into_iter().find(|path| tree.exists(path)) {
            return Ok(Some((tree, path.into())));
        }
    }
    Ok(None)
}

/// Whether `hive` names the boot store.
pub fn is_boot_store(hive: &str) -> bool {
    hive.eq_ignore_ascii_case(hives::BOOT_STORE)
}
