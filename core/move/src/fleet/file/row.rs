//! One machine of a fleet, as its file says.

use std::path::{Path, PathBuf};

use jiff::SignedDuration;
use reformis_machine::{MachineFile, Name};
use reformis_wire::{Link, Wires, clouds::Then, without_secrets};
use serde::{Deserialize, Serialize};

use crate::{
    brief::{Brief, FirmwareKind, NewGuest, Size},
    prepare::Order,
    propose::Choices,
};

/// A machine of a fleet, or what holds for all of them where they say nothing else.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case", deny_unknown_fields, default)]
pub struct Row {
    /// Its name in the fleet, and that of its landing.
    pub name: String,
    /// What is moved: a path, a link, `HOST:MACHINE`.
    pub source: Option<String>,
    /// Its name there, where the source describes several machines.
    pub machine: Option<String>,
    /// A brief in place of all that follows about the machine.
    pub brief: Option<String>,
    /// What it will find where it goes.
    pub destination: Option<String>,
    /// The folder in which its landing is made.
    pub into: Option<String>,
    /// Its group.
    pub group: Option<String>,
    /// Machines that must have landed before it begins.
    pub after: Vec<String>,
    /// Bytes that it will take about, by which its time is estimated.
    pub size: Option<Size>,
    /// Codes of blockers that are accepted.
    pub accept: Vec<String>,
    /// Whether names in its files may lead out of their folder.
    pub trust_links: bool,
    /// Whether its disks are brought near while it runs, and only what changed is moved while it is off.
    pub ahead: Ahead,
    /// The map of its block devices that tells what was written since the first pass.
    pub bitmap: Option<String>,
    /// Memory.
    pub memory: Option<Size>,
    /// Sockets.
    pub sockets: Option<u32>,
    /// Cores of each socket.
    pub cores: Option<u32>,
    /// What starts it.
    pub firmware: Option<FirmwareKind>,
    /// The network of all its adapters.
    pub network: Option<Name>,
    /// Its hardware addresses: `keep` or `fresh`.
    pub mac: Option<String>,
    /// The shape of its disks.
    pub shape: Option<String>,
    /// The machine file that is written.
    pub machine_file: Option<MachineFile>,
    /// Whether settings of the source's machine file stay that are not known to be harmless.
    pub keep_unknown: bool,
    /// The store that the disks go to: `NAME:FOLDER`.
    pub store: Option<String>,
    /// The cloud that makes an image of them.
    pub cloud: Option<String>,
    /// What becomes of the image.
    pub then: Option<Then>,
    /// What is changed inside.
    pub guest: Option<NewGuest>,
    /// Programs of the site's.
    pub hooks: Hooks,
    /// How it is asked whether it answers, once it was started.
    pub confirm: Option<Confirm>,
}

/// Whether a machine is moved in two passes.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, PartialOrd, Ord)]
pub enum Ahead {
    /// In one: `false`.
    #[default]
    No,
    /// In two, when its turn comes: `true`.
    Yes,
    /// In two, the first of which need not wait for its turn: `"early"`.
    Early,
}

/// As it is written.
const EARLY: &str = "early";

impl Serialize for Ahead {
    fn serialize<S: serde::Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        match self {
            Self::No => serializer.serialize_bool(false),
            Self::Yes => serializer.serialize_bool(true),
            Self::Early => serializer.serialize_str(EARLY),
        }
    }
}

impl<'de> Deserialize<'de> for Ahead {
    fn deserialize<D: serde::Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        struct Word;
        impl serde::de::Visitor<'_> for Word {
            type Value = Ahead;

            fn expecting(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
                write!(f, "true, false or \"{EARLY}\"")
            }

            fn visit_bool<E>(self, is_ahead: bool) -> Result<Ahead, E> {
                Ok(if is_ahead { Ahead::Yes } else { Ahead::No })
            }

            fn visit_str<E: serde::de::Error>(self, word: &str) -> Result<Ahead, E> {
                match word {
                    EARLY => Ok(Ahead::Early),
                    word => Err(E::invalid_value(serde::de::Unexpected::Str(word), &self)),
                }
            }
        }
        deserializer.deserialize_any(Word)
    }
}

/// # Errors
/// As the end of a sentence.
pub(super) fn check_program(program: &[String]) -> Result<(), String> {
    match program.first().is_none_or(String::is_empty) || program.iter().any(|word| word.contains('\0')) {
        true => Err("a program is a list: its name, then its arguments".into()),
        false => Ok(()),
    }
}

