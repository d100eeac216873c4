//! What a landing is made of: the disks in their files, or in one archive, and the machine files beside them.

use reformis_disk::to_usize;
use std::{
    ffi::OsStr,
    fs::File,
    io::{self, Write},
    os::unix::fs::FileExt,
    path::{Path, PathBuf},
    sync::{Arc, Mutex, MutexGuard, PoisonError},
};

use reformis_disk::{
    ByteSize, Disk, Facts,
    budget::{Budget, Held},
    container,
    copy::{
        output::{Output, PieceMaker},
        pipeline,
        watch::Watch,
        writer::Copied,
    },
    format::{self, NewImage},
    source::Access,
};
use reformis_machine::{
    Destination, Earlier, LandedDisk, Lost, Machine, MachineFile, domain, launch, ovf, script, vbox, vmx,
};
use sha2::{Digest as _, Sha256};

use crate::{
    checksum::hex,
    error::{Error, Result},
    plan::{Plan, PlannedDisk},
    staging::{Place, write_into},
};

/// The most bytes that a host keeps of a firmware's variables.
const MAX_NVRAM: u64 = 64 << 20;
/// Bytes of a record of an archive.
const RECORD: u64 = 512;

/// A machine file in the making, and others that belong to it.
#[derive(Debug)]
pub(crate) struct MachineFiles {
    /// Name and content; the first is the machine file itself.
    pub(crate) files: Vec<(String, Vec<u8>)>,
}

/// The machine file or files of `plan`, whose machine names its disks' files already.
pub(crate) fn machine_files(
    machine: &Machine,
    kind: MachineFile,
    landed: &[LandedDisk],
    destination: &Destination,
    earlier: Option<Earlier<'_>>,
) -> Result<MachineFiles> {
    let name = &machine.name;
    let failed = |error: io::Error| Error::io("writing", Path::new(name.as_str()))(error);
    let descriptor = |earlier| ovf::write(machine, landed, family(destination), earlier).map_err(failed);
    let file = |ending: &str, text: String| (format!("{name}.{ending}"), text.into_bytes());
    let files = match kind {
        MachineFile::DomainXml => vec![file("xml", domain::write(machine, earlier).map_err(failed)?)],
        MachineFile::Ovf | MachineFile::Ova => vec![file("ovf", descriptor(earlier)?)],
        MachineFile::Vmx => vec![file("vmx", vmx::write(machine, earlier))],
        MachineFile::Vbox => vec![file("vbox", vbox::write(machine, landed, earlier).map_err(failed)?)],
        MachineFile::StartScript => vec![file("ps1", script::write(machine)), file("ovf", descriptor(None)?)],
        MachineFile::LaunchJson => {
            vec![file("launch.json", launch::write(machine, landed, &destination.name, earlier))]
        }
    };
    Ok(MachineFiles { files })
}

/// The hardware family of a descriptor for `destination`.
fn family(destination: &Destination) -> &str {
    destination.hardware_family.as_deref().unwrap_or("vmx-14")
}

/// What of `machine` its machine file has no word for: found by reading the file back.
pub(crate) fn lost(
    machine: &Machine,
    kind: MachineFile,
    destination: &Destination,
    files: &MachineFiles,
) -> Result<Vec<Lost>> {
    if kind == MachineFile::StartScript {
        return Ok(script::unsaid(machine));
    }
    let Some((name, bytes)) = files.files.first() else { return Ok(Vec::new()) };
    let read = reformis_machine::read(kind, bytes, name)?;
    let mut lost = read.machines.first().map(|read| reformis_machine::lost(machine, read)).unwrap_or_default();
    if matches!(kind, MachineFile::Ovf | MachineFile::Ova) {
        lost.extend(ovf::ignored(machine, family(destination)));
    }
    Ok(lost)
}

/// The machine as its file names it, with a file for each disk: beside it, or by its whole path.
pub(crate) fn with_files(plan: &Plan) -> Machine {
    let mut machine = plan.machine.clone();
    for (device, planned) in machine.disks.iter_mut().zip(&plan.disks) {
        let whole = plan.machine_file == MachineFile::DomainXml;
        let file = if whole { plan.folder.join(&planned.file).to_string_lossy().into() } else { planned.file.clone() };
        device.files = vec![file];
        device.format = Some(planned.shape.format.to_string());
        device.capacity = Some(planned.size);
        device.compression = planned.wrapping.map(|kind| kind.name().to_string());
    }
    if let Some((file, _)) = &plan.nvram {
        let whole = plan.machine_file == MachineFile::DomainXml;
        machine.nvram = Some(if whole { plan.folder.join(file).to_string_lossy().into() } else { file.clone() });
    }
    machine
}

