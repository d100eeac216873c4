//! One result, and the further files that belong to it.

use std::{
    ffi::{OsStr, OsString},
    fs::File,
    os::unix::ffi::OsStrExt,
    path::{Path, PathBuf},
    sync::{Arc, Mutex, MutexGuard, PoisonError},
};

use reformis_disk::{copy::output::PieceMaker, source::Access};
use rustix::{fs::FileType, io::Errno};

use super::{
    keep::Kept,
    place::{Place, exists, same, system},
};
use crate::error::{Error, Result};

const SUFFIX: &str = ".reformis-partial";

/// A file that is being written, and others that belong to it. Dropped, it leaves nothing.
pub struct StagedFile {
    place: Place,
    own: Member,
    target: PathBuf,
    force: bool,
    access: Access,
    pieces: Arc<Mutex<Vec<Member>>>,
    done: bool,
}

/// One file of a result.
struct Member {
    file: File,
    temporary: OsString,
    name: OsString,
    kept: Option<Kept>,
    state: State,
}

#[derive(Clone, Copy, PartialEq, Eq)]
enum State {
    /// It has its temporary name alone.
    Written,
    /// It has its name; the temporary one may be there too.
    Named,
    /// It has its name, and what had that before has the temporary one.
    Exchanged,
}

/// The temporary name of `name`.
pub(super) fn temporary_for(name: &OsStr) -> OsString {
    let mut temporary = OsString::from(".");
    temporary.push(name);
    temporary.push(SUFFIX);
    temporary
}

/// Removes the temporary names that a run which was killed at its very end has left of the result `name` and of the files that belong to it,
/// where they are second names of what lies there, and no run holds them.
fn tidy(place: &Place, name: &OsStr) -> Result<()> {
    let stem = Path::new(name).file_stem().unwrap_or_default().as_encoded_bytes();
    let belongs = |other: &OsStr| {
        let rest = other.as_encoded_bytes().strip_prefix(stem);
        other == name || rest.is_some_and(|rest| rest.starts_with(b"-"))
    };
    for temporary in place.names()? {
        let bytes = temporary.as_encoded_bytes();
        let Some(inner) = bytes.strip_prefix(b".").and_then(|rest| rest.strip_suffix(SUFFIX.as_bytes())) else {
            continue;
        };
        let other = OsStr::from_bytes(inner);
        // What somebody else put there is none of ours, and no reason to say so here.
        if !belongs(other) || !place.is_second_name(&temporary, other).unwrap_or(false) {
            continue;
        }
        place.remove(&temporary)?;
    }
    Ok(())
}

impl Member {
    /// With `names_others`, it is the one that gets its name last.
    fn create(place: &Place, name: &OsStr, force: bool, access: Access, names_others: bool) -> Result<Self> {
        let target = place.path_of(name);
        let temporary = temporary_for(name);
        place.settle(&temporary, name)?;
        let there = match place.stat(name)? {
            None => None,
            Some(stat) if FileType::from_raw_mode(stat.st_mode) != FileType::RegularFile => {
                return Err(exists(&target));
            }
            // A run that was killed while it gave a result its names left both names of this file.
            Some(stat) if !force => match place.stat(&temporary)? {
                Some(other) if same(&stat, &other) && stat.st_uid == rustix::process::geteuid().as_raw() => {
                    if names_others {
                        // It got its name when all others had theirs: that result is whole, and is only tidied up.
                        tidy(place, name)?;
                        return Err(exists(&target));
                    }
                    None
                }
                _ => return Err(exists(&target)),
            },
            Some(_) => Some(Kept::of(place.open_file(name)?, &target)?),
        };
        let half_named = there.is_none() && place.stat(name)?.is_some();
        let (file, _) = place.create_locked(&temporary, access, &target)?;
        let member = Self { file, temporary, name: name.into(), kept: there, state: State::Written };
        if half_named {
            place.remove(name)?;
        }
        if let Some(kept) = &member.kept
            && let Err(error) = kept.check(&member.file)
        {
            place.remove(&member.temporary).ok();
            return Err(error);
        }
        Ok(member)
    }

    /// Flushes it to disk, and gives it what it keeps of the file that it replaces.
    fn finish(&self, place: &Place) -> Result<()> {
        if let Some(kept) = &self.kept {
            kept.give(&self.file)?;
        }
        self.file.sync_all().map_err(Error::io("flushing", &place.path_of(&self.temporary)))
    }

