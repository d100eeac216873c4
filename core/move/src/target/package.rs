//! A machine file and the disks that it names, in a folder or in an archive.

use std::{
    path::{Path, PathBuf},
    sync::Arc,
};

use reformis_disk::{
    Error as Disk, Format, Storage,
    container::{self, Archive, Source},
    error::WireKind,
    format,
    source::{MemoryStorage, Pieces},
};
use reformis_machine::{
    DiskDevice, Document, Machine, MachineFile, Sign,
    manifest::{self, Entry},
};

use reformis_wire::{Wires, hosts::FarMachine};

use super::{
    Described, Kind, MAX_TEXT, Opening, Part, Pick, Target, TargetDisk, around::Container, read_machine, read_text,
    source_file,
};
use crate::{
    checksum::Hasher,
    error::{Error, Result},
    finding::{self, Finding},
    record::{FileDigest, SourceFile},
};

/// What is to be said of an archive as such.
pub(super) fn of_archive(archive: &Archive) -> Vec<Finding> {
    let cut = !archive.is_ended();
    cut.then(|| Finding::NoEndMark { archive: archive.storage().name().into() }).into_iter().collect()
}

/// The machine file in an archive: an OVF descriptor, else one of another kind.
///
/// # Errors
/// When there are several.
pub(super) fn in_archive(archive: &Archive, path: &Path) -> Result<Option<(MachineFile, String)>> {
    let ending = |name: &str, ending: &str| name.to_ascii_lowercase().ends_with(ending);
    let names = || archive.members().iter().map(|member| &member.name);
    for endings in [&[".ovf"][..], &[".vmx", ".vbox", ".xml", ".json"]] {
        let mut found = Vec::new();
        for name in names().filter(|name| endings.iter().any(|end| ending(name, end))) {
            // By its content, but an OVF descriptor by its name: so that a damaged one is told of.
            let kind = match endings {
                [".ovf"] => Some(MachineFile::Ovf),
                _ => MachineFile::detect(&read_text(small(archive, name)?.as_ref(), super::HEAD)?),
            };
            found.extend(kind.map(|kind| (kind, name.clone())));
        }
        match found.len() {
            0 => {}
            1 => return Ok(found.pop()),
            n => {
                let what = format!(
                    "the archive holds {n} machine files; unpack it, and name one of {}",
                    found.iter().map(|(_, name)| name.as_str()).collect::<Vec<_>>().join(", ")
                );
                return Err(reformis_disk::Error::Unsupported { path: path.to_string_lossy().into(), what }.into());
            }
        }
    }
    Ok(None)
}

/// The member `name`, which is a machine file or a manifest: what is packed is unpacked into memory.
fn small(archive: &Archive, name: &str) -> Result<Arc<dyn Storage>> {
    in_memory(container::locate_in(archive.storage().clone(), Some(name))?)
}

/// A small file; one that is packed is unpacked into memory.
fn in_memory(source: Source) -> Result<Arc<dyn Storage>> {
    let stream = match source {
        Source::Storage(storage) => return Ok(storage),
        Source::Stream(stream) => stream,
    };
    let over = reformis_disk::Error::memory(stream.name(), "what it unpacks to");
    // Twice, since a list that grows is copied.
    let mut hold = stream.budget().take(2 * MAX_TEXT).map_err(over)?;
    let mut bytes = Vec::new();
    stream.visit(&mut std::io::empty(), &|_| {}, false, &mut |stream, _| {
        let mut stream = std::io::Read::take(stream, MAX_TEXT + 1);
        std::io::Read::read_to_end(&mut stream, &mut bytes).map(drop).map_err(reformis_disk::Error::io(
            "unpacking",
            "a machine file",
            None,
        ))
    })?;
    if bytes.len() as u64 > MAX_TEXT {
        let what = format!("it is unpacked to more than {} MiB, and no machine file is that large", MAX_TEXT >> 20);
        return Err(reformis_disk::Error::Unsupported { path: stream.name().into(), what }.into());
    }
    hold.shrink_to(bytes.len() as u64);
    Ok(Arc::new(MemoryStorage::counted(stream.name(), bytes, hold)))
}

/// Opens the machine whose file is the member `name` of `archive`.
pub(super) fn open_packed(
    archive: Archive,
    kind: MachineFile,
    name: &str,
    path: &Path,
    opening: &Opening<'_>,
) -> Result<Target> {
    let files = vec![source_file(archive.storage().as_ref(), None)];
    let findings = of_archive(&archive);
    let file = small(&archive, name)?;
    let package = Package { container: Container::Archive(archive), name: name.into(), opening };
    package.open(file, Kind::Packed(kind), kind, path, files, findings)
}

