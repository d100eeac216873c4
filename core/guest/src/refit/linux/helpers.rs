//! The edit `helpers`: services of the old host are masked, not removed; those of the new one start.

use super::Edits;
use crate::refit::work::Changes;
use crate::system::linux::network::ini;

impl Edits<'_, '_> {
    pub(crate) fn helpers(&mut self) -> Changes {
        let system = &mut *self.system;
        let mut changes = Vec::new();
        if !system.has_systemd() {
            return Ok(changes);
        }
        for helper in system.helpers.clone() {
            let own = format!("/etc/systemd/system/{}", helper.service);
            let tree = &mut system.tree;
            if self.work.hardware.host.as_ref() != Some(&helper.host) {
                // A unit that someone wrote there is theirs.
                if !helper.masked && helper.unit != own {
                    tree.make_folders("/etc/systemd/system")?;
                    tree.link(&own, "/dev/null")?;
                    changes.push(format!("{} is masked", helper.service));
                }
                continue;
            }
            if helper.masked {
                tree.remove(&own)?;
                changes.push(format!("{} is no longer masked", helper.service));
            }
            let text = tree.text(&helper.unit).unwrap_or_default();
            let wanted = ini(&text, "Install", "WantedBy").unwrap_or_default();
            for target in wanted.split_whitespace().filter(|target| !target.contains('/') && !helper.enabled) {
                let folder = format!("/etc/systemd/system/{target}.wants");
                tree.make_folders(&folder)?;
                tree.link(format!("{folder}/{}", helper.service), &helper.unit)?;
                changes.push(format!("{} starts with {target}", helper.service));
            }
        }
        Ok(changes)
    }
}
