//! What a site adds: destinations of its own, changes to ours, and the new names of networks. A TOML file, `reformis.toml`.

use std::{collections::BTreeMap, path::Path};

use serde::Deserialize;
use toml::{Table, Value};

use crate::{
    destination::{BUILT_IN, Destination},
    error::{Error, Result},
    suggest::explain,
};

/// The name of a site's file.
pub const FILE_NAME: &str = "reformis.toml";

/// What a site's file says.
#[derive(Debug, Clone, Default)]
pub struct Site {
    /// The file; empty when there is none.
    file: String,
    networks: BTreeMap<String, String>,
    destinations: BTreeMap<String, Table>,
    drivers: Vec<String>,
}

#[derive(Deserialize)]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
struct Written {
    /// Old name of a network → new one.
    #[serde(default)]
    networks: BTreeMap<String, String>,
    #[serde(default)]
    destinations: BTreeMap<String, Table>,
    /// Media with drivers for Windows guests.
    #[serde(default)]
    drivers: Vec<String>,
    /// What is said of the network, which is read elsewhere.
    #[serde(default, rename = "link")]
    _links: serde::de::IgnoredAny,
    #[serde(default, rename = "host")]
    _hosts: serde::de::IgnoredAny,
    #[serde(default, rename = "store")]
    _stores: serde::de::IgnoredAny,
    #[serde(default, rename = "cloud")]
    _clouds: serde::de::IgnoredAny,
    #[serde(default, rename = "database")]
    _database: serde::de::IgnoredAny,
}

impl Site {
    /// Reads the site's file `text`, which is called `file` in messages.
    ///
    /// # Errors
    /// [`Error::Site`] for what is no such file, [`Error::Destination`] for a destination that is not sound.
    pub fn parse(file: &str, text: &str) -> Result<Self> {
        let wrong = |what: String| Error::Site { file: file.into(), what };
        let written: Written = toml::from_str(text).map_err(|error| wrong(explain(text, &error)))?;
        let Written { networks, destinations, drivers, .. } = written;
        let site = Self { file: file.into(), networks, destinations, drivers };
        for name in site.destinations.keys() {
            site.destination(name)?;
        }
        Ok(site)
    }

    /// The file that it was read from.
    pub fn file(&self) -> Option<&str> {
        Some(self.file.as_str()).filter(|file| !file.is_empty())
    }

    /// Paths of media with drivers for Windows guests; in the file, they begin in its own folder.
    pub fn drivers(&self) -> Vec<String> {
        let folder = Path::new(&self.file).parent().unwrap_or(Path::new(""));
        let whole = |path: &String| {
            let joined = folder.join(path);
            std::path::absolute(&joined).unwrap_or(joined).to_string_lossy().into_owned()
        };
        self.drivers.iter().map(whole).collect()
    }

    /// The new name of the network `old`.
    pub fn network(&self, old: &str) -> Option<&str> {
        self.networks.get(old).map(String::as_str)
    }

    /// The names of all destinations: ours, then the site's own.
    pub fn names(&self) -> Vec<String> {
        let ours = BUILT_IN.iter().map(|(name, _)| (*name).to_string());
        let own = self.destinations.keys().filter(|name| !BUILT_IN.iter().any(|(known, _)| known == name));
        ours.chain(own.cloned()).collect()
    }

    /// All destinations.
    ///
    /// # Errors
    /// [`Error::Destination`].
    pub fn destinations(&self) -> Result<Vec<Destination>> {
        self.names().iter().map(|name| self.destination(name)).collect()
    }

