//! The folder in which is kept what a guest writes: `lend.json` says of what, and each disk has a file.

use std::{
    ffi::{OsStr, OsString},
    os::unix::fs::FileExt,
    path::Path,
    sync::Arc,
};

use jiff::Timestamp;
use reformis_disk::{
    Disk,
    overlay::Edit,
    scratch::{Scratch, Writable},
    source::Access,
};
use reformis_machine::Machine;
use serde::{Deserialize, Serialize};

use super::{after, grown};
use crate::{
    TOOL,
    error::{Error, Result},
    finding::Finding,
    inside::EditedDisk,
    observer::Context,
    plan::{Plan, PlannedDisk},
    prepare::{Prepared, Settled},
    receipt::LentRecord,
    record::{GuestRecord, SourceFile},
    staging::{Place, StagedFolder, write_into},
    target::{self, Part, Target},
};

/// The file that says of what.
const FILE_NAME: &str = "lend.json";
/// The longest such file, in bytes.
const MOST: u64 = 64 << 20;
/// Version of it.
const SCHEMA: u32 = 1;
/// The edit under which a receipt lists what the guest wrote.
const WRITES: &str = "guest-writes";
/// The most ranges of it in a receipt, for each disk.
const RANGES: usize = 1 << 16;

/// What was lent.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub(super) struct Record {
    schema: u32,
    tool: String,
    /// When it was first lent.
    since: Timestamp,
    target: String,
    destination: String,
    /// As it is at its destination: it keeps its identity and its addresses when it lands.
    machine: Machine,
    sources: Vec<SourceFile>,
    disks: Vec<DiskRecord>,
    guest: GuestRecord,
}

#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub(super) struct DiskRecord {
    /// Its name in the source's machine file.
    id: String,
    /// Bytes, as it lands.
    size: u64,
    /// What was changed before it was lent.
    edits: Vec<Edit>,
}

/// The folder, locked.
pub(crate) struct Kept {
    folder: Place,
    record: Record,
    /// Bytes that the guest wrote, where that was counted.
    written: u64,
}

/// The file of a disk's writes.
fn file_of(index: usize) -> OsString {
    format!("disk-{index}.scratch").into()
}

/// The files that the disks of a plan are read from.
fn sources(target: &Target, plan: &Plan) -> Vec<SourceFile> {
    let disks = plan.disks.iter().filter_map(|disk| target.disks.get(disk.source));
    let files = disks.flat_map(|disk| {
        let parts = disk.parts.iter().map(part_of);
        let below = disk.image.iter().flat_map(|image| &image.files);
        parts.chain(below.map(|file| target::source_file(file.as_ref(), None))).collect::<Vec<_>>()
    });
    files.collect()
}

/// A file that a disk is read from. What was unpacked is another file each time: what it was unpacked from tells it.
fn part_of(part: &Part) -> SourceFile {
    match &part.packed {
        Some(packed) => SourceFile {
            path: part.place(),
            size: part.storage.len(),
            modified: None,
            changed: None,
            inode: None,
            tag: Some(packed.digest.value.clone()),
            digest: None,
            access: None,
        },
        None => target::source_file(part.storage.as_ref(), None),
    }
}

impl Kept {
    /// Makes the folder for a machine that was made ready, whole or not at all.
    pub(super) fn create(path: &Path, prepared: &Prepared, accept: &[String]) -> Result<Self> {
        let (plan, _) = prepared.accepted(accept)?;
        let mut staged = StagedFolder::create(path, false, FILE_NAME, false)?;
        staged.keep_private();
        let mut disks = Vec::new();
        for (index, planned) in plan.disks.iter().enumerate() {
            let base = below(prepared, planned)?;
            let name = file_of(index);
            // What a guest writes is its own business, whatever it was read from.
            let file = staged.inside().create(&name, Access::OWNER)?;
            let shown = path.join(&name).to_string_lossy().into_owned();
            let scratch = Scratch::create(file, shown, base)?;
            let edits = match prepared.inside.disks.get(&planned.source) {
                Some(EditedDisk { disk, edits }) => {
                    scratch.keep_edits(disk.as_ref(), edits)?;
                    edits.clone()
                }
                None => Vec::new(),
            };
            scratch.flush()?;
            let id = prepared.settled.target.disks.get(planned.source).map(|disk| disk.id.clone()).unwrap_or_default();
            disks.push(DiskRecord { id, size: planned.size, edits });
        }
        let record = Record {
            schema: SCHEMA,
            tool: TOOL.into(),
            since: Timestamp::now(),
            target: prepared.settled.target.name.clone(),
            destination: prepared.settled.destination.name.clone(),
            machine: plan.machine.clone(),
            sources: sources(&prepared.settled.target, plan),
            disks,
            guest: prepared.inside.record.clone(),
        };
        let bytes = serde_json::to_vec_pretty(&record).unwrap_or_default();
        write_into(staged.inside(), FILE_NAME, &bytes, Access::OWNER)?;
        // Locked as long as it is open.
        let folder = staged.inside().clone();
        staged.commit()?;
        Ok(Self { folder, record, written: 0 })
    }