/// Opens the machine whose file is at `path`.
pub(super) fn open_beside(
    file: Arc<dyn Storage>,
    kind: MachineFile,
    path: &Path,
    opening: &Opening<'_>,
) -> Result<Target> {
    let folder = path.parent().filter(|p| *p != Path::new("")).unwrap_or(Path::new("."));
    let (name, container) = match Wires::is_link(path) {
        true => (file.name().rsplit('/').next().unwrap_or_default().into(), Container::Far(file.clone())),
        false => {
            let name = path.file_name().unwrap_or_default().to_string_lossy().into_owned();
            (name, Container::Folder(folder.into(), opening.links, opening.budget.clone()))
        }
    };
    let package = Package { container, name, opening };
    package.open(file, Kind::Beside(kind), kind, path, Vec::new(), Vec::new())
}

/// Opens the machine `far` of a host, which tells of it in `file`.
pub(super) fn open_at_host(
    file: Arc<dyn Storage>,
    kind: MachineFile,
    far: FarMachine,
    path: &Path,
    opening: &Opening<'_>,
) -> Result<Target> {
    let package = Package { container: Container::Host(far.files), name: far.file, opening };
    package.open(file, Kind::AtHost(kind), kind, path, Vec::new(), Vec::new())
}

/// A machine file in its place.
struct Package<'o> {
    container: Container,
    /// The machine file's name in there.
    name: String,
    opening: &'o Opening<'o>,
}

