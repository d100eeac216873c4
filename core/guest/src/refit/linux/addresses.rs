//! The edit `addresses`: the first adapter asks for its address, where the new host is the one to give it.

mod block;
mod lines;

use super::Edits;
use crate::{error::Error, refit::work::Changes};

/// Programs that ask for an address, for the tools that do not do it themselves.
const CLIENTS: [&str; 6] =
    ["/sbin/dhclient", "/usr/sbin/dhclient", "/sbin/udhcpc", "/usr/sbin/dhcpcd", "/sbin/dhcpcd", "/usr/sbin/udhcpc"];

impl Edits<'_, '_> {
    pub(crate) fn addresses(&mut self) -> Changes {
        if !self.work.hardware.rules.dhcp || self.work.hardware.adapters.is_empty() {
            return Ok(Vec::new());
        }
        let used = self.system.network.clone();
        // What there is to say of names was said with them.
        let known = self.work.remarks.len();
        let matched = self.matched(&used);
        self.work.remarks.truncate(known);
        let Some((name, _)) = matched.into_iter().find(|(_, adapter)| *adapter == 0) else { return Ok(Vec::new()) };
        let unsupported = |what: &str| Error::Unsupported {
            volume: self.system.release.name.clone(),
            action: "changed",
            what: what.into(),
        };
        let mut changes = Vec::new();
        for one in used.iter().filter(|one| one.name == name) {
            let tree = &self.system.tree;
            let Some(text) = tree.text(&one.file) else { continue };
            let made = asking(&one.file, &text, &name).map_err(|what| unsupported(&format!("{}: {what}", one.file)))?;
            let Some((new, left)) = made else { continue };
            if one.file.starts_with("/etc/network/interfaces") && !CLIENTS.iter().any(|client| tree.exists(client)) {
                return Err(unsupported("there is no program that asks for an address (DHCP client)"));
            }
            changes.push(format!("{}: {name} asks for its address (DHCP); it had {}", one.file, left.join(", ")));
            self.system.tree.set_text(&one.file, &new)?;
        }
        Ok(changes)
    }
}

/// `text` of the configuration file at `file`, in which the adapter `name` asks for its address, and what it had; `None` where it had
/// none of its own.
pub(crate) fn asking(file: &str, text: &str, name: &str) -> Result<Option<(String, Vec<String>)>, &'static str> {
    let (new, left) = if file.starts_with("/etc/network/interfaces") {
        lines::interfaces(text, name)
    } else if file.starts_with("/etc/netplan/") {
        block::netplan(text, name)?
    } else if file.starts_with("/etc/systemd/network/") {
        lines::networkd(text)
    } else if file.starts_with("/etc/NetworkManager/") {
        lines::keyfile(text)
    } else if file.contains("/ifcfg-") {
        lines::ifcfg(text)
    } else {
        return Ok(None);
    };
    Ok((!left.is_empty()).then_some((new, left)))
}
