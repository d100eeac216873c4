//! A guest after it was lent: what it wrote may have changed how it boots.

use std::sync::Arc;

use jiff::Timestamp;
use reformis_disk::Disk;
use reformis_guest::{Guest, Link};
use reformis_machine::{Destination, Machine};

use crate::{
    error::Result,
    finding::Finding,
    hardware,
    inside::{self, Inside},
    observer::Context,
    record::GuestRecord,
    verdict::Verdict,
};

/// What is said of a guest that was lent, as it is now: `disks` are the target's, in its order, with what the guest wrote.
pub(super) fn look(
    disks: &[Arc<dyn Disk>],
    machine: &Machine,
    destination: &Destination,
    lent: &GuestRecord,
    context: &Context<'_>,
) -> Result<Inside> {
    let order = hardware::guests_order(machine, disks.len());
    let ordered = order.into_iter().filter_map(|index| Some(context.stoppable(disks.get(index)?.clone())));
    let mut guest = Guest::open_with(ordered, context.keys, Timestamp::now().as_second(), context.budget)?;
    let mut findings: Vec<Finding> = reformis_guest::remarks(&guest).into_iter().filter_map(inside::told).collect();
    let evidence = reformis_guest::walk(&mut guest, &hardware::described_hardware(machine, &destination.guest, true));
    context.check()?;
    for (system, chain) in &evidence {
        findings.extend(inside::broken(system, chain));
    }
    // What was there when it was lent.
    if let (true, Some(chain)) = (guest.systems.is_empty(), lent.evidence.first()) {
        findings.push(Finding::WillNotBoot {
            system: chain.system.clone(),
            link: Link::Partition.name(),
            about: "its root".into(),
            seen: "what the guest wrote leaves no system that can be found".into(),
        });
    }
    let record = GuestRecord { evidence: GuestRecord::chains(evidence), edits: lent.edits.clone() };
    let otherwise = guest.unread.first().map(|(volume, why)| format!("{volume}: {why}"));
    let verdict = Some(Verdict::of(&destination.name, &record.evidence, record.edits.len(), otherwise));
    Ok(Inside { has_system: !guest.systems.is_empty(), record, findings, verdict, ..Inside::default() })
}
