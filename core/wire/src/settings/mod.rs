//! What a site says of links, hosts and stores: the tables `link`, `host` and `store` of its file.

mod host;
mod link;
mod store;

use std::{
    collections::BTreeMap,
    path::{Path, PathBuf},
};

pub use host::{HostKind, HostSettings};
pub use link::{Compression, HeaderValue, LinkSettings};
use serde::Deserialize;
pub use store::{StoreKind, StoreSettings, Style};

use crate::link::Link;

/// What is wrong with a site's file, as a whole sentence.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("'{file}' is no sound file of a site: {what}")]
pub struct SettingsError {
    /// The file.
    pub file: String,
    /// What is wrong with it.
    pub what: String,
}

/// The tables of a site's file that are about the network.
#[derive(Debug, Clone, Default)]
pub struct Settings {
    /// The folder in which its paths begin.
    pub(crate) folder: PathBuf,
    /// What is said of links, by the link below which they lie.
    pub(crate) links: Vec<(Link, LinkSettings)>,
    /// Hosts by their names.
    pub(crate) hosts: BTreeMap<String, HostSettings>,
    /// Stores by their names.
    pub(crate) stores: BTreeMap<String, StoreSettings>,
}

#[derive(Deserialize)]
struct Written {
    #[serde(default)]
    link: BTreeMap<String, LinkSettings>,
    #[serde(default)]
    host: BTreeMap<String, HostSettings>,
    #[serde(default)]
    store: BTreeMap<String, StoreSettings>,
}

impl Settings {
    /// Reads the tables of `text`, a site's file called `file`; what else is in it is not looked at.
    ///
    /// # Errors
    /// What is not known there, a link that is none, a name of a host or a store that could be a path or is given twice.
    pub fn parse(file: &str, text: &str) -> Result<Self, SettingsError> {
        let wrong = |what: String| SettingsError { file: file.into(), what };
        let written: Written = toml::from_str(text).map_err(|error| {
            let line =
                error.span().and_then(|span| text.get(..span.start)).map(|before| before.matches('\n').count() + 1);
            let place = line.map_or(String::new(), |line| format!("line {line}: "));
            wrong(format!("{place}{}", error.message().replace('`', "'")))
        })?;
        let mut links = Vec::new();
        for (text, settings) in written.link {
            let link = Link::parse(&text).map_err(|error| wrong(error.to_string()))?;
            if link.query.is_some() {
                return Err(wrong(format!(
                    "the link '{link}' has a query: give it as 'query', from a file or the environment"
                )));
            }
            settings.check().map_err(|what| wrong(format!("link '{link}': {what}")))?;
            links.push((link, settings));
        }
        // The most particular comes first.
        links.sort_by_key(|(link, _)| std::cmp::Reverse(link.path.trim_end_matches('/').len()));
        let is_name = |name: &str| {
            name.chars().count() >= 2 && name.chars().all(|c| c.is_alphanumeric() || matches!(c, '-' | '_'))
        };
        for (name, host) in &written.host {
            if !is_name(name) {
                return Err(wrong(format!("the host '{name}' needs a name of two letters, digits, - or _ at least")));
            }
            host.check().map_err(|what| wrong(format!("host '{name}': {what}")))?;
        }
        for (name, store) in &written.store {
            if !is_name(name) {
                return Err(wrong(format!("the store '{name}' needs a name of two letters, digits, - or _ at least")));
            }
            if written.host.contains_key(name) {
                return Err(wrong(format!("'{name}' is the name of a host and of a store")));
            }
            store.check().map_err(|what| wrong(format!("store '{name}': {what}")))?;
        }
        let folder = Path::new(file).parent().unwrap_or(Path::new("")).to_path_buf();
        Ok(Self { folder, links, hosts: written.host, stores: written.store })
    }

    /// What is said of `link`, and the place of that in the settings.
    pub(crate) fn of(&self, link: &Link) -> Option<(usize, &LinkSettings)> {
        let found = self.links.iter().position(|(base, _)| link.is_below(base))?;
        Some((found, &self.links.get(found)?.1))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_most_particular_entry_counts() {
        let text = "[networks]\nquay = \"pier\"\n[link.\"https://h\"]\nconnections = 2\n[link.\"https://h/deep\"]\nconnections = 3\n";
        let settings = Settings::parse("site.toml", text).unwrap();
        let of = |link: &str| settings.of(&Link::parse(link).unwrap()).and_then(|(_, link)| link.connections);
        assert_eq!(
            (of("https://h/a"), of("https://h/deep/a"), of("https://h/deeper"), of("http://h/a")),
            (Some(2), Some(3), Some(2), None)
        );
    }

    #[test]
    fn what_is_not_sound_is_told_with_its_place() {
        for (text, part) in [
            ("[link.\"https://h\"]\ntokn = { env = \"X\" }\n", "tokn"),
            ("[link.\"https://h\"]\ntoken = \"abc\"\n", "line 2"),
            ("[link.\"https://h?sig=1\"]\n", "query"),
            ("[link.\"https://h\"]\nclient-key = \"k\"\n", "client-certificate"),
            ("[link.\"https://h\"]\nconnections = 0\n", "connections"),
            ("[host.h]\nkind = \"libvirt\"\n", "two letters"),
            ("[host.harbour]\nkind = \"files\"\n", "at"),
            ("[host.harbour]\nkind = \"files\"\nat = \"/exports\"\n", "link"),
            ("[host.harbour]\nkind = \"tide\"\n", "tide"),
            ("[store.e]\nkind = \"folder\"\nat = \"https://h/put\"\n", "two letters"),
            ("[store.estuary]\nkind = \"folder\"\nat = \"/srv/put\"\n", "link"),
            ("[store.estuary]\nkind = \"folder\"\nat = \"https://h/put?sig=abc\"\n", "without a query"),
            ("[store.estuary]\nkind = \"folder\"\nat = \"https://h/put\"\nregion = \"bay\"\n", "no region"),
            ("[store.estuary]\nkind = \"objects\"\nat = \"https://h/bucket\"\nregion = \"bay\"\n", "key-id"),
            (
                "[store.estuary]\nkind = \"objects\"\nat = \"https://h/b\"\nregion = \"bay\"\nkey-id = { env = \"I\" }\nkey = \"abc\"\n",
                "line",
            ),
            (
                "[store.estuary]\nkind = \"objects\"\nat = \"https://h\"\nregion = \"bay\"\nkey-id = { env = \"I\" }\nkey = { env = \"K\" }\n",
                "bucket",
            ),
            (
                "[host.estuary]\nkind = \"libvirt\"\n[store.estuary]\nkind = \"folder\"\nat = \"https://h/put\"\n",
                "a host and of a store",
            ),
        ] {
            let error = Settings::parse("site.toml", text).unwrap_err().to_string();
            assert!(error.contains(part) && !error.contains("abc"), "{text}: {error}");
        }
    }
}
