//! Where a fleet stands: which machine waits, runs, has landed or failed. It lies in a database, so that it outlives every worker.
//!
//! A worker that takes a machine gets a *lease*: the machine is its own until the lease runs out, and it must renew it before. Each taking
//! raises the machine's *fence*, a number that only grows; whatever a worker says of a machine later counts only while the fence is the
//! one that it got. So a worker that was away for too long, and whose machine another one has taken over, can neither land it nor say how
//! it went.

mod after;
mod claim;
mod database;
mod ended;
mod hook;
mod lease;
mod note;
mod notice;
mod postgres;
mod schema;
mod sqlite;
mod steer;
mod sync;
mod view;

use std::{
    path::{Path, PathBuf},
    sync::{Mutex, PoisonError},
    time::Duration,
};

use database::{Database, Session, Trouble};
use reformis_disk::text::printable;
use reformis_wire::database::Access;

pub(super) use after::UNDOING;
pub use claim::{Claim, Claimed, Held, Shut};
pub use ended::{Ended, Pressed};
pub use hook::{Hook, HookState};
pub use lease::{Beat, Lease};
pub use notice::{Notice, Subject};
pub use sync::Synced;
pub(super) use view::KnownMachines;
pub use view::{Counts, Machine, Pace, Stand};

use super::error::FleetError;
use crate::error::Result;

/// Where the state of a fleet lies.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Place {
    /// A file.
    File(PathBuf),
    /// A PostgreSQL database: `postgres://USER@HOST/DATABASE`.
    Server(String),
}

impl Place {
    /// That of the fleet file at `path`: beside it.
    pub fn beside(path: &Path) -> Self {
        let mut name = path.file_stem().unwrap_or_default().to_os_string();
        name.push(".state");
        Self::File(path.with_file_name(name))
    }

    /// It, without what could let somebody in.
    fn shown(&self) -> String {
        match self {
            Self::File(path) => printable(&path.to_string_lossy()),
            Self::Server(address) => printable(&without_password(address)),
        }
    }
}

/// The address without what could let somebody in, even where it should not be there.
fn without_password(address: &str) -> String {
    let Some((scheme, rest)) = address.split_once("://") else { return "a database".into() };
    let rest = rest.split(['?', '#']).next().unwrap_or_default();
    let (user, place) =
        rest.rsplit_once('@').map_or(("", rest), |(user, place)| (user.split(':').next().unwrap_or_default(), place));
    let at = if user.is_empty() { "" } else { "@" };
    format!("{scheme}://{user}{at}{place}")
}

/// The state of fleets.
pub struct State {
    database: Mutex<Box<dyn Database>>,
    place: String,
    /// Whether fleets of other files may be in it.
    is_shared: bool,
}

impl State {
    /// Opens the state at `place`. With `make`, the database's tables are made or brought up, and a file too, where there is none.
    ///
    /// # Errors
    /// [`FleetError::State`].
    pub fn open(place: &Place, access: &Access, make: bool) -> Result<Self> {
        let shown = place.shown();
        let failed = |trouble: Trouble| of_trouble("opened", &shown, trouble);
        let mut database: Box<dyn Database> = match place {
            Place::File(path) => Box::new(sqlite::Sqlite::open(path, make).map_err(failed)?),
            Place::Server(address) => {
                let way = postgres::Way::new(address, access).map_err(failed)?;
                Box::new(postgres::Postgres::open(way).map_err(failed)?)
            }
        };
        match make {
            true => database.transact(&mut |session| schema::migrate(session)),
            false => database.read(&mut |session| schema::check(session)),
        }
        .map_err(failed)?;
        let is_shared = matches!(place, Place::Server(_));
        Ok(Self { database: Mutex::new(database), place: shown, is_shared })
    }

    /// Changes the state; what `work` gives back.
    fn change<T>(&self, work: impl FnMut(&mut dyn Session) -> database::Result<T>) -> Result<T> {
        self.with(work, "changed", |database, work| database.transact(work))
    }

    /// Changes rows of the state that say themselves, by their fence, whether they may be changed: no decision of others is waited for.
    fn touch<T>(&self, work: impl FnMut(&mut dyn Session) -> database::Result<T>) -> Result<T> {
        self.with(work, "changed", |database, work| database.look(work))
    }

    /// Reads the state.
    fn look<T>(&self, work: impl FnMut(&mut dyn Session) -> database::Result<T>) -> Result<T> {
        self.with(work, "read", |database, work| database.read(work))
    }

    fn with<T>(
        &self,
        mut work: impl FnMut(&mut dyn Session) -> database::Result<T>,
        doing: &'static str,
        how: impl Fn(&mut dyn Database, &mut dyn FnMut(&mut dyn Session) -> database::Result<()>) -> database::Result<()>,
    ) -> Result<T> {
        let mut database = self.database.lock().unwrap_or_else(PoisonError::into_inner);
        let mut tries = 0;
        loop {
            let mut given = None;
            let done = how(database.as_mut(), &mut |session| {
                given = Some(work(session)?);
                Ok(())
            });
            match (done, given) {
                (Ok(()), Some(given)) => return Ok(given),
                // A connection that was kept and has died meanwhile is no reason to bother anybody.
                (Err(trouble), _) if trouble.again && tries < 2 => {
                    tries += 1;
                    tracing::debug!(what = trouble.what, "asking the database again");
                    std::thread::sleep(Duration::from_millis(100));
                }
                (Err(trouble), _) => return Err(of_trouble(doing, &self.place, trouble)),
                (Ok(()), None) => {
                    let trouble = Trouble { what: "it did nothing".into(), again: false };
                    return Err(of_trouble(doing, &self.place, trouble));
                }
            }
        }
    }
}

fn of_trouble(doing: &'static str, place: &str, trouble: Trouble) -> crate::Error {
    FleetError::State { place: place.into(), doing, what: printable(&trouble.what), again: trouble.again }.into()
}

#[cfg(test)]
pub(super) mod tests;
