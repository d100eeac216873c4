//! Header extensions (section "Header extensions"): what is particular to few images.

use super::header::extension;
use crate::{
    error::Result,
    source::{Storage, read_vec},
};

/// The longest name of a file or a format that is read.
const MAX_NAME: u32 = 1023;

/// What the extensions say that matters for reading.
#[derive(Debug, Default)]
pub(super) struct Extensions {
    /// The backing file's format.
    pub(super) backing_format: Option<String>,
    /// The file that holds the data clusters.
    pub(super) external_data: Option<String>,
    pub(super) has_bitmaps: bool,
}

impl Extensions {
    /// Reads what follows the header, whose length is `at`, inside the first cluster.
    #[expect(clippy::indexing_slicing, reason = "the head has eight bytes")]
    pub(super) fn read(storage: &dyn Storage, mut at: u64, cluster: u64) -> Result<Self> {
        let mut extensions = Self::default();
        // A small image may end with its header, and its list then too.
        while at + 8 <= cluster.min(storage.len()) {
            let head = read_vec(storage, at, 8, "a header extension")?;
            let number = |bytes: &[u8]| bytes.iter().fold(0u32, |sum, &byte| (sum << 8) | u32::from(byte));
            let (kind, len) = (number(&head[..4]), number(&head[4..]));
            let text = || -> Result<Option<String>> {
                let bytes = read_vec(storage, at + 8, len.min(MAX_NAME) as usize, "a header extension")?;
                Ok(Some(String::from_utf8_lossy(&bytes).into_owned()))
            };
            match kind {
                extension::END => break,
                extension::BACKING_FORMAT => extensions.backing_format = text()?,
                extension::EXTERNAL_DATA => extensions.external_data = text()?,
                extension::BITMAPS => extensions.has_bitmaps = true,
                _ => {}
            }
            at += 8 + u64::from(len).next_multiple_of(8);
        }
        Ok(extensions)
    }
}
