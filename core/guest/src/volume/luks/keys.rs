//! From a passphrase to the key of a volume: the derivation, the splitting that makes it hard to keep by chance, and the digest that tells
//! whether it is right (LUKS On-Disk Format Specification, version 1.2.3; LUKS2 On-Disk Format, version 1.1).

use std::{
    cell::Cell,
    sync::{Mutex, PoisonError},
};

use argon2::{Algorithm, Argon2, Block, Params, Version};
use hmac::Hmac;
use sha1::Sha1;
use sha2::{Digest, Sha224, Sha256, Sha384, Sha512};
use zeroize::{Zeroize, Zeroizing};

use super::Trouble;

/// A key or a passphrase, wiped when it is let go.
pub(super) type Secret = Zeroizing<Vec<u8>>;

/// The longest key that is made, in bytes.
pub(super) const MOST_KEY: usize = 512;
/// Rounds of PBKDF2 that are made at the most; what takes a processor some seconds has a few millions.
const MOST_ROUNDS: u32 = if cfg!(fuzzing) { 2000 } else { 100_000_000 };
/// Rounds that one header may ask for in all, whatever its slots and keys; and of memory times passes, in KiB.
const MOST_ROUNDS_IN_ALL: u64 = 2 * MOST_ROUNDS as u64;
const MOST_WORK_IN_ALL: u64 = 4 * MOST_WORK;
/// Memory of Argon2 in KiB: the most that the format's own tools ask for.
const MOST_MEMORY: u32 = if cfg!(fuzzing) { 2048 } else { 4 << 20 };
/// Memory times passes, in KiB.
const MOST_WORK: u64 = if cfg!(fuzzing) { 8192 } else { 64 << 20 };

/// How a passphrase is made into a key.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) enum Derivation {
    /// PBKDF2 (RFC 8018): digest, rounds.
    Rounds { digest: String, rounds: u32 },
    /// Argon2 (RFC 9106): whether it is the variant `id`, passes, memory in KiB, lanes.
    Memory { is_id: bool, passes: u32, memory: u32, lanes: u32 },
}

impl Derivation {
    /// A key of `len` bytes.
    pub(super) fn key(&self, secret: &[u8], salt: &[u8], len: usize) -> Result<Secret, Trouble> {
        let mut key = Zeroizing::new(vec![0; len.min(MOST_KEY)]);
        match self {
            Self::Rounds { digest, rounds } => pbkdf2(digest, secret, salt, *rounds, &mut key)?,
            Self::Memory { is_id, passes, memory, lanes } => {
                if *memory > MOST_MEMORY || u64::from(*memory) * u64::from(*passes) > MOST_WORK || *lanes > 64 {
                    return Err(Trouble::TooMuch);
                }
                let unsound = |_| Trouble::Unsound("how its key is derived");
                let params = Params::new(*memory, *passes, *lanes, Some(key.len())).map_err(unsound)?;
                let mut blocks: Vec<Block> = Vec::new();
                blocks.try_reserve_exact(params.block_count()).map_err(|_| Trouble::TooMuch)?;
                blocks.resize(params.block_count(), Block::default());
                let algorithm = if *is_id { Algorithm::Argon2id } else { Algorithm::Argon2i };
                let argon = Argon2::new(algorithm, Version::V0x13, params);
                let made = argon.hash_password_into_with_memory(secret, salt, &mut key, &mut blocks);
                blocks.iter_mut().for_each(|block| *block = Block::default());
                made.map_err(unsound)?;
            }
        }
        Ok(key)
    }
}

/// What one header made us derive.
#[derive(Default)]
pub(super) struct Effort {
    rounds: Cell<u64>,
    work: Cell<u64>,
}

impl Effort {
    /// Counts one more derivation.
    pub(super) fn add(&self, how: &Derivation) -> Result<(), Trouble> {
        match how {
            Derivation::Rounds { rounds, .. } => self.rounds.set(self.rounds.get().saturating_add((*rounds).into())),
            Derivation::Memory { passes, memory, .. } => {
                let work = u64::from(*memory) * u64::from(*passes);
                self.work.set(self.work.get().saturating_add(work));
            }
        }
        match self.rounds.get() > MOST_ROUNDS_IN_ALL || self.work.get() > MOST_WORK_IN_ALL {
            true => Err(Trouble::TooMuch),
            false => Ok(()),
        }
    }
}

