//! Clouds: what makes an image and a machine of disks that lie in a store, by the names that a site gives them.

mod commands;
mod images;
mod import;

use std::{sync::Arc, time::Duration};

pub use import::read_cloud_answers;
use reformis_disk::{
    Error, Result,
    error::{WireError, WireKind},
};
use serde::{Deserialize, Serialize};
use serde_json::Value;

use crate::{
    fault::Fault,
    images::Images,
    settings::CloudKind,
    steady::patience::Patience,
    wires::{Inner, Wires},
};

/// How often a cloud is asked how far it is.
const POLL: (Duration, Duration) = (Duration::from_millis(200), Duration::from_secs(10));

/// What becomes of the disks.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Then {
    /// An image, and no instance of it.
    Image,
    /// An instance that is stopped.
    #[default]
    Stopped,
    /// An instance that is started.
    Started,
}

impl Then {
    /// The word for it.
    pub fn word(self) -> &'static str {
        match self {
            Self::Image => "image",
            Self::Stopped => "stopped",
            Self::Started => "started",
        }
    }
}

/// An object that holds a disk.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct Object {
    /// Its link, without what lets us in.
    pub at: String,
    /// Bytes of it, once it is there.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub bytes: Option<u64>,
}

/// What is asked of a cloud.
#[derive(Debug, Clone, PartialEq, Serialize)]
pub struct Wish {
    /// The name of the image, and of the instance.
    pub name: String,
    /// What becomes of the disks.
    pub then: Then,
    /// The disks, in the order of the launch JSON's images.
    pub objects: Vec<Object>,
    /// The machine and its images: a launch JSON (`docs/launch.schema.json`).
    pub launch: Value,
    /// The link of a medium that is to be in a drive of the machine: what its cloud-init is told.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub seed: Option<String>,
    /// The link of an empty object, by which the cloud tries whether its own role may read there.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub trial: Option<String>,
}

/// Something that a cloud would refuse.
#[derive(Debug, Clone, Default, PartialEq, Eq, Deserialize)]
#[serde(rename_all = "kebab-case", default)]
pub struct Refusal {
    /// A word for it.
    pub code: String,
    /// What it is, in a sentence.
    pub sentence: String,
    /// The grant that is missing.
    pub grant: Option<String>,
    /// What the person can do.
    pub remedy: Option<String>,
}

impl Refusal {
    /// All of it, as a sentence without its end.
    pub fn whole(&self) -> String {
        let mut text = match self.sentence.is_empty() {
            true => self.code.clone(),
            false => self.sentence.trim_end_matches('.').to_string(),
        };
        if let Some(grant) = &self.grant {
            text += &format!(" (the grant '{grant}' is missing)");
        }
        reformis_disk::text::printable(&text.chars().take(400).collect::<String>())
    }
}

/// How far an import is.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Task {
    /// What the cloud calls it.
    pub id: String,
    /// How far, of how much, in the cloud's own measure.
    pub done: u64,
    /// Of how much.
    pub of: u64,
    /// What it came to, once it is over.
    pub outcome: Option<Outcome>,
}

/// What an import came to.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Outcome {
    /// An image: what the cloud calls it.
    Image(String),
    /// It failed.
    Failed(Refusal),
}

/// A machine of a cloud.
#[derive(Debug, Clone, Default, PartialEq, Eq, Deserialize)]
#[serde(rename_all = "kebab-case", default)]
pub struct Instance {
    /// What the cloud calls it.
    pub instance: String,
    /// Its name.
    pub name: String,
    /// `stopped`, `starting`, `running` or `failed`.
    pub state: String,
    /// Its address, where the cloud knows it.
    pub address: Option<String>,
    /// Why it failed.
    pub fault: Option<Refusal>,
}

/// What a cloud is asked for; one try each. `key` is the same whenever the same thing is asked for: it is then done once.
trait Kind: Send + Sync {
    /// What it is, and what it lets us do, in words.
    fn about(&self) -> Result<Vec<String>, Fault>;

    /// What it would refuse of `wish`.
    fn check(&self, wish: &Wish) -> Result<Vec<Refusal>, Fault>;

    /// Begins an import.
    fn begin(&self, wish: &Wish, key: &str) -> Result<Task, Fault>;

    /// How far an import is.
    fn task(&self, id: &str) -> Result<Task, Fault>;

    /// Makes an instance of `image`; `None` where it makes none.
    fn make(&self, wish: &Wish, image: &str, key: &str) -> Result<Option<Instance>, Fault>;

    /// How an instance is; `None` where that cannot be asked.
    fn instance(&self, instance: &Instance) -> Result<Option<Instance>, Fault>;
}

/// A cloud of the site.
#[derive(Clone)]
pub struct Cloud {
    name: String,
    store: String,
    kind: Arc<dyn Kind>,
    inner: Arc<Inner>,
}

impl std::fmt::Debug for Cloud {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "{}:", self.name)
    }
}

impl Cloud {
    /// The store from which it imports, and the folder there: `NAME:FOLDER`.
    pub fn store(&self) -> &str {
        &self.store
    }

    fn error(&self, action: &'static str, fault: Fault) -> Error {
        match self.inner.shared.stop.is_set() {
            true => Error::Interrupted,
            false => fault.into_error(action, &self.name, None),
        }
    }

