//! The table of formats: adding one is adding its folder and a line here.

use std::{
    fs::File,
    path::{Path, PathBuf},
    sync::{Arc, Mutex, PoisonError},
};

use serde::Serialize;

use crate::{
    ByteSize, SECTOR,
    disk::{Disk, Extent},
    error::{Error, Result},
    output::Output,
    pipeline::Writer,
    qcow2, raw,
    shape::{Format, Layout, Shape, ShapeError, list},
    source::{Links, Storage, archive, wrapped::Wrapping},
    vdi, vhd, vhdx, vmdk,
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
        let nothing = crate::source::MemoryStorage::new("", Vec::new());
        Self::new(shape, format!("raw bytes from {kind}"), virtual_size, &nothing)
    }

    /// Adds what is known of the disk below, which the image calls `name`.
    pub(crate) fn over(&mut self, name: &str, parent: &Image) {
        let facts = &parent.facts;
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

/// What stands in the way of reading a disk whose metadata is sound.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, thiserror::Error)]
#[serde(tag = "kind", rename_all = "kebab-case")]
pub enum Trouble {
    /// Its data is encrypted.
    #[error("'{file}' is encrypted ({method}), and its key is with the host that made it")]
    Encrypted {
        /// The image.
        file: String,
        /// How.
        method: String,
    },
    /// Its last writer found it to be damaged.
    #[error("'{file}' says of itself that its tables are corrupt")]
    Corrupt {
        /// The image.
        file: String,
    },
    /// The disk below is not the one that the delta was made of.
    #[error(
        "'{file}' is a delta of a disk with {what} {wanted}, and '{parent}' has {found}: it was written or replaced since"
    )]
    WrongParent {
        /// The delta.
        file: String,
        /// The disk below.
        parent: String,
        /// What tells them apart: "CID", "UUID".
        what: String,
        /// What the delta says.
        wanted: String,
        /// What was found.
        found: String,
    },
}

/// An opened image.
#[derive(Clone)]
pub struct Image {
    /// Its bytes. Where there is trouble, every read is an error that tells it.
    pub disk: Arc<dyn Disk>,
    /// What its metadata says.
    pub facts: Facts,
    /// The files that it consists of beside the one that was opened: extents, external data, and the disks below.
    pub files: Vec<Arc<dyn Storage>>,
}

impl Image {
    /// An image in one file.
    pub(crate) fn new(disk: Arc<dyn Disk>, facts: Facts) -> Self {
        Self { disk, facts, files: Vec::new() }
    }
}

/// A disk that cannot be read, and why.
struct Refused {
    size: u64,
    trouble: Trouble,
}

impl Disk for Refused {
    fn size(&self) -> u64 {
        self.size
    }

    fn read_at(&self, _: u64, _: &mut [u8]) -> Result<()> {
        Err(Error::Trouble(self.trouble.clone()))
    }

    fn extent_at(&self, _: u64) -> Result<Extent> {
        Err(Error::Trouble(self.trouble.clone()))
    }

    fn check_unchanged(&self) -> Result<()> {
        Ok(())
    }
}

/// How stored pieces of a new image are compressed.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Squeeze {
    /// Deflate, which every host reads.
    Deflate,
    /// zstd: faster and smaller, for newer hosts.
    Zstd,
}

/// An image to be made.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct NewImage {
    /// Format and layout.
    pub shape: Shape,
    /// Size of the disk in bytes; `None` when it shows only at the end: see [`is_open_ended`].
    pub size: Option<u64>,
    /// Compress what is stored (qcow2).
    pub squeeze: Option<Squeeze>,
    /// Bytes of a cluster (qcow2).
    pub cluster: Option<u64>,
    /// Compress the whole file (raw).
    pub wrapping: Option<Wrapping>,
}

impl NewImage {
    /// A disk of `size` bytes in `shape`, without anything special.
    pub fn new(shape: Shape, size: u64) -> Self {
        Self { shape, size: Some(size), squeeze: None, cluster: None, wrapping: None }
    }
}

