//! Opening what a person points at: an archive with a machine in it, a descriptor beside its disks, or one disk.

use std::{
    path::{Path, PathBuf},
    sync::Arc,
};

use reformis_disk::{
    Format, Image, Storage,
    disk::EmptyDisk,
    formats,
    source::{self, Archive, FileStorage, Links, Pieces, Source, Stream, archive, wrapped},
};
use reformis_machine::{
    DiskDevice,
    manifest::{self, Entry},
    ovf::{self, Package},
};
use serde::Serialize;
use sha2::Digest as _;

use crate::{
    error::Result,
    finding::{self, Finding},
    receipt::{FileDigest, SourceFile},
};

/// The largest descriptor or manifest that is read whole.
const MAX_TEXT: u64 = 16 << 20;

/// What kind of thing was opened.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Kind {
    /// An uncompressed archive that holds an OVF descriptor.
    OvfArchive,
    /// An OVF descriptor in a folder.
    OvfFolder,
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
            Self::OvfArchive => "OVF package in one archive",
            Self::OvfFolder => "OVF descriptor and its files",
            Self::Archive => "archive",
            Self::Disk => "disk image",
            Self::Stream => "compressed as a whole",
        }
    }
}

/// What a person pointed at, opened.
pub struct Target {
    /// As it was named.
    pub name: String,
    /// What it is.
    pub kind: Kind,
    /// The descriptor; `None` for a disk alone.
    pub package: Option<Package>,
    /// Its disks, in the machine's order.
    pub disks: Vec<TargetDisk>,
    /// Files that were read for the machine: the archive, the descriptor, the manifest.
    pub files: Vec<SourceFile>,
    /// What was noticed.
    pub findings: Vec<Finding>,
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
}

impl TargetDisk {
    /// The disk's bytes; zeros for one that starts empty.
    pub fn disk(&self) -> Arc<dyn reformis_disk::Disk> {
        match &self.image {
            Some(image) => image.disk.clone(),
            None => Arc::new(EmptyDisk::new(self.size)),
        }
    }
}

/// Where the files that a descriptor names are found.
enum Container {
    Archive(Archive),
    Folder(PathBuf, Links),
}

impl Container {
    /// What opens the disks found here.
    fn opener(&self) -> formats::Opener {
        match self {
            Self::Archive(_) => formats::Opener::default(),
            Self::Folder(_, links) => formats::Opener::new(*links),
        }
    }

    /// The file `name`, which `by` refers to; `None` when it is not there.
    fn find(&self, by: &str, name: &str) -> Result<Option<Arc<dyn Storage>>> {
        match self {
            Self::Archive(archive) => match archive.find(name) {
                Some(_) => Ok(Some(archive.member(name)?)),
                None => Ok(None),
            },
            Self::Folder(folder, links) => match source::resolve_link(folder, by, name, *links) {
                Ok(path) => Ok(Some(Arc::new(FileStorage::open(&path)?))),
                Err(reformis_disk::Error::Io { source, .. }) if source.kind() == std::io::ErrorKind::NotFound => {
                    Ok(None)
                }
                Err(error) => Err(error.into()),
            },
        }
    }
}

/// Opens `path`, reading only metadata.
///
/// # Errors
/// When it is not there, is nothing that is known, or is damaged beyond listing what is in it.
pub fn open(path: &Path, links: Links) -> Result<Target> {
    let storage = match source::locate(path)?.unwrapped()? {
        Source::Storage(storage) => storage,
        Source::Stream(stream) => return open_stream(&stream, path),
    };
    if archive::is_archive(storage.as_ref())? {
        return open_archive(Archive::open(storage)?, path);
    }
    let head = read_text(storage.as_ref(), 4096)?;
    if ovf::looks_like(&head) {
        let folder = path.parent().filter(|p| *p != Path::new("")).unwrap_or(Path::new("."));
        let name = path.file_name().unwrap_or_default().to_string_lossy().into_owned();
        let container = Container::Folder(folder.into(), links);
        return open_package(&container, &name, storage, Kind::OvfFolder, path, Vec::new(), Vec::new());
    }
    open_disk(storage, path, links)
}

