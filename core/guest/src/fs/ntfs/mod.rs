//! NTFS, versions 3.0 and 3.1. Its structures have no public specification; names follow the Linux kernel's `fs/ntfs3` and
//! `fs/ntfs`, and \[MS-FSCC\] where that has them.

mod bitmap;
mod boot;
mod btree;
mod change;
mod create;
mod fields;
mod file;
mod index;
mod log;
mod names;
mod packed;
mod record;
mod records;
mod reparse;
mod runs;
mod store;
mod stream;
mod times;
mod volume;

use std::{
    cell::{Cell, RefCell},
    sync::Arc,
};

pub(crate) use times::{seconds, ticks};

use boot::Geometry;
use fields::{bytes, u16};
use file::File;
use log::State;
use names::{Upcase, bytes_of};
use record::{Attribute, Mapped, NUMBER, Record, Value, kind};

use crate::{
    bench::Device,
    error::{Error, Result},
};

/// Numbers of the files that every volume has.
mod number {
    pub(super) const MFT: u64 = 0;
    pub(super) const MIRROR: u64 = 1;
    pub(super) const LOG: u64 = 2;
    pub(super) const VOLUME: u64 = 3;
    pub(super) const ROOT: u64 = 5;
    pub(super) const BITMAP: u64 = 6;
    pub(super) const UPCASE: u64 = 10;
    pub(super) const EXTEND: u64 = 11;
    /// The first that is free for others.
    pub(super) const FIRST_FREE: u64 = 24;
}

/// The stream that holds the bytes of a file which the system compressed.
pub(crate) const WOF_STREAM: &str = "WofCompressedData";

/// Whether a reparse point says something that is known, for the fuzzers.
pub(crate) fn reads_reparse(value: &[u8]) -> bool {
    reparse::read(value).is_some()
}

/// Flags of a volume for which its system has something to do first: to check it, to size its log, to bring it to a new version, to
/// drop its journal, to mend identities, to go on with a check.
const TO_DO: u16 = 0x4037;

/// A file system.
pub(crate) struct Ntfs {
    device: Device,
    geometry: Geometry,
    /// The file of all records.
    mft: Mapped,
    upcase: Upcase,
    /// The time that changes are made at, in seconds since 1970.
    now: i64,
    /// Files that were read last, the latest first.
    kept: RefCell<Vec<Arc<File>>>,
    /// Names of streams that nodes stand for.
    streams: RefCell<Vec<Vec<u16>>>,
    /// Whether it was found to be fit for changes.
    is_sound: Cell<bool>,
    /// Records that have a copy in `$MFTMirr`.
    mirrored: u64,
    /// Where the search for a free record begins.
    next_record: u64,
}

impl Ntfs {
    /// Opens the file system on `device`. Changes are made at `now`, in seconds since 1970.
    ///
    /// # Errors
    /// [`Error::Damaged`] and [`Error::Unsupported`].
    pub(crate) fn open(device: Device, now: i64) -> Result<Self> {
        let geometry = Geometry::read(&device)?;
        let mut bytes = vec![0; geometry.record];
        device.read(geometry.mft * geometry.cluster, &mut bytes)?;
        let damaged = |what: &str| device.damaged(format!("file record 0 {what}"));
        let first = Record::of(number::MFT, bytes).map_err(damaged)?;
        let attributes = first.attributes(geometry.clusters).map_err(damaged)?;
        let data =
            attributes.into_iter().find(|(first, one)| *first == 0 && one.kind == kind::DATA && one.name.is_empty());
        let Some((_, Attribute { value: Value::Mapped(mft), .. })) = data else {
            return Err(damaged("does not say where the others are"));
        };
        let mut opened = Self {
            device,
            geometry,
            mft,
            upcase: Upcase::none(),
            now,
            kept: RefCell::default(),
            streams: RefCell::default(),
            is_sound: Cell::new(false),
            mirrored: 0,
            next_record: number::FIRST_FREE,
        };
        opened.find_mft()?;
        let mirror = opened.file(number::MIRROR)?;
        let copies = mirror.find(kind::DATA, &[]).map_or(0, Attribute::size);
        opened.mirrored = copies / opened.geometry.record as u64;
        let upcase = opened.file(number::UPCASE)?;
        let table = upcase.find(kind::DATA, &[]).map(|data| opened.all_of(data)).transpose()?;
        let table = table.and_then(|bytes| Upcase::of(&bytes));
        opened.upcase =
            table.ok_or_else(|| opened.device.damaged("its table of capital letters has another length"))?;
        Ok(opened)
    }

