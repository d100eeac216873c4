//! What lies around a machine file: where the files that it names are found.

use std::{path::PathBuf, sync::Arc};

use reformis_disk::{
    Error as Disk, Storage,
    budget::Budget,
    container::{self, Archive, Source},
    error::WireKind,
    format,
    source::{self, Links},
};
use reformis_wire::hosts::Files;

use crate::error::Result;

/// Where the files that a machine file names are found.
pub(super) enum Container {
    Archive(Archive),
    Folder(PathBuf, Links, Arc<Budget>),
    /// Beside this file, at the other end of a network.
    Far(Arc<dyn Storage>),
    /// With the machine, at its host.
    Host(Files),
}

impl Container {
    /// What opens the disks found here.
    pub(super) fn opener(&self) -> format::Opener {
        match self {
            Self::Archive(_) | Self::Far(_) | Self::Host(_) => format::opener(Links::default()),
            Self::Folder(_, links, _) => format::opener(*links),
        }
    }

    /// The file `name`, which `by` refers to; `None` when it is not there. Machines are moved with their folder, so what
    /// is named by a whole path, and may not be followed there or is gone, is looked for beside the machine file too.
    pub(super) fn find(&self, by: &str, name: &str) -> Result<Option<Source>> {
        let name = &name.replace('\\', "/");
        match self {
            Self::Archive(archive) => match archive.find(name) {
                Some(_) => Ok(Some(container::locate_in(archive.storage().clone(), Some(name))?)),
                None => Ok(None),
            },
            Self::Host(files) => Ok(files.find(name)?),
            Self::Far(file) => {
                let beside = name.rsplit('/').next().unwrap_or(name);
                match file.sibling(name, Links::OwnFolder) {
                    Err(Disk::Wire(error)) if error.kind == WireKind::Absent => Ok(None),
                    Err(Disk::UnsafeName { .. }) if name.starts_with('/') => {
                        match file.sibling(beside, Links::OwnFolder) {
                            Err(Disk::Wire(error)) if error.kind == WireKind::Absent => Ok(None),
                            found => Ok(Some(Source::Storage(found?))),
                        }
                    }
                    found => Ok(Some(Source::Storage(found?))),
                }
            }
            Self::Folder(folder, links, budget) => {
                let beside = name.rsplit('/').next().filter(|_| name.starts_with('/')).unwrap_or(name);
                let mut refused = None;
                for name in [name.as_str(), beside] {
                    match source::open_link(folder, by, name, *links, budget) {
                        Ok(file) => return Ok(Some(Source::Storage(Arc::new(file)))),
                        Err(reformis_disk::Error::Io { source, .. })
                            if source.kind() == std::io::ErrorKind::NotFound => {}
                        Err(error) => drop(refused.get_or_insert(error)),
                    }
                }
                refused.map_or(Ok(None), |error| Err(error.into()))
            }
        }
    }
}
