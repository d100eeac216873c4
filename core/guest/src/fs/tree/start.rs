//! Subvolumes that trees begin at.

use super::{Mount, Tree, shown};
use crate::{
    error::Result,
    fs::{Subvolume, node::Node},
};

/// A subvolume that a tree begins at.
#[derive(Debug, Clone)]
pub(crate) struct Start {
    /// Its first folder.
    pub(crate) node: Node,
    /// Its path from the first subvolume on; empty where that is not known.
    pub(crate) path: String,
}

impl Tree {
    /// The same tree, which begins at another folder of its first file system: at a subvolume.
    pub(crate) fn from(mut self, start: Option<Start>) -> Self {
        if let Some(first) = self.mounts.first_mut() {
            first.start = start;
        }
        self
    }

    /// Whether its first file system has such a subvolume, and whether the tree begins there; where none is named, the one that is mounted
    /// by itself. `None` where the file system has no subvolumes.
    pub(crate) fn begins_at(&self, wanted: Option<&Subvolume>) -> Result<Option<(bool, bool)>> {
        let Some(first) = self.mounts.first() else { return Ok(None) };
        let fs = first.fs.lock();
        if first.start.is_none() && fs.subvolumes()?.is_empty() {
            return Ok(None);
        }
        let here = first.start.as_ref().map_or_else(|| fs.root(), |start| start.node);
        let there = wanted.map_or_else(|| Ok(Some(fs.root())), |wanted| fs.subvolume(wanted))?;
        Ok(Some((there.is_some(), there == Some(here))))
    }

    /// The path of what a loader calls `path` because it begins at the first subvolume of the file system; `None` where none of the
    /// subvolumes here is on its way.
    pub(crate) fn below_subvolumes(&self, path: &str) -> Option<String> {
        let inside = |mount: &Mount| {
            let start = mount.start.as_ref().filter(|start| !start.path.is_empty())?;
            let rest = path.trim_start_matches('/').strip_prefix(&start.path)?.strip_prefix('/')?;
            Some((start.path.len(), format!("{}/{rest}", shown(&mount.path).trim_end_matches('/'))))
        };
        self.mounts.iter().filter_map(inside).max_by_key(|(len, _)| *len).map(|(_, path)| path)
    }
}
