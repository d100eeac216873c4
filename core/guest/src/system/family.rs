//! What the families of systems have in common.

use serde::Serialize;

use super::{
    Guest,
    linux::{Helper, Kernel, Used},
    nt,
};
use crate::{
    evidence::{
        Evidence,
        hardware::{Hardware, HostRules},
    },
    fs::tree::Tree,
    refit::{
        edit::Step,
        work::{Changes, Remark, Work},
    },
    volume::found::Found,
};

/// A system on a guest's disks, of whatever family: what it is, whether it boots on some hardware, and what makes it do so.
///
/// While evidence is taken and edits are made, it is not among the systems of its guest.
pub trait System: Send {
    /// What it calls itself: distribution and version.
    fn name(&self) -> &str;

    /// Its files.
    fn tree(&self) -> &Tree;

    /// Its files, to be changed.
    fn tree_mut(&mut self) -> &mut Tree;

    /// Its files alone.
    fn into_tree(self: Box<Self>) -> Tree;

    /// What a report tells of it; `volumes` are those of its guest.
    fn summary(&self, volumes: &[Found]) -> Summary;

    /// The volume on which it sleeps, where it was not shut down but put to sleep.
    fn sleeps_on(&self, _: &[Found]) -> Option<String> {
        None
    }

    /// What there is to say of it before anything is changed.
    fn remarks(&self) -> Vec<Remark> {
        Vec::new()
    }

    /// What of it does not fit the rules of where it goes, and is not changed; `guest` has all volumes.
    fn against_rules(&self, _guest: &Guest, _rules: &HostRules) -> Vec<Remark> {
        Vec::new()
    }

    /// Reads again what it keeps of its configuration, after that was changed.
    fn reread(&mut self);

    /// The chain of boot evidence on `hardware`, link by link from the firmware on.
    fn evidence(&mut self, guest: &Guest, hardware: &Hardware) -> Vec<Evidence>;

    /// The edits that can be made in it, in their order.
    fn edits(&self) -> &'static [Step];

    /// Makes the edit `name`, one of [`System::edits`], and tells what it changed: nothing where nothing is needed.
    ///
    /// # Errors
    /// Those of the file systems; the caller takes back what was written until then.
    fn make(&mut self, name: &str, work: &mut Work<'_>) -> Changes;
}

/// What a report tells of a system.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct Summary {
    /// Distribution and version.
    pub name: String,
    /// The volume of its root file system.
    pub root: String,
    /// Volumes and where they are mounted.
    pub mounts: Vec<(String, String)>,
    /// Its kernels.
    pub kernels: Vec<Kernel>,
    /// Names of adapters that its configuration goes by.
    pub network: Vec<Used>,
    /// Its time zone.
    pub time_zone: Option<String>,
    /// Helpers of hosts that are installed.
    pub helpers: Vec<Helper>,
    /// What is known of a Windows system.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub windows: Option<nt::Facts>,
}
