//! A landing whose disks go into a store: those that are written in one direction as they are made, all others as soon as their file is
//! whole. The folder of the landing keeps the machine file and the receipt.

use std::{
    ffi::OsStr,
    fs::File,
    io::{self, Read, Write},
    sync::{
        Arc, Mutex, MutexGuard, PoisonError,
        atomic::{AtomicU64, Ordering},
        mpsc::{self, RecvTimeoutError},
    },
    time::Duration,
};

use reformis_disk::{
    Disk, Facts, Format,
    container::Source,
    copy::{
        Copied, Output, Watch,
        output::{OneWay, write_zeros},
        pipeline,
    },
    error::WireKind,
    format::{self, NewImage},
};
use reformis_machine::{MachineFile, manifest::Algorithm};
use reformis_wire::stores::{self, Ledger, Upload};

use super::{
    parts::{PartsLedger, Whole},
    written::Written,
};
use crate::{
    checksum::Hasher,
    error::{Error, Result},
    observer::Context,
    plan::{Plan, PlannedDisk},
    staging::Place,
};

/// The empty object by which a cloud tries whether it may read in the store.
const TRIAL: &str = "reformis-trial-of-cloud";
/// How often a disk is sent that goes in one stream.
const TRIES: u32 = 3;
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
    /// The store that `plan` names, after a look whether we may write there.
    pub(crate) fn open(plan: &Plan, context: &Context<'_>) -> Result<Option<Self>> {
        let shipping = Self::of(plan, context)?;
        if let Some(shipping) = &shipping {
            shipping.check_shapes(plan)?;
            shipping.place.try_out(&shipping.below)?;
        }
        Ok(shipping)
    }

    /// The store that `plan` names.
    pub(crate) fn of(plan: &Plan, context: &Context<'_>) -> Result<Option<Self>> {
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
        Ok(Some(Self { place: context.wires.store(store)?, store: store.into(), below }))
    }

    /// Does `work` while an empty object is there, whose link it is given.
    pub(crate) fn while_trial<T>(&self, work: impl FnOnce(String) -> Result<T>) -> Result<T> {
        let name = format!("{}{TRIAL}", self.below);
        self.place.put(&name, b"")?;
        let done = work(self.place.address(&name));
        self.place.remove(&name)?;
        done
    }

    /// The link of a file of the landing, without what lets us in.
    pub(crate) fn address(&self, file: &str) -> String {
        self.place.address(&self.name_of(file))
    }

    /// Bytes of a file that is there.
    pub(crate) fn len_of(&self, file: &str) -> Result<Option<u64>> {
        Ok(self.place.len_of(&self.name_of(file))?)
    }

    /// Fails where something lies in the place of a disk that no earlier run began, as its ledger in `folder` says.
    pub(crate) fn check_names(&self, plan: &Plan, folder: Option<&Place>) -> Result<()> {
        for disk in &plan.disks {
            let is_ours = folder.map(|folder| PartsLedger::open(folder, &disk.file)).transpose()?;
            let is_ours = is_ours.is_some_and(|(_, left)| left.begun.is_some());
            if !is_ours && self.place.len_of(&self.name_of(&disk.file))?.is_some() {
                return Err(Error::TakenThere { place: self.result(&disk.file) });
            }
        }
        Ok(())
    }

    fn name_of(&self, file: &str) -> String {
        format!("{}{file}", self.below)
    }

    /// Where a file of the landing is, as a person writes it.
    pub(crate) fn result(&self, file: &str) -> String {
        format!("{}:{}", self.store, self.name_of(file))
    }

    /// Fails for a disk whose file is not made of pages, where the store takes nothing else.
    fn check_shapes(&self, plan: &Plan) -> Result<()> {
        let Some(page) = self.place.page() else { return Ok(()) };
        let is_plain = |disk: &PlannedDisk| {
            let shape = disk.shape.to_string();
            disk.wrapping.is_none() && (disk.shape.format == Format::Raw || shape == "vhd/full")
        };
        match plan.disks.iter().find(|disk| !is_plain(disk) || !disk.size.is_multiple_of(page)) {
            Some(disk) => Err(Error::NotIntoStore {
                what: format!(
                    "a page store takes raw disks and vhd/full in whole pages of {page} bytes, and '{}' is {} of {} bytes",
                    disk.file, disk.shape, disk.size
                ),
            }),
            None => Ok(()),
        }
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

    /// The disk that an earlier run put there whole, where it holds the same bytes as `disk`: these are read, and not sent.
    pub(crate) fn there(
        &self,
        disk: &dyn Disk,
        planned: &PlannedDisk,
        folder: &Place,
        digests: bool,
        watch: &Watch<'_>,
    ) -> Result<Option<Written>> {
        let (_, left) = PartsLedger::open(folder, &planned.file)?;
        let Some(whole) = left.whole.filter(|whole| !digests || whole.sha256.is_some()) else { return Ok(None) };
        if self.place.len_of(&self.name_of(&planned.file))? != Some(whole.len) {
            return Ok(None);
        }
        let digest = pipeline::scan(disk, watch)?;
        if digest.to_string() != whole.content {
            return Ok(None);
        }
        let copied = Copied { size: disk.size(), digest, stored: whole.stored };
        Ok(Some(Written { copied, digest: whole.sha256, len: 0, changed: None, is_sent: true }))
    }

    /// Writes `disk` into the store as it is made; with the SHA-256 of its file, where `digests`. Where it goes there in one stream, and
    /// that breaks, the source is read again.
    pub(crate) fn write(
        &self,
        disk: &dyn Disk,
        planned: &PlannedDisk,
        folder: &Place,
        new: &NewImage,
        digests: bool,
        watch: &Watch<'_>,
    ) -> Result<Written> {
        for _ in 1..TRIES {
            match self.write_once(disk, planned, folder, new, digests, watch) {
                Err(Error::Disk(reformis_disk::Error::Wire(error)))
                    if self.place.is_one_stream() && error.kind == WireKind::Unreachable =>
                {
                    tracing::info!(%error, disk = planned.file, "sending the disk anew");
                }
                other => return other,
            }
        }
        self.write_once(disk, planned, folder, new, digests, watch)
    }

    fn write_once(
        &self,
        disk: &dyn Disk,
        planned: &PlannedDisk,
        folder: &Place,
        new: &NewImage,
        digests: bool,
        watch: &Watch<'_>,
    ) -> Result<Written> {
        let sink = Sink::new(self.upload(&planned.file, most(planned), folder)?, digests);
        let copy = |watch: &Watch<'_>| -> Result<Written> {
            let copied = format::create_in(Output::pipe(sink.clone(), self.result(&planned.file)), new)
                .and_then(|mut writer| pipeline::copy(disk, writer.as_mut(), watch));
            let copied = copied.map_err(|error| sink.failure().unwrap_or(error))?;
            let digest = sink.finish()?;
            Ok(Written { copied, digest, len: 0, changed: None, is_sent: true })
        };
        let written = match sends_zeros(planned) {
            true => telling(&sink.taken, watch, copy),
            false => copy(watch),
        }?;
        self.note(planned, &written, sink.taken.load(Ordering::Relaxed), folder)?;
        Ok(written)
    }

    /// Notes that a disk is there whole, in a file of `len` bytes.
    fn note(&self, planned: &PlannedDisk, written: &Written, len: u64, folder: &Place) -> Result<()> {
        let (mut ledger, _) = PartsLedger::open(folder, &planned.file)?;
        let Written { copied, digest, .. } = written;
        let content = copied.digest.to_string();
        let noted = ledger.whole(&Whole { len, stored: copied.stored, content, sha256: digest.clone() });
        noted.map_err(Error::io("writing the ledger of", &folder.path_of(&planned.file)))
    }

    fn upload(&self, file: &str, most: u64, folder: &Place) -> Result<Upload> {
        let (ledger, left) = PartsLedger::open(folder, file)?;
        Ok(self.place.upload(&self.name_of(file), most, folder.path(), left.begun, Box::new(ledger))?)
    }

    /// Sends the file of a disk that was made in `folder`, and removes it there.
    pub(crate) fn send(
        &self,
        planned: &PlannedDisk,
        written: &Written,
        folder: &Place,
        watch: &Watch<'_>,
    ) -> Result<()> {
        let name = OsStr::new(&planned.file);
        let len = self.made(planned, folder)?;
        let mut file = folder.open_file(name)?;
        if self.place.takes_parts() {
            self.send_parts(&planned.file, &mut file, len, folder, watch)?;
        } else {
            let (mut ledger, _) = PartsLedger::open(folder, &planned.file)?;
            // There are no parts; what counts is that it was ours to write.
            ledger.begun("", 0).map_err(Error::io("writing the ledger of", &folder.path_of(name)))?;
            self.place.put_file(&self.name_of(&planned.file), &file)?;
            (watch.progress)(len);
        }
        self.note(planned, written, len, folder)?;
        folder.remove(name)
    }

    #[expect(clippy::indexing_slicing, reason = "what was read lies in what it was read into")]
    fn send_parts(&self, name: &str, file: &mut File, len: u64, folder: &Place, watch: &Watch<'_>) -> Result<()> {
        let path = folder.path_of(name);
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
        let storage = self.place.open(&self.name_of(&planned.file), context.budget)?.random_access()?;
        Ok(match planned.wrapping {
            Some(kind) => Facts::of_stream(planned.shape, kind.name(), copied.size, storage.as_ref()),
            None => format::open(storage, Some(planned.shape.format))?.facts,
        })
    }
}

