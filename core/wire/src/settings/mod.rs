//! What a site says of links, hosts, stores and clouds: the tables `link`, `host`, `store`, `cloud` and `database` of its file.

mod cloud;
mod database;
mod host;
mod link;
mod store;

use std::{
    collections::BTreeMap,
    path::{Path, PathBuf},
};

pub use cloud::{CloudKind, CloudSettings, Commands};
pub use database::DatabaseSettings;
pub use host::{HostKind, HostSettings};
pub use link::{Compression, HeaderValue, LinkSettings};
use serde::Deserialize;
pub use store::{Checksum, StoreKind, StoreSettings, Style};

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
    /// Clouds by their names.
    pub(crate) clouds: BTreeMap<String, CloudSettings>,
    /// The database of fleets' states.
    pub(crate) database: DatabaseSettings,
}

#[derive(Deserialize)]
struct Written {
    #[serde(default)]
    link: BTreeMap<String, LinkSettings>,
    #[serde(default)]
    host: BTreeMap<String, HostSettings>,
    #[serde(default)]
    store: BTreeMap<String, StoreSettings>,
    #[serde(default)]
    cloud: BTreeMap<String, CloudSettings>,
    #[serde(default)]
    database: DatabaseSettings,
}

impl Settings {
    /// Reads the tables of `text`, a site's file called `file`; what else is in it is not looked at.
    ///
    /// # Errors
    /// What is not known there, a link that is none, a name that could be a path or is given twice.
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
        let (hosts, stores, clouds) = (&written.host, &written.store, &written.cloud);
        let of_hosts = hosts.iter().map(|(name, host)| ("host", name, host.check()));
        let of_stores = stores.iter().map(|(name, store)| ("store", name, store.check()));
        let of_clouds = clouds.iter().map(|(name, cloud)| ("cloud", name, cloud.check()));
        let mut seen: BTreeMap<&str, &str> = BTreeMap::new();
        for (kind, name, checked) in of_hosts.chain(of_stores).chain(of_clouds) {
            if !is_name(name) {
                return Err(wrong(format!("the {kind} '{name}' needs a name of two letters, digits, - or _ at least")));
            }
            if let Some(other) = seen.insert(name, kind) {
                return Err(wrong(format!("'{name}' is the name of a {other} and of a {kind}")));
            }
            checked.map_err(|what| wrong(format!("{kind} '{name}': {what}")))?;
        }
        for (name, cloud) in clouds {
            let store = cloud.store.as_ref().and_then(|store| store.split(':').next());
            if let Some(store) = store.filter(|store| !stores.contains_key(*store)) {
                return Err(wrong(format!("cloud '{name}': there is no store '{store}' in this file")));
            }
        }
        written.database.check().map_err(|what| wrong(format!("database: {what}")))?;
        let folder = Path::new(file).parent().unwrap_or(Path::new("")).to_path_buf();
        let Written { host: hosts, store: stores, cloud: clouds, database, .. } = written;
        Ok(Self { folder, links, hosts, stores, clouds, database })
    }

    /// The image service `name`, which is a store and no host.
    pub(crate) fn image_service(&self, name: &str) -> Option<&CloudSettings> {
        self.clouds.get(name).filter(|cloud| cloud.kind == CloudKind::ImageService)
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
            ("[store.estuary]\nkind = \"pages\"\nat = \"https://h/a/c\"\nkey-id = \"a\"\n", "needs key-id"),
            (
                "[store.estuary]\nkind = \"pages\"\nat = \"https://h/a\"\nkey-id = \"a\"\nkey = { env = \"K\" }\n",
                "the container",
            ),
            (
                "[host.estuary]\nkind = \"libvirt\"\n[store.estuary]\nkind = \"folder\"\nat = \"https://h/put\"\n",
                "a host and of a store",
            ),
            ("[cloud.estuary]\nkind = \"import\"\nat = \"https://h\"\nstore = \"jetty:\"\n", "no store 'jetty'"),
            ("[cloud.estuary]\nkind = \"import\"\nat = \"https://h\"\n", "needs 'store'"),
            ("[cloud.estuary]\nkind = \"image-service\"\nat = \"https://h\"\nstore = \"a:\"\n", "its own store"),
            ("[cloud.estuary]\nkind = \"import\"\nstore = \"jetty:\"\n", "needs 'at'"),
            ("[cloud.estuary]\nkind = \"import\"\nat = \"https://h?sig=abc\"\nstore = \"jetty:\"\n", "without a query"),
            ("[cloud.estuary]\nkind = \"commands\"\nstore = \"jetty:\"\n", "'commands'"),
            (
                "[cloud.estuary]\nkind = \"commands\"\nstore = \"jetty:\"\ncommands = { import = [] }\n",
                "names its program",
            ),
            (
                "[cloud.estuary]\nkind = \"commands\"\nstore = \"jetty:\"\ncommands = { import = [\"./{name}\"] }\n",
                "a program has no placeholder",
            ),
        ] {
            let error = Settings::parse("site.toml", text).unwrap_err().to_string();
            assert!(error.contains(part) && !error.contains("abc"), "{text}: {error}");
        }
    }
}
