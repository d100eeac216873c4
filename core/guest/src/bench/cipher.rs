//! What turns the bytes of a volume into those that lie on its disk, sector by sector.

/// A cipher with its key.
pub(crate) trait Cipher: Send + Sync {
    /// Bytes of a sector, which is turned as a whole.
    fn sector(&self) -> usize;

    /// Turns whole sectors that lie at byte `offset` of the volume into its bytes.
    fn decrypt(&self, offset: u64, sectors: &mut [u8]);

    /// Turns bytes of the volume from `offset` on, whole sectors, into those that lie there.
    fn encrypt(&self, offset: u64, sectors: &mut [u8]);
}
