//! Software RAID of Linux: arrays, put together from the members on a guest's disks. Linear ones, RAID 0, 1 and 10 are read, and written where
//! their members are right; others are named.

mod superblock;

use std::{collections::BTreeMap, sync::Arc};

use reformis_disk::to_usize;
use serde::Serialize;
use superblock::Member;
use uuid::Uuid;

use crate::{
    bench::{Bench, Chunks, Device, Layout, Piece},
    error::Result,
};

/// Members of an array that are looked at.
const MOST: usize = 256;

/// An array.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct Array {
    /// As `mdadm.conf` and the early boot image call for it.
    pub uuid: Uuid,
    /// Its name, or number.
    pub name: String,
    /// `linear`, `RAID 0`, `RAID 1`, `RAID 10`, or what else it is.
    pub level: String,
    /// Which metadata: `0.90`, `1.0`, `1.1`, `1.2`.
    pub metadata: String,
    /// Members when all are there.
    pub members: usize,
    /// How many of them are not there, or are behind the others.
    pub missing: usize,
    /// Whether it was stopped with nothing left to be made the same.
    pub clean: bool,
}

impl Array {
    /// Its names below `/dev`.
    pub(crate) fn names(&self) -> Vec<String> {
        let mut names = vec![format!("md/{}", self.name), format!("disk/by-id/md-uuid-{}", colons(&self.uuid))];
        if self.name.chars().all(|c| c.is_ascii_digit()) {
            names.push(format!("md{}", self.name));
        }
        names
    }
}

/// A UUID as the RAID tools write it: four groups of eight digits.
pub(crate) fn colons(uuid: &Uuid) -> String {
    let digits = uuid.simple().to_string();
    let groups: Vec<&str> = (0..4).filter_map(|group| digits.get(group * 8..group * 8 + 8)).collect();
    groups.join(":")
}

/// Whether `device` is a member of an array.
///
/// # Errors
/// Those of reading.
pub(crate) fn is_member(device: &Device) -> Result<bool> {
    Ok(superblock::read(device)?.is_some())
}

/// An array, and its bytes or why they cannot be read.
pub(crate) struct Assembled {
    pub(crate) array: Array,
    pub(crate) device: Result<Device, String>,
}

/// The arrays of these members, in the order in which their first members come.
///
/// # Errors
/// Those of the disks.
pub(crate) fn arrays(bench: &Arc<Bench>, devices: &[Device]) -> Result<Vec<Assembled>> {
    let mut order = Vec::new();
    let mut groups: BTreeMap<Uuid, Vec<(Member, &Device)>> = BTreeMap::new();
    for device in devices.iter().take(MOST) {
        let Some(member) = superblock::read(device)? else { continue };
        if !order.contains(&member.uuid) {
            order.push(member.uuid);
        }
        groups.entry(member.uuid).or_default().push((member, device));
    }
    Ok(order.iter().filter_map(|uuid| assemble(bench, groups.get(uuid)?)).collect())
}

/// A member in its place: the disk, the first byte of its data, and how many there are.
type Leg = (usize, u64, u64);

fn assemble(bench: &Arc<Bench>, members: &[(Member, &Device)]) -> Option<Assembled> {
    // Who knows of most changes says what the array is.
    let (head, _) = members.iter().max_by_key(|(member, _)| member.events)?;
    let mut legs: Vec<Option<Leg>> = vec![None; head.disks.min(MOST)];
    for (member, device) in members {
        // While an array is stopped, one member may be told of it a step before the others.
        let is_fresh = member.events + 1 >= head.events;
        let is_alike = (member.level, member.layout, member.chunk, member.disks)
            == (head.level, head.layout, head.chunk, head.disks);
        let place = member.role.and_then(|role| legs.get_mut(role));
        if let (true, true, Some(place), (disk, start)) = (is_fresh, is_alike, place, device.base()) {
            let (first, len) = member.data;
            let fits = first.checked_add(len).is_some_and(|end| end <= device.size());
            if place.is_none() && fits {
                *place = Some((disk, start + first, len));
            }
        }
    }
    let missing = head.disks - legs.iter().flatten().count();
    let level = match head.level {
        -1 => "linear".to_string(),
        level => format!("RAID {level}"),
    };
    let array = Array {
        uuid: head.uuid,
        name: head.name.chars().filter(|c| !c.is_control() && *c != '/').collect(),
        level,
        metadata: head.version.into(),
        members: head.disks,
        missing,
        clean: head.is_clean || matches!(head.level, -1 | 0),
    };
    let name = format!("array {}", array.name);
    let device = lay(head, &legs, missing).map(|pieces| {
        let dirty = (!array.clean)
            .then_some("it was not stopped cleanly: start the machine once, and let its members become the same");
        Device::of_pieces(bench, pieces, &name).sealed(head.strange.or(dirty), bench.budget().hold())
    });
    Some(Assembled { array, device })
}