/// A format: how to recognise, open and create it.
struct Entry {
    format: Format,
    /// Whether a file with this start and end is of this format.
    probe: fn(&Probe<'_>) -> bool,
    open: Open,
    /// Layouts that can be written before the size is known.
    open_ended: &'static [Layout],
    /// The largest disk in bytes.
    most: u64,
    create: Create,
}

/// What recognition looks at.
struct Probe<'a> {
    /// The first 8 KiB, or less.
    head: &'a [u8],
    /// The last sector.
    tail: &'a [u8],
}

/// Opens an image of the format.
type Open = fn(Arc<dyn Storage>, &Opener) -> Result<Image>;

/// Makes a writer.
type Create = fn(Output, &NewImage) -> Result<Box<dyn Writer>>;

static FORMATS: [Entry; 6] = [
    Entry {
        format: Format::Qcow2,
        probe: |probe| qcow2::probe(probe.head),
        open: qcow2::open,
        open_ended: &[Layout::Thin],
        most: qcow2::MAX_SIZE,
        create: qcow2::create,
    },
    Entry {
        format: Format::Vmdk,
        probe: |probe| vmdk::probe(probe.head),
        open: vmdk::open,
        open_ended: &[Layout::Stream],
        most: vmdk::MAX_SIZE,
        create: vmdk::create,
    },
    Entry {
        format: Format::Vhdx,
        probe: |probe| vhdx::probe(probe.head),
        open: vhdx::open,
        open_ended: &[Layout::Thin],
        most: vhdx::MAX_SIZE,
        create: vhdx::create,
    },
    Entry {
        format: Format::Vdi,
        probe: |probe| vdi::probe(probe.head),
        open: vdi::open,
        open_ended: &[],
        most: vdi::MAX_SIZE,
        create: vdi::create,
    },
    // A fixed disk has nothing but its footer to show, and a dynamic one whose end is damaged nothing but its copy.
    Entry {
        format: Format::Vhd,
        probe: |probe| probe.head.starts_with(&vhd::COOKIE) || probe.tail.starts_with(&vhd::COOKIE),
        open: vhd::open,
        open_ended: &[Layout::Thin],
        most: vhd::MAX_SIZE,
        create: vhd::create,
    },
    // Last: anything can be raw, and only what looks like a disk is taken for one.
    Entry {
        format: Format::Raw,
        probe: |probe| raw::probe(probe.head),
        open: raw::open,
        open_ended: &[Layout::Thin],
        most: u64::MAX,
        create: raw::create,
    },
];

/// The line of `format`.
fn entry(format: Format) -> &'static Entry {
    // The table names every format once, raw last: a test holds it to that.
    FORMATS.iter().find(|entry| entry.format == format).unwrap_or(&FORMATS[FORMATS.len() - 1])
}

/// Bytes from the start of a file that recognition looks at.
pub const HEAD: u64 = 8192;

/// The shape for a result named `path`: `asked` when given, else told by the ending.
///
/// # Errors
/// [`ShapeError::NotInName`].
pub fn shape_for(path: &Path, asked: Option<Shape>) -> Result<Shape, ShapeError> {
    let extension = path.extension().and_then(|e| e.to_str()).and_then(Format::from_extension);
    match (asked, extension) {
        (Some(shape), _) => Ok(shape),
        (None, Some(format)) => Ok(Shape::new(format, format.layouts()[0])),
        (None, None) => {
            let name = path.file_name().unwrap_or(path.as_os_str()).to_string_lossy().into_owned();
            Err(ShapeError::NotInName { name })
        }
    }
}

/// The format that the content of `storage` shows; `None` when nothing is recognised.
///
/// # Errors
/// Those of reading.
pub fn detect(storage: &dyn Storage) -> Result<Option<Format>> {
    let head = head(storage)?;
    let last = storage.len().min(SECTOR);
    let tail = crate::source::read_vec(storage, storage.len() - last, last as usize, "its end")?;
    let probe = Probe { head: &head, tail: &tail };
    if let Some(entry) = FORMATS.iter().find(|entry| (entry.probe)(&probe)) {
        return Ok(Some(entry.format));
    }
    // Nothing in the bytes: an empty disk, say. The name's word is taken for raw only.
    Ok(extension_of(storage.name()).filter(|format| *format == Format::Raw))
}

