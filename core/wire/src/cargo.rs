//! The files of a machine at a host.

use std::sync::Arc;

use reformis_disk::{
    Error, Result, Storage,
    budget::Budget,
    container::Source,
    disk::Extent,
    error::{WireError, WireKind},
    source::{Identity, Links},
};

/// What opens the files of a machine.
pub trait Cargo: Send + Sync {
    /// The file that the machine calls `name`; `None` where there is none.
    ///
    /// # Errors
    /// [`reformis_disk::Error::Wire`].
    fn find(&self, name: &str) -> Result<Option<Source>>;

    /// How the bytes can be used when the machine runs, as the end of a sentence; `None` where it does not run, or nothing was
    /// opened yet.
    fn consistency(&self) -> Option<String> {
        None
    }
}

/// The files of a machine. What was made for them at the host goes with the last of them.
pub type Files = Arc<dyn Cargo>;

/// A file of a machine, by the name that it has at the host. What lies beside it is asked of the host too.
pub(crate) struct Shipped {
    storage: Arc<dyn Storage>,
    name: String,
    files: Files,
}

impl Shipped {
    /// `storage`, called `name`, one of `files`.
    pub(crate) fn shared(storage: Arc<dyn Storage>, name: String, files: Files) -> Arc<dyn Storage> {
        Arc::new(Self { storage, name, files })
    }
}

impl Storage for Shipped {
    fn name(&self) -> &str {
        &self.name
    }

    fn len(&self) -> u64 {
        self.storage.len()
    }

    fn allocated(&self) -> u64 {
        self.storage.allocated()
    }

    fn is_far(&self) -> bool {
        true
    }

    fn is_raw(&self) -> bool {
        self.storage.is_raw()
    }

    fn read_at(&self, offset: u64, buf: &mut [u8]) -> Result<()> {
        self.storage.read_at(offset, buf)
    }

    fn extent_at(&self, offset: u64) -> Result<Extent> {
        self.storage.extent_at(offset)
    }

    fn check_unchanged(&self) -> Result<()> {
        self.storage.check_unchanged()
    }

    fn identity(&self) -> Option<&Identity> {
        self.storage.identity()
    }

    fn budget(&self) -> &Arc<Budget> {
        self.storage.budget()
    }

    fn sibling(&self, name: &str, _: Links) -> Result<Arc<dyn Storage>> {
        match self.files.find(name)? {
            Some(source) => source.random_access(),
            None => {
                let what = "the machine has no file of this name".into();
                let place = format!("{name} beside {}", self.name);
                Err(Error::from(WireError { action: "opening", place, offset: None, what, kind: WireKind::Absent }))
            }
        }
    }
}
