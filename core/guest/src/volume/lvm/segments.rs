//! Where the bytes of a logical volume lie: its segments, and those of the volumes that it is made of.

use std::{collections::HashMap, sync::Arc};

use reformis_disk::budget::Hold;

use super::{Physical, text::Section};
use crate::bench::{Bench, Device, Layout, Piece};

/// Segments of one volume.
const MAX_SEGMENTS: u64 = 65_536;
/// Volumes that are made of others that are made of others.
const MAX_DEPTH: usize = 8;

/// A group, as one of its volumes is put together.
pub(super) struct Group<'g> {
    pub(super) bench: &'g Arc<Bench>,
    pub(super) group: &'g Section,
    pub(super) physical: &'g HashMap<String, Physical>,
}

/// How a volume lies.
pub(super) struct Lay {
    /// Ascending and without gaps.
    pub(super) pieces: Vec<Piece>,
    /// Why it is only read.
    pub(super) sealed: Option<&'static str>,
    hold: Hold,
}

pub(super) fn broken() -> String {
    "its metadata is not sound".into()
}

impl Lay {
    pub(super) fn new(bench: &Arc<Bench>) -> Self {
        Self { pieces: Vec::new(), sealed: None, hold: bench.budget().hold() }
    }

    /// Bytes.
    pub(super) fn len(&self) -> u64 {
        self.pieces.last().map_or(0, |piece| piece.start + piece.len)
    }

    /// Adds `len` bytes behind the others, joined to the last where they go on from it.
    pub(super) fn push(&mut self, len: u64, layout: Layout) -> Result<(), String> {
        let start = self.len();
        if let Some(last) = self.pieces.last_mut() {
            let goes_on = match (&last.layout, &layout) {
                (Layout::Linear(disk, at), Layout::Linear(other, next)) => disk == other && at + last.len == *next,
                (Layout::Nowhere, Layout::Nowhere) => true,
                _ => false,
            };
            if goes_on {
                last.len += len;
                return Ok(());
            }
        }
        self.hold.grow(size_of::<Piece>() as u64).map_err(|error| error.to_string())?;
        self.pieces.push(Piece { start, len, layout });
        Ok(())
    }

    /// Adds a part of another volume behind the others.
    pub(super) fn push_part(&mut self, of: &Self, start: u64, len: u64) -> Result<(), String> {
        let end = start.checked_add(len).filter(|end| *end <= of.len()).ok_or_else(broken)?;
        let first = of.pieces.partition_point(|piece| piece.start + piece.len <= start);
        for piece in of.pieces.iter().skip(first).take_while(|piece| piece.start < end) {
            let (from, to) = (piece.start.max(start), (piece.start + piece.len).min(end));
            let inside = from - piece.start;
            let layout = match &piece.layout {
                Layout::Linear(disk, at) => Layout::Linear(*disk, at + inside),
                Layout::Mirrored(legs) => {
                    Layout::Mirrored(legs.iter().map(|(disk, at)| (*disk, at + inside)).collect())
                }
                Layout::Nowhere => Layout::Nowhere,
                // A part of stripes that is not a whole number of turns would begin with another leg.
                Layout::Striped(..) | Layout::Chunks(_) if from == piece.start && to == piece.start + piece.len => {
                    piece.layout.clone()
                }
                Layout::Striped(..) | Layout::Chunks(_) => {
                    return Err("it lies on a part of a striped volume, which is not read here".into());
                }
            };
            self.push(to - from, layout)?;
        }
        Ok(())
    }

    pub(super) fn device(self, bench: &Arc<Bench>, name: &str) -> Result<Device, String> {
        Ok(Device::of_pieces(bench, self.pieces, name).sealed(self.sealed, self.hold))
    }
}

