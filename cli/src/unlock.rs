//! Keys to what is encrypted inside a guest: from files that nobody else may read, or typed; never from the command line itself.

use std::{fs::File, io::Read, os::unix::fs::MetadataExt};

use anyhow::{Context, Result, bail};
use reformis_guest::Keys;

/// The longest key file that is read, in bytes; longer ones are none that the guests' own tools would take.
const MOST: u64 = 8 << 20;

/// The keys that the options `VOLUME=FILE` and `VOLUME` name.
pub(crate) fn keys(options: &[String]) -> Result<Keys> {
    let mut keys = Keys::default();
    for option in options {
        let secret = match option.split_once('=') {
            Some((volume, file)) if !volume.is_empty() && !file.is_empty() => (volume, from_file(file)?),
            Some(_) => bail!("--unlock takes VOLUME=FILE, or VOLUME alone to be asked"),
            None => (option.as_str(), typed(option)?),
        };
        keys.add(secret.0, secret.1);
    }
    Ok(keys)
}

fn from_file(path: &str) -> Result<Vec<u8>> {
    let doing = || format!("reading the key in '{path}'");
    let file = File::open(path).with_context(doing)?;
    let metadata = file.metadata().with_context(doing)?;
    if metadata.is_file() && metadata.mode() & 0o077 != 0 {
        bail!("the key in '{path}' may be read by others: take that from them first (chmod 600)");
    }
    let mut key = Vec::new();
    file.take(MOST + 1).read_to_end(&mut key).with_context(doing)?;
    if key.is_empty() || key.len() as u64 > MOST {
        bail!("the key in '{path}' is empty, or longer than 8 MiB");
    }
    Ok(key)
}

fn typed(volume: &str) -> Result<Vec<u8>> {
    let shown = reformis_disk::text::printable(volume);
    match rpassword::prompt_password(format!("passphrase of {shown}: ")) {
        Ok(text) if !text.is_empty() => Ok(text.into_bytes()),
        Ok(_) => bail!("no passphrase of {shown} was typed"),
        Err(_) => bail!(
            "the passphrase of {shown} has to be typed, and there is no terminal; give a file: --unlock '{shown}=FILE'"
        ),
    }
}