impl Package<'_> {
    /// The folder of the machine file inside its container, with a `/` behind it: names in it are relative to that.
    #[expect(clippy::string_slice, reason = "cut behind a slash that was found")]
    fn folder(&self) -> &str {
        self.name.rfind('/').map_or("", |end| &self.name[..=end])
    }

    fn find(&self, file: &str) -> Result<Option<Source>> {
        self.container.find(&self.name, &format!("{}{file}", if file.starts_with('/') { "" } else { self.folder() }))
    }

    #[expect(clippy::indexing_slicing, reason = "the place was picked among these machines")]
    fn open(
        &self,
        file: Arc<dyn Storage>,
        kind: Kind,
        machine_file: MachineFile,
        path: &Path,
        mut files: Vec<SourceFile>,
        mut findings: Vec<Finding>,
    ) -> Result<Target> {
        let (bytes, document) = read_machine(file.as_ref(), machine_file)?;
        let manifest = if machine_file == MachineFile::Ovf { self.manifest(&mut files, &mut findings)? } else { None };
        let entry = |name: &str| manifest.iter().flatten().find(|entry| plain(&entry.file) == plain(name));
        let own = entry(self.name.strip_prefix(self.folder()).unwrap_or(&self.name));
        let digest = check_descriptor(&bytes, own, &self.name, manifest.is_some(), &mut findings);
        files.push(source_file(file.as_ref(), Some(digest)));
        let names: Vec<String> = document.machines.iter().map(|machine| machine.name.to_string()).collect();
        let machine = document.machines[pick(&names, self.opening.machine, path)?].clone();
        for listed in manifest.iter().flatten() {
            let used = document.machines.iter().any(|m| m.disks.iter().any(|disk| disk.files.contains(&listed.file)));
            if !used && self.find(&listed.file).is_ok_and(|found| found.is_none()) {
                findings.push(Finding::ManifestNamesMissing { file: listed.file.clone() });
            }
        }
        findings.extend(machine.signs.iter().map(|sign| of_sign(&machine.name, sign)));
        if let Container::Folder(folder, ..) = &self.container {
            findings.extend(lock_beside(&folder.join(&self.name)).map(|lock| Finding::Locked { lock }));
        }
        // A disk that is not there is told of where one is a delta of it.
        let related = document.related.iter().filter_map(|name| self.find(name).ok()??.random_access().ok()).collect();
        let opener = self.container.opener().with_related(related);
        let mut disks = Vec::new();
        for device in &machine.disks {
            disks.push(self.device(device, &document, &opener, &entry, manifest.is_some(), &mut findings)?);
        }
        if disks.is_empty() {
            findings.push(Finding::NoDisk);
        }
        let nvram = self.nvram(&machine, &mut findings);
        let text = String::from_utf8_lossy(&bytes).into_owned();
        let described = Described { machine, kind: machine_file, text, names, nvram };
        Ok(Target {
            name: path.to_string_lossy().into(),
            kind,
            described: Some(described),
            disks,
            files,
            findings,
            budget: self.opening.budget.clone(),
        })
    }

    fn manifest(&self, files: &mut Vec<SourceFile>, findings: &mut Vec<Finding>) -> Result<Option<Vec<Entry>>> {
        let base = self.name.strip_prefix(self.folder()).unwrap_or(&self.name);
        let stem = base.rsplit_once('.').map_or(base, |(stem, _)| stem);
        // Of that, its disks tell.
        let found = match self.find(&format!("{stem}.mf")) {
            Err(error) if is_kept_back(&error) => return Ok(None),
            found => found?,
        };
        let manifest = match found {
            Some(source) => {
                let storage = in_memory(source)?;
                files.push(source_file(storage.as_ref(), None));
                Some(manifest::parse(&read_text(storage.as_ref(), MAX_TEXT)?, storage.name())?)
            }
            None => {
                findings.push(Finding::NoManifest);
                None
            }
        };
        let certificate = format!("{stem}.cert");
        if self.find(&certificate)?.is_some() {
            findings.push(Finding::CertificateUnchecked { file: certificate });
        }
        Ok(manifest)
    }

    /// Opens one disk; what is wrong with it becomes a finding, so that all disks are told of at once.
    fn device<'e>(
        &self,
        device: &DiskDevice,
        document: &Document,
        opener: &format::Opener,
        entry: &impl Fn(&str) -> Option<&'e Entry>,
        has_manifest: bool,
        findings: &mut Vec<Finding>,
    ) -> Result<TargetDisk> {
        let id = device.id.to_string();
        let size = device.capacity.unwrap_or(0);
        let mut disk = TargetDisk { id: id.clone(), parts: Vec::new(), image: None, stream: None, size };
        let mut inside = None;
        let unreadable = |why: String| Finding::DiskUnreadable { disk: device.id.to_string(), why };
        if let Some(path) = self.opening.files.get(&id) {
            // Named by the person, so that it may lie anywhere, and be a device.
            match super::locate(path, &self.opening.budget, &self.opening.wires)
                .and_then(|found| Ok(found.random_access()?))
            {
                Ok(storage) => disk.parts.push(Part::plain(storage, None)),
                Err(error) => {
                    findings.push(unreadable(error.to_string()));
                    return Ok(disk);
                }
            }
        } else {
            if device.files.is_empty() {
                if device.capacity.is_none() {
                    findings.push(unreadable("it starts empty, and its size is not stated".into()));
                }
                return Ok(disk);
            }
            for file in &device.files {
                let source = match self.find(file) {
                    Ok(Some(source)) => source,
                    Ok(None) => {
                        findings.push(Finding::DiskMissing { disk: id, file: file.clone() });
                        disk.parts.clear();
                        return Ok(disk);
                    }
                    Err(error) if self.is_strict() && !is_kept_back(&error) => return Err(error),
                    Err(error) => {
                        findings.push(unreadable(error.to_string()));
                        disk.parts.clear();
                        return Ok(disk);
                    }
                };
                let entry = entry(file).cloned();
                if has_manifest && entry.is_none() {
                    findings.push(Finding::NotInManifest { file: file.clone() });
                }
                // What is declared raw is raw, unless the machine file says too that it is packed.
                let as_is = device.format.as_deref() == Some("raw") && device.compression.is_none();
                let source = if as_is { source } else { source.unwrapped()? };
                let stream = match source {
                    Source::Storage(storage) => {
                        disk.parts.push(Part::plain(storage, entry));
                        continue;
                    }
                    Source::Stream(stream) => stream,
                };
                if device.files.len() > 1 {
                    findings
                        .push(unreadable(format!("its piece '{file}' is compressed separately ({})", stream.kind())));
                    return Ok(disk);
                }
                let Some(unpack) = &self.opening.unpack else {
                    let size = stream.storage().map_or(0, |storage| storage.len());
                    let compression = stream.kind().to_string();
                    findings.push(Finding::LooksPacked { file: file.clone(), kind: compression.clone() });
                    disk.stream = Some(super::StreamFacts { compression, format: None, size });
                    return Ok(disk);
                };
                let unpacked = unpack.spool(&stream, entry.as_ref())?;
                findings.push(super::unpack::spooled(&stream));
                disk.parts.extend(unpacked.part(entry));
                inside = Some(unpacked.storage()?);
            }
        }
        let whole: Arc<dyn Storage> = match (inside, &disk.parts[..]) {
            (Some(inside), _) => inside,
            (None, [one]) => one.storage.clone(),
            (None, parts) => {
                let name = device.files.first().map_or("", |file| file.trim_end_matches(".000000000"));
                let name = format!("{name} ({} pieces)", parts.len());
                Arc::new(Pieces::new(
                    name,
                    parts.iter().map(|part| part.storage.clone()).collect(),
                    &self.opening.budget,
                ))
            }
        };
        let stated = document.files.iter().find(|file| file.parts == device.files).and_then(|file| file.size);
        // What is stated is the length of the file as it lies there.
        let found = disk.parts.iter().map(|part| part.storage.len()).fold(0, u64::saturating_add);
        let is_file = disk.parts.iter().all(|part| part.packed.as_ref().is_none_or(|p| p.name == part.storage.name()));
        if let (Some(stated), Some(file)) = (stated.filter(|&stated| stated != found && is_file), device.files.first())
        {
            findings.push(Finding::LengthDiffers { file: file.clone(), stated, found });
        }
        // What is declared raw is raw.
        let declared = device.format.as_ref().and_then(|format| format.parse::<Format>().ok());
        let declared = declared.filter(|_| !whole.is_raw());
        match opener.open(whole, declared) {
            Ok(image) => {
                disk.size = image.facts.virtual_size;
                if let Some(stated) = device.capacity.filter(|&stated| stated != disk.size) {
                    findings.push(Finding::CapacityDiffers { disk: id.clone(), stated, found: disk.size });
                }
                findings.extend(finding::of_image(&id, &image.facts));
                if !image.facts.parents.is_empty() {
                    findings.push(Finding::DeltasFlattened { disk: id, deltas: image.facts.parents.len() });
                }
                disk.image = Some(image);
            }
            Err(error) => findings.push(unreadable(error.to_string())),
        }
        Ok(disk)
    }

    /// The file of the firmware's variables, where it is there; what stands in the way of reading it is told.
    fn nvram(&self, machine: &Machine, findings: &mut Vec<Finding>) -> Option<Arc<dyn Storage>> {
        let name = machine.nvram.as_ref()?;
        match self.find(name).and_then(|found| found.map(in_memory).transpose()) {
            Ok(found) => found,
            Err(error) => {
                let (file, why) = (name.clone(), error.to_string());
                findings.push(Finding::VariablesLeft { file, why });
                None
            }
        }
    }

    /// A package whose names lead out of it is refused as a whole: no host writes such a one.
    fn is_strict(&self) -> bool {
        self.name.to_ascii_lowercase().ends_with(".ovf")
    }
}

