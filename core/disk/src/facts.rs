//! What is known of an image without reading the disk in it.

use serde::Serialize;

use crate::{
    shape::Shape,
    source::{MemoryStorage, Storage},
    trouble::Trouble,
};

/// What practitioners look at in an image, from its metadata alone.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct Facts {
    /// Format and layout.
    pub shape: Shape,
    /// The format's own name for this kind and version of itself.
    pub variant: String,
    /// Guest-visible size in bytes.
    pub virtual_size: u64,
    /// Length of the image's own files in bytes, without the disks below.
    pub file_size: u64,
    /// Bytes that those files take on their file system.
    pub allocated: u64,
    /// The piece in which the format stores: its name there, and its bytes.
    pub unit: Option<(String, u64)>,
    /// Bytes of the guest's sectors, where the format says.
    pub sector_size: Option<u64>,
    /// How stored pieces are compressed.
    pub compression: Option<String>,
    /// The disks that this one is a delta of, nearest first, as the files that hold them.
    pub chain: Vec<String>,
    /// The same with what is known of each.
    pub parents: Vec<Parent>,
    /// By what a delta of this disk knows that it is the right one below: changed whenever the disk is written.
    pub content_id: Option<String>,
    /// States of the disk that are kept inside the image.
    pub snapshots: Vec<Snapshot>,
    /// What else the metadata says, as name and value: identifiers, creator, flags.
    pub details: Vec<(String, String)>,
    /// Whether the image says that it was not closed properly by its last writer.
    pub unclean: bool,
    /// Whether it looks like a piece of a disk whose other pieces, and whose descriptor, are other files.
    pub piece: bool,
    /// Whether only the image's counts of references may be wrong, which do not matter for reading.
    pub dirty: bool,
    /// What stands in the way of reading the disk.
    pub troubles: Vec<Trouble>,
}

impl Facts {
    /// What every image has; the rest is empty.
    pub(crate) fn new(shape: Shape, variant: impl Into<String>, virtual_size: u64, storage: &dyn Storage) -> Self {
        Self {
            shape,
            variant: variant.into(),
            virtual_size,
            file_size: storage.len(),
            allocated: storage.allocated(),
            unit: None,
            sector_size: None,
            compression: None,
            chain: Vec::new(),
            parents: Vec::new(),
            content_id: None,
            snapshots: Vec::new(),
            details: Vec::new(),
            unclean: false,
            piece: false,
            dirty: false,
            troubles: Vec::new(),
        }
    }

    /// Of a disk that is compressed as a whole by `kind` in `storage`.
    pub fn of_stream(shape: Shape, kind: &str, virtual_size: u64, storage: &dyn Storage) -> Self {
        let variant = format!("raw bytes in {kind}");
        Self { compression: Some(kind.into()), ..Self::new(shape, variant, virtual_size, storage) }
    }

    /// Of a disk that came out of a pipe, of which there is no file.
    pub fn of_pipe(shape: Shape, kind: &str, virtual_size: u64) -> Self {
        let nothing = MemoryStorage::new("", Vec::new());
        Self::new(shape, format!("raw bytes from {kind}"), virtual_size, &nothing)
    }

    /// Adds what is known of the disk below, which the image calls `name`.
    pub(crate) fn over(&mut self, name: &str, facts: &Self) {
        let below = Parent {
            name: name.into(),
            shape: facts.shape,
            variant: facts.variant.clone(),
            virtual_size: facts.virtual_size,
            file_size: facts.file_size,
            allocated: facts.allocated,
        };
        self.parents = std::iter::once(below).chain(facts.parents.iter().cloned()).collect();
        self.chain = self.parents.iter().map(|parent| parent.name.clone()).collect();
        self.troubles.extend(facts.troubles.iter().cloned());
    }

    /// Adds a detail, unless its value is empty.
    pub(crate) fn detail(&mut self, name: &str, value: impl Into<String>) {
        let value = value.into();
        if !value.is_empty() {
            self.details.push((name.into(), value));
        }
    }
}

/// A disk below another one.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct Parent {
    /// Its file, as the disk above it says.
    pub name: String,
    /// Format and layout.
    pub shape: Shape,
    /// The format's own name for this kind of image.
    pub variant: String,
    /// Guest-visible size in bytes.
    pub virtual_size: u64,
    /// Length of its files in bytes.
    pub file_size: u64,
    /// Bytes that those take on their file system.
    pub allocated: u64,
}

/// A state of the disk that is kept inside its image.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct Snapshot {
    /// Its number or other short name, unique in the image.
    pub id: String,
    /// The name that a person gave it.
    pub name: String,
    /// Size of the disk then, in bytes.
    pub virtual_size: u64,
    /// When it was made, in seconds since 1970.
    pub time: u64,
    /// Whether a running machine's memory is kept with it.
    pub has_memory: bool,
}
