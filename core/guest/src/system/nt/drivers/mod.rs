//! Drivers from a medium: what it offers, and which of them is the right one for a device of this guest.

mod cabinet;
mod decoration;
pub(crate) mod ids;
mod medium;
mod package;

#[cfg(test)]
mod tests;

use std::sync::{
    Arc,
    atomic::{AtomicU64, Ordering::Relaxed},
};

use reformis_disk::budget::Budget;
use serde::Serialize;

pub(crate) use decoration::Target;
pub use ids::of as device_ids;
pub use medium::Medium;
pub(crate) use package::{Install, Model, Package, Service, Setting, is_plain};

use crate::{
    error::Result,
    formats::{
        inf::{self, Inf},
        pe,
    },
};

/// Setup information files of one medium that are read, and their bytes in all.
const MAX_PACKAGES: usize = 1000;
const MAX_TEXTS: u64 = 24 << 20;
/// Bytes of drivers' files that are read to choose among them: each is read for every device that it is for.
const MAX_LOOKED_AT: u64 = 1 << 30;
/// The largest file of a driver that is taken, in bytes.
pub(crate) const MAX_FILE: u64 = 24 << 20;
/// Bytes of all files that one driver brings: they are held at the same time, and large ones have twenty million.
const MAX_DRIVER: u64 = 48 << 20;

/// What a medium offers.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct Offer {
    /// The setup information file's path on the medium.
    pub inf: String,
    /// What class of device it is for, such as `SCSIAdapter`.
    pub class: String,
    /// Who provides it.
    pub provider: String,
    /// Its version.
    pub version: String,
    /// Its day, as `2026-03-01`.
    pub date: String,
    /// The systems that it is for: processor and version.
    pub systems: Vec<String>,
    /// The services that it installs.
    pub services: Vec<String>,
    /// The devices that it is for, by their identities.
    pub devices: Vec<String>,
    /// What shows that it is signed, as far as that can be told; none when nothing does.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub signature: Option<String>,
}

/// What was read of the media that the person named.
pub struct Library {
    media: Vec<Medium>,
    /// Drivers, each with the place of its medium.
    packages: Vec<(usize, Package)>,
    /// Setup information files that cannot be read, and why.
    pub unread: Vec<(String, String)>,
    budget: Arc<Budget>,
    /// Bytes of drivers' files that may yet be read to choose among them.
    left: AtomicU64,
}

/// A driver that was chosen for a device.
pub(crate) struct Choice<'a> {
    pub(crate) medium: &'a Medium,
    pub(crate) package: &'a Package,
    pub(crate) model: Model,
    pub(crate) install: Install,
    /// The identity of the device by which it was found.
    pub(crate) id: String,
    /// What shows that it is signed.
    pub(crate) signature: Option<&'static str>,
}

impl Choice<'_> {
    /// The driver in words: its file, its provider and its version.
    pub(crate) fn words(&self) -> String {
        let package = self.package;
        format!("{} {} of {}, for {}", package.path, package.version_text(), self.medium.name, self.id)
    }
}

impl Library {
    /// Reads the drivers of `media`; what is collected is counted against `budget`.
    ///
    /// # Errors
    /// [`crate::Error::Memory`]. A file that cannot be read is told in [`Library::unread`].
    pub fn read(media: Vec<Medium>, budget: &Arc<Budget>) -> Result<Self> {
        let mut library = Self {
            media,
            packages: Vec::new(),
            unread: Vec::new(),
            budget: budget.clone(),
            left: AtomicU64::new(MAX_LOOKED_AT),
        };
        for (index, medium) in library.media.iter().enumerate() {
            let mut left = MAX_TEXTS;
            for file in medium.files().iter().filter(|file| medium::is_inf(&file.path)).take(MAX_PACKAGES) {
                let shown = format!("{}/{}", medium.name, file.path);
                let Some(rest) = left.checked_sub(file.len) else {
                    library.unread.push((shown, "there are too many such files before it".into()));
                    break;
                };
                left = rest;
                let read = medium.read(file, inf::MOST, budget).and_then(|bytes| Inf::read(&bytes, &shown, budget));
                match read {
                    Ok(inf) => match Package::of(&file.path, inf) {
                        Ok(package) => library.packages.push((index, package)),
                        Err(why) => library.unread.push((shown, why)),
                    },
                    Err(error @ crate::Error::Memory(_)) => return Err(error),
                    Err(error) => library.unread.push((shown, error.to_string())),
                }
            }
        }
        Ok(library)
    }

