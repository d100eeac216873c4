//! What is known of a disk's file, before it is written and when it is there.

use std::{path::Path, sync::Arc};

use reformis_disk::{
    Facts,
    budget::Budget,
    container::{self, Source},
    copy::Copied,
    format,
    source::{self, Links},
};
use reformis_machine::LandedDisk;

use crate::{error::Result, plan::PlannedDisk, staging::Place};

/// What is known of a disk's file before it is written.
pub(crate) fn empty(planned: &PlannedDisk) -> LandedDisk {
    LandedDisk {
        format: planned.shape.format.to_string(),
        layout: planned.shape.layout.name().to_string(),
        compression: planned.wrapping.map(|kind| kind.name().to_string()),
        size: planned.size,
        ..LandedDisk::default()
    }
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

/// Opens a result below `folder`, whose name may continue into an archive there.
pub(crate) fn open_result(folder: &Path, result: &str, links: Links, budget: &Arc<Budget>) -> Result<Source> {
    let open =
        |name: &str| -> Result<_> { Ok(Arc::new(source::open_link(folder, "the receipt", name, links, budget)?)) };
    if let Some((archive, member)) = result.split_once('/').filter(|(archive, _)| !archive.is_empty())
        && folder.join(archive).is_file()
    {
        return Ok(container::locate_in(open(archive)?, Some(member))?);
    }
    Ok(Source::Storage(open(result)?))
}