/// Programs with their arguments, which are started as they stand, never through a shell.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case", deny_unknown_fields, default)]
pub struct Hooks {
    /// Before the source is opened; where it fails, the machine is not moved.
    pub before: Option<Vec<String>>,
    /// Once the machine has landed.
    pub after: Option<Vec<String>>,
    /// When it is given up.
    pub on_failure: Option<Vec<String>>,
    /// How long one may take: `10 min`.
    pub patience: Option<String>,
}

/// What answers when a machine is up: one of the four.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case", deny_unknown_fields, default)]
pub struct Confirm {
    /// A TCP port: `HOST:PORT`.
    pub tcp: Option<String>,
    /// A server of SSH that says so at its beginning: `HOST:PORT`.
    pub ssh: Option<String>,
    /// A page that answers with a status of 2xx.
    pub page: Option<String>,
    /// A program of the site's that ends well.
    pub program: Option<Vec<String>>,
    /// How long it may take until it answers: `5 min`.
    pub patience: Option<String>,
}

/// How long a program may take where nothing is said.
pub(crate) const PROGRAM: SignedDuration = SignedDuration::from_mins(10);
/// How long a machine is waited for where nothing is said.
pub(crate) const ANSWER: SignedDuration = SignedDuration::from_mins(5);

/// A length of time as it is written in a fleet file.
pub(crate) fn patience(text: Option<&String>, else_: SignedDuration) -> Result<SignedDuration, String> {
    let Some(text) = text else { return Ok(else_) };
    let time: SignedDuration = text.parse().map_err(|_| format!("'{text}' is no length of time such as 10 min"))?;
    match time.is_positive() && time <= SignedDuration::from_hours(24) {
        true => Ok(time),
        false => Err(format!("'{text}' is not from 1 s to 24 h")),
    }
}

impl Hooks {
    /// Those that are given here, else those of `other`.
    fn or(self, other: &Self) -> Self {
        Self {
            before: self.before.or_else(|| other.before.clone()),
            after: self.after.or_else(|| other.after.clone()),
            on_failure: self.on_failure.or_else(|| other.on_failure.clone()),
            patience: self.patience.or_else(|| other.patience.clone()),
        }
    }

    /// All programs.
    fn programs(&self) -> impl Iterator<Item = &Vec<String>> {
        [&self.before, &self.after, &self.on_failure].into_iter().flatten()
    }
}

/// Whether `name` is one that a landing, a log and every file system take.
pub(crate) fn is_name(name: &str) -> bool {
    let plain = |c: char| c.is_ascii_alphanumeric() || matches!(c, '-' | '.' | '_');
    (1..=60).contains(&name.len())
        && name.starts_with(|c: char| c.is_ascii_alphanumeric())
        && !name.ends_with(['.', '-', '_'])
        && name.chars().all(plain)
}

impl Row {
    /// This row, with what it does not say from `defaults`.
    pub(super) fn over(self, defaults: &Self) -> Self {
        let of = defaults.clone();
        let mut accept = of.accept;
        accept.extend(self.accept.into_iter().filter(|code| !defaults.accept.contains(code)));
        Self {
            name: self.name,
            source: self.source,
            machine: self.machine,
            brief: self.brief,
            destination: self.destination.or(of.destination),
            into: self.into.or(of.into),
            group: self.group.or(of.group),
            after: self.after,
            size: self.size,
            accept,
            trust_links: self.trust_links || of.trust_links,
            ahead: self.ahead.max(of.ahead),
            bitmap: self.bitmap.or(of.bitmap),
            memory: self.memory.or(of.memory),
            sockets: self.sockets.or(of.sockets),
            cores: self.cores.or(of.cores),
            firmware: self.firmware.or(of.firmware),
            network: self.network.or(of.network),
            mac: self.mac.or(of.mac),
            shape: self.shape.or(of.shape),
            machine_file: self.machine_file.or(of.machine_file),
            keep_unknown: self.keep_unknown || of.keep_unknown,
            store: self.store.or(of.store),
            cloud: self.cloud.or(of.cloud),
            then: self.then.or(of.then),
            guest: self.guest.or(of.guest),
            hooks: self.hooks.or(&defaults.hooks),
            confirm: self.confirm,
        }
    }

