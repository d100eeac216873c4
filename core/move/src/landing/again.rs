//! What a move is made of, and whether what an earlier run left is of the same one.

use std::{io::Read, sync::Arc};

use reformis_disk::budget::Budget;

use super::{
    journal::{self, Head},
    shipping::Shipping,
};
use crate::{
    plan::Plan,
    prepare::Prepared,
    receipt::{self, Receipt},
    record::SourceFile,
    staging::Place,
    target,
};

/// The files that each disk is read from, as far as is known without reading them: its own first, then those that the image names.
pub(crate) fn chains(prepared: &Prepared, plan: &Plan) -> Vec<Vec<SourceFile>> {
    let disks = plan.disks.iter().filter_map(|disk| prepared.settled.target.disks.get(disk.source));
    let files = disks.map(|disk| {
        let parts = disk.parts.iter().map(|part| target::source_file(part.storage.as_ref(), None));
        let below = disk.image.iter().flat_map(|image| &image.files);
        parts.chain(below.map(|file| target::source_file(file.as_ref(), None))).collect()
    });
    files.collect()
}

/// What the move is made of, as far as is known before a byte of a disk is read.
pub(crate) fn head(prepared: &Prepared, plan: &Plan) -> Head {
    Head {
        schema: journal::SCHEMA,
        target: prepared.settled.target.name.clone(),
        destination: prepared.settled.destination.name.clone(),
        sources: chains(prepared, plan).concat(),
        disks: plan.disks.iter().map(|disk| (disk.file.clone(), disk.shape.to_string(), disk.size)).collect(),
        store: plan.store.clone(),
        identity: Some(plan.identity.machine()),
    }
}

/// The longest receipt that is looked at, in bytes.
const MOST: u64 = 64 << 20;

/// The receipt in `folder`, where it is one.
fn receipt_in(folder: &Place, budget: &Arc<Budget>) -> Option<Receipt> {
    let file = folder.open_file(receipt::FILE_NAME.as_ref()).ok()?;
    let len = file.metadata().ok()?.len();
    let _hold = budget.take(len.min(MOST).saturating_mul(2)).ok()?;
    let mut bytes = Vec::new();
    file.take(MOST).read_to_end(&mut bytes).ok()?;
    Receipt::parse(&bytes).ok()
}

/// Whether a second pass over the first one of the same machine was killed in `folder` when all but its name was there.
pub(crate) fn had_second_pass(folder: &Place, head: &Head, budget: &Arc<Budget>) -> bool {
    receipt_in(folder, budget).is_some_and(|receipt| {
        receipt.ahead.is_some() && (&receipt.target, &receipt.destination) == (&head.target, &head.destination)
    })
}

/// Whether all files that `receipt` lists lie in `folder`, the disks with the length that they landed with: a receipt alone is no landing.
pub(crate) fn is_whole(folder: &Place, receipt: &Receipt) -> bool {
    let len = |name: &str| folder.open_file(name.as_ref()).ok()?.metadata().ok();
    let disks =
        receipt.disks.iter().all(|disk| len(&disk.result).is_some_and(|file| file.len() == disk.after.file_size));
    let files = receipt
        .machine
        .iter()
        .flat_map(|machine| std::iter::once(&machine.file).chain(machine.also.iter().map(|also| &also.file)));
    disks && files.into_iter().all(|file| len(file).is_some())
}

/// The receipt that an earlier run left in `folder` as the last of all files, where it is of the move of `head`: of the same versions of
/// the same files, into the same disks of the same place and cloud. That run was killed before or just after the landing had its name, and
/// nothing is made again.
pub(crate) fn receipt_left(
    folder: &Place,
    head: &Head,
    plan: &Plan,
    shipping: Option<&Shipping>,
    budget: &Arc<Budget>,
) -> Option<Receipt> {
    let receipt = receipt_in(folder, budget)?;
    let has_version = |file: &SourceFile| file.modified.is_some() || file.tag.is_some();
    let read = |wanted: &SourceFile| {
        let found = receipt.sources.iter().find(|found| found.path == wanted.path);
        has_version(wanted) && found.is_some_and(|found| found.is_same_version(wanted))
    };
    let is_disk = |(record, (file, shape, size)): (&receipt::DiskRecord, &(String, String, u64))| {
        let place = shipping.map_or_else(|| file.clone(), |shipping| shipping.result(file));
        (&record.result, &record.after.shape, record.after.virtual_size) == (&place, shape, *size)
    };
    let is_it = (&receipt.target, &receipt.destination) == (&head.target, &head.destination)
        && receipt.machine.is_some()
        && receipt.cloud.as_ref().map(|made| &made.cloud) == plan.cloud.as_ref().map(|(cloud, _)| cloud)
        && head.sources.iter().all(read)
        && receipt.disks.len() == head.disks.len()
        && receipt.disks.iter().zip(&head.disks).all(is_disk);
    is_it.then_some(receipt)
}
