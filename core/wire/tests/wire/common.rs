//! What the tests share.

use std::{
    io::{self, Write},
    path::Path,
    sync::{Arc, Mutex},
    time::Duration,
};

use reformis_disk::{Result, Storage, budget::Budget, container::Source};
use reformis_wire::{
    Keys, Link, Settings, Wires,
    steady::Shared,
    stores::{Begun, Done, Ledger},
};

/// Bytes that tell their places, with runs of zeros.
pub(crate) fn content(len: usize) -> Vec<u8> {
    let byte = |at: usize| if at / 70_000 % 5 == 3 { 0 } else { (at * 31 / 7 % 253) as u8 };
    (0..len).map(byte).collect()
}

/// Secrets of a test.
pub(crate) struct Pocket(pub(crate) &'static [(&'static str, &'static str)]);

impl Keys for Pocket {
    fn variable(&self, name: &str) -> Option<String> {
        self.0.iter().find(|(known, _)| *known == name).map(|(_, value)| (*value).to_string())
    }

    fn ask(&self, _: &str) -> Option<String> {
        None
    }
}

/// What was told while the network was in trouble.
pub(crate) type Told = Arc<Mutex<Vec<String>>>;

/// The network with the settings `text`, whose paths begin in `folder`.
pub(crate) fn wires(folder: &Path, text: &str, keys: Pocket) -> (Wires, Told) {
    let told = Told::default();
    let tell = {
        let told = told.clone();
        move |text: &str| told.lock().unwrap().push(text.into())
    };
    let file = folder.join("site.toml");
    let settings = Settings::parse(&file.to_string_lossy(), text).unwrap();
    let shared = Shared { tell: Arc::new(tell), patience: Duration::from_secs(20), ..Shared::quiet() };
    (Wires::new(settings, Arc::new(keys), shared), told)
}

/// Opens `link`.
pub(crate) fn open(wires: &Wires, link: &str) -> Result<Source> {
    wires.open(&Link::parse(link).unwrap(), &Budget::whole())
}

/// Opens `link`, which can be read at any place.
pub(crate) fn storage(wires: &Wires, link: &str) -> Arc<dyn Storage> {
    open(wires, link).unwrap().random_access().unwrap()
}

/// Reads all of `storage`, in pieces as a pipeline does.
pub(crate) fn whole(storage: &dyn Storage) -> Result<Vec<u8>> {
    let mut bytes = vec![0; storage.len() as usize];
    for (index, piece) in bytes.chunks_mut(1 << 20).enumerate() {
        storage.read_at((index << 20) as u64, piece)?;
    }
    storage.check_unchanged()?;
    Ok(bytes)
}

/// The sentence of what went wrong.
pub(crate) fn failure<T>(outcome: Result<T>) -> (&'static str, String) {
    match outcome {
        Ok(_) => panic!("it works"),
        Err(error) => (error.code(), error.to_string()),
    }
}

/// Whether all `programs` are there; says so where one is not.
pub(crate) fn has(test: &str, programs: &[&str]) -> bool {
    let missing: Vec<_> =
        programs.iter().filter(|name| !reformis_standin::servers::is_installed(name)).copied().collect();
    if !missing.is_empty() {
        let line = format!("SKIPPED {test}: there is no {}\n", missing.join(", "));
        std::io::stderr().write_all(line.as_bytes()).unwrap();
    }
    missing.is_empty()
}

/// A ledger in memory.
#[derive(Clone, Default)]
pub(crate) struct Kept(Arc<Mutex<Option<Begun>>>);

impl Kept {
    pub(crate) fn begun(&self) -> Option<Begun> {
        self.0.lock().unwrap().clone()
    }
}

impl Ledger for Kept {
    fn begun(&mut self, id: &str, part: u64) -> io::Result<()> {
        *self.0.lock().unwrap() = Some(Begun { id: id.into(), part, ..Begun::default() });
        Ok(())
    }

    fn done(&mut self, number: u32, done: &Done) -> io::Result<()> {
        self.0.lock().unwrap().as_mut().unwrap().parts.insert(number, done.clone());
        Ok(())
    }
}
