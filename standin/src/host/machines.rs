//! The machines of a host: folders with their files.

use std::{
    fs,
    path::{Path, PathBuf},
};

use serde_json::{Value, json};

/// Endings of machine files.
const MACHINE_FILES: [&str; 5] = ["vmx", "ovf", "vbox", "xml", "json"];

/// A machine of the host.
#[derive(Debug, Clone)]
pub(crate) struct Machine {
    pub(crate) name: String,
    pub(crate) power: String,
    /// Its machine file.
    pub(crate) file: PathBuf,
    /// All its other files, in their order.
    pub(crate) files: Vec<PathBuf>,
}

fn name_of(path: &Path) -> String {
    path.file_name().unwrap_or_default().to_string_lossy().into_owned()
}

/// All machines in `data`, by their names.
pub(crate) fn all(data: &Path) -> Vec<Machine> {
    let mut found: Vec<Machine> =
        fs::read_dir(data).into_iter().flatten().flatten().filter_map(|entry| one(&entry.path())).collect();
    found.sort_by(|a, b| a.name.cmp(&b.name));
    found
}

/// The machine in `folder`.
fn one(folder: &Path) -> Option<Machine> {
    let mut files: Vec<PathBuf> =
        fs::read_dir(folder).ok()?.flatten().map(|entry| entry.path()).filter(|path| path.is_file()).collect();
    files.sort();
    let is_machine = |path: &PathBuf| {
        path.extension().and_then(|ending| ending.to_str()).is_some_and(|ending| MACHINE_FILES.contains(&ending))
    };
    let file = files.iter().find(|path| is_machine(path))?.clone();
    let power = fs::read_to_string(folder.join("power")).map_or("off".into(), |text| text.trim().to_string());
    files.retain(|path| *path != file && name_of(path) != "power");
    Some(Machine { name: name_of(folder), power, file, files })
}

impl Machine {
    /// Its row in the list.
    pub(crate) fn row(&self) -> Value {
        let size: u64 =
            self.files.iter().filter_map(|file| fs::metadata(file).ok()).map(|metadata| metadata.len()).sum();
        json!({ "name": self.name, "power": self.power, "disks": self.files.len(), "bytes": size })
    }

    /// All of it but the bytes of its disks.
    pub(crate) fn whole(&self) -> Value {
        let text = fs::read_to_string(&self.file).unwrap_or_default();
        let files: Vec<_> = self.files.iter().map(|file| name_of(file)).collect();
        json!({
            "name": self.name, "power": self.power,
            "machine-file": { "name": name_of(&self.file), "text": text },
            "files": files,
        })
    }
}
