//! A guest's files as the guest sees them: one tree of several file systems, with links that are followed inside it.

mod change;
mod open;
mod spot;
mod start;

use std::{
    io::{self, Write},
    ops::ControlFlow,
    sync::{Arc, Mutex, PoisonError},
};

use reformis_disk::budget::Budget;

use crate::{
    bench::Device,
    error::{Error, Result},
    fs::{
        Shared,
        node::{Entry, Kind, Node, Stat, Stream},
        registry,
    },
    volume::probe,
};

pub(crate) use open::OpenFile;
pub use spot::Spot;
pub(crate) use start::Start;

/// A name in a folder, as bytes.
pub(crate) type Name = Vec<u8>;

/// Links that are followed for one path.
const MAX_LINKS: usize = 40;
/// The longest text that is read, in bytes.
const MAX_TEXT: u64 = 16 << 20;

/// Memory for an entry of a folder that is listed, beside its name.
const ENTRY: u64 = 256;

/// A file system and where it is mounted.
pub(crate) struct Mount {
    pub(crate) path: Vec<Name>,
    pub(crate) fs: Shared,
    /// Where it begins here, where that is not the file system's own first folder.
    pub(crate) start: Option<Start>,
    /// The volume that holds it, by its place among those that were found.
    pub(crate) volume: usize,
}

/// The label of something that is made.
pub(crate) enum Label {
    /// This one, as it is stored.
    Is(Vec<u8>),
    /// None.
    None,
    /// That cannot be told.
    Unknown,
}

/// What says which SELinux label something gets.
pub(crate) trait Labels: Send {
    /// The label of what is made at `path`.
    fn label(&self, path: &[u8], kind: Kind) -> Label;
}

/// Something in a file system, found once.
#[derive(Clone)]
struct Place {
    fs: Shared,
    node: Node,
}

/// Where a path led.
struct Found {
    /// Without links, names as they are stored.
    path: Vec<Name>,
    /// What each part of it is, the first folder before all; nothing where nothing is.
    trail: Vec<Option<Place>>,
}

impl Found {
    /// What is there.
    fn place(&self) -> Option<Place> {
        self.trail.last().cloned().flatten()
    }

    /// The same, where there has to be something.
    fn must_be(&self) -> Result<Place> {
        self.place().ok_or_else(|| Error::NotFound { path: shown(&self.path) })
    }

    fn stat(&self) -> Result<Option<Stat>> {
        self.trail.last().and_then(Option::as_ref).map(|place| place.fs.lock().stat(place.node)).transpose()
    }

    /// The folder that it is in, which has to be there, and its name in it; `None` for the first folder.
    fn in_folder(&self) -> Result<Option<(Place, &Name)>> {
        let Some((name, path)) = self.path.split_last() else { return Ok(None) };
        let folder = self.trail.iter().rev().nth(1).and_then(Option::clone);
        Ok(Some((folder.ok_or_else(|| Error::NotFound { path: shown(path) })?, name)))
    }
}

/// A tree of files.
pub struct Tree {
    mounts: Vec<Mount>,
    /// Whether something was made in a place whose SELinux label could not be told.
    unlabelled: bool,
    /// What the guest's own policy says of labels.
    labels: Option<Box<dyn Labels>>,
    budget: Arc<Budget>,
    /// What could not be read where something else than absence was the reason, since that was last asked: paths and errors.
    troubles: Mutex<Vec<(String, Error)>>,
}

/// Troubles that are kept; more say nothing new.
const MAX_TROUBLES: usize = 32;

/// The names in a path, `.` and `..` too; what is empty left out.
fn steps(path: &[u8]) -> impl DoubleEndedIterator<Item = Name> {
    path.split(|byte| *byte == b'/').filter(|name| !name.is_empty()).map(<[u8]>::to_vec)
}

/// The same without `.`.
fn names(path: &[u8]) -> impl DoubleEndedIterator<Item = Name> {
    steps(path).filter(|name| name != b".")
}

/// A path as text.
fn shown(path: &[Name]) -> String {
    let parts: Vec<_> = path.iter().map(|name| String::from_utf8_lossy(name)).collect();
    format!("/{}", parts.join("/"))
}

/// An error of a file system, which knows no paths, about what is at `path`.
fn named(path: &[Name]) -> impl Fn(Error) -> Error {
    let path = shown(path);
    move |error| {
        let path = path.clone();
        match error {
            Error::TooLarge { size, most, .. } => Error::TooLarge { path, size, most },
            Error::WrongKind { wanted, .. } => Error::WrongKind { path, wanted },
            Error::NotFound { .. } => Error::NotFound { path },
            Error::Exists { .. } => Error::Exists { path },
            other => other,
        }
    }
}

