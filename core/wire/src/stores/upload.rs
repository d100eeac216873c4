//! An upload: bytes come in one direction, are cut into parts, and the parts are sent side by side while the next ones come.

use std::{
    collections::BTreeMap,
    fs::File,
    io::{self, Write},
    path::{Path, PathBuf},
    sync::{
        Arc, Mutex, MutexGuard, PoisonError,
        mpsc::{Receiver, SyncSender, sync_channel},
    },
    thread::JoinHandle,
};

use reformis_disk::{Result, copy::output::write_zeros};

use super::{
    Place, There,
    piece::{Filling, Piece, Sum},
};
use crate::{fault::Fault, steady::patience::Patience};

/// Parts that are sent at the same time, where nothing else is said.
pub(super) const CONNECTIONS: usize = 3;
/// Bytes of a part. There may be 10,000, and all but the last are of at least 5 MiB.
const PART: u64 = 16 << 20;
/// Parts of an upload whose length is known, at most.
const PARTS: u64 = 9500;
/// Lengths of parts are multiples of this.
const GRAIN: u64 = 1 << 20;
/// A part that is in the store.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Done {
    /// Bytes.
    pub len: u64,
    /// By which the same bytes are known again, in hexadecimal digits: SHA-256 where there is no `crc`, else BLAKE3.
    pub digest: String,
    /// CRC-32C in base64, where the store took that.
    pub crc: Option<String>,
    /// What the store calls it.
    pub tag: String,
}

/// What an earlier run did for an upload, as its ledger says.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Begun {
    /// What the store calls the upload.
    pub id: String,
    /// Bytes of each part but the last.
    pub part: u64,
    /// Parts by their numbers.
    pub parts: BTreeMap<u32, Done>,
}

/// Keeps what was done, so that another run goes on with it. There are no secrets in it.
pub trait Ledger: Send {
    /// An upload has begun: what it is called, and bytes of each part but the last.
    ///
    /// # Errors
    /// What the system says.
    fn begun(&mut self, id: &str, part: u64) -> io::Result<()>;

    /// A part is there.
    ///
    /// # Errors
    /// What the system says.
    fn done(&mut self, number: u32, done: &Done) -> io::Result<()>;
}

/// What threads and the writer share.
struct Shared {
    place: Place,
    name: String,
    id: String,
    is_sparse: bool,
    /// Whether an earlier run put pages that nothing tells of: what it put otherwise than this run does is cleared.
    is_stale: bool,
    part: u64,
    state: Mutex<State>,
    patience: Patience,
}

struct State {
    ledger: Box<dyn Ledger>,
    /// Parts that are there, where the upload is finished with their list.
    parts: BTreeMap<u32, Done>,
    /// How many are there.
    count: u32,
    /// What ended it, for all threads.
    failed: Option<Fault>,
    /// Nobody waits for it any more.
    is_over: bool,
}

/// An upload in parts.
pub struct Upload {
    shared: Arc<Shared>,
    /// What an earlier run did, and the store has.
    before: BTreeMap<u32, Done>,
    part: u64,
    sum: Sum,
    filling: Filling,
    /// Number of the part that is being filled, from 1 on.
    number: u32,
    /// Parts that hold nothing, and were left out.
    left_out: u32,
    /// Bytes that were taken.
    taken: u64,
    folder: PathBuf,
    jobs: Option<SyncSender<(u32, Piece)>>,
    threads: Vec<JoinHandle<()>>,
}