/// The format of a stream that starts with `head` ([`HEAD`] bytes, or all) and is called `name`; a name tells what is raw,
/// and what is known by its end alone.
pub fn detect_stream(head: &[u8], name: &str) -> Option<Format> {
    let extension = extension_of(name);
    let found = FORMATS.iter().find(|entry| (entry.probe)(&Probe { head, tail: &[] })).map(|entry| entry.format);
    match (found, extension) {
        (Some(Format::Raw) | None, Some(Format::Vhd)) => Some(Format::Vhd),
        (None, Some(Format::Raw)) => Some(Format::Raw),
        (found, _) => found,
    }
}

/// Whether the last sector of a file is the footer of a VHD.
pub fn is_footer(tail: &[u8]) -> bool {
    tail.starts_with(&vhd::COOKIE)
}

fn head(storage: &dyn Storage) -> Result<Vec<u8>> {
    crate::source::read_vec(storage, 0, storage.len().min(HEAD) as usize, "its start")
}

/// The longest chain that is followed.
const MAX_CHAIN: usize = 64;

/// Opens images, and the disks that they are deltas of.
#[derive(Clone, Default)]
pub struct Opener {
    links: Links,
    snapshot: Option<String>,
    /// The image that is being opened is called a raw disk, and its format was guessed.
    named_raw: bool,
    /// What is being opened: each a delta of the next.
    chain: Vec<PathBuf>,
    /// What was opened beside the first file.
    files: Arc<Mutex<Vec<Arc<dyn Storage>>>>,
}

impl Opener {
    /// An opener that follows the names in images as far as `links` allows.
    pub fn new(links: Links) -> Self {
        Self { links, ..Self::default() }
    }

    /// Opens the state that the image keeps under this name or number, not the current one.
    #[must_use]
    pub fn at_snapshot(mut self, snapshot: Option<String>) -> Self {
        self.snapshot = snapshot;
        self
    }

    /// The snapshot that is asked for, in the image that is being opened.
    pub(crate) fn snapshot(&self) -> Option<&str> {
        self.snapshot.as_deref()
    }

    /// Opens the image in `storage`: as `declared` when given (what is declared raw is raw, whatever it starts with),
    /// else by its content.
    ///
    /// # Errors
    /// [`Error::NotAnImage`] when nothing is recognised; those of the format, also of the disks below.
    pub fn open(&self, storage: Arc<dyn Storage>, declared: Option<Format>) -> Result<Image> {
        let path = storage.name().to_string();
        let found = match declared {
            Some(format) => Some(format),
            None => detect(storage.as_ref())?,
        };
        let Some(format) = found else {
            return Err(Error::NotAnImage { path, what: describe(storage.as_ref())? });
        };
        if self.snapshot.is_some() && format != Format::Qcow2 {
            let what = format!("{format} keeps no snapshots inside, which only qcow2 does");
            return Err(Error::Unsupported { path, what });
        }
        // A guest writes what it likes to the start of its disk: what is called a raw disk and only looks like something
        // else does not get other files read.
        let named_raw = declared.is_none() && extension_of(&path) == Some(Format::Raw) && format != Format::Raw;
        let mut inner = Self { named_raw, ..self.clone() };
        inner.chain.push(place_of(storage.as_ref()));
        let mut image = (entry(format).open)(storage, &inner)?;
        if self.chain.is_empty() {
            image.files = std::mem::take(&mut self.files.lock().unwrap_or_else(PoisonError::into_inner));
        }
        if let Some(trouble) = image.facts.troubles.first() {
            image.disk = Arc::new(Refused { size: image.facts.virtual_size, trouble: trouble.clone() });
        }
        Ok(image)
    }

