//! Ciphers of encrypted volumes, as the kernel's device mapper names them: `aes-xts-plain64`, `aes-cbc-essiv:sha256` and the like (Linux,
//! `Documentation/admin-guide/device-mapper/dm-crypt.rst`).

use aes::{
    Aes128, Aes192, Aes256,
    cipher::{Array, BlockCipherDecrypt, BlockCipherEncrypt, BlockSizeUser, KeyInit, consts::U16},
};
use cbc::cipher::{BlockModeDecrypt, BlockModeEncrypt, InnerIvInit};
use serpent::Serpent;
use sha2::{Digest, Sha256};
use twofish::Twofish;
use xts_mode::Xts128;
use zeroize::Zeroizing;

use super::Trouble;
use crate::bench::cipher::Cipher;

/// Bytes that a number of a sector counts, whatever a sector's own length.
const SECTOR: u64 = 512;

/// Bytes of a block of all ciphers that are known here.
type Block = Array<u8, U16>;

/// What turns the blocks of a sector.
trait Mode: Send + Sync {
    fn decrypt(&self, iv: Block, sector: &mut [u8]);
    fn encrypt(&self, iv: Block, sector: &mut [u8]);
}

/// Where a sector's first block comes from.
enum Iv {
    /// The sector's number, 64 bits.
    Plain64,
    /// The sector's number, 32 bits.
    Plain,
    /// The sector's number, encrypted by a digest of the key.
    Essiv(Box<Aes256>),
}

impl Iv {
    fn of(&self, sector: u64) -> Block {
        let mut block = Block::default();
        let number = if matches!(self, Self::Plain) { sector & 0xffff_ffff } else { sector };
        block.iter_mut().zip(number.to_le_bytes()).for_each(|(to, from)| *to = from);
        if let Self::Essiv(cipher) = self {
            cipher.encrypt_block(&mut block);
        }
        block
    }
}

struct Xts<C>(Xts128<C>);

impl<C: BlockSizeUser<BlockSize = U16> + BlockCipherEncrypt + BlockCipherDecrypt + Send + Sync> Mode for Xts<C> {
    fn decrypt(&self, iv: Block, sector: &mut [u8]) {
        self.0.decrypt_sector(sector, iv);
    }

    fn encrypt(&self, iv: Block, sector: &mut [u8]) {
        self.0.encrypt_sector(sector, iv);
    }
}

/// A key is put into the cipher at every sector: this mode remembers the block before.
struct Cbc<C> {
    key: Zeroizing<Vec<u8>>,
    cipher: std::marker::PhantomData<fn() -> C>,
}

impl<C: BlockSizeUser<BlockSize = U16> + BlockCipherEncrypt + BlockCipherDecrypt + KeyInit> Mode for Cbc<C> {
    fn decrypt(&self, iv: Block, sector: &mut [u8]) {
        let Ok(cipher) = C::new_from_slice(&self.key) else { return };
        let mut mode = cbc::Decryptor::<C>::inner_iv_init(cipher, &iv);
        let (blocks, _) = Block::slice_as_chunks_mut(sector);
        mode.decrypt_blocks(blocks);
    }

    fn encrypt(&self, iv: Block, sector: &mut [u8]) {
        let Ok(cipher) = C::new_from_slice(&self.key) else { return };
        let mut mode = cbc::Encryptor::<C>::inner_iv_init(cipher, &iv);
        let (blocks, _) = Block::slice_as_chunks_mut(sector);
        mode.encrypt_blocks(blocks);
    }
}

/// A cipher with its key, over sectors of one length.
pub(super) struct Sectors {
    mode: Box<dyn Mode>,
    iv: Iv,
    sector: usize,
    /// The number of the first sector.
    first: u64,
}

impl Cipher for Sectors {
    fn sector(&self) -> usize {
        self.sector
    }

    fn decrypt(&self, offset: u64, sectors: &mut [u8]) {
        self.each(offset, sectors, |iv, sector| self.mode.decrypt(iv, sector));
    }

    fn encrypt(&self, offset: u64, sectors: &mut [u8]) {
        self.each(offset, sectors, |iv, sector| self.mode.encrypt(iv, sector));
    }
}

impl Sectors {
    fn each(&self, offset: u64, sectors: &mut [u8], work: impl Fn(Block, &mut [u8])) {
        let mut number = (offset / SECTOR).wrapping_add(self.first);
        for sector in sectors.chunks_exact_mut(self.sector) {
            work(self.iv.of(number), sector);
            number = number.wrapping_add(self.sector as u64 / SECTOR);
        }
    }

    /// The cipher that `name` stands for, with `key`, over sectors of `sector` bytes; the first has the number `first`.
    ///
    /// # Errors
    /// [`Trouble::Unknown`] for one that is not known here; [`Trouble::Unsound`] for a key of a wrong length.
    pub(super) fn new(name: &str, key: &[u8], sector: usize, first: u64) -> Result<Self, Trouble> {
        let unknown = || Trouble::Unknown(format!("the cipher '{name}'"));
        let (cipher, rest) = name.split_once('-').ok_or_else(unknown)?;
        let (mode, iv) = rest.split_once('-').ok_or_else(unknown)?;
        let iv = match iv {
            "plain64" => Iv::Plain64,
            "plain" => Iv::Plain,
            "essiv:sha256" if cipher == "aes" => {
                let salt = Zeroizing::new(<[u8; 32]>::from(Sha256::digest(key)));
                Iv::Essiv(Box::new(Aes256::new_from_slice(salt.as_slice()).map_err(|_| unknown())?))
            }
            _ => return Err(unknown()),
        };
        let mode = match (cipher, mode, key.len()) {
            ("aes", "xts", 32) => xts::<Aes128>(key),
            ("aes", "xts", 48) => xts::<Aes192>(key),
            ("aes", "xts", 64) => xts::<Aes256>(key),
            ("serpent", "xts", 32 | 64) => xts::<Serpent>(key),
            ("twofish", "xts", 32 | 48 | 64) => xts::<Twofish>(key),
            ("aes", "cbc", 16) => cbc::<Aes128>(key),
            ("aes", "cbc", 24) => cbc::<Aes192>(key),
            ("aes", "cbc", 32) => cbc::<Aes256>(key),
            ("serpent", "cbc", 16 | 32) => cbc::<Serpent>(key),
            ("twofish", "cbc", 16 | 24 | 32) => cbc::<Twofish>(key),
            ("aes" | "serpent" | "twofish", "xts" | "cbc", _) => return Err(Trouble::Unsound("the length of its key")),
            _ => return Err(unknown()),
        };
        Ok(Self { mode: mode.ok_or_else(unknown)?, iv, sector, first })
    }
}

fn xts<C>(key: &[u8]) -> Option<Box<dyn Mode>>
where
    C: BlockSizeUser<BlockSize = U16> + BlockCipherEncrypt + BlockCipherDecrypt + KeyInit + Send + Sync + 'static,
{
    let (data, tweak) = key.split_at_checked(key.len() / 2)?;
    Some(Box::new(Xts(Xts128::new(C::new_from_slice(data).ok()?, C::new_from_slice(tweak).ok()?))))
}

fn cbc<C>(key: &[u8]) -> Option<Box<dyn Mode>>
where
    C: BlockSizeUser<BlockSize = U16> + BlockCipherEncrypt + BlockCipherDecrypt + KeyInit + 'static,
{
    C::new_from_slice(key).ok()?;
    Some(Box::new(Cbc::<C> { key: Zeroizing::new(key.to_vec()), cipher: std::marker::PhantomData }))
}