    /// # Errors
    /// As the end of a sentence: what cannot be right, whatever the machine.
    pub(super) fn check(&self) -> Result<(), String> {
        match (&self.source, &self.brief) {
            (Some(_), Some(_)) => return Err("it has a source and a brief: the brief has a source itself".into()),
            (None, None) => return Err("it has neither a source nor a brief".into()),
            (Some(_), None) if self.destination.is_none() => return Err("it has no destination".into()),
            (Some(_), None) if self.into.is_none() => return Err("it has no folder to land in ('into')".into()),
            (_, Some(_)) if self.has_choices() => {
                return Err("it has a brief, and settings beside it: put them into the brief".into());
            }
            _ => {}
        }
        self.choices()?;
        patience(self.hooks.patience.as_ref(), PROGRAM)?;
        if let Some(confirm) = &self.confirm {
            confirm.check()?;
        }
        self.programs().try_for_each(|program| check_program(program))?;
        if self.accept.iter().any(|code| !code.chars().all(|c| c.is_ascii_lowercase() || c == '-')) {
            return Err("'accept' is a list of codes of blockers".into());
        }
        Ok(())
    }

    fn has_choices(&self) -> bool {
        self.choices().is_ok_and(|choices| Choices { name: None, ..choices } != Choices::default())
            || self.machine.is_some()
    }

    /// Whether a worker runs programs for it.
    pub(crate) fn has_hooks(&self) -> bool {
        self.hook_programs().next().is_some()
    }

    /// The programs that a worker runs.
    pub(crate) fn hook_programs(&self) -> impl Iterator<Item = &Vec<String>> {
        self.hooks.programs()
    }

    /// The programs that it names.
    pub(crate) fn programs(&self) -> impl Iterator<Item = &Vec<String>> {
        self.hooks.programs().chain(self.confirm.iter().filter_map(|confirm| confirm.program.as_ref()))
    }

    /// What the person chose.
    fn choices(&self) -> Result<Choices, String> {
        let memory = self.memory.map(|size| size.0);
        if memory.is_some_and(|bytes| !(1 << 20..=1 << 46).contains(&bytes)) {
            return Err("memory is not from 1MiB to 64TiB".into());
        }
        if [self.sockets, self.cores].into_iter().flatten().any(|count| !(1..=4096).contains(&count)) {
            return Err("sockets and cores are not from 1 to 4096".into());
        }
        let guest = self.guest.clone().unwrap_or_default();
        if guest.host_name.as_ref().is_some_and(|name| !crate::brief::is_host_name(name)) {
            return Err("host-name is not valid: it takes letters, digits, dots and dashes".into());
        }
        Ok(Choices {
            name: Some(self.name.clone()),
            memory,
            sockets: self.sockets,
            cores: self.cores,
            firmware: self.firmware,
            network: self.network.clone(),
            mac: self.mac.as_ref().map(|mac| mac.parse()).transpose()?,
            shape: self
                .shape
                .as_ref()
                .map(|shape| shape.parse())
                .transpose()
                .map_err(|error: reformis_disk::shape::ShapeError| error.to_string())?,
            machine_file: self.machine_file,
            guest,
            keep_unknown: self.keep_unknown,
            store: self.store.clone(),
            cloud: self.cloud.clone(),
            then: self.then,
        })
    }
}

impl Confirm {
    fn check(&self) -> Result<(), String> {
        patience(self.patience.as_ref(), ANSWER)?;
        let ways = [self.tcp.is_some(), self.ssh.is_some(), self.page.is_some(), self.program.is_some()];
        if ways.iter().filter(|way| **way).count() != 1 {
            return Err("'confirm' is one of tcp, ssh, page and program".into());
        }
        for at in self.tcp.iter().chain(&self.ssh) {
            if at.rsplit_once(':').is_none_or(|(host, port)| host.is_empty() || port.parse::<u16>().is_err()) {
                return Err(format!("'{at}' is not HOST:PORT"));
            }
        }
        let is_web = |page: &String| page.starts_with("http://") || page.starts_with("https://");
        match &self.page {
            Some(page) if !is_web(page) => Err(format!("'{page}' is no page: it begins with http:// or https://")),
            _ => Ok(()),
        }
    }
}

/// Everything that a worker needs to know of one machine, wherever it runs.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub struct Spec {
    /// What the fleet's file says of it, with the defaults.
    pub row: Row,
    /// The brief, where the row names one.
    pub brief: Option<Brief>,
    /// The folder in which its paths begin: that of the fleet file.
    pub folder: PathBuf,
    /// The folder that they must not lead out of, where somebody else may have written the file.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub confined_to: Option<PathBuf>,
}