    /// Opens a file that the image in `child` names and that is no image of its own.
    ///
    /// # Errors
    /// Those of [`Storage::sibling`].
    pub(crate) fn sibling(&self, child: &dyn Storage, name: &str) -> Result<Arc<dyn Storage>> {
        if self.named_raw {
            let (path, name) = (child.name().into(), name.into());
            return Err(Error::GuessedName { path, name });
        }
        let storage = child.sibling(name, self.links)?;
        self.files.lock().unwrap_or_else(PoisonError::into_inner).push(storage.clone());
        Ok(storage)
    }

    /// Opens the disk that the image in `child` is a delta of, by the first of `hints` that leads somewhere: where the disk
    /// was when the delta was made. Disks are moved with their folder, so the last part of each is looked for beside
    /// the image too; whoever calls this checks that it is the right one. Returns the name by which it was found.
    ///
    /// # Errors
    /// Of the first hint, when none leads anywhere; those of [`Self::open_parent`].
    pub(crate) fn open_parent_hinted(&self, child: &dyn Storage, hints: &[String]) -> Result<(String, Image)> {
        let mut first = None;
        let beside = hints.iter().map(|hint| last_part(hint));
        for name in hints.iter().map(String::as_str).chain(beside) {
            match self.open_parent(child, name, None) {
                Ok(image) => return Ok((name.into(), image)),
                Err(error) if is_nowhere(&error) => drop(first.get_or_insert(error)),
                Err(error) => return Err(error),
            }
        }
        let nothing = || Error::damaged(child.name(), None, "it is a delta of another disk, and does not say of which");
        Err(first.unwrap_or_else(nothing))
    }

    /// Opens the disk called `name` that the image in `child` is a delta of.
    ///
    /// # Errors
    /// [`Error::Damaged`] for a chain that comes back to itself or is longer than 64; those of [`Self::open`].
    pub(crate) fn open_parent(&self, child: &dyn Storage, name: &str, declared: Option<Format>) -> Result<Image> {
        let parent = self.sibling(child, name)?;
        let place = place_of(parent.as_ref());
        if self.chain.contains(&place) {
            let what = format!("its chain of deltas comes back to '{}'", parent.name());
            return Err(Error::damaged(child.name(), None, what));
        }
        if self.chain.len() >= MAX_CHAIN {
            return Err(Error::damaged(child.name(), None, format!("its chain of deltas is longer than {MAX_CHAIN}")));
        }
        Self { snapshot: None, ..self.clone() }.open(parent, declared)
    }
}

/// Whether a name led to nothing that may be opened.
fn is_nowhere(error: &Error) -> bool {
    match error {
        Error::UnsafeName { .. } | Error::NoMember { .. } => true,
        Error::Io { source, .. } => source.kind() == std::io::ErrorKind::NotFound,
        _ => false,
    }
}

/// The part of a name behind its last folder, in either kind of path.
fn last_part(name: &str) -> &str {
    name.rsplit(['/', '\\']).next().unwrap_or(name)
}

/// The format that a name's ending stands for.
fn extension_of(name: &str) -> Option<Format> {
    Path::new(name).extension().and_then(|e| e.to_str()).and_then(Format::from_extension)
}

/// Where a file lies, whatever its name.
fn place_of(storage: &dyn Storage) -> PathBuf {
    PathBuf::from(storage.name()).canonicalize().unwrap_or_else(|_| storage.name().into())
}

/// Opens the image in `storage`, following no name that leads out of its folder: see [`Opener::open`].
///
/// # Errors
/// Those of [`Opener::open`].
pub fn open(storage: Arc<dyn Storage>, declared: Option<Format>) -> Result<Image> {
    Opener::default().open(storage, declared)
}

