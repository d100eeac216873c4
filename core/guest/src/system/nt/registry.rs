//! What a system's registry says of it. What is not there is not told; what cannot be read is noted in its tree.

use serde::Serialize;

use crate::{
    error::Result,
    formats::hive::{Data, Hive, Key},
    fs::ntfs::seconds,
};

/// The class of adapters.
const ADAPTERS: &str = "{4d36e972-e325-11ce-bfc1-08002be10318}";
/// Keys that are looked through: services and adapters.
const MOST: usize = 4096;

/// Services of hosts, as they are called: the kinds are those of destinations.
const HELPERS: [(&str, &[&str]); 4] = [
    ("vmx", &["VMTools", "VGAuthService", "vm3dservice", "vmvss", "VMUpgradeHelper"]),
    ("vdi", &["VBoxService", "VBoxGuest", "VBoxSF"]),
    (
        "vmbus",
        &[
            "vmicheartbeat",
            "vmickvpexchange",
            "vmicshutdown",
            "vmictimesync",
            "vmicvss",
            "vmicguestinterface",
            "vmicrdv",
            "WindowsAzureGuestAgent",
            "RdAgent",
        ],
    ),
    ("virtio", &["QEMU-GA", "BalloonService", "vdservice", "spice-agent"]),
];

/// An adapter that is configured.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
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
}

/// A driver of disks.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct Driver {
    /// Its service.
    pub service: String,
    /// Whether the loader loads it, and nothing takes that back.
    pub starts_at_boot: bool,
    /// Its file, as the registry has it.
    pub image: Option<String>,
}

/// A service of a host.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct HostService {
    /// Its name.
    pub service: String,
    /// The kind of host that it is for.
    pub host: String,
    /// Whether it starts.
    pub starts: bool,
}

/// What `SOFTWARE` says.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize)]
pub struct Version {
    /// What it calls itself.
    pub product: Option<String>,
    /// Its edition, such as `ServerStandard`.
    pub edition: Option<String>,
    /// `Client` or `Server`, and what kind of that.
    pub installation: Option<String>,
    /// Version, as `10.0`.
    pub version: Option<String>,
    /// Its release, such as `21H2`.
    pub release: Option<String>,
    /// Build, with what was added to it since.
    pub build: Option<String>,
}

/// What `SYSTEM` says.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize)]
pub struct Settings {
    /// The control set that it starts with.
    pub control_set: Option<u32>,
    /// All of them.
    pub control_sets: Vec<String>,
    /// The set that worked last.
    pub last_known_good: Option<u32>,
    /// Architecture, such as `AMD64`.
    pub architecture: Option<String>,
    /// Its own name.
    pub computer_name: Option<String>,
    /// Its time zone.
    pub time_zone: Option<String>,
    /// When it was shut down, in seconds since 1970.
    pub shut_down: Option<i64>,
    /// Whether shutting down leaves it half asleep.
    pub fast_startup: Option<bool>,
    /// Adapters that are configured.
    pub adapters: Vec<Adapter>,
    /// Drivers of disks.
    pub drivers: Vec<Driver>,
    /// Services of hosts.
    pub helpers: Vec<HostService>,
}

/// Reads what `SOFTWARE` says of the version.
///
/// # Errors
/// Those of reading.
pub(super) fn version(software: &Hive) -> Result<Version> {
    let at = |name: &str| software.data("Microsoft\\Windows NT\\CurrentVersion", name);
    let text = |name: &str| Ok::<_, crate::Error>(at(name)?.and_then(Data::into_text).filter(|text| !text.is_empty()));
    let number = |name: &str| {
        Ok::<_, crate::Error>(match at(name)? {
            Some(Data::Number(number)) => Some(number),
            _ => None,
        })
    };
    let major = number("CurrentMajorVersionNumber")?.zip(number("CurrentMinorVersionNumber")?);
    let build = text("CurrentBuildNumber")?.or(text("CurrentBuild")?);
    let product = text("ProductName")?;
    let installation = text("InstallationType")?;
    // A client of 11 goes on saying 10 here; its build tells.
    let is_eleven = build.as_ref().and_then(|build| build.parse().ok()).is_some_and(|build: u32| build >= 22_000)
        && installation.as_deref() == Some("Client");
    let product = product.map(|product| if is_eleven { product.replace("Windows 10", "Windows 11") } else { product });
    let build = match (build, number("UBR")?) {
        (Some(build), Some(revision)) => Some(format!("{build}.{revision}")),
        (build, _) => build,
    };
    Ok(Version {
        product,
        edition: text("EditionID")?,
        installation,
        version: match major {
            Some((major, minor)) => Some(format!("{major}.{minor}")),
            None => text("CurrentVersion")?,
        },
        release: text("DisplayVersion")?.or(text("ReleaseId")?),
        build,
    })
}

