//! Disks on their way into a page store, in pieces of which the runs that hold data are put.

use std::sync::PoisonError;

use jiff::Timestamp;

use super::{
    super::{
        Done, Parts, Piece, Store, There,
        runs::{PAGE, data_runs},
        xml,
    },
    Ask, LISTS, MARK, PART, PIECE, Pages, at_moment, bytes_of,
};
use crate::{fault::Fault, http::fault_of_io};

impl Parts for Pages {
    fn part(&self, _: u64) -> u64 {
        PART
    }

    fn is_sparse(&self) -> bool {
        true
    }

    fn begin(&self, name: &str, most: u64) -> Result<String, Fault> {
        let id = format!("{:x}-{most:x}", Timestamp::now().as_nanosecond());
        let len = most.next_multiple_of(PAGE).to_string();
        let headers = [("x-ms-blob-content-length", len.as_str()), ("x-ms-blob-type", "PageBlob"), (MARK, &id)];
        let ask =
            Ask { method: "PUT", object: Some(name), query: &[], headers: &headers, body: &[], what: "put objects" };
        self.ask(&ask)?;
        Ok(id)
    }

    fn put_part(&self, name: &str, _: &str, number: u32, piece: &Piece) -> Result<String, Fault> {
        let base = u64::from(number.saturating_sub(1)) * PART;
        let bytes = piece.bytes().map_err(|error| fault_of_io(&error))?;
        let cut = |(start, len): (u64, u64)| {
            (0..len.div_ceil(PIECE)).map(move |index| (start + index * PIECE, PIECE.min(len - index * PIECE)))
        };
        let runs: Vec<(u64, u64)> = data_runs(&bytes).into_iter().flat_map(cut).collect();
        for (start, len) in &runs {
            let range = format!("bytes={}-{}", base + start, base + start + len - 1);
            let headers = [("x-ms-page-write", "update"), ("x-ms-range", range.as_str())];
            let run = reformis_disk::to_usize(*start)..reformis_disk::to_usize(start + len);
            let body = bytes.get(run).ok_or_else(|| Fault::protocol("a disk does not end with a page"))?;
            let query = [("comp", "page")];
            let ask =
                Ask { method: "PUT", object: Some(name), query: &query, headers: &headers, body, what: "put pages" };
            self.ask(&ask)?;
        }
        let mut sent = self.sent.lock().unwrap_or_else(PoisonError::into_inner);
        sent.entry(name.into()).or_default().extend(runs.iter().map(|(start, len)| (base + start, *len)));
        Ok(format!("{} runs", runs.len()))
    }

    fn clear(&self, name: &str, start: u64, len: u64) -> Result<(), Fault> {
        let end = (start + len).next_multiple_of(PAGE);
        let range = format!("bytes={start}-{}", end.saturating_sub(1));
        let headers = [("x-ms-page-write", "clear"), ("x-ms-range", range.as_str())];
        let query = [("comp", "page")];
        let ask =
            Ask { method: "PUT", object: Some(name), query: &query, headers: &headers, body: &[], what: "put pages" };
        self.ask(&ask).map(drop)
    }

    fn there(&self, name: &str, id: &str) -> Result<Option<There>, Fault> {
        self.sent.lock().unwrap_or_else(PoisonError::into_inner).remove(name);
        // What was answered is there, as long as it is the same object: pages have no tags.
        Ok(match self.state(name)? {
            Some((_, Some(mark))) if mark == id => Some(There::All),
            _ => None,
        })
    }

    fn finish(&self, name: &str, id: &str, _: &[Done], len: u64) -> Result<(), Fault> {
        let whole = len.next_multiple_of(PAGE);
        let now = match self.state(name)? {
            Some((now, Some(mark))) if mark == id => now,
            _ => return Err(Fault::Changed("the upload is not there any more".into())),
        };
        // The list of ranges tells whether all that was sent has arrived.
        let there = self.ranges(name)?;
        let sent = self.sent.lock().unwrap_or_else(PoisonError::into_inner).remove(name).unwrap_or_default();
        let covers = |(start, len): &(u64, u64)| {
            let next = there.partition_point(|(other, _)| other <= start);
            let run = next.checked_sub(1).and_then(|index| there.get(index));
            run.is_some_and(|(other, run)| other + run >= start + len)
        };
        if let Some((start, _)) = sent.iter().find(|run| !covers(run)) {
            return Err(Fault::protocol(format!("the page at {start} was sent, and is not there")));
        }
        if now != whole {
            let len = whole.to_string();
            let (query, headers) = ([("comp", "properties")], [("x-ms-blob-content-length", len.as_str())]);
            let ask = Ask {
                method: "PUT",
                object: Some(name),
                query: &query,
                headers: &headers,
                body: &[],
                what: "put objects",
            };
            self.ask(&ask)?;
        }
        // Without the mark, it is whole.
        let query = [("comp", "metadata")];
        let ask =
            Ask { method: "PUT", object: Some(name), query: &query, headers: &[], body: &[], what: "put objects" };
        self.ask(&ask).map(drop)
    }

    fn abort(&self, name: &str, id: &str) -> Result<(), Fault> {
        match self.state(name)? {
            Some((_, Some(mark))) if mark == id => match at_moment(name).1 {
                Some(_) => self.give_snapshot_back(name),
                None => self.remove(name),
            },
            _ => Ok(()),
        }
    }

    fn open(&self, name: &str) -> Result<Vec<(String, String)>, Fault> {
        let prefix = format!("{}{name}", self.folder);
        let (mut found, mut marker) = (Vec::new(), String::new());
        for _ in 0..LISTS {
            let mut query = vec![
                ("comp", "list"),
                ("include", "metadata,snapshots,uncommittedblobs"),
                ("prefix", prefix.as_str()),
                ("restype", "container"),
            ];
            if !marker.is_empty() {
                query.push(("marker", &marker));
            }
            let ask = Ask { method: "GET", object: None, query: &query, headers: &[], body: &[], what: "list objects" };
            let list = xml::read(&bytes_of(&mut self.ask(&ask)?)?)?;
            for blob in xml::groups(&list.texts, "Blob") {
                let named = |text: &&&xml::Text| text.name().eq_ignore_ascii_case("reformisupload");
                if let (Some(own), Some(mark)) = (xml::one(&blob, "Name"), blob.iter().find(named))
                    && let Some(own) = own.strip_prefix(&self.folder)
                {
                    let moment = xml::one(&blob, "Snapshot").map_or(String::new(), |moment| format!("@{moment}"));
                    found.push((format!("{own}{moment}"), mark.text.clone()));
                }
            }
            marker = xml::first(&list.texts, "NextMarker").unwrap_or_default().to_string();
            if marker.is_empty() {
                return Ok(found);
            }
        }
        Err(Fault::protocol("its list has no end"))
    }
}
