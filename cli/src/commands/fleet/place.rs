//! Which fleet is meant, and where its state is.

use std::path::Path;

use anyhow::Result;
use reformis_move::{
    Error,
    fleet::{Fleet, Place, State},
};
use reformis_wire::database::Access;

use crate::{Session, args::StateArgs};

/// A fleet's state, opened.
pub(crate) struct Opened {
    /// The fleet's name.
    pub(crate) name: String,
    /// Its file, where that was named.
    pub(crate) fleet: Option<Fleet>,
    pub(crate) place: Place,
    pub(crate) access: Access,
    pub(crate) state: State,
}

impl Opened {
    /// The fleet that `named` means: a fleet file, or a name. With `make`, its state is made where there is none.
    pub(crate) fn new(named: &Path, args: &StateArgs, make: bool, session: &Session) -> Result<Self> {
        let fleet = if named.is_file() { Some(Fleet::read(named)?) } else { None };
        let access = session.wires.database().map_err(Error::from)?;
        let server = args.state.clone().or_else(|| session.wires.database_at().map(str::to_string));
        let place = match (server, &fleet) {
            (Some(address), _) => Place::Server(address),
            (None, Some(_)) => Place::beside(named),
            (None, None) => {
                anyhow::bail!(
                    "'{}' is no fleet file; the name of a fleet needs --state, or 'at' of the table 'database' in reformis.toml",
                    reformis_disk::text::printable(&named.to_string_lossy())
                )
            }
        };
        let state = State::open(&place, &access, make)?;
        let name = fleet.as_ref().map_or_else(|| named.to_string_lossy().into_owned(), |fleet| fleet.name.clone());
        Ok(Self { name, fleet, place, access, state })
    }

    /// Whether `path` is a fleet file: by its content, whatever its name.
    pub(crate) fn is_fleet_file(path: &Path) -> bool {
        let small = std::fs::metadata(path).is_ok_and(|metadata| metadata.is_file() && metadata.len() < 8 << 20);
        let has_machines = |text: String| text.lines().any(|line| line.trim() == "[[machine]]");
        small && std::fs::read_to_string(path).is_ok_and(has_machines)
    }
}
