//! Stores: places where bytes are put, by the names that a site gives them.

mod folder;
mod images;
mod objects;
mod open;
mod pages;
mod piece;
mod runs;
mod shared_key;
mod sign;
mod upload;
mod xml;

use std::{collections::BTreeMap, sync::Arc};

use piece::{Piece, Sum};
use reformis_disk::{
    Error, Result,
    error::{WireError, WireKind},
};
pub use upload::{Begun, Done, Ledger, Upload};

use crate::{
    fault::Fault,
    images::Images,
    link::Link,
    settings::StoreKind,
    wires::{Inner, Wires},
};

/// What of an upload is there.
enum There {
    /// Whatever was answered.
    All,
    /// Parts by their numbers, each one's length and tag.
    Parts(BTreeMap<u32, (u64, String)>),
}

/// What a store is asked for; one try each. Names begin in the store's own folder.
trait Store: Send + Sync {
    /// What it is, and what it lets us do, in words.
    fn about(&self) -> Result<Vec<String>, Fault>;

    /// Bytes of what is called `name`; `None` where nothing is.
    fn len_of(&self, name: &str) -> Result<Option<u64>, Fault>;

    /// Puts a few bytes.
    fn put(&self, name: &str, bytes: &[u8]) -> Result<(), Fault>;

    /// Removes what is called `name`.
    fn remove(&self, name: &str) -> Result<(), Fault>;

    /// Its link, without what lets us in.
    fn address(&self, name: &str) -> String;

    /// A link by which it is read.
    fn link(&self, name: &str) -> Result<Link, Fault>;

    /// Where what is called `name` holds data, where the store knows: start and length of each run, in order.
    fn map(&self, _name: &str) -> Result<Option<Vec<(u64, u64)>>, Fault> {
        Ok(None)
    }

    /// Takes a snapshot of `name`; the name by which that moment is read. `None` where there are no snapshots.
    fn snapshot(&self, _name: &str) -> Result<Option<String>, Fault> {
        Ok(None)
    }

    /// Removes a snapshot.
    fn remove_snapshot(&self, _name: &str) -> Result<(), Fault> {
        Ok(())
    }

    /// How it takes uploads in parts, where it does.
    fn parts(&self) -> Option<&dyn Parts> {
        None
    }

    /// Puts all of `piece` at once.
    fn put_whole(&self, _name: &str, _piece: &Piece) -> Result<(), Fault> {
        Err(Fault::Fatal(WireKind::Refused, "it takes uploads in parts".into()))
    }
}

/// Uploads in parts.
trait Parts: Send + Sync {
    /// Bytes of each part but the last, of an upload of at most `most` bytes.
    fn part(&self, most: u64) -> u64 {
        upload::part_of(most)
    }

    /// Whether an upload is zero where nothing is put, so that parts without data are left out, and no list of parts finishes it.
    fn is_sparse(&self) -> bool {
        false
    }

    /// By what it knows that a part arrived as it was sent.
    fn sum(&self) -> Sum {
        Sum::Crc32c
    }

    /// Begins one of at most `most` bytes; what it is called.
    fn begin(&self, name: &str, most: u64) -> Result<String, Fault>;

    /// Sends one part; its tag.
    fn put_part(&self, name: &str, id: &str, number: u32, piece: &Piece) -> Result<String, Fault>;

    /// Makes `len` bytes of an upload from `start` on zero, where one is zero where nothing is put.
    fn clear(&self, _name: &str, _start: u64, _len: u64) -> Result<(), Fault> {
        Ok(())
    }

    /// What is there; `None` where the upload is not.
    fn there(&self, name: &str, id: &str) -> Result<Option<There>, Fault>;

    /// Makes one object of these parts, of `len` bytes together.
    fn finish(&self, name: &str, id: &str, parts: &[Done], len: u64) -> Result<(), Fault>;

    /// Gives the upload up.
    fn abort(&self, name: &str, id: &str) -> Result<(), Fault>;

    /// Uploads that are not finished, of names that begin with `name`: the whole name, and what each is called.
    fn open(&self, name: &str) -> Result<Vec<(String, String)>, Fault>;
}