/// How the array lies on `legs`, in their places.
fn lay(head: &Member, legs: &[Option<Leg>], missing: usize) -> Result<Vec<Piece>, String> {
    let broken = || "its metadata is not sound".to_string();
    if head.is_reshaping {
        return Err("its shape was being changed: let that come to its end, and shut the machine down".into());
    }
    if head.disks == 0 || head.disks > MOST || legs.iter().flatten().count() == 0 {
        return Err("none of its members is right".into());
    }
    let chunk = Some(head.chunk).filter(|chunk| *chunk >= 512 && chunk.is_power_of_two() && *chunk <= 1 << 30);
    let all = || {
        let there: Option<Vec<Leg>> = legs.iter().copied().collect();
        there.ok_or_else(|| format!("{missing} of its {} members are not among the disks here", head.disks))
    };
    let fits = |leg: &Leg| head.used <= leg.2 && head.used > 0;
    match head.level {
        1 => {
            let legs: Vec<Leg> = legs.iter().flatten().copied().collect();
            if !legs.iter().all(fits) {
                return Err(broken());
            }
            let legs = legs.iter().map(|(disk, start, _)| (*disk, *start)).collect();
            Ok(vec![Piece { start: 0, len: head.used, layout: Layout::Mirrored(legs) }])
        }
        10 => ten(head, legs, chunk.ok_or_else(broken)?, fits),
        0 => zones(head, &all()?, chunk.ok_or_else(broken)?),
        -1 => {
            let mut pieces: Vec<Piece> = Vec::new();
            for (disk, start, len) in all()? {
                let len = len.checked_div(head.chunk).map_or(len, |chunks| chunks * head.chunk);
                let at = pieces.last().map_or(0, |piece| piece.start + piece.len);
                if len == 0 || at.checked_add(len).is_none() {
                    return Err(broken());
                }
                pieces.push(Piece { start: at, len, layout: Layout::Linear(disk, start) });
            }
            Ok(pieces)
        }
        level => Err(format!("it is RAID {level}, which is not read here")),
    }
}

/// RAID 10 (Linux, `drivers/md/raid10.c`, `setup_geo` and `calc_sectors`): `near` copies follow each other, and all of that is there `far` times,
/// one behind the other or row by row.
fn ten(head: &Member, legs: &[Option<Leg>], chunk: u64, fits: impl Fn(&Leg) -> bool) -> Result<Vec<Piece>, String> {
    let broken = || "its metadata is not sound".to_string();
    let (copies, far) = ((head.layout & 255) as usize, (head.layout >> 8 & 255) as usize);
    let is_between = head.layout >> 16 & 1 == 1;
    if copies == 0 || far == 0 || copies * far > head.disks || !legs.iter().flatten().all(fits) {
        return Err(broken());
    }
    if copies > 1 && far > 1 {
        // The tools make none, and the kernel lays such ones over one another where a row ends.
        return Err("its copies lie both near and far, which is not read here".into());
    }
    let set = match head.layout >> 17 {
        0 => head.disks,
        1 => head.disks / far,
        2 => far * copies,
        _ => return Err("its layout is not known here".into()),
    };
    // Chunks of a member for one time of all, as many times as there are members, by the copies of each.
    let each = head.used / chunk / far as u64;
    let count = each.checked_mul(head.disks as u64).ok_or_else(broken)? / copies as u64;
    let len = count.checked_mul(chunk).ok_or_else(broken)?;
    // What that takes of each member, rounded up.
    let taken = count.checked_mul((copies * far) as u64).ok_or_else(broken)?.div_ceil(head.disks as u64);
    let stride = if is_between { chunk } else { taken / far as u64 * chunk };
    let places = legs.iter().map(|leg| leg.map(|(disk, start, _)| (disk, start))).collect();
    let chunks = Chunks { chunk, copies, far, stride, is_between, set, legs: places };
    // Without a copy of every chunk there is nothing to read: after as many as there are members, it begins anew.
    let is_there = |slot: &(usize, u64)| legs.get(slot.0).is_some_and(Option::is_some);
    let is_whole =
        (0..head.disks as u64).all(|number| chunks.slots(number).is_some_and(|all| all.iter().any(is_there)));
    if !is_whole || len == 0 {
        return Err("of a part of it, no member is among the disks here".into());
    }
    // Where a copy would lie behind what the array has of a member, the array is not what it says.
    let is_inside =
        |number: u64| chunks.slots(number).is_some_and(|all| all.iter().all(|(_, at)| at + chunk <= head.used));
    if !(count.saturating_sub(head.disks as u64)..count).all(is_inside) {
        return Err(broken());
    }
    Ok(vec![Piece { start: 0, len, layout: Layout::Chunks(chunks) }])
}

/// How the zones of a RAID 0 behind the first are laid (Linux, `drivers/md/raid0.h`).
const ORIGINAL: u32 = 1;
const ALTERNATE: u32 = 2;

/// RAID 0 (Linux, `drivers/md/raid0.c`, `create_strip_zones`): zones, each over the members that reach so far.
fn zones(head: &Member, legs: &[Leg], chunk: u64) -> Result<Vec<Piece>, String> {
    let mut ends: Vec<u64> = legs.iter().map(|leg| leg.2 / chunk * chunk).collect();
    ends.sort_unstable();
    ends.dedup();
    // In which way the zones behind the first are laid changed once (Linux 3.14), and arrays say which it is.
    if ends.len() > 1 && !matches!(head.layout, ORIGINAL | ALTERNATE) {
        return Err("its members are of several lengths, and it does not say how it lies on them".into());
    }
    let (mut pieces, mut below, mut start): (Vec<Piece>, u64, u64) = (Vec::new(), 0, 0);
    for end in ends {
        let mut members: Vec<(usize, u64)> =
            legs.iter().filter(|leg| leg.2 / chunk * chunk >= end).map(|leg| (leg.0, leg.1 + below)).collect();
        if head.layout == ORIGINAL && !members.is_empty() {
            // There the turns of the array go on, whoever is no longer among them.
            let turn = to_usize(start / chunk % members.len() as u64);
            members.rotate_left(turn);
        }
        let len = (end - below).checked_mul(members.len() as u64).filter(|len| *len > 0);
        let len = len.ok_or_else(|| "its metadata is not sound".to_string())?;
        pieces.push(Piece { start, len, layout: Layout::Striped(chunk, members) });
        (below, start) = (end, start.checked_add(len).ok_or_else(|| "its metadata is not sound".to_string())?);
    }
    Ok(pieces)
}
