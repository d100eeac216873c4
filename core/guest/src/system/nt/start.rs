//! Which drivers a Windows system starts before it can read a disk, and which of them it binds to a device: the rules of the loader and
//! of the kernel's first steps, read from the registry. From what a system of version 10.0 shows, and from memory of earlier ones.

use super::{drivers::ids, hives};
use crate::{
    error::Result,
    formats::{
        hive::{Data, Hive},
        pe,
    },
    fs::tree::Tree,
};

/// Bytes of a driver's file that tell its processor.
const HEAD: usize = 4096;
/// The version from which on drivers are found by a database.
const DATABASE: (u32, u32) = (6, 2);
/// The key of that database.
pub(crate) const DATABASE_KEY: &str = "DriverDatabase";

/// Values of a service's `Start`.
pub(crate) mod at {
    /// The loader loads it.
    pub(crate) const BOOT: u32 = 0;
    /// Never.
    pub(crate) const DISABLED: u32 = 4;
}

/// What is known of whether a device is driven from the first step on.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) enum Driven {
    /// It is: what was seen.
    Yes(String),
    /// It is not: what was seen, and the service that would drive it if it were started.
    No(String, Option<String>),
    /// It may be: what was seen.
    Perhaps(String),
}

/// A system's registry, its files, and what drivers are for there.
pub(crate) struct Start<'a> {
    pub(crate) hive: &'a Hive,
    pub(crate) tree: &'a Tree,
    /// Its processor, as drivers call it.
    pub(crate) machine: &'static str,
    /// Its version.
    pub(crate) version: (u32, u32),
    /// The control sets that it may start with.
    pub(crate) sets: Vec<String>,
}

/// The control sets that a system may start with: the one that it starts with, and those that it goes back to.
///
/// # Errors
/// Those of reading.
pub(crate) fn boot_sets(hive: &Hive) -> Result<Vec<String>> {
    let mut sets = Vec::new();
    for name in ["Current", "Default", "LastKnownGood"] {
        let Some(number) = hive.number("Select", name)? else { continue };
        let set = format!("ControlSet{number:03}");
        if !sets.contains(&set) && hive.find(&set)?.is_some() {
            sets.push(set);
        }
    }
    Ok(sets)
}

/// The path in the guest of a service's file, as its `ImagePath` has it.
pub(crate) fn image_path(image: Option<&str>, service: &str) -> String {
    let Some(image) = image.filter(|image| !image.is_empty()) else {
        return format!("/Windows/System32/drivers/{service}.sys");
    };
    let path = image.trim_matches('"').replace('\\', "/");
    let lower = path.to_ascii_lowercase();
    let below = ["/systemroot/", "%systemroot%/", "/??/c:/windows/", "c:/windows/"];
    let start = below.iter().find(|start| lower.starts_with(*start)).map_or(0, |start| start.len());
    format!("/Windows/{}", path.get(start..).unwrap_or_default().trim_start_matches('/'))
}

