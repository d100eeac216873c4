//! Early boot images and indexes of modules that were read, so that each is read once.

use std::{collections::HashMap, sync::Arc};

use super::{Kernel, unified::Unified};
use crate::{
    formats::{
        early::{self, Image},
        modules::Modules,
    },
    fs::tree::Tree,
};

/// An image, or why it cannot be read.
pub(crate) type Outcome = Arc<Result<Image, String>>;

/// What was read of a system.
#[derive(Default)]
pub(crate) struct Images {
    /// By path and length: an image that something was appended to is another.
    known: HashMap<(String, u64), Outcome>,
    /// By folder; no edit changes them.
    modules: HashMap<String, Option<Arc<Modules>>>,
}

impl Images {
    /// The image at `path` of the system whose files are `tree`.
    pub(crate) fn read(&mut self, tree: &Tree, path: &str) -> Outcome {
        let size = tree.stat(path).map_or(0, |stat| stat.size);
        let read = || {
            if let Some(unified) = Unified::open(tree, path) {
                let bytes = unified.early_image().ok_or("it has no early boot image")?;
                return early::read(bytes, tree.budget());
            }
            let bytes = tree.reader(path).map_err(|error| error.to_string())?;
            early::read(bytes, tree.budget())
        };
        self.known.entry((path.to_string(), size)).or_insert_with(|| Arc::new(read())).clone()
    }

    /// The modules of a kernel of that system; `None` when there is no list of them.
    pub(crate) fn modules(&mut self, tree: &Tree, kernel: &Kernel) -> Option<Arc<Modules>> {
        let folder = kernel.modules.as_ref()?;
        let read = || Modules::read(tree, folder).map(Arc::new);
        self.modules.entry(folder.clone()).or_insert_with(read).clone()
    }
}
