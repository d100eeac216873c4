//! Opening what a person points at: a machine file with its disks, alone or in an archive, a folder that holds one, or
//! just a disk.

mod around;
mod host;
mod locate;
mod loose;
mod package;
pub(crate) mod unpack;

use reformis_disk::to_usize;
use std::{
    collections::BTreeMap,
    path::{Path, PathBuf},
    sync::Arc,
};

pub(crate) use host::place_of;
pub use locate::files_in;
pub(crate) use locate::locate;
use reformis_disk::{
    Format, Image, Storage,
    budget::{Budget, Held},
    container::{self, Archive, Source, packed},
    disk::EmptyDisk,
    source::{self, Access, Links, Version},
};
use reformis_machine::{Document, Machine, MachineFile, manifest::Entry};
use reformis_wire::{Wires, without_secrets};
use serde::Serialize;
pub use unpack::Unpack;
use unpack::{Digesting, Unpacked};

use crate::{
    error::{Error, Result},
    finding::Finding,
    record::{FileDigest, SourceFile},
};

/// The largest machine file or manifest that is read whole.
const MAX_TEXT: u64 = 16 << 20;
/// Bytes by which a machine file is told.
const HEAD: u64 = 64 << 10;
/// Files of a folder that are looked at.
const MAX_FILES: usize = 10_000;

/// What kind of thing was opened.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Kind {
    /// An archive that holds a machine file and its disks.
    Packed(MachineFile),
    /// A machine file in a folder.
    Beside(MachineFile),
    /// A machine of a host, which tells of it in a machine file.
    AtHost(MachineFile),
    /// An archive of disks, without a machine.
    Archive,
    /// A disk image.
    Disk,
    /// What can only be read forwards.
    Stream,
}

impl Kind {
    /// The words for it.
    pub fn name(self) -> &'static str {
        match self {
            Self::Packed(MachineFile::Ovf | MachineFile::Ova | MachineFile::StartScript) => {
                "OVF package in one archive"
            }
            Self::Packed(_) => "machine in one archive",
            Self::Beside(MachineFile::DomainXml) => "domain XML and its disks",
            Self::Beside(MachineFile::Vmx) => ".vmx file and its disks",
            Self::Beside(MachineFile::Vbox) => ".vbox file and its disks",
            Self::Beside(MachineFile::LaunchJson) => "launch JSON and its disks",
            Self::Beside(_) => "OVF descriptor and its files",
            Self::AtHost(_) => "machine of a host",
            Self::Archive => "archive",
            Self::Disk => "disk image",
            Self::Stream => "compressed as a whole",
        }
    }
}

/// How to open a target.
#[derive(Clone, Default)]
pub struct Opening<'a> {
    /// Where names in files may lead.
    pub links: Links,
    /// Which machine, where a file describes several.
    pub machine: Pick<'a>,
    /// Files of disks that the person names, by the disks' names in the machine file.
    pub files: BTreeMap<String, PathBuf>,
    /// Where what can only be read forwards is unpacked; only its start is looked at where that is nowhere.
    pub unpack: Option<Unpack<'a>>,
    /// Memory for all that is collected from it.
    pub budget: Arc<Budget>,
    /// The network, for what lies at links.
    pub wires: Wires,
}

impl Opening<'_> {
    /// Opens the only machine there is, following names as far as `links` allows; what is collected is counted against
    /// `budget`, and links are read over `wires`.
    pub fn new(links: Links, budget: &Arc<Budget>, wires: &Wires) -> Self {
        Self { links, budget: budget.clone(), wires: wires.clone(), ..Self::default() }
    }
}

/// Which machine of several.
#[derive(Debug, Clone, Copy, Default)]
pub enum Pick<'a> {
    /// There must be only one.
    #[default]
    Only,
    /// The one of this name.
    Named(&'a str),
    /// By its place, from 0.
    Nth(usize),
}

/// What a person pointed at, opened.
pub struct Target {
    /// Memory for all that is collected from it.
    pub(crate) budget: Arc<Budget>,
    /// As it was named.
    pub name: String,
    /// What it is.
    pub kind: Kind,
    /// The machine; `None` for disks alone.
    pub described: Option<Described>,
    /// Its disks, in the machine's order.
    pub disks: Vec<TargetDisk>,
    /// Files that were read for the machine: the archive, the machine file, the manifest.
    pub files: Vec<SourceFile>,
    /// What was noticed.
    pub findings: Vec<Finding>,
}