/// Looks at the start of what can only be read forwards.
fn open_stream(stream: &Stream, path: &Path) -> Result<Target> {
    let id = path.file_name().unwrap_or(path.as_os_str()).to_string_lossy().into_owned();
    let mut head = vec![0; formats::HEAD as usize];
    stream.visit(&mut std::io::empty(), &|_| {}, false, &mut |bytes, _| {
        let filled = wrapped::fill(bytes, &mut head, stream.name(), 0)?;
        head.truncate(filled);
        Ok(())
    })?;
    let inner = Path::new(stream.name()).with_extension("");
    let format = formats::detect_stream(&head, &inner.to_string_lossy());
    let size = stream.storage().map_or(0, |storage| storage.len());
    let stream_facts = StreamFacts { compression: stream.kind().into(), format, size };
    let files = stream.storage().map(|storage| source_file(storage.as_ref(), None)).into_iter().collect();
    let finding = Finding::LooksPacked { file: id.clone(), kind: stream.kind().into() };
    let disk = TargetDisk { id, parts: Vec::new(), image: None, stream: Some(stream_facts), size: 0 };
    Ok(Target {
        name: path.to_string_lossy().into(),
        kind: Kind::Stream,
        package: None,
        disks: vec![disk],
        files,
        findings: vec![finding],
    })
}

fn open_disk(storage: Arc<dyn Storage>, path: &Path, links: Links) -> Result<Target> {
    let image = formats::Opener::new(links).open(storage.clone(), None)?;
    let id = path.file_name().unwrap_or(path.as_os_str()).to_string_lossy().into_owned();
    let findings = finding::of_image(&id, &image.facts);
    let size = image.facts.virtual_size;
    Ok(Target {
        name: path.to_string_lossy().into(),
        kind: Kind::Disk,
        package: None,
        disks: vec![TargetDisk {
            id,
            parts: vec![Part { storage, entry: None }],
            image: Some(image),
            stream: None,
            size,
        }],
        files: Vec::new(),
        findings,
    })
}

fn open_archive(archive: Archive, path: &Path) -> Result<Target> {
    let mut findings = Vec::new();
    if !archive.is_ended() {
        findings.push(Finding::NoEndMark { archive: archive.storage().name().into() });
    }
    let descriptors: Vec<String> = archive
        .members()
        .iter()
        .map(|member| member.name.clone())
        .filter(|name| name.to_ascii_lowercase().ends_with(".ovf"))
        .collect();
    let [name] = &descriptors[..] else {
        if descriptors.is_empty() {
            return Ok(open_loose(&archive, path, findings));
        }
        let n = descriptors.len();
        let what = format!("the archive holds {n} OVF descriptors, and this version moves one machine at a time");
        return Err(reformis_disk::Error::Unsupported { path: path.to_string_lossy().into(), what }.into());
    };
    let files = vec![source_file(archive.storage().as_ref(), None)];
    let descriptor = archive.member(name)?;
    let name = name.clone();
    open_package(&Container::Archive(archive), &name, descriptor, Kind::OvfArchive, path, files, findings)
}

/// The disks in an archive that holds no machine; what is no disk is passed over.
fn open_loose(archive: &Archive, path: &Path, mut findings: Vec<Finding>) -> Target {
    let mut disks = Vec::new();
    for member in archive.members() {
        let id = member.name.clone();
        if let Some(method) = &member.packed {
            let facts = StreamFacts { compression: method.clone(), format: None, size: member.len };
            let format = Path::new(&id).extension().and_then(|e| e.to_str()).and_then(Format::from_extension);
            if format.is_some() {
                let stream = Some(StreamFacts { format, ..facts });
                disks.push(TargetDisk { id, parts: Vec::new(), image: None, stream, size: 0 });
            }
            continue;
        }
        let Ok(storage) = archive.member(&id) else { continue };
        let Ok(image) = formats::Opener::default().open(storage.clone(), None) else { continue };
        findings.extend(finding::of_image(&id, &image.facts));
        let size = image.facts.virtual_size;
        let parts = vec![Part { storage, entry: None }];
        disks.push(TargetDisk { id, parts, image: Some(image), stream: None, size });
    }
    if disks.is_empty() {
        findings.push(Finding::NoDisk);
    }
    Target {
        name: path.to_string_lossy().into(),
        kind: Kind::Archive,
        package: None,
        disks,
        files: vec![source_file(archive.storage().as_ref(), None)],
        findings,
    }
}

