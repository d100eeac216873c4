//! Snapshots of what a page store has ("Snapshot Blob"): `NAME@TIME`, one moment of a disk that is written meanwhile.

use jiff::Timestamp;

use super::{Ask, MARK, Pages, header};
use crate::fault::Fault;

/// The name of the object, and the time of its snapshot where one is meant: what stands behind the last `@` and is a time.
pub(super) fn at_moment(name: &str) -> (&str, Option<&str>) {
    let parts = name.rsplit_once('@').filter(|(own, time)| !own.is_empty() && time.parse::<Timestamp>().is_ok());
    parts.map_or((name, None), |(own, time)| (own, Some(time)))
}

impl Pages {
    /// Takes a snapshot of `name`, which has our mark, so that one that a killed run left is found; the name of that moment.
    pub(super) fn take_snapshot(&self, name: &str) -> Result<String, Fault> {
        if at_moment(name).1.is_some() {
            return Ok(name.into());
        }
        let (query, headers) = ([("comp", "snapshot")], [(MARK, "snapshot")]);
        let ask = Ask {
            method: "PUT",
            object: Some(name),
            query: &query,
            headers: &headers,
            body: &[],
            what: "make snapshots",
        };
        let answer = self.ask(&ask)?;
        let moment = header(&answer, "x-ms-snapshot").filter(|time| time.parse::<Timestamp>().is_ok());
        let moment = moment.ok_or_else(|| Fault::protocol("it makes a snapshot, and does not say of what time"))?;
        Ok(format!("{name}@{moment}"))
    }

    /// Removes the snapshot `name`, and never the object itself.
    pub(super) fn give_snapshot_back(&self, name: &str) -> Result<(), Fault> {
        let (own, Some(moment)) = at_moment(name) else { return Ok(()) };
        let query = [("snapshot", moment)];
        let ask = Ask {
            method: "DELETE",
            object: Some(own),
            query: &query,
            headers: &[],
            body: &[],
            what: "remove snapshots",
        };
        self.ask(&ask).map(drop)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_moment_is_a_time_behind_the_last_at() {
        let moment = "2026-11-26T22:00:00.1234567Z";
        assert_eq!(at_moment(&format!("a/b@c.vhd@{moment}")), ("a/b@c.vhd", Some(moment)));
        for name in ["a.vhd", "a@b.vhd", "a.vhd@", "a@2026-11-26", &format!("@{moment}")] {
            assert_eq!(at_moment(name), (name, None), "{name}");
        }
    }
}
