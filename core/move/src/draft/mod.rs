//! The proposal for a move: a brief, what it changes, and what there is to say about it. Nothing is written.

mod summary;

use reformis_disk::source::Links;
use reformis_machine::{Machine, Site};
use serde::Serialize;

pub use summary::Row;

use crate::{
    brief::{Brief, Notes},
    error::Result,
    finding::Finding,
    landing::arrival,
    observer::Context,
    prepare::{Order, Prepared, Settled, prepare},
    propose,
    record::GuestRecord,
    verdict::Verdict,
};

/// A proposal, before anything is written.
#[derive(Debug, Clone, Serialize)]
pub struct Draft {
    /// The brief.
    pub brief: Brief,
    /// Where its values come from, by their paths in the brief.
    pub notes: Notes,
    /// The machine as it is now.
    pub before: Machine,
    /// What is before and what will be, line by line.
    pub summary: Vec<Row>,
    /// Whether the guest will boot there; `None` where the move cannot be planned.
    pub verdict: Option<Verdict>,
    /// What is inside the guest, and what is changed there.
    pub guest: GuestRecord,
    /// What the person should know.
    pub findings: Vec<Finding>,
}

/// Proposes a move, or looks at what a brief comes to.
///
/// # Errors
/// Those of opening the target; [`crate::Error::Machine`] for a destination that is not known; [`crate::Error::NotOffered`].
pub fn draft(order: &Order, site: &Site, links: Links, context: &Context<'_>) -> Result<Draft> {
    let mut prepared = prepare(order, site, links, context)?;
    arrival::ask(&mut prepared, false, false, context)?;
    let before = propose::machine_before(&prepared.settled.target, prepared.settled.boot.as_ref());
    let summary = summary::summary(&prepared, &before);
    let Prepared { settled: Settled { brief, notes, findings, .. }, inside } = prepared;
    Ok(Draft { brief, notes, before, summary, verdict: inside.verdict, guest: inside.record, findings })
}