    /// The destination called `name`.
    ///
    /// # Errors
    /// [`Error::NoDestination`], [`Error::Destination`].
    pub fn destination(&self, name: &str) -> Result<Destination> {
        let built_in = |name: &str| BUILT_IN.iter().find(|(known, _)| *known == name).map(|(_, text)| *text);
        let Some(own) = self.destinations.get(name) else {
            let text = built_in(name).ok_or_else(|| Error::NoDestination { name: name.into(), known: self.names() })?;
            return Destination::parse(name, text, "built in");
        };
        let wrong = |what: String| Error::Destination { file: format!("{}: {name}", self.file), what };
        let mut own = own.clone();
        let like = match own.remove("like") {
            Some(Value::String(like)) => Some(like),
            Some(_) => return Err(wrong("'like' is the name of a destination".into())),
            None => None,
        };
        let base = like.as_deref().unwrap_or(name);
        let text = built_in(base);
        if let (Some(like), None) = (&like, text) {
            return Err(wrong(format!("'like' is '{like}', which is not one of ours")));
        }
        let mut table: Table = text.map(|text| text.parse().unwrap_or_default()).unwrap_or_default();
        merge(&mut table, own);
        let text = toml::to_string(&table).map_err(|error| wrong(error.to_string()))?;
        let origin = match text_origin(like.as_deref(), built_in(name).is_some()) {
            Some(of) => format!("{of}, changed by {}", self.file),
            None => self.file.clone(),
        };
        Destination::parse(name, &text, &origin)
    }
}

fn text_origin(like: Option<&str>, is_ours: bool) -> Option<String> {
    match like {
        Some(like) => Some(format!("{like}, which is built in")),
        None => is_ours.then(|| "built in".to_string()),
    }
}

/// Puts `own` over `base`: tables key by key, all else as a whole.
fn merge(base: &mut Table, own: Table) {
    for (key, value) in own {
        match (base.get_mut(&key), value) {
            (Some(Value::Table(below)), Value::Table(above)) => merge(below, above),
            (_, value) => drop(base.insert(key, value)),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::ControllerKind;

    const TEXT: &str = r#"
        drivers = ["media/tide.iso", "/media/other"]

        [networks]
        "gauge-net" = "br-tides"

        [destinations.virtio-host]
        network = "br-lan"

        [destinations.harbour]
        like = "virtio-host"
        summary = "The hosts in the harbour office"
        controllers = [{ kind = "virtio-blk", slots = 20, boots = ["bios", "uefi"] }]
        rules.largest-disk = "4TiB"
    "#;

    #[test]
    fn a_site_changes_ours_and_adds_its_own() {
        let site = Site::parse("site.toml", TEXT).unwrap();
        assert_eq!((site.network("gauge-net"), site.network("other")), (Some("br-tides"), None));
        let drivers = Site::parse("/etc/tide/site.toml", TEXT).unwrap().drivers();
        assert_eq!(drivers, ["/etc/tide/media/tide.iso", "/media/other"]);
        let ours = site.destination("virtio-host").unwrap();
        assert_eq!(ours.network.as_deref(), Some("br-lan"));
        assert!(ours.controllers.len() > 1 && ours.origin.contains("site.toml"), "{}", ours.origin);
        let own = site.destination("harbour").unwrap();
        assert_eq!(own.controllers.len(), 1);
        assert_eq!(own.controllers[0].kind, ControllerKind::VirtioBlk);
        assert_eq!(own.rules.largest_disk.as_deref(), Some("4TiB"));
        assert_eq!(own.disks, site.destination("virtio-host").unwrap().disks);
        assert_eq!(site.names().len(), 8);
        assert!(site.destination("vdi-host").unwrap().origin.starts_with("built in"));
    }

    #[test]
    fn what_is_wrong_is_told_with_what_was_meant() {
        for (text, expected) in [
            ("[network]\na = 'b'", "the key 'network' is not known; did you mean 'networks'?"),
            ("[destinations.x]\nlike = 'virtio'", "'like' is 'virtio', which is not one of ours"),
            ("[destinations.x]\nsummary = 'y'", "missing field"),
            ("[destinations.vdi-host]\nadapter = ['e1000']", "did you mean 'adapters'?"),
            ("[destinations.vdi-host]\nadapters = ['e1001']", "the word 'e1001' is not known; did you mean 'e1000'?"),
            ("[destinations.vdi-host]\nrules.size-multiple = 'many'", "'many'"),
        ] {
            let error = Site::parse("site.toml", text).unwrap_err().to_string();
            assert!(error.contains(expected), "{error}\nshould contain {expected}");
        }
    }
}
