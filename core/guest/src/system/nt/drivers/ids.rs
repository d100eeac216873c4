//! Names by which a Windows system looks for a device's driver.

/// The identities of the device `full`, the likeliest first: what a system looks for, in its order ("Identifiers for PCI Devices" of
/// the driver kit's documentation). A device on PCI is written with all that is known of it, as
/// `PCI\VEN_1AF4&DEV_1048&SUBSYS_11001AF4&REV_01&CC_010000`; any other has the one identity that is given.
pub fn of(full: &str) -> Vec<String> {
    let Some(rest) = full.strip_prefix("PCI\\") else { return vec![full.into()] };
    let part = |key: &str| rest.split('&').find(|part| part.starts_with(key));
    let (Some(vendor), Some(device)) = (part("VEN_"), part("DEV_")) else { return vec![full.into()] };
    let both = format!("PCI\\{vendor}&{device}");
    let subsystem = part("SUBSYS_").map(|subsystem| format!("{both}&{subsystem}"));
    let revision = part("REV_");
    // Class and subclass alone, and with the interface.
    let class = part("CC_");
    let short = class.and_then(|class| class.get(..7));
    let with = |start: &Option<String>, end: Option<&str>| Some(format!("{}&{}", start.as_ref()?, end?));
    let (both, vendor) = (Some(both), Some(format!("PCI\\{vendor}")));
    [
        with(&subsystem, revision),
        subsystem.clone(),
        with(&both, class),
        with(&both, short),
        with(&both, revision),
        both.clone(),
        with(&vendor, class),
        with(&vendor, short),
        vendor.clone(),
        class.map(|class| format!("PCI\\{class}")),
        short.map(|class| format!("PCI\\{class}")),
    ]
    .into_iter()
    .flatten()
    .collect()
}

/// The name of a device's key in the table of critical devices: no key's name holds a backslash.
pub(crate) fn critical(id: &str) -> String {
    id.replace('\\', "#").to_lowercase()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_pci_device_has_many_names_and_others_have_one() {
        let names = of("PCI\\VEN_1AF4&DEV_1048&SUBSYS_11001AF4&REV_01&CC_010802");
        assert_eq!(names.len(), 11);
        assert_eq!(names[0], "PCI\\VEN_1AF4&DEV_1048&SUBSYS_11001AF4&REV_01");
        assert_eq!(names[5], "PCI\\VEN_1AF4&DEV_1048");
        assert_eq!(&names[9..], ["PCI\\CC_010802", "PCI\\CC_0108"]);
        assert_eq!(of("PCI\\VEN_1AF4&DEV_1048"), ["PCI\\VEN_1AF4&DEV_1048", "PCI\\VEN_1AF4"]);
        assert_eq!(of("ACPI\\VMBUS"), ["ACPI\\VMBUS"]);
        assert_eq!(critical("PCI\\CC_0106"), "pci#cc_0106");
    }
}