/// A key that was derived, and of what.
struct Known {
    how: Derivation,
    secret: Secret,
    salt: Vec<u8>,
    key: Secret,
}

/// Keys that were derived before: a guest is opened more than once in a run, and each time would take as long as the first.
#[derive(Default)]
pub(super) struct Made(Mutex<Vec<Known>>);

/// Keys that are remembered.
const MOST_MADE: usize = 64;

impl Made {
    /// As [`Derivation::key`].
    pub(super) fn key(&self, how: &Derivation, secret: &Secret, salt: &[u8], len: usize) -> Result<Secret, Trouble> {
        let lock = || self.0.lock().unwrap_or_else(PoisonError::into_inner);
        let is_it = |known: &&Known| {
            known.how == *how && known.salt == salt && known.key.len() == len.min(MOST_KEY) && known.secret == *secret
        };
        if let Some(known) = lock().iter().find(is_it) {
            return Ok(known.key.clone());
        }
        let key = how.key(secret, salt, len)?;
        let mut all = lock();
        if all.len() < MOST_MADE {
            all.push(Known { how: how.clone(), secret: secret.clone(), salt: salt.to_vec(), key: key.clone() });
        }
        Ok(key)
    }
}

fn pbkdf2(digest: &str, secret: &[u8], salt: &[u8], rounds: u32, out: &mut [u8]) -> Result<(), Trouble> {
    if rounds > MOST_ROUNDS {
        return Err(Trouble::TooMuch);
    }
    if rounds == 0 {
        return Err(Trouble::Unsound("how its key is derived"));
    }
    let made = match digest {
        "sha1" => pbkdf2::pbkdf2::<Hmac<Sha1>>(secret, salt, rounds, out),
        "sha224" => pbkdf2::pbkdf2::<Hmac<Sha224>>(secret, salt, rounds, out),
        "sha256" => pbkdf2::pbkdf2::<Hmac<Sha256>>(secret, salt, rounds, out),
        "sha384" => pbkdf2::pbkdf2::<Hmac<Sha384>>(secret, salt, rounds, out),
        "sha512" => pbkdf2::pbkdf2::<Hmac<Sha512>>(secret, salt, rounds, out),
        other => return Err(Trouble::Unknown(format!("the digest '{other}'"))),
    };
    made.map_err(|_| Trouble::Unsound("how its key is derived"))
}

/// The digest of `parts`, one behind the other.
pub(super) fn digest(name: &str, parts: &[&[u8]]) -> Result<Vec<u8>, Trouble> {
    fn of<D: Digest>(parts: &[&[u8]]) -> Vec<u8> {
        let mut digest = D::new();
        parts.iter().for_each(|part| digest.update(part));
        digest.finalize().to_vec()
    }
    Ok(match name {
        "sha1" => of::<Sha1>(parts),
        "sha224" => of::<Sha224>(parts),
        "sha256" => of::<Sha256>(parts),
        "sha384" => of::<Sha384>(parts),
        "sha512" => of::<Sha512>(parts),
        other => return Err(Trouble::Unknown(format!("the digest '{other}'"))),
    })
}

/// Puts a key together that was split into `stripes` of `len` bytes (specification, 2.4: AFmerge).
pub(super) fn merge(split: &[u8], len: usize, stripes: usize, name: &str) -> Result<Secret, Trouble> {
    let unsound = || Trouble::Unsound("how its key is split");
    let mut key = Zeroizing::new(vec![0; len]);
    let mut all = split.chunks_exact(len.max(1)).take(stripes).peekable();
    let mut count = 0;
    while let Some(stripe) = all.next() {
        count += 1;
        key.iter_mut().zip(stripe).for_each(|(to, from)| *to ^= from);
        if all.peek().is_some() {
            diffuse(&mut key, name)?;
        }
    }
    (count == stripes && stripes > 0).then_some(key).ok_or_else(unsound)
}

/// Each part as long as the digest becomes the digest of its number and itself.
fn diffuse(key: &mut [u8], name: &str) -> Result<(), Trouble> {
    let len = digest(name, &[])?.len();
    for (number, part) in (0u32..).zip(key.chunks_mut(len)) {
        let mut made = digest(name, &[&number.to_be_bytes(), part])?;
        part.iter_mut().zip(&made).for_each(|(to, from)| *to = *from);
        made.zeroize();
    }
    Ok(())
}
