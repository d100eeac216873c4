//! What DSP0243 has no element for, and hosts add in namespaces of their own.

use roxmltree::Node;

use crate::{model::Firmware, xml::Element};

/// What DSP0243 has no element for, and hosts add in namespaces of their own.
pub(super) struct Vendor<'a> {
    pub(super) firmware: Firmware,
    pub(super) local_time: Option<bool>,
    /// Instances of the items that boot, in their order.
    pub(super) boot: Vec<&'a str>,
    /// File of the firmware's variables.
    pub(super) nvram: Option<&'a str>,
}

impl<'a> Vendor<'a> {
    pub(super) fn read(system: Node<'a, '_>, hardware: Node<'a, '_>) -> Self {
        let config = |key: &str| {
            let configs = hardware.children().filter(|node| matches!(node.tag_name().name(), "Config" | "ExtraConfig"));
            configs.filter(|node| node.attr("key") == Some(key)).find_map(|node| node.attr("value"))
        };
        // A whole machine in the exporting host's own format.
        let inner = system.first("Machine").and_then(|machine| machine.first("Hardware"));
        let inner_attr =
            |element, attr| inner.and_then(|hardware| hardware.first(element)).and_then(|node| node.attr(attr));
        let words = [config("firmware"), inner_attr("Firmware", "type")];
        let uefi = words.into_iter().flatten().any(|word| word.to_ascii_lowercase().starts_with("efi"));
        let secure = config("bootOptions.efiSecureBootEnabled").or_else(|| config("uefi.secureBoot.enabled"));
        let secure_boot = secure.is_some_and(|value| value.eq_ignore_ascii_case("true"));
        let boot = system
            .descendants()
            .find(|node| node.tag_name().name() == "BootOrderSection" && node.attr("type").is_none_or(|t| t == "disk"))
            .and_then(|node| node.attr("instanceId"))
            .map(|list| list.split_whitespace().collect())
            .unwrap_or_default();
        let local_time = inner_attr("RTC", "localOrUTC").map(|value| value.eq_ignore_ascii_case("local"));
        let firmware = if uefi { Firmware::Uefi { secure_boot } } else { Firmware::Bios };
        Self { firmware, local_time, boot, nvram: config("nvram") }
    }
}
