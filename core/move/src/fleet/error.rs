//! What goes wrong with a fleet as a whole; what goes wrong with one machine is an [`Error`](crate::Error) of its move.

/// What goes wrong with a fleet.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum FleetError {
    /// A fleet file that cannot be read. A stranger may have written it.
    #[error("the fleet file '{file}': {what}")]
    File {
        /// The file.
        file: String,
        /// What is wrong, with its line where it is known.
        what: String,
    },
    /// The database of a fleet's state does not answer, or not as one of ours does.
    #[error("the state of the fleet in {place} cannot be {doing}: {what}")]
    State {
        /// The database, without what lets us in.
        place: String,
        /// What was being done: "opened", "read".
        doing: &'static str,
        /// What it says.
        what: String,
        /// Whether another try may work: the database is away for a while.
        again: bool,
    },
    /// No fleet of the name is in the database.
    #[error("there is no fleet called '{name}' in {place}")]
    NoFleet {
        /// The name.
        name: String,
        /// The database.
        place: String,
    },
    /// No machine of the name is in the fleet.
    #[error("there is no machine called '{name}' in the fleet")]
    NoMachine {
        /// The name.
        name: String,
    },
    /// A fleet names programs, and nobody said that they may run. Whoever wrote the file would run them as us.
    #[error("the fleet file names programs that nobody allowed: {programs}")]
    ProgramsNotAllowed {
        /// The programs.
        programs: String,
    },
    /// A program of the site's did not end well.
    #[error("the program '{program}' {what}")]
    Program {
        /// The program.
        program: String,
        /// How it ended.
        what: String,
        /// The code that it ended with; none where it was not started, or was ended.
        code: Option<i32>,
    },
    /// This worker no longer holds what it was doing: it was away for too long, and another one has taken over.
    #[error("this worker was away for too long, and another one has taken '{name}' over")]
    LeaseLost {
        /// The machine.
        name: String,
    },
    /// The row of a machine that a worker has was changed.
    #[error("'{name}' is being worked on by {worker}, and its row is another one now ({what})")]
    RowInWork {
        /// The machine.
        name: String,
        /// Who has it.
        worker: String,
        /// What differs.
        what: String,
    },
    /// Another file brought a fleet of the same name into the database, and neither file says that this is meant.
    #[error("a fleet called '{name}' is there already, from {origin}")]
    OtherFleet {
        /// The name.
        name: String,
        /// The other file.
        origin: String,
    },
    /// A machine that is to be moved once more, and whose landing is there.
    #[error("the landing of '{name}' is there: {landing}")]
    StillLanded {
        /// The machine.
        name: String,
        /// The landing.
        landing: String,
    },
    /// A machine that cannot be held back: only one that waits can.
    #[error("'{name}' is not held back: it is {state}")]
    NotHeld {
        /// The machine.
        name: String,
        /// How it stands.
        state: &'static str,
    },
    /// Too little would stay free where the landing is made.
    #[error("'{folder}' has {free} bytes free, and {needed} are needed")]
    NoRoom {
        /// The folder.
        folder: String,
        /// Bytes that are free.
        free: u64,
        /// Bytes that the landing may take, and those that are to stay free.
        needed: u64,
    },
    /// A landing that cannot be taken into the fleet.
    #[error("no landing is taken in for '{name}': {what}")]
    NotTaken {
        /// The machine.
        name: String,
        /// Why.
        what: String,
    },
    /// No group of the name has a gate.
    #[error("there is no group called '{name}' in the fleet")]
    NoGroup {
        /// The name.
        name: String,
    },
    /// An inventory that cannot be read. A stranger may have written it.
    #[error("the inventory '{file}': {what}")]
    Inventory {
        /// The file.
        file: String,
        /// What is wrong, with its line where it is known.
        what: String,
    },
    /// A landing that cannot be undone.
    #[error("the landing of '{name}' stays: {what}")]
    NotUndone {
        /// The machine.
        name: String,
        /// Why.
        what: String,
    },
}

impl FleetError {
    /// The stable word for its kind, for scripts.
    pub fn code(&self) -> &'static str {
        match self {
            Self::File { .. } => "bad-fleet-file",
            Self::State { .. } => "no-state",
            Self::NoFleet { .. } => "no-such-fleet",
            Self::NoMachine { .. } => "not-in-the-fleet",
            Self::ProgramsNotAllowed { .. } => "programs-not-allowed",
            Self::Program { .. } => "program-failed",
            Self::LeaseLost { .. } => "lease-lost",
            Self::NotHeld { .. } => "not-held",
            Self::RowInWork { .. } => "row-in-work",
            Self::OtherFleet { .. } => "other-fleet",
            Self::StillLanded { .. } => "still-landed",
            Self::NoRoom { .. } => "no-room",
            Self::NotUndone { .. } => "not-undone",
            Self::NotTaken { .. } => "not-taken",
            Self::NoGroup { .. } => "no-such-group",
            Self::Inventory { .. } => "bad-inventory",
        }
    }

    /// What the person can do about it.
    pub fn remedy(&self) -> Option<&'static str> {
        match self {
            Self::File { .. } => Some("docs/fleet.md shows every key."),
            Self::State { .. } => Some(
                "See whether the database is up and lets you in; what was carried is kept, and the next run goes on.",
            ),
            Self::NoFleet { .. } => Some("`reformis fleet run FILE` puts a fleet there."),
            Self::NoMachine { .. } => Some("`reformis fleet status` lists the machines."),
            Self::ProgramsNotAllowed { .. } => {
                Some("Read what they do: they run as you, on this machine. Then allow them.")
            }
            Self::Program { .. } => Some("What it said is in the machine's log."),
            Self::LeaseLost { .. } => Some("Nothing is to be done: the other worker goes on with it."),
            Self::RowInWork { .. } => Some("Let it end, or stop that worker; or put the row back."),
            Self::OtherFleet { .. } => Some(
                "Write `name = \"…\"` at the head of this file: another one for another fleet, the same for the same one in another place.",
            ),
            Self::StillLanded { .. } => Some("`reformis fleet undo` removes it; then it can be moved once more."),
            Self::NoRoom { .. } => Some("Make room, or let some machines land elsewhere."),
            Self::Inventory { .. } => Some("docs/fleet.md shows the columns."),
            Self::NoGroup { .. } => Some("The fleet file names its groups."),
            Self::NotUndone { .. } | Self::NotHeld { .. } | Self::NotTaken { .. } => None,
        }
    }
}