/// A machine as its file describes it.
pub struct Described {
    /// The machine.
    pub machine: Machine,
    /// The kind of its file.
    pub kind: MachineFile,
    /// The file's content.
    pub text: String,
    /// The names of all machines in the file.
    pub names: Vec<String>,
    /// File of the firmware's variables, where it is there.
    pub nvram: Option<Arc<dyn Storage>>,
}

/// A disk of the target.
pub struct TargetDisk {
    /// Its name in the machine file, or the file's.
    pub id: String,
    /// The files that hold it, each with its line of the manifest; none for a disk that starts empty.
    pub parts: Vec<Part>,
    /// The image; `None` when it cannot be opened, of which a finding tells.
    pub image: Option<Image>,
    /// What is known of it when it can only be read forwards.
    pub stream: Option<StreamFacts>,
    /// Size in bytes: the image's, or the one that is stated for a disk that starts empty.
    pub size: u64,
}

/// What the start of a stream tells.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct StreamFacts {
    /// How it is compressed.
    pub compression: String,
    /// The format inside, as far as its start tells.
    pub format: Option<Format>,
    /// Bytes of the compressed file, or of the member in its archive before it was compressed.
    pub size: u64,
}

/// A file that holds a disk or a piece of one.
pub struct Part {
    /// Its bytes.
    pub storage: Arc<dyn Storage>,
    /// Its line of the manifest.
    pub entry: Option<Entry>,
    /// What it was unpacked from.
    pub packed: Option<Packed>,
    /// Takes the manifest's digest of what comes over a network as it comes: it is read once.
    pub(crate) digesting: Option<Arc<Digesting>>,
}

/// The packed file that a disk was unpacked from.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Packed {
    /// As the person would name what is inside: a member of an archive continues the archive's path.
    pub name: String,
    /// How it is packed, as words.
    pub kind: String,
    /// Digest of the packed file.
    pub digest: FileDigest,
    /// Whether it came over a network, from its start on alone.
    pub is_far: bool,
}

impl Part {
    /// A file that is read where it lies.
    pub(crate) fn plain(storage: Arc<dyn Storage>, entry: Option<Entry>) -> Self {
        let (digesting, storage) = match &entry {
            Some(entry) if storage.is_far() => {
                let digesting = Arc::new(Digesting::new(storage, Some(entry.algorithm)));
                (Some(digesting.clone()), digesting as Arc<dyn Storage>)
            }
            _ => (None, storage),
        };
        Self { storage, entry, packed: None, digesting }
    }

    /// As the person would name it.
    pub fn name(&self) -> &str {
        self.packed.as_ref().map_or(self.storage.name(), |packed| &packed.name)
    }

    /// What it is called in records.
    pub(crate) fn place(&self) -> String {
        match &self.packed {
            Some(packed) if packed.is_far => packed.name.clone(),
            Some(packed) => absolute(&packed.name),
            None => place_of(self.storage.as_ref()),
        }
    }
}

impl Target {
    /// Who may open the files that describe the machine; for disks alone, the disks' own.
    pub(crate) fn access(&self) -> Access {
        self.files.iter().filter_map(|file| file.access).reduce(Access::and).unwrap_or_else(|| {
            let disks = self.disks.iter().map(TargetDisk::access);
            disks.reduce(Access::and).unwrap_or(Access::ANYBODY)
        })
    }
}

impl TargetDisk {
    /// Who may open every file that the disk is read from.
    pub(crate) fn access(&self) -> Access {
        let all = self.storages().filter_map(|file| file.identity().and_then(|identity| identity.access));
        all.reduce(Access::and).unwrap_or(Access::ANYBODY)
    }

    /// The files that it is read from.
    pub(crate) fn storages(&self) -> impl Iterator<Item = &Arc<dyn Storage>> {
        let parts = self.parts.iter().map(|part| &part.storage);
        parts.chain(self.image.iter().flat_map(|image| &image.files))
    }

    /// Whether some of it comes over a network.
    pub(crate) fn is_far(&self) -> bool {
        self.storages().any(|file| file.is_far())
    }

    /// Whether nothing tells that a file of it is the same as before.
    pub(crate) fn has_no_version(&self) -> bool {
        self.storages().any(|file| file.identity().is_none_or(|identity| identity.version == Version::Unknown))
    }

    /// How the file that holds it is packed, where it was unpacked.
    pub(crate) fn packed(&self) -> Option<String> {
        self.parts.first()?.packed.as_ref().map(|packed| packed.kind.clone())
    }

