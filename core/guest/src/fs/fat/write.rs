//! Writing FAT, by a library. It takes a sound file system for granted, so all folders on the way are read by our own reader
//! first, and room is asked for; what it still stumbles over ends the edit, not the program.

use reformis_disk::to_usize;
use std::{
    io::{self, Read, Seek, SeekFrom, Write},
    panic::{AssertUnwindSafe, catch_unwind},
};

use fatfs::{FileSystem, FsOptions};

use super::Fat;
use crate::{
    bench::Device,
    error::{Error, Result},
};

/// A volume as the library wants it.
struct Stream {
    device: Device,
    at: u64,
}

fn other(error: Error) -> io::Error {
    io::Error::other(error)
}

impl Read for Stream {
    #[expect(clippy::indexing_slicing, reason = "cut to the buffer just above")]
    fn read(&mut self, buf: &mut [u8]) -> io::Result<usize> {
        let len = to_usize((self.device.size().saturating_sub(self.at)).min(buf.len() as u64));
        self.device.read(self.at, &mut buf[..len]).map_err(other)?;
        self.at += len as u64;
        Ok(len)
    }
}

impl Write for Stream {
    fn write(&mut self, buf: &[u8]) -> io::Result<usize> {
        self.device.write(self.at, buf).map_err(other)?;
        self.at += buf.len() as u64;
        Ok(buf.len())
    }

    fn flush(&mut self) -> io::Result<()> {
        Ok(())
    }
}

impl Seek for Stream {
    fn seek(&mut self, to: SeekFrom) -> io::Result<u64> {
        let at = match to {
            SeekFrom::Start(at) => Some(at),
            SeekFrom::Current(by) => self.at.checked_add_signed(by),
            SeekFrom::End(by) => self.device.size().checked_add_signed(by),
        };
        self.at = at.ok_or(io::ErrorKind::InvalidInput)?;
        Ok(self.at)
    }
}

type Library = FileSystem<Stream>;

impl Fat {
    fn with(&self, work: impl FnOnce(&Library) -> io::Result<()>) -> Result<()> {
        let stream = Stream { device: self.device.clone(), at: 0 };
        let run = || {
            let options = FsOptions::new().update_accessed_date(false);
            let library = FileSystem::new(stream, options)?;
            work(&library)?;
            library.unmount()
        };
        let outcome = catch_unwind(AssertUnwindSafe(run));
        let what = match outcome {
            Ok(Ok(())) => return Ok(()),
            Ok(Err(error)) => error.to_string(),
            Err(_) => "it is not sound".into(),
        };
        Err(self.device.unchangeable(what))
    }

    /// Reads every folder on the way to `path`, whose chains end then.
    #[expect(clippy::indexing_slicing, reason = "the depth is at most the length of the path")]
    fn check(&self, path: &[String]) -> Result<()> {
        (0..path.len()).try_for_each(|depth| self.list(&path[..depth]).map(drop))
    }

    fn check_room(&self, bytes: u64) -> Result<()> {
        // One cluster more for each folder that may grow.
        let needed = bytes.div_ceil(self.geometry.cluster) + 4;
        let free = self.free_clusters()?;
        if needed > free {
            let unit = format!("clusters of {} bytes", self.geometry.cluster);
            return Err(Error::NoRoom { volume: self.device.name().into(), unit, needed, free });
        }
        Ok(())
    }

    /// Makes the file at `path`, whose folder is there, or replaces its bytes.
    pub(crate) fn write(&self, path: &[String], bytes: &[u8]) -> Result<()> {
        self.check(path)?;
        self.check_room(bytes.len() as u64)?;
        let now = self.now;
        self.with(|library| {
            let mut file = library.root_dir().create_file(&path.join("/"))?;
            file.truncate()?;
            file.write_all(bytes)?;
            #[expect(deprecated, reason = "the library's own clock is fixed for the whole program")]
            file.set_modified(date_time(now));
            file.flush()
        })
    }

    /// Makes the folder at `path`, whose own folder is there.
    pub(crate) fn make_folder(&self, path: &[String]) -> Result<()> {
        self.check(path)?;
        self.check_room(0)?;
        self.with(|library| library.root_dir().create_dir(&path.join("/")).map(drop))?;
        self.put_own_entries(path)
    }

    /// Lays down the first two entries of a new folder, `.` and `..`: the library gives them long names too, which no folder
    /// has there.
    #[expect(clippy::cast_possible_truncation, reason = "the lower half is meant: the upper half is set beside it")]
    #[expect(clippy::indexing_slicing, reason = "an entry has 32 bytes, and a path a last part")]
    fn put_own_entries(&self, path: &[String]) -> Result<()> {
        let cluster = |entry: Option<super::Entry>| entry.map_or(0, |entry| entry.cluster);
        let own = cluster(self.entry(path)?);
        // A folder in the root says 0, whichever cluster the root is in.
        let parent = cluster(self.entry(&path[..path.len() - 1])?);
        let Some(at) = self.cluster_start(own) else { return Err(self.device.damaged("a new folder has no cluster")) };
        let mut slots = [0; 4 * 32];
        self.device.read(at, &mut slots)?;
        let Some(made) = slots.chunks_exact(32).find(|slot| slot[11] & 0x0f != 0x0f) else {
            return Err(self.device.damaged("a new folder has no entries"));
        };
        let made: [u8; 32] = made.try_into().unwrap_or([0; 32]);
        let mut fresh = [0; 4 * 32];
        for (slot, (name, cluster)) in
            fresh.chunks_exact_mut(32).zip([(&b".          "[..], own), (b"..         ", parent)])
        {
            slot.copy_from_slice(&made);
            slot[..11].copy_from_slice(name);
            slot[20..22].copy_from_slice(&((cluster >> 16) as u16).to_le_bytes());
            slot[26..28].copy_from_slice(&(cluster as u16).to_le_bytes());
        }
        self.device.write(at, &fresh)
    }

    /// Removes what is at `path`; a folder with all that is in it.
    pub(crate) fn remove(&self, path: &[String]) -> Result<()> {
        self.check(path)?;
        if self.entry(path)?.is_some_and(|entry| entry.is_folder) {
            if path.len() > 64 {
                return Err(self.device.damaged("folders lie inside themselves"));
            }
            for entry in self.list(path)? {
                self.remove(&[path, &[entry.name]].concat())?;
            }
        }
        self.with(|library| library.root_dir().remove(&path.join("/")))
    }
}

/// A time as entries have it, which begin in 1980 and end in 2107.
fn date_time(seconds: i64) -> fatfs::DateTime {
    let time = jiff::Timestamp::from_second(seconds.clamp(315_532_800, 4_354_819_199)).unwrap_or_default();
    let civil = time.to_zoned(jiff::tz::TimeZone::UTC).datetime();
    let number = |value: i8| value.cast_unsigned().into();
    fatfs::DateTime {
        date: fatfs::Date {
            year: civil.year().cast_unsigned(),
            month: number(civil.month()),
            day: number(civil.day()),
        },
        time: fatfs::Time {
            hour: number(civil.hour()),
            min: number(civil.minute()),
            sec: number(civil.second()),
            millis: 0,
        },
    }
}
