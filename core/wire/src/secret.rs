//! What lets us in, kept out of everything that is shown.

use std::{fmt, os::unix::fs::MetadataExt, path::Path};

use reformis_disk::error::WireKind;
use serde::Deserialize;

use crate::fault::Fault;

/// Text that is sent, and never shown: printed for debugging it is `…`.
#[derive(Clone, PartialEq, Eq)]
pub struct Secret(String);

impl Secret {
    /// Keeps `text`.
    pub fn new(text: impl Into<String>) -> Self {
        Self(text.into())
    }

    /// The text itself, for whoever sends it.
    pub fn expose(&self) -> &str {
        &self.0
    }
}

impl fmt::Debug for Secret {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("…")
    }
}

/// Where secrets are asked for: the core knows neither an environment nor a terminal.
pub trait Keys: Send + Sync {
    /// The environment's variable `name`.
    fn variable(&self, name: &str) -> Option<String>;

    /// What the person types when asked for `what`, unseen; `None` where nobody can be asked.
    fn ask(&self, what: &str) -> Option<String>;

    /// Whether a program that we start may ask at a terminal.
    fn has_terminal(&self) -> bool {
        false
    }
}

/// Nobody to ask.
#[derive(Debug, Clone, Copy)]
pub struct NoKeys;

impl Keys for NoKeys {
    fn variable(&self, _: &str) -> Option<String> {
        None
    }

    fn ask(&self, _: &str) -> Option<String> {
        None
    }
}

/// Where a secret is to be had: exactly one of the three.
#[derive(Debug, Clone, PartialEq, Eq, Deserialize)]
#[serde(try_from = "toml::Value")]
pub enum Credential {
    /// A variable of the environment.
    Env(String),
    /// The first line of a file that nobody else may read; in a site's file, its path begins in that file's folder.
    File(String),
    /// The person is asked for this.
    Prompt(String),
}

impl TryFrom<toml::Value> for Credential {
    type Error = &'static str;

    /// By hand, so that a secret that was written into the file by mistake is not in the error.
    fn try_from(value: toml::Value) -> Result<Self, Self::Error> {
        const WRONG: &str = "a secret does not stand in this file: write { env = \"NAME\" }, { file = \"PATH\" } or { prompt = \"WHAT\" }";
        let toml::Value::Table(table) = value else { return Err(WRONG) };
        let mut entries = table.into_iter();
        let (Some((key, toml::Value::String(text))), None) = (entries.next(), entries.next()) else {
            return Err(WRONG);
        };
        match key.as_str() {
            "env" => Ok(Self::Env(text)),
            "file" => Ok(Self::File(text)),
            "prompt" => Ok(Self::Prompt(text)),
            _ => Err(WRONG),
        }
    }
}

impl Credential {
    /// The secret, read anew: a file may have got another one. Paths begin in `folder`.
    ///
    /// # Errors
    /// As the end of a sentence: what is not there, or is open to others.
    pub fn read(&self, folder: &Path, keys: &dyn Keys) -> Result<Secret, String> {
        let text = match self {
            Self::Env(name) => keys.variable(name).ok_or_else(|| format!("the variable {name} is not set"))?,
            Self::Prompt(what) => {
                keys.ask(what).ok_or_else(|| format!("{what} has to be typed, and there is no terminal"))?
            }
            Self::File(path) => read_private(&folder.join(path))?,
        };
        let line = text.lines().next().unwrap_or_default().trim();
        match line.is_empty() || line.chars().any(char::is_control) {
            true => Err("the credential is empty, or is no line of text".into()),
            false => Ok(Secret::new(line)),
        }
    }
}

/// The largest file of a credential, in bytes.
const MOST: u64 = 64 << 10;

/// All of the file at `path`, which nobody but its owner may read.
pub(crate) fn from_private_file(path: &Path) -> Result<Secret, Fault> {
    read_private(path).map(Secret).map_err(|what| Fault::Fatal(WireKind::Settings, what))
}

pub(crate) fn read_private(path: &Path) -> Result<String, String> {
    use std::io::Read;
    let failed = |error: std::io::Error| format!("'{}' cannot be read: {error}", path.display());
    let file = std::fs::File::open(path).map_err(failed)?;
    let metadata = file.metadata().map_err(failed)?;
    if !metadata.is_file() {
        return Err(format!("'{}' is not a plain file", path.display()));
    }
    if metadata.mode() & 0o077 != 0 {
        return Err(format!("'{}' may be read by others than its owner: chmod 600 it", path.display()));
    }
    let mut text = String::new();
    file.take(MOST).read_to_string(&mut text).map_err(failed)?;
    Ok(text)
}

#[cfg(test)]
mod tests {
    use std::os::unix::fs::PermissionsExt;

    use super::*;

    struct Typed;

    impl Keys for Typed {
        fn variable(&self, name: &str) -> Option<String> {
            (name == "TOKEN").then(|| "from-env".into())
        }

        fn ask(&self, _: &str) -> Option<String> {
            Some("typed\n".into())
        }
    }

    #[test]
    fn secrets_come_from_three_places_and_are_not_shown() {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("token");
        std::fs::write(&path, "from-file\nand more\n").unwrap();
        let read = |credential: Credential| credential.read(folder.path(), &Typed);
        std::fs::set_permissions(&path, PermissionsExt::from_mode(0o640)).unwrap();
        assert!(read(Credential::File("token".into())).unwrap_err().contains("chmod 600"));
        std::fs::set_permissions(&path, PermissionsExt::from_mode(0o600)).unwrap();
        for (credential, text) in [
            (Credential::File("token".into()), "from-file"),
            (Credential::Env("TOKEN".into()), "from-env"),
            (Credential::Prompt("the token".into()), "typed"),
        ] {
            let secret = read(credential).unwrap();
            assert_eq!((secret.expose(), format!("{secret:?}").as_str()), (text, "…"));
        }
        assert!(read(Credential::Env("OTHER".into())).unwrap_err().contains("OTHER"));
        assert!(Credential::Prompt("the token".into()).read(folder.path(), &NoKeys).unwrap_err().contains("terminal"));
        let written: Result<Credential, _> = toml::from_str("value = \"x\"");
        assert!(written.is_err(), "a secret does not stand in the file itself");
    }
}
