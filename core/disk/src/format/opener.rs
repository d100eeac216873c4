//! Opening images, and the disks that they are deltas of.

use std::{
    path::PathBuf,
    sync::{Arc, Mutex, PoisonError},
};

use super::{
    above::{Reopen, StandIn, place_of},
    head::{extension_of, head},
};
use crate::{
    container::{is_archive, packed::Wrapping},
    disk::Disk,
    error::{Error, Result, WireKind},
    image::{Image, Refused},
    shape::Format,
    source::{Links, Storage},
};

/// The longest chain that is followed.
const MAX_CHAIN: usize = 64;

/// The formats that there are, told to an opener: a format opens its parents by one, and does not know of the others.
pub(crate) trait Known: Send + Sync {
    /// The format that the content of `storage` shows; `None` when nothing is recognised.
    fn detect(&self, storage: &dyn Storage) -> Result<Option<Format>>;

    /// Opens the image in `storage` as one of `format`.
    fn open(&self, format: Format, storage: Arc<dyn Storage>, opener: &Opener) -> Result<Image>;
}

/// Opens images, and the disks that they are deltas of.
#[derive(Clone)]
pub struct Opener {
    known: &'static dyn Known,
    links: Links,
    snapshot: Option<String>,
    /// The image that is being opened is called a raw disk, and its format was guessed.
    named_raw: bool,
    /// What is being opened: each a delta of the next.
    chain: Vec<PathBuf>,
    /// Files in other folders that a delta may be of: a machine file names them.
    related: Vec<Arc<dyn Storage>>,
    /// What was opened beside the first file.
    files: Arc<Mutex<Vec<Arc<dyn Storage>>>>,
    /// What is put in the place of a disk below.
    stand_in: Option<StandIn>,
}

impl Opener {
    /// An opener of images in the formats `known`, that follows the names in them as far as `links` allows.
    pub(crate) fn of(known: &'static dyn Known, links: Links) -> Self {
        Self {
            known,
            links,
            snapshot: None,
            named_raw: false,
            chain: Vec::new(),
            related: Vec::new(),
            files: Arc::default(),
            stand_in: None,
        }
    }

    /// Puts another disk in the place of one that a delta is of.
    fn with_stand_in(mut self, stand_in: StandIn) -> Self {
        self.stand_in = Some(stand_in);
        self
    }

    /// Opens the state that the image keeps under this name or number, not the current one.
    #[must_use]
    pub fn at_snapshot(mut self, snapshot: Option<String>) -> Self {
        self.snapshot = snapshot;
        self
    }

    /// Looks for the disk below a delta among `related` too, which lie elsewhere than the delta.
    #[must_use]
    pub fn with_related(mut self, related: Vec<Arc<dyn Storage>>) -> Self {
        self.related = related;
        self
    }

    /// Files in other folders that a delta may be of.
    pub(crate) fn related(&self) -> &[Arc<dyn Storage>] {
        &self.related
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
            None if storage.is_raw() => Some(Format::Raw),
            None => self.known.detect(storage.as_ref())?,
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
        let mut image = self.known.open(format, storage.clone(), &inner)?;
        if self.chain.is_empty() {
            image.files = std::mem::take(&mut self.files.lock().unwrap_or_else(PoisonError::into_inner));
            image.opened = Some(Arc::new(Opened { opener: self.clone(), storage, format }));
        }
        if let Some(trouble) = image.facts.troubles.first() {
            image.disk = Arc::new(Refused::new(image.facts.virtual_size, trouble.clone()));
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
        let storage = child.sibling(name, self.links).or_else(|error| {
            let found = self.related.iter().find(|file| last_part(file.name()) == last_part(name));
            found.filter(|_| is_nowhere(&error)).cloned().ok_or(error)
        })?;
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
        let mut image = Self { snapshot: None, ..self.clone() }.open(parent.clone(), declared)?;
        let stand_in = self.stand_in.as_ref().and_then(|it| it.of(parent.as_ref(), image.facts.virtual_size));
        image.disk = stand_in.unwrap_or(image.disk);
        Ok(image)
    }
}

/// How an image was opened.
struct Opened {
    opener: Opener,
    storage: Arc<dyn Storage>,
    format: Format,
}

impl Reopen for Opened {
    fn with(&self, stand_in: StandIn) -> Result<Arc<dyn Disk>> {
        Ok(self.opener.clone().with_stand_in(stand_in).open(self.storage.clone(), Some(self.format))?.disk)
    }
}

/// Whether a name led to nothing that may be opened.
fn is_nowhere(error: &Error) -> bool {
    match error {
        Error::UnsafeName { .. } | Error::NoMember { .. } => true,
        Error::Io { source, .. } => source.kind() == std::io::ErrorKind::NotFound,
        Error::Wire(error) => error.kind == WireKind::Absent,
        _ => false,
    }
}

/// The part of a name behind its last folder, in either kind of path.
fn last_part(name: &str) -> &str {
    name.rsplit(['/', '\\']).next().unwrap_or(name)
}

/// What a file that is no image looks like, as the end of a sentence.
fn describe(storage: &dyn Storage) -> Result<String> {
    let head = head(storage)?;
    if head.is_empty() {
        return Ok("it is empty".into());
    }
    if is_archive(storage)? {
        return Ok("it is an archive; name the member behind its path, as in archive.tar/disk.vmdk".into());
    }
    if let Some(kind) = Wrapping::detect(&head) {
        return Ok(format!("it is compressed with {}; `reformis recast` unpacks it", kind.name()));
    }
    let text = head.iter().all(|b| matches!(b, b'\t' | b'\n' | b'\r' | 0x20..=0x7e | 0x80..));
    let what = if text { "it holds text" } else { "its first bytes match no format" };
    Ok(what.into())
}
