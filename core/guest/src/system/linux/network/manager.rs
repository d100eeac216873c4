//! NetworkManager's keyfiles.

use super::{Used, by_path, ini, mac, push};

/// The adapter that `text`, the content of `file`, is for.
pub(super) fn read(text: &str, file: &str, found: &mut Vec<Used>) {
    let kind = ini(text, "connection", "type").unwrap_or_default();
    if !matches!(kind.as_str(), "ethernet" | "802-3-ethernet") {
        return;
    }
    let address = ini(text, "ethernet", "mac-address").or_else(|| ini(text, "802-3-ethernet", "mac-address"));
    let name = ini(text, "connection", "interface-name").or_else(|| ini(text, "match", "interface-name"));
    let path = ini(text, "match", "path").as_deref().and_then(by_path::path);
    let name = name.or_else(|| by_path::name(path.as_deref()?)).unwrap_or_default();
    let known = found.len();
    // All conditions must hold where several are given, so the name still counts.
    push(found, [name.as_str()].into_iter(), address.as_deref().and_then(mac), false, file);
    found.iter_mut().skip(known).for_each(|used| used.path.clone_from(&path));
}
