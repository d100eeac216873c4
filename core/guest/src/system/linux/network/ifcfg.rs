//! The `ifcfg-NAME` files of `network-scripts`.

use super::{Used, mac, push};
use crate::system::linux::release::assignments;

/// The adapter that `text`, the content of `file`, is for; `suffix` is what the file's name ends with. One that is made out of
/// others goes into `made`.
pub(super) fn read(text: &str, suffix: &str, file: &str, found: &mut Vec<Used>, made: &mut Vec<String>) {
    let value = |key: &str| assignments(text).find(|(name, _)| *name == key).map(|(_, value)| value);
    let name = value("DEVICE").unwrap_or_else(|| suffix.to_string());
    let kind = value("TYPE").unwrap_or_default();
    let is_made = ["BONDING_OPTS", "BONDING_MASTER", "BRIDGE_STP"].iter().any(|key| value(key).is_some())
        || !matches!(kind.as_str(), "" | "Ethernet")
        || value("VLAN").is_some_and(|on| on == "yes")
        || value("TEAM_CONFIG").is_some()
        || value("DEVICETYPE").is_some_and(|kind| kind == "Team");
    if is_made {
        made.push(name);
        return;
    }
    // `MACADDR` is the address that it gets, whichever it has.
    let address = value("HWADDR");
    // Without a device, the address alone says which adapter it is.
    let by_mac = value("DEVICE").is_none();
    push(found, [name.as_str()].into_iter(), address.as_deref().and_then(mac), by_mac, file);
}