/// Opens the package whose descriptor is `name` in `container`.
fn open_package(
    container: &Container,
    name: &str,
    descriptor: Arc<dyn Storage>,
    kind: Kind,
    path: &Path,
    mut files: Vec<SourceFile>,
    mut findings: Vec<Finding>,
) -> Result<Target> {
    let bytes = read_text(descriptor.as_ref(), MAX_TEXT)?;
    let package = ovf::read(&bytes, descriptor.name())?;
    // References are relative to the descriptor, which may lie in a folder of the archive.
    let folder = name.rfind('/').map_or("", |end| &name[..=end]);
    let stem = &name[..name.len() - ".ovf".len().min(name.len())];
    let manifest = match container.find(name, &format!("{stem}.mf"))? {
        Some(storage) => {
            files.push(source_file(storage.as_ref(), None));
            Some(manifest::parse(&read_text(storage.as_ref(), MAX_TEXT)?, storage.name())?)
        }
        None => {
            findings.push(Finding::NoManifest);
            None
        }
    };
    let certificate = format!("{stem}.cert");
    if container.find(name, &certificate)?.is_some() {
        findings.push(Finding::CertificateUnchecked { file: certificate });
    }
    let entry = |file: &str| manifest.iter().flatten().find(|entry| plain(&entry.file) == plain(file));
    let own = entry(name.strip_prefix(folder).unwrap_or(name));
    let digest = check_descriptor(&bytes, own, name, manifest.is_some(), &mut findings);
    files.push(source_file(descriptor.as_ref(), Some(digest)));
    for listed in manifest.iter().flatten() {
        if container.find(name, &format!("{folder}{}", listed.file)).is_ok_and(|found| found.is_none())
            && !package.machine.disks.iter().any(|disk| disk.files.contains(&listed.file))
        {
            findings.push(Finding::ManifestNamesMissing { file: listed.file.clone() });
        }
    }

    let mut disks = Vec::new();
    for device in &package.machine.disks {
        let locate = |file: &str| container.find(name, &format!("{folder}{file}"));
        disks.push(open_device(
            device,
            &package,
            locate,
            &container.opener(),
            &entry,
            manifest.is_some(),
            &mut findings,
        )?);
    }
    if disks.is_empty() {
        findings.push(Finding::NoDisk);
    }
    Ok(Target { name: path.to_string_lossy().into(), kind, package: Some(package), disks, files, findings })
}

fn plain(name: &str) -> &str {
    name.trim_start_matches("./")
}

/// Compares the descriptor with its line of the manifest; returns its digest.
fn check_descriptor(
    bytes: &[u8],
    entry: Option<&Entry>,
    name: &str,
    has_manifest: bool,
    findings: &mut Vec<Finding>,
) -> FileDigest {
    let Some(entry) = entry else {
        if has_manifest {
            findings.push(Finding::NotInManifest { file: name.into() });
        }
        return FileDigest::blake3(bytes);
    };
    let hex = |digest: &[u8]| digest.iter().map(|byte| format!("{byte:02x}")).collect::<String>();
    let value = match entry.algorithm {
        manifest::Algorithm::Sha1 => hex(&sha1::Sha1::digest(bytes)),
        manifest::Algorithm::Sha256 => hex(&sha2::Sha256::digest(bytes)),
        manifest::Algorithm::Sha512 => hex(&sha2::Sha512::digest(bytes)),
    };
    if value != entry.digest {
        findings.push(Finding::DescriptorChanged { file: name.into() });
    }
    FileDigest { algorithm: entry.algorithm.name().into(), value }
}

