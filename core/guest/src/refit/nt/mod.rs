//! The edits of a Windows system.

mod adapters;
mod console;
mod drivers;
mod first_start;
mod helpers;
mod inject;
mod script;
mod settings;

use crate::{
    error::{Error, Result},
    formats::hive::{Changed, Data, Hive},
    refit::work::{Changes, Work},
    system::nt::{Nt, drivers::Target, hives},
};

/// The largest file of the guest that is compared with what it is to be.
const MOST: u64 = 32 << 20;

/// The edits of a system under way.
pub(crate) struct Edits<'a, 'w> {
    pub(crate) system: &'a mut Nt,
    pub(crate) work: &'a mut Work<'w>,
}

/// A change of a hive as a sentence.
fn sentence(hive: &str, change: &Changed) -> String {
    let Changed { key, value, is_removed, before, after } = change;
    // Numbers of the registry's own are small and known by their digits.
    let plain = |data: &Data| match data {
        Data::Number(number) => number.to_string(),
        other => other.to_string(),
    };
    let (before, after) = (before.as_ref().map(plain), after.as_ref().map(plain));
    let name = value.as_ref().map(|value| if value.is_empty() { "its own value" } else { value });
    match (name, before, after) {
        (None, ..) if *is_removed => format!("{hive}\\{key} is removed"),
        (None, ..) => format!("{hive}\\{key} is made"),
        (Some(name), None, Some(after)) => format!("{hive}\\{key}: {name} is {after}"),
        (Some(name), Some(before), Some(after)) => format!("{hive}\\{key}: {name} is {after} (was {before})"),
        (Some(name), before, None) => {
            let was = before.map_or(String::new(), |before| format!(" (was {before})"));
            format!("{hive}\\{key}: {name} is removed{was}")
        }
    }
}

impl Edits<'_, '_> {
    /// The system as drivers are chosen for it.
    fn target(&self) -> Result<Target> {
        let what = "its version or its processor is not known".into();
        let unknown = || Error::Unsupported { volume: self.system.name.clone(), action: "made ready", what };
        self.system.target().ok_or_else(unknown)
    }

    /// Changes a hive, and tells each change in a sentence.
    fn change(&mut self, hive: &str, change: impl FnOnce(&mut Hive) -> Result<()>) -> Changes {
        let changed = self.change_quietly(hive, change)?;
        Ok(changed.iter().map(|change| sentence(hive, change)).collect())
    }

    /// Changes a hive.
    fn change_quietly(&mut self, hive: &str, change: impl FnOnce(&mut Hive) -> Result<()>) -> Result<Vec<Changed>> {
        let path = hives::path(hive);
        let mut opened = hives::open(&self.system.tree, &path, self.work.now)?;
        change(&mut opened)?;
        hives::write(&mut self.system.tree, &path, &mut opened)
    }

    /// Puts a file at a path, with the folders that lead to it; whether it was not there with these bytes.
    fn put(&mut self, path: &str, bytes: &[u8]) -> Result<bool> {
        let tree = &mut self.system.tree;
        if let Ok(stat) = tree.stat(path)
            && stat.size == bytes.len() as u64
            && tree.read(path, MOST)? == bytes
        {
            return Ok(false);
        }
        if let Some((folder, _)) = path.rsplit_once('/').filter(|(folder, _)| !folder.is_empty()) {
            tree.make_folders(folder)?;
        }
        tree.write(path, bytes)?;
        Ok(true)
    }
}
