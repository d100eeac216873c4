//! A folder in which machine files lie, at a link.

use std::sync::Arc;

use reformis_disk::{
    Error, Result, Storage,
    budget::Budget,
    container::Source,
    error::WireKind,
    source::{Links, read_vec},
};

use super::{Cargo, FarMachine, Host, Power, Row, no_machine};
use crate::{
    fault::Fault,
    link::Link,
    settings::HostSettings,
    wires::{Wires, link},
};

/// Endings of machine files.
const ENDINGS: [&str; 5] = [".vmx", ".ovf", ".vbox", ".xml", ".json"];
/// The longest machine file, in bytes.
const MOST: u64 = 16 << 20;
/// The most folders that are looked into.
const MANY: usize = 1000;

/// A folder at a link.
pub(super) struct Folder {
    wires: Wires,
    name: String,
    link: Link,
}

impl Folder {
    pub(super) fn new(wires: &Wires, name: &str, settings: &HostSettings) -> Result<Self> {
        let link = link(settings.at.as_deref().unwrap_or_default())?;
        let link = if link.path.ends_with('/') {
            link
        } else {
            Link { query: link.query.clone(), ..link.with_path(format!("{}/", link.path)) }
        };
        Ok(Self { wires: wires.clone(), name: name.into(), link })
    }

    /// The machine files: in the folder itself, and in those in it. Each with the machine's name: that of its folder, or its own.
    fn found(&self) -> Result<Vec<(String, Link)>, Fault> {
        let mut found = Vec::new();
        let is_machine = |name: &String| ENDINGS.iter().any(|ending| name.to_ascii_lowercase().ends_with(ending));
        let listed = |link: &Link| self.wires.entries(link);
        let (files, folders) = listed(&self.link)?;
        for file in files.iter().filter(|name| is_machine(name)) {
            let stem = file.rsplit_once('.').map_or(file.as_str(), |(stem, _)| stem);
            found.push((stem.into(), self.link.beside(file)));
        }
        for folder in folders.iter().take(MANY) {
            let inside = self.link.beside(&format!("{folder}/"));
            let (files, _) = listed(&inside)?;
            let files: Vec<_> = files.iter().filter(|name| is_machine(name)).collect();
            for file in &files {
                let name = if files.len() == 1 { folder.clone() } else { format!("{folder}/{file}") };
                found.push((name, inside.beside(file)));
            }
        }
        Ok(found)
    }
}

impl Host for Folder {
    fn list(&self) -> Result<Vec<Row>, Fault> {
        Ok(self
            .found()?
            .into_iter()
            .map(|(name, _)| Row { name, power: Power::Unknown, size: None, stored: None })
            .collect())
    }

    fn machine(&self, name: &str, budget: &Arc<Budget>) -> Result<FarMachine, Fault> {
        let link = self.found()?.into_iter().find(|(found, _)| found == name).ok_or_else(no_machine)?.1;
        let failed = |error: Error| match error {
            Error::Wire(error) => Fault::Fatal(error.kind, error.what),
            error => Fault::Fatal(WireKind::Refused, error.to_string()),
        };
        let file = self.wires.open(&link, budget).and_then(Source::random_access).map_err(failed)?;
        if file.len() > MOST {
            return Err(Fault::protocol("its machine file is longer than any"));
        }
        let text =
            read_vec(file.as_ref(), 0, reformis_disk::to_usize(file.len()), "its text").map_err(failed)?.to_vec();
        Ok(FarMachine {
            host: self.name.clone(),
            name: name.into(),
            power: Power::Unknown,
            file: link.base_name(),
            text,
            files: Arc::new(Beside(file)),
        })
    }

    fn about(&self) -> Result<Vec<String>, Fault> {
        let count = self.found()?.len();
        Ok(vec![
            format!("a folder with {count} machine{}", if count == 1 { "" } else { "s" }),
            "whether they run is not known".into(),
        ])
    }
}

/// What lies beside a machine file.
struct Beside(Arc<dyn Storage>);

impl Cargo for Beside {
    fn find(&self, name: &str) -> Result<Option<Source>> {
        let absent = |error: &Error| matches!(error, Error::Wire(error) if error.kind == WireKind::Absent);
        let name = name.replace('\\', "/");
        // Machines are moved with their folder: a whole path is looked for beside the file too.
        let last = name.rsplit('/').next().unwrap_or(&name);
        for name in [name.as_str(), last] {
            match self.0.sibling(name, Links::OwnFolder) {
                Ok(storage) => return Ok(Some(Source::Storage(storage))),
                Err(error) if absent(&error) => {}
                Err(Error::UnsafeName { .. }) if name.starts_with('/') => {}
                Err(error) => return Err(error),
            }
        }
        Ok(None)
    }
}
