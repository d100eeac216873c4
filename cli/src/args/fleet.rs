//! Arguments of `reformis fleet`.

use std::path::PathBuf;

use clap::{Args, Subcommand};

#[derive(Debug, Args)]
pub(crate) struct FleetArgs {
    #[command(subcommand)]
    pub(crate) what: FleetCommand,
}

#[derive(Debug, Subcommand)]
pub(crate) enum FleetCommand {
    /// Writes a fleet file: one row for each machine that is there, with what stands in its way
    #[command(after_help = "Examples:\n  reformis fleet gather harbour: --dest virtio-host --out night.toml\n  \
                            reformis fleet gather /exports --dest vmbus-host --into /landing\n  \
                            reformis fleet gather --from inventory.csv --dest virtio-host --out night.toml\n  \
                            reformis fleet gather harbour: --dest virtio-host --out night.toml --add")]
    Gather(GatherArgs),
    /// Looks at everything that a night would refuse; nothing is moved
    Check(CheckArgs),
    /// Does everything but the landing: makes each machine ready, reads some of it, starts it where the file says how
    #[command(
        long_about = "Does everything but the landing, for each machine: it is made ready, some of it is read to see how fast its host \
                      gives it, and where the fleet file names a program for it ([rehearsal]), that starts it from lent disks or \
                      from a landing apart, and says whether it came up. Verdict, time and findings are in the report, with an \
                      estimate for the night.",
        after_help = "Example:\n  reformis fleet rehearse night.toml --allow-programs"
    )]
    Rehearse(RehearseArgs),
    /// Makes the moves of a fleet file; run again, it goes on
    #[command(
        long_about = "Makes the moves of a fleet file, several at once: groups one after the other, each machine after those that it \
                      comes after, within the limits and the hours of the file.\n\nWhat is done and what failed is kept in a database \
                      beside the file, or in PostgreSQL. Ctrl-C stops cleanly; the same command goes on with what was begun, and tries \
                      again what failed.",
        after_help = "Examples:\n  reformis fleet run night.toml --at-once 4 --until 05:30\n  \
                      reformis fleet run night.toml --state postgres://reformis@quay/night"
    )]
    Run(RunArgs),
    /// Works on a fleet that another machine's `fleet run` put into PostgreSQL
    #[command(after_help = "Example:\n  reformis fleet work night --state postgres://reformis@quay/night --at-once 2")]
    Work(WorkArgs),
    /// Lets no machine begin any more, on all workers, until `fleet go`; what runs is finished
    Pause(SteerArgs),
    /// Lets machines begin again after `fleet pause`; or opens the gates of groups
    #[command(after_help = "Examples:\n  reformis fleet go night.toml\n  reformis fleet go night.toml desks")]
    Go(GoArgs),
    /// Holds machines back that wait; the next `fleet run` takes them up again
    Hold(HoldArgs),
    /// Shows where a fleet stands
    Status(StatusArgs),
    /// Asks the machines that were started whether they answer, as the file says
    Confirm(ConfirmArgs),
    /// Takes in landings that `carry` made where the machines of the file would land
    Take(TakeArgs),
    /// Removes the landings of machines or groups; their sources were never touched
    Undo(UndoArgs),
}

/// Where the state of a fleet is.
#[derive(Debug, Clone, Args)]
pub(crate) struct StateArgs {
    /// Keep the state in PostgreSQL, at postgres://USER@HOST/DATABASE, and not beside the file
    #[arg(long, value_name = "ADDRESS")]
    pub(crate) state: Option<String>,
}

