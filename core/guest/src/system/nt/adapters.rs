//! Adapters as a system's registry has them: the device, the connection that a person sees, and its addresses.

use serde::Serialize;

use crate::{
    error::Result,
    formats::hive::{Data, Hive, Key},
};

/// The class of adapters.
pub(crate) const CLASS: &str = "{4d36e972-e325-11ce-bfc1-08002be10318}";
/// Adapters that are looked through.
const MOST: usize = 4096;

/// An adapter that is configured.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize)]
pub struct Adapter {
    /// What the person calls it, such as `Ethernet0`.
    pub name: String,
    /// What the device calls itself.
    pub device: Option<String>,
    /// Its hardware address.
    pub mac: Option<String>,
    /// Whether its addresses are given by a server.
    pub dhcp: bool,
    /// Its own addresses, each with its mask.
    pub addresses: Vec<String>,
    /// Its gateways.
    pub gateways: Vec<String>,
    /// Servers for names.
    pub name_servers: Vec<String>,
    /// Its identity in the registry.
    pub id: String,
    /// The device that it is, by its place in the registry's list of devices.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub instance: Option<String>,
    /// Where that is on PCI: bus, device, function.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub pci: Option<(u32, u32, u32)>,
    /// The number under which its driver's settings are kept, as text of four digits.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub number: Option<String>,
    /// The metric of each gateway.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub gateway_metrics: Vec<String>,
    /// Its own metric.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub metric: Option<u32>,
    /// The domain that is added to names there.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub suffix: Option<String>,
}

impl Adapter {
    /// Whether it is a device, and not something that the system made of others.
    pub(crate) fn is_hardware(&self) -> bool {
        let instance = self.instance.as_deref().unwrap_or_default().to_ascii_uppercase();
        ["PCI\\", "VMBUS\\", "XEN"].iter().any(|bus| instance.starts_with(bus))
    }

    /// Whether something of its settings is its own, and not given by a server.
    pub(crate) fn is_static(&self) -> bool {
        !self.dhcp && !self.addresses.is_empty()
    }
}

/// What the driver's settings say of an adapter.
struct Device {
    id: String,
    description: Option<String>,
    number: String,
    instance: Option<String>,
}

/// Texts of a value, which may be one or several; empty ones left out.
fn texts(hive: &Hive, key: Key, name: &str) -> Result<Vec<String>> {
    let data = hive.value(key, name)?.map(|value| value.data());
    let all = match data {
        Some(Data::Texts(texts)) => texts,
        Some(Data::Text(text) | Data::Expand(text)) => text.split([',', ' ']).map(Into::into).collect(),
        _ => Vec::new(),
    };
    Ok(all.into_iter().filter(|text| !text.is_empty()).collect())
}