/// Where the disks of a landing go.
pub(crate) enum Holder {
    /// Each into a file of its own in this folder; with digests for a manifest.
    Folder { folder: Place, digests: bool },
    /// All into one archive.
    Archive(ArchiveFile),
}

/// A disk that was written.
pub(crate) struct Written {
    pub(crate) copied: Copied,
    /// SHA-256 of the file, where a manifest needs it.
    pub(crate) digest: Option<String>,
    /// Length of the file in bytes, where it is a member of an archive.
    pub(crate) len: u64,
}

impl Holder {
    /// Writes `disk` as `planned`, into a file that is open to nobody who may not open one of `access`.
    pub(crate) fn write(
        &mut self,
        disk: &dyn Disk,
        planned: &PlannedDisk,
        access: Access,
        watch: &Watch<'_>,
    ) -> Result<Written> {
        let new = NewImage { wrapping: planned.wrapping, ..NewImage::new(planned.shape, planned.size) };
        match self {
            Self::Folder { folder, digests } => {
                let path = folder.path_of(&planned.file);
                let file = folder.create(OsStr::new(&planned.file), access)?;
                let own = file.try_clone().map_err(Error::io("opening", &path))?;
                let name = path.to_string_lossy().into_owned();
                let in_one_direction = *digests && format::is_one_way(planned.shape);
                let sink = Sink::new(own.try_clone().map_err(Error::io("opening", &path))?, 0);
                let pieces = Arc::new(Mutex::new(vec![(path.clone(), own)]));
                let output = if in_one_direction {
                    Output::pipe(sink.clone(), name)
                } else {
                    Output::with_pieces(file, name, piece_maker(folder.clone(), access, pieces.clone()))
                };
                let copied = copy(disk, output, &new, watch)?;
                for (path, file) in lock(&pieces).iter() {
                    file.sync_all().map_err(Error::io("flushing", path))?;
                }
                let digest = match (in_one_direction, *digests) {
                    (true, _) => Some(sink.finish().1),
                    (false, true) => Some(sha256_of(folder.open_file(OsStr::new(&planned.file))?, &path, watch)?),
                    (false, false) => None,
                };
                Ok(Written { copied, digest, len: 0 })
            }
            Self::Archive(archive) => {
                let sink = archive.begin()?;
                let copied = copy(disk, Output::pipe(sink.clone(), planned.file.clone()), &new, watch)?;
                let (len, digest) = sink.finish();
                archive.end(&planned.file, len)?;
                Ok(Written { copied, digest: Some(digest), len })
            }
        }
    }
}

fn copy(disk: &dyn Disk, output: Output, new: &NewImage, watch: &Watch<'_>) -> Result<Copied> {
    let mut writer = format::create_in(output, new)?;
    Ok(pipeline::copy(disk, writer.as_mut(), watch)?)
}

/// Makes further files in `folder`, and remembers all of them: each has to be flushed.
fn piece_maker(folder: Place, access: Access, pieces: Arc<Mutex<Vec<(PathBuf, File)>>>) -> PieceMaker {
    Box::new(move |piece: &str| {
        let path = folder.path_of(piece);
        let file = folder.create(OsStr::new(piece), access).map_err(Error::into_disk)?;
        let own = file.try_clone().map_err(reformis_disk::Error::io("opening", path.to_string_lossy(), None))?;
        lock(&pieces).push((path, own));
        Ok(file)
    })
}

fn lock<T>(mutex: &Mutex<T>) -> MutexGuard<'_, T> {
    mutex.lock().unwrap_or_else(PoisonError::into_inner)
}

#[expect(clippy::indexing_slicing, reason = "never more was read than the buffer holds")]
fn sha256_of(mut file: File, path: &Path, watch: &Watch<'_>) -> Result<String> {
    let (mut hash, mut buf) = (Sha256::new(), vec![0; 1 << 20]);
    loop {
        if (watch.cancel)() {
            return Err(reformis_disk::Error::Interrupted.into());
        }
        match io::Read::read(&mut file, &mut buf).map_err(Error::io("reading", path))? {
            0 => return Ok(hex(&hash.finalize())),
            len => hash.update(&buf[..len]),
        }
    }
}

/// Takes bytes in one direction, and digests them as they pass: an archive or a manifest needs that, and so the file is
/// not read again.
#[derive(Clone)]
struct Sink(Arc<Mutex<Inside>>);

struct Inside {
    file: File,
    start: u64,
    at: u64,
    hash: Sha256,
}

impl Sink {
    fn new(file: File, start: u64) -> Self {
        Self(Arc::new(Mutex::new(Inside { file, start, at: start, hash: Sha256::new() })))
    }

    fn inside(&self) -> MutexGuard<'_, Inside> {
        lock(&self.0)
    }

    /// Number of bytes, and their digest.
    fn finish(&self) -> (u64, String) {
        let inside = self.inside();
        (inside.at - inside.start, hex(&inside.hash.clone().finalize()))
    }
}

