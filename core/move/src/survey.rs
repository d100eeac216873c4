//! What is here: read from metadata alone, so it answers at once, whatever the size.

use std::path::Path;

use reformis_disk::{Facts, source::Links};
use reformis_guest::nt::drivers::{Library, Medium, Offer};
use reformis_machine::Machine;
use reformis_wire::Wires;
use serde::Serialize;

use crate::{
    error::{Error, Result},
    finding::Finding,
    inside::{self, InsideSurvey},
    observer::Context,
    target::{self, Opening, Pick, StreamFacts, Target, Unpack},
};

/// What one target is.
#[derive(Debug, Clone, Serialize)]
pub struct Survey {
    /// As it was named.
    pub target: String,
    /// What kind of thing it is.
    pub kind: &'static str,
    /// Files that were read for the machine, with their lengths in bytes.
    pub files: Vec<SurveyedFile>,
    /// The machine, where its settings are here.
    pub machine: Option<Machine>,
    /// Its disks.
    pub disks: Vec<SurveyedDisk>,
    /// The drivers that it offers, where it is a medium with drivers for Windows systems.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub drivers: Option<DriverSurvey>,
    /// What is inside; `None` when no disk of it can be read at any place.
    pub guest: Option<InsideSurvey>,
    /// What the person should know.
    pub findings: Vec<Finding>,
}

/// What a driver medium offers.
#[derive(Debug, Clone, Serialize)]
pub struct DriverSurvey {
    /// Its drivers, in the order of their paths.
    pub offers: Vec<Offer>,
    /// Whether it has a UDF file system too, which is not read and may hold others.
    pub has_udf: bool,
}

/// A file of the target.
#[derive(Debug, Clone, Serialize)]
pub struct SurveyedFile {
    /// Absolute path; a member of an archive continues the archive's.
    pub path: String,
    /// Length in bytes.
    pub size: u64,
}

/// A disk of the target.
#[derive(Debug, Clone, Serialize)]
pub struct SurveyedDisk {
    /// Its name in the machine file, or the file's.
    pub id: String,
    /// Absolute paths of the files that hold it, those of the disks below it last.
    pub files: Vec<String>,
    /// What its metadata says; `None` when it starts empty or cannot be read.
    pub image: Option<Facts>,
    /// What the start tells of one that can only be read forwards.
    pub stream: Option<StreamFacts>,
    /// Size in bytes, also of a disk that starts empty.
    pub size: u64,
    /// Guest bytes for which something is stored, as far as the image's tables tell.
    pub in_use: Option<u64>,
}

/// Looks at `path`: one survey for each machine there. What can only be read forwards is looked into where `unpack` says
/// how, and else only its start.
///
/// # Errors
/// Those of [`target::open`].
pub fn survey(path: &Path, links: Links, unpack: Option<Unpack<'_>>, context: &Context<'_>) -> Result<Vec<Survey>> {
    if let Some(found) = drivers(path, context)? {
        return Ok(vec![found]);
    }
    let opening = Opening { unpack, ..Opening::new(links, context.budget, context.wires) };
    let nth = |index| target::open(path, &Opening { machine: Pick::Nth(index), ..opening.clone() });
    let first = nth(0)?;
    let count = first.described.as_ref().map_or(1, |described| described.names.len());
    let others = (1..count).map(nth);
    std::iter::once(Ok(first)).chain(others).map(|target| of_target(target?, context)).collect()
}