/// Reads the adapters of the control set `set`.
///
/// # Errors
/// Those of reading.
pub(super) fn read(system: &Hive, set: &str) -> Result<Vec<Adapter>> {
    // What each adapter's device is called, by the adapter's identity.
    let mut devices = Vec::new();
    if let Some(class) = system.find(&format!("{set}\\Control\\Class\\{CLASS}"))? {
        for (number, key) in system.keys(class)?.into_iter().take(MOST) {
            let text =
                |name: &str| Ok::<_, crate::Error>(system.value(key, name)?.and_then(|value| value.data().into_text()));
            if let Some(id) = text("NetCfgInstanceId")? {
                let (description, instance) = (text("DriverDesc")?, text("DeviceInstanceID")?);
                devices.push(Device { id, description, number, instance });
            }
        }
    }
    let mut found = Vec::new();
    let Some(network) = system.find(&format!("{set}\\Control\\Network\\{CLASS}"))? else { return Ok(found) };
    for (id, key) in system.keys(network)?.into_iter().take(MOST) {
        let Some(connection) = system.find_below(key, "Connection")? else { continue };
        let Some(name) = system.value(connection, "Name")?.and_then(|value| value.data().into_text()) else { continue };
        let device = devices.iter().find(|device| device.id.eq_ignore_ascii_case(&id));
        let instance = system.value(connection, "PnPInstanceId")?.and_then(|value| value.data().into_text());
        let instance = instance.or_else(|| device.and_then(|device| device.instance.clone()));
        let mut adapter = Adapter {
            name,
            device: device.and_then(|device| device.description.clone()),
            mac: None,
            dhcp: true,
            addresses: Vec::new(),
            gateways: Vec::new(),
            name_servers: Vec::new(),
            id: id.clone(),
            number: device.map(|device| device.number.clone()),
            pci: None,
            instance,
            gateway_metrics: Vec::new(),
            metric: None,
            suffix: None,
        };
        if let Some(instance) = &adapter.instance {
            let place = system.text(&format!("{set}\\Enum\\{instance}"), "LocationInformation")?;
            adapter.pci = place.and_then(|text| self::place(&text));
        }
        let kernel = format!("{set}\\Control\\NetworkSetup2\\Interfaces\\{id}\\Kernel");
        if let Some(Data::Bytes(mac)) = system.data(&kernel, "PermanentAddress")?
            && mac.len() == 6
        {
            let pairs: Vec<String> = mac.iter().map(|byte| format!("{byte:02x}")).collect();
            adapter.mac = Some(pairs.join(":"));
        }
        if let Some(key) = system.find(&format!("{set}\\Services\\Tcpip\\Parameters\\Interfaces\\{id}"))? {
            let is_given = system.value(key, "EnableDHCP")?.map(|value| value.data());
            adapter.dhcp = is_given != Some(Data::Number(0));
            let masks = texts(system, key, "SubnetMask")?;
            let addresses = texts(system, key, "IPAddress")?;
            let with_mask = |(index, address): (usize, String)| match masks.get(index) {
                Some(mask) => {
                    format!("{address}/{}", prefix(mask).map_or_else(|| mask.clone(), |bits| bits.to_string()))
                }
                None => address,
            };
            adapter.addresses = addresses.into_iter().enumerate().map(with_mask).collect();
            adapter.gateways = texts(system, key, "DefaultGateway")?;
            adapter.name_servers = texts(system, key, "NameServer")?;
            adapter.gateway_metrics = texts(system, key, "DefaultGatewayMetric")?;
            adapter.metric = match system.value(key, "InterfaceMetric")?.map(|value| value.data()) {
                Some(Data::Number(number)) => Some(number),
                _ => None,
            };
            let suffix = system.value(key, "Domain")?.and_then(|value| value.data().into_text());
            adapter.suffix = suffix.filter(|suffix| !suffix.is_empty());
        }
        found.push(adapter);
    }
    Ok(found)
}

/// The bits of a mask, where they are all in front.
fn prefix(mask: &str) -> Option<u32> {
    let bits = u32::from(mask.parse::<std::net::Ipv4Addr>().ok()?);
    (bits.leading_ones() + bits.trailing_zeros() >= 32).then(|| bits.leading_ones())
}

/// A place on PCI: the three numbers at the end of what a bus says of a device.
fn place(text: &str) -> Option<(u32, u32, u32)> {
    let numbers: Vec<u32> = text
        .split(|c: char| !c.is_ascii_digit())
        .filter(|part| !part.is_empty())
        .filter_map(|part| part.parse().ok())
        .collect();
    match numbers.as_slice() {
        [.., bus, device, function] => Some((*bus, *device, *function)),
        _ => None,
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn masks_become_lengths() {
        assert_eq!(prefix("255.255.255.0"), Some(24));
        assert_eq!(prefix("255.255.254.0"), Some(23));
        assert_eq!((prefix("0.0.0.0"), prefix("255.255.255.255")), (Some(0), Some(32)));
        assert_eq!((prefix("255.0.255.0"), prefix("tide")), (None, None));
    }

    #[test]
    fn places_on_pci_are_read_from_what_a_bus_says() {
        let places = "@System32\\drivers\\pci.sys,#65536;PCI bus %1, device %2, function %3;(3,0,1)";
        assert_eq!(place(places), Some((3, 0, 1)));
        assert_eq!(place("PCI bus 2, device 11, function 0"), Some((2, 11, 0)));
        assert_eq!((place("Slot 7"), place("")), (None, None));
    }
}
