//! A look at each machine before the night: what a move would come to, and what stands in its way. Nothing is written, but a trial object
//! in a store, which is removed.

use std::sync::{
    Arc, Mutex, PoisonError,
    atomic::{AtomicUsize, Ordering},
};

use reformis_disk::{Disk, copy::pipeline, source::Links};
use reformis_machine::Site;

use crate::{
    error::Result,
    finding::{Finding, Severity},
    landing::{arrival, shipping::Shipping},
    observer::Context,
    prepare::{Order, prepare},
    target::TargetDisk,
    verdict::Verdict,
};

/// What a move would come to.
pub(super) struct Seen {
    /// The machine's name after the move.
    pub(super) name: String,
    /// Bytes that will be carried, as far as tables tell.
    pub(super) bytes: Option<u64>,
    /// Whether it boots where it goes.
    pub(super) verdict: Option<Verdict>,
    /// What there is to say.
    pub(super) findings: Vec<Finding>,
}

/// Looks at one move; with `asks`, whether its store takes it, too.
pub(super) fn look(order: &Order, site: &Site, links: Links, asks: bool, context: &Context<'_>) -> Result<Seen> {
    Ok(look_and(order, site, links, asks, context, |_| ())?.0)
}

/// As [`look`]; and what `more` makes of its disks, with what is changed in them.
pub(super) fn look_and<T>(
    order: &Order,
    site: &Site,
    links: Links,
    asks: bool,
    context: &Context<'_>,
    more: impl FnOnce(&[Arc<dyn Disk>]) -> T,
) -> Result<(Seen, T)> {
    let mut prepared = prepare(order, site, links, context)?;
    arrival::ask(&mut prepared, asks, false, context)?;
    let settled = &prepared.settled;
    if let Some(plan) = settled.plan.as_ref().filter(|_| asks)
        && let Some(shipping) = Shipping::open(plan, context)?
    {
        shipping.check_names(plan, None)?;
    }
    let places = settled.plan.iter().flat_map(|plan| &plan.disks).map(|disk| disk.source);
    let disks = places.filter_map(|place| {
        let edited = prepared.inside.disks.get(&place).map(|edited| edited.disk.clone());
        edited.or_else(|| settled.target.disks.get(place).map(TargetDisk::disk))
    });
    let disks: Vec<Arc<dyn Disk>> = disks.map(|disk| context.stoppable(disk)).collect();
    let mut bytes = disks.iter().map(|disk| pipeline::work(disk.as_ref()).ok());
    let bytes = bytes.try_fold(0u64, |sum, bytes| sum.checked_add(bytes?));
    context.check()?;
    let seen = Seen {
        name: settled.brief.machine.name.clone(),
        bytes,
        verdict: prepared.inside.verdict.clone(),
        findings: settled.findings.clone(),
    };
    Ok((seen, more(&disks)))
}

/// Whether no finding stands in the way that `accept` does not let pass.
pub(super) fn goes(findings: &[Finding], accept: &[String]) -> bool {
    let is_open = |finding: &&Finding| {
        finding.severity() == Severity::Blocker
            && (!accept.iter().any(|code| code == finding.code()) || !finding.is_acceptable())
    };
    !findings.iter().any(|finding| is_open(&finding))
}

/// Does `work` for each of `items`, `at_once` at the same time; what it gives, in their order.
pub(super) fn each<T: Sync, R: Send>(items: &[T], at_once: usize, work: impl Fn(&T) -> R + Sync) -> Vec<R> {
    let next = AtomicUsize::new(0);
    let done = Mutex::new(Vec::with_capacity(items.len()));
    std::thread::scope(|scope| {
        for _ in 0..at_once.clamp(1, 64).min(items.len()) {
            scope.spawn(|| {
                loop {
                    let place = next.fetch_add(1, Ordering::Relaxed);
                    let Some(item) = items.get(place) else { return };
                    let result = work(item);
                    done.lock().unwrap_or_else(PoisonError::into_inner).push((place, result));
                }
            });
        }
    });
    let mut done = done.into_inner().unwrap_or_else(PoisonError::into_inner);
    done.sort_by_key(|(place, _)| *place);
    done.into_iter().map(|(_, result)| result).collect()
}
