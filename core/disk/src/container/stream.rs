//! Sources that can only be read forwards: a pipe, what is compressed as a whole, and compressed members of archives.

use std::{
    io::{self, Read},
    sync::Arc,
};

use super::{
    packed::{self, Forward, Wrapping},
    tar, zip,
};
use crate::{budget::Budget, error::Result, source::Storage};

/// Where the bytes of a stream come from.
#[derive(Clone)]
enum Origin {
    /// What the caller passes in: standard input.
    Pipe,
    /// A remote that gives its bytes from the start on alone.
    Far(Arc<dyn Forwards>),
    /// A file that is unpacked.
    Wrapped(Arc<dyn Storage>),
    /// A member of a compressed tar archive.
    InTar(Arc<dyn Storage>, String),
    /// A compressed member of a zip archive.
    InZip(Arc<dyn Storage>, String),
}

/// A stream that can be begun any number of times, unless it is a pipe.
#[derive(Clone)]
pub struct Stream {
    name: String,
    origin: Origin,
    /// How it is compressed.
    kind: String,
    budget: Arc<Budget>,
}

/// A remote that gives its bytes from the start on alone, any number of times.
pub trait Forwards: Send + Sync {
    /// Its length in bytes, where that is known.
    fn len(&self) -> Option<u64>;

    /// Whether it is known to give nothing.
    fn is_empty(&self) -> bool {
        self.len() == Some(0)
    }

    /// Its bytes from the start on. Where the connection breaks, reading goes on behind what was read.
    ///
    /// # Errors
    /// [`crate::Error::Wire`].
    fn begin(&self) -> Result<Box<dyn Read + Send>>;
}

/// What looks at a stream: its bytes, and how many there will be where that is known.
pub type Visit<'a, T> = &'a mut dyn FnMut(&mut (dyn Read + Send), Option<u64>) -> Result<T>;

impl Stream {
    /// What comes from standard input, which is passed to [`Stream::visit`]; what is collected from it is counted against
    /// `budget`.
    pub fn pipe(name: impl Into<String>, budget: &Arc<Budget>) -> Self {
        Self { name: name.into(), origin: Origin::Pipe, kind: "a pipe".into(), budget: budget.clone() }
    }

    /// A remote that gives its bytes from the start on alone, called `name`.
    pub fn far(name: impl Into<String>, remote: Arc<dyn Forwards>, budget: &Arc<Budget>) -> Self {
        let kind = "a link without ranges".into();
        Self { name: name.into(), origin: Origin::Far(remote), kind, budget: budget.clone() }
    }

    /// What `storage` unpacks to.
    pub fn wrapped(storage: Arc<dyn Storage>, kind: Wrapping) -> Self {
        let (name, budget) = (storage.name().into(), storage.budget().clone());
        Self { name, origin: Origin::Wrapped(storage), kind: kind.name().into(), budget }
    }

    /// Member `member` of the tar archive that `storage` unpacks to.
    pub(super) fn in_tar(storage: Arc<dyn Storage>, kind: Wrapping, member: String) -> Self {
        let (name, budget) = (format!("{}/{member}", storage.name()), storage.budget().clone());
        Self { name, origin: Origin::InTar(storage, member), kind: kind.name().into(), budget }
    }

    /// Member `member` of the zip archive `storage`, which is compressed by `method`.
    pub(super) fn in_zip(storage: Arc<dyn Storage>, method: String, member: String) -> Self {
        let (name, budget) = (format!("{}/{member}", storage.name()), storage.budget().clone());
        Self { name, origin: Origin::InZip(storage, member), kind: format!("zip, {method}"), budget }
    }

    /// As the person would name it; a member of an archive continues the archive's path.
    pub fn name(&self) -> &str {
        &self.name
    }

    /// The same, reading `storage` in place of its own file.
    #[must_use]
    pub fn over(&self, storage: Arc<dyn Storage>) -> Self {
        let origin = match &self.origin {
            Origin::Pipe => Origin::Pipe,
            Origin::Far(remote) => Origin::Far(remote.clone()),
            Origin::Wrapped(_) => Origin::Wrapped(storage),
            Origin::InTar(_, member) => Origin::InTar(storage, member.clone()),
            Origin::InZip(_, member) => Origin::InZip(storage, member.clone()),
        };
        Self { origin, ..self.clone() }
    }

    /// What is collected from it is counted against this.
    pub fn budget(&self) -> &Arc<Budget> {
        &self.budget
    }

    /// How it is compressed, as words.
    pub fn kind(&self) -> &str {
        &self.kind
    }

    /// Whether the length that [`Stream::visit`] tells is that of what it gives.
    pub fn is_counted(&self) -> bool {
        matches!(self.origin, Origin::InTar(..) | Origin::InZip(..))
    }