/// Reads what `SYSTEM` says.
///
/// # Errors
/// Those of reading.
pub(super) fn settings(system: &Hive) -> Result<Settings> {
    let current = system.number("Select", "Current")?;
    let root = system.keys(system.root())?;
    let control_sets: Vec<String> = root
        .into_iter()
        .map(|(name, _)| name)
        .filter(|name| name.to_ascii_lowercase().starts_with("controlset"))
        .collect();
    let mut settings = Settings {
        control_set: current,
        control_sets,
        last_known_good: system.number("Select", "LastKnownGood")?,
        ..Settings::default()
    };
    let Some(current) = current else { return Ok(settings) };
    let set = format!("ControlSet{current:03}");
    let text = |path: &str, name: &str| {
        Ok::<_, crate::Error>(system.text(&format!("{set}\\{path}"), name)?.filter(|text| !text.is_empty()))
    };
    settings.architecture = text("Control\\Session Manager\\Environment", "PROCESSOR_ARCHITECTURE")?;
    settings.computer_name = text("Control\\ComputerName\\ComputerName", "ComputerName")?;
    let zone = "Control\\TimeZoneInformation";
    settings.time_zone = text(zone, "TimeZoneKeyName")?.or(text(zone, "StandardName")?);
    let shut_down = system.data(&format!("{set}\\Control\\Windows"), "ShutdownTime")?;
    settings.shut_down = match shut_down {
        Some(Data::Bytes(bytes)) => bytes.first_chunk().map(|eight| seconds(u64::from_le_bytes(*eight))),
        _ => None,
    };
    let power = format!("{set}\\Control\\Session Manager\\Power");
    settings.fast_startup = system.number(&power, "HiberbootEnabled")?.map(|number| number != 0);
    settings.adapters = adapters(system, &set)?;
    (settings.drivers, settings.helpers) = services(system, &set)?;
    Ok(settings)
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

fn adapters(system: &Hive, set: &str) -> Result<Vec<Adapter>> {
    // What each adapter's device is called, by the adapter's identity.
    let mut devices = Vec::new();
    if let Some(class) = system.find(&format!("{set}\\Control\\Class\\{ADAPTERS}"))? {
        for (_, key) in system.keys(class)?.into_iter().take(MOST) {
            let text =
                |name: &str| Ok::<_, crate::Error>(system.value(key, name)?.and_then(|value| value.data().into_text()));
            if let Some(id) = text("NetCfgInstanceId")? {
                devices.push((id, text("DriverDesc")?));
            }
        }
    }
    let mut found = Vec::new();
    let Some(network) = system.find(&format!("{set}\\Control\\Network\\{ADAPTERS}"))? else { return Ok(found) };
    for (id, key) in system.keys(network)?.into_iter().take(MOST) {
        let Some(connection) = system.find_below(key, "Connection")? else { continue };
        let Some(name) = system.value(connection, "Name")?.and_then(|value| value.data().into_text()) else { continue };
        let mut adapter = Adapter {
            name,
            device: devices
                .iter()
                .find(|(known, _)| known.eq_ignore_ascii_case(&id))
                .and_then(|(_, device)| device.clone()),
            mac: None,
            dhcp: true,
            addresses: Vec::new(),
            gateways: Vec::new(),
            name_servers: Vec::new(),
            id: id.clone(),
        };
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

fn services(system: &Hive, set: &str) -> Result<(Vec<Driver>, Vec<HostService>)> {
    let (mut drivers, mut helpers) = (Vec::new(), Vec::new());
    let Some(services) = system.find(&format!("{set}\\Services"))? else { return Ok((drivers, helpers)) };
    for (service, key) in system.keys(services)?.into_iter().take(MOST) {
        let data = |name: &str| Ok::<_, crate::Error>(system.value(key, name)?.map(|value| value.data()));
        let start = data("Start")?;
        let host = HELPERS.iter().find(|(_, names)| names.iter().any(|name| name.eq_ignore_ascii_case(&service)));
        if let Some((host, _)) = host {
            let starts = matches!(start, Some(Data::Number(0..=3)));
            helpers.push(HostService { service: service.clone(), host: (*host).into(), starts });
        }
        let group = data("Group")?.and_then(Data::into_text).unwrap_or_default();
        let is_of_disks = group.eq_ignore_ascii_case("SCSI miniport")
            || ["storvsc", "vmbus"].contains(&&*service.to_ascii_lowercase());
        if is_of_disks && matches!(data("Type")?, Some(Data::Number(1))) {
            // An override of the start takes it back for as long as no such device was there.
            let is_held = system.find_below(key, "StartOverride")?.is_some();
            let image = data("ImagePath")?.and_then(Data::into_text);
            let starts_at_boot = start == Some(Data::Number(0)) && !is_held;
            drivers.push(Driver { service, starts_at_boot, image });
        }
    }
    Ok((drivers, helpers))
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
}
