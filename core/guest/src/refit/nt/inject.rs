//! A driver of disks from a medium, put where the system would have put it had it installed the driver itself: its files, its service,
//! and what binds it to its devices. From what a system of version 10.0 shows, and from memory of earlier ones.

use super::Edits;
use crate::{
    error::Result,
    formats::hive::{Data, Hive},
    fs::ntfs::ticks,
    refit::work::Changes,
    system::nt::{
        drivers::{Choice, Library, Model, Service, Setting, Target, ids},
        hives,
        start::{DATABASE_KEY, at, boot_sets},
    },
};

/// The class of controllers of disks.
pub(super) const SCSI: &str = "{4D36E97B-E325-11CE-BFC1-08002BE10318}";
/// Catalogues of drivers.
const CATALOGS: &str = "/Windows/System32/CatRoot/{F750E6C3-38EE-11D1-85E5-00C04FC295EE}";
/// Numbers of drivers that did not come with the system.
const MAX_OEM: usize = 4096;
/// How a system trusts what was signed for it, and how it left the package (as seen in one).
const SIGNER_SCORE: u32 = 0x0d00_0005;
const STATUS: u32 = 0x12;

/// A driver with all that is put in.
pub(super) struct Injection<'a> {
    choice: &'a Choice<'a>,
    service: Service,
    target: &'a Target,
    inf: Vec<u8>,
    catalog: Option<(String, Vec<u8>)>,
    /// Paths in the guest, without the package's own folder, and bytes.
    files: Vec<(String, Vec<u8>)>,
    /// The folder of the package in the store.
    package: String,
    /// Devices that the same section installs.
    models: Vec<Model>,
}

/// The FNV-1a hash of 64 bits: tells packages apart. The system's own hash is not known; its tool makes a package with it.
fn hash(bytes: &[u8]) -> u64 {
    bytes.iter().fold(0xcbf2_9ce4_8422_2325, |hash, byte| (hash ^ u64::from(*byte)).wrapping_mul(0x100_0000_01b3))
}

/// The folder that a number means; `None` for one that is of no use at the first start.
fn folder(id: u32, package: &str) -> Option<String> {
    Some(match id {
        10 => "/Windows".into(),
        11 => "/Windows/System32".into(),
        12 => "/Windows/System32/drivers".into(),
        13 => package.into(),
        _ => return None,
    })
}

/// A path of the guest as the registry has it for a driver.
fn image(path: &str) -> String {
    let below = path.trim_start_matches("/Windows/").replace('/', "\\");
    match below.get(..8) {
        Some(start) if start.eq_ignore_ascii_case("System32") && !below.contains("DriverStore") => below,
        _ => format!("\\SystemRoot\\{below}"),
    }
}

impl<'a> Injection<'a> {
    /// All that `choice` brings; what is wrong with it, as a sentence.
    pub(super) fn of(choice: &'a Choice<'a>, target: &'a Target, library: &Library) -> Result<Self, String> {
        let service = choice.install.service.clone().ok_or("it installs no service")?;
        let inf = library.inf_of(choice)?;
        let name = choice.package.name().to_lowercase();
        let package = format!("{name}_{}_{:016x}", target.machine, hash(&inf));
        let store = format!("/Windows/System32/DriverStore/FileRepository/{package}");
        let (mut files, mut sum) = (Vec::new(), 0);
        for file in &choice.install.files {
            let bytes = library.file(choice, &file.source)?;
            Library::add_to(&mut sum, &bytes)?;
            if let Some(folder) = folder(file.folder, &store) {
                let below = if file.below.is_empty() { String::new() } else { format!("/{}", file.below) };
                files.push((format!("{folder}{below}/{}", file.name), bytes.clone()));
            }
            files.push((format!("{store}/{}", file.source), bytes));
        }
        files.sort_by(|a, b| a.0.cmp(&b.0));
        files.dedup_by(|a, b| a.0.eq_ignore_ascii_case(&b.0));
        let models = choice.package.models(target)?;
        let is_same = |model: &Model| model.install.eq_ignore_ascii_case(&choice.model.install);
        let injection = Self {
            choice,
            service,
            target,
            catalog: library.catalog_of(choice)?,
            inf,
            files,
            package,
            models: models.into_iter().filter(is_same).collect(),
        };
        let binary = injection.binary()?;
        if !injection.files.iter().any(|(path, _)| path.eq_ignore_ascii_case(&binary)) {
            return Err(format!("it does not bring {binary}, which its service starts"));
        }
        Ok(injection)
    }