impl Group<'_> {
    /// A volume of this group, by its name.
    pub(super) fn volume(&self, name: &str) -> Result<&Section, String> {
        self.group.section("logical_volumes").and_then(|all| all.section(name)).ok_or_else(broken)
    }

    /// How a volume that another one is made of lies.
    pub(super) fn lay_of(&self, name: &str, depth: usize) -> Result<Lay, String> {
        self.lay(self.volume(name)?, depth + 1)
    }

    /// A volume that another one is made of, to be read.
    pub(super) fn device_of(&self, name: &str, depth: usize) -> Result<Device, String> {
        self.lay_of(name, depth)?.device(self.bench, name)
    }

    /// The only segment of a volume.
    pub(super) fn only_segment<'s>(&self, volume: &'s Section) -> Result<&'s Section, String> {
        let one = volume.number("segment_count") == Some(1);
        volume.section("segment1").filter(|_| one).ok_or_else(broken)
    }

    pub(super) fn lay(&self, volume: &Section, depth: usize) -> Result<Lay, String> {
        if depth > MAX_DEPTH {
            return Err(broken());
        }
        let extent =
            self.group.number("extent_size").and_then(|sectors| sectors.checked_mul(512)).ok_or_else(broken)?;
        let count = volume.number("segment_count").filter(|count| *count <= MAX_SEGMENTS).ok_or_else(broken)?;
        let mut lay = Lay::new(self.bench);
        for number in 1..=count {
            let segment = volume.section(&format!("segment{number}")).ok_or_else(broken)?;
            let bytes =
                |key: &str| segment.number(key).and_then(|extents| extents.checked_mul(extent)).ok_or_else(broken);
            let (start, len) = (bytes("start_extent")?, bytes("extent_count")?);
            if start != lay.len() || len == 0 || start.checked_add(len).is_none() {
                return Err(broken());
            }
            match segment.string("type").ok_or_else(broken)? {
                "striped" | "linear" => self.stripes(&mut lay, segment, extent, len)?,
                "raid1" => self.mirrored(&mut lay, segment, len, depth)?,
                "thin" => self.thin(&mut lay, segment, len, depth)?,
                "cache" => self.cached(&mut lay, segment, len, depth)?,
                kind => return Err(format!("it is of the kind '{kind}', which is not read here")),
            }
            if lay.len() != start + len {
                return Err(broken());
            }
        }
        Ok(lay)
    }

    fn stripes(&self, lay: &mut Lay, segment: &Section, extent: u64, len: u64) -> Result<(), String> {
        let legs = self.legs(segment, extent, len)?;
        match legs[..] {
            // Parts of a mirror, and of what a pool holds, are other volumes.
            [Leg::Volume(ref name, at)] => lay.push_part(&self.lay_of(name, 1)?, at, len),
            [Leg::Disk(disk, at)] => lay.push(len, Layout::Linear(disk, at)),
            _ => {
                let stripe = segment.number("stripe_size").and_then(|sectors| sectors.checked_mul(512));
                let each = len / legs.len() as u64;
                let stripe = stripe.filter(|stripe| *stripe > 0 && each.is_multiple_of(*stripe)).ok_or_else(broken)?;
                let on_disks = legs.iter().map(|leg| match leg {
                    Leg::Disk(disk, at) => Some((*disk, *at)),
                    Leg::Volume(..) => None,
                });
                lay.push(len, Layout::Striped(stripe, on_disks.collect::<Option<_>>().ok_or_else(broken)?))
            }
        }
    }

    /// Where the stripes of a segment of `len` bytes begin.
    #[expect(clippy::indexing_slicing, reason = "a chunk of two has two")]
    fn legs(&self, segment: &Section, extent: u64, len: u64) -> Result<Vec<Leg>, String> {
        let stripes = segment.list("stripes").ok_or_else(broken)?;
        let pairs = stripes.chunks_exact(2);
        let each = len.checked_div(pairs.len() as u64).ok_or_else(broken)?;
        pairs
            .map(|pair| {
                let (Some(name), Some(first)) = (pair[0].as_string(), pair[1].as_number()) else {
                    return Err(broken());
                };
                let described = self.group.section("physical_volumes").and_then(|all| all.section(name));
                let Some(described) = described else {
                    return Ok(Leg::Volume(name.into(), first.checked_mul(extent).ok_or_else(broken)?));
                };
                let id: String = described.string("id").ok_or_else(broken)?.replace('-', "");
                let Some(place) = self.physical.get(&id) else {
                    return Err(format!("its physical volume {name} is on none of the disks here"));
                };
                let data = described.number("pe_start").and_then(|sectors| sectors.checked_mul(512));
                let data = data.ok_or_else(broken)?;
                let inside = first.checked_mul(extent).and_then(|at| at.checked_add(data)).ok_or_else(broken)?;
                let end = inside.checked_add(each).ok_or_else(broken)?;
                if end > place.size || place.start + end > self.bench.size(place.disk) {
                    return Err("it leads beyond its physical volume".into());
                }
                Ok(Leg::Disk(place.disk, place.start + inside))
            })
            .collect()
    }
}

/// Where a stripe begins.
enum Leg {
    /// Disk and byte.
    Disk(usize, u64),
    /// Another volume of the group, and the byte in it.
    Volume(String, u64),
}