impl Tree {
    /// A tree whose root is `fs`, on the volume of number `volume`.
    pub(crate) fn new(fs: Shared, volume: usize) -> Self {
        let budget = fs.lock().budget().clone();
        let mounts = vec![Mount { path: Vec::new(), fs, start: None, volume }];
        Self { mounts, unlabelled: false, labels: None, budget, troubles: Mutex::default() }
    }

    /// The one file system on `device`, its journal replayed as an edit of its own. Changes are made at `now`, in seconds
    /// since 1970. `None` when there is no file system that we read.
    ///
    /// # Errors
    /// Those of the file system.
    pub fn of(device: &Device, now: i64) -> Result<Option<Self>> {
        let Some(kind) = probe::probe(device, 0, device.size())? else { return Ok(None) };
        Ok(registry::open(device, kind, now)?.map(|opened| Self::new(opened.fs, 0)))
    }

    /// Lets what is made from now on get the labels that a policy has for it.
    pub(crate) fn set_labels(&mut self, labels: impl Labels + 'static) {
        self.labels = Some(Box::new(labels));
    }

    /// Mounts `fs` at `path`; it begins there at `start`, where that is not its own first folder.
    pub(crate) fn mount(&mut self, path: &str, fs: Shared, start: Option<Start>, volume: usize) {
        self.mounts.push(Mount { path: names(path.as_bytes()).collect(), fs, start, volume });
    }

    /// Memory for what is collected from it.
    pub(crate) fn budget(&self) -> &Arc<Budget> {
        &self.budget
    }

    /// What `outcome` holds; `None` when something is not there. Any other error is noted: whoever takes `None` for absence can
    /// ask afterwards whether it was.
    pub(crate) fn noted<T>(&self, path: impl AsRef<[u8]>, outcome: Result<T>) -> Option<T> {
        match outcome {
            Ok(value) => Some(value),
            Err(error) if error.is_absence() => None,
            Err(error) => {
                let mut troubles = self.troubles.lock().unwrap_or_else(PoisonError::into_inner);
                if troubles.len() < MAX_TROUBLES {
                    troubles.push((String::from_utf8_lossy(path.as_ref()).into_owned(), error));
                }
                None
            }
        }
    }

    /// What could not be read since this was last asked.
    pub(crate) fn take_troubles(&self) -> Vec<(String, Error)> {
        std::mem::take(&mut *self.troubles.lock().unwrap_or_else(PoisonError::into_inner))
    }

    /// The bytes of the file at `path`; `None` when it is not there.
    pub(crate) fn some(&self, path: impl AsRef<[u8]>, most: u64) -> Option<Vec<u8>> {
        self.noted(path.as_ref(), self.read(path.as_ref(), most))
    }

    /// The volumes that are mounted, and where.
    pub fn mounted(&self) -> impl Iterator<Item = (usize, String)> {
        self.mounts.iter().map(|mount| (mount.volume, shown(&mount.path)))
    }

    /// Whether something was made whose SELinux label is not known.
    pub fn wants_relabel(&self) -> bool {
        self.unlabelled
    }

    /// Reads again what is kept in memory, after an edit was taken back.
    pub(crate) fn reload(&mut self) -> Result<()> {
        self.mounts.iter().try_for_each(|mount| mount.fs.lock().reload())
    }

    /// The mount that `path` lies in, by its place.
    fn mount_of(&self, path: &[Name]) -> usize {
        let fits = |mount: &&Mount| path.starts_with(&mount.path);
        let deepest = self.mounts.iter().filter(fits).map(|mount| mount.path.len()).max().unwrap_or(0);
        // The last one mounted at a place hides those below it.
        self.mounts.iter().rposition(|mount| mount.path.len() == deepest && path.starts_with(&mount.path)).unwrap_or(0)
    }

    /// Where what is mounted at this very path begins.
    fn mounted_at(&self, path: &[Name]) -> Option<Place> {
        let mount = self.mounts.iter().rev().find(|mount| mount.path == path)?;
        let fs = mount.fs.clone();
        let node = mount.start.as_ref().map_or_else(|| fs.lock().root(), |start| start.node);
        Some(Place { fs, node })
    }

    /// Names in a folder, in the order in which they lie; `path` is only told.
    fn names_in(&self, folder: &Place, path: &[Name]) -> Result<Vec<Name>> {
        let mut hold = self.budget.hold();
        let mut names = Vec::new();
        let mut visit = |entry: Entry| {
            self.budget.spend(1)?;
            hold.grow(entry.name.len() as u64 + ENTRY)?;
            names.push(entry.name);
            Ok(ControlFlow::Continue(()))
        };
        folder.fs.lock().read_dir(folder.node, &mut visit).map_err(named(path))?;
        Ok(names)
    }