#[derive(Debug, Args)]
pub(crate) struct GatherArgs {
    /// Hosts of reformis.toml (NAME:), folders, machine files, archives, disks
    #[arg(value_name = "TARGET", required_unless_present = "from")]
    pub(crate) targets: Vec<PathBuf>,
    /// And the machines of an inventory: a CSV file with a column 'source', and others called as keys of a machine's row
    #[arg(long, value_name = "FILE")]
    pub(crate) from: Option<PathBuf>,
    /// Where they go: one of `reformis dests`
    #[arg(long, value_name = "NAME")]
    pub(crate) dest: String,
    /// The folder in which landings are made
    #[arg(long, value_name = "FOLDER", default_value = "landing")]
    pub(crate) into: PathBuf,
    /// Write the fleet file to FILE; '-' for stdout
    #[arg(long, value_name = "FILE")]
    pub(crate) out: Option<PathBuf>,
    /// Replace FILE if it exists
    #[arg(long, requires = "out")]
    pub(crate) force: bool,
    /// Add to FILE the machines that are not in it, and leave all that is in it as it is
    #[arg(long, requires = "out", conflicts_with = "force")]
    pub(crate) add: bool,
    /// Put the machines into the group NAME
    #[arg(long, value_name = "NAME")]
    pub(crate) group: Option<String>,
    /// Look at N machines at the same time
    #[arg(long, value_name = "N", default_value_t = 4, value_parser = clap::value_parser!(u32).range(1..=64))]
    pub(crate) at_once: u32,
    /// Follow names in the files that lead out of their folder (never to a device)
    #[arg(long)]
    pub(crate) trust_links: bool,
}

/// A fleet file, and whom it may name.
#[derive(Debug, Clone, Args)]
pub(crate) struct FileArgs {
    /// The fleet file
    #[arg(value_name = "FILE")]
    pub(crate) file: PathBuf,
    /// Follow names in a file that somebody else has written, or may write to, out of its folder (never to a device)
    #[arg(long)]
    pub(crate) trust_links: bool,
}

#[derive(Debug, Args)]
pub(crate) struct CheckArgs {
    #[command(flatten)]
    pub(crate) file: FileArgs,
    #[command(flatten)]
    pub(crate) state: StateArgs,
    /// Look at N machines at the same time
    #[arg(long, value_name = "N", default_value_t = 4, value_parser = clap::value_parser!(u32).range(1..=64))]
    pub(crate) at_once: u32,
}

/// How a worker works.
#[derive(Debug, Clone, Args)]
pub(crate) struct NightArgs {
    /// Move N machines at once here; the file's limit holds for all workers together
    #[arg(long, value_name = "N", value_parser = clap::value_parser!(u32).range(1..=64))]
    pub(crate) at_once: Option<u32>,
    /// Begin nothing that would not be done by this time of the day, such as 05:30
    #[arg(long, value_name = "TIME")]
    pub(crate) until: Option<String>,
    /// Run the programs that the fleet file names; read them first
    #[arg(long)]
    pub(crate) allow_programs: bool,
    /// Write the machines' logs into FOLDER
    #[arg(long, value_name = "FOLDER")]
    pub(crate) logs: Option<PathBuf>,
    /// For how many seconds a machine stays a worker's own when nothing is heard of that
    #[arg(long, value_name = "SECONDS", default_value_t = 60, value_parser = clap::value_parser!(u64).range(1..=3600))]
    pub(crate) lease: u64,
    /// After how many seconds a machine that failed is tried again; later tries wait longer
    #[arg(long, value_name = "SECONDS", default_value_t = 5, value_parser = clap::value_parser!(u64).range(0..=3600))]
    pub(crate) back_off: u64,
}

#[derive(Debug, Args)]
pub(crate) struct RunArgs {
    #[command(flatten)]
    pub(crate) file: FileArgs,
    #[command(flatten)]
    pub(crate) state: StateArgs,
    #[command(flatten)]
    pub(crate) night: NightArgs,
    /// Move these alone: the name of a machine, or of a group; can be given several times
    #[arg(long, value_name = "NAME")]
    pub(crate) only: Vec<String>,
    /// Move those alone that failed or were left out before
    #[arg(long, conflicts_with = "only")]
    pub(crate) only_failed: bool,
    /// Move the machine NAME once more, whose landing was undone or is gone; can be given several times
    #[arg(long, value_name = "NAME")]
    pub(crate) again: Vec<String>,
}