    fn store(&self) -> String {
        format!("/Windows/System32/DriverStore/FileRepository/{}", self.package)
    }

    /// The path in the guest of the file that the service starts.
    fn binary(&self) -> Result<String, String> {
        let text = self.service.binary.trim_start_matches('%');
        let (id, path) = text.split_once('%').ok_or("its service names no folder")?;
        let id = id.parse().map_err(|_| "its service names no folder")?;
        let folder = folder(id, &self.store()).ok_or("its service starts a file in a folder that is not known")?;
        let path = path.replace('\\', "/");
        let path = path.trim_matches('/');
        if !path.split('/').all(crate::system::nt::drivers::is_plain) {
            return Err(format!("'{path}' is no name of a file"));
        }
        Ok(format!("{folder}/{path}"))
    }

    /// The name that the setup information file gets: the one that it has, where it is there, or the first that is free.
    fn oem(&self, edits: &Edits<'_, '_>, hive: &Hive) -> Result<usize> {
        let tree = &edits.system.tree;
        let known = tree.names("/Windows/INF");
        let map = match hive.data(DATABASE_KEY, "OemInfMap")? {
            Some(Data::Bytes(bytes)) => bytes,
            _ => Vec::new(),
        };
        let is_taken = |number: usize| map.get(number / 8).is_some_and(|byte| byte & (0x80 >> (number % 8)) != 0);
        for number in 0..MAX_OEM {
            let name = format!("oem{number}.inf");
            let is_there = known.iter().any(|known| known.eq_ignore_ascii_case(&name));
            if is_there && tree.read(format!("/Windows/INF/{name}"), 4 << 20)? == self.inf {
                return Ok(number);
            }
        }
        for number in 0..MAX_OEM {
            let name = format!("oem{number}.inf");
            let is_there = known.iter().any(|known| known.eq_ignore_ascii_case(&name));
            let is_listed = || hive.find(&format!("{DATABASE_KEY}\\DriverInfFiles\\{name}"));
            if !is_there && !is_taken(number) && is_listed()?.is_none() {
                return Ok(number);
            }
        }
        let what = format!("it has {MAX_OEM} drivers that did not come with it");
        Err(crate::Error::Unsupported { volume: edits.system.name.clone(), action: "given another driver", what })
    }

    /// Puts it in.
    pub(super) fn put(&self, edits: &mut Edits<'_, '_>) -> Changes {
        let path = hives::path("SYSTEM");
        let hive = hives::open(&edits.system.tree, &path, edits.work.now)?;
        let number = self.oem(edits, &hive)?;
        drop(hive);
        let oem = format!("oem{number}.inf");
        let mut changes = Vec::new();
        let store = self.store();
        let mut files = self.files.clone();
        files.push((format!("/Windows/INF/{oem}"), self.inf.clone()));
        files.push((format!("{store}/{}", self.choice.package.name()), self.inf.clone()));
        if let Some((name, bytes)) = &self.catalog {
            files.push((format!("{store}/{name}"), bytes.clone()));
            files.push((format!("{CATALOGS}/oem{number}.cat"), bytes.clone()));
        }
        for (path, bytes) in &files {
            if edits.put(path, bytes)? && !path.starts_with(&store) {
                changes.push(format!("{path} is put in"));
            }
        }
        let (binary, now) = (self.binary().unwrap_or_default(), ticks(edits.work.now));
        let changed = edits.change_quietly("SYSTEM", |hive| {
            for set in boot_sets(hive)? {
                self.put_service(hive, &set, &oem, &image(&binary))?;
                if self.target.version < (6, 2) {
                    self.put_critical(hive, &set)?;
                }
            }
            if self.target.version >= (6, 2) {
                self.put_package(hive, number, &oem, now)?;
            }
            Ok(())
        })?;
        if !changed.is_empty() || !changes.is_empty() {
            let others = &self.choice.install.needs;
            if !others.is_empty() {
                let names = others.join(", ");
                changes.push(format!(
                    "what its sections {names} of the system's own files say is added by the first start"
                ));
            }
            let signature = self.choice.signature.unwrap_or("nothing that signs it");
            changes.insert(
                0,
                format!("{} as {oem}, with {signature}: service {}", self.choice.words(), self.service.name),
            );
        }
        Ok(changes)
    }

