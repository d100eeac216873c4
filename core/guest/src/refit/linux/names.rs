//! The edit `device-names`: volumes that are called by the place of their disk are called by what they are.

use super::Edits;
use crate::refit::work::Changes;
use crate::{
    evidence::linux::names::{is_plain, is_volume, keeps_everywhere},
    system::linux::{devices, entry, fstab, loader},
    volume::found::Found,
};

/// Bytes of GRUB's environment, which never change their number.
const GRUB_ENV_SIZE: usize = 1024;

impl Edits<'_, '_> {
    pub(crate) fn device_names(&mut self) -> Changes {
        let mut changes = Vec::new();
        let has_initrd = self.system.kernels.iter().all(|kernel| !kernel.initrds.is_empty());
        self.rewrite("/etc/fstab", &mut changes, |work, text, told| {
            fstab::with_spec(text, |line| work.new_name_in_fstab(line, told))
        })?;
        self.rewrite("/etc/crypttab", &mut changes, |work, text, told| {
            fstab::with_field(text, 1, |spec| work.new_name(spec, true, told))
        })?;
        let mut files: Vec<String> = Vec::new();
        for entry in self.system.entries.iter().filter(|entry| !entry.is_unified) {
            if !files.contains(&entry.file) {
                files.push(entry.file.clone());
            }
        }
        let tree = &self.system.tree;
        files.extend(loader::defaults(tree));
        files.extend(entry::GRUB_ENV.iter().filter(|path| tree.exists(path)).map(ToString::to_string));
        let mut renamed = false;
        for path in files {
            let keys = ["root", "resume", "cryptdevice", "cryptkey", "rd.luks.key"];
            let known = changes.len();
            self.rewrite(&path, &mut changes, |work, text, told| {
                let new = with_parameters(text, &keys, |key, value| {
                    // Beside the device of an encrypted volume stands what it is to be called, or where its key is.
                    let mut name = |spec| work.new_name(spec, has_initrd || key != "root", told);
                    let parts: Vec<String> =
                        value.split(':').map(|part| name(part).unwrap_or_else(|| part.into())).collect();
                    Some(parts.join(":"))
                });
                if entry::GRUB_ENV.contains(&path.as_str()) { same_length(text, new) } else { new }
            })?;
            renamed |= changes.len() > known;
        }
        for name in self.system.tree.names("/etc/initramfs-tools/conf.d") {
            let path = format!("/etc/initramfs-tools/conf.d/{name}");
            self.rewrite(&path, &mut changes, |work, text, told| {
                with_parameters(text, &["RESUME"], |_, spec| work.new_name(spec, true, told))
            })?;
        }
        if renamed {
            // Else the next configuration that is made has the old names again.
            self.rewrite("/etc/default/grub", &mut changes, |_, text, told| {
                let lines = text.split_inclusive('\n').map(|line| {
                    let off = line.trim_start().starts_with("GRUB_DISABLE_LINUX_UUID=") && line.contains("true");
                    if off {
                        told.push("GRUB_DISABLE_LINUX_UUID is off".into());
                    }
                    if off { format!("#{line}") } else { line.to_string() }
                });
                lines.collect()
            })?;
        }
        self.early_texts(&mut changes)?;
        Ok(changes)
    }

    /// Rewrites a text, if it is there and changes.
    fn rewrite(
        &mut self,
        path: &str,
        changes: &mut Vec<String>,
        make: impl FnOnce(&Self, &str, &mut Vec<String>) -> String,
    ) -> crate::Result<()> {
        let Some(text) = self.system.tree.text(path) else { return Ok(()) };
        let mut told = Vec::new();
        let new = make(self, &text, &mut told);
        if new != text {
            self.system.tree.set_text(path, &new)?;
            told.dedup();
            changes.push(format!("{path}: {}", told.join(", ")));
        }
        Ok(())
    }

    /// What to call a volume in place of `spec`; `None` when that stays right. `by_uuid` says whether UUIDs of file systems
    /// are understood there.
    pub(super) fn new_name(&self, spec: &str, by_uuid: bool, told: &mut Vec<String>) -> Option<String> {
        if !is_plain(spec) {
            return None;
        }
        let (_, volume) = self.system.volume(&self.work.guest.volumes, spec, None)?;
        if keeps_everywhere(self.work.hardware, spec, volume) {
            return None;
        }
        let new = self.lasting_name(volume, by_uuid)?;
        told.push(format!("{spec} is {new}"));
        Some(new)
    }

