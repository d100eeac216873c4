//! A landing whose disks go into a store: those that are written in one direction as they are made, all others as soon as their file is
//! whole. The folder of the landing keeps the machine file and the receipt.

use std::{
    ffi::OsStr,
    fs::File,
    io::{self, Read, Write},
    sync::{
        Arc, Condvar, Mutex, MutexGuard, PoisonError,
        atomic::{AtomicU64, Ordering},
    },
    time::Duration,
};

use reformis_disk::{
    Disk, Facts, Format,
    budget::Budget,
    container::Source,
    copy::{Copied, Output, Watch, pipeline},
    format::{self, NewImage},
};
use reformis_machine::{MachineFile, manifest::Algorithm};
use reformis_wire::stores::{self, Upload};

use super::parts::PartsLedger;
use crate::{
    checksum::Hasher,
    error::{Error, Result},
    observer::Context,
    plan::{Plan, PlannedDisk},
    staging::Place,
};

/// Bytes that are read at once of a file that is sent.
const PIECE: usize = 1 << 20;

/// The store that a landing goes to.
#[derive(Clone)]
pub(crate) struct Shipping {
    place: stores::Place,
    store: String,
    /// What the names there begin with.
    below: String,
}

impl Shipping {
    /// The store that `plan` names, after a look whether everything will be taken there: the key may write, and no name is taken, unless
    /// `force` says that it may be. What earlier runs left unfinished there is given up, unless this one goes on.
    pub(crate) fn open(plan: &Plan, force: bool, goes_on: bool, context: &Context<'_>) -> Result<Option<Self>> {
        let Some(text) = &plan.store else { return Ok(None) };
        let Some((store, folder)) = text.split_once(':') else {
            let what = format!("'{text}' is not NAME:FOLDER of a store in reformis.toml");
            return Err(Error::NotIntoStore { what });
        };
        if plan.machine_file == MachineFile::Ova {
            return Err(Error::NotIntoStore {
                what: "an OVA holds its disks itself; choose the machine file ovf".into(),
            });
        }
        let below = format!("{}{}/", stores::below(folder), plan.machine.name);
        let shipping = Self { place: context.wires.store(store)?, store: store.into(), below };
        shipping.place.try_out(&shipping.below)?;
        for disk in &plan.disks {
            let name = shipping.name_of(&disk.file);
            if !force && shipping.place.len_of(&name)?.is_some() {
                return Err(Error::TakenThere { place: shipping.result(&disk.file) });
            }
            if !goes_on {
                let left = shipping.place.unfinished(&name)?;
                left.iter()
                    .filter(|(other, _)| *other == name)
                    .try_for_each(|(_, id)| shipping.place.give_up(&name, id))?;
            }
        }
        Ok(Some(shipping))
    }

    fn name_of(&self, file: &str) -> String {
        format!("{}{file}", self.below)
    }

    /// Where a file of the landing is, as a person writes it.
    pub(crate) fn result(&self, file: &str) -> String {
        format!("{}:{}", self.store, self.name_of(file))
    }

    /// Whether a disk goes there as it is made.
    pub(crate) fn streams(&self, planned: &PlannedDisk) -> bool {
        self.place.takes_parts() && format::is_one_way(planned.shape)
    }

    /// Why a disk does not, as the end of a sentence.
    pub(crate) fn why_not(&self, planned: &PlannedDisk) -> String {
        match self.place.takes_parts() {
            true => format!("{} is not written in one direction", planned.shape),
            false => "the store takes whole files".into(),
        }
    }

    /// Bytes of the file of a disk that was made in `folder`.
    pub(crate) fn made(&self, planned: &PlannedDisk, folder: &Place) -> Result<u64> {
        let path = folder.path_of(&planned.file);
        Ok(folder.open_file(OsStr::new(&planned.file))?.metadata().map_err(Error::io("reading", &path))?.len())
    }

    /// Writes `disk` into the store as it is made; with the SHA-256 of its file, where `digests`.
    pub(crate) fn write(
        &self,
        disk: &dyn Disk,
        planned: &PlannedDisk,
        folder: &Place,
        new: &NewImage,
        digests: bool,
        watch: &Watch<'_>,
    ) -> Result<(Copied, Option<String>)> {
        let sink = Sink::new(self.upload(&planned.file, most(planned), folder)?, digests);
        let copy = |watch: &Watch<'_>| {
            let copied = format::create_in(Output::pipe(sink.clone(), self.result(&planned.file)), new)
                .and_then(|mut writer| pipeline::copy(disk, writer.as_mut(), watch));
            let copied = copied.map_err(|error| sink.failure().unwrap_or(error))?;
            Ok((copied, sink.finish()?))
        };
        match sends_zeros(planned) {
            true => telling(&sink.taken, watch, copy),
            false => copy(watch),
        }
    }

    fn upload(&self, file: &str, most: u64, folder: &Place) -> Result<Upload> {
        let (ledger, begun) = PartsLedger::open(folder, file)?;
        Ok(self.place.upload(&self.name_of(file), most, folder.path(), begun, Box::new(ledger))?)
    }

    /// Sends the file of a disk that was made in `folder`, and removes it there.
    pub(crate) fn send(&self, planned: &PlannedDisk, folder: &Place, watch: &Watch<'_>) -> Result<()> {
        let name = OsStr::new(&planned.file);
        let mut file = folder.open_file(name)?;
        if self.place.takes_parts() {
            self.send_parts(&planned.file, &mut file, folder, watch)?;
        } else {
            self.place.put_file(&self.name_of(&planned.file), &file)?;
            (watch.progress)(file.metadata().map_err(Error::io("reading", &folder.path_of(name)))?.len());
        }
        folder.remove(name)
    }

    #[expect(clippy::indexing_slicing, reason = "what was read lies in what it was read into")]
    fn send_parts(&self, name: &str, file: &mut File, folder: &Place, watch: &Watch<'_>) -> Result<()> {
        let path = folder.path_of(name);
        let len = file.metadata().map_err(Error::io("reading", &path))?.len();
        let mut upload = self.upload(name, len, folder)?;
        let mut piece = vec![0; PIECE];
        loop {
            if (watch.cancel)() {
                return Err(reformis_disk::Error::Interrupted.into());
            }
            let read = file.read(&mut piece).map_err(Error::io("reading", &path))?;
            if read == 0 {
                upload.finish()?;
                return Ok(());
            }
            if let Err(error) = upload.write_all(&piece[..read]) {
                return Err(upload.failure().map_or_else(|| Error::io("sending", &path)(error), Error::from));
            }
            (watch.progress)(read as u64);
        }
    }

    /// Puts a small file of the landing.
    pub(crate) fn put(&self, file: &str, bytes: &[u8]) -> Result<()> {
        Ok(self.place.put(&self.name_of(file), bytes)?)
    }

    /// What a disk that is there says of itself.
    pub(crate) fn facts(&self, planned: &PlannedDisk, copied: &Copied, context: &Context<'_>) -> Result<Facts> {
        let link = self.place.link(&self.name_of(&planned.file))?;
        let storage = context.wires.open(&link, &Budget::whole())?.random_access()?;
        Ok(match planned.wrapping {
            Some(kind) => Facts::of_stream(planned.shape, kind.name(), copied.size, storage.as_ref()),
            None => format::open(storage, Some(planned.shape.format))?.facts,
        })
    }
}

