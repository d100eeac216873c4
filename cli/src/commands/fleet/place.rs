//! Which fleet is meant, and where its state is.

use std::{collections::BTreeSet, path::Path};

use anyhow::Result;
use reformis_move::{
    Error,
    fleet::{Fleet, Place, State, Worker},
};
use reformis_wire::database::Access;

use crate::{Session, args::StateArgs};

/// A fleet's state, opened.
pub(crate) struct Opened {
    /// The fleet's name.
    pub(crate) name: String,
    pub(crate) place: Place,
    pub(crate) access: Access,
    pub(crate) state: State,
}

impl Opened {
    /// The fleet that `named` means: a fleet file, or a name.
    pub(crate) fn new(named: &Path, args: &StateArgs, session: &Session) -> Result<Self> {
        match named.is_file() {
            true => Self::of(Fleet::read(named)?.name, Some(named), args, false, session),
            false => Self::of(named.to_string_lossy().into_owned(), None, args, false, session),
        }
    }

    /// `fleet`, which was read from the file at `file`, and its state, into which it is brought as it is now. Nothing begins by that, and nothing that failed
    /// waits again. What it changes is said; also whether something is gone from the file.
    pub(crate) fn brought_in(
        fleet: Fleet,
        file: &Path,
        args: &StateArgs,
        session: &Session,
    ) -> Result<(Fleet, Self, bool)> {
        let opened = Self::of(fleet.name.clone(), Some(file), args, true, session)?;
        let synced = opened.state.sync(&fleet, &[], Some(&BTreeSet::new()), &Worker::here())?;
        session.progress.say(&super::night::told_of_sync(&synced));
        Ok((fleet, opened, !synced.gone.is_empty()))
    }

    /// The fleet called `name`, whose file is at `file`. With `make`, its state is made where there is none.
    pub(crate) fn of(
        name: String,
        file: Option<&Path>,
        args: &StateArgs,
        make: bool,
        session: &Session,
    ) -> Result<Self> {
        let access = session.wires.database().map_err(Error::from)?;
        let server = args.state.clone().or_else(|| session.wires.database_at().map(str::to_string));
        let place = match (server, file) {
            (Some(address), _) => Place::Server(address),
            (None, Some(file)) => Place::beside(file),
            (None, None) => {
                anyhow::bail!(
                    "'{}' is no fleet file; the name of a fleet needs --state, or 'at' of the table 'database' in reformis.toml",
                    reformis_disk::text::printable(&name)
                )
            }
        };
        let state = State::open(&place, &access, make)?;
        Ok(Self { name, place, access, state })
    }

    /// The state that earlier runs of `fleet` left, whose file is at `file`; none where there were none.
    pub(crate) fn where_it_is(fleet: &Fleet, file: &Path, args: &StateArgs, session: &Session) -> Result<Option<Self>> {
        let is_elsewhere = args.state.is_some() || session.wires.database_at().is_some();
        let is_there = |place: &Place| matches!(place, Place::File(path) if path.symlink_metadata().is_ok());
        match is_elsewhere || is_there(&Place::beside(file)) {
            true => Self::of(fleet.name.clone(), Some(file), args, false, session).map(Some),
            false => Ok(None),
        }
    }

    /// Whether `path` is a fleet file: by its content, whatever its name.
    pub(crate) fn is_fleet_file(path: &Path) -> bool {
        let small = std::fs::metadata(path).is_ok_and(|metadata| metadata.is_file() && metadata.len() < 8 << 20);
        let has_machines = |text: String| text.lines().any(|line| line.trim() == "[[machine]]");
        small && std::fs::read_to_string(path).is_ok_and(has_machines)
    }
}
