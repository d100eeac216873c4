//! Filters of a class of devices: drivers without which none of its devices starts.

use super::start::{Start, at, image_path};
use crate::{
    error::Result,
    formats::hive::{Data, Hive},
};

/// Classes that are looked through.
pub(crate) const CLASSES: usize = 512;
/// The values that name filters.
pub(crate) const VALUES: [&str; 2] = ["UpperFilters", "LowerFilters"];
/// Classes without which no disk is read: disks, volumes, and both kinds of controllers.
const OF_DISKS: [&str; 4] = [
    "{4d36e967-e325-11ce-bfc1-08002be10318}",
    "{71a27cdd-812a-11d0-bec7-08002be2092f}",
    "{4d36e97b-e325-11ce-bfc1-08002be10318}",
    "{4d36e96a-e325-11ce-bfc1-08002be10318}",
];

/// The filters on the way to a disk in a control set: the key and value that name each, and the service.
///
/// # Errors
/// Those of reading.
pub(crate) fn of_disks(hive: &Hive, set: &str) -> Result<Vec<(String, String)>> {
    let mut found = Vec::new();
    for class in OF_DISKS {
        for value in VALUES {
            let key = format!("{set}\\Control\\Class\\{class}");
            if let Some(Data::Texts(services)) = hive.data(&key, value)? {
                found.extend(services.into_iter().map(|service| (format!("{key}: {value}"), service)));
            }
        }
    }
    Ok(found)
}

impl Start<'_> {
    /// What is wrong with a filter; nothing where it starts.
    ///
    /// # Errors
    /// Those of reading.
    pub(crate) fn filter_fault(&self, set: &str, service: &str) -> Result<Option<String>> {
        let key = format!("{set}\\Services\\{service}");
        match self.hive.number(&key, "Start")? {
            None => Ok(Some(format!("{key} is not there"))),
            Some(at::DISABLED) => Ok(Some(format!("{key}: Start is 4"))),
            Some(_) => {
                let image = self.hive.text(&key, "ImagePath")?;
                Ok(self.file_fault(&image_path(image.as_deref(), service)))
            }
        }
    }
}