    /// All that is offered, in the order of the media and of the paths on them.
    pub fn offers(&self) -> Vec<Offer> {
        let offer = |(medium, package): &(usize, Package)| {
            let (year, month, day) = package.date;
            let signature = self.media.get(*medium).and_then(|medium| self.catalog(medium, package));
            Offer {
                inf: package.path.clone(),
                class: package.class.clone(),
                provider: package.provider.clone(),
                version: package.version_text(),
                date: format!("{year:04}-{month:02}-{day:02}"),
                systems: package.systems(),
                services: package.services(),
                devices: package.ids.clone(),
                signature: signature.map(|path| format!("catalogue {path}")),
            }
        };
        self.packages.iter().map(offer).collect()
    }

    /// The catalogue of a driver, where it lies on its medium.
    fn catalog(&self, medium: &Medium, package: &Package) -> Option<String> {
        let mut places = package.catalogs.iter().map(|name| package.beside(name));
        places.find(|path| medium.find(path).is_some_and(|file| file.len > 0))
    }

    /// The bytes of a file of a driver, by its path from the setup information file's folder on.
    pub(crate) fn file(&self, choice: &Choice<'_>, path: &str) -> Result<Vec<u8>, String> {
        let whole = choice.package.beside(path);
        // Drivers are often copied without the folders that their files name.
        let name = path.rsplit('/').next().unwrap_or_default();
        let found = choice.medium.find(&whole).or_else(|| choice.medium.find(&choice.package.beside(name)));
        let file = found.ok_or_else(|| format!("{whole} is not on {}", choice.medium.name))?;
        choice.medium.read(file, MAX_FILE, &self.budget).map_err(|error| error.to_string())
    }

    /// Counts `bytes` to the `sum` of what a driver brings.
    ///
    /// # Errors
    /// As a sentence: it is more than one brings.
    pub(crate) fn add_to(sum: &mut u64, bytes: &[u8]) -> Result<(), String> {
        *sum = sum.saturating_add(bytes.len() as u64);
        match *sum > MAX_DRIVER {
            true => Err(format!("its files have more than {} in all", reformis_disk::ByteSize(MAX_DRIVER))),
            false => Ok(()),
        }
    }

    /// The catalogue of a driver that was chosen: its name and its bytes.
    pub(crate) fn catalog_of(&self, choice: &Choice<'_>) -> Result<Option<(String, Vec<u8>)>, String> {
        let Some(path) = self.catalog(choice.medium, choice.package) else { return Ok(None) };
        let Some(file) = choice.medium.find(&path) else { return Ok(None) };
        let name = path.rsplit('/').next().unwrap_or_default().to_string();
        let bytes = choice.medium.read(file, MAX_FILE, &self.budget).map_err(|error| error.to_string())?;
        Ok(Some((name, bytes)))
    }

    /// The setup information file of a driver that was chosen.
    pub(crate) fn inf_of(&self, choice: &Choice<'_>) -> Result<Vec<u8>, String> {
        let file = choice.medium.find(&choice.package.path).ok_or("it is gone")?;
        choice.medium.read(file, inf::MOST, &self.budget).map_err(|error| error.to_string())
    }

    /// A file by its name, wherever it lies: its path and what reads it.
    pub(crate) fn named(&self, name: &str) -> Option<(String, Result<Vec<u8>>)> {
        for medium in &self.media {
            let is_it = |path: &str| path.rsplit('/').next().is_some_and(|last| last.eq_ignore_ascii_case(name));
            if let Some(file) = medium.files().iter().find(|file| is_it(&file.path)) {
                return Some((file.path.clone(), medium.read(file, MAX_FILE, &self.budget)));
            }
        }
        None
    }

