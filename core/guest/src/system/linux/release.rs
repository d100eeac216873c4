//! What a system says of itself (`man 5 os-release`), and its time zone.

use serde::Serialize;

use crate::fs::tree::Tree;

/// A distribution and its version.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize)]
pub struct Release {
    /// Its name for people.
    pub name: String,
    /// Its short name, in small letters.
    pub id: String,
    /// Its version; empty where it has none.
    pub version: String,
}

/// The values of a file of shell assignments.
pub(crate) fn assignments(text: &str) -> impl Iterator<Item = (&str, String)> {
    text.lines().filter_map(|line| {
        let (key, value) = line.trim().split_once('=')?;
        (!key.starts_with('#')).then(|| (key.trim(), value.trim().trim_matches(['"', '\'']).to_string()))
    })
}

pub(super) fn read(tree: &Tree) -> Release {
    let text = tree.text("/etc/os-release").or_else(|| tree.text("/usr/lib/os-release")).unwrap_or_default();
    let value = |key: &str| assignments(&text).find(|(name, _)| *name == key).map(|(_, value)| value);
    let (id, version) = (value("ID").unwrap_or_default(), value("VERSION_ID").unwrap_or_default());
    let name = value("PRETTY_NAME").filter(|name| !name.is_empty());
    let name = name.unwrap_or_else(|| if id.is_empty() { "a Linux system".into() } else { format!("{id} {version}") });
    // It goes into reports as one line.
    let name = name.chars().filter(|c| !c.is_control()).take(80).collect();
    Release { name, id, version }
}

/// From where `/etc/localtime` leads, or what is written down.
pub(super) fn time_zone(tree: &Tree) -> Option<String> {
    let link = tree.link_target("/etc/localtime").ok().and_then(|target| String::from_utf8(target).ok());
    let by_link = link.and_then(|target| Some(target.split_once("zoneinfo/")?.1.to_string()));
    let written = || tree.text("/etc/timezone").map(|text| text.trim().to_string());
    by_link.or_else(written).filter(|zone| !zone.is_empty() && zone.len() < 64)
}