#[derive(Debug, Args)]
pub(crate) struct WorkArgs {
    /// The fleet's name, or its file
    #[arg(value_name = "FLEET")]
    pub(crate) fleet: PathBuf,
    #[command(flatten)]
    pub(crate) state: StateArgs,
    #[command(flatten)]
    pub(crate) night: NightArgs,
}

#[derive(Debug, Args)]
pub(crate) struct SteerArgs {
    /// The fleet file, or the fleet's name in --state
    #[arg(value_name = "FLEET")]
    pub(crate) fleet: PathBuf,
    #[command(flatten)]
    pub(crate) state: StateArgs,
}

#[derive(Debug, Args)]
pub(crate) struct GoArgs {
    /// The fleet file, or the fleet's name in --state
    #[arg(value_name = "FLEET")]
    pub(crate) fleet: PathBuf,
    /// Open the gates of these groups
    #[arg(value_name = "GROUP")]
    pub(crate) groups: Vec<String>,
    #[command(flatten)]
    pub(crate) state: StateArgs,
}

#[derive(Debug, Args)]
pub(crate) struct RehearseArgs {
    #[command(flatten)]
    pub(crate) file: FileArgs,
    #[command(flatten)]
    pub(crate) state: StateArgs,
    /// Rehearse these alone: the name of a machine, or of a group; can be given several times
    #[arg(long, value_name = "NAME")]
    pub(crate) only: Vec<String>,
    /// Rehearse N machines at the same time; that of the file where it is not given
    #[arg(long, value_name = "N", value_parser = clap::value_parser!(u32).range(1..=64))]
    pub(crate) at_once: Option<u32>,
    /// Run the programs that the fleet file names; read them first
    #[arg(long)]
    pub(crate) allow_programs: bool,
}

#[derive(Debug, Args)]
pub(crate) struct TakeArgs {
    /// The fleet file, or the fleet's name in --state
    #[arg(value_name = "FLEET")]
    pub(crate) fleet: PathBuf,
    /// The machines
    #[arg(value_name = "NAME", required = true)]
    pub(crate) names: Vec<String>,
    #[command(flatten)]
    pub(crate) state: StateArgs,
    /// Take one whose receipt names another source, too
    #[arg(long)]
    pub(crate) force: bool,
}

#[derive(Debug, Args)]
pub(crate) struct HoldArgs {
    /// The fleet file, or the fleet's name in --state
    #[arg(value_name = "FLEET")]
    pub(crate) fleet: PathBuf,
    /// The machines
    #[arg(value_name = "NAME", required = true)]
    pub(crate) names: Vec<String>,
    #[command(flatten)]
    pub(crate) state: StateArgs,
}

#[derive(Debug, Args)]
pub(crate) struct StatusArgs {
    /// The fleet file, or the fleet's name in --state
    #[arg(value_name = "FLEET")]
    pub(crate) fleet: PathBuf,
    #[command(flatten)]
    pub(crate) state: StateArgs,
    /// Go on showing it, until Ctrl-C or the end of the night; with --json, one document on a line whenever something changed
    #[arg(long)]
    pub(crate) watch: bool,
}

#[derive(Debug, Args)]
pub(crate) struct ConfirmArgs {
    /// The fleet file, or the fleet's name in --state
    #[arg(value_name = "FLEET")]
    pub(crate) fleet: PathBuf,
    /// Ask these machines alone
    #[arg(value_name = "NAME")]
    pub(crate) names: Vec<String>,
    #[command(flatten)]
    pub(crate) state: StateArgs,
    /// Run the programs that the fleet file names; read them first
    #[arg(long)]
    pub(crate) allow_programs: bool,
}

#[derive(Debug, Args)]
pub(crate) struct UndoArgs {
    /// The fleet file, or the fleet's name in --state
    #[arg(value_name = "FLEET")]
    pub(crate) fleet: PathBuf,
    /// Machines, or groups
    #[arg(value_name = "NAME", required = true)]
    pub(crate) names: Vec<String>,
    #[command(flatten)]
    pub(crate) state: StateArgs,
    /// Take it back though something in it is not as it landed: that is set aside
    #[arg(long)]
    pub(crate) force: bool,
}