    /// The driver for a device with the identities `ids`, the likeliest first, on `target`: the one of the closest identity, then
    /// the newest. Beside it, why those were not taken that name the device too.
    pub(crate) fn choose(&self, ids: &[String], target: &Target) -> (Option<Choice<'_>>, Vec<String>) {
        let wanted: Vec<String> = ids.iter().map(|id| id.to_uppercase()).collect();
        let mut found: Vec<(usize, Choice<'_>)> = Vec::new();
        let mut why = Vec::new();
        for (index, package) in &self.packages {
            let Some(medium) = self.media.get(*index) else { continue };
            let rank = |ids: &[String]| ids.iter().filter_map(|id| wanted.iter().position(|one| one == id)).min();
            if rank(&package.ids).is_none() {
                continue;
            }
            let fitting = package.models(target).and_then(|models| {
                let ranked = models.into_iter().filter_map(|model| Some((rank(&model.ids)?, model)));
                let (major, minor) = target.version;
                let none = || format!("it does not name this device for version {major}.{minor}");
                let (rank, model) = ranked.min_by_key(|(rank, _)| *rank).ok_or_else(none)?;
                Ok((rank, package.install(&model.install, target)?, model))
            });
            match fitting {
                Ok((rank, install, model)) => {
                    let id = wanted.get(rank).cloned().unwrap_or_default();
                    found.push((rank, Choice { medium, package, model, install, id, signature: None }));
                }
                Err(reason) => why.push(format!("{}: {reason}", package.path)),
            }
        }
        // The closest identity first, then the newest; of one age, the one that was made for the closest system.
        let age = |choice: &Choice<'_>| (choice.package.date, choice.package.version);
        found.sort_by(|(first, a), (second, b)| {
            first.cmp(second).then_with(|| (age(b), &b.model.fits).cmp(&(age(a), &a.model.fits)))
        });
        let mut chosen: Option<(usize, Choice<'_>)> = None;
        for (rank, mut choice) in found {
            let path = &choice.package.path;
            // What is signed comes before what is not, however new that is.
            if let Some((best, first)) = chosen.as_ref().filter(|(_, first)| first.signature.is_some()) {
                let reason = if *best < rank {
                    "another one names the device more closely"
                } else if age(first) > age(&choice) {
                    "another one is newer"
                } else {
                    "another one is as new, and closer to this system or before it on the medium"
                };
                why.push(format!("{path}: {reason}"));
                continue;
            }
            match self.signature(&choice, target) {
                Ok(signature) if signature.is_some() || chosen.is_none() => {
                    if let Some((_, unsigned)) = &chosen {
                        why.push(format!("{}: it is not signed, and another one is", unsigned.package.path));
                    }
                    choice.signature = signature;
                    chosen = Some((rank, choice));
                }
                Ok(_) => why.push(format!("{path}: another one comes before it, and neither is signed")),
                Err(reason) => why.push(format!("{path}: {reason}")),
            }
        }
        (chosen.map(|(_, choice)| choice), why)
    }

    /// What shows that a driver is signed; why it cannot be taken otherwise.
    fn signature(&self, choice: &Choice<'_>, target: &Target) -> Result<Option<&'static str>, String> {
        let has_catalog = self.catalog(choice.medium, choice.package).is_some();
        let mut all_certified = true;
        for file in choice.install.files.iter().filter(|file| file.name.to_lowercase().ends_with(".sys")) {
            let bytes = self.file(choice, &file.source)?;
            let charged = self.left.fetch_update(Relaxed, Relaxed, |left| left.checked_sub(bytes.len() as u64));
            charged.map_err(|_| "too much would have to be read to know its files")?;
            let Some(image) = pe::read(&bytes) else { return Err(format!("{} is no driver", file.source)) };
            if image.machine != Some(target.machine) {
                return Err(format!("{} is for {}", file.source, image.machine.unwrap_or("an unknown processor")));
            }
            if !image.checksum_holds {
                return Err(format!("the checksum of {} is wrong: it was damaged", file.source));
            }
            all_certified &= image.has_certificate;
        }
        match (has_catalog, all_certified) {
            (true, _) => Ok(Some("a catalogue")),
            (false, true) => Ok(Some("a certificate in its file")),
            // Only systems for x86 load what nobody signed.
            (false, false) if target.machine == "x86" => Ok(None),
            (false, false) => {
                Err("it has neither a certificate nor a catalogue, and this system loads no such driver".into())
            }
        }
    }
}
