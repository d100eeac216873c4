//! What does not fit between a machine's row and what has become of it. `check`, `run` and `status` all ask here.

use std::{
    collections::BTreeMap,
    path::{Path, PathBuf},
};

use reformis_disk::{budget::Budget, text::printable};
use rustix::fs::{Access, access};
use serde::Serialize;

use super::{
    file::{Fleet, Spec},
    state::{KnownMachines, Machine, Stand, State},
    worker::Worker,
};
use crate::{
    error::{Error, Result},
    receipt::{self, Receipt},
};

/// What does not fit.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
#[serde(tag = "code", rename_all = "kebab-case")]
pub enum Doubt {
    /// It has landed, and its landing is not there any more.
    LandingGone {
        /// Where it was.
        landing: String,
    },
    /// It has landed, and its row would make another landing now.
    RowChanged {
        /// What differs.
        what: String,
    },
    /// Where it is to land lies something that is no landing of this fleet.
    Exists {
        /// Where.
        landing: String,
    },
    /// A program of its row cannot be started.
    NoProgram {
        /// The program.
        program: String,
        /// Why.
        why: &'static str,
    },
}

impl Doubt {
    /// The stable word for its kind.
    pub fn code(&self) -> &'static str {
        match self {
            Self::LandingGone { .. } => "landing-gone",
            Self::RowChanged { .. } => "row-changed",
            Self::Exists { .. } => "exists",
            Self::NoProgram { .. } => "no-program",
        }
    }

    /// What does not fit, as a sentence about the machine.
    pub fn sentence(&self) -> String {
        match self {
            Self::LandingGone { landing } => format!("it has landed in '{landing}', and that is not there any more"),
            Self::RowChanged { what } => format!("it has landed, and its row was changed since ({what})"),
            Self::Exists { landing } => Error::from(reformis_disk::Error::Exists { path: landing.clone() }).to_string(),
            Self::NoProgram { program, why } => format!("the program '{program}' {why}"),
        }
    }

    /// What the person can do.
    pub fn remedy(&self) -> &'static str {
        match self {
            Self::LandingGone { .. } => "Put it back; or move the machine once more, with --again and its name.",
            Self::RowChanged { .. } => {
                "Put the row back; or take the landing back (fleet undo), and move it once more (--again)."
            }
            Self::Exists { .. } => "Move it away, or let the machine land elsewhere.",
            Self::NoProgram { .. } => "Write its path, and make it executable for whoever runs the fleet.",
        }
    }

    /// Whether it is about a machine that has landed: a run does not come upon that by itself.
    pub fn is_of_landed(&self) -> bool {
        matches!(self, Self::LandingGone { .. } | Self::RowChanged { .. })
    }
}

/// What does not fit, of each machine of `fleet`, in the order of its file; `state` is none for a fleet that was never run.
///
/// # Errors
/// [`super::FleetError::State`].
pub fn doubts(fleet: &Fleet, state: Option<&State>) -> Result<Vec<Vec<Doubt>>> {
    let known = state.map(|state| state.known(&fleet.name)).transpose()?.unwrap_or_default();
    Ok(doubts_of(fleet, &known))
}

/// As [`doubts`], of what is `known` of the machines.
pub(super) fn doubts_of(fleet: &Fleet, known: &KnownMachines) -> Vec<Vec<Doubt>> {
    let worker = Worker::here();
    let mut programs = Programs::default();
    let of = |spec: &Spec| {
        let mut doubts = of_landing(spec, known.get(&spec.row.name), &worker);
        doubts.extend(programs.of(spec));
        doubts
    };
    fleet.machines.iter().map(of).collect()
}

fn of_landing(spec: &Spec, known: Option<&(Machine, Option<Spec>)>, worker: &Worker) -> Vec<Doubt> {
    let state = known.map_or(Stand::Waiting, |(machine, _)| machine.state);
    if matches!(state, Stand::Running | Stand::Undone) {
        return Vec::new();
    }
    if let Some((machine, was)) = known.filter(|_| state == Stand::Landed) {
        let mut doubts = Vec::new();
        if let Some(landing) =
            machine.landing.as_ref().filter(|landing| machine.is_of(worker) && !is_there(Path::new(landing)))
        {
            doubts.push(Doubt::LandingGone { landing: printable(landing) });
        }
        let differs = was.as_ref().map(|was| was.other_landing(spec)).unwrap_or_default();
        if !differs.is_empty() {
            doubts.push(Doubt::RowChanged { what: differs.join("; ") });
        }
        return doubts;
    }
    let landing = spec.landing();
    if !is_there(&landing) {
        return Vec::new();
    }
    // One that was made by a worker that could not say so any more is known by its job.
    let job = known.and_then(|(machine, _)| machine.job);
    let receipt = Receipt::read(&landing.join(receipt::FILE_NAME), &Budget::whole());
    match job.is_some() && receipt.is_ok_and(|receipt| receipt.job == job) {
        true => Vec::new(),
        false => vec![Doubt::Exists { landing: printable(&landing.to_string_lossy()) }],
    }
}

/// Whether something has the name, even a link that leads nowhere; also where nobody can tell, as in a folder that may not be looked into.
pub(super) fn is_there(path: &Path) -> bool {
    path.symlink_metadata().map_or_else(|error| error.kind() != std::io::ErrorKind::NotFound, |_| true)
}

/// The programs that rows name, each looked for once.
#[derive(Default)]
struct Programs(BTreeMap<PathBuf, Option<&'static str>>);

impl Programs {
    fn of(&mut self, spec: &Spec) -> Vec<Doubt> {
        let mut doubts = Vec::new();
        for program in spec.row.programs().filter_map(|program| program.first()) {
            let path = if program.contains('/') { spec.folder.join(program) } else { program.into() };
            if let Some(why) = *self.0.entry(path).or_insert_with_key(|path| why_not(path)) {
                let doubt = Doubt::NoProgram { program: printable(program), why };
                if !doubts.contains(&doubt) {
                    doubts.push(doubt);
                }
            }
        }
        doubts
    }
}

/// Why the program at `path`, or that of its name, cannot be started; none where it can. One without a path is looked for as execvp(3) does.
fn why_not(path: &Path) -> Option<&'static str> {
    let can_run = |path: &Path| path.is_file() && access(path, Access::EXEC_OK).is_ok();
    if path.as_os_str().as_encoded_bytes().contains(&b'/') {
        return match path.is_file() {
            false => Some("is not there"),
            true => (!can_run(path)).then_some("may not be executed"),
        };
    }
    let search = std::env::var_os("PATH").unwrap_or_default();
    let is_found = std::env::split_paths(&search).any(|folder| can_run(&folder.join(path)));
    (!is_found).then_some("is not on the path of programs (PATH)")
}
