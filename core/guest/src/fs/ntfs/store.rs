//! Writing a file's attributes into its records: the first one alone where they fit, and a list of attributes with further records
//! where they do not.

use super::{
    Ntfs,
    file::File,
    index,
    record::{Attribute, IN_USE, Mapped, Record, Value, flag, kind},
    runs::{self, Run},
    stream::fix,
};
use crate::error::Result;

/// Bytes behind the last attribute: its end mark, and as many again.
const END: usize = 8;
/// Lists that are longer do not stay in the record.
const RESIDENT_LIST: usize = 256;

/// An attribute, or a piece of one, as it lies in a record.
struct Piece {
    kind: u32,
    name: Vec<u16>,
    first: u64,
    /// Its bytes, with a number that is still to be given.
    bytes: Vec<u8>,
    /// The number that it had.
    id: Option<u16>,
}

fn put(bytes: &mut [u8], at: usize, value: &[u8]) {
    if let Some(place) = bytes.get_mut(at..at + value.len()) {
        place.copy_from_slice(value);
    }
}

/// The head of an attribute, with its name behind `head` bytes.
fn begun(attribute: &Attribute, head: usize, is_mapped: bool) -> Vec<u8> {
    let mut bytes = vec![0; head];
    put(&mut bytes, 0, &attribute.kind.to_le_bytes());
    put(&mut bytes, 8, &[is_mapped.into(), u8::try_from(attribute.name.len()).unwrap_or(u8::MAX)]);
    put(&mut bytes, 10, &u16::try_from(head).unwrap_or_default().to_le_bytes());
    put(&mut bytes, 12, &attribute.flags.to_le_bytes());
    attribute.name.iter().for_each(|unit| bytes.extend(unit.to_le_bytes()));
    bytes.resize(bytes.len().next_multiple_of(8), 0);
    bytes
}

fn ended(mut bytes: Vec<u8>) -> Vec<u8> {
    bytes.resize(bytes.len().next_multiple_of(8), 0);
    let len = u32::try_from(bytes.len()).unwrap_or_default();
    put(&mut bytes, 4, &len.to_le_bytes());
    bytes
}

/// A value as it lies in a record.
fn resident(attribute: &Attribute, value: &[u8], indexed: u8) -> Vec<u8> {
    let mut bytes = begun(attribute, 24, false);
    let at = u16::try_from(bytes.len()).unwrap_or_default();
    put(&mut bytes, 16, &u32::try_from(value.len()).unwrap_or_default().to_le_bytes());
    put(&mut bytes, 20, &at.to_le_bytes());
    put(&mut bytes, 22, &[indexed]);
    bytes.extend(value);
    ended(bytes)
}

/// A piece of a value in clusters.
fn mapped(attribute: &Attribute, value: &Mapped, piece: &[Run], cluster: u64) -> Vec<u8> {
    let first = piece.first().map_or(0, |run| run.vcn);
    // What is not all there says in its first piece how much of it is.
    let says_more = first == 0 && attribute.flags & (flag::COMPRESSED | flag::SPARSE) != 0;
    let mut bytes = begun(attribute, if says_more { 72 } else { 64 }, true);
    let last = piece.last().map_or(first, |run| run.end()).wrapping_sub(1);
    let at = u16::try_from(bytes.len()).unwrap_or_default();
    put(&mut bytes, 16, &first.to_le_bytes());
    put(&mut bytes, 24, &last.to_le_bytes());
    put(&mut bytes, 32, &at.to_le_bytes());
    put(&mut bytes, 34, &[value.unit]);
    if first == 0 {
        put(&mut bytes, 40, &value.allocated.to_le_bytes());
        put(&mut bytes, 48, &value.size.to_le_bytes());
        put(&mut bytes, 56, &value.initialized.to_le_bytes());
    }
    if says_more {
        // Runs that a stranger wrote may name the same clusters any number of times.
        let there =
            value.runs.iter().filter(|run| run.lcn.is_some()).fold(0_u64, |sum, run| sum.saturating_add(run.len));
        put(&mut bytes, 64, &there.saturating_mul(cluster).to_le_bytes());
    }
    bytes.extend(runs::encode(piece));
    ended(bytes)
}