    fn put_service(&self, hive: &mut Hive, set: &str, oem: &str, image: &str) -> Result<()> {
        let service = &self.service;
        let key = format!("{set}\\Services\\{}", service.name);
        let text = |text: &str| Data::Text(text.into());
        hive.set(&key, "Type", &Data::Number(service.kind))?;
        hive.set(&key, "Start", &Data::Number(at::BOOT))?;
        hive.set(&key, "ErrorControl", &Data::Number(service.error_control))?;
        hive.set(&key, "ImagePath", &Data::Expand(image.into()))?;
        hive.set(&key, "Group", &text(service.group.as_deref().unwrap_or("SCSI miniport")))?;
        if let Some(display) = &service.display {
            hive.set(&key, "DisplayName", &text(display))?;
        }
        if self.target.version >= (6, 2) {
            hive.set(&key, "Owners", &Data::Texts(vec![oem.into()]))?;
        }
        hive.remove(&format!("{key}\\StartOverride"))?;
        put_settings(hive, &key, &service.settings)
    }

    fn put_critical(&self, hive: &mut Hive, set: &str) -> Result<()> {
        let class = Some(self.choice.package.class_guid.to_uppercase()).filter(|class| class.len() == 38);
        for id in self.models.iter().flat_map(|model| &model.ids) {
            let key = format!("{set}\\Control\\CriticalDeviceDatabase\\{}", ids::critical(id));
            hive.set(&key, "Service", &Data::Text(self.service.name.clone()))?;
            hive.set(&key, "ClassGUID", &Data::Text(class.clone().unwrap_or_else(|| SCSI.into())))?;
        }
        Ok(())
    }

