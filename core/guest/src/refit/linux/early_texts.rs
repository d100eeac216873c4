//! A part of the edit `device-names`: the copies that early boot images have of files which name members of arrays and encrypted volumes.

use std::collections::BTreeMap;

use super::Edits;
use crate::{
    error::Result,
    evidence::linux::layers::lasting,
    formats::early::{KEPT, Writer},
    system::linux::mdadm,
};

impl Edits<'_, '_> {
    /// Lets `mdadm.conf`, and what early boot images have of it and of `crypttab`, call devices by names that last. Of an image that is a file of
    /// the firmware nothing is changed.
    pub(super) fn early_texts(&mut self, changes: &mut Vec<String>) -> Result<()> {
        for path in mdadm::PLACES {
            let Some(text) = self.system.tree.text(path) else { continue };
            if let Some(new) = lasting(self.work.guest, self.work.hardware, path, &text, &|_| None) {
                self.system.tree.set_text(path, &new)?;
                changes.push(format!("{path}: members of arrays are found wherever they are"));
            }
        }
        let images: Vec<String> = self
            .system
            .kernels
            .iter()
            .filter(|kernel| !kernel.is_unified)
            .flat_map(|kernel| kernel.initrds.clone())
            .collect();
        for initrd in images {
            let outcome = self.system.images.read(&self.system.tree, &initrd);
            let Ok(image) = outcome.as_ref() else { continue };
            let mut texts: BTreeMap<&str, String> = BTreeMap::new();
            for path in KEPT {
                let Some(text) = image.text(path) else { continue };
                let name = |spec: &str| self.new_name(spec, true, &mut Vec::new());
                if let Some(new) = lasting(self.work.guest, self.work.hardware, path, &text, &name) {
                    texts.insert(path, new);
                }
            }
            if texts.is_empty() {
                continue;
            }
            // What stands behind in an image takes the place of what is in front; its folders are there.
            let mut writer = Writer::new(self.work.now);
            for (path, text) in &texts {
                writer.file(&image.real(path).unwrap_or_else(|| (*path).to_string()), text.as_bytes(), 0o644);
            }
            let gap = image.gap(self.system.tree.stat(&initrd)?.size);
            self.system.tree.append(&initrd, &[vec![0; gap], writer.finish()].concat())?;
            let paths: Vec<&str> = texts.keys().copied().collect();
            changes.push(format!("{initrd} got {}", paths.join(", ")));
        }
        Ok(())
    }
}