    /// Finds all records: those that say where the last ones are lie among the first ones, and are named in their order.
    fn find_mft(&mut self) -> Result<()> {
        let base = self.record(number::MFT)?;
        let own = base.attributes(self.geometry.clusters).map_err(|what| self.of_mft(what))?;
        if let Some((_, list)) = own.iter().find(|(_, one)| one.kind == kind::ATTRIBUTE_LIST) {
            let list = self.all_of(list)?;
            for entry in file::listed(&list).ok_or_else(|| self.of_mft("has a damaged list of attributes"))? {
                let next = self.mft.runs.last().map_or(0, |run| run.end());
                if entry.kind == kind::DATA && entry.first == next && next > 0 {
                    let more = self.more_of_mft(entry.record & NUMBER, next)?;
                    self.mft.runs.extend(more);
                }
            }
        }
        match &self.read_file(base)?.find(kind::DATA, &[]).map(|data| &data.value) {
            Some(Value::Mapped(mapped)) => self.mft = mapped.clone(),
            _ => return Err(self.of_mft("does not say where the others are")),
        }
        Ok(())
    }

    /// Runs of the records from cluster `first` on, which record `number` tells.
    fn more_of_mft(&self, number: u64, first: u64) -> Result<Vec<runs::Run>> {
        let pieces = self.record(number)?.attributes(self.geometry.clusters).map_err(|what| self.of_mft(what))?;
        let piece = pieces.into_iter().find(|(begins, one)| *begins == first && one.kind == kind::DATA);
        match piece {
            Some((_, Attribute { value: Value::Mapped(mapped), .. })) => Ok(mapped.runs),
            _ => Ok(Vec::new()),
        }
    }

    /// What is wrong with the list of all records.
    fn of_mft(&self, what: &str) -> Error {
        self.device.damaged(format!("file record 0 {what}"))
    }

    /// What the volume says of itself: version (major, minor), flags and label.
    fn information(&self) -> Result<((u8, u8), u16, String)> {
        let volume = self.file(number::VOLUME)?;
        let information = volume.resident(kind::VOLUME_INFORMATION).unwrap_or_default();
        let [major, minor] = bytes(information, 8).unwrap_or_default();
        let label = bytes_of(&fields::units(volume.resident(kind::VOLUME_NAME).unwrap_or_default()));
        Ok(((major, minor), u16(information, 10).unwrap_or_default(), String::from_utf8_lossy(&label).into()))
    }

    /// What the log says.
    fn log_state(&self) -> Result<State> {
        let log = self.file(number::LOG)?;
        let Some(data) = log.find(kind::DATA, &[]) else { return Ok(State::Damaged) };
        let mut start = vec![0; log::START];
        let len = self.read_value(data, 0, &mut start)?;
        Ok(log::state(start.get(..len).unwrap_or_default()))
    }

    /// What the system keeps asleep in `hiberfil.sys`: whether it is more than an empty file.
    fn is_hibernated(&self) -> Result<bool> {
        let root = self.file(number::ROOT)?;
        let name: Vec<u16> = "hiberfil.sys".encode_utf16().collect();
        let Some((reference, _)) = self.find_name(&root, &name)? else { return Ok(false) };
        let file = self.referred(reference)?;
        let Some(data) = file.find(kind::DATA, &[]) else { return Ok(false) };
        let mut head = [0; 4];
        self.read_value(data, 0, &mut head)?;
        Ok(head.eq_ignore_ascii_case(b"hibr"))
    }

    /// Why it must not be changed as it is.
    fn check_sound(&self) -> Result<()> {
        const SHUT_DOWN: &str = "start the guest where it is and shut it down fully (shutdown /s /t 0)";
        let ((major, minor), flags, _) = self.information()?;
        let refuse = |what: String| Err(self.device.unchangeable(what));
        if (major, minor) != (3, 0) && (major, minor) != (3, 1) {
            return refuse(format!("its version is {major}.{minor}, and 3.0 and 3.1 are changed"));
        }
        if self.is_hibernated()? {
            return refuse(format!("a system is kept asleep on it; {SHUT_DOWN}"));
        }
        match self.log_state()? {
            State::Empty | State::Clean => {}
            State::Asleep => return refuse(format!("it was left open, as fast startup does; {SHUT_DOWN}")),
            State::Open => return refuse(format!("its log holds changes that were not finished; {SHUT_DOWN}")),
            State::Damaged => return refuse(format!("the state of its log cannot be told; {SHUT_DOWN}")),
        }
        if flags & TO_DO != 0 {
            return refuse(
                "it is marked for a check; start the guest where it is, let it check the volume, and shut it down"
                    .into(),
            );
        }
        Ok(())
    }

    fn wrong_kind(&self, wanted: &'static str) -> Error {
        Error::WrongKind { path: self.device.name().into(), wanted }
    }
}
