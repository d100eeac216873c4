//! LUKS1 (LUKS On-Disk Format Specification, version 1.2.3): a header of 592 bytes, all numbers big endian.

use super::{
    Opened, Trouble,
    cipher::Sectors,
    keys::{Derivation, Effort, MOST_KEY, Made, Secret, merge},
};
use crate::bench::{Device, cipher::Cipher};

const HEAD: usize = 592;
const SLOT: usize = 48;
/// Where slots begin, and what one that is in use has.
const SLOTS: usize = 208;
const IN_USE: u32 = 0x00ac_71f3;
const SECTOR: usize = 512;
/// The most bytes that a slot's split key takes.
pub(super) const MOST_SPLIT: usize = 4 << 20;

/// Opens the volume with one of `secrets`.
pub(super) fn open(device: &Device, secrets: &[Secret], made: &Made) -> Result<Opened, Trouble> {
    let mut head = vec![0; HEAD];
    device.read(0, &mut head)?;
    let word = |at: usize| -> u32 {
        head.get(at..at + 4).and_then(|bytes| bytes.try_into().ok()).map_or(0, u32::from_be_bytes)
    };
    let bytes = |at: usize, len: usize| head.get(at..at + len).unwrap_or_default();
    let text = |at: usize, len: usize| {
        let text = bytes(at, len).split(|byte| *byte == 0).next().unwrap_or_default();
        String::from_utf8_lossy(text).into_owned()
    };
    let cipher = format!("{}-{}", text(8, 32), text(40, 32));
    let digest = text(72, 32);
    let (payload, len) = (u64::from(word(104)) * SECTOR as u64, word(108) as usize);
    if len == 0 || len > MOST_KEY || payload > device.size() {
        return Err(Trouble::Unsound("its header"));
    }
    let effort = Effort::default();
    for slot in (0..8).map(|slot| SLOTS + slot * SLOT).filter(|slot| word(*slot) == IN_USE) {
        let derive = Derivation::Rounds { digest: digest.clone(), rounds: word(slot + 4) };
        let (at, stripes) = (u64::from(word(slot + 40)) * SECTOR as u64, word(slot + 44) as usize);
        let split = len.checked_mul(stripes).filter(|split| *split <= MOST_SPLIT).ok_or(Trouble::Unsound("a slot"))?;
        for secret in secrets {
            effort.add(&derive)?;
            let key = made.key(&derive, secret, bytes(slot + 8, 32), len)?;
            let mut material = Secret::new(vec![0; split.next_multiple_of(SECTOR)]);
            device.read(at, &mut material)?;
            Sectors::new(&cipher, &key, SECTOR, 0)?.decrypt(0, &mut material);
            let key = merge(&material, len, stripes, &digest)?;
            let check = Derivation::Rounds { digest: digest.clone(), rounds: word(164) };
            effort.add(&check)?;
            if check.key(&key, bytes(132, 32), 20)?.as_slice() == bytes(112, 20) {
                let cipher = Sectors::new(&cipher, &key, SECTOR, 0)?;
                return Ok(Opened { start: payload, len: device.size() - payload, cipher });
            }
        }
    }
    Err(Trouble::WrongKey)
}
