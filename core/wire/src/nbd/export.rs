//! An export as a remote.

use std::sync::{Arc, Mutex, PoisonError};

use reformis_disk::{
    disk::Extent,
    error::WireKind,
    source::{Access, Version},
};

use super::{
    connection::{Connection, Dial},
    handshake::Facts,
};
use crate::{
    fault::{Fault, Stop},
    link::Scheme,
    remote::{Limits, Remote},
};

/// An export of a server.
pub(crate) struct Export {
    name: String,
    dial: Dial,
    /// The map of what was written that says where data lies.
    bitmap: Option<String>,
    facts: Facts,
    free: Mutex<Vec<Connection>>,
    depth: usize,
}

impl Export {
    /// Opens the export that `dial` leads to. Its link may name a map of what was written (`?bitmap=NAME`): what is not in it
    /// counts as zeros.
    pub(crate) fn open(dial: Dial, depth: usize) -> Result<Self, Fault> {
        let query = dial.link.query.as_ref().map(|query| query.expose().to_string());
        let bitmap = match query.as_deref().map(|query| query.split_once('=')) {
            None => None,
            Some(Some(("bitmap", name))) if !name.is_empty() && !name.contains('&') => Some(
                crate::link::decoded(name)
                    .map_err(|()| Fault::Fatal(WireKind::Settings, "the map's name is not text".into()))?,
            ),
            Some(_) => {
                return Err(Fault::Fatal(
                    WireKind::Settings,
                    "behind the question mark only bitmap=NAME may stand".into(),
                ));
            }
        };
        let connection = dial.open(bitmap.as_deref())?;
        let facts = *connection.facts();
        let mut name = dial.link.to_string();
        if let Some(bitmap) = &bitmap {
            name = format!("{name}?bitmap={bitmap}");
        }
        Ok(Self { name, dial, bitmap, facts, free: Mutex::new(vec![connection]), depth })
    }

    fn with<T>(&self, work: impl FnOnce(&mut Connection) -> Result<T, Fault>) -> Result<T, Fault> {
        let free = self.free.lock().unwrap_or_else(PoisonError::into_inner).pop();
        let mut connection = match free {
            Some(connection) => connection,
            None => {
                let connection = self.dial.open(self.bitmap.as_deref())?;
                if connection.facts().size != self.facts.size {
                    return Err(Fault::Changed("its size is another one".into()));
                }
                connection
            }
        };
        let outcome = work(&mut connection);
        // Where something went wrong, replies may be under way.
        if outcome.is_ok() {
            self.free.lock().unwrap_or_else(PoisonError::into_inner).push(connection);
        }
        outcome
    }
}

/// The names of the exports that `dial` leads to.
pub(crate) fn list(dial: &Dial) -> Result<Vec<String>, Fault> {
    let mut names = dial.exports()?;
    // An export without a name is what is had without one.
    names.retain(|name| !name.is_empty() && !name.contains('\0'));
    Ok(names)
}

impl Remote for Export {
    fn name(&self) -> &str {
        &self.name
    }

    fn len(&self) -> u64 {
        self.facts.size
    }

    fn version(&self) -> Version {
        Version::Unknown
    }

    fn access(&self) -> Access {
        crate::steady::access(self.dial.link.scheme != Scheme::Nbd)
    }

    fn limits(&self) -> Limits {
        Limits { piece: 4 << 20, depth: self.depth }
    }

    fn fetch(&self, at: u64, buf: &mut [u8], _: &Stop) -> Result<(), Fault> {
        self.with(|connection| connection.read(at, buf))
    }

    fn is_raw(&self) -> bool {
        true
    }

    fn has_map(&self) -> bool {
        self.facts.allocation.is_some() || self.facts.bitmap.is_some()
    }

    fn map(&self, at: u64, len: u64, _: &Stop) -> Result<Vec<Extent>, Fault> {
        self.with(|connection| connection.map(at, len))
    }

    fn check(&self, _: &Stop) -> Result<(), Fault> {
        Ok(())
    }

    fn sibling(&self, name: &str, _: &Stop) -> Result<Arc<dyn Remote>, Fault> {
        let dial = Dial { link: self.dial.link.beside(name), ..self.dial.clone() };
        Ok(Arc::new(Self::open(dial, self.depth)?))
    }
}
