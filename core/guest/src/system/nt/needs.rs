//! What a system has to drive at its destination, and what of that it drives already.

use super::{
    FIRST_START_FOLDER, Nt,
    drivers::{Target, device_ids},
    hives,
    start::{Start, all_drivers, boot_sets, image_path, services_of},
};
use crate::{
    error::Result,
    evidence::hardware::{DriverNeed, Hardware},
    formats::{
        hive::Hive,
        inf::{self, Inf},
        pe,
    },
    system::Guest,
};

/// Bytes of the kernel's file that tell its processor.
const HEAD: usize = 4096;
/// Drivers that were laid ready and are looked at.
const MAX_STAGED: usize = 64;

impl Nt {
    /// The system as drivers are chosen for it; `None` where its version or its processor is not known.
    pub(crate) fn target(&self) -> Option<Target> {
        let (version, settings) = (&self.facts.version, &self.facts.settings);
        let (major, minor) = version.version.as_deref()?.split_once('.')?;
        let named = match settings.architecture.as_deref().map(str::to_ascii_lowercase).as_deref() {
            Some("amd64") => Some("amd64"),
            Some("x86") => Some("x86"),
            Some("arm64") => Some("arm64"),
            _ => None,
        };
        let of_kernel = || {
            let path = "/Windows/System32/ntoskrnl.exe";
            pe::read(&self.tree.noted(path, self.tree.head(path, HEAD))?)?.machine
        };
        let build = version.build.as_deref().and_then(|build| build.split('.').next()?.parse().ok());
        Some(Target {
            machine: named.or_else(of_kernel)?,
            version: (major.parse().ok()?, minor.parse().ok()?),
            build: build.unwrap_or(0),
            product: match settings.product_type.as_deref() {
                Some("WinNT") => 1,
                Some("LanmanNT") => 2,
                Some(_) => 3,
                None if version.installation.as_deref() == Some("Client") => 1,
                None => 3,
            },
        })
    }

    /// The rules by which the system starts drivers.
    ///
    /// # Errors
    /// Those of reading.
    pub(crate) fn start<'a>(&'a self, hive: &'a Hive, target: &Target) -> Result<Start<'a>> {
        let (machine, version) = (target.machine, target.version);
        Ok(Start { hive, tree: &self.tree, machine, version, sets: boot_sets(hive)? })
    }

    /// What has to be driven for disks: of the controller that the system's own disk is on, without which it does not start, and of all
    /// others that its disks are on or may be put on.
    pub(crate) fn disk_needs<'a>(&self, guest: &Guest, hardware: &'a Hardware) -> Vec<(&'a [DriverNeed], bool)> {
        let device = guest.volumes.get(self.root).and_then(|volume| volume.device.as_ref());
        let own = device.map(crate::bench::Device::disks).unwrap_or_default();
        let mut needs: Vec<(&[DriverNeed], bool)> = Vec::new();
        let mut add = |drivers: &'a [DriverNeed], must: bool| {
            if !needs.iter().any(|(known, _)| *known == drivers) {
                needs.push((drivers, must));
            }
        };
        for place in own.iter().filter_map(|disk| hardware.place(*disk)) {
            add(&place.drivers, true);
        }
        for place in hardware.disks.iter().flatten() {
            add(&place.drivers, false);
            place.others.iter().for_each(|other| add(&other.drivers, false));
        }
        needs
    }

    /// Whether the system has a driver for the device `full`, which need not be started by the loader; `named` are the services that
    /// come with systems for it.
    ///
    /// # Errors
    /// Those of reading.
    pub(crate) fn drives(&self, full: &str, named: &[String], now: i64) -> Result<bool> {
        let hive = hives::open(&self.tree, &hives::path("SYSTEM"), now)?;
        let Some(set) = boot_sets(&hive)?.into_iter().next() else { return Ok(false) };
        let is_there = |hive: &Hive, service: &str| -> Result<bool> {
            let key = format!("{set}\\Services\\{service}");
            if hive.find(&key)?.is_none() {
                return Ok(false);
            }
            let image = hive.text(&key, "ImagePath")?;
            Ok(self.tree.exists(image_path(image.as_deref(), service)))
        };
        for service in named {
            if is_there(&hive, service)? {
                return Ok(true);
            }
        }
        let all = all_drivers(&self.tree, now);
        for id in device_ids(full) {
            // What is bound by a class alone, or by a vendor, is no driver for an adapter.
            if !id.contains("&DEV_") && id.starts_with("PCI\\") {
                continue;
            }
            if !services_of(&hive, &id)?.is_empty() {
                return Ok(true);
            }
            if let Some(all) = &all
                && !services_of(all, &id)?.is_empty()
            {
                return Ok(true);
            }
        }
        Ok(false)
    }

    /// The setup information file of a driver for the device `full` that was laid ready for the first start.
    pub(crate) fn staged(&self, full: &str, target: &Target) -> Option<String> {
        let folder = format!("{FIRST_START_FOLDER}/drivers");
        let ids: Vec<String> = device_ids(full).iter().map(|id| id.to_uppercase()).collect();
        if !self.tree.exists(&folder) {
            return None;
        }
        for stem in self.tree.names(&folder).into_iter().take(MAX_STAGED) {
            let below = format!("{folder}/{stem}");
            for name in self.tree.names(&below).iter().filter(|name| name.to_lowercase().ends_with(".inf")) {
                let path = format!("{below}/{name}");
                let bytes = self.tree.some(&path, inf::MOST)?;
                let Ok(inf) = Inf::read(&bytes, &path, self.tree.budget()) else { continue };
                let models = super::drivers::Package::of(name, inf).and_then(|package| package.models(target));
                if models.is_ok_and(|models| models.iter().flat_map(|model| &model.ids).any(|id| ids.contains(id))) {
                    return Some(path);
                }
            }
        }
        None
    }
}
