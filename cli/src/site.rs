//! The site's own file, and the network as it describes it.

use std::{
    collections::BTreeMap,
    path::{Path, PathBuf},
    sync::{Arc, Mutex, PoisonError, atomic::AtomicBool},
};

use anyhow::Result;
use reformis_disk::ground;
use reformis_machine::{Site, site};
use reformis_wire::{
    Keys, Settings, Stop, Wires,
    steady::{Pace, Shared},
};

use crate::progress::Progress;

/// The largest site's file, in bytes.
const MOST: u64 = 4 << 20;

/// A site's file, as it was read; empty when there is none.
#[derive(Clone, Default)]
pub(crate) struct Text {
    file: String,
    text: String,
}

impl Text {
    /// As a file at `file` would say it.
    pub(crate) fn new(file: &Path, text: String) -> Self {
        Self { file: file.to_string_lossy().into_owned(), text }
    }

    /// Its path; none where there is none.
    pub(crate) fn file(&self) -> Option<&str> {
        Some(self.file.as_str()).filter(|file| !file.is_empty())
    }

    /// What it says of destinations and networks.
    pub(crate) fn site(&self) -> Result<Site> {
        match self.file.is_empty() {
            true => Ok(Site::default()),
            false => Ok(Site::parse(&self.file, &self.text).map_err(reformis_move::Error::from)?),
        }
    }

    /// What it says of the network.
    pub(crate) fn settings(&self) -> Result<Settings> {
        match self.file.is_empty() {
            true => Ok(Settings::default()),
            false => Ok(Settings::parse(&self.file, &self.text)?),
        }
    }
}

/// The site's file: the one that is named, else `reformis.toml` in the working folder, else in the user's configuration
/// folder, else none.
pub(crate) fn read(named: Option<&Path>) -> Result<Text> {
    let path = match named {
        Some(path) => Some(path.to_path_buf()),
        // Whatever lies there: what is no file of ours is an error, not passed over.
        None => usual_places().into_iter().find(|path| path.symlink_metadata().is_ok()),
    };
    let Some(path) = path else { return Ok(Text::default()) };
    // It names programs that are run, and what lets us in: it is taken from nobody who could have put it there for us to find.
    let file = ground::trusted(&path).map_err(reformis_move::Error::from);
    let text = ground::read_text(file?, &path, MOST).map_err(reformis_move::Error::from)?;
    tracing::info!(file = %path.display(), "the site's settings");
    Ok(Text { file: path.to_string_lossy().into_owned(), text })
}

fn usual_places() -> Vec<PathBuf> {
    let variable = |name: &str| std::env::var_os(name).filter(|value| !value.is_empty()).map(PathBuf::from);
    let configuration = variable("XDG_CONFIG_HOME").or_else(|| Some(variable("HOME")?.join(".config")));
    let mut places = vec![PathBuf::from(site::FILE_NAME)];
    places.extend(configuration.map(|folder| folder.join("reformis").join(site::FILE_NAME)));
    places
}

/// The network as `text` describes it, at most `limit` bytes a second from it.
pub(crate) fn wires(
    text: &Text,
    limit: Option<u64>,
    progress: &Arc<Progress>,
    cancel: &Arc<AtomicBool>,
) -> Result<Wires> {
    let pace = Pace::default();
    if let Some(rate) = limit {
        pace.limit(rate);
    }
    let progress = progress.clone();
    let tell = move |sentence: &str| progress.say(&format!("{sentence}\n"));
    let shared = Shared { stop: Stop(cancel.clone()), pace: Arc::new(pace), tell: Arc::new(tell), ..Shared::quiet() };
    Ok(Wires::new(text.settings()?, Arc::new(Terminal), shared))
}

/// The environment, and the terminal.
struct Terminal;

/// As the terminal, but what was typed once is not asked for again.
#[derive(Default)]
pub(crate) struct AskedOnce(Mutex<BTreeMap<String, Option<String>>>);

impl Keys for AskedOnce {
    fn variable(&self, name: &str) -> Option<String> {
        Terminal.variable(name)
    }

    fn ask(&self, what: &str) -> Option<String> {
        let mut typed = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        typed.entry(what.into()).or_insert_with(|| Terminal.ask(what)).clone()
    }

    fn has_terminal(&self) -> bool {
        Terminal.has_terminal()
    }
}

impl Keys for Terminal {
    fn variable(&self, name: &str) -> Option<String> {
        std::env::var(name).ok()
    }

    fn ask(&self, what: &str) -> Option<String> {
        // Asked at the terminal itself, whatever stdin and stdout are; where there is none, nobody can be asked.
        rpassword::prompt_password(format!("{}: ", reformis_disk::text::printable(what))).ok()
    }

    fn has_terminal(&self) -> bool {
        std::fs::File::open("/dev/tty").is_ok()
    }
}