/// What `result` of a receipt calls in a store; `None` where it is no place of one.
pub(crate) fn open_there(result: &str, context: &Context<'_>) -> Result<Option<Source>> {
    let Some((store, name)) = context.wires.store_of(result) else { return Ok(None) };
    Ok(Some(context.wires.store(store)?.open(name, context.budget)?))
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
    let (sender, over) = mpsc::channel::<()>();
    std::thread::scope(|scope| {
        scope.spawn(move || {
            while over.recv_timeout(OFTEN) == Err(RecvTimeoutError::Timeout) {
                tell();
            }
            tell();
        });
        // It goes when the work is over, however that ends.
        let _over = sender;
        work(&Watch { progress: &|_| (), ..*watch })
    })
}

/// The most bytes that the file of a disk may have.
fn most(planned: &PlannedDisk) -> u64 {
    const SPARE: u64 = 16 << 20;
    match planned.shape.format {
        Format::Raw if planned.wrapping.is_none() => planned.size,
        // Its bytes, and the footer.
        Format::Vhd if planned.shape.to_string() == "vhd/full" && planned.wrapping.is_none() => planned.size + 512,
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

impl OneWay for Sink {
    fn zeros(&mut self, len: u64) -> io::Result<()> {
        // Zeros that are sent are told as they are sent, and digested where a manifest wants that.
        let mut inside = self.inside();
        let upload = inside.upload.as_mut().filter(|upload| upload.is_sparse());
        let Some(upload) = upload else {
            drop(inside);
            return write_zeros(self, len);
        };
        upload.zeros(len)?;
        self.taken.fetch_add(len, Ordering::Relaxed);
        match &mut inside.hash {
            Some(hash) => write_zeros(hash, len),
            None => Ok(()),
        }
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
