//! LUKS2 (LUKS2 On-Disk Format, version 1.1): two copies of a header, and text in JSON that describes the slots.

use std::collections::BTreeMap;

use base64::{Engine, engine::general_purpose::STANDARD};
use serde::Deserialize;

use super::{
    Opened, Trouble,
    cipher::Sectors,
    keys::{Derivation, Effort, MOST_KEY, Made, Secret, digest, merge},
    one::MOST_SPLIT,
};
use crate::{
    bench::{Device, cipher::Cipher},
    error::Error,
};

/// Bytes of the header in front of the text.
const HEAD: usize = 4096;
/// The largest header with its text (specification, 2.2), and where the second copy may be.
const MOST: u64 = 4 << 20;
const SECOND: [u64; 9] = [0x4000, 0x8000, 0x1_0000, 0x2_0000, 0x4_0000, 0x8_0000, 0x10_0000, 0x20_0000, 0x40_0000];
const SECTOR: usize = 512;

#[derive(Deserialize)]
struct Text {
    keyslots: BTreeMap<String, Slot>,
    segments: BTreeMap<String, Segment>,
    digests: BTreeMap<String, Sum>,
    #[serde(default)]
    config: Config,
}

#[derive(Deserialize, Default)]
struct Config {
    #[serde(default)]
    requirements: Requirements,
}

#[derive(Deserialize, Default)]
struct Requirements {
    #[serde(default)]
    mandatory: Vec<String>,
}

#[derive(Deserialize)]
struct Slot {
    #[serde(rename = "type")]
    kind: String,
    key_size: usize,
    #[serde(default)]
    priority: Option<u8>,
    af: Option<Split>,
    area: Area,
    kdf: Option<Kdf>,
}

#[derive(Deserialize)]
struct Split {
    stripes: usize,
    hash: String,
}

#[derive(Deserialize)]
struct Area {
    offset: String,
    #[serde(default)]
    encryption: String,
    #[serde(default)]
    key_size: usize,
}

#[derive(Deserialize)]
struct Kdf {
    #[serde(rename = "type")]
    kind: String,
    salt: String,
    #[serde(default)]
    time: u32,
    #[serde(default)]
    memory: u32,
    #[serde(default)]
    cpus: u32,
    #[serde(default)]
    hash: String,
    #[serde(default)]
    iterations: u32,
}

#[derive(Deserialize)]
struct Segment {
    #[serde(rename = "type")]
    kind: String,
    offset: String,
    size: String,
    #[serde(default)]
    iv_tweak: String,
    #[serde(default)]
    encryption: String,
    #[serde(default)]
    sector_size: usize,
    integrity: Option<serde::de::IgnoredAny>,
}

#[derive(Deserialize)]
struct Sum {
    #[serde(rename = "type")]
    kind: String,
    keyslots: Vec<String>,
    segments: Vec<String>,
    hash: String,
    iterations: u32,
    salt: String,
    digest: String,
}

/// The newest header that is sound.
fn header(device: &Device) -> Result<Text, Trouble> {
    let mut newest: Option<(u64, Text)> = None;
    for at in std::iter::once(0).chain(SECOND) {
        let mut head = vec![0; HEAD];
        if at + HEAD as u64 > device.size() {
            break;
        }
        device.read(at, &mut head)?;
        let number = |at: usize| -> u64 {
            head.get(at..at + 8).and_then(|bytes| bytes.try_into().ok()).map_or(0, u64::from_be_bytes)
        };
        let magic: &[u8] = if at == 0 { b"LUKS\xba\xbe\0\x02" } else { b"SKUL\xba\xbe\0\x02" };
        let (size, sequence) = (number(8), number(16));
        let fits = size > HEAD as u64 && size <= MOST && at + size <= device.size();
        if !head.starts_with(magic) || number(256) != at || !fits {
            continue;
        }
        let hold = device.bench().budget().take(size * 4).map_err(Error::from)?;
        let mut bytes = vec![0; reformis_disk::to_usize(size)];
        device.read(at, &mut bytes)?;
        let name = bytes.get(72..104).unwrap_or_default().split(|byte| *byte == 0).next().unwrap_or_default();
        let name = String::from_utf8_lossy(name).into_owned();
        let sum = bytes.get(448..512).unwrap_or_default().to_vec();
        if let Some(field) = bytes.get_mut(448..512) {
            field.fill(0);
        }
        let found = digest(&name, &[&bytes])?;
        if !sum.starts_with(&found) {
            continue;
        }
        let text = bytes.get(HEAD..).unwrap_or_default().split(|byte| *byte == 0).next().unwrap_or_default();
        let parsed = serde_json::from_slice(text).map_err(|_| Trouble::Unsound("the description of its slots"))?;
        drop(hold);
        if newest.as_ref().is_none_or(|(known, _)| *known < sequence) {
            newest = Some((sequence, parsed));
        }
    }
    newest.map(|(_, text)| text).ok_or(Trouble::Unsound("its header, and the copy of it"))
}