    /// Opens the folder at `path`, and locks it.
    pub(crate) fn open(path: &Path) -> Result<Self> {
        let path = &std::path::absolute(path).map_err(Error::io("finding", path))?;
        let folder = Place::open_locked(path)?;
        let wrong = |what: String| Error::NotKept { path: path.to_string_lossy().into(), what };
        let Some(file) = folder.open_file_again(OsStr::new(FILE_NAME))? else {
            return Err(wrong(format!("there is no {FILE_NAME} in it")));
        };
        let place = folder.path_of(FILE_NAME);
        let failed = || Error::io("reading", &place);
        let len = file.metadata().map_err(failed())?.len();
        if len > MOST {
            return Err(wrong(format!("its {FILE_NAME} has {len} bytes, and none has more than {MOST}")));
        }
        let mut bytes = vec![0; reformis_disk::to_usize(len)];
        file.read_exact_at(&mut bytes, 0).map_err(failed())?;
        let record = parse(&bytes).map_err(|what| wrong(format!("its {FILE_NAME} cannot be used: {what}")))?;
        Ok(Self { folder, record, written: 0 })
    }

    fn wrong(&self, what: impl Into<String>) -> Error {
        Error::NotKept { path: self.folder.path().to_string_lossy().into(), what: what.into() }
    }

    /// The disk's edits, and no writes.
    pub(super) fn edits(&self, index: usize) -> Vec<Edit> {
        self.record.disks.get(index).map(|disk| disk.edits.clone()).unwrap_or_default()
    }

    /// The machine's disks with what is kept above them, in the plan's order.
    pub(super) fn scratches(&self, prepared: &Prepared) -> Result<Vec<Scratch>> {
        let Some(plan) = &prepared.settled.plan else { return Ok(Vec::new()) };
        self.open_all(&prepared.settled.target, plan)
    }

    fn open_all(&self, target: &Target, plan: &Plan) -> Result<Vec<Scratch>> {
        let open = |(index, planned): (usize, &PlannedDisk)| {
            let name = file_of(index);
            let shown = self.folder.path_of(&name).to_string_lossy().into_owned();
            let Some(file) = self.folder.open_file_again(&name)? else {
                return Err(self.wrong(format!("there is no {} in it", name.to_string_lossy())));
            };
            let base = target.disks.get(planned.source).map(|disk| grown(disk.disk(), planned.size));
            let base = base.ok_or_else(|| self.wrong("it is of another machine"))?;
            Ok(Scratch::open(file, shown, base)?)
        };
        plan.disks.iter().enumerate().map(open).collect()
    }

