//! One `Item` of a virtual hardware section: a CIM resource allocation setting (`CIM_ResourceAllocationSettingData`,
//! in OVF 2 also its storage and Ethernet port kinds, whose names below are the same).

use roxmltree::Node;

use crate::xml::Element;

/// Values of `ResourceType` that we tell apart.
pub(super) mod resource {
    pub(crate) const OTHER: u16 = 1;
    pub(crate) const PROCESSOR: u16 = 3;
    pub(crate) const MEMORY: u16 = 4;
    pub(crate) const IDE: u16 = 5;
    pub(crate) const SCSI: u16 = 6;
    pub(crate) const ETHERNET: u16 = 10;
    pub(crate) const FLOPPY: u16 = 14;
    pub(crate) const CD: u16 = 15;
    pub(crate) const DVD: u16 = 16;
    pub(crate) const DISK: u16 = 17;
    pub(crate) const OTHER_STORAGE: u16 = 20;
    pub(crate) const SERIAL: u16 = 21;
    pub(crate) const PARALLEL: u16 = 22;
    pub(crate) const USB: u16 = 23;
    pub(crate) const GRAPHICS: u16 = 24;
    pub(crate) const SOUND: u16 = 35;
}

/// An item, its texts as they stand.
#[derive(Debug)]
pub(super) struct Item<'a> {
    /// Where it starts in the file's text.
    pub(super) start: usize,
    pub(super) instance: &'a str,
    pub(super) kind: u16,
    pub(super) subtype: String,
    pub(super) name: &'a str,
    pub(super) parent: Option<&'a str>,
    pub(super) address: Option<&'a str>,
    pub(super) address_on_parent: Option<&'a str>,
    pub(super) units: &'a str,
    pub(super) quantity: Option<&'a str>,
    pub(super) host_resource: Option<&'a str>,
    pub(super) connection: Option<&'a str>,
    pub(super) cores_per_socket: Option<&'a str>,
    /// Whether the device is connected when the machine starts.
    pub(super) automatic: bool,
}

impl<'a> Item<'a> {
    pub(super) fn read(node: Node<'a, '_>) -> Self {
        Self {
            start: node.range().start,
            instance: node.value("InstanceID").unwrap_or_default(),
            kind: node.value("ResourceType").and_then(|text| text.parse().ok()).unwrap_or(0),
            subtype: node.value("ResourceSubType").unwrap_or_default().to_ascii_lowercase(),
            name: node.value("ElementName").or_else(|| node.value("Caption")).unwrap_or_default(),
            parent: node.value("Parent"),
            address: node.value("Address"),
            address_on_parent: node.value("AddressOnParent"),
            units: node.value("AllocationUnits").unwrap_or_default(),
            quantity: node.value("VirtualQuantity"),
            host_resource: node.value("HostResource"),
            connection: node.value("Connection"),
            cores_per_socket: node.value("CoresPerSocket"),
            automatic: node.value("AutomaticAllocation") != Some("false"),
        }
    }

    /// Whether the item counts under deployment option `chosen`, and is no bound of a range.
    pub(super) fn applies(node: Node<'_, '_>, chosen: Option<&str>) -> bool {
        let configured =
            node.attr("configuration").is_none_or(|list| list.split_whitespace().any(|option| Some(option) == chosen));
        configured && node.attr("bound").is_none_or(|bound| bound == "normal")
    }
}
