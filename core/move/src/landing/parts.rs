//! The ledger of an upload: which parts of a disk's file are in the store, so that another run does not send them again. One JSON object
//! a line; no secrets.

use std::{
    collections::BTreeMap,
    ffi::OsStr,
    fs::File,
    io::{self, BufRead, BufReader, Read, Seek, SeekFrom, Write},
};

use reformis_disk::source::Access;
use reformis_wire::stores::{Begun, Done, Ledger};
use serde::{Deserialize, Serialize};

use crate::{
    error::{Error, Result},
    staging::Place,
};

/// The ending of a ledger's name, behind the name of the disk's file.
pub(crate) const ENDING: &str = ".parts";
/// The longest ledger that is read, in bytes: 10,000 parts and their tags fit.
const MOST: u64 = 16 << 20;

/// A line.
#[derive(Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
enum Line {
    Upload {
        id: String,
        part: u64,
    },
    Part {
        number: u32,
        len: u64,
        digest: String,
        #[serde(default, skip_serializing_if = "Option::is_none")]
        crc: Option<String>,
        tag: String,
    },
    Whole(Whole),
}

/// A disk's file that is in the store, whole.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub(crate) struct Whole {
    /// Bytes of the file.
    pub(crate) len: u64,
    /// Bytes that were stored of the disk.
    pub(crate) stored: u64,
    /// The disk's content digest.
    pub(crate) content: String,
    /// SHA-256 of the file, where a manifest needed it.
    pub(crate) sha256: Option<String>,
}

/// What an earlier run did, as its ledger says.
#[derive(Debug, Default, PartialEq, Eq)]
pub(crate) struct Left {
    /// The last upload that was begun, and its parts.
    pub(crate) begun: Option<Begun>,
    /// What that upload came to, where it was finished.
    pub(crate) whole: Option<Whole>,
}

/// A ledger that is written.
pub(crate) struct PartsLedger(File);

impl PartsLedger {
    /// That of the disk in the file `disk`, opened or made anew, and what it says was done.
    pub(crate) fn open(folder: &Place, disk: &str) -> Result<(Self, Left)> {
        let name = format!("{disk}{ENDING}");
        let mut file = folder.open_or_create(OsStr::new(&name), Access::OWNER)?;
        let left = read(&file);
        // What a run that was killed wrote of a line is no line: the next one begins on its own.
        let written = file.seek(SeekFrom::End(0)).and_then(|at| if at > 0 { file.write_all(b"\n") } else { Ok(()) });
        written.map_err(Error::io("writing", &folder.path_of(&name)))?;
        Ok((Self(file), left))
    }

    /// Notes that the upload was finished.
    pub(crate) fn whole(&mut self, whole: &Whole) -> io::Result<()> {
        self.put(&Line::Whole(whole.clone()))?;
        self.0.sync_data()
    }

    fn put(&mut self, line: &Line) -> io::Result<()> {
        let mut text = serde_json::to_string(line)?;
        text.push('\n');
        self.0.write_all(text.as_bytes())
    }
}

/// What the lines of `file` say.
fn read(file: &File) -> Left {
    let mut left = Left::default();
    for line in BufReader::new(file.take(MOST)).split(b'\n').map_while(io::Result::ok) {
        match serde_json::from_slice(&line) {
            Ok(Line::Upload { id, part }) => {
                left = Left { begun: Some(Begun { id, part, parts: BTreeMap::new() }), whole: None };
            }
            Ok(Line::Part { number, len, digest, crc, tag }) => {
                if let Some(begun) = &mut left.begun {
                    begun.parts.insert(number, Done { len, digest, crc, tag });
                }
            }
            Ok(Line::Whole(whole)) => left.whole = Some(whole),
            Err(_) => {}
        }
    }
    left
}

impl Ledger for PartsLedger {
    fn begun(&mut self, id: &str, part: u64) -> io::Result<()> {
        self.put(&Line::Upload { id: id.into(), part })?;
        self.0.sync_data()
    }

    fn done(&mut self, number: u32, done: &Done) -> io::Result<()> {
        let Done { len, digest, crc, tag } = done.clone();
        self.put(&Line::Part { number, len, digest, crc, tag })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_was_done_is_read_again_and_a_torn_line_is_none() {
        let folder = tempfile::tempdir().unwrap();
        let place = Place::open(folder.path()).unwrap();
        let (mut ledger, left) = PartsLedger::open(&place, "tidelog-0.raw").unwrap();
        assert_eq!(left, Left::default());
        let done = |len: u64| Done {
            len,
            digest: format!("{len:064x}"),
            crc: (len > 9).then(|| format!("c{len}")),
            tag: format!("\"t{len}\""),
        };
        ledger.begun("older", 7).unwrap();
        ledger.done(1, &done(7)).unwrap();
        ledger.begun("u-1", 16).unwrap();
        ledger.done(2, &done(16)).unwrap();
        ledger.done(1, &done(15)).unwrap();
        ledger.0.write_all(b"{\"part\":{\"number\":3,").unwrap();
        drop(ledger);
        let (mut ledger, left) = PartsLedger::open(&place, "tidelog-0.raw").unwrap();
        let parts = BTreeMap::from([(1, done(15)), (2, done(16))]);
        assert_eq!(left, Left { begun: Some(Begun { id: "u-1".into(), part: 16, parts }), whole: None });
        ledger.done(3, &done(9)).unwrap();
        let whole = Whole { len: 40, stored: 8, content: "c".into(), sha256: None };
        ledger.whole(&whole).unwrap();
        drop(ledger);
        let (mut ledger, left) = PartsLedger::open(&place, "tidelog-0.raw").unwrap();
        assert_eq!((left.begun.unwrap().parts.get(&3), left.whole), (Some(&done(9)), Some(whole)));
        // What begins anew is not whole.
        ledger.begun("u-2", 16).unwrap();
        drop(ledger);
        assert_eq!(PartsLedger::open(&place, "tidelog-0.raw").unwrap().1.whole, None);
    }
}
