//! What lies in a folder of a server: told by its index page, or by a list in JSON.

use reformis_disk::error::WireKind;
use serde::Deserialize;

use super::{
    client::fault_of_answer,
    follow::{Answer, Relink, get},
};
use crate::{
    fault::Fault,
    link::{Link, decoded},
};

/// The longest list that is read, in bytes, and the most names in it.
const MOST: u64 = 4 << 20;
const MANY: usize = 4096;

/// An entry of a list in JSON: a name, or an object with one.
#[derive(Deserialize)]
#[serde(untagged)]
enum Entry {
    Name(String),
    Object {
        name: String,
        #[serde(default)]
        folder: bool,
    },
}

/// What a folder holds.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub(crate) struct Listing {
    /// Names of plain files.
    pub(crate) files: Vec<String>,
    /// Names of folders.
    pub(crate) folders: Vec<String>,
}

/// What is in the folder `link`.
///
/// # Errors
/// What the try came to; a folder that is not listed.
pub(crate) fn list(relink: &dyn Relink, link: &Link) -> Result<Listing, Fault> {
    let Answer { mut response, .. } = get(relink, link, &[("accept", "application/json, text/html")], false)?;
    let status = response.status().as_u16();
    if status != 200 {
        return Err(fault_of_answer(status, response.headers(), false));
    }
    let bytes = super::document(response.body_mut().as_reader(), MOST)?;
    listing(&bytes).ok_or_else(|| Fault::Fatal(WireKind::Protocol, "what it sends is no list of files".into()))
}

/// What a list names, in its order; `None` for what is none.
pub(crate) fn listing(bytes: &[u8]) -> Option<Listing> {
    let found: Vec<(String, bool)> = match serde_json::from_slice::<Vec<Entry>>(bytes) {
        Ok(entries) => {
            let pair = |entry| match entry {
                Entry::Name(name) => (name, false),
                Entry::Object { name, folder } => (name, folder),
            };
            entries.into_iter().map(pair).collect()
        }
        Err(_) => {
            let links = links_of(std::str::from_utf8(bytes).ok()?)?.into_iter();
            links.map(|name| name.strip_suffix('/').map_or((name.clone(), false), |name| (name.into(), true))).collect()
        }
    };
    let mut listing = Listing::default();
    for (name, is_folder) in found.into_iter().filter(|(name, _)| is_plain(name)).take(MANY) {
        let names = if is_folder { &mut listing.folders } else { &mut listing.files };
        if names.last() != Some(&name) {
            names.push(name);
        }
    }
    Some(listing)
}

/// Reads `bytes` as the list of a folder, as a fuzzer does: how many names are in it.
pub fn read_listing(bytes: &[u8]) -> usize {
    listing(bytes).map_or(0, |listing| listing.files.len() + listing.folders.len())
}

/// Whether `name` is that of one thing in the folder itself.
fn is_plain(name: &str) -> bool {
    !matches!(name, "" | "." | "..") && !name.contains(['/', '\\']) && !name.chars().any(char::is_control)
}

/// What the links of an index page lead to.
fn links_of(page: &str) -> Option<Vec<String>> {
    if !page.to_ascii_lowercase().contains("<html") {
        return None;
    }
    let mut names = Vec::new();
    let mut rest = page;
    while let Some((_, after)) = rest.split_once("href=") {
        rest = after;
        let Some(quote) = after.chars().next().filter(|c| matches!(c, '"' | '\'')) else { continue };
        let Some((target, after)) = after.get(1..).and_then(|after| after.split_once(quote)) else { break };
        rest = after;
        let target = target.split(['?', '#']).next().unwrap_or_default();
        let target = target.strip_prefix("./").unwrap_or(target).replace("&amp;", "&");
        if let Ok(name) = decoded(&target) {
            names.push(name);
        }
    }
    Some(names)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn names_are_those_of_what_is_in_the_folder_itself() {
        let page = "<HTML><a href=\"../\">up</a><a href=\"ledger.vmdk\">x</a> <a href='a%20b.vmdk?x=1'>\n<a href=\"sub/\">\
                    <a href=\"/etc/passwd\"><a href=\"https://h/x\"><a href=\"..%2fx\"><a href=\"t&amp;t.img\"><a href=>";
        let found = listing(page.as_bytes()).unwrap();
        assert_eq!(found.files, ["ledger.vmdk", "a b.vmdk", "t&t.img"]);
        assert_eq!(found.folders, ["sub"]);
        let json = br#"["a.vmdk", {"name": "b.vmdk", "size": 3}, {"name": "sub", "folder": true}, "../c", ""]"#;
        let found = listing(json).unwrap();
        assert_eq!((found.files, found.folders), (vec!["a.vmdk".into(), "b.vmdk".into()], vec!["sub".into()]));
        assert_eq!(listing(b"plain text"), None);
        assert_eq!(listing(b"\xff\xfe"), None);
    }
}