impl Start<'_> {
    /// Whether drivers are found by the database, and not by the table of critical devices.
    pub(crate) fn has_database(&self) -> bool {
        self.version >= DATABASE
    }

    /// What keeps `service` of the control set `set` from being started by the loader: nothing when it is started.
    fn faults(&self, set: &str, service: &str) -> Result<Vec<String>> {
        let key = format!("{set}\\Services\\{service}");
        let mut faults = Vec::new();
        let Some(found) = self.hive.find(&key)? else { return Ok(vec![format!("{key} is not there")]) };
        let data = |name: &str| Ok::<_, crate::Error>(self.hive.value(found, name)?.map(|value| value.data()));
        let number = |data: Option<Data>| match data {
            Some(Data::Number(number)) => Some(number),
            _ => None,
        };
        let told = |number: Option<u32>| number.map_or("missing".into(), |number| number.to_string());
        let (kind, start) = (number(data("Type")?), number(data("Start")?));
        if kind != Some(1) {
            faults.push(format!("{key}: Type is {}, not 1", told(kind)));
        }
        if start != Some(at::BOOT) {
            faults.push(format!("{key}: Start is {}, not 0", told(start)));
        }
        if let Some(overrides) = self.hive.find_below(found, "StartOverride")? {
            let held = self.hive.values(overrides)?.into_iter().any(|value| value.data() != Data::Number(at::BOOT));
            if held {
                faults.push(format!("{key}\\StartOverride takes its start back"));
            }
        }
        let image = data("ImagePath")?.and_then(Data::into_text);
        faults.extend(self.file_fault(&image_path(image.as_deref(), service)));
        Ok(faults)
    }

    /// What is wrong with the file of a driver.
    pub(crate) fn file_fault(&self, path: &str) -> Option<String> {
        let Some(head) = self.tree.noted(path, self.tree.head(path, HEAD)) else {
            return Some(format!("{path} is not there"));
        };
        match pe::read(&head) {
            Some(image) if image.machine == Some(self.machine) => None,
            Some(image) => {
                Some(format!("{path} is for {}, not {}", image.machine.unwrap_or("another processor"), self.machine))
            }
            None => Some(format!("{path} is no driver")),
        }
    }

    /// Whether nothing but its start keeps `service` from driving: it and its file are there, in the first control set.
    ///
    /// # Errors
    /// Those of reading.
    pub(crate) fn can_be_started(&self, service: &str) -> Result<bool> {
        let Some(set) = self.sets.first() else { return Ok(false) };
        let key = format!("{set}\\Services\\{service}");
        let is_driver = self.hive.number(&key, "Type")? == Some(1);
        let image = self.hive.text(&key, "ImagePath")?;
        Ok(is_driver && self.file_fault(&image_path(image.as_deref(), service)).is_none())
    }

    /// Services that a device with the identities `ids` is bound to in `set`, the closest first, each with the key that binds it.
    ///
    /// # Errors
    /// Those of reading.
    pub(crate) fn bound(&self, set: &str, ids: &[String]) -> Result<Vec<(String, String)>> {
        let mut found: Vec<(String, String)> = Vec::new();
        let mut add = |service: String, key: String| {
            if !found.iter().any(|(known, _)| known.eq_ignore_ascii_case(&service)) {
                found.push((service, key));
            }
        };
        for id in ids {
            if !self.has_database() {
                let key = format!("{set}\\Control\\CriticalDeviceDatabase\\{}", ids::critical(id));
                if let Some(service) = self.hive.text(&key, "Service")? {
                    add(service, key);
                }
                continue;
            }
            for (service, inf) in services_of(self.hive, id)? {
                add(service, format!("{DATABASE_KEY}\\DeviceIds\\{id}: {inf}"));
            }
        }
        Ok(found)
    }

    /// Whether the device with the identities `ids` is driven from the first step on, in every control set that the system may start
    /// with and that knows it; `named` are the services that come with systems for it.
    ///
    /// # Errors
    /// Those of reading.
    pub(crate) fn driven(&self, ids: &[String], named: &[String]) -> Result<Driven> {
        let mut seen = Vec::new();
        for (index, set) in self.sets.iter().enumerate() {
            match self.driven_in(set, ids, named)? {
                Driven::Yes(what) => seen.push(what),
                // What an older set never had, it did without when it last worked.
                Driven::No(_, None) if index > 0 => {}
                other => return Ok(other),
            }
        }
        let more =
            if seen.len() > 1 { format!(", and so in {} more control set(s)", seen.len() - 1) } else { String::new() };
        Ok(match seen.first() {
            Some(first) => Driven::Yes(format!("{first}{more}")),
            None => Driven::Perhaps("the registry does not say which control set the system starts with".into()),
        })
    }

    fn driven_in(&self, set: &str, ids: &[String], named: &[String]) -> Result<Driven> {
        let mut first = None;
        for (service, key) in self.bound(set, ids)? {
            let faults = self.faults(set, &service)?;
            if faults.is_empty() {
                return Ok(Driven::Yes(format!("{set}\\Services\\{service}: Start is 0; {key}")));
            }
            first.get_or_insert((service, faults));
        }
        if let Some((service, faults)) = first {
            return Ok(Driven::No(faults.join("; "), Some(service)));
        }
        // Its model says more to a person than its class does.
        let model = ids.iter().find(|id| id.contains("&DEV_") && id.matches('&').count() == 1);
        let id = model.or(ids.last()).map_or("the device", String::as_str);
        for service in named {
            let key = format!("{set}\\Services\\{service}");
            if self.hive.find(&key)?.is_none() {
                continue;
            }
            let faults = self.faults(set, service)?;
            return Ok(if !faults.is_empty() {
                Driven::No(faults.join("; "), Some(service.clone()))
            } else if self.has_database() {
                Driven::Perhaps(format!("{key}: Start is 0, but {DATABASE_KEY}\\DeviceIds names no driver for {id}"))
            } else {
                let what = format!("{set}\\Control\\CriticalDeviceDatabase names no driver for {id}");
                Driven::No(what, Some(service.clone()))
            });
        }
        let none = if named.is_empty() { String::new() } else { format!(" ({} is not there)", named.join(", ")) };
        Ok(Driven::No(format!("{set}\\Services has no driver for {id}{none}"), None))
    }
}

/// Services that the driver database of `hive` has for the device `id`, each with the file that brought it.
///
/// # Errors
/// Those of reading.
pub(crate) fn services_of(hive: &Hive, id: &str) -> Result<Vec<(String, String)>> {
    let mut found = Vec::new();
    let Some(key) = hive.find(&format!("{DATABASE_KEY}\\DeviceIds\\{id}"))? else { return Ok(found) };
    for value in hive.values(key)? {
        let inf = value.name;
        let active = hive.text(&format!("{DATABASE_KEY}\\DriverInfFiles\\{inf}"), "Active")?;
        let Some(package) = active else { continue };
        let package = format!("{DATABASE_KEY}\\DriverPackages\\{package}");
        let configuration = hive.text(&format!("{package}\\Descriptors\\{id}"), "Configuration")?;
        let Some(configuration) = configuration else { continue };
        if let Some(service) = hive.text(&format!("{package}\\Configurations\\{configuration}"), "Service")? {
            found.push((service, inf));
        }
    }
    Ok(found)
}

/// The hive of all drivers, which lies beside the others from version 6.3 on.
pub(crate) fn all_drivers(tree: &Tree, now: i64) -> Option<Hive> {
    let path = hives::path("DRIVERS");
    if !tree.exists(&path) {
        return None;
    }
    tree.noted(&path, hives::open(tree, &path, now))
}

#[cfg(test)]
mod tests {
    use super::image_path;

    #[test]
    fn files_of_services_are_found_however_they_are_written() {
        for (image, path) in [
            (None, "/Windows/System32/drivers/tide.sys"),
            (Some("System32\\drivers\\tide.sys"), "/Windows/System32/drivers/tide.sys"),
            (Some("\\SystemRoot\\System32\\DriverStore\\tide.sys"), "/Windows/System32/DriverStore/tide.sys"),
            (Some("%SystemRoot%\\system32\\tide.sys"), "/Windows/system32/tide.sys"),
            (Some("\\??\\C:\\Windows\\tide.sys"), "/Windows/tide.sys"),
        ] {
            assert_eq!(image_path(image, "tide"), path);
        }
    }
}
