//! Reading what lies in a store: by links that are made anew before they expire, and without what a map says to be zero.

use std::sync::{Arc, atomic::Ordering};

use reformis_disk::{
    Result,
    budget::Budget,
    container::{Source, Stream},
};

use super::{Place, Store};
use crate::{
    hosts::{Cargo, Files, Shipped},
    http::{self, Opened, Relink},
    mapped::Mapped,
    remote::Remote,
    steady::Steady,
};

/// Pieces that are fetched at the same time.
const DEPTH: usize = 4;

impl Place {
    /// Opens what is called `name`; what strangers make us collect from it is counted against `budget`.
    ///
    /// # Errors
    /// [`reformis_disk::Error::Wire`].
    pub fn open(&self, name: &str, budget: &Arc<Budget>) -> Result<Source> {
        self.open_with(name, budget, None)
    }

    /// Opens `name` as it is at one moment, where the person wants what is in use to be read and the store makes snapshots; what was made
    /// goes with the last that reads it.
    ///
    /// # Errors
    /// [`reformis_disk::Error::Wire`].
    pub fn open_at_one_moment(&self, name: &str, budget: &Arc<Budget>) -> Result<Source> {
        let moment = match self.inner.reads_running.load(Ordering::Relaxed) {
            true => self.tried("making a snapshot of", name, || self.store.snapshot(name))?,
            false => None,
        };
        match moment {
            Some(moment) if moment != name => {
                let snapshot = Arc::new(Snapshot { store: self.store.clone(), name: moment.clone() });
                self.open_with(&moment, budget, Some(snapshot))
            }
            _ => self.open(name, budget),
        }
    }

    fn open_with(&self, name: &str, budget: &Arc<Budget>, snapshot: Option<Arc<Snapshot>>) -> Result<Source> {
        let link = self.link(name)?;
        let relink: Arc<dyn Relink> = self.inner.clone();
        let (store, renewed) = (self.store.clone(), name.to_string());
        let renewer: http::Renewer = Arc::new(move || store.link(&renewed));
        let shared = &self.inner.shared;
        let opened =
            self.tried("opening", name, || http::open(&relink, &link, Some(renewer.clone()), DEPTH, shared))?;
        let shown = self.place(name);
        Ok(match opened {
            Opened::Ranges(remote) => {
                let remote: Arc<dyn Remote> =
                    match self.tried("asking for the map of", name, || self.store.map(name))? {
                        Some(map) => self
                            .tried("reading the map of", name, || Mapped::shared(remote.clone(), map.clone().into()))?,
                        None => remote,
                    };
                let storage = Arc::new(Steady::new(remote, shared.clone(), budget));
                let folder = name.rsplit_once('/').map_or(String::new(), |(folder, _)| format!("{folder}/"));
                let files: Files =
                    Arc::new(Beside { place: self.clone(), folder, budget: budget.clone(), _snapshot: snapshot });
                Source::Storage(Shipped::shared(storage, shown, files))
            }
            Opened::Forward(forward) => Source::Stream(Stream::far(shown, forward, budget)),
        })
    }
}

/// What lies in one folder of a store.
struct Beside {
    place: Place,
    folder: String,
    budget: Arc<Budget>,
    /// What was made to be read goes with whoever reads it.
    _snapshot: Option<Arc<Snapshot>>,
}

/// A snapshot that was made to be read.
struct Snapshot {
    store: Arc<dyn Store>,
    name: String,
}

impl Drop for Snapshot {
    fn drop(&mut self) {
        if let Err(fault) = self.store.remove_snapshot(&self.name) {
            tracing::warn!(snapshot = self.name, ?fault, "a snapshot is left");
        }
    }
}

impl Cargo for Beside {
    fn find(&self, name: &str) -> Result<Option<Source>> {
        let name = format!("{}{}", self.folder, name.replace('\\', "/"));
        match self.place.len_of(&name)? {
            Some(_) => self.place.open(&name, &self.budget).map(Some),
            None => Ok(None),
        }
    }
}
