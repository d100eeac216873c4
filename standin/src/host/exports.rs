//! Exports: what a host makes ready, and the links by which it is read.

use std::{collections::BTreeMap, path::PathBuf};

use serde_json::{Value, json};
use sha2::{Digest, Sha256};

use super::machines::Machine;

/// An export that was asked for.
pub(crate) struct Export {
    machine: String,
    files: Vec<PathBuf>,
    /// How the bytes can be used: `off`, or `frozen` of a machine that runs.
    consistency: &'static str,
    /// Answers until it is ready.
    left: u32,
}

/// All exports of a host, and what signs their links.
#[derive(Default)]
pub(crate) struct Exports {
    next: u32,
    all: BTreeMap<String, Export>,
    key: String,
    /// Whether maps of the pages that hold data are to be had.
    pub(crate) has_maps: bool,
}

/// Answers that an export takes to become ready: whoever asks sees it grow.
const STEPS: u32 = 2;

impl Exports {
    pub(crate) fn new(key: &str) -> Self {
        Self { key: key.into(), ..Self::default() }
    }

    /// Begins one of `machine`; its name.
    pub(crate) fn begin(&mut self, machine: &Machine, consistency: &'static str) -> String {
        self.next += 1;
        let name = format!("e-{}", self.next);
        let files = machine.files.clone();
        self.all.insert(name.clone(), Export { machine: machine.name.clone(), files, consistency, left: STEPS });
        name
    }

    /// Gives `name` other files: those of a snapshot.
    pub(crate) fn put_files(&mut self, name: &str, files: Vec<PathBuf>) {
        if let Some(export) = self.all.get_mut(name) {
            export.files = files;
        }
    }

    /// How far `name` is, with links that are good until `expires` once it is ready.
    pub(crate) fn state(&mut self, name: &str, base: &str, expires: u64, seconds: u64) -> Option<Value> {
        let (key, has_maps) = (self.key.clone(), self.has_maps);
        let export = self.all.get_mut(name)?;
        let of = export.files.len() as u32 * STEPS;
        if export.left > 0 {
            export.left -= 1;
            let done = of - of * (export.left + 1) / (STEPS + 1);
            return Some(
                json!({ "export": name, "machine": export.machine, "state": "making", "done": done, "of": of }),
            );
        }
        let files: Vec<_> = export
            .files
            .iter()
            .map(|file| {
                let short = file.file_name().unwrap_or_default().to_string_lossy().into_owned();
                let link = |kind: &str| {
                    let path = format!("/v1/exports/{name}/{kind}/{short}");
                    format!("{base}{path}?expires={expires}&sig={}", signature(&key, &path, expires))
                };
                let bytes = std::fs::metadata(file).map_or(0, |metadata| metadata.len());
                let mut row = json!({ "name": short, "bytes": bytes, "link": link("files"), "seconds": seconds });
                if has_maps {
                    row["map"] = link("maps").into();
                }
                row
            })
            .collect();
        Some(json!({
            "export": name, "machine": export.machine, "state": "ready", "done": of, "of": of,
            "consistency": export.consistency, "files": files,
        }))
    }

    /// The file that a link of an export leads to: signed by us, and not expired at `now`.
    pub(crate) fn file(&self, path: &str, expires: Option<&str>, sig: Option<&str>, now: u64) -> Result<PathBuf, u16> {
        let until: u64 = expires.and_then(|text| text.parse().ok()).ok_or(403u16)?;
        if sig != Some(&signature(&self.key, path, until)) {
            return Err(403);
        }
        if now >= until {
            return Err(410);
        }
        let rest = path.strip_prefix("/v1/exports/").ok_or(404u16)?;
        let (export, file) = rest.split_once("/files/").or_else(|| rest.split_once("/maps/")).ok_or(404u16)?;
        let export = self.all.get(export).ok_or(404u16)?;
        let found =
            export.files.iter().find(|known| known.file_name().is_some_and(|name| name.to_string_lossy() == file));
        found.cloned().ok_or(404)
    }

    /// Forgets one.
    pub(crate) fn end(&mut self, name: &str) -> bool {
        self.all.remove(name).is_some()
    }
}

fn signature(key: &str, path: &str, expires: u64) -> String {
    let digest = Sha256::digest(format!("{key}\n{path}\n{expires}"));
    digest.iter().take(12).map(|byte| format!("{byte:02x}")).collect()
}