fn whole(attribute: &Attribute, cluster: u64) -> Vec<u8> {
    match &attribute.value {
        Value::Resident { bytes, indexed } => resident(attribute, bytes, *indexed),
        Value::Mapped(value) => mapped(attribute, value, &value.runs, cluster),
    }
}

/// Pieces of an attribute of at most `room` bytes each.
fn pieces(attribute: &Attribute, room: usize, cluster: u64) -> Vec<Piece> {
    let piece = |first, bytes, id| Piece { kind: attribute.kind, name: attribute.name.clone(), first, bytes, id };
    let all = whole(attribute, cluster);
    let Value::Mapped(value) = &attribute.value else { return vec![piece(0, all, Some(attribute.id))] };
    if all.len() <= room {
        return vec![piece(0, all, Some(attribute.id))];
    }
    let mut found = Vec::new();
    let mut rest = value.runs.as_slice();
    while !rest.is_empty() {
        // As many runs as fit: at least one does.
        let (mut fits, mut too_many) = (1, rest.len() + 1);
        while fits + 1 < too_many {
            let middle = fits.midpoint(too_many);
            let tried = rest.get(..middle).map_or(usize::MAX, |runs| mapped(attribute, value, runs, cluster).len());
            if tried <= room { fits = middle } else { too_many = middle }
        }
        let (now, later) = rest.split_at(fits.min(rest.len()));
        found.push(piece(now.first().map_or(0, |run| run.vcn), mapped(attribute, value, now, cluster), None));
        rest = later;
    }
    found
}

impl Ntfs {
    /// The order in which attributes lie in a record.
    fn order(&self, one: &Piece, other: &Piece) -> std::cmp::Ordering {
        (one.kind.cmp(&other.kind))
            .then_with(|| self.upcase.order(&one.name, &other.name))
            .then_with(|| one.first.cmp(&other.first))
    }

    /// Bytes that attributes have in a record which begins them at `at`.
    fn room(&self, at: usize) -> usize {
        self.geometry.record.saturating_sub(at + END)
    }

    /// Where attributes begin in a record that we make.
    pub(super) fn attributes_at(&self) -> usize {
        (48 + 2 * (self.geometry.record / super::record::STRIDE + 1)).next_multiple_of(8)
    }

    /// Writes a file as it is to be: attributes into its records, which grow in number or shrink.
    ///
    /// # Errors
    /// [`crate::Error::NoRoom`]; those of reading and writing.
    pub(super) fn store(&mut self, mut file: File) -> Result<()> {
        if file.number == super::number::MFT && !file.records.is_empty() {
            return self.store_in_place(&file);
        }
        let base = self.record(file.number)?;
        let room = self.room(base.attributes_at().start);
        let cluster = self.geometry.cluster;
        let len = |file: &File| file.attributes.iter().map(|one| whole(one, cluster).len()).sum::<usize>();
        // What can lie in clusters goes there before the record gets a second one, the largest first.
        while len(&file) > room {
            let movable = file.attributes.iter_mut().filter(|one| {
                let can_move = kind::MOVABLE.contains(&one.kind) && one.flags == 0;
                can_move && one.resident().is_some_and(|value| value.len() > 64)
            });
            let Some(largest) = movable.max_by_key(|one| one.size()) else { break };
            self.move_to_clusters(largest)?;
        }
        if len(&file) <= room {
            let all: Vec<Piece> = file.attributes.iter().flat_map(|one| pieces(one, usize::MAX, cluster)).collect();
            // Numbers are those that they had, unless they came from several records.
            let keeps_ids = file.records.is_empty();
            let spare = std::mem::take(&mut file.records);
            self.write_base(base, &file, all, keeps_ids)?;
            return spare.into_iter().try_for_each(|record| self.free_record(record));
        }
        self.store_in_many(base, room, file)
    }