/// What a file that is no image looks like, as the end of a sentence.
fn describe(storage: &dyn Storage) -> Result<String> {
    let head = head(storage)?;
    if head.is_empty() {
        return Ok("it is empty".into());
    }
    if archive::is_archive(storage)? {
        return Ok("it is an archive; name the member behind its path, as in archive.tar/disk.vmdk".into());
    }
    if let Some(kind) = Wrapping::detect(&head) {
        return Ok(format!("it is compressed with {}; `reformis recast` unpacks it", kind.name()));
    }
    let text = head.iter().all(|b| matches!(b, b'\t' | b'\n' | b'\r' | 0x20..=0x7e | 0x80..));
    let what = if text { "it holds text" } else { "its first bytes match no format" };
    Ok(what.into())
}

/// Makes a writer for a disk of `size` bytes in `file`, which is empty and called `name` in messages: see [`create_in`].
///
/// # Errors
/// Those of [`create_in`].
pub fn create(file: File, name: String, shape: Shape, size: u64) -> Result<Box<dyn Writer>> {
    create_in(Output::file(file, name), &NewImage::new(shape, size))
}

/// Makes a writer that fills `output`.
///
/// # Errors
/// [`Error::Unwritable`] for a size beyond the format's limit, for what the shape does not offer, and for a pipe where
/// the shape is not written in one direction; no room for a full layout.
pub fn create_in(output: Output, image: &NewImage) -> Result<Box<dyn Writer>> {
    let shape = image.shape;
    let refuse = |what: String| Err(Error::Unwritable { path: output.name().into(), what });
    if let Some(size) = image.size {
        check_size(output.name(), shape.format, size)?;
    } else if !is_open_ended(shape) {
        return refuse(format!("the size of the disk has to be known first for {shape}"));
    }
    if output.is_pipe() && !is_one_way(shape) {
        let shapes: Vec<_> = Shape::all().into_iter().filter(|&shape| is_one_way(shape)).collect();
        return refuse(format!("{shape} is not written in one direction; a pipe takes {}", list(&shapes)));
    }
    if (image.squeeze.is_some() || image.cluster.is_some()) && shape.format != Format::Qcow2 {
        return refuse(format!("{shape} has no choice of compression and cluster size, which qcow2 has"));
    }
    if image.wrapping.is_some() && shape != Shape::new(Format::Raw, Layout::Thin) {
        return refuse(format!("only raw bytes are compressed as a whole, not {shape}"));
    }
    (entry(shape.format).create)(output, image)
}

/// Whether `shape` can be written before the size of the disk is known.
pub fn is_open_ended(shape: Shape) -> bool {
    entry(shape.format).open_ended.contains(&shape.layout)
}

/// Whether `shape` can be written into a pipe before the size of the disk is known.
pub fn is_open_ended_pipe(shape: Shape) -> bool {
    // The header of a stream comes first, and says the size.
    shape == Shape::new(Format::Raw, Layout::Thin)
}

/// Whether `shape` can be written into a pipe.
pub fn is_one_way(shape: Shape) -> bool {
    shape == Shape::new(Format::Raw, Layout::Thin) || shape == Shape::new(Format::Vmdk, Layout::Stream)
}

/// Fails for a disk that `format` cannot hold, and names those that can.
///
/// # Errors
/// [`Error::Unwritable`].
pub fn check_size(name: &str, format: Format, size: u64) -> Result<()> {
    let most = entry(format).most;
    if size <= most {
        return Ok(());
    }
    let fit: Vec<_> = FORMATS.iter().filter(|entry| entry.most >= size).map(|entry| entry.format.name()).collect();
    let what = format!(
        "a disk of {} is more than the {} that {format} holds; it fits in {}",
        ByteSize(size),
        ByteSize(most),
        fit.join(", ")
    );
    Err(Error::Unwritable { path: name.into(), what })
}

/// The size that a disk of `size` bytes has in `format`: every format but raw counts in sectors.
pub fn stored_size(format: Format, size: u64) -> u64 {
    if format == Format::Raw { size } else { size.next_multiple_of(crate::SECTOR) }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_table_names_every_format_once_and_raw_last() {
        assert!(Format::ALL.into_iter().all(|format| entry(format).format == format));
        assert_eq!(FORMATS.len(), Format::ALL.len());
        assert_eq!(FORMATS.last().map(|entry| entry.format), Some(Format::Raw));
    }
}
