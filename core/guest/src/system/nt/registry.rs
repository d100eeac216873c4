//! What a system's registry says of it. What is not there is not told; what cannot be read is noted in its tree.

use serde::Serialize;

use super::{adapters::Adapter, helpers};
use crate::{
    error::Result,
    formats::hive::{Data, Hive},
    fs::ntfs::seconds,
};

/// Keys that are looked through.
const MOST: usize = 4096;

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
    /// Whether it came with the system, and sleeps where its host is not.
    #[serde(skip_serializing_if = "std::ops::Not::not")]
    pub is_in_box: bool,
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
    /// `WinNT` for a client, `ServerNT` for a server, `LanmanNT` for a domain controller.
    pub product_type: Option<String>,
    /// Whether it takes the machine's clock for universal time.
    pub clock_is_universal: bool,
    /// Routes that were made to stay: destination, mask, gateway, metric.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub routes: Vec<String>,
    /// Whether addresses of IPv6 are kept that no server gave: where they lie they are not read.
    #[serde(skip_serializing_if = "std::ops::Not::not")]
    pub has_own_ipv6: bool,
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
    settings.product_type = text("Control\\ProductOptions", "ProductType")?;
    settings.clock_is_universal = system.number(&format!("{set}\\{zone}"), "RealTimeIsUniversal")?.unwrap_or(0) != 0;
    if let Some(key) = system.find(&format!("{set}\\Services\\Tcpip\\Parameters\\PersistentRoutes"))? {
        settings.routes = system.values(key)?.into_iter().map(|value| value.name).take(MOST).collect();
    }
    // The network store's table of addresses of IPv6. How its values are made is not written down anywhere.
    let table = format!("{set}\\Control\\Nsi\\{{eb004a01-9b1a-11d4-9123-0050047759bc}}\\10");
    settings.has_own_ipv6 = match system.find(&table)? {
        Some(key) => !system.values(key)?.is_empty(),
        None => false,
    };
    settings.adapters = super::adapters::read(system, &set)?;
    (settings.drivers, settings.helpers) = services(system, &set)?;
    Ok(settings)
}

fn services(system: &Hive, set: &str) -> Result<(Vec<Driver>, Vec<HostService>)> {
    let (mut drivers, mut found) = (Vec::new(), Vec::new());
    let Some(services) = system.find(&format!("{set}\\Services"))? else { return Ok((drivers, found)) };
    for (service, key) in system.keys(services)?.into_iter().take(MOST) {
        let data = |name: &str| Ok::<_, crate::Error>(system.value(key, name)?.map(|value| value.data()));
        let start = data("Start")?;
        if let Some((host, is_in_box)) = helpers::host_of(&service) {
            let starts = matches!(start, Some(Data::Number(0..=3)));
            found.push(HostService { service: service.clone(), host: host.into(), starts, is_in_box });
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
    Ok((drivers, found))
}
