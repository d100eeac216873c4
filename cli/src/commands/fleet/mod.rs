//! `reformis fleet`

mod check;
mod confirm;
mod gather;
mod hands;
mod live;
mod night;
mod place;
mod status;
mod undo;

use anyhow::Result;

pub(crate) use place::Opened;
pub(crate) use status::line;

use crate::{
    Session,
    args::{FleetArgs, FleetCommand},
    exit::Exit,
};

pub(crate) fn run(args: &FleetArgs, session: &Session) -> Result<Exit> {
    match &args.what {
        FleetCommand::Gather(args) => gather::run(args, session),
        FleetCommand::Check(args) => check::run(args, session),
        FleetCommand::Run(args) => night::run(args, session),
        FleetCommand::Work(args) => night::work(args, session),
        FleetCommand::Status(args) => status::run(args, session),
        FleetCommand::Confirm(args) => confirm::run(args, session),
        FleetCommand::Undo(args) => undo::run(args, session),
    }
}