impl Place {
    /// Begins an upload of at most `most` bytes to `name`, or goes on with `begun`, where the store still has that. Parts that are larger
    /// than usual wait in files without a name in `folder`.
    ///
    /// # Errors
    /// [`reformis_disk::Error::Wire`]; a ledger that cannot be written.
    pub fn upload(
        &self,
        name: &str,
        most: u64,
        folder: &Path,
        begun: Option<Begun>,
        mut ledger: Box<dyn Ledger>,
    ) -> Result<Upload> {
        let parts =
            self.parts().map_err(|fault| fault.into_error("beginning an upload to", &self.place(name), None))?;
        let left = match begun {
            Some(begun) => {
                let there = self.tried("looking for the parts of", name, || parts.there(name, &begun.id))?;
                there.map(|there| (begun, there))
            }
            None => None,
        };
        let (part, sum) = (parts.part(most), parts.sum());
        // Of one without parts, nothing is known that is worth going on with, nor by which sum it was begun.
        let same = |begun: &Begun| {
            let mut sums = begun.parts.values().map(|done| done.crc.is_some()).peekable();
            sums.peek().is_some() && sums.all(|has| has == (sum == Sum::Crc32c))
        };
        let mut is_stale = false;
        let (id, part, before) = match left.filter(|(begun, _)| begun.part >= part && same(begun)) {
            Some((begun, there)) => {
                is_stale = parts.is_sparse();
                (begun.id, begun.part, agreed(begun.parts, &there))
            }
            None => {
                let id = self.tried("beginning an upload to", name, || parts.begin(name, most))?;
                let kept = ledger.begun(&id, part);
                kept.map_err(reformis_disk::Error::io("noting an upload in", folder.to_string_lossy(), None))?;
                (id, part, BTreeMap::new())
            }
        };
        // An answer that was lost, or a run that was killed before it noted one, left uploads that nobody goes on with.
        for (_, orphan) in self.unfinished(name)?.iter().filter(|(other, orphan)| other == name && *orphan != id) {
            self.give_up(name, orphan)?;
        }
        let state = State { ledger, parts: BTreeMap::new(), count: 0, failed: None, is_over: false };
        let shared = Arc::new(Shared {
            place: self.clone(),
            name: name.into(),
            id,
            is_sparse: parts.is_sparse(),
            is_stale,
            part,
            state: Mutex::new(state),
            patience: Patience::default(),
        });
        let filling = filling(part, sum, folder).map_err(reformis_disk::Error::io(
            "making a file in",
            folder.to_string_lossy(),
            None,
        ))?;
        Ok(Upload {
            shared,
            before,
            part,
            sum,
            filling,
            number: 1,
            left_out: 0,
            taken: 0,
            folder: folder.into(),
            jobs: None,
            threads: Vec::new(),
        })
    }

    /// Sends all of `file` to `name` at once.
    ///
    /// # Errors
    /// [`reformis_disk::Error::Wire`].
    pub fn put_file(&self, name: &str, file: &File) -> Result<()> {
        let failed =
            |error: io::Error| reformis_disk::Error::io("reading what is sent to", self.place(name), None)(error);
        let len = file.metadata().map_err(failed)?.len();
        let piece = Piece::of_file(file.try_clone().map_err(failed)?, 0, len);
        self.tried("writing", name, || self.store.put_whole(name, &piece))
    }
}

/// Bytes of each part of an upload of at most `most` bytes.
pub(super) fn part_of(most: u64) -> u64 {
    most.div_ceil(PARTS).next_multiple_of(GRAIN).max(PART)
}

/// The parts of `begun` that the store has as they were noted.
fn agreed(begun: BTreeMap<u32, Done>, there: &There) -> BTreeMap<u32, Done> {
    let There::Parts(there) = there else { return begun };
    let is_there = |(number, done): &(u32, Done)| {
        there
            .get(number)
            .is_some_and(|(len, tag)| *len == done.len && tag.trim_matches('"') == done.tag.trim_matches('"'))
    };
    begun.into_iter().filter(is_there).collect()
}

fn filling(part: u64, sum: Sum, folder: &Path) -> io::Result<Filling> {
    if part > PART {
        return Ok(Filling::file(tempfile::tempfile_in(folder)?, sum));
    }
    Ok(Filling::memory(reformis_disk::to_usize(part), sum))
}

impl Shared {
    fn lock(&self) -> MutexGuard<'_, State> {
        self.state.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Sends parts until there are no more, or one fails.
    fn send_all(&self, jobs: &Mutex<Receiver<(u32, Piece)>>) {
        loop {
            let job = jobs.lock().unwrap_or_else(PoisonError::into_inner).recv();
            let Ok((number, piece)) = job else { return };
            if self.lock().failed.is_some() {
                // Taken all the same: nobody waits for a place in the queue then.
                continue;
            }
            let outcome = self.send(number, &piece);
            let mut state = self.lock();
            let kept = outcome.and_then(|tag| {
                let done = Done { len: piece.len, digest: piece.digest.clone(), crc: piece.crc.clone(), tag };
                let kept = state.ledger.done(number, &done);
                kept.map_err(|error| Fault::again(format!("what was sent cannot be noted: {error}")))?;
                Ok(done)
            });
            match kept {
                Ok(done) => self.is_there(&mut state, number, done),
                Err(fault) => {
                    state.failed.get_or_insert(fault);
                }
            }
        }
    }

