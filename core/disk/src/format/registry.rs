//! The table of formats: adding one is adding its folder and a line here.

use std::{fs::File, path::Path, sync::Arc};

use super::{
    head::{extension_of, head},
    new::NewImage,
    opener::{Known, Opener},
    qcow2, raw, vdi, vhd, vhdx, vmdk,
};
use crate::{
    ByteSize, SECTOR,
    copy::{output::Output, writer::Writer},
    error::{Error, Result},
    image::Image,
    shape::{Format, Layout, Shape, ShapeError, list},
    source::{Links, Storage, read_vec},
};

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
#[expect(clippy::indexing_slicing, reason = "the tables of formats and their layouts are ours and never empty")]
fn entry(format: Format) -> &'static Entry {
    // The table names every format once, raw last: a test holds it to that.
    FORMATS.iter().find(|entry| entry.format == format).unwrap_or(&FORMATS[FORMATS.len() - 1])
}

/// The shape for a result named `path`: `asked` when given, else told by the ending.
///
/// # Errors
/// [`ShapeError::NotInName`].
#[expect(clippy::indexing_slicing, reason = "the tables of formats and their layouts are ours and never empty")]
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
    let tail = read_vec(storage, storage.len() - last, last as usize, "its end")?;
    let probe = Probe { head: &head, tail: &tail };
    if let Some(entry) = FORMATS.iter().find(|entry| (entry.probe)(&probe)) {
        return Ok(Some(entry.format));
    }
    // Nothing in the bytes: an empty disk, say. The name's word is taken for raw only.
    Ok(extension_of(storage.name()).filter(|format| *format == Format::Raw))
}

/// The format of a stream that starts with `head` ([`super::HEAD`] bytes, or all) and is called `name`; a name tells what is raw,
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

/// The table, as an opener asks it.
struct Table;

impl Known for Table {
    fn detect(&self, storage: &dyn Storage) -> Result<Option<Format>> {
        detect(storage)
    }

    fn open(&self, format: Format, storage: Arc<dyn Storage>, opener: &Opener) -> Result<Image> {
        (entry(format).open)(storage, opener)
    }
}

/// An opener of images in all formats, that follows the names in them as far as `links` allows.
pub fn opener(links: Links) -> Opener {
    Opener::of(&Table, links)
}

/// Opens the image in `storage`, following no name that leads out of its folder: see [`Opener::open`].
///
/// # Errors
/// Those of [`Opener::open`].
pub fn open(storage: Arc<dyn Storage>, declared: Option<Format>) -> Result<Image> {
    opener(Links::default()).open(storage, declared)
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
    [(Format::Raw, Layout::Thin), (Format::Vmdk, Layout::Stream), (Format::Vhd, Layout::Full)]
        .into_iter()
        .any(|(format, layout)| shape == Shape::new(format, layout))
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