impl Spec {
    /// The move; `wires` tell what is a name of a host, and no path.
    pub(crate) fn order(&self, wires: &Wires) -> Result<Order, String> {
        let row = &self.row;
        if let Some(brief) = &self.brief {
            let file = self.folder.join(row.brief.as_deref().unwrap_or_default());
            let mut brief = brief.clone();
            brief.guest.confined_to.clone_from(&self.confined_to);
            return Ok(Order::Brief(Box::new(brief), crate::staging::parent(&file)));
        }
        let source = row.source.as_deref().unwrap_or_default();
        let path = match Wires::is_link(Path::new(source)) || wires.is_named(source) {
            true => PathBuf::from(source),
            false => self.folder.join(source),
        };
        let mut choices = row.choices()?;
        let guest = &mut choices.guest;
        guest.confined_to.clone_from(&self.confined_to);
        let files = guest.first_boot.iter_mut().chain(&mut guest.drivers);
        for file in files.chain(&mut guest.user_data).chain(&mut guest.network_config) {
            *file = self.folder.join(&*file).to_string_lossy().into_owned();
        }
        Ok(Order::Target {
            path,
            machine: row.machine.clone(),
            destination: row.destination.clone().unwrap_or_default(),
            into: self.into(),
            choices: Box::new(choices),
        })
    }

    /// Whether it moves the machine `machine` of `source`, which is a link, a name of a host's, or a whole path.
    pub(crate) fn is_of(&self, source: &str, machine: Option<&str>) -> bool {
        let is_path = Path::new(source).is_absolute();
        let is_same = self.source() == source || is_path && self.folder.join(self.source()) == Path::new(source);
        is_same && self.row.machine.as_deref() == machine
    }

    /// The same machine, landing in `folder` and in no store or cloud.
    pub(crate) fn apart(&self, folder: &Path) -> Self {
        let mut apart = self.clone();
        let into = folder.to_string_lossy().into_owned();
        if let Some(brief) = &mut apart.brief {
            (brief.journey.into, brief.journey.store, brief.journey.cloud, brief.journey.then) =
                (into, None, None, None);
        } else {
            let row = &mut apart.row;
            (row.into, row.store, row.cloud, row.then) = (Some(into), None, None, None);
        }
        apart
    }

    /// The same machine, without what signs its link: that lets in whoever reads it.
    pub(crate) fn without_secrets(&self) -> Self {
        let mut open = self.clone();
        if let Some(brief) = &mut open.brief {
            brief.journey.source = without_secrets(&brief.journey.source);
        }
        if let Some(source) = &mut open.row.source {
            *source = without_secrets(source);
        }
        open
    }

    /// The source as it may be shown and kept.
    pub fn shown_source(&self) -> String {
        without_secrets(self.source())
    }

    /// The folder in which its landing is made.
    pub fn into(&self) -> PathBuf {
        let into = match &self.brief {
            Some(brief) => {
                let file = self.folder.join(self.row.brief.as_deref().unwrap_or_default());
                crate::staging::parent(&file).join(&brief.journey.into)
            }
            None => self.folder.join(self.row.into.as_deref().unwrap_or_default()),
        };
        crate::target::absolute(&into.to_string_lossy()).into()
    }

    /// Its landing.
    pub fn landing(&self) -> PathBuf {
        let name = self.brief.as_ref().map_or(&self.row.name, |brief| &brief.machine.name);
        self.into().join(name)
    }

    /// What is moved, as the file says it.
    pub fn source(&self) -> &str {
        let named = self.brief.as_ref().map(|brief| brief.journey.source.as_str());
        named.or(self.row.source.as_deref()).unwrap_or_default()
    }

    /// Name of the destination.
    pub fn destination(&self) -> &str {
        let named = self.brief.as_ref().map(|brief| brief.journey.destination.as_str());
        named.or(self.row.destination.as_deref()).unwrap_or_default()
    }

    /// The host that it is read from: by its name in the site's file, or the machine in a link.
    pub fn host(&self) -> Option<String> {
        let source = self.source();
        if Link::is_one(source) {
            return Link::parse(source).ok().map(|link| link.host).filter(|host| !host.is_empty());
        }
        let (host, _) = source.split_once(':')?;
        let is_plain = !host.is_empty() && host.chars().all(|c| c.is_alphanumeric() || matches!(c, '-' | '_'));
        is_plain.then(|| host.to_string())
    }

    /// The store that it goes to, and the cloud.
    pub fn stores(&self) -> Vec<String> {
        let (store, cloud) = match &self.brief {
            Some(brief) => (&brief.journey.store, &brief.journey.cloud),
            None => (&self.row.store, &self.row.cloud),
        };
        let store = store.as_ref().and_then(|store| store.split(':').next()).map(str::to_string);
        store.into_iter().chain(cloud.clone()).collect()
    }
}
