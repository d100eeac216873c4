//! LUKS, versions 1 and 2: what is encrypted is opened with a key that the person gives, and read and written through it.

mod cipher;
mod keys;
mod one;
mod two;

use std::sync::Arc;

use cipher::Sectors;
use keys::{Made, Secret};
use zeroize::Zeroizing;

use crate::{
    bench::Device,
    error::{Error, Result},
};

/// Keys and passphrases for encrypted volumes, by the volumes' names or UUIDs; wiped from memory when they are let go.
#[derive(Clone, Default)]
pub struct Keys {
    given: Vec<(String, Secret)>,
    /// What was made of them, for all who have them.
    made: Arc<Made>,
}

/// Nothing of them is shown.
impl std::fmt::Debug for Keys {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_tuple("Keys").field(&self.given.len()).finish()
    }
}

impl Keys {
    /// One more key, for the volume of this name or UUID; `all` is every encrypted volume.
    pub fn add(&mut self, volume: &str, secret: Vec<u8>) {
        self.given.push((volume.into(), Zeroizing::new(secret)));
    }

    /// Whether there are none.
    pub fn is_empty(&self) -> bool {
        self.given.is_empty()
    }

    /// The volumes that they are for.
    pub fn volumes(&self) -> impl Iterator<Item = &str> {
        self.given.iter().map(|(volume, _)| volume.as_str())
    }

    /// What may open the volume of this name and UUID: as it was given, and where it ends with the end of a line, without that.
    fn of(&self, name: &str, uuid: Option<&str>) -> Vec<Secret> {
        let is_it = |volume: &str| {
            volume == "all" || volume == name || uuid.is_some_and(|uuid| uuid.eq_ignore_ascii_case(volume))
        };
        let given = self.given.iter().filter(|(volume, _)| is_it(volume));
        let both = given.flat_map(|(_, secret)| {
            let line = secret.strip_suffix(b"\n").map(|line| line.strip_suffix(b"\r").unwrap_or(line));
            std::iter::once(secret.clone()).chain(line.map(|line| Zeroizing::new(line.to_vec())))
        });
        both.collect()
    }
}

/// Why a volume is not opened.
#[derive(Debug)]
enum Trouble {
    /// None of the keys opens it.
    WrongKey,
    /// Something that is not known here.
    Unknown(String),
    /// Something in it is not sound.
    Unsound(&'static str),
    /// Its key takes more memory or time to make than is given.
    TooMuch,
    /// That of reading it.
    Guest(Error),
}

impl From<Error> for Trouble {
    fn from(error: Error) -> Self {
        Self::Guest(error)
    }
}

impl From<reformis_disk::Error> for Trouble {
    fn from(error: reformis_disk::Error) -> Self {
        Self::Guest(error.into())
    }
}

/// A volume that was opened: where its bytes lie, and what turns them.
struct Opened {
    start: u64,
    len: u64,
    cipher: Sectors,
}

/// What lies in the encrypted volume on `device`, whose UUID is `uuid`; `None` where no key is for it, and why where none fits.
///
/// # Errors
/// Those of the disk.
pub(crate) fn open(device: &Device, uuid: Option<&str>, keys: &Keys) -> Result<Option<Result<Device, String>>> {
    let secrets = keys.of(device.name(), uuid);
    if secrets.is_empty() {
        return Ok(None);
    }
    let mut version = [0; 2];
    device.read(6, &mut version)?;
    let opened = match u16::from_be_bytes(version) {
        1 => one::open(device, &secrets, &keys.made),
        2 => two::open(device, &secrets, &keys.made),
        other => Err(Trouble::Unknown(format!("version {other} of LUKS"))),
    };
    Ok(Some(match opened {
        Ok(Opened { start, len, cipher }) => {
            let (disk, base) = device.base();
            let name = format!("opened {}", device.name());
            Ok(Device::part(device.bench(), disk, base + start, len, &name).through(Arc::new(cipher)))
        }
        Err(Trouble::Guest(error @ Error::Disk(_))) => return Err(error),
        Err(Trouble::Guest(error)) => Err(error.to_string()),
        Err(Trouble::WrongKey) => Err("no key that was given opens it".into()),
        Err(Trouble::Unknown(what)) => Err(format!("{what} is not known here")),
        Err(Trouble::Unsound(what)) => Err(format!("{what} is not sound")),
        Err(Trouble::TooMuch) => Err("its key takes more memory or time to make than is given".into()),
    }))
}