    fn is_there(&self, state: &mut State, number: u32, done: Done) {
        state.count += 1;
        if !self.is_sparse {
            state.parts.insert(number, done);
        }
    }

    /// One part, tried until it is there.
    fn send(&self, number: u32, piece: &Piece) -> std::result::Result<String, Fault> {
        let parts = self.place.parts()?;
        if self.is_stale && piece.len > 0 {
            self.clear(u64::from(number.saturating_sub(1)) * self.part, piece.len)?;
        }
        self.persist(|| parts.put_part(&self.name, &self.id, number, piece))
    }

    /// Makes a range zero, tried until it is.
    fn clear(&self, start: u64, len: u64) -> std::result::Result<(), Fault> {
        let parts = self.place.parts()?;
        self.persist(|| parts.clear(&self.name, start, len))
    }

    /// Tries until it works, it cannot work, nothing has worked for too long, or the upload is over.
    fn persist<T>(&self, mut attempt: impl FnMut() -> std::result::Result<T, Fault>) -> std::result::Result<T, Fault> {
        let (name, shared) = (self.place.place(&self.name), &self.place.inner.shared);
        let mut failed = 0;
        loop {
            match attempt() {
                Ok(value) => {
                    self.patience.is_well(&name, shared);
                    return Ok(value);
                }
                Err(Fault::Again { what, after }) => {
                    failed += 1;
                    let is_over = || {
                        let state = self.lock();
                        state.is_over || state.failed.is_some()
                    };
                    self.patience.wait(&name, shared, (&what, after), failed, &is_over)?;
                }
                Err(fault) => return Err(fault),
            }
        }
    }

    /// The error that `fault` is, which `action` came to.
    fn error(&self, action: &'static str, fault: Fault) -> reformis_disk::Error {
        if self.place.inner.shared.stop.is_set() {
            return reformis_disk::Error::Interrupted;
        }
        let fault = match fault {
            // No source has changed: the upload is gone.
            Fault::Changed(what) => Fault::Expired(what),
            fault => fault,
        };
        fault.into_error(action, &self.place.place(&self.name), None)
    }
}

impl Upload {
    /// Why it has failed, if it has: what writing says is only that it did.
    pub fn failure(&self) -> Option<reformis_disk::Error> {
        let state = self.shared.lock();
        let fault = state.failed.clone()?;
        drop(state);
        Some(self.shared.error("writing", fault))
    }

    /// Hands the part that was filled to whoever sends it.
    fn hand_over(&mut self) -> io::Result<()> {
        let next = filling(self.part, self.sum, &self.folder)?;
        let piece = std::mem::replace(&mut self.filling, next).finish();
        let number = self.number;
        self.number += 1;
        let has = |done: &Done| done.len == piece.len && done.digest == piece.digest;
        if let Some(done) = self.before.get(&number).filter(|done| has(done)) {
            self.shared.is_there(&mut self.shared.lock(), number, done.clone());
            return Ok(());
        }
        if self.jobs.is_none() {
            let (sender, jobs) = sync_channel(0);
            let jobs = Arc::new(Mutex::new(jobs));
            for _ in 0..self.shared.place.connections {
                let (shared, jobs) = (self.shared.clone(), jobs.clone());
                let thread = std::thread::Builder::new().name("send".into()).spawn(move || shared.send_all(&jobs));
                self.threads.push(thread?);
            }
            self.jobs = Some(sender);
        }
        let gone = || io::Error::other("the upload has failed");
        self.jobs.as_ref().ok_or_else(gone)?.send((number, piece)).map_err(|_| gone())?;
        match self.shared.lock().failed {
            Some(_) => Err(gone()),
            None => Ok(()),
        }
    }

