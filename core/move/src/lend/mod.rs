//! Lending a machine's disks, made ready for its destination, before a byte of them is copied; what the guest writes is kept
//! apart, in a folder, and lands with the rest later.

mod after;
mod kept;

use std::{
    path::{Path, PathBuf},
    sync::Arc,
};

use reformis_disk::{
    Disk,
    disk::GrownDisk,
    overlay::Edit,
    scratch::{Scratch, Writable},
    source::Links,
};
use reformis_machine::{
    MachineFile, Site,
    domain::{self, Served},
};
use reformis_wire::nbd::serve;

pub(crate) use kept::Kept;

use crate::{
    error::{Error, Result},
    finding::Finding,
    observer::Context,
    prepare::{self, Order, Prepared},
    record::GuestRecord,
    staging::Place,
    target::{self, Opening},
    verdict::Verdict,
};

/// What to lend, and how.
#[derive(Debug, Clone)]
pub struct Options {
    /// A target, or a brief.
    pub order: Order,
    /// What the site adds.
    pub site: Site,
    /// Codes of blockers that the person accepts.
    pub accept: Vec<String>,
    /// Where names in the source's files may lead.
    pub links: Links,
    /// The folder in which what the guest writes is kept; beside the landing unless it is said.
    pub kept: Option<PathBuf>,
}

/// A disk that is lent.
pub struct LentDisk {
    /// The name of its export.
    pub export: String,
    /// Its name in the machine file.
    pub id: String,
    /// Its place in the boot order, from 1.
    pub boot: Option<u32>,
    /// Its bytes, with what was changed and what the guest writes.
    pub scratch: Arc<Scratch>,
    /// The edits that changed something in it.
    pub edits: Vec<Edit>,
}

/// A machine whose disks are lent. While it is there, nobody else lends or carries them with what is kept.
pub struct Lent {
    /// The disks, in the machine's order.
    pub disks: Vec<LentDisk>,
    /// The folder in which what the guest writes is kept.
    pub kept: PathBuf,
    /// Whether it was lent before: what the guest wrote then is there.
    pub goes_on: bool,
    /// Whether the guest will boot.
    pub verdict: Option<Verdict>,
    /// What was found and changed inside the guest.
    pub guest: GuestRecord,
    /// What the person should know.
    pub findings: Vec<Finding>,
    prepared: Prepared,
    _lock: Kept,
}

/// Makes the disks of a machine ready, in memory, to be read and written before they are copied.
///
/// # Errors
/// [`Error::Refused`] with all findings when one of them is a blocker that is not accepted; [`Error::NotKept`] when what was
/// kept before is of another machine; those of reading and writing.
pub fn lend(options: &Options, context: &Context<'_>) -> Result<Lent> {
    let settled = prepare::settled(&options.order, &options.site, options.links, context)?;
    let folder = match (&options.kept, &settled.plan) {
        (Some(folder), _) => std::path::absolute(folder).map_err(Error::io("finding", folder))?,
        (None, Some(plan)) => beside(&plan.folder),
        (None, None) => return Err(Error::Refused { findings: settled.findings }),
    };
    let before = if folder.symlink_metadata().is_ok() { Some(Kept::open(&folder)?) } else { None };
    let goes_on = before.is_some();
    let (prepared, kept) = match before {
        Some(kept) => (kept.applied_to(settled, context)?, kept),
        // The variables of its firmware stay where they are: the host that it is lent to makes new ones.
        None => {
            let prepared = settled.made_ready(false, context)?;
            let kept = Kept::create(&folder, &prepared, &options.accept)?;
            (prepared, kept)
        }
    };
    let (plan, findings) = prepared.accepted(&options.accept)?;
    let mut disks = Vec::new();
    for (index, (planned, scratch)) in plan.disks.iter().zip(kept.scratches(&prepared)?).enumerate() {
        let known = prepared.settled.target.disks.get(planned.source);
        disks.push(LentDisk {
            export: format!("{}-{index}", plan.machine.name),
            id: known.map(|disk| disk.id.clone()).unwrap_or_default(),
            boot: plan.machine.disks.get(index).and_then(|disk| disk.boot),
            scratch: Arc::new(scratch),
            edits: kept.edits(index),
        });
    }
    tracing::info!(target = prepared.settled.target.name, kept = %folder.display(), goes_on, "lending");
    Ok(Lent {
        disks,
        kept: folder,
        goes_on,
        verdict: prepared.inside.verdict.clone(),
        guest: prepared.inside.record.clone(),
        findings,
        prepared,
        _lock: kept,
    })
}