    /// Gives it its name, in a way that can be taken back.
    fn name(&mut self, place: &Place) -> Result<()> {
        if self.kept.is_some() {
            // What had the name is kept under the other until the whole result is there.
            place.exchange(&self.temporary, &self.name)?;
            self.state = State::Exchanged;
            return Ok(());
        }
        let target = place.path_of(&self.name);
        // With two names, the next run knows a killed one's file by them.
        match place.link(&self.temporary, &self.name) {
            Ok(()) => {}
            Err(Errno::EXIST) => return Err(exists(&target)),
            Err(Errno::PERM | Errno::NOTSUP | Errno::NOSYS | Errno::MLINK | Errno::INVAL) => {
                place.rename_new(&self.temporary, &self.name)?;
            }
            Err(error) => return Err(system("naming", &target)(error)),
        }
        self.state = State::Named;
        Ok(())
    }

    /// Takes the name back, and removes the file.
    fn undo(&mut self, place: &Place) {
        match self.state {
            State::Written => {}
            State::Named => {
                let own = rustix::fs::fstat(&self.file).ok();
                let there = place.stat(&self.name).ok().flatten();
                // What another run put there meanwhile is not ours to remove.
                if own.zip(there).is_some_and(|(own, there)| same(&own, &there)) {
                    place.remove(&self.name).ok();
                }
            }
            State::Exchanged => {
                if place.exchange(&self.temporary, &self.name).is_err() {
                    // Under the temporary name lies what was to be replaced.
                    return;
                }
            }
        }
        self.state = State::Written;
        place.remove(&self.temporary).ok();
    }

    /// Removes the temporary name, with what it leads to.
    fn settle(&self, place: &Place) -> Result<()> {
        match place.stat(&self.temporary)? {
            Some(_) => place.remove(&self.temporary),
            None => Ok(()),
        }
    }
}

impl StagedFile {
    /// Begins to write what will be `target`; with `force` it may replace a plain file, whose owner, group, mode, access
    /// control list and security label it keeps. A new one is open to nobody who may not open a file of `access`.
    ///
    /// # Errors
    /// `Exists` when something is there and `force` is not set, or what is there is no plain file; `Busy` when another run
    /// writes the same; [`Error::InTheWay`] when someone else's file has the temporary name; [`Error::OwnerNotKept`].
    pub fn create(target: &Path, force: bool, access: Access) -> Result<Self> {
        let (place, name) = Place::of(target)?;
        let own = Member::create(&place, &name, force, access, true)?;
        Ok(Self { place, own, target: target.into(), force, access, pieces: Arc::default(), done: false })
    }

    /// Where it will lie.
    pub(crate) fn target(&self) -> &Path {
        &self.target
    }

    /// What makes further files beside it; they get their names together with it.
    pub(crate) fn pieces(&self) -> PieceMaker {
        let (place, pieces, force, access) = (self.place.clone(), self.pieces.clone(), self.force, self.access);
        Box::new(move |name| {
            let piece = Member::create(&place, OsStr::new(name), force, access, false).map_err(Error::into_disk)?;
            let shown = place.path_of(&piece.temporary).to_string_lossy().into_owned();
            let file = piece.file.try_clone();
            lock(&pieces).push(piece);
            file.map_err(reformis_disk::Error::io("opening", shown, None))
        })
    }

    /// A handle of the file.
    ///
    /// # Errors
    /// What the system says.
    pub fn file(&self) -> Result<File> {
        self.own.file.try_clone().map_err(Error::io("opening", &self.target))
    }

    /// Flushes all files to disk and gives them their names; what is dropped before [`StagedFile::keep`] takes them back.
    ///
    /// # Errors
    /// What the system says, and `Exists` when a name was taken meanwhile.
    pub(crate) fn publish(&mut self) -> Result<()> {
        let mut pieces = lock(&self.pieces);
        pieces.iter().try_for_each(|piece| piece.finish(&self.place))?;
        self.own.finish(&self.place)?;
        // The file that names the others comes last: whoever sees it finds them.
        pieces.iter_mut().try_for_each(|piece| piece.name(&self.place))?;
        self.own.name(&self.place)?;
        self.place.sync()
    }

    /// Makes what was published final: what it replaced goes, and with it the temporary names.
    pub(crate) fn keep(mut self) {
        self.done = true;
        for member in lock(&self.pieces).iter().chain([&self.own]) {
            if let Err(error) = member.settle(&self.place) {
                tracing::warn!(%error, "a temporary name is left over");
            }
        }
    }

    /// Flushes all files to disk and gives them their names.
    ///
    /// # Errors
    /// What the system says, and `Exists` when a name was taken meanwhile. Then everything is as it was before.
    pub fn commit(mut self) -> Result<()> {
        self.publish()?;
        self.keep();
        Ok(())
    }
}

impl Drop for StagedFile {
    fn drop(&mut self) {
        if self.done {
            return;
        }
        self.own.undo(&self.place);
        for piece in lock(&self.pieces).iter_mut() {
            piece.undo(&self.place);
        }
    }
}

fn lock<T>(mutex: &Mutex<T>) -> MutexGuard<'_, T> {
    mutex.lock().unwrap_or_else(PoisonError::into_inner)
}
