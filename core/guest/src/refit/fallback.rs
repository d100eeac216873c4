//! The edit `fallback-loader`: a copy of the loader where a firmware without boot entries looks.

use super::{
    edit::FALLBACK,
    work::{Changes, Work},
};
use crate::{fs::tree::Tree, volume::partition::Role};

/// The largest loader that is copied, in bytes.
const MAX_LOADER: u64 = 64 << 20;

/// Loaders in the order in which they are taken, and what has to lie beside each.
const CHOICES: [(&str, &[&str]); 4] = [
    ("shimx64.efi", &["grubx64.efi", "mmx64.efi"]),
    ("grubx64.efi", &[]),
    ("systemd-bootx64.efi", &[]),
    ("bootmgfw.efi", &[]),
];

impl Work<'_> {
    #[expect(clippy::indexing_slicing, reason = "the places were given by this guest, and a loader was found")]
    pub(crate) fn fallback_loader(&mut self) -> Changes {
        // One copy serves all systems; it is of the volumes, not of one system.
        if !self.hardware.uefi || self.hardware.keeps_entries || !self.is_first {
            return Ok(Vec::new());
        }
        let esps: Vec<usize> =
            (0..self.guest.volumes.len()).filter(|index| self.guest.volumes[*index].role == Role::Esp).collect();
        let of = |index: usize| (index, self.guest.volumes[index].loaders());
        let all: Vec<(usize, Vec<String>)> = esps.into_iter().map(of).collect();
        if all.iter().any(|(_, loaders)| loaders.iter().any(|path| path.eq_ignore_ascii_case(FALLBACK))) {
            return Ok(Vec::new());
        }
        let Some((index, loaders)) = all.into_iter().find(|(_, loaders)| !loaders.is_empty()) else {
            return Ok(Vec::new());
        };
        let Some(mut tree) = self.guest.volume_tree(index, self.now)? else { return Ok(Vec::new()) };
        let called =
            |path: &str, name: &str| path.rsplit('/').next().is_some_and(|last| last.eq_ignore_ascii_case(name));
        let choice = CHOICES.iter().find_map(|(name, beside)| {
            let path = loaders.iter().find(|path| called(path, name))?;
            Some((path.clone(), *beside))
        });
        let (path, beside) = choice.unwrap_or_else(|| (loaders[0].clone(), &[][..]));
        let folder = path.rsplit_once('/').map_or("", |(folder, _)| folder);
        let mut copies = vec![(path.clone(), FALLBACK.to_string())];
        for name in beside {
            copies.extend(
                loaders
                    .iter()
                    .filter(|other| {
                        other
                            .rsplit_once('/')
                            .is_some_and(|(place, last)| place == folder && last.eq_ignore_ascii_case(name))
                    })
                    .map(|other| (other.clone(), format!("EFI/BOOT/{name}"))),
            );
        }
        tree.make_folders("/EFI/BOOT")?;
        let mut changes = Vec::new();
        for (from, to) in copies {
            if to == FALLBACK || !tree.exists(&to) {
                copy(&mut tree, &from, &to)?;
                changes.push(format!("{to} is a copy of {from}"));
            }
        }
        Ok(changes)
    }
}

fn copy(tree: &mut Tree, from: &str, to: &str) -> crate::Result<()> {
    let bytes = tree.read(from, MAX_LOADER)?;
    tree.write(to, &bytes)
}