    /// Writes the list of all file records where its pieces lie: the records that say where others are must be found before those,
    /// so none of them moves. The last piece takes what was added.
    ///
    /// # Errors
    /// [`crate::Error::Unsupported`] when it has no room there.
    fn store_in_place(&mut self, file: &File) -> Result<()> {
        let damaged = |fs: &Self, what: &str| fs.device.damaged(format!("file record {} {what}", file.number));
        let (clusters, cluster) = (self.geometry.clusters, self.geometry.cluster);
        let records: Vec<u64> = std::iter::once(file.number).chain(file.records.iter().copied()).collect();
        let mut old = Vec::new();
        for number in records {
            let record = self.record(number)?;
            let pieces = record.attributes(clusters).map_err(|what| damaged(self, what))?;
            old.push((record, pieces));
        }
        let firsts: Vec<(u32, Vec<u16>, u64)> = old
            .iter()
            .flat_map(|(_, all)| all.iter().map(|(first, one)| (one.kind, one.name.clone(), *first)))
            .collect();
        for (record, all) in old {
            let pieces = all.into_iter().map(|(first, one)| {
                // Where the next piece of the same begins, this one ends.
                let same =
                    |known: &&(u32, Vec<u16>, u64)| known.0 == one.kind && known.1 == one.name && known.2 > first;
                let end = firsts.iter().filter(same).map(|known| known.2).min().unwrap_or(u64::MAX);
                let bytes = match file.find(one.kind, &one.name) {
                    Some(Attribute { value: Value::Mapped(value), .. }) => {
                        mapped(&one, value, &runs::cut(&value.runs, first..end), cluster)
                    }
                    // Names are several of a kind, and do not change.
                    Some(new) if one.kind != kind::FILE_NAME => whole(new, cluster),
                    _ => whole(&one, cluster),
                };
                Piece { kind: one.kind, name: one.name, first, bytes, id: Some(one.id) }
            });
            let (number, at) = (record.number, record.attributes_at().start);
            let bytes = self.with_attributes(record.bytes.clone(), at, pieces.collect(), true)?;
            if bytes != record.bytes {
                self.write_record(number, bytes)?;
            }
        }
        Ok(())
    }