    /// Whether it comes from standard input, and so only once.
    pub fn is_pipe(&self) -> bool {
        matches!(self.origin, Origin::Pipe)
    }

    /// How many bytes a remote will give, where it says so.
    pub fn visit_len(&self) -> Option<u64> {
        match &self.origin {
            Origin::Far(remote) => remote.len(),
            _ => self.storage().map(|storage| storage.len()),
        }
    }

    /// The file that is read; `None` for a pipe, and for a remote that gives its bytes from the start on alone.
    pub fn storage(&self) -> Option<&Arc<dyn Storage>> {
        match &self.origin {
            Origin::Pipe | Origin::Far(_) => None,
            Origin::Wrapped(storage) | Origin::InTar(storage, _) | Origin::InZip(storage, _) => Some(storage),
        }
    }

    /// Gives `visit` the bytes from the start on. `pipe` is what a pipe reads; `counted` is told of the packed bytes as
    /// they are read. What is compressed once more inside is unpacked too, unless `as_is`.
    ///
    /// # Errors
    /// [`crate::Error::Damaged`] and [`crate::Error::NoMember`]; those of [`Wrapping::unpack`]; those of reading and of `visit`.
    pub fn visit<T>(
        &self,
        pipe: &mut (dyn Read + Send),
        counted: &(dyn Fn(u64) + Sync),
        as_is: bool,
        visit: Visit<'_, T>,
    ) -> Result<T> {
        let mut inner = |stream: &mut (dyn Read + Send), len: Option<u64>| self.unwrap(stream, len, as_is, visit);
        match &self.origin {
            Origin::Pipe => {
                let mut counting = Counting { stream: pipe, counted };
                inner(&mut counting, None)
            }
            Origin::Far(remote) => {
                let mut bytes = remote.begin()?;
                let mut counting = Counting { stream: bytes.as_mut(), counted };
                inner(&mut counting, remote.len())
            }
            Origin::Wrapped(storage) => {
                let mut forward = Forward::new(storage.clone(), counted);
                inner(&mut forward, Some(storage.len()))
            }
            Origin::InTar(storage, member) => {
                let mut forward = Forward::new(storage.clone(), counted);
                let mut unpacked = unpacked(&mut forward, &self.name, self.budget())?;
                let mut inner = |stream: &mut (dyn Read + Send), len| inner(stream, Some(len));
                tar::visit_member(&mut unpacked, storage.name(), member, self.budget(), &mut inner)
            }
            Origin::InZip(storage, member) => {
                zip::visit_member(storage, member, counted, &mut |stream, len| inner(stream, Some(len)))
            }
        }
    }

    fn unwrap<T>(
        &self,
        stream: &mut (dyn Read + Send),
        len: Option<u64>,
        as_is: bool,
        visit: Visit<'_, T>,
    ) -> Result<T> {
        let (head, mut chained) = peek(stream, &self.name)?;
        match Wrapping::detect(&head).filter(|_| !as_is) {
            Some(kind) => {
                let mut unpacked = kind.unpack(chained, &self.name, self.budget())?;
                visit(&mut unpacked, None)
            }
            None => visit(&mut chained, len),
        }
    }
}

/// What `stream` unpacks to, whose kind its first bytes tell; the same where they tell none. `name` stands for it in
/// messages, and what it takes is counted against `budget`.
///
/// # Errors
/// Those of [`Wrapping::unpack`]; [`crate::Error::Damaged`] for a start that cannot be read.
pub fn unpacked<'a>(
    stream: &'a mut (dyn Read + Send),
    name: &str,
    budget: &Arc<Budget>,
) -> Result<Box<dyn Read + Send + 'a>> {
    let (head, chained) = peek(stream, name)?;
    match Wrapping::detect(&head) {
        Some(kind) => kind.unpack(chained, name, budget),
        None => Ok(Box::new(chained)),
    }
}

/// The first bytes of `stream`, and a stream that begins with them again.
fn peek<'a>(stream: &'a mut (dyn Read + Send), name: &str) -> Result<(Vec<u8>, impl Read + Send + 'a)> {
    packed::peek(stream, MARK, name)
}

/// Bytes by which a kind of stream is told.
const MARK: usize = 8;

/// Tells how much is read.
struct Counting<'a> {
    stream: &'a mut (dyn Read + Send),
    counted: &'a (dyn Fn(u64) + Sync),
}

impl Read for Counting<'_> {
    fn read(&mut self, buf: &mut [u8]) -> io::Result<usize> {
        let len = self.stream.read(buf)?;
        (self.counted)(len as u64);
        Ok(len)
    }
}