/// What `result` of a receipt calls in a store; `None` where it is no place of one.
pub(crate) fn open_there(result: &str, context: &Context<'_>) -> Result<Option<Source>> {
    let Some((store, name)) = context.wires.store_of(result) else { return Ok(None) };
    let link = context.wires.store(store)?.link(name)?;
    Ok(Some(context.wires.open(&link, context.budget)?))
}

/// Whether the zeros of a disk are sent too, so that what is sent tells how far the work is, and not what is read.
pub(crate) fn sends_zeros(planned: &PlannedDisk) -> bool {
    planned.wrapping.is_none() && planned.shape.format != Format::Vmdk
}

/// Does `work`, and tells `watch` of the bytes that are counted in `taken` meanwhile, in place of what the work tells.
fn telling<T>(taken: &AtomicU64, watch: &Watch<'_>, work: impl FnOnce(&Watch<'_>) -> T) -> T {
    const OFTEN: Duration = Duration::from_millis(100);
    let told = AtomicU64::new(0);
    let tell = || {
        let now = taken.load(Ordering::Relaxed);
        (watch.progress)(now.saturating_sub(told.swap(now, Ordering::Relaxed)));
    };
    let (over, wait) = (Mutex::new(false), Condvar::new());
    std::thread::scope(|scope| {
        scope.spawn(|| {
            let mut is_over = over.lock().unwrap_or_else(PoisonError::into_inner);
            while !*is_over {
                is_over = wait.wait_timeout(is_over, OFTEN).unwrap_or_else(PoisonError::into_inner).0;
                tell();
            }
        });
        let outcome = work(&Watch { progress: &|_| (), ..*watch });
        *over.lock().unwrap_or_else(PoisonError::into_inner) = true;
        wait.notify_all();
        outcome
    })
}

/// The most bytes that the file of a disk may have.
fn most(planned: &PlannedDisk) -> u64 {
    const SPARE: u64 = 16 << 20;
    match planned.shape.format {
        Format::Raw if planned.wrapping.is_none() => planned.size,
        // What does not compress grows by less than a fiftieth, tables and all.
        _ => planned.size.saturating_add(planned.size / 50).saturating_add(SPARE),
    }
}

/// An upload as a format's writer holds it.
#[derive(Clone)]
struct Sink {
    inside: Arc<Mutex<Inside>>,
    /// Bytes that were taken.
    taken: Arc<AtomicU64>,
}

struct Inside {
    upload: Option<Upload>,
    hash: Option<Hasher>,
}

impl Sink {
    fn new(upload: Upload, digests: bool) -> Self {
        let hash = digests.then(|| Hasher::new(Some(Algorithm::Sha256)));
        let inside = Arc::new(Mutex::new(Inside { upload: Some(upload), hash }));
        Self { inside, taken: Arc::default() }
    }

    fn inside(&self) -> MutexGuard<'_, Inside> {
        self.inside.lock().unwrap_or_else(PoisonError::into_inner)
    }

    fn failure(&self) -> Option<reformis_disk::Error> {
        self.inside().upload.as_ref()?.failure()
    }

    fn finish(&self) -> Result<Option<String>> {
        let mut inside = self.inside();
        if let Some(upload) = inside.upload.take() {
            upload.finish()?;
        }
        Ok(inside.hash.take().map(|hash| hash.finish().value))
    }
}

impl Write for Sink {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        let Inside { upload, hash } = &mut *self.inside.lock().unwrap_or_else(PoisonError::into_inner);
        let Some(upload) = upload else { return Err(io::Error::other("the upload is over")) };
        let taken = upload.write(bytes)?;
        self.taken.fetch_add(taken as u64, Ordering::Relaxed);
        if let Some(hash) = hash {
            hash.update(bytes.get(..taken).unwrap_or_default());
        }
        Ok(taken)
    }

    fn flush(&mut self) -> io::Result<()> {
        Ok(())
    }
}