impl Write for Sink {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        let mut inside = self.inside();
        inside.file.write_all_at(bytes, inside.at)?;
        inside.at += bytes.len() as u64;
        inside.hash.update(bytes);
        Ok(bytes.len())
    }

    fn flush(&mut self) -> io::Result<()> {
        Ok(())
    }
}

/// An archive (ustar) whose first members, the descriptor and the manifest, get their room at the start and their content
/// at the end, when the disks' lengths and digests are known.
pub(crate) struct ArchiveFile {
    file: File,
    path: PathBuf,
    /// Bytes kept for the content of the descriptor, and of the manifest.
    room: (u64, u64),
    at: u64,
}

impl ArchiveFile {
    /// Makes the archive `name` in `folder`, with room for a descriptor of `descriptor` bytes and a manifest of `manifest`.
    pub(crate) fn create(folder: &Place, name: &str, access: Access, descriptor: u64, manifest: u64) -> Result<Self> {
        let (file, path) = (folder.create(OsStr::new(name), access)?, folder.path_of(name));
        let room = (descriptor.next_multiple_of(RECORD), manifest.next_multiple_of(RECORD));
        Ok(Self { file, path, room, at: 2 * RECORD + room.0 + room.1 })
    }

    fn put(&self, bytes: &[u8], at: u64) -> Result<()> {
        self.file.write_all_at(bytes, at).map_err(Error::io("writing", &self.path))
    }

    fn header(&self, name: &str, len: u64, at: u64) -> Result<()> {
        let mut header = tar::Header::new_ustar();
        header.set_path(name).map_err(Error::io("naming a member of", &self.path))?;
        header.set_size(len);
        header.set_mode(0o644);
        header.set_entry_type(tar::EntryType::Regular);
        header.set_cksum();
        self.put(header.as_bytes(), at)
    }

    fn begin(&self) -> Result<Sink> {
        let file = self.file.try_clone().map_err(Error::io("opening", &self.path))?;
        Ok(Sink::new(file, self.at + RECORD))
    }

    fn end(&mut self, name: &str, len: u64) -> Result<()> {
        self.header(name, len, self.at)?;
        self.at += RECORD + len.next_multiple_of(RECORD);
        Ok(())
    }

    /// `descriptor` with line ends up to the room that it has.
    pub(crate) fn filled(&self, mut descriptor: Vec<u8>) -> Vec<u8> {
        descriptor.resize(to_usize(self.room.0), b'\n');
        descriptor
    }

    /// Writes the descriptor, which fills its room, and the manifest; ends the archive.
    pub(crate) fn finish(self, descriptor: (&str, &[u8]), manifest: (&str, &[u8])) -> Result<()> {
        self.header(descriptor.0, descriptor.1.len() as u64, 0)?;
        self.put(descriptor.1, RECORD)?;
        let at = RECORD + self.room.0;
        self.header(manifest.0, manifest.1.len() as u64, at)?;
        self.put(manifest.1, at + RECORD)?;
        self.put(&[0; 2 * to_usize(RECORD)], self.at)?;
        self.file.sync_all().map_err(Error::io("flushing", &self.path))
    }
}

/// A manifest: a line for each file (DSP0243, "Manifest").
pub(crate) fn manifest(lines: &[(String, String)]) -> String {
    lines.iter().map(|(file, digest)| format!("SHA256({file})= {digest}\n")).collect()
}

/// What the finished image says of itself, read back.
pub(crate) fn facts_of(folder: &Place, result: &str, planned: &PlannedDisk, copied: &Copied) -> Result<Facts> {
    // What we made ourselves is nothing of a stranger's.
    let storage = container::open(&folder.path_of(result), &Budget::whole())?;
    Ok(match planned.wrapping {
        Some(kind) => Facts::of_stream(planned.shape, kind.name(), copied.size, storage.as_ref()),
        None => format::open(storage, Some(planned.shape.format))?.facts,
    })
}

/// Writes a copy of the firmware's variables into the landing.
pub(crate) fn write_nvram(folder: &Place, file: &str, storage: &dyn reformis_disk::Storage) -> Result<Held<Vec<u8>>> {
    if storage.len() > MAX_NVRAM {
        let (path, len) = (storage.name().into(), ByteSize(storage.len()));
        let what = format!("the firmware's variables take {len}, and no host keeps more than {}", ByteSize(MAX_NVRAM));
        return Err(reformis_disk::Error::Unsupported { path, what }.into());
    }
    let bytes = crate::target::read_text(storage, MAX_NVRAM)?;
    let access = storage.identity().and_then(|identity| identity.access).unwrap_or(Access::ANYBODY);
    write_into(folder, file, &bytes, access)?;
    Ok(bytes)
}