/// A store of the site.
#[derive(Clone)]
pub struct Place {
    name: String,
    is_pages: bool,
    is_stream: bool,
    store: Arc<dyn Store>,
    inner: Arc<Inner>,
    connections: usize,
}

impl std::fmt::Debug for Place {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "{}:", self.name)
    }
}

/// The object that is written and removed again, to see whether that is allowed.
const TRIAL: &str = "reformis-trial";

impl Place {
    /// Whether uploads go there in parts, as they are made; else a whole file is sent at once.
    pub fn takes_parts(&self) -> bool {
        self.store.parts().is_some()
    }

    /// Bytes that the length of a disk's file is a multiple of, where all files that go there are disks of pages.
    pub fn page(&self) -> Option<u64> {
        self.is_pages.then_some(runs::PAGE)
    }

    /// Whether a disk goes there in one stream, which begins anew when it breaks.
    pub fn is_one_stream(&self) -> bool {
        self.is_stream
    }

    fn parts(&self) -> std::result::Result<&dyn Parts, Fault> {
        let none = || Fault::Fatal(WireKind::Refused, "it takes no uploads in parts".into());
        self.store.parts().ok_or_else(none)
    }

    fn place(&self, name: &str) -> String {
        format!("{}:{name}", self.name)
    }

    fn tried<T>(&self, action: &'static str, name: &str, attempt: impl FnMut() -> Result<T, Fault>) -> Result<T> {
        if name.split('/').any(|part| matches!(part, "." | "..")) {
            // A server may take them for other folders, or for other people's.
            let what = "a name in a store has no . and no .. between its slashes".into();
            return Err(Fault::Fatal(WireKind::Settings, what).into_error(action, &self.place(name), None));
        }
        self.inner.patient(attempt).map_err(|fault| match self.inner.shared.stop.is_set() {
            true => Error::Interrupted,
            false => fault.into_error(action, &self.place(name), None),
        })
    }

    /// What it is, and what it lets us do, in words.
    ///
    /// # Errors
    /// [`Error::Wire`].
    pub fn about(&self) -> Result<Vec<String>> {
        self.tried("trying", "", || self.store.about())
    }

    /// Puts an empty file into `folder` and removes it again, and lists the uploads there.
    ///
    /// # Errors
    /// [`Error::Wire`] with what is missing, and the remedy.
    pub fn try_out(&self, folder: &str) -> Result<()> {
        let name = format!("{}{TRIAL}", below(folder));
        self.tried("trying to write to", &name, || self.store.put(&name, b""))?;
        self.tried("trying to remove from", &name, || self.store.remove(&name))?;
        self.unfinished(&name).map(drop)
    }

    /// Bytes of what is called `name`; `None` where nothing is.
    ///
    /// # Errors
    /// [`Error::Wire`].
    pub fn len_of(&self, name: &str) -> Result<Option<u64>> {
        self.tried("looking for", name, || self.store.len_of(name))
    }

    /// Puts a few bytes.
    ///
    /// # Errors
    /// [`Error::Wire`].
    pub fn put(&self, name: &str, bytes: &[u8]) -> Result<()> {
        self.tried("writing", name, || self.store.put(name, bytes))
    }

    /// A link by which `name` is read, with what lets anybody in.
    ///
    /// # Errors
    /// [`Error::Wire`].
    pub fn link(&self, name: &str) -> Result<Link> {
        self.tried("making a link to", name, || self.store.link(name))
    }

    /// Removes what is called `name`.
    ///
    /// # Errors
    /// [`Error::Wire`].
    pub fn remove(&self, name: &str) -> Result<()> {
        self.tried("removing", name, || self.store.remove(name))
    }

    /// The link of what is called `name`, without what lets us in: by it, others who may read there know what is meant.
    pub fn address(&self, name: &str) -> String {
        self.store.address(name)
    }

