//! A file: all attributes that its records hold, those of a list too.

use std::sync::Arc;

use reformis_disk::budget::Hold;

use super::{
    Ntfs,
    fields::{u16, u32, u64},
    names::FileName,
    record::{Attribute, FOLDER, Mapped, NUMBER, Record, Value, kind},
    runs,
};
use crate::error::Result;

/// The longest list of attributes, in bytes.
const MAX_LIST: u64 = 256 << 10;
/// Files that are remembered.
const KEPT: usize = 32;

/// A file or a folder.
#[derive(Debug)]
pub(super) struct File {
    /// Number of its first record.
    pub(super) number: u64,
    /// How often that was given to a file.
    pub(super) sequence: u16,
    /// Flags of its first record.
    pub(super) flags: u16,
    /// Its names, as its first record counts them.
    pub(super) links: u16,
    /// All its attributes, in the order in which they lie; the list of attributes is none of them.
    pub(super) attributes: Vec<Attribute>,
    /// Further records that hold some of them.
    pub(super) records: Vec<u64>,
    /// Memory for all this.
    _hold: Hold,
}

impl File {
    /// Whether it is a folder.
    pub(super) fn is_folder(&self) -> bool {
        self.flags & FOLDER != 0
    }

    /// Its number with its sequence number.
    pub(super) fn reference(&self) -> u64 {
        self.number | u64::from(self.sequence) << 48
    }

    /// The attribute of a kind called `name`.
    pub(super) fn find(&self, kind: u32, name: &[u16]) -> Option<&Attribute> {
        self.attributes.iter().find(|attribute| attribute.kind == kind && attribute.name == name)
    }

    /// The bytes of an attribute without a name that lies in a record.
    pub(super) fn resident(&self, kind: u32) -> Option<&[u8]> {
        self.find(kind, &[])?.resident()
    }

    /// Its names, short ones too.
    pub(super) fn names(&self) -> impl Iterator<Item = FileName> {
        let names = self.attributes.iter().filter(|attribute| attribute.kind == kind::FILE_NAME);
        names.filter_map(|attribute| FileName::of(attribute.resident()?))
    }

    /// The flags of its standard information.
    pub(super) fn file_flags(&self) -> u32 {
        self.resident(kind::STANDARD_INFORMATION).and_then(|bytes| u32(bytes, 32)).unwrap_or_default()
    }

    /// Whether case tells the names in this folder apart: version 1 of at most 0, which
    /// nothing else uses. From memory; where it is another way, case is not minded, as in all other folders.
    pub(super) fn minds_case(&self) -> bool {
        let word = |at: usize| self.resident(kind::STANDARD_INFORMATION).and_then(|bytes| u32(bytes, at));
        self.is_folder() && word(36) == Some(0) && word(40) == Some(1)
    }
}

/// An entry in a list of attributes.
pub(super) struct Listed {
    /// The attribute's kind.
    pub(super) kind: u32,
    /// Its first cluster, of a piece.
    pub(super) first: u64,
    /// The record that it is in, with its sequence number.
    pub(super) record: u64,
    /// Its number there.
    pub(super) id: u16,
}

/// Reads a list of attributes; `None` when it is damaged.
pub(super) fn listed(list: &[u8]) -> Option<Vec<Listed>> {
    let mut found = Vec::new();
    let mut rest = list;
    while rest.len() >= 26 {
        let len = usize::from(u16(rest, 4)?);
        if len < 26 {
            return None;
        }
        found.push(Listed { kind: u32(rest, 0)?, first: u64(rest, 8)?, record: u64(rest, 16)?, id: u16(rest, 24)? });
        // The last one may be cut behind its name.
        rest = rest.get(len..).unwrap_or_default();
    }
    Some(found)
}

/// Adds a piece of an attribute to those that are there.
fn join(attributes: &mut Vec<Attribute>, first: u64, piece: Attribute) -> Result<(), &'static str> {
    if first == 0 {
        attributes.push(piece);
        return Ok(());
    }
    let same = |known: &&mut Attribute| known.kind == piece.kind && known.name == piece.name;
    let Some(Value::Mapped(whole)) = attributes.iter_mut().rev().find(same).map(|known| &mut known.value) else {
        return Err("has a later piece of an attribute and not the first");
    };
    let Value::Mapped(Mapped { runs, .. }) = piece.value else { return Err("has a piece of what has no pieces") };
    if whole.runs.last().map_or(0, |run| run.end()) != first {
        return Err("has an attribute with a gap");
    }
    runs.into_iter().for_each(|run| runs::push(&mut whole.runs, run));
    Ok(())
}