    /// Tries until it works, it cannot work, or nothing has worked for too long.
    fn persist<T>(&self, action: &'static str, mut attempt: impl FnMut() -> Result<T, Fault>) -> Result<T> {
        let (patience, shared) = (Patience::default(), &self.inner.shared);
        let mut failed = 0;
        loop {
            let fault = match attempt() {
                Ok(value) => return Ok(value),
                Err(Fault::Again { what, after }) => {
                    failed += 1;
                    match patience.wait(&self.name, shared, (&what, after), failed, &|| false) {
                        Ok(()) => continue,
                        Err(fault) => fault,
                    }
                }
                Err(fault) => fault,
            };
            return Err(self.error(action, fault));
        }
    }

    /// What it is, and what it lets us do, in words.
    ///
    /// # Errors
    /// [`Error::Wire`].
    pub fn about(&self) -> Result<Vec<String>> {
        self.inner.patient(|| self.kind.about()).map_err(|fault| self.error("trying", fault))
    }

    /// What it would refuse of `wish`.
    ///
    /// # Errors
    /// [`Error::Wire`].
    pub fn check(&self, wish: &Wish) -> Result<Vec<Refusal>> {
        self.inner.patient(|| self.kind.check(wish)).map_err(|fault| self.error("asking what is refused by", fault))
    }

    /// Begins an import; with the same `key` it is the same one.
    ///
    /// # Errors
    /// [`Error::Wire`].
    pub fn begin(&self, wish: &Wish, key: &str) -> Result<Task> {
        self.persist("beginning an import at", || self.kind.begin(wish, key))
    }

    /// Waits until the import `id` is over, and tells `progress` how far it is, of how much.
    ///
    /// # Errors
    /// [`Error::Wire`]; [`Error::Interrupted`]: the import goes on all the same.
    pub fn follow(&self, id: &str, progress: &mut dyn FnMut(u64, u64)) -> Result<Outcome> {
        self.watch(|| {
            let task = self.persist("asking after an import at", || self.kind.task(id))?;
            progress(task.done, task.of);
            Ok(task.outcome)
        })
    }

    /// Makes an instance of `image`, and waits until it is stopped, running or failed; `None` where the cloud makes none.
    ///
    /// # Errors
    /// [`Error::Wire`].
    pub fn make(&self, wish: &Wish, image: &str, key: &str) -> Result<Option<Instance>> {
        let made = self.persist("making an instance at", || self.kind.make(wish, image, key))?;
        let Some(mut instance) = made else { return Ok(None) };
        if wish.then != Then::Started {
            return Ok(Some(instance));
        }
        self.watch(|| {
            let is_over = |instance: &Instance| instance.state != "starting";
            if !is_over(&instance) {
                match self.persist("asking after an instance at", || self.kind.instance(&instance))? {
                    Some(now) => instance = now,
                    // What was said first is all that will be known.
                    None => return Ok(Some(Some(instance.clone()))),
                }
            }
            Ok(is_over(&instance).then(|| Some(instance.clone())))
        })
    }

    /// Asks again and again, less and less often.
    fn watch<T>(&self, mut ask: impl FnMut() -> Result<Option<T>>) -> Result<T> {
        let mut wait = POLL.0;
        loop {
            if let Some(found) = ask()? {
                return Ok(found);
            }
            if !self.inner.shared.stop.sleep(wait) {
                return Err(Error::Interrupted);
            }
            wait = (wait * 3 / 2).min(POLL.1);
        }
    }
}

impl Wires {
    /// The clouds that are known: name, kind, and where each is.
    pub fn clouds(&self) -> Vec<(String, &'static str, String)> {
        let clouds = self.inner.settings.clouds.iter();
        clouds.map(|(name, cloud)| (name.clone(), cloud.kind.word(), cloud.place())).collect()
    }

    /// The cloud `name`.
    ///
    /// # Errors
    /// [`Error::Wire`]: there is none of this name.
    pub fn cloud(&self, name: &str) -> Result<Cloud> {
        let Some(settings) = self.inner.settings.clouds.get(name) else {
            let known: Vec<_> = self.inner.settings.clouds.keys().map(String::as_str).collect();
            let what = match known.is_empty() {
                true => "no cloud is named in reformis.toml".to_string(),
                false => format!("there are {}", known.join(", ")),
            };
            let (action, place, kind) = ("looking for the cloud", name.into(), WireKind::Settings);
            return Err(Error::from(WireError { action, place, offset: None, what, kind }));
        };
        let kind: Arc<dyn Kind> = match settings.kind {
            CloudKind::Import => Arc::new(import::Importer::new(self, settings.at.as_deref().unwrap_or_default())?),
            CloudKind::ImageService => {
                let at = settings.at.as_deref().unwrap_or_default();
                let images = Images::new(self, crate::wires::link(at)?);
                Arc::new(images::ImageService { images, at: at.into() })
            }
            CloudKind::Commands => Arc::new(commands::Site::new(self, settings.commands.clone())),
        };
        // An image service is its own store.
        let store = settings.store.clone().unwrap_or_else(|| format!("{name}:"));
        Ok(Cloud { name: name.into(), store, kind, inner: self.inner.clone() })
    }
}
