//! The table of formats: adding one is adding its folder and a line here.

use std::{
    fs::File,
    path::{Path, PathBuf},
    sync::Arc,
};

use serde::Serialize;

use crate::{
    SECTOR,
    disk::Disk,
    error::{Error, Result},
    pipeline::Writer,
    qcow2, raw,
    shape::{Format, Layout, Shape, ShapeError},
    source::{Links, Storage, tar, wrapped::Wrapping},
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
    /// Length of the file in bytes.
    pub file_size: u64,
    /// Bytes that the file takes on its file system.
    pub allocated: u64,
    /// The piece in which the format stores: its name there, and its bytes.
    pub unit: Option<(String, u64)>,
    /// How stored pieces are compressed.
    pub compression: Option<String>,
    /// The disks that this one is a delta of, nearest first, as the files that hold them.
    pub chain: Vec<String>,
    /// By what a delta of this disk knows that it is the right one below: changed whenever the disk is written.
    pub content_id: Option<String>,
    /// What else the metadata says, as name and value: identifiers, creator, flags.
    pub details: Vec<(String, String)>,
    /// Whether the image says that it was not closed properly by its last writer.
    pub unclean: bool,
}

/// An opened image.
#[derive(Clone)]
pub struct Image {
    /// Its bytes.
    pub disk: Arc<dyn Disk>,
    /// What its metadata says.
    pub facts: Facts,
}

