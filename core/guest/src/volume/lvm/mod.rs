//! LVM2: logical volumes, read from the metadata that every physical volume holds (LVM2 sources, `lib/format_text/layout.h`
//! and `lib/label/label.h`; `man 5 lvm`). Linear and striped volumes are opened; others are named.

mod header;
mod text;

use std::{collections::HashMap, sync::Arc};

use reformis_disk::budget::Held;

use crate::{
    bench::{Bench, Device, Layout, Piece},
    error::{Error, Result},
};
use text::Section;

/// Segments of one volume.
const MAX_SEGMENTS: u64 = 65_536;

/// A logical volume.
#[derive(Clone)]
pub(crate) struct Logical {
    /// Volume group and volume, as `group/volume`.
    pub(crate) name: String,
    /// Its bytes; or why they cannot be read.
    pub(crate) device: Result<Device, String>,
}

/// A physical volume: its UUID without dashes, and where it lies.
struct Physical {
    disk: usize,
    start: u64,
    size: u64,
}

/// The logical volumes on the physical volumes at `places` (disk, first byte, length), in order of their names.
///
/// # Errors
/// Those of the disks; metadata that is not sound is left out.
pub(crate) fn volumes(bench: &Arc<Bench>, places: &[(usize, u64, u64)]) -> Result<Vec<Logical>> {
    let mut physical = HashMap::new();
    // The newest metadata of each group, by its UUID.
    let mut groups: HashMap<String, (u64, String, Held<Section>)> = HashMap::new();
    for &(disk, start, size) in places {
        let device = Device::part(bench, disk, start, size, "a physical volume");
        let label = match header::read(&device) {
            Ok(Some(label)) => label,
            Err(error @ Error::Disk(_)) => return Err(error),
            // What leads beyond its device is no physical volume.
            Ok(None) | Err(_) => continue,
        };
        physical.insert(label.uuid.clone(), Physical { disk, start, size });
        for text in label.metadata {
            let hold = bench.budget().take(text::memory(&text))?;
            let Some((name, group)) = text::parse(&text).and_then(|file| file.sections.into_iter().next()) else {
                continue;
            };
            let group = hold.of(group);
            let (Some(id), Some(seqno)) = (group.string("id"), group.number("seqno")) else { continue };
            if groups.get(id).is_none_or(|(known, ..)| *known < seqno) {
                groups.insert(id.to_string(), (seqno, name, group));
            }
        }
    }
    let mut found: Vec<Logical> =
        groups.values().flat_map(|(_, name, group)| of_group(bench, name, group, &physical)).collect();
    found.sort_by(|a, b| a.name.cmp(&b.name));
    Ok(found)
}

fn of_group(bench: &Arc<Bench>, name: &str, group: &Section, physical: &HashMap<String, Physical>) -> Vec<Logical> {
    let Some(volumes) = group.section("logical_volumes") else { return Vec::new() };
    // What stands below others is not for mounting.
    let visible =
        volumes.sections.iter().filter(|(_, section)| section.strings("status").any(|status| status == "VISIBLE"));
    let opened = visible.map(|(volume, section)| {
        let name = format!("{name}/{volume}");
        let device = pieces(bench, group, section, physical).map(|pieces| Device::of_pieces(bench, pieces, &name));
        Logical { name, device }
    });
    opened.collect()
}

fn pieces(
    bench: &Arc<Bench>,
    group: &Section,
    volume: &Section,
    physical: &HashMap<String, Physical>,
) -> Result<Vec<Piece>, String> {
    let broken = || "its metadata is not sound".to_string();
    let extent = group.number("extent_size").and_then(|sectors| sectors.checked_mul(512)).ok_or_else(broken)?;
    let count = volume.number("segment_count").filter(|count| *count <= MAX_SEGMENTS).ok_or_else(broken)?;
    let mut pieces: Vec<Piece> = Vec::new();
    for number in 1..=count {
        let segment = volume.section(&format!("segment{number}")).ok_or_else(broken)?;
        let bytes = |key: &str| segment.number(key).and_then(|extents| extents.checked_mul(extent)).ok_or_else(broken);
        let (start, len) = (bytes("start_extent")?, bytes("extent_count")?);
        let kind = segment.string("type").ok_or_else(broken)?;
        if kind != "striped" && kind != "linear" {
            return Err(format!("it is of the kind '{kind}', which is not read here"));
        }
        if start != pieces.last().map_or(0, |last| last.start + last.len)
            || len == 0
            || start.checked_add(len).is_none()
        {
            return Err(broken());
        }
        let legs = legs(bench, group, segment, physical, extent, len)?;
        let layout = match legs[..] {
            [(disk, at)] => Layout::Linear(disk, at),
            _ => {
                let stripe = segment.number("stripe_size").and_then(|sectors| sectors.checked_mul(512));
                let each = len / legs.len() as u64;
                let stripe = stripe.filter(|stripe| *stripe > 0 && each.is_multiple_of(*stripe)).ok_or_else(broken)?;
                Layout::Striped(stripe, legs)
            }
        };
        pieces.push(Piece { start, len, layout });
    }
    Ok(pieces)
}

/// Where the stripes of a segment of `len` bytes begin: disk and byte.
#[expect(clippy::indexing_slicing, reason = "a chunk of two has two")]
fn legs(
    bench: &Arc<Bench>,
    group: &Section,
    segment: &Section,
    physical: &HashMap<String, Physical>,
    extent: u64,
    len: u64,
) -> Result<Vec<(usize, u64)>, String> {
    let broken = || "its metadata is not sound".to_string();
    let stripes = segment.list("stripes").ok_or_else(broken)?;
    let pairs = stripes.chunks_exact(2);
    let each = len.checked_div(pairs.len() as u64).ok_or_else(broken)?;
    pairs
        .map(|pair| {
            let (Some(name), Some(first)) = (pair[0].as_string(), pair[1].as_number()) else { return Err(broken()) };
            let described = group.section("physical_volumes").and_then(|all| all.section(name)).ok_or_else(broken)?;
            let id: String = described.string("id").ok_or_else(broken)?.replace('-', "");
            let Some(place) = physical.get(&id) else {
                return Err(format!("its physical volume {name} is on none of the disks here"));
            };
            let data = described.number("pe_start").and_then(|sectors| sectors.checked_mul(512)).ok_or_else(broken)?;
            let inside = first.checked_mul(extent).and_then(|at| at.checked_add(data)).ok_or_else(broken)?;
            let end = inside.checked_add(each).ok_or_else(broken)?;
            if end > place.size || place.start + end > bench.size(place.disk) {
                return Err("it leads beyond its physical volume".into());
            }
            Ok((place.disk, place.start + inside))
        })
        .collect()
}
