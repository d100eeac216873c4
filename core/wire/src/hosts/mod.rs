//! Hosts: places where machines live, by the names that a site gives them.

mod export;
mod files;
mod libvirt;

use std::sync::{Arc, PoisonError, Weak};

pub(crate) use crate::cargo::Shipped;
pub use crate::cargo::{Cargo, Files};
pub use export::read_answers;

pub use crate::http::read_listing;
use reformis_disk::{
    Error, Result,
    budget::Budget,
    error::{WireError, WireKind},
};

use crate::{
    fault::Fault,
    settings::{CloudKind, HostKind, HostSettings},
    wires::Wires,
};

/// Whether a machine runs.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Power {
    /// It is shut down.
    Off,
    /// It runs, or is paused: its disks change.
    Running,
    /// Its memory is kept, so that its disks are in the middle of something.
    Suspended,
    /// The host does not say.
    Unknown,
}

impl Power {
    /// The word for it.
    pub fn word(self) -> &'static str {
        match self {
            Self::Off => "off",
            Self::Running => "running",
            Self::Suspended => "suspended",
            Self::Unknown => "not known",
        }
    }

    fn of_word(word: &str) -> Self {
        match word {
            "off" => Self::Off,
            "running" => Self::Running,
            "suspended" => Self::Suspended,
            _ => Self::Unknown,
        }
    }
}

/// A machine in a host's list.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Row {
    /// Its name there.
    pub name: String,
    /// Whether it runs.
    pub power: Power,
    /// Bytes of its disks as their guest sees them, where the host says.
    pub size: Option<u64>,
    /// Bytes that are stored for them, where the host says.
    pub stored: Option<u64>,
}

/// A machine of a host, whose disks are opened when they are asked for.
#[derive(Clone)]
pub struct FarMachine {
    /// The host's name.
    pub host: String,
    /// Its name there.
    pub name: String,
    /// Whether it runs.
    pub power: Power,
    /// The name of its machine file, and the file's content.
    pub file: String,
    /// The content.
    pub text: Vec<u8>,
    /// Its files.
    pub files: Files,
}

/// What a host is asked for.
trait Host: Send + Sync {
    /// Its machines.
    fn list(&self) -> Result<Vec<Row>, Fault>;

    /// The machine `name`.
    fn machine(&self, name: &str, budget: &Arc<Budget>) -> Result<FarMachine, Fault>;

    /// What it is, and what it lets us do, in words.
    fn about(&self) -> Result<Vec<String>, Fault>;
}

impl Wires {
    /// The hosts that are known: name, kind, and where each is.
    pub fn hosts(&self) -> Vec<(String, &'static str, String)> {
        let hosts = self.inner.settings.hosts.iter();
        hosts.map(|(name, host)| (name.clone(), host.kind.word(), host.place())).collect()
    }

    /// The host or cloud and the machine that `text` names: `HOST:MACHINE`, or `HOST:` for all of them. `None` for what does not begin
    /// with the name of one; a file of such a name is meant by a path with a slash.
    pub fn host_of<'t>(&self, text: &'t str) -> Option<(&'t str, &'t str)> {
        let (host, machine) = text.split_once(':')?;
        let settings = &self.inner.settings;
        let is_known = settings.hosts.contains_key(host)
            || settings.clouds.contains_key(host) && settings.image_service(host).is_none();
        (is_known && !machine.starts_with("//")).then_some((host, machine))
    }

    fn host(&self, name: &str) -> Result<Box<dyn Host>> {
        let unknown = || {
            let known: Vec<_> = self.inner.settings.hosts.keys().map(String::as_str).collect();
            let what = match known.is_empty() {
                true => "no host is named in reformis.toml".to_string(),
                false => format!("there are {}", known.join(", ")),
            };
            let (action, place, kind) = ("looking for the host", name.into(), WireKind::Settings);
            Error::from(WireError { action, place, offset: None, what, kind })
        };
        if let Some(cloud) = self.inner.settings.clouds.get(name) {
            // A cloud's way home is that of a host that exports.
            return match (&cloud.kind, &cloud.at) {
                (CloudKind::Import, Some(at)) => Ok(Box::new(export::Exporter::of_cloud(self, name, at)?)),
                _ => Err(Fault::Fatal(WireKind::Settings, "its commands do not list machines".into()).into_error(
                    "listing the machines of",
                    name,
                    None,
                )),
            };
        }
        let settings: &HostSettings = self.inner.settings.hosts.get(name).ok_or_else(unknown)?;
        Ok(match settings.kind {
            HostKind::Libvirt => Box::new(libvirt::Libvirt::new(self, name, settings)),
            HostKind::Files => Box::new(files::Folder::new(self, name, settings)?),
            HostKind::Export => Box::new(export::Exporter::new(self, name, settings)?),
        })
    }

    /// The machines of the host `name`.
    ///
    /// # Errors
    /// [`Error::Wire`].
    pub fn machines(&self, name: &str) -> Result<Vec<Row>> {
        let host = self.host(name)?;
        self.inner.patient(|| host.list()).map_err(|fault| fault.into_error("listing the machines of", name, None))
    }

    /// The machine `machine` of the host `name`; what strangers make us collect of it is counted against `budget`.
    ///
    /// # Errors
    /// [`Error::Wire`].
    pub fn machine(&self, name: &str, machine: &str, budget: &Arc<Budget>) -> Result<FarMachine> {
        let host = self.host(name)?;
        let place = format!("{name}:{machine}");
        let mut found = self
            .inner
            .patient(|| host.machine(machine, budget))
            .map_err(|fault| fault.into_error("asking for", &place, None))?;
        let mut cargoes = self.inner.cargoes.lock().unwrap_or_else(PoisonError::into_inner);
        cargoes.retain(|_, files| files.strong_count() > 0);
        let key = (name.to_string(), machine.to_string());
        match cargoes.get(&key).and_then(Weak::upgrade) {
            Some(open) => found.files = open,
            None => drop(cargoes.insert(key, Arc::downgrade(&found.files))),
        }
        Ok(found)
    }

    /// What the host `name` is, and what it lets us do.
    ///
    /// # Errors
    /// [`Error::Wire`].
    pub fn about(&self, name: &str) -> Result<Vec<String>> {
        let host = self.host(name)?;
        host.about().map_err(|fault| fault.into_error("trying", name, None))
    }
}

/// There is no machine of this name.
fn no_machine() -> Fault {
    Fault::Fatal(WireKind::Absent, "it has no machine of this name".into())
}

/// The machine runs, and its disks are not to be had meanwhile.
fn runs(can: bool) -> Fault {
    let what = match can {
        true => "it is running; --while-running reads it at one moment",
        false => "it is running, and the host cannot give its disks at one moment",
    };
    Fault::Fatal(WireKind::Refused, what.into())
}