/// Where what a guest writes is kept, unless the person says.
fn beside(landing: &Path) -> PathBuf {
    let mut name = landing.file_name().unwrap_or_default().to_os_string();
    name.push(".lent");
    landing.with_file_name(name)
}

impl Lent {
    /// Name of the machine.
    pub fn name(&self) -> &str {
        self.prepared.settled.plan.as_ref().map_or("", |plan| &plan.machine.name)
    }

    /// Ends before anybody was served: the folder goes, if it was made for this.
    ///
    /// # Errors
    /// What the system says.
    pub fn discard(self) -> Result<()> {
        if self.goes_on {
            return Ok(());
        }
        let (above, name) = Place::of(&self.kept)?;
        above.remove_folder(&name)
    }

    /// Name of the destination.
    pub fn destination(&self) -> &str {
        &self.prepared.settled.destination.name
    }

    /// What a server of network block devices is given.
    pub fn exports(&self) -> Vec<serve::Export> {
        let writable =
            |disk: &LentDisk| serve::Export::writable(&disk.export, disk.scratch.clone() as Arc<dyn Writable>);
        self.disks.iter().map(writable).collect()
    }

    /// The machine file for a host that reads the disks at `served`, in their order.
    ///
    /// # Errors
    /// [`Error::NoWordForServed`] where no machine file of the destination has a word for such disks.
    pub fn machine_file(&self, served: &[Served]) -> Result<String> {
        let (prepared, plan) = (&self.prepared, self.prepared.settled.plan.as_ref());
        let Some(plan) = plan.filter(|_| prepared.settled.destination.machine_files.contains(&MachineFile::DomainXml))
        else {
            return Err(Error::NoWordForServed { destination: prepared.settled.destination.name.clone() });
        };
        let mut machine = plan.machine.clone();
        for device in &mut machine.disks {
            device.format = Some("raw".into());
        }
        // What was harmless in the source's own file stays, as in a landing.
        let earlier = plan.earlier(&prepared.settled.target).filter(|_| plan.machine_file == MachineFile::DomainXml);
        let failed = Error::io("writing", Path::new(machine.name.as_str()));
        domain::write_served(&machine, served, earlier).map_err(failed)
    }
}

/// Opens the disks of what lies at `path`, as they are, to be lent for reading alone: each with its name.
///
/// # Errors
/// Those of opening it; when there is no disk that can be read at any place.
pub fn look(path: &Path, links: Links, context: &Context<'_>) -> Result<Vec<(String, Arc<dyn Disk>)>> {
    let target = target::open(path, &Opening::new(links, context.budget, context.wires))?;
    let readable = target.disks.iter().filter(|disk| disk.image.is_some() && disk.is_readable());
    let disks: Vec<_> = readable.map(|disk| (disk.id.clone(), disk.disk())).collect();
    if disks.is_empty() {
        return Err(Error::Refused { findings: vec![Finding::NoDisk] });
    }
    Ok(disks)
}

/// Whether `bytes` are a record of what was lent, as it lies beside what a guest wrote; the error is the end of a sentence.
///
/// # Errors
/// What is wrong with it.
pub fn check_record(bytes: &[u8]) -> Result<(), String> {
    kept::parse(bytes).map(drop)
}

/// The disk below what a guest writes: the source, as large as it lands.
fn grown(disk: Arc<dyn Disk>, size: u64) -> Arc<dyn Disk> {
    if disk.size() == size { disk } else { Arc::new(GrownDisk::new(disk, size)) }
}