    /// The name that a first step means: a drive's letter in either case is the one that is mounted.
    fn as_mounted(&self, done: &[Name], name: Name) -> Name {
        let upper = name.to_ascii_uppercase();
        let is_drive = done.is_empty() && matches!(name.as_slice(), [_, b':']);
        let is_mounted = || self.mounts.iter().any(|mount| mount.path.first() == Some(&upper));
        if is_drive && is_mounted() { upper } else { name }
    }

    /// Free bytes of the volume that the first folder lies on.
    pub(crate) fn free(&self) -> Result<u64> {
        let first = self.resolve(b"", true)?.must_be()?;
        first.fs.lock().free()
    }

    /// Walks along `path`, each folder asked once, over links and mounts. The last name need not be there; `follow` follows a link at the end.
    fn resolve(&self, path: &[u8], follow: bool) -> Result<Found> {
        let mut todo: Vec<Name> = steps(path).rev().collect();
        let mut found = Found { path: Vec::new(), trail: vec![self.mounted_at(&[])] };
        let missing = || Error::NotFound { path: String::from_utf8_lossy(path).into() };
        let mut links = 0;
        while let Some(name) = todo.pop() {
            self.budget.spend(1)?;
            if name == b".." || name == b"." {
                // What is no folder has none above it, and is not one itself.
                if !found.path.is_empty() && found.stat()?.is_none_or(|stat| stat.kind != Kind::Folder) {
                    return Err(missing());
                }
                if name == b".." && found.path.pop().is_some() {
                    found.trail.pop();
                }
                continue;
            }
            let name = self.as_mounted(&found.path, name);
            found.path.push(name);
            if let Some(place) = self.mounted_at(&found.path) {
                found.trail.push(Some(place));
                continue;
            }
            let entry = match (found.trail.last(), found.path.last()) {
                (Some(Some(Place { fs, node })), Some(name)) => match fs.lock().lookup(*node, name) {
                    Ok(entry) => entry.map(|entry| (fs.clone(), entry)),
                    // What is no folder holds nothing.
                    Err(Error::WrongKind { .. }) => None,
                    Err(error) => return Err(error),
                },
                _ => None,
            };
            let Some((fs, Entry { name, node })) = entry else {
                found.trail.push(None);
                continue;
            };
            if let Some(last) = found.path.last_mut() {
                *last = name;
            }
            // What is on the way has to be asked what it is; the end only where links are followed.
            let is_link = (follow || !todo.is_empty()) && fs.lock().stat(node)?.kind == Kind::Link;
            if !is_link {
                found.trail.push(Some(Place { fs, node }));
                continue;
            }
            links += 1;
            if links > MAX_LINKS {
                return Err(Error::LinkLoop { path: String::from_utf8_lossy(path).into() });
            }
            let target = fs.lock().link_target(node)?;
            found.path.pop();
            if target.starts_with(b"/") {
                found.path.clear();
                found.trail.truncate(1);
            }
            todo.extend(steps(&target).rev());
        }
        Ok(found)
    }

    fn there(&self, path: &[u8], follow: bool) -> Result<(Found, Place, Stat)> {
        let found = self.resolve(path, follow)?;
        let missing = || Error::NotFound { path: String::from_utf8_lossy(path).into() };
        let place = found.place().ok_or_else(missing)?;
        let stat = place.fs.lock().stat(place.node)?;
        Ok((found, place, stat))
    }

    /// What is at `path`, behind links.
    ///
    /// # Errors
    /// [`Error::NotFound`]; those of the file system.
    pub fn stat(&self, path: impl AsRef<[u8]>) -> Result<Stat> {
        self.there(path.as_ref(), true).map(|(.., stat)| stat)
    }

    /// What is at `path`, be it a link.
    ///
    /// # Errors
    /// As [`Tree::stat`].
    pub fn stat_link(&self, path: impl AsRef<[u8]>) -> Result<Stat> {
        self.there(path.as_ref(), false).map(|(.., stat)| stat)
    }

    /// Whether something is at `path`, behind links; false also where that cannot be told, which is noted.
    pub fn exists(&self, path: impl AsRef<[u8]>) -> bool {
        self.noted(path.as_ref(), self.stat(path.as_ref())).is_some()
    }