    /// The same for a line of fstab: what it calls the root is the root, whatever else is called so.
    fn new_name_in_fstab(&self, line: &fstab::Line, told: &mut Vec<String>) -> Option<String> {
        // An overlay, or a pool that is mounted as the root, has no device to name.
        let is_root = line.place == "/" && is_volume(&line.spec) && line.spec != "/dev/root";
        let volumes = &self.work.guest.volumes;
        let means = devices::resolve(volumes, &line.spec).map(|(index, _)| index);
        if !is_root || means == Some(self.system.root) && !is_plain(&line.spec) {
            return self.new_name(&line.spec, true, told);
        }
        let root = volumes.get(self.system.root)?;
        if means == Some(self.system.root) && keeps_everywhere(self.work.hardware, &line.spec, root) {
            return None;
        }
        let new = self.lasting_name(root, true)?;
        told.push(format!("{} is {new}", line.spec));
        Some(new)
    }

    fn lasting_name(&self, volume: &Found, by_uuid: bool) -> Option<String> {
        let uuid = volume.uuid.as_ref().filter(|_| by_uuid);
        // Copies of a volume have the same UUID: then the partition's own tells them apart.
        let alone = |uuid: &&String| {
            self.work.guest.volumes.iter().filter(|other| other.uuid.as_ref() == Some(*uuid)).count() == 1
        };
        let by_partition = || volume.part_uuid.as_ref().map(|uuid| format!("PARTUUID={uuid}"));
        uuid.filter(alone).map(|uuid| format!("UUID={uuid}")).or_else(by_partition)
    }
}

/// `text` with the values of parameters changed as `change` says; lines that are comments stay.
#[expect(clippy::string_slice, reason = "cut where the key was found and where its value ends")]
pub(super) fn with_parameters(
    text: &str,
    keys: &[&str],
    mut change: impl FnMut(&str, &str) -> Option<String>,
) -> String {
    let is_end = |c: char| c.is_whitespace() || ['"', '\'', ')', ','].contains(&c);
    let mut result = String::with_capacity(text.len() + 64);
    for line in text.split_inclusive('\n') {
        if line.trim_start().starts_with('#') && !line.starts_with("# GRUB Environment") {
            result.push_str(line);
            continue;
        }
        let mut rest = line;
        loop {
            // The next key that begins a word.
            let starts = keys.iter().flat_map(|key| {
                let pattern = format!("{key}=");
                let places: Vec<usize> = rest.match_indices(&pattern).map(|(at, _)| at).collect();
                places.into_iter().map(move |at| (at, *key))
            });
            let begins = |at: usize| {
                rest[..at].chars().next_back().is_none_or(|c| c.is_whitespace() || ['"', '\'', '='].contains(&c))
            };
            let Some((at, key)) = starts.filter(|(at, _)| begins(*at)).min() else { break };
            let start = at + key.len() + 1;
            let end = rest[start..].find(is_end).map_or(rest.len(), |len| start + len);
            result.push_str(&rest[..start]);
            match change(key, &rest[start..end]) {
                Some(new) => result.push_str(&new),
                None => result.push_str(&rest[start..end]),
            }
            rest = &rest[end..];
        }
        result.push_str(rest);
    }
    result
}

/// GRUB's environment as long as it was: what follows the last line is filled with `#`.
fn same_length(old: &str, new: String) -> String {
    if old.len() != GRUB_ENV_SIZE {
        return old.to_string();
    }
    let mut filled = new.trim_end_matches('#').to_string();
    if filled.len() > GRUB_ENV_SIZE {
        return old.to_string();
    }
    filled.extend(std::iter::repeat_n('#', GRUB_ENV_SIZE - filled.len()));
    filled
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn parameters_change_where_they_stand_and_nowhere_else() {
        let text = "# root=/dev/sda1\n\tlinux /vmlinuz root=/dev/sda1 ro quiet nfsroot=/dev/sda1\nGRUB_CMDLINE_LINUX=\"resume=/dev/sda5 root=/dev/sda1\"\nRESUME=/dev/sda5\n";
        let new = with_parameters(text, &["root", "resume"], |key, spec| {
            (spec == "/dev/sda1").then(|| format!("{key}-1")).or_else(|| (spec == "/dev/sda5").then(|| "five".into()))
        });
        let wanted = "# root=/dev/sda1\n\tlinux /vmlinuz root=root-1 ro quiet nfsroot=/dev/sda1\nGRUB_CMDLINE_LINUX=\"resume=five root=root-1\"\nRESUME=/dev/sda5\n";
        assert_eq!(new, wanted);
    }

    #[test]
    fn the_loaders_environment_keeps_its_length() {
        let mut old = "# GRUB Environment Block\nkernelopts=root=/dev/sda1 ro\n".to_string();
        old.extend(std::iter::repeat_n('#', GRUB_ENV_SIZE - old.len()));
        let new = with_parameters(&old, &["root"], |_, _| Some("UUID=5a170000".into()));
        let new = same_length(&old, new);
        assert_eq!(new.len(), GRUB_ENV_SIZE);
        assert!(new.starts_with("# GRUB Environment Block\nkernelopts=root=UUID=5a170000 ro\n##"));
    }
}
