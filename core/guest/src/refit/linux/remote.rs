//! The edit `remote-login`: the SSH server starts with the system, where the new host has no other way in.

use super::Edits;
use crate::{fs::tree::Tree, refit::work::Changes, system::linux::Linux};

/// What distributions call the service, and where services are described.
const SERVICES: [&str; 2] = ["ssh.service", "sshd.service"];
const FOLDERS: [&str; 3] = ["/etc/systemd/system", "/usr/lib/systemd/system", "/lib/systemd/system"];
const OWN: &str = "/etc/systemd/system";

/// The SSH server's service and the file that describes it.
pub(super) fn server(system: &Linux) -> Option<(&'static str, String)> {
    let of = |service: &'static str| {
        let paths = FOLDERS.iter().map(|folder| format!("{folder}/{service}"));
        let is_unit = |path: &String| system.tree.exists(path) && !is_mask(&system.tree, path);
        paths.into_iter().find(is_unit).map(|path| (service, path))
    };
    SERVICES.into_iter().find_map(of)
}

fn is_mask(tree: &Tree, path: &str) -> bool {
    tree.link_target(path).is_ok_and(|target| target == b"/dev/null")
}

impl Edits<'_, '_> {
    pub(crate) fn remote_login(&mut self) -> Changes {
        let mut changes = Vec::new();
        if !self.work.hardware.rules.remote_login || !self.work.is_first || !self.system.has_systemd() {
            return Ok(changes);
        }
        let Some((service, unit)) = server(self.system) else { return Ok(changes) };
        let tree = &mut self.system.tree;
        for name in SERVICES {
            let own = format!("{OWN}/{name}");
            if is_mask(tree, &own) {
                tree.remove(&own)?;
                changes.push(format!("{name} is no longer masked"));
            }
        }
        let folders = tree.names(OWN).into_iter().filter(|name| name.ends_with(".wants"));
        let socket = service.replace(".service", ".socket");
        let starts = |folder: String| {
            [service, socket.as_str()].iter().any(|name| tree.stat_link(format!("{OWN}/{folder}/{name}")).is_ok())
        };
        if !folders.into_iter().any(starts) {
            let folder = format!("{OWN}/multi-user.target.wants");
            tree.make_folders(&folder)?;
            tree.link(format!("{folder}/{service}"), &unit)?;
            changes.push(format!("{service} starts with multi-user.target"));
        }
        Ok(changes)
    }
}
