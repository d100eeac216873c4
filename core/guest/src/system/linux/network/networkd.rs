//! systemd-networkd (`systemd.network(5)`, `systemd.netdev(5)`).

use super::{Used, by_path, ini, mac, push};

/// The name of the adapter that a `.netdev` file makes.
pub(super) fn made(text: &str) -> Option<String> {
    ini(text, "NetDev", "Name")
}

/// The adapters that `text`, the content of the `.network` file `file`, is for.
pub(super) fn read(text: &str, file: &str, found: &mut Vec<Used>) {
    let address = ini(text, "Match", "MACAddress").or_else(|| ini(text, "Match", "PermanentMACAddress"));
    let path = ini(text, "Match", "Path").as_deref().and_then(by_path::path);
    let names = ini(text, "Match", "Name").or_else(|| by_path::name(path.as_deref()?)).unwrap_or_default();
    let known = found.len();
    push(found, names.split_whitespace(), address.as_deref().and_then(mac), true, file);
    found.iter_mut().skip(known).for_each(|used| used.path.clone_from(&path));
}