    /// The same with a list of attributes.
    fn store_in_many(&mut self, base: Record, room: usize, mut file: File) -> Result<()> {
        if file.number == super::number::MFT {
            return Err(self
                .device
                .unchangeable("the list of its file records is in more pieces than one record can name"));
        }
        let cluster = self.geometry.cluster;
        let at = self.attributes_at();
        let further_room = self.room(at);
        let mut all: Vec<Piece> = file.attributes.iter().flat_map(|one| pieces(one, further_room, cluster)).collect();
        all.iter_mut().for_each(|piece| piece.id = None);
        let listed = |pieces: &[Piece]| -> usize {
            pieces.iter().map(|one| (26 + 2 * one.name.len()).next_multiple_of(8)).sum()
        };
        let list_len = listed(&all);
        let is_long = list_len > RESIDENT_LIST;
        let list_room = if is_long { 64 + 64 } else { 24 + list_len.next_multiple_of(8) };
        // The smallest stay; the standard information always does.
        all.sort_by_key(|piece| (piece.kind != kind::STANDARD_INFORMATION, piece.bytes.len()));
        let mut left = room.saturating_sub(list_room);
        let (mut stay, mut go): (Vec<Piece>, Vec<Piece>) = (Vec::new(), Vec::new());
        for piece in all {
            if piece.bytes.len() <= left && go.is_empty() {
                left -= piece.bytes.len();
                stay.push(piece);
            } else {
                go.push(piece);
            }
        }
        go.sort_by(|one, other| self.order(one, other));
        let mut records: Vec<Vec<Piece>> = Vec::new();
        let mut used = 0;
        for piece in go {
            if records.is_empty() || used + piece.bytes.len() > further_room {
                records.push(Vec::new());
                used = 0;
            }
            used += piece.bytes.len();
            if let Some(last) = records.last_mut() {
                last.push(piece);
            }
        }
        let mut numbers = std::mem::take(&mut file.records);
        for spare in numbers.split_off(numbers.len().min(records.len())) {
            self.free_record(spare)?;
        }
        while numbers.len() < records.len() {
            numbers.push(self.take_record()?.0);
        }
        // Where each piece is, in the order of the list.
        let mut entries: Vec<(Piece, u64, u16)> = Vec::new();
        let first = stay.iter().filter(|piece| piece.kind == kind::STANDARD_INFORMATION).count();
        for (place, piece) in stay.iter().enumerate() {
            let id = u16::try_from(place + usize::from(place >= first)).unwrap_or(u16::MAX);
            let copy =
                Piece { kind: piece.kind, name: piece.name.clone(), first: piece.first, bytes: Vec::new(), id: None };
            entries.push((copy, file.reference(), id));
        }
        for (number, mut pieces) in numbers.iter().zip(records) {
            let old = self.record(*number)?;
            let reference = *number | u64::from(old.sequence()) << 48;
            pieces.sort_by(|one, other| self.order(one, other));
            for (id, piece) in pieces.iter().enumerate() {
                let copy = Piece {
                    kind: piece.kind,
                    name: piece.name.clone(),
                    first: piece.first,
                    bytes: Vec::new(),
                    id: None,
                };
                entries.push((copy, reference, u16::try_from(id).unwrap_or(u16::MAX)));
            }
            let mut bytes = self.new_record(*number, old.sequence(), IN_USE);
            put(&mut bytes, 32, &file.reference().to_le_bytes());
            let bytes = self.with_attributes(bytes, at, pieces, false)?;
            self.write_record(*number, bytes)?;
        }
        entries.sort_by(|(one, ..), (other, ..)| self.order(one, other));
        let mut list = Vec::new();
        for (piece, record, id) in &entries {
            let mut entry = vec![0; 26];
            put(&mut entry, 0, &piece.kind.to_le_bytes());
            put(&mut entry, 6, &[u8::try_from(piece.name.len()).unwrap_or(u8::MAX), 26]);
            put(&mut entry, 8, &piece.first.to_le_bytes());
            put(&mut entry, 16, &record.to_le_bytes());
            put(&mut entry, 24, &id.to_le_bytes());
            piece.name.iter().for_each(|unit| entry.extend(unit.to_le_bytes()));
            entry.resize(entry.len().next_multiple_of(8), 0);
            let len = u16::try_from(entry.len()).unwrap_or_default();
            put(&mut entry, 4, &len.to_le_bytes());
            list.extend(entry);
        }
        let value = Value::Resident { bytes: list, indexed: 0 };
        let id = u16::try_from(first).unwrap_or_default();
        let mut list = Attribute { kind: kind::ATTRIBUTE_LIST, name: Vec::new(), flags: 0, id, value };
        // The clusters of the list before are free for the new one.
        self.free_list(&base)?;
        if is_long {
            self.move_to_clusters(&mut list)?;
        }
        let mut own = stay;
        own.insert(
            first,
            Piece { kind: list.kind, name: Vec::new(), first: 0, bytes: whole(&list, cluster), id: None },
        );
        own.iter_mut().enumerate().for_each(|(id, piece)| piece.id = u16::try_from(id).ok());
        self.write_pieces(base, &file, own, true)
    }

    /// Gives back the clusters of a record's list of attributes.
    fn free_list(&mut self, base: &Record) -> Result<()> {
        let damaged = |what: &str| self.device.damaged(format!("file record {} {what}", base.number));
        let own = base.attributes(self.geometry.clusters).map_err(damaged)?;
        match own.into_iter().find(|(_, one)| one.kind == kind::ATTRIBUTE_LIST) {
            Some((_, Attribute { value: Value::Mapped(mapped), .. })) => self.give_back(&mapped.runs),
            _ => Ok(()),
        }
    }