    /// The machine of `settled` with what is kept here: what was changed before it was lent, and what its guest wrote.
    ///
    /// # Errors
    /// [`Error::NotKept`] when it is not this machine, or its hardware is another one; `Changed` when a source has changed.
    pub(crate) fn applied_to(&self, mut settled: Settled, context: &Context<'_>) -> Result<Prepared> {
        let Some(plan) = &mut settled.plan else { return Err(Error::Refused { findings: settled.findings }) };
        let record = &self.record;
        let ids = plan.disks.iter().map(|disk| settled.target.disks.get(disk.source).map(|known| known.id.as_str()));
        let known = record.disks.iter().map(|disk| Some(disk.id.as_str()));
        if record.target != settled.target.name || !ids.eq(known) {
            return Err(self.wrong(format!("it is of '{}'", reformis_disk::text::printable(&record.target))));
        }
        if record.destination != settled.destination.name {
            return Err(self.wrong(format!("its guest was made ready for {}", record.destination)));
        }
        let found = sources(&settled.target, plan);
        let changed =
            found.iter().zip(&record.sources).find(|(now, then)| now.path != then.path || !now.is_same_version(then));
        if let Some((now, _)) = changed {
            let what = "it is another version than the one that was lent".into();
            return Err(reformis_disk::Error::Changed { path: now.path.clone(), what }.into());
        }
        if found.len() != record.sources.len() {
            return Err(self.wrong("its disks were read from other files"));
        }
        let hardware = |machine: &Machine| {
            let disks: Vec<_> = machine.disks.iter().map(|disk| (disk.controller, disk.bus, disk.slot)).collect();
            let adapters: Vec<_> = machine.adapters.iter().map(|adapter| adapter.model).collect();
            (machine.firmware, disks, adapters)
        };
        let sizes = plan.disks.iter().map(|disk| disk.size);
        if hardware(&plan.machine) != hardware(&record.machine) || !sizes.eq(record.disks.iter().map(|disk| disk.size))
        {
            return Err(
                self.wrong("the brief has other hardware, or disks of other sizes, than the guest was lent with")
            );
        }
        // It is the same machine to its network and to its licences.
        plan.machine.uuid = record.machine.uuid;
        for (adapter, lent) in plan.machine.adapters.iter_mut().zip(&record.machine.adapters) {
            adapter.mac = lent.mac;
        }
        let scratches: Vec<Arc<dyn Disk>> =
            self.open_all(&settled.target, plan)?.into_iter().map(|scratch| Arc::new(scratch) as _).collect();
        let inside = after::look(&scratches, &plan.machine, &settled.destination, &record.guest, context)?;
        let places: Vec<usize> = plan.disks.iter().map(|disk| disk.source).collect();
        let mut prepared = settled.with(inside);
        for (index, (place, disk)) in places.into_iter().zip(scratches).enumerate() {
            prepared.inside.disks.insert(place, EditedDisk { disk, edits: self.edits(index) });
        }
        Ok(prepared)
    }

    /// Notes what the guest wrote, as an edit of its own on each disk of `prepared`.
    pub(crate) fn note_writes(&mut self, prepared: &mut Prepared) -> Result<()> {
        let Some(plan) = &prepared.settled.plan else { return Ok(()) };
        let scratches = self.open_all(&prepared.settled.target, plan)?;
        for (planned, scratch) in plan.disks.iter().zip(scratches) {
            let ranges = scratch.written(RANGES)?;
            let bytes: u64 = ranges.iter().map(|range| range.end - range.start).sum();
            if bytes == 0 {
                continue;
            }
            self.written += bytes;
            let disk =
                prepared.settled.target.disks.get(planned.source).map(|disk| disk.id.clone()).unwrap_or_default();
            prepared.settled.findings.push(Finding::GuestWrote { disk, bytes });
            if let Some(edited) = prepared.inside.disks.get_mut(&planned.source) {
                let reason = "The guest wrote it while its disk was lent.".into();
                edited.edits.push(Edit { name: WRITES.into(), reason, ranges });
            }
        }
        Ok(())
    }

    /// What a receipt says of it.
    pub(crate) fn into_record(self) -> LentRecord {
        let kept = self.folder.path().to_string_lossy().into_owned();
        LentRecord { kept, since: self.record.since, written: self.written }
    }
}

/// Reads the record; the error is the end of a sentence.
pub(super) fn parse(bytes: &[u8]) -> Result<Record, String> {
    let record: Record = serde_json::from_slice(bytes).map_err(|error| error.to_string())?;
    if record.schema != SCHEMA {
        return Err(format!("its schema is {}, and this version reads {SCHEMA}", record.schema));
    }
    for disk in &record.disks {
        for range in disk.edits.iter().flat_map(|edit| &edit.ranges) {
            if range.start >= range.end || range.end > disk.size {
                return Err(format!("an edit covers bytes {} to {} of {}", range.start, range.end, disk.size));
            }
        }
    }
    Ok(record)
}

/// The disk below what is written to `planned`.
fn below(prepared: &Prepared, planned: &PlannedDisk) -> Result<Arc<dyn Disk>> {
    let disk = prepared.settled.target.disks.get(planned.source);
    let disk = disk.ok_or_else(|| Error::Refused { findings: vec![Finding::NoDisk] })?;
    Ok(grown(disk.disk(), planned.size))
}
