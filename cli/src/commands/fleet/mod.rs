//! `reformis fleet`

mod check;
mod confirm;
mod gather;
mod hands;
mod live;
mod night;
mod place;
mod rehearse;
mod status;
mod steer;
mod take;
mod undo;
mod words;

use std::ffi::OsString;

use anyhow::Result;

pub(crate) use check::show as show_checked;
pub(crate) use gather::show as show_gathered;
pub(crate) use hands::Ours;
pub(crate) use live::give_back as give_back_terminal;
pub(crate) use night::line as line_of;
pub(crate) use place::Opened;
pub(crate) use status::show as show_status;
pub(crate) use words::line;

use crate::{
    Session,
    args::{FleetArgs, FleetCommand},
    exit::Exit,
};

/// The word by which this program, started by itself, knows that it keeps another one.
pub(crate) const KEEP: &str = "keep-program";

/// The words that start the keeper of a program: this program itself, whatever was put in its place meanwhile.
fn keeper() -> Vec<OsString> {
    vec!["/proc/self/exe".into(), KEEP.into()]
}

pub(crate) fn run(args: &FleetArgs, session: &Session) -> Result<Exit> {
    match &args.what {
        FleetCommand::Gather(args) => gather::run(args, session),
        FleetCommand::Check(args) => check::run(args, session),
        FleetCommand::Rehearse(args) => rehearse::run(args, session),
        FleetCommand::Run(args) => night::run(args, session),
        FleetCommand::Work(args) => night::work(args, session),
        FleetCommand::Pause(args) => steer::pause(args, session),
        FleetCommand::Go(args) => steer::go(args, session),
        FleetCommand::Hold(args) => steer::hold(args, session),
        FleetCommand::Status(args) => status::run(args, session),
        FleetCommand::Confirm(args) => confirm::run(args, session),
        FleetCommand::Take(args) => take::run(args, session),
        FleetCommand::Undo(args) => undo::run(args, session),
    }
}
