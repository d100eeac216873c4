//! The disks, the machine file and what belongs to it, made in the folder that becomes the landing.

use std::{
    ops::Range,
    sync::atomic::{AtomicBool, Ordering},
};

use reformis_disk::{
    Facts,
    copy::{pipeline, watch::Watch},
    disk::GrownDisk,
    overlay::Edit,
    source::Access,
};
use reformis_machine::{Earlier, LandedDisk, Machine, MachineFile, manifest::Algorithm};

use super::{changes, delta};
use crate::{
    checksum::Hasher,
    error::{Error, Result},
    inside::EditedDisk,
    landing::{
        ahead::{Kept, TouchedBlocks},
        archive::ArchiveFile,
        digests,
        facts::{self, empty},
        files,
        holder::{GoingOn, Holder},
        journal::DiskJournal,
        shipping::{self, Shipping},
        written::Written,
    },
    observer::{Context, Step},
    plan::{Plan, PlannedDisk},
    prepare::Prepared,
    receipt::{DiskFacts, DiskRecord, LandedFile, MachineRecord, Reread, SecondRead, Told},
    record::{FileDigest, SourceFile},
    staging::{StagedFolder, write_into},
    target::{self, TargetDisk},
};

/// A move that is being made.
pub(super) struct Move<'a> {
    pub(super) prepared: &'a Prepared,
    pub(super) plan: &'a Plan,
    pub(super) staged: &'a StagedFolder,
    pub(super) context: &'a Context<'a>,
    pub(super) sources: Vec<SourceFile>,
    /// The store that the disks go to.
    pub(super) shipping: Option<Shipping>,
    /// Whether journals are kept, so that it can be gone on with.
    pub(super) is_kept: bool,
    /// The first pass that is kept, so that only what changed is written.
    pub(super) first: Option<&'a Kept>,
    /// The map of what was written since, at the source, where it has one.
    pub(super) bitmap: Option<&'a str>,
}

/// Whether the landing has a manifest, for which each disk's file is digested.
fn has_manifest(plan: &Plan) -> bool {
    plan.machine_file == MachineFile::Ovf
}

/// One block of how many is compared where a source has no version.
const SAMPLE: u64 = 64;

/// What may have changed of a disk; none where nothing tells.
type Ranges = Option<Vec<Range<u64>>>;

/// A disk in its place.
pub(super) struct Carried {
    pub(super) written: Written,
    /// What told of changes since a first pass.
    told: Told,
    /// What of it was read once more, behind a first pass.
    read: Option<SecondRead>,
    edits: Vec<Edit>,
}

/// What a move came to.
pub(super) struct Made {
    pub(super) disks: Vec<DiskRecord>,
    pub(super) machine: MachineRecord,
    /// Bytes of the blocks that had changed since a first pass.
    pub(super) changed: u64,
    /// What told of them.
    pub(super) told: Told,
    /// What of each disk was read once more, behind a first pass.
    pub(super) reads: Vec<SecondRead>,
}