    /// Whether a folder is at `path`.
    pub fn is_folder(&self, path: impl AsRef<[u8]>) -> bool {
        self.noted(path.as_ref(), self.stat(path.as_ref())).is_some_and(|stat| stat.kind == Kind::Folder)
    }

    /// Names in the folder at `path`, in alphabetical order, each with what it is.
    ///
    /// # Errors
    /// As [`Tree::stat`]; [`Error::WrongKind`].
    pub fn list(&self, path: impl AsRef<[u8]>) -> Result<Vec<(Vec<u8>, Stat)>> {
        let inside = self.inside(&self.spot(path, true)?)?;
        Ok(inside.into_iter().map(|(name, spot)| (name, spot.stat)).collect())
    }

    /// The names in a folder, as text, in alphabetical order; none when it is not there.
    pub(crate) fn names(&self, path: &str) -> Vec<String> {
        let listed =
            self.resolve(path.as_bytes(), true).and_then(|found| self.names_in(&found.must_be()?, &found.path));
        let mut names: Vec<String> = self
            .noted(path, listed)
            .unwrap_or_default()
            .into_iter()
            .filter_map(|name| String::from_utf8(name).ok())
            .collect();
        names.sort();
        names
    }

    /// The bytes of the file at `path`, of at most `most`.
    ///
    /// # Errors
    /// As [`Tree::stat`]; [`Error::WrongKind`]; [`Error::TooLarge`].
    pub fn read(&self, path: impl AsRef<[u8]>, most: u64) -> Result<Vec<u8>> {
        let (found, place, stat) = self.there(path.as_ref(), true)?;
        if stat.kind != Kind::File {
            return Err(Error::WrongKind { path: shown(&found.path), wanted: "file" });
        }
        // There has to be room for it beside all that is held.
        let _room = self.budget.take(stat.size.min(most))?;
        self.budget.spend(stat.size.min(most) >> 10)?;
        let content = place.fs.lock().content(place.node, most);
        content.map_err(named(&found.path))
    }

    /// The first bytes of the file at `path`, at most `len`.
    ///
    /// # Errors
    /// As [`Tree::read`].
    pub(crate) fn head(&self, path: &str, len: usize) -> Result<Vec<u8>> {
        let (_, place, _) = self.there(path.as_bytes(), true)?;
        let mut bytes = vec![0; len];
        let read = place.fs.lock().read_at(place.node, 0, &mut bytes)?;
        bytes.truncate(read);
        Ok(bytes)
    }

    /// Writes the bytes of the file at `path` into `out`.
    ///
    /// # Errors
    /// As [`Tree::read`]; what `out` says.
    pub fn copy(&self, path: impl AsRef<[u8]>, out: &mut dyn Write) -> Result<u64> {
        let path = path.as_ref();
        let mut reader = self.reader(path)?;
        let name = String::from_utf8_lossy(path);
        Ok(io::copy(&mut reader, out).map_err(reformis_disk::Error::io("writing", name, None))?)
    }

    /// Where the link at `path` leads.
    ///
    /// # Errors
    /// As [`Tree::stat`]; [`Error::WrongKind`].
    pub fn link_target(&self, path: impl AsRef<[u8]>) -> Result<Vec<u8>> {
        self.spot(path, false)?.link_target()
    }

    /// Extended attributes of what is at `path`, be it a link: names and values, as programs of the guest see them.
    ///
    /// # Errors
    /// As [`Tree::stat`].
    pub fn attributes(&self, path: impl AsRef<[u8]>) -> Result<Vec<(Vec<u8>, Vec<u8>)>> {
        self.spot(path, false)?.attributes()
    }

    /// Refuses where the volume that `path` lies on cannot be changed.
    ///
    /// # Errors
    /// [`Error::Unsupported`], with the reason.
    pub(crate) fn check_writable(&self, path: &str) -> Result<()> {
        let place = self.resolve(path.as_bytes(), true)?.must_be()?;
        place.fs.lock().check_writable()
    }

    /// Streams beside the bytes of what is at `path`, be it a link.
    ///
    /// # Errors
    /// As [`Tree::stat`].
    pub fn streams(&self, path: impl AsRef<[u8]>) -> Result<Vec<Stream>> {
        let (_, place, _) = self.there(path.as_ref(), false)?;
        place.fs.lock().streams(place.node)
    }

    /// A text; `None` when it is not there. Bytes that are no UTF-8 are taken as Latin-1, and written so again.
    pub(crate) fn text(&self, path: &str) -> Option<String> {
        let bytes = self.some(path, MAX_TEXT)?;
        Some(String::from_utf8(bytes).unwrap_or_else(|error| error.into_bytes().into_iter().map(char::from).collect()))
    }
}