/// Opens one disk of a package; what is wrong with it becomes a finding, so that all disks are told of at once.
fn open_device<'e>(
    device: &DiskDevice,
    package: &Package,
    locate: impl Fn(&str) -> Result<Option<Arc<dyn Storage>>>,
    opener: &formats::Opener,
    entry: &impl Fn(&str) -> Option<&'e Entry>,
    has_manifest: bool,
    findings: &mut Vec<Finding>,
) -> Result<TargetDisk> {
    let id = device.id.clone();
    let mut disk =
        TargetDisk { id: id.clone(), parts: Vec::new(), image: None, stream: None, size: device.capacity.unwrap_or(0) };
    if device.files.is_empty() {
        if device.capacity.is_none() {
            let why = "it starts empty, and its size is not stated".into();
            findings.push(Finding::DiskUnreadable { disk: id, why });
        }
        return Ok(disk);
    }
    if let Some(kind) = &device.compression {
        findings.push(Finding::Compressed { file: device.files.join(", "), kind: kind.clone() });
        return Ok(disk);
    }
    for file in &device.files {
        let Some(storage) = locate(file)? else {
            findings.push(Finding::DiskMissing { disk: id, file: file.clone() });
            disk.parts.clear();
            return Ok(disk);
        };
        let entry = entry(file).cloned();
        if has_manifest && entry.is_none() {
            findings.push(Finding::NotInManifest { file: file.clone() });
        }
        disk.parts.push(Part { storage, entry });
    }
    let whole: Arc<dyn Storage> = match &disk.parts[..] {
        [one] => one.storage.clone(),
        parts => Arc::new(Pieces::new(
            package_name(device, package),
            parts.iter().map(|part| part.storage.clone()).collect(),
        )),
    };
    let stated = package.files.iter().find(|file| file.parts == device.files).and_then(|file| file.size);
    if let Some(stated) = stated.filter(|&stated| stated != whole.len()) {
        findings.push(Finding::LengthDiffers { file: device.files[0].clone(), stated, found: whole.len() });
    }
    match opener.open(whole, None) {
        Ok(image) => {
            disk.size = image.facts.virtual_size;
            if let Some(stated) = device.capacity.filter(|&stated| stated != disk.size) {
                findings.push(Finding::CapacityDiffers { disk: id.clone(), stated, found: disk.size });
            }
            findings.extend(finding::of_image(&id, &image.facts));
            disk.image = Some(image);
        }
        Err(error) => findings.push(Finding::DiskUnreadable { disk: id, why: error.to_string() }),
    }
    Ok(disk)
}

/// The name that stands for a disk in pieces.
fn package_name(device: &DiskDevice, package: &Package) -> String {
    let first = device.files.first().map_or("", |file| file.trim_end_matches(".000000000"));
    format!("{first} ({} pieces, machine '{}')", device.files.len(), package.machine.name)
}

/// The first `most` bytes of a storage, or all.
fn read_text(storage: &dyn Storage, most: u64) -> Result<Vec<u8>> {
    let mut bytes = vec![0; storage.len().min(most) as usize];
    storage.read_at(0, &mut bytes)?;
    Ok(bytes)
}

/// The record of a file that was read.
pub(crate) fn source_file(storage: &dyn Storage, digest: Option<FileDigest>) -> SourceFile {
    let modified = storage.identity().and_then(|identity| identity.modified);
    SourceFile {
        path: absolute(storage.name()),
        size: storage.len(),
        modified: modified.and_then(|time| jiff::Timestamp::try_from(time).ok()),
        digest,
    }
}

/// `path` from the root, so that a receipt is good from any folder.
pub(crate) fn absolute(path: &str) -> String {
    std::path::absolute(path).map_or_else(|_| path.into(), |path| path.to_string_lossy().into_owned())
}