impl Ntfs {
    /// The file whose first record has this number.
    ///
    /// # Errors
    /// [`crate::Error::Damaged`]; those of reading.
    pub(super) fn file(&self, number: u64) -> Result<Arc<File>> {
        let mut kept = self.kept.borrow_mut();
        if let Some(place) = kept.iter().position(|file| file.number == number) {
            let file = kept.remove(place);
            kept.insert(0, file.clone());
            return Ok(file);
        }
        let file = Arc::new(self.read_file(self.record(number)?)?);
        kept.truncate(KEPT - 1);
        kept.insert(0, file.clone());
        Ok(file)
    }

    /// The file that a folder or a record refers to by number and sequence number.
    ///
    /// # Errors
    /// As [`Ntfs::file`].
    pub(super) fn referred(&self, reference: u64) -> Result<Arc<File>> {
        let (number, sequence) = (reference & NUMBER, reference >> 48);
        let file = self.file(number)?;
        if u64::from(file.sequence) != sequence {
            let what =
                format!("a folder means file {number} with sequence number {sequence}, and it has {}", file.sequence);
            return Err(self.device.damaged(what));
        }
        Ok(file)
    }

    /// Reads all attributes of the file that begins in `base`.
    pub(super) fn read_file(&self, base: Record) -> Result<File> {
        let number = base.number;
        let damaged = |what: &str| self.device.damaged(format!("file record {number} {what}"));
        if !base.is_used() || base.base() != 0 {
            return Err(damaged("is none of a file"));
        }
        let mut hold = self.device.bench().budget().hold();
        let mut own = Vec::new();
        let (mut list, mut attributes) = (None, Vec::new());
        for (first, attribute) in base.attributes(self.geometry.clusters).map_err(damaged)? {
            hold.grow(attribute.weight())?;
            match attribute.kind {
                kind::ATTRIBUTE_LIST => list = Some(attribute),
                _ => own.push((first, attribute)),
            }
        }
        let records = match list {
            Some(list) => self.read_listed(&base, &list, own, &mut attributes, &mut hold)?,
            None => {
                let mut each = own.into_iter();
                each.try_for_each(|(first, attribute)| join(&mut attributes, first, attribute)).map_err(damaged)?;
                Vec::new()
            }
        };
        Ok(File {
            number,
            sequence: base.sequence(),
            flags: base.flags(),
            links: base.links(),
            attributes,
            records,
            _hold: hold,
        })
    }

    /// Reads what a list of attributes names, some of it `own` ones of the first record. Gives the further records.
    fn read_listed(
        &self,
        base: &Record,
        list: &Attribute,
        own: Vec<(u64, Attribute)>,
        attributes: &mut Vec<Attribute>,
        hold: &mut Hold,
    ) -> Result<Vec<u64>> {
        let number = base.number;
        let damaged = |what: &str| self.device.damaged(format!("file record {number} {what}"));
        let mut records = Vec::new();
        if list.size() > MAX_LIST {
            return Err(damaged("has a list of attributes that is too long"));
        }
        let entries = listed(&self.all_of(list)?).ok_or_else(|| damaged("has a damaged list of attributes"))?;
        // Pieces of each record that are still to be found.
        let mut pieces = std::collections::HashMap::from([(number, own)]);
        for entry in entries {
            let record = entry.record & NUMBER;
            if let std::collections::hash_map::Entry::Vacant(place) = pieces.entry(record) {
                let further = self.record(record)?;
                if !further.is_used() || further.base() != (number | u64::from(base.sequence()) << 48) {
                    return Err(damaged(&format!("counts record {record}, which belongs to another file")));
                }
                let found = further.attributes(self.geometry.clusters).map_err(damaged)?;
                hold.grow(found.iter().map(|(_, attribute)| attribute.weight()).sum())?;
                place.insert(found);
                records.push(record);
            }
            let of_record = pieces.entry(record).or_default();
            let found = of_record.iter().position(|(_, one)| one.kind == entry.kind && one.id == entry.id);
            // What is listed twice has been taken already, and is not there a second time.
            let (first, piece) = found
                .map(|place| of_record.remove(place))
                .ok_or_else(|| damaged(&format!("lists an attribute that record {record} does not have")))?;
            join(attributes, first, piece).map_err(damaged)?;
        }
        // What is not listed would be lost when the file is written.
        if pieces.values().any(|left| !left.is_empty()) {
            return Err(damaged("has an attribute that its list does not name"));
        }
        Ok(records)
    }
}