    /// Uploads of names that begin with `name` and are not finished: the names, and what each upload is called.
    ///
    /// # Errors
    /// [`Error::Wire`].
    pub fn unfinished(&self, name: &str) -> Result<Vec<(String, String)>> {
        let Some(parts) = self.store.parts() else { return Ok(Vec::new()) };
        self.tried("listing the uploads of", name, || parts.open(name))
    }

    /// Gives up an upload that is not finished.
    ///
    /// # Errors
    /// [`Error::Wire`].
    pub fn give_up(&self, name: &str, id: &str) -> Result<()> {
        let Some(parts) = self.store.parts() else { return Ok(()) };
        self.tried("giving up an upload of", name, || parts.abort(name, id))
    }
}

/// Reads `bytes` as an answer of an object store, as a fuzzer does; how many texts are in it.
pub fn read_answer(bytes: &[u8]) -> usize {
    crate::images::read_answers(bytes);
    xml::read(bytes).map_or(0, |answer| {
        let texts = answer.texts;
        let groups = ["Part", "Upload"].map(|name| xml::groups(&texts, name).len());
        texts.len().max(groups.into_iter().sum())
    })
}

/// What the names in `folder` begin with.
pub fn below(folder: &str) -> String {
    match folder.trim_matches('/') {
        "" => String::new(),
        folder => format!("{folder}/"),
    }
}

impl Wires {
    /// The stores that are known: name, kind, and where each is.
    pub fn stores(&self) -> Vec<(String, &'static str, String)> {
        let stores = self.inner.settings.stores.iter();
        stores.map(|(name, store)| (name.clone(), store.kind.word(), crate::link::without_secrets(&store.at))).collect()
    }

    /// The store and the name in it that `text` says: `STORE:NAME`. `None` for what does not begin with the name of a store.
    pub fn store_of<'t>(&self, text: &'t str) -> Option<(&'t str, &'t str)> {
        let (store, name) = text.split_once(':')?;
        let settings = &self.inner.settings;
        let is_known = settings.stores.contains_key(store) || settings.image_service(store).is_some();
        (is_known && !name.starts_with("//")).then_some((store, name))
    }

    /// Whether `text` names something of a host, a cloud or a store, and no path of this machine.
    pub fn is_named(&self, text: &str) -> bool {
        self.host_of(text).is_some() || self.store_of(text).is_some()
    }

    /// The store `name`.
    ///
    /// # Errors
    /// [`Error::Wire`]: there is none of this name; a key that cannot be had.
    pub fn store(&self, name: &str) -> Result<Place> {
        let failed = |fault: Fault| fault.into_error("opening the store", name, None);
        if let Some(service) = self.inner.settings.image_service(name) {
            let at = service.at.as_deref().unwrap_or_default();
            let images = Images::new(self, crate::wires::link(at)?);
            let store = Arc::new(images::ImageStore::new(images, at, self.inner.shared.stop.clone()));
            // There is one stream.
            return Ok(Place {
                name: name.into(),
                is_pages: false,
                is_stream: true,
                store,
                inner: self.inner.clone(),
                connections: 1,
            });
        }
        let Some(settings) = self.inner.settings.stores.get(name) else {
            let known: Vec<_> = self.inner.settings.stores.keys().map(String::as_str).collect();
            let what = match known.is_empty() {
                true => "no store is named in reformis.toml".to_string(),
                false => format!("there are {}", known.join(", ")),
            };
            let (action, place, kind) = ("looking for the store", name.into(), WireKind::Settings);
            return Err(Error::from(WireError { action, place, offset: None, what, kind }));
        };
        let store: Arc<dyn Store> = match settings.kind {
            StoreKind::Objects => Arc::new(objects::Objects::new(self, name, settings).map_err(failed)?),
            StoreKind::Pages => Arc::new(pages::Pages::new(self, name, settings).map_err(failed)?),
            StoreKind::Folder => Arc::new(folder::Folder::new(self, settings).map_err(failed)?),
        };
        let connections = settings.connections.unwrap_or(upload::CONNECTIONS);
        let is_pages = settings.kind == StoreKind::Pages;
        Ok(Place { name: name.into(), is_pages, is_stream: false, store, inner: self.inner.clone(), connections })
    }
}
