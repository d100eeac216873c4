//! Arguments of `lend`.

use std::path::PathBuf;

use clap::Args;

#[derive(Debug, Args)]
pub(crate) struct LendArgs {
    /// A brief; or a machine file, an archive, a folder that holds one, a disk
    #[arg(value_name = "BRIEF|TARGET")]
    pub(crate) target: PathBuf,
    /// Where to listen: unix:/PATH, or HOST:PORT
    #[arg(long, value_name = "PLACE")]
    pub(crate) at: String,
    /// Make a TARGET ready for NAME: one of `reformis dests`
    #[arg(long, value_name = "NAME", requires = "into")]
    pub(crate) dest: Option<String>,
    /// The folder in which the landing of a TARGET is made later
    #[arg(long, value_name = "FOLDER", requires = "dest")]
    pub(crate) into: Option<PathBuf>,
    /// Which machine, if TARGET describes several
    #[arg(long, value_name = "NAME")]
    pub(crate) machine: Option<String>,
    /// Keep what the guest writes in FOLDER, not beside the landing
    #[arg(long, value_name = "FOLDER")]
    pub(crate) kept: Option<PathBuf>,
    /// Write a machine file for a host that reads the disks from here
    #[arg(long, value_name = "FILE")]
    pub(crate) machine_file: Option<PathBuf>,
    /// Replace that file if it exists
    #[arg(long)]
    pub(crate) force: bool,
    /// Go on in spite of the blocker CODE; can be given several times
    #[arg(long, value_name = "CODE")]
    pub(crate) accept: Vec<String>,
    /// Follow names in the files that lead out of their folder (never to a device)
    #[arg(long)]
    pub(crate) trust_links: bool,
    #[command(flatten)]
    pub(crate) guard: GuardArgs,
}

/// Who is let in.
#[derive(Debug, Args)]
#[command(next_help_heading = "Who is let in")]
pub(crate) struct GuardArgs {
    /// Our certificate, for TLS
    #[arg(long, value_name = "FILE", requires = "key", requires = "clients")]
    pub(crate) certificate: Option<PathBuf>,
    /// Its key, which nobody else may read
    #[arg(long, value_name = "FILE", requires = "certificate")]
    pub(crate) key: Option<PathBuf>,
    /// The authority whose certificates clients have to show
    #[arg(long, value_name = "FILE", requires = "certificate")]
    pub(crate) clients: Option<PathBuf>,
    /// Let the group NAME use the socket file, and not its owner alone
    #[arg(long, value_name = "NAME")]
    pub(crate) group: Option<String>,
}
