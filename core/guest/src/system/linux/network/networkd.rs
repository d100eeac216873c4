//! systemd-networkd (`systemd.network(5)`, `systemd.netdev(5)`).

use super::{Used, ini, mac, push};

/// The name of the adapter that a `.netdev` file makes.
pub(super) fn made(text: &str) -> Option<String> {
    ini(text, "NetDev", "Name")
}

/// The adapters that `text`, the content of the `.network` file `file`, is for.
pub(super) fn read(text: &str, file: &str, found: &mut Vec<Used>) {
    let address = ini(text, "Match", "MACAddress").or_else(|| ini(text, "Match", "PermanentMACAddress"));
    let names = ini(text, "Match", "Name").unwrap_or_default();
    push(found, names.split_whitespace(), address.as_deref().and_then(mac), true, file);
}