fn of_target(mut target: Target, context: &Context<'_>) -> Result<Survey> {
    let guest = match inside::survey(&target, context) {
        Ok(guest) => guest,
        Err(error) if error.is_interrupted() => return Err(error),
        Err(error) => {
            let disk = target.disks.first().map_or(String::new(), |disk| disk.id.clone());
            target.findings.push(Finding::DiskUnreadable { disk, why: error.to_string() });
            None
        }
    };
    let unread = guest.iter().flat_map(|guest| guest.unread.iter().cloned());
    target.findings.extend(unread.map(|(volume, why)| Finding::VolumeUnread { volume, why }));
    let arrays = guest.iter().flat_map(|guest| reformis_guest::array_remarks(&guest.volumes));
    target.findings.extend(arrays.filter_map(inside::told));
    let paths = guest.iter().flat_map(|guest| guest.unread_paths.iter().cloned());
    target.findings.extend(paths.map(|(path, why)| Finding::PathUnread { path, why }));
    let disks = std::mem::take(&mut target.disks).iter().map(|disk| surveyed(disk, &mut target, context)).collect();
    let files = target.files.iter().map(|file| SurveyedFile { path: file.path.clone(), size: file.size }).collect();
    context.check()?;
    Ok(Survey {
        target: target.name,
        kind: target.kind.name(),
        files,
        machine: target.described.map(|described| described.machine),
        disks,
        drivers: None,
        guest,
        findings: target.findings,
    })
}

/// The survey of a driver medium; `None` for what is none.
///
/// # Errors
/// Memory that its files would take.
pub fn drivers(path: &Path, context: &Context<'_>) -> Result<Option<Survey>> {
    let opening = Opening::new(Links::OwnFolder, context.budget, context.wires);
    // A medium is read from here alone.
    if Wires::is_link(path) {
        return Ok(None);
    }
    let Ok(medium) = Medium::open(path, context.budget) else { return Ok(None) };
    // A folder or an archive with a machine in it is that, whatever else is there; the others are nothing else.
    let is_one = match medium.kind() {
        _ if !medium.has_drivers() => false,
        Medium::FOLDER => matches!(target::open(path, &opening), Err(Error::NothingHere { .. })),
        Medium::ARCHIVE => {
            target::open(path, &opening).is_ok_and(|target| target.described.is_none() && target.disks.is_empty())
        }
        _ => true,
    };
    if !is_one {
        return Ok(None);
    }
    let (kind, has_udf) = (medium.kind(), medium.has_udf());
    let library = Library::read(vec![medium], context.budget)?;
    let unread = library.unread.iter().cloned();
    Ok(Some(Survey {
        target: path.to_string_lossy().into_owned(),
        kind: match kind {
            Medium::FOLDER => "driver medium, a folder",
            Medium::OPTICAL => "driver medium, an ISO image",
            Medium::CABINET => "driver medium, a cabinet",
            _ => "driver medium, an archive",
        },
        files: Vec::new(),
        machine: None,
        disks: Vec::new(),
        findings: unread.map(|(file, why)| Finding::DriverUnread { file, why }).collect(),
        drivers: Some(DriverSurvey { offers: library.offers(), has_udf }),
        guest: None,
    }))
}

fn surveyed(disk: &target::TargetDisk, target: &mut Target, context: &Context<'_>) -> SurveyedDisk {
    // What stands in the way of reading was told already.
    let readable = disk.image.as_ref().filter(|image| image.facts.troubles.is_empty());
    let in_use =
        match readable.map(|image| reformis_disk::disk::data_bytes(context.stoppable(image.disk.clone()).as_ref())) {
            Some(Ok(bytes)) => Some(bytes),
            // A table that lies shows only when it is walked.
            Some(Err(error)) => {
                let why = error.to_string();
                target.findings.push(Finding::DiskUnreadable { disk: disk.id.clone(), why });
                None
            }
            None => None,
        };
    SurveyedDisk {
        id: disk.id.clone(),
        files: disk
            .parts
            .iter()
            .map(target::Part::place)
            .chain(disk.image.iter().flat_map(|image| image.files.iter().map(|file| target::place_of(file.as_ref()))))
            .collect(),
        stream: disk.stream.clone(),
        image: disk.image.as_ref().map(|image| image.facts.clone()),
        size: disk.size,
        in_use,
    }
}
