//! Reading what lies in a store: by links that are made anew before they expire, and without what a map says to be zero.

use std::sync::Arc;

use reformis_disk::{
    Result,
    budget::Budget,
    container::{Source, Stream},
};

use super::Place;
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
                let files: Files = Arc::new(Beside { place: self.clone(), folder, budget: budget.clone() });
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
