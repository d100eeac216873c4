//! The edit `identity`: a new host name, a new machine identity, new keys of the SSH server; each only on request.

use super::{Edits, first_boot::schedule};
use crate::refit::work::Changes;
use crate::system::linux::fstab;

impl Edits<'_, '_> {
    pub(crate) fn identity(&mut self) -> Changes {
        let mut changes = Vec::new();
        if !self.work.is_first {
            return Ok(changes);
        }
        let wishes = self.work.wishes.clone();
        let tree = &mut self.system.tree;
        if let Some(name) = &wishes.host_name {
            let old = tree.text("/etc/hostname").unwrap_or_default().trim().to_string();
            if old != *name {
                tree.set_text("/etc/hostname", &format!("{name}\n"))?;
                changes.push(format!("the host name is {name}"));
                if let Some(hosts) = tree.text("/etc/hosts").filter(|_| !old.is_empty()) {
                    let short = name.split('.').next().unwrap_or(name);
                    let old_short = old.split('.').next().unwrap_or(&old).to_string();
                    let mut new = hosts.clone();
                    // Each name of a line is a field of its own.
                    for column in 1..6 {
                        new = fstab::with_field(&new, column, |field| match field {
                            field if field == old => Some(name.clone()),
                            field if field == old_short => Some(short.into()),
                            _ => None,
                        });
                    }
                    if new != hosts {
                        tree.set_text("/etc/hosts", &new)?;
                        changes.push("/etc/hosts has the new name".into());
                    }
                }
            }
        }
        if wishes.new_machine_id {
            for path in ["/etc/machine-id", "/var/lib/dbus/machine-id"] {
                // A link leads to the other.
                let is_file = tree.stat_link(path).is_ok_and(|stat| stat.kind == crate::fs::node::Kind::File);
                if is_file && path == "/etc/machine-id" {
                    tree.write(path, b"")?;
                    changes.push("the machine's identity is made on the first start".into());
                } else if is_file {
                    tree.remove(path)?;
                }
            }
        }
        if wishes.new_ssh_keys {
            let keys: Vec<String> = tree
                .names("/etc/ssh")
                .into_iter()
                .filter(|name| name.starts_with("ssh_host_") && name.contains("_key"))
                .collect();
            if !keys.is_empty() {
                for key in &keys {
                    tree.remove(format!("/etc/ssh/{key}"))?;
                }
                schedule(self.system, "01-ssh-keys", b"#!/bin/sh\nssh-keygen -A\n")?;
                changes.push("the SSH server's keys are made on the first start".into());
            }
        }
        Ok(changes)
    }
}