    fn put_package(&self, hive: &mut Hive, number: usize, oem: &str, now: u64) -> Result<()> {
        let package = self.choice.package;
        let text = |text: &str| Data::Text(text.into());
        let none = Data::Other(0, Vec::new());
        let section = &self.choice.install.section;
        for model in &self.models {
            for (index, id) in model.ids.iter().enumerate() {
                let kind = if index == 0 { 1 } else { 2 };
                let key = format!("{DATABASE_KEY}\\DeviceIds\\{id}");
                hive.set(&key, oem, &Data::Bytes(vec![kind, 0xff, 0, 0]))?;
            }
        }
        hive.set(&format!("{DATABASE_KEY}\\DeviceIds\\{}", package.class_guid), oem, &none)?;
        let files = format!("{DATABASE_KEY}\\DriverInfFiles\\{oem}");
        hive.set(&files, "", &Data::Texts(vec![self.package.clone()]))?;
        hive.set(&files, "Active", &text(&self.package))?;
        hive.set(&files, "Configurations", &Data::Texts(vec![section.clone()]))?;
        let key = format!("{DATABASE_KEY}\\DriverPackages\\{}", self.package);
        let is_new = hive.find(&key)?.is_none();
        hive.set(&key, "", &text(oem))?;
        hive.set(&key, "InfName", &text(&package.name().to_lowercase()))?;
        hive.set(&key, "OemPath", &text("C:\\Windows\\Reformis\\drivers"))?;
        hive.set(&key, "Provider", &text(&package.provider))?;
        if let Some((name, _)) = &self.catalog {
            hive.set(&key, "Catalog", &text(name))?;
        }
        if is_new {
            hive.set(&key, "ImportDate", &Data::Bytes(now.to_le_bytes().into()))?;
        }
        hive.set(&key, "SignerScore", &Data::Number(SIGNER_SCORE))?;
        hive.set(&key, "StatusFlags", &Data::Number(STATUS))?;
        hive.set(&key, "Version", &Data::Bytes(self.version()))?;
        let configuration = format!("{key}\\Configurations\\{section}");
        hive.set(&configuration, "Service", &text(&self.service.name))?;
        hive.set(&configuration, "ConfigScope", &Data::Number(7))?;
        hive.set(&configuration, "ConfigFlags", &Data::Number(0))?;
        put_settings(hive, &format!("{configuration}\\Device"), &self.choice.install.device)?;
        put_settings(hive, &format!("{configuration}\\Driver"), &self.choice.install.driver)?;
        put_settings(hive, &format!("{configuration}\\Services\\{}", self.service.name), &self.service.settings)?;
        let strings = format!("{key}\\Strings");
        for model in &self.models {
            for id in &model.ids {
                let descriptor = format!("{key}\\Descriptors\\{id}");
                hive.set(&descriptor, "Configuration", &text(section))?;
                hive.set(&descriptor, "Manufacturer", &text(&model.maker.to_lowercase()))?;
                hive.set(&descriptor, "Description", &text(&model.description.to_lowercase()))?;
            }
            for token in [&model.maker, &model.description] {
                let name = token.trim_matches('%').to_lowercase();
                if let Some(string) = package.inf.string(&name).filter(|_| token.starts_with('%')) {
                    hive.set(&strings, &name, &text(string))?;
                }
            }
        }
        let mut map = match hive.data(DATABASE_KEY, "OemInfMap")? {
            Some(Data::Bytes(bytes)) => bytes,
            _ => Vec::new(),
        };
        if map.len() <= number / 8 {
            map.resize(number / 8 + 1, 0);
        }
        if let Some(byte) = map.get_mut(number / 8) {
            *byte |= 0x80 >> (number % 8);
        }
        hive.set(DATABASE_KEY, "OemInfMap", &Data::Bytes(map))
    }

    /// What the database keeps of a driver's class, day and version in 48 bytes.
    fn version(&self) -> Vec<u8> {
        let package = self.choice.package;
        let mut bytes = vec![0; 48];
        let mut put = |at: usize, value: &[u8]| {
            if let Some(place) = bytes.get_mut(at..at + value.len()) {
                place.copy_from_slice(value);
            }
        };
        let processor: u16 = match self.target.machine {
            "amd64" => 9,
            "arm64" => 12,
            _ => 0,
        };
        put(0, &[0, 0xff]);
        put(2, &processor.to_le_bytes());
        let class = uuid::Uuid::parse_str(package.class_guid.trim_matches(['{', '}'])).unwrap_or_default();
        put(8, &class.to_bytes_le());
        let (year, month, day) = package.date;
        let field = |number: u32| i8::try_from(number).unwrap_or(1);
        let date = jiff::civil::Date::new(i16::try_from(year).unwrap_or(1601), field(month), field(day));
        let seconds = date
            .ok()
            .and_then(|date| date.to_zoned(jiff::tz::TimeZone::UTC).ok())
            .map(|time| time.timestamp().as_second());
        put(24, &ticks(seconds.unwrap_or(0)).to_le_bytes());
        for (index, part) in package.version.iter().rev().enumerate() {
            put(32 + 2 * index, &part.to_le_bytes());
        }
        bytes
    }
}

fn put_settings(hive: &mut Hive, key: &str, settings: &[Setting]) -> Result<()> {
    for setting in settings {
        let key = if setting.key.is_empty() { key.to_string() } else { format!("{key}\\{}", setting.key) };
        match &setting.data {
            Some(data) => hive.set(&key, &setting.name, data)?,
            None => drop(hive.make_key(&key)?),
        }
    }
    Ok(())
}
