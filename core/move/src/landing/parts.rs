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
    Upload { id: String, part: u64 },
    Part { number: u32, len: u64, digest: String, tag: String },
}

/// A ledger that is written.
pub(crate) struct PartsLedger(File);

impl PartsLedger {
    /// That of the disk in the file `disk`, opened or made anew, and what it says was done.
    pub(crate) fn open(folder: &Place, disk: &str) -> Result<(Self, Option<Begun>)> {
        let name = format!("{disk}{ENDING}");
        let mut file = match folder.open_file_again(OsStr::new(&name))? {
            Some(file) => file,
            None => folder.create(OsStr::new(&name), Access::OWNER)?,
        };
        let begun = read(&file);
        // What a run that was killed wrote of a line is no line: the next one begins on its own.
        let written = file.seek(SeekFrom::End(0)).and_then(|at| if at > 0 { file.write_all(b"\n") } else { Ok(()) });
        written.map_err(Error::io("writing", &folder.path_of(&name)))?;
        Ok((Self(file), begun))
    }

    fn put(&mut self, line: &Line) -> io::Result<()> {
        let mut text = serde_json::to_string(line)?;
        text.push('\n');
        self.0.write_all(text.as_bytes())
    }
}

/// What the lines of `file` say: of the last upload that was begun, its parts.
fn read(file: &File) -> Option<Begun> {
    let mut begun: Option<Begun> = None;
    for line in BufReader::new(file.take(MOST)).split(b'\n') {
        match serde_json::from_slice(&line.ok()?) {
            Ok(Line::Upload { id, part }) => begun = Some(Begun { id, part, parts: BTreeMap::new() }),
            Ok(Line::Part { number, len, digest, tag }) => {
                if let Some(begun) = &mut begun {
                    begun.parts.insert(number, Done { len, digest, tag });
                }
            }
            Err(_) => {}
        }
    }
    begun
}

impl Ledger for PartsLedger {
    fn begun(&mut self, id: &str, part: u64) -> io::Result<()> {
        self.put(&Line::Upload { id: id.into(), part })?;
        self.0.sync_data()
    }

    fn done(&mut self, number: u32, done: &Done) -> io::Result<()> {
        let Done { len, digest, tag } = done.clone();
        self.put(&Line::Part { number, len, digest, tag })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_was_done_is_read_again_and_a_torn_line_is_none() {
        let folder = tempfile::tempdir().unwrap();
        let place = Place::open(folder.path()).unwrap();
        let (mut ledger, begun) = PartsLedger::open(&place, "tidelog-0.raw").unwrap();
        assert_eq!(begun, None);
        let done = |len: u64| Done { len, digest: format!("{len:064x}"), tag: format!("\"t{len}\"") };
        ledger.begun("older", 7).unwrap();
        ledger.done(1, &done(7)).unwrap();
        ledger.begun("u-1", 16).unwrap();
        ledger.done(2, &done(16)).unwrap();
        ledger.done(1, &done(15)).unwrap();
        ledger.0.write_all(b"{\"part\":{\"number\":3,").unwrap();
        drop(ledger);
        let (mut ledger, begun) = PartsLedger::open(&place, "tidelog-0.raw").unwrap();
        let parts = BTreeMap::from([(1, done(15)), (2, done(16))]);
        assert_eq!(begun, Some(Begun { id: "u-1".into(), part: 16, parts }));
        ledger.done(3, &done(9)).unwrap();
        drop(ledger);
        let (_, begun) = PartsLedger::open(&place, "tidelog-0.raw").unwrap();
        assert_eq!(begun.unwrap().parts.get(&3), Some(&done(9)));
    }
}
