//! NetworkManager's keyfiles.

use super::{Used, ini, mac, push};

/// The adapter that `text`, the content of `file`, is for.
pub(super) fn read(text: &str, file: &str, found: &mut Vec<Used>) {
    let kind = ini(text, "connection", "type").unwrap_or_default();
    if !matches!(kind.as_str(), "ethernet" | "802-3-ethernet") {
        return;
    }
    let address = ini(text, "ethernet", "mac-address").or_else(|| ini(text, "802-3-ethernet", "mac-address"));
    let name = ini(text, "connection", "interface-name").unwrap_or_default();
    // Both conditions must hold where both are given, so the name still counts.
    push(found, [name.as_str()].into_iter(), address.as_deref().and_then(mac), false, file);
}
