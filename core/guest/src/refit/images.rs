//! Early boot images that were read, so that each is unpacked once.

use std::{collections::HashMap, sync::Arc};

use crate::{
    initramfs::{self, Image},
    tree::Tree,
};

/// The largest early boot image that is read, in bytes.
const MAX_IMAGE: u64 = 1 << 30;

/// An image, or why it cannot be read.
pub(crate) type Outcome = Arc<Result<Image, String>>;

/// Images by system, path and length.
#[derive(Default)]
pub(crate) struct Images {
    known: HashMap<(usize, String, u64), Outcome>,
}

impl Images {
    /// The image at `path` of the system of number `system`.
    pub(crate) fn read(&mut self, system: usize, tree: &Tree, path: &str) -> Outcome {
        let size = tree.stat(path).map_or(0, |stat| stat.size);
        let read = || {
            let bytes = tree.read(path, MAX_IMAGE).map_err(|error| error.to_string())?;
            initramfs::read(&bytes)
        };
        self.known.entry((system, path.to_string(), size)).or_insert_with(|| Arc::new(read())).clone()
    }
}