/// A format: how to recognise, open and create it.
struct Entry {
    format: Format,
    /// Whether a file with this start and end is of this format.
    probe: fn(&Probe<'_>) -> bool,
    open: Open,
    /// Layouts that can be written.
    writes: &'static [Layout],
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

/// Makes a writer for a disk of the given size (bytes) in an empty file; the text names the file in messages.
type Create = fn(File, String, Layout, u64) -> Result<Box<dyn Writer>>;

const FORMATS: [Entry; 6] = [
    Entry {
        format: Format::Qcow2,
        probe: |probe| qcow2::probe(probe.head),
        open: qcow2::open,
        writes: &[Layout::Thin],
        create: qcow2::create,
    },
    Entry {
        format: Format::Vmdk,
        probe: |probe| vmdk::probe(probe.head),
        open: vmdk::open,
        writes: &[Layout::Thin, Layout::Stream],
        create: vmdk::create,
    },
    Entry {
        format: Format::Vhdx,
        probe: |probe| vhdx::probe(probe.head),
        open: vhdx::open,
        writes: &[Layout::Thin, Layout::Full],
        create: vhdx::create,
    },
    Entry {
        format: Format::Vdi,
        probe: |probe| vdi::probe(probe.head),
        open: vdi::open,
        writes: &[Layout::Thin, Layout::Full],
        create: vdi::create,
    },
    // A fixed disk has nothing but its footer to show, and a dynamic one whose end is damaged nothing but its copy.
    Entry {
        format: Format::Vhd,
        probe: |probe| probe.head.starts_with(&vhd::COOKIE) || probe.tail.starts_with(&vhd::COOKIE),
        open: vhd::open,
        writes: &[Layout::Thin, Layout::Full],
        create: vhd::create,
    },
    // Last: anything can be raw, and only what looks like a disk is taken for one.
    Entry {
        format: Format::Raw,
        probe: |probe| raw::probe(probe.head),
        open: raw::open,
        writes: &[Layout::Thin, Layout::Full],
        create: raw::create,
    },
];

/// Bytes from the start of a file that recognition looks at.
const HEAD: u64 = 8192;

/// Whether this version writes `shape`.
pub fn writes(shape: Shape) -> bool {
    FORMATS.iter().any(|entry| entry.format == shape.format && entry.writes.contains(&shape.layout))
}

/// The shapes that this version writes.
pub fn written() -> Vec<Shape> {
    Shape::all().into_iter().filter(|&shape| writes(shape)).collect()
}

/// The shape for a result named `path`: `asked` when given, else told by the ending.
///
/// # Errors
/// [`ShapeError::NotInName`], or [`ShapeError::NotWritten`].
pub fn shape_for(path: &Path, asked: Option<Shape>) -> Result<Shape, ShapeError> {
    let extension = path.extension().and_then(|e| e.to_str()).and_then(Format::from_extension);
    let shape = match (asked, extension) {
        (Some(shape), _) => shape,
        (None, Some(format)) => Shape::new(format, format.layouts()[0]),
        (None, None) => {
            let name = path.file_name().unwrap_or(path.as_os_str()).to_string_lossy().into_owned();
            return Err(ShapeError::NotInName { name, written: written() });
        }
    };
    if writes(shape) { Ok(shape) } else { Err(ShapeError::NotWritten { shape, written: written() }) }
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
    let extension = Path::new(storage.name()).extension().and_then(|e| e.to_str());
    Ok(extension.and_then(Format::from_extension).filter(|format| *format == Format::Raw))
}

fn head(storage: &dyn Storage) -> Result<Vec<u8>> {
    crate::source::read_vec(storage, 0, storage.len().min(HEAD) as usize, "its start")
}

/// The longest chain that is followed.
const MAX_CHAIN: usize = 64;

/// Opens images, and the disks that they are deltas of.
#[derive(Debug, Clone, Default)]
pub struct Opener {
    links: Links,
    /// What is being opened: each a delta of the next.
    chain: Vec<PathBuf>,
}

impl Opener {
    /// An opener that follows the names in images as far as `links` allows.
    pub fn new(links: Links) -> Self {
        Self { links, chain: Vec::new() }
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
        // The table names every format once.
        let entry = FORMATS.iter().find(|entry| entry.format == format);
        let entry = entry.ok_or_else(|| Error::NotAnImage { path, what: format!("{format} is not in the table") })?;
        let mut inner = self.clone();
        inner.chain.push(PathBuf::from(storage.name()).canonicalize().unwrap_or_else(|_| storage.name().into()));
        (entry.open)(storage, &inner)
    }

    /// Opens a file that the image in `child` names and that is no image of its own.
    ///
    /// # Errors
    /// Those of [`Storage::sibling`].
    pub(crate) fn sibling(&self, child: &dyn Storage, name: &str) -> Result<Arc<dyn Storage>> {
        child.sibling(name, self.links)
    }

    /// Opens the disk called `name` that the image in `child` is a delta of.
    ///
    /// # Errors
    /// [`Error::Damaged`] for a chain that comes back to itself or is longer than 64; those of [`Self::open`].
    pub(crate) fn open_parent(&self, child: &dyn Storage, name: &str, declared: Option<Format>) -> Result<Image> {
        let parent = child.sibling(name, self.links)?;
        let place = PathBuf::from(parent.name()).canonicalize().unwrap_or_else(|_| parent.name().into());
        if self.chain.contains(&place) {
            let what = format!("its chain of deltas comes back to '{}'", parent.name());
            return Err(Error::damaged(child.name(), None, what));
        }
        if self.chain.len() >= MAX_CHAIN {
            return Err(Error::damaged(child.name(), None, format!("its chain of deltas is longer than {MAX_CHAIN}")));
        }
        self.open(parent, declared)
    }
}

/// Opens the image in `storage`, following no name that leads out of its folder: see [`Opener::open`].
///
/// # Errors
/// Those of [`Opener::open`].
pub fn open(storage: Arc<dyn Storage>, declared: Option<Format>) -> Result<Image> {
    Opener::default().open(storage, declared)
}

/// The chain of a delta of the disk called `name`, whose facts are `parent`.
pub(crate) fn chain_over(name: &str, parent: &Facts) -> Vec<String> {
    std::iter::once(name.to_string()).chain(parent.chain.iter().cloned()).collect()
}

/// What a file that is no image looks like, as the end of a sentence.
fn describe(storage: &dyn Storage) -> Result<String> {
    let head = head(storage)?;
    if head.is_empty() {
        return Ok("it is empty".into());
    }
    if tar::is_tar(storage)? {
        return Ok("it is a tar archive; name the member behind its path, as in archive.tar/disk.vmdk".into());
    }
    if let Some(kind) = Wrapping::detect(&head) {
        return Ok(format!("it is compressed with {}; `reformis recast` unpacks it", kind.name()));
    }
    if head.starts_with(b"PK\x03\x04") {
        return Ok("it is a zip archive, which is not read yet".into());
    }
    let text = head.iter().all(|b| matches!(b, b'\t' | b'\n' | b'\r' | 0x20..=0x7e | 0x80..));
    let what = if text { "it holds text" } else { "its first bytes match no format" };
    Ok(what.into())
}

/// Makes a writer for a disk of `size` bytes in `file`, which is empty and called `name` in messages.
///
/// # Errors
/// [`Error::Shape`] for a shape that is not written; [`Error::Unsupported`] for a size beyond the format's limit.
pub fn create(file: File, name: String, shape: Shape, size: u64) -> Result<Box<dyn Writer>> {
    let entry = FORMATS.iter().find(|entry| entry.format == shape.format && entry.writes.contains(&shape.layout));
    match entry {
        Some(entry) => (entry.create)(file, name, shape.layout, size),
        None => Err(ShapeError::NotWritten { shape, written: written() }.into()),
    }
}

/// The size that a disk of `size` bytes has in `format`: every format but raw counts in sectors.
pub fn stored_size(format: Format, size: u64) -> u64 {
    if format == Format::Raw { size } else { size.next_multiple_of(crate::SECTOR) }
}
