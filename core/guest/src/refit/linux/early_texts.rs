//! A part of the edit `device-names`: the files that name members of arrays and encrypted volumes, or the disks that LVM looks at, and the copies of
//! them that early boot images have.

use std::collections::BTreeMap;

use super::Edits;
use crate::{
    error::Result,
    evidence::linux::{
        layers::lasting,
        lvm::{Hidden, hidden},
    },
    formats::early::{KEPT, Writer},
    system::linux::{lvm, mdadm},
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
        self.lvm(changes)?;
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
            let own = |path: &str| image.text(path.trim_start_matches('/'));
            let settings = own(lvm::SETTINGS).unwrap_or_default();
            let hidden = hidden(self.work.guest, self.work.hardware, &settings, own(lvm::DEVICES).as_deref());
            if let Some(new) = shown(&settings, hidden) {
                // Without the list as well: an empty one would hide all devices.
                texts.insert(lvm::SETTINGS.trim_start_matches('/'), new);
            }
            for path in KEPT.into_iter().filter(|path| !path.starts_with("etc/lvm/")) {
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

    /// Lets LVM look at all disks where it looked at those of the old host alone.
    fn lvm(&mut self, changes: &mut Vec<String>) -> Result<()> {
        let tree = &mut self.system.tree;
        let settings = tree.text(lvm::SETTINGS).unwrap_or_default();
        let list = tree.text(lvm::DEVICES);
        let found = hidden(self.work.guest, self.work.hardware, &settings, list.as_deref());
        if found.by_filter {
            tree.set_text(lvm::SETTINGS, &lvm::opened(&settings))?;
            changes.push(format!("{}: its filters let all disks pass", lvm::SETTINGS));
        }
        if found.by_list {
            if tree.exists(lvm::OLD_DEVICES) {
                tree.remove(lvm::OLD_DEVICES)?;
            }
            tree.rename(lvm::DEVICES, lvm::OLD_DEVICES)?;
            changes.push(format!(
                "{} is now {}, so that LVM looks at all disks; vgimportdevices --all makes a new list",
                lvm::DEVICES,
                lvm::OLD_DEVICES
            ));
        }
        Ok(())
    }
}

/// Settings by which nothing is hidden any more; `None` where nothing was.
fn shown(settings: &str, hidden: Hidden) -> Option<String> {
    let open = if hidden.by_filter { lvm::opened(settings) } else { settings.to_string() };
    let new = if hidden.by_list { lvm::without_list(&open) } else { open };
    (new != settings).then_some(new)
}