/// Whether a host keeps a file back, as those of a machine that runs.
fn is_kept_back(error: &Error) -> bool {
    matches!(error, Error::Disk(Disk::Wire(error)) if error.kind == WireKind::Refused)
}

/// The place of the machine that is meant.
fn pick(names: &[String], which: Pick<'_>, path: &Path) -> Result<usize> {
    let path = || path.to_string_lossy().into_owned();
    match which {
        Pick::Nth(index) if index < names.len() => Ok(index),
        Pick::Nth(_) => Err(Error::NoSuchMachine { path: path(), name: String::new(), names: names.to_vec() }),
        Pick::Named(name) => names.iter().position(|known| known == name).ok_or_else(|| Error::NoSuchMachine {
            path: path(),
            name: name.into(),
            names: names.to_vec(),
        }),
        Pick::Only if names.len() > 1 => Err(Error::Several { path: path(), names: names.to_vec() }),
        Pick::Only => Ok(0),
    }
}

fn of_sign(machine: &str, sign: &Sign) -> Finding {
    match sign {
        Sign::Running => Finding::Running { machine: machine.into() },
        Sign::Suspended { file } => Finding::Suspended { file: file.clone().unwrap_or_default() },
        Sign::Encrypted => Finding::MachineEncrypted { machine: machine.into() },
        Sign::Snapshots { count } => Finding::SnapshotsLeft { count: *count },
    }
}

/// What a host puts beside a machine file while it holds it.
fn lock_beside(file: &Path) -> Option<String> {
    ["lck", "lock"]
        .map(|ending| PathBuf::from(format!("{}.{ending}", file.display())))
        .into_iter()
        .find(|path| path.exists())
        .map(|path| path.to_string_lossy().into_owned())
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
    let digest = Hasher::of(Some(entry.algorithm), bytes);
    if digest.value != entry.digest {
        findings.push(Finding::DescriptorChanged { file: name.into() });
    }
    digest
}