    fn write_base(&mut self, base: Record, file: &File, pieces: Vec<Piece>, keeps_ids: bool) -> Result<()> {
        self.free_list(&base)?;
        self.write_pieces(base, file, pieces, keeps_ids)
    }

    fn write_pieces(&mut self, base: Record, file: &File, mut pieces: Vec<Piece>, keeps_ids: bool) -> Result<()> {
        pieces.sort_by(|one, other| self.order(one, other));
        let at = base.attributes_at().start;
        let mut bytes = base.bytes;
        put(&mut bytes, 18, &file.links.to_le_bytes());
        put(&mut bytes, 22, &file.flags.to_le_bytes());
        let bytes = self.with_attributes(bytes, at, pieces, keeps_ids)?;
        self.write_record(file.number, bytes)
    }

    /// The record `bytes` with these attributes from `at` on.
    fn with_attributes(&self, mut bytes: Vec<u8>, at: usize, pieces: Vec<Piece>, keeps_ids: bool) -> Result<Vec<u8>> {
        let known = pieces.iter().filter_map(|piece| piece.id).filter(|id| *id != NEW).max();
        // Where they have nearly run out, all are given anew.
        let known = known.filter(|highest| keeps_ids && usize::from(*highest) + pieces.len() < usize::from(NEW));
        let keeps_ids = known.is_some();
        let mut next = match known {
            Some(highest) => highest + 1,
            None => 0,
        };
        bytes.truncate(at);
        for mut piece in pieces {
            let id = match piece.id.filter(|id| keeps_ids && *id != NEW) {
                Some(id) => id,
                None => {
                    next += 1;
                    next - 1
                }
            };
            put(&mut piece.bytes, 14, &id.to_le_bytes());
            bytes.extend(piece.bytes);
        }
        let used = u32::try_from(bytes.len() + END).unwrap_or_default();
        bytes.extend(kind::END.to_le_bytes());
        if bytes.len() + END / 2 > self.geometry.record {
            return Err(self.device.unchangeable("a file has more attributes than its records can hold"));
        }
        bytes.resize(self.geometry.record, 0);
        put(&mut bytes, 24, &used.to_le_bytes());
        put(&mut bytes, 40, &next.to_le_bytes());
        Ok(bytes)
    }

    /// Writes a record, and its copy where it has one.
    pub(super) fn write_record(&mut self, number: u64, mut bytes: Vec<u8>) -> Result<()> {
        let size = self.geometry.record as u64;
        let fixed = fix(&mut bytes);
        let mft =
            Attribute { kind: kind::DATA, name: Vec::new(), flags: 0, id: 0, value: Value::Mapped(self.mft.clone()) };
        self.overwrite(&mft, number * size, &fixed)?;
        let copies = 4.max(self.geometry.cluster / size);
        if number < copies && number < self.mirrored {
            self.device.write(self.geometry.mirror * self.geometry.cluster + number * size, &fixed)?;
        }
        self.kept.borrow_mut().retain(|file| file.number != number && !file.records.contains(&number));
        Ok(())
    }
}

/// The number of an attribute that has none yet.
pub(super) const NEW: u16 = u16::MAX;

/// An attribute that is new.
pub(super) fn made(kind: u32, name: &[u16], bytes: Vec<u8>) -> Attribute {
    let indexed = u8::from(kind == kind::FILE_NAME);
    Attribute { kind, name: name.into(), flags: 0, id: NEW, value: Value::Resident { bytes, indexed } }
}

/// The root of an empty folder's index.
pub(super) fn empty_root(block: usize, cluster: u64) -> Vec<u8> {
    let mut root = vec![0; 32];
    let unit = if block as u64 >= cluster { cluster } else { 512 };
    put(&mut root, 0, &kind::FILE_NAME.to_le_bytes());
    put(&mut root, 4, &1_u32.to_le_bytes());
    put(&mut root, 8, &u32::try_from(block).unwrap_or_default().to_le_bytes());
    put(&mut root, 12, &[u8::try_from(block as u64 / unit).unwrap_or_default()]);
    index::root_with(&root, &[index::Entry::last(None)])
}