    /// Sends what is left, makes the object whole, and looks whether it is; its length in bytes.
    ///
    /// # Errors
    /// [`reformis_disk::Error::Wire`]; what was sent stays, for another run.
    pub fn finish(mut self) -> Result<u64> {
        if self.filling.len > 0 || self.number == 1 {
            self.hand_over().map_err(|error| {
                let failed = reformis_disk::Error::io("writing", self.shared.place.place(&self.shared.name), None);
                self.failure().unwrap_or_else(|| failed(error))
            })?;
        }
        self.jobs = None;
        self.threads.drain(..).for_each(|thread| drop(thread.join()));
        if let Some(error) = self.failure() {
            return Err(error);
        }
        let shared = self.shared.as_ref();
        let Shared { place, name, id, .. } = shared;
        let failed = |fault: Fault| shared.error("finishing an upload to", fault);
        let (sent, count) = {
            let state = shared.lock();
            (state.parts.values().cloned().collect::<Vec<_>>(), state.count)
        };
        if count + self.left_out != self.number - 1 {
            return Err(failed(Fault::protocol("a part is missing")));
        }
        let parts = place.parts().map_err(failed)?;
        let mut is_again = false;
        let finished = shared.persist(|| match parts.finish(name, id, &sent, self.taken) {
            // An answer that was lost: it was made whole the first time.
            Err(Fault::Changed(_)) if is_again && place.store.len_of(name)? == Some(self.taken) => Ok(()),
            other => {
                is_again = true;
                other
            }
        });
        finished.map_err(failed)?;
        match shared.persist(|| place.store.len_of(name)).map_err(failed)? {
            Some(len) if len == self.taken => Ok(len),
            Some(len) => Err(failed(Fault::protocol(format!("it has {len} bytes where {} were sent", self.taken)))),
            None => Err(failed(Fault::protocol("it is not there, though it was made whole"))),
        }
    }
}

impl Upload {
    /// Whether parts that hold nothing are left out.
    pub fn is_sparse(&self) -> bool {
        self.shared.is_sparse
    }

    /// Takes `len` zeros.
    ///
    /// # Errors
    /// Those of writing.
    pub fn zeros(&mut self, mut len: u64) -> io::Result<()> {
        if !self.is_sparse() {
            return write_zeros(self, len);
        }
        let begun = if self.filling.len > 0 { self.part - self.filling.len } else { 0 };
        let first = len.min(begun);
        write_zeros(self, first)?;
        len -= first;
        let whole =
            u32::try_from(len / self.part).map_err(|_| io::Error::other("it has more parts than there may be"))?;
        let next = self.number.checked_add(whole);
        self.number = next.ok_or_else(|| io::Error::other("it has more parts than there may be"))?;
        self.left_out += whole;
        if self.shared.is_stale && whole > 0 {
            let cleared = self.shared.clear(self.taken, u64::from(whole) * self.part);
            cleared.map_err(|fault| {
                self.shared.lock().failed.get_or_insert(fault);
                io::Error::other("the upload has failed")
            })?;
        }
        self.taken += u64::from(whole) * self.part;
        write_zeros(self, len % self.part)
    }
}

impl Write for Upload {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        let room = self.part - self.filling.len;
        let now = usize::try_from(room).unwrap_or(usize::MAX).min(bytes.len());
        self.filling.push(bytes.get(..now).unwrap_or_default())?;
        self.taken += now as u64;
        if self.filling.len == self.part {
            self.hand_over()?;
        }
        Ok(now)
    }

    fn flush(&mut self) -> io::Result<()> {
        Ok(())
    }
}

impl Drop for Upload {
    fn drop(&mut self) {
        // What is under way is sent to its end; what breaks now is not tried again.
        self.shared.lock().is_over = true;
        self.jobs = None;
        self.threads.drain(..).for_each(|thread| drop(thread.join()));
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn no_upload_has_more_parts_than_there_may_be() {
        const GIB: u64 = 1 << 30;
        for most in [0, 1, PART, 148 * GIB, 149 * GIB, 2048 * GIB, 5 * 1024 * GIB] {
            let part = part_of(most);
            assert!(most.div_ceil(part) <= PARTS && part >= PART && part.is_multiple_of(GRAIN), "{most}: {part}");
            // The interface takes parts of 5 GiB at the most.
            assert!(part <= 5 * GIB, "{most}: {part}");
        }
    }
}