    /// The disk's bytes; zeros for one that starts empty.
    pub fn disk(&self) -> Arc<dyn reformis_disk::Disk> {
        match &self.image {
            Some(image) => image.disk.clone(),
            None => Arc::new(EmptyDisk::new(self.size)),
        }
    }

    /// Whether its bytes can be had: it has an image that may be read, or starts empty.
    pub fn is_readable(&self) -> bool {
        match &self.image {
            Some(image) => image.facts.troubles.is_empty(),
            None => self.parts.is_empty() && self.stream.is_none(),
        }
    }
}

/// Opens `path`, reading only metadata.
///
/// # Errors
/// When it is not there, is nothing that is known, or is damaged beyond listing what is in it; [`Error::Several`] and
/// [`Error::NoSuchMachine`] for a machine that is not told.
pub fn open(path: &Path, opening: &Opening<'_>) -> Result<Target> {
    opening.budget.rest();
    if let Some((host, machine)) =
        opening.wires.host_of(&path.to_string_lossy()).filter(|(_, machine)| !machine.is_empty())
        && !machine.contains('/')
    {
        return host::open(host, machine, path, opening);
    }
    if let Some(names) = locate::files_in(path, &opening.wires)? {
        return open(&in_folder(path, names, opening)?, opening);
    }
    let found = locate(path, &opening.budget, &opening.wires)?.unwrapped()?;
    let path = &PathBuf::from(without_secrets(&path.to_string_lossy()));
    let stream = match found {
        Source::Storage(storage) => {
            let moment = locate::moment_of(storage.as_ref(), path, &opening.wires);
            let mut target = open_storage(storage, path, None, opening)?;
            target.findings.extend(moment);
            return Ok(target);
        }
        Source::Stream(stream) => stream,
    };
    let Some(unpack) = &opening.unpack else { return loose::open_stream(&stream, path) };
    let unpacked = unpack.spool(&stream, None)?;
    let storage = unpacked.storage()?;
    let mut target = if container::is_archive(storage.as_ref())? {
        let mut target = open_storage(unpacked.archive()?, path, None, opening)?;
        // What was read is the packed file, not what it was unpacked into.
        target.files.retain(|file| file.path != absolute(stream.name()));
        let packed = stream.storage().map(|storage| source_file(storage.as_ref(), Some(unpacked.digest.clone())));
        target.files.extend(packed);
        target
    } else {
        open_storage(storage, path, Some(&unpacked), opening)?
    };
    target.findings.push(unpack::spooled(&stream));
    Ok(target)
}

/// Opens what lies at `path`, or was unpacked from there.
fn open_storage(
    storage: Arc<dyn Storage>,
    path: &Path,
    unpacked: Option<&Unpacked>,
    opening: &Opening<'_>,
) -> Result<Target> {
    if storage.is_raw() {
        return loose::open_disk(storage, path, unpacked, opening.links);
    }
    if container::is_archive(storage.as_ref())? {
        let archive = Archive::open(storage)?;
        return match package::in_archive(&archive, path)? {
            Some((kind, name)) => package::open_packed(archive, kind, &name, path, opening),
            None => loose::open_archive(&archive, path, opening),
        };
    }
    let head = read_text(storage.as_ref(), HEAD)?;
    match MachineFile::detect(&head) {
        Some(kind) => package::open_beside(storage, kind, path, opening),
        None => loose::open_disk(storage, path, unpacked, opening.links),
    }
}

/// The one thing in a folder that a move can start from: a machine file, else an archive, else a disk.
#[expect(clippy::indexing_slicing, reason = "every kind of machine file has its rank")]
fn in_folder(folder: &Path, names: Vec<PathBuf>, opening: &Opening<'_>) -> Result<PathBuf> {
    let mut found: [Vec<PathBuf>; 3] = Default::default();
    for path in names.into_iter().take(MAX_FILES) {
        let opened = locate(&path, &opening.budget, &opening.wires).and_then(|source| Ok(source.random_access()?));
        let Ok(storage) = opened else { continue };
        if storage.is_raw() {
            found[2].push(path);
            continue;
        }
        let Ok(head) = read_text(storage.as_ref(), HEAD) else { continue };
        let rank = if MachineFile::detect(&head).is_some() {
            0
        } else if container::is_archive(storage.as_ref()).unwrap_or(false) {
            1
        } else if packed::Wrapping::detect(&head).is_some() || reformis_disk::format::open(storage, None).is_ok() {
            2
        } else {
            continue;
        };
        found[rank].push(path);
    }
    let Some(best) = found.into_iter().find(|paths| !paths.is_empty()) else {
        return Err(Error::NothingHere { folder: folder.to_string_lossy().into() });
    };
    match &best[..] {
        [one] => Ok(one.clone()),
        several => Err(Error::SeveralHere {
            folder: folder.to_string_lossy().into(),
            files: several.iter().filter_map(|path| Some(path.file_name()?.to_string_lossy().into_owned())).collect(),
        }),
    }
}