fn decoded(text: &str) -> Result<Vec<u8>, Trouble> {
    STANDARD.decode(text).map_err(|_| Trouble::Unsound("the description of its slots"))
}

fn counted(text: &str) -> Result<u64, Trouble> {
    text.parse().map_err(|_| Trouble::Unsound("the description of its slots"))
}

impl Slot {
    /// The key that `secret` opens.
    fn key(&self, device: &Device, secret: &Secret, made: &Made, effort: &Effort) -> Result<Secret, Trouble> {
        let unsound = || Trouble::Unsound("a slot");
        let (split, kdf) = (self.af.as_ref().ok_or_else(unsound)?, self.kdf.as_ref().ok_or_else(unsound)?);
        let derive = match kdf.kind.as_str() {
            "pbkdf2" => Derivation::Rounds { digest: kdf.hash.clone(), rounds: kdf.iterations },
            kind @ ("argon2i" | "argon2id") => {
                Derivation::Memory { is_id: kind == "argon2id", passes: kdf.time, memory: kdf.memory, lanes: kdf.cpus }
            }
            other => return Err(Trouble::Unknown(format!("the derivation '{other}'"))),
        };
        if self.key_size == 0 || self.key_size > MOST_KEY || self.area.key_size > MOST_KEY {
            return Err(unsound());
        }
        let len = self.key_size.checked_mul(split.stripes).filter(|len| *len <= MOST_SPLIT).ok_or_else(unsound)?;
        effort.add(&derive)?;
        let key = made.key(&derive, secret, &decoded(&kdf.salt)?, self.area.key_size)?;
        let mut material = Secret::new(vec![0; len.next_multiple_of(SECTOR)]);
        device.read(counted(&self.area.offset)?, &mut material)?;
        Sectors::new(&self.area.encryption, &key, SECTOR, 0)?.decrypt(0, &mut material);
        merge(&material, self.key_size, split.stripes, &split.hash)
    }
}

/// Opens the volume with one of `secrets`.
pub(super) fn open(device: &Device, secrets: &[Secret], made: &Made) -> Result<Opened, Trouble> {
    let text = header(device)?;
    if let Some(what) = text.config.requirements.mandatory.first() {
        return Err(Trouble::Unknown(format!("what it asks for, '{what}'")));
    }
    // While it is encrypted anew, there are several.
    let mut segments = text.segments.iter();
    let (Some((name, segment)), None) = (segments.next(), segments.next()) else {
        return Err(Trouble::Unknown("a volume that is being encrypted anew".into()));
    };
    if segment.kind != "crypt" || segment.integrity.is_some() {
        return Err(Trouble::Unknown("a volume with sums of its sectors".into()));
    }
    let sector = segment.sector_size;
    let (start, size) = (counted(&segment.offset)?, device.size());
    let len = match segment.size.as_str() {
        "dynamic" => size.checked_sub(start),
        stated => Some(counted(stated)?).filter(|len| start.checked_add(*len).is_some_and(|end| end <= size)),
    };
    let is_sector = matches!(sector, 512 | 1024 | 2048 | 4096);
    let len = len.filter(|_| is_sector).ok_or(Trouble::Unsound("where its bytes lie"))? / sector as u64 * sector as u64;
    let mut slots: Vec<(&String, &Slot)> =
        text.keyslots.iter().filter(|(_, slot)| slot.kind == "luks2" && slot.priority != Some(0)).collect();
    slots.sort_by_key(|(name, slot)| (std::cmp::Reverse(slot.priority.unwrap_or(1)), (*name).clone()));
    let mut trouble = Trouble::WrongKey;
    let effort = Effort::default();
    for (slot_name, slot) in slots.into_iter().take(32) {
        let of_slot = |sum: &&Sum| sum.keyslots.contains(slot_name) && sum.segments.contains(name);
        let Some(sum) = text.digests.values().find(of_slot).filter(|sum| sum.kind == "pbkdf2") else { continue };
        for secret in secrets {
            let key = match slot.key(device, secret, made, &effort) {
                Ok(key) => key,
                Err(Trouble::Guest(error)) => return Err(Trouble::Guest(error)),
                // Another slot may be of a kind that is known.
                Err(other) => {
                    trouble = other;
                    continue;
                }
            };
            let check = Derivation::Rounds { digest: sum.hash.clone(), rounds: sum.iterations };
            effort.add(&check)?;
            let wanted = decoded(&sum.digest)?;
            if !wanted.is_empty() && check.key(&key, &decoded(&sum.salt)?, wanted.len())?.as_slice() == wanted {
                let first = if segment.iv_tweak.is_empty() { 0 } else { counted(&segment.iv_tweak)? };
                return Ok(Opened { start, len, cipher: Sectors::new(&segment.encryption, &key, sector, first)? });
            }
        }
    }
    Err(trouble)
}