impl Move<'_> {
    pub(super) fn make(&mut self) -> Result<Made> {
        let machine = files::with_files(self.plan);
        let mut holder = self.holder(&machine)?;
        let mut carried = Vec::new();
        for (index, planned) in self.plan.disks.iter().enumerate() {
            let what = planned.file.clone();
            let step = Step { action: "carrying", what, number: index + 1, of: self.plan.disks.len() };
            let disk = self.carry_disk(index, planned, &mut holder, &step)?;
            if let Some(shipping) = self.shipping.as_ref().filter(|_| !disk.written.is_sent) {
                let len = shipping.made(planned, self.staged.inside())?;
                let step = Step { action: "sending", ..step };
                let written = &disk.written;
                self.context.step(&step, len, |watch| shipping.send(planned, written, self.staged.inside(), watch))?;
            }
            carried.push(disk);
        }
        // An archive's members can be opened when its descriptor is there, which says how long they are.
        let mut landed = Vec::new();
        let mut facts = Vec::new();
        let archive = match holder {
            Holder::Archive(archive) => Some(archive),
            Holder::Folder { .. } | Holder::Store { .. } => None,
        };
        for (planned, carried) in self.plan.disks.iter().zip(&carried) {
            let read = if archive.is_some() { None } else { Some(self.facts(planned, carried)?) };
            landed.push(landed_disk(planned, carried, read.as_ref()));
            facts.push(read);
        }
        let record = self.machine_files(&machine, &landed, &carried, archive)?;
        let changed = carried.iter().filter_map(|disk| disk.written.changed).fold(0, u64::saturating_add);
        let told = carried.iter().map(|disk| disk.told).max().unwrap_or_default();
        let reads = carried.iter().filter_map(|disk| disk.read.clone()).collect();
        let mut records = Vec::new();
        for ((planned, carried), read) in self.plan.disks.iter().zip(carried).zip(facts) {
            let after = read.map_or_else(|| self.facts(planned, &carried), Ok)?;
            records.push(self.record(planned, carried, &after));
        }
        Ok(Made { disks: records, machine: record, changed, told, reads })
    }

    /// Who may open a file that holds all disks and the machine's settings.
    fn access(&self) -> Access {
        let settled = &self.prepared.settled;
        let disks = self.plan.disks.iter().filter_map(|planned| settled.target.disks.get(planned.source));
        disks.fold(settled.access(), |access, disk| access.and(disk.access()))
    }

    fn archive_name(&self) -> String {
        format!("{}.ova", self.plan.machine.name)
    }

    /// Name of a disk's file, from the landing's folder; its place, in a store.
    fn result(&self, planned: &PlannedDisk) -> String {
        if let Some(shipping) = &self.shipping {
            return shipping.result(&planned.file);
        }
        match self.plan.machine_file {
            MachineFile::Ova => format!("{}/{}", self.archive_name(), planned.file),
            _ => planned.file.clone(),
        }
    }

    fn holder(&self, machine: &Machine) -> Result<Holder> {
        let kind = self.plan.machine_file;
        if kind != MachineFile::Ova {
            let folder = self.staged.inside().clone();
            if let Some(shipping) = self.shipping.clone() {
                return Ok(Holder::Store { folder, shipping, digests: has_manifest(self.plan) });
            }
            return Ok(Holder::Folder { folder, digests: has_manifest(self.plan) });
        }
        // As long as it can get: every number with all its digits.
        let most = |planned: &PlannedDisk| LandedDisk { file_size: u64::MAX, used: u64::MAX, ..empty(planned) };
        let landed: Vec<LandedDisk> = self.plan.disks.iter().map(most).collect();
        let files = files::machine_files(machine, kind, &landed, &self.prepared.settled.destination, self.earlier())?;
        let descriptor = files.files.first().map_or(0, |(_, bytes)| bytes.len() as u64);
        let digest = "0".repeat(64);
        let names =
            std::iter::once(format!("{}.ovf", machine.name)).chain(self.plan.disks.iter().map(|d| d.file.clone()));
        let lines: Vec<_> = names.map(|name| (name, digest.clone())).collect();
        let manifest = files::manifest(&lines).len() as u64;
        Ok(Holder::Archive(ArchiveFile::create(
            self.staged.inside(),
            &self.archive_name(),
            self.access(),
            descriptor,
            manifest,
        )?))
    }

    /// The source's machine file, where it is of the same kind: what we have no word for is kept of it.
    fn earlier(&self) -> Option<Earlier<'_>> {
        self.plan.earlier(&self.prepared.settled.target)
    }

    /// The ranges of the disk at this place that may have changed since a first pass, where something else than its bytes tells of them.
    /// And why all of it is read, where nothing does.
    fn told_of_changes(&self, index: usize, disk: &TargetDisk, first: &Kept) -> Result<(Ranges, Told, Option<Reread>)> {
        let (changed, told) = match self.bitmap {
            Some(bitmap) => (changes::of(disk, bitmap, self.context)?.ok_or(Reread::TooMuch), Told::Bitmap),
            None => (delta::of(disk, first, index, self.context)?, Told::Delta),
        };
        Ok(match changed {
            Ok(changed) => (Some(changed), told, None),
            Err(why) => (None, Told::Digests, Some(why)),
        })
    }

    /// Streams one disk into its image, while its files are compared with the manifest.
    #[expect(
        clippy::indexing_slicing,
        reason = "plans name disks of their own target, and a manifest is the first file"
    )]
    pub(super) fn carry_disk(
        &mut self,
        index: usize,
        planned: &PlannedDisk,
        holder: &mut Holder,
        step: &Step,
    ) -> Result<Carried> {
        let disk = &self.prepared.settled.target.disks[planned.source];
        let edited = self.prepared.inside.disks.get(&planned.source).cloned();
        let EditedDisk { disk: edited, edits } =
            edited.unwrap_or_else(|| EditedDisk { disk: disk.disk(), edits: Vec::new() });
        let ranges: Vec<_> = edits.iter().flat_map(|edit| edit.ranges.clone()).collect();
        let is_edited =
            |asked: Range<u64>| ranges.iter().any(|range| range.start < asked.end && asked.start < range.end);
        let mut journal = if self.is_kept && self.shipping.is_none() {
            Some(DiskJournal::open(self.staged.inside(), &planned.file)?)
        } else {
            None
        };
        let told = self.first.map(|first| self.told_of_changes(index, disk, first)).transpose()?;
        let (changed, told, reread) = told.unwrap_or_default();
        // What a delta is trusted for, its files are, too: they were digested in the first pass.
        let known = self.first.filter(|_| told == Told::Delta).and_then(|first| first.chains.get(index));
        let known = known.map_or(&[][..], Vec::as_slice);
        let may_differ = changed
            .as_ref()
            .map(|changed| move |asked: Range<u64>| is_edited(asked.clone()) || changes::touch(changed, &asked));
        let may_differ = may_differ.as_ref().map(|may| may as &(dyn Fn(Range<u64>) -> bool + Sync));
        let touched = self.first.map(|_| TouchedBlocks::open(self.staged.inside(), &planned.file)).transpose()?;
        let sample = disk.has_no_version().then_some(SAMPLE);
        let whole = GrownDisk::new(edited, planned.size);
        let total = match &self.shipping {
            Some(shipping) if shipping.streams(planned) && shipping::sends_zeros(planned) => planned.size,
            _ => pipeline::work(&whole)?,
        };
        // Either half stops the other when it fails; the person's wish to stop reaches both.
        let failed = AtomicBool::new(false);
        let stop = || failed.load(Ordering::Relaxed) || self.context.is_cancelled();
        let noting = |error: &Error| {
            tracing::debug!(%error, disk = disk.id, "one half of the work ended");
            failed.store(true, Ordering::Relaxed);
        };
        let (written, digests) = self.context.step(step, total, |watch| {
            std::thread::scope(|scope| {
                let digests = scope.spawn(|| digests::digest_parts(disk, known, &stop).inspect_err(&noting));
                let watch = Watch { cancel: &stop, ..*watch };
                let going_on = journal.as_mut().map(|journal| GoingOn {
                    journal,
                    is_edited: &is_edited,
                    sample,
                    second: touched,
                    may_differ,
                });
                let written = holder
                    .write(&whole, planned, disk.access().and(self.prepared.settled.narrowed), going_on, &watch)
                    .inspect_err(&noting);
                let digests = digests.join().unwrap_or(Err(reformis_disk::Error::Interrupted.into()));
                (written, digests)
            })
        });
        // What went wrong is told, not that the other half was stopped for it.
        let (written, files) = match (written, digests) {
            (Ok(written), Ok(files)) => (written, files),
            (Err(error), Err(other)) if error.is_interrupted() => return Err(other),
            (Err(error), _) | (_, Err(error)) => return Err(error),
        };
        let files = digests::with_far_digests(disk, files, &|| self.context.is_cancelled())?;
        tracing::info!(
            disk = disk.id,
            result = planned.file,
            shape = %planned.shape,
            size = planned.size,
            stored = written.copied.stored,
            digest = %written.copied.digest,
            "carried a disk"
        );
        self.sources.extend(files);
        let read = self.first.map(|_| SecondRead { disk: planned.file.clone(), told, reread });
        Ok(Carried { written, told, read, edits })
    }

    /// What the finished file of a disk says of itself.
    fn facts(&self, planned: &PlannedDisk, carried: &Carried) -> Result<Facts> {
        if let Some(shipping) = &self.shipping {
            return shipping.facts(planned, &carried.written.copied, self.context);
        }
        facts::facts_of(self.staged.inside(), &self.result(planned), planned, &carried.written.copied)
    }

    /// Writes the machine file, what belongs to it, and the manifest.
    #[expect(
        clippy::indexing_slicing,
        reason = "plans name disks of their own target, and a manifest is the first file"
    )]
    fn machine_files(
        &self,
        machine: &Machine,
        landed: &[LandedDisk],
        carried: &[Carried],
        archive: Option<ArchiveFile>,
    ) -> Result<MachineRecord> {
        let kind = self.plan.machine_file;
        let mut made = files::machine_files(machine, kind, landed, &self.prepared.settled.destination, self.earlier())?;
        let mut also = Vec::new();
        let digests = |first: &(String, Vec<u8>)| -> Vec<(String, String)> {
            let own = (first.0.clone(), Hasher::of(Some(Algorithm::Sha256), &first.1).value);
            let disks = self.plan.disks.iter().zip(carried);
            let disks = disks.filter_map(|(planned, c)| Some((planned.file.clone(), c.written.digest.clone()?)));
            std::iter::once(own).chain(disks).collect()
        };
        let manifest = format!("{}.mf", machine.name);
        let main = match archive {
            Some(archive) => {
                let (name, bytes) = made.files.swap_remove(0);
                let descriptor = (name, archive.filled(bytes));
                let lines = files::manifest(&digests(&descriptor));
                archive.finish((&descriptor.0, &descriptor.1), (&manifest, lines.as_bytes()))?;
                let file = format!("{}/{manifest}", self.archive_name());
                also.push(LandedFile { file, digest: FileDigest::blake3(lines.as_bytes()) });
                LandedFile {
                    file: format!("{}/{}", self.archive_name(), descriptor.0),
                    digest: FileDigest::blake3(&descriptor.1),
                }
            }
            None => {
                if kind == MachineFile::Ovf {
                    let lines = files::manifest(&digests(&made.files[0]));
                    made.files.push((manifest, lines.into_bytes()));
                }
                for (name, bytes) in &made.files {
                    write_into(self.staged.inside(), name, bytes, self.prepared.settled.access())?;
                    if let Some(shipping) = &self.shipping {
                        shipping.put(name, bytes)?;
                    }
                    also.push(LandedFile { file: name.clone(), digest: FileDigest::blake3(bytes) });
                }
                also.remove(0)
            }
        };
        if let Some((file, storage)) = &self.plan.nvram {
            let bytes = files::write_nvram(self.staged.inside(), file, storage.as_ref())?;
            also.push(LandedFile { file: file.clone(), digest: FileDigest::blake3(&bytes) });
        }
        if let Some(seed) = &self.plan.seed {
            // It may hold keys and passwords.
            write_into(self.staged.inside(), &seed.file, &seed.bytes, Access::OWNER)?;
            if let Some(shipping) = &self.shipping {
                shipping.put(&seed.file, &seed.bytes)?;
            }
            also.push(LandedFile { file: seed.file.clone(), digest: FileDigest::blake3(&seed.bytes) });
        }
        Ok(MachineRecord {
            before: self.plan.before.clone(),
            after: machine.clone(),
            kind: kind.word().into(),
            file: main.file,
            digest: main.digest,
            also,
            lost: self.plan.lost.clone(),
        })
    }

    #[expect(
        clippy::indexing_slicing,
        reason = "plans name disks of their own target, and a manifest is the first file"
    )]
    fn record(&self, planned: &PlannedDisk, carried: Carried, after: &Facts) -> DiskRecord {
        let disk = &self.prepared.settled.target.disks[planned.source];
        DiskRecord {
            id: disk.id.clone(),
            source: disk.parts.iter().map(target::Part::place).collect(),
            packed: disk.packed(),
            result: self.result(planned),
            before: disk.image.as_ref().map(|image| DiskFacts::from(&image.facts)),
            after: DiskFacts::from(after),
            content_digest: carried.written.copied.digest.to_string(),
            edits: carried.edits,
        }
    }
}

/// What the machine file is told of a disk; `facts` is none for a member of an archive, which cannot be opened yet.
fn landed_disk(planned: &PlannedDisk, carried: &Carried, facts: Option<&Facts>) -> LandedDisk {
    let copied = &carried.written.copied;
    let image_id = facts.and_then(|facts| facts.details.iter().find(|(name, _)| name == "UUID"));
    LandedDisk {
        used: copied.stored,
        content_digest: copied.digest.to_string(),
        file_size: facts.map_or(carried.written.len, |facts| facts.file_size),
        image_id: image_id.map(|(_, id)| id.clone()),
        ..empty(planned)
    }
}