/// The first `most` bytes of a storage, or all.
pub(crate) fn read_text(storage: &dyn Storage, most: u64) -> Result<Held<Vec<u8>>> {
    Ok(source::read_vec(storage, 0, to_usize(storage.len().min(most)), "its text")?)
}

/// The machine file of the `kind` in `storage` with its bytes; what reading it takes is counted.
pub(crate) fn read_machine(storage: &dyn Storage, kind: MachineFile) -> Result<(Held<Vec<u8>>, Document)> {
    let bytes = read_text(storage, MAX_TEXT)?;
    let memory = reformis_machine::memory(kind, &bytes);
    let over = reformis_disk::Error::memory(storage.name(), "what its text says");
    let _hold = storage.budget().take(memory).map_err(over)?;
    let document = reformis_machine::read(kind, &bytes, storage.name())?;
    Ok((bytes, document))
}

/// The record of a file that was read.
pub(crate) fn source_file(storage: &dyn Storage, digest: Option<FileDigest>) -> SourceFile {
    let version = storage.identity().map(|identity| &identity.version);
    let time = |time: &std::time::SystemTime| jiff::Timestamp::try_from(*time).ok();
    let (modified, changed, inode, tag) = match version {
        Some(Version::File(stamp)) => {
            (time(&stamp.modified), time(&stamp.changed), Some((stamp.device, stamp.inode)), None)
        }
        Some(Version::Modified(modified)) => (time(modified), None, None, None),
        Some(Version::Tag(tag)) => (None, None, None, Some(tag.clone())),
        Some(Version::Unknown) | None => (None, None, None, None),
    };
    SourceFile {
        path: place_of(storage),
        size: storage.len(),
        modified,
        changed,
        inode,
        tag,
        digest,
        access: storage.identity().and_then(|identity| identity.access),
    }
}

/// Whether `now` is the version of `file` that was read.
pub(crate) fn is_still(file: &SourceFile, now: &dyn Storage) -> bool {
    let now = source_file(now, None);
    now.path == file.path && now.is_same_version(file)
}

/// `path` from the root, so that a receipt is good from any folder; a link without what lets us in.
pub(crate) fn absolute(path: &str) -> String {
    if Wires::is_link(Path::new(path)) {
        return without_secrets(path);
    }
    std::path::absolute(path).map_or_else(|_| path.into(), |path| path.to_string_lossy().into_owned())
}

#[cfg(test)]
mod tests {
    use std::sync::Arc;

    use reformis_disk::{
        Extent,
        budget::Budget,
        source::{Identity, MemoryStorage},
    };

    use super::*;

    /// Bytes at a remote.
    struct Remote(MemoryStorage, Identity);

    impl Storage for Remote {
        fn name(&self) -> &str {
            "remote"
        }

        fn len(&self) -> u64 {
            self.0.len()
        }

        fn read_at(&self, offset: u64, buf: &mut [u8]) -> reformis_disk::Result<()> {
            self.0.read_at(offset, buf)
        }

        fn extent_at(&self, offset: u64) -> reformis_disk::Result<Extent> {
            self.0.extent_at(offset)
        }

        fn check_unchanged(&self) -> reformis_disk::Result<()> {
            Ok(())
        }

        fn identity(&self) -> Option<&Identity> {
            Some(&self.1)
        }

        fn budget(&self) -> &Arc<Budget> {
            self.0.budget()
        }
    }

    #[test]
    fn a_remote_is_another_version_when_its_tag_is_another_one() {
        let record = |tag: &str| {
            let identity = Identity { len: 3, version: Version::Tag(tag.into()), access: None };
            source_file(&Remote(MemoryStorage::new("remote", b"abc".to_vec()), identity), None)
        };
        let before = record("\"5f-1\"");
        assert!(before.is_same_version(&record("\"5f-1\"")) && !before.is_same_version(&record("\"5f-2\"")));
        let kept: SourceFile = serde_json::from_str(&serde_json::to_string(&before).unwrap()).unwrap();
        assert_eq!(kept, before);
    }
}
