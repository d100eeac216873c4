//! One driver as its setup information file describes it: for which devices and systems it is, which files it has, and what it puts
//! into the registry. By the driver kit's documentation of INF sections and directives.

use std::sync::atomic::{AtomicUsize, Ordering::Relaxed};

use super::decoration::{Decoration, Target, number};
use crate::formats::{
    hive::Data,
    inf::{Inf, Line},
};

/// Devices that are read of one file.
const MAX_MODELS: usize = 4096;
/// Makers that one file names, systems that each tells apart, and files that a driver copies.
const MAX_MAKERS: usize = 256;
const MAX_SYSTEMS: usize = 64;
const MAX_COPIED: usize = 256;
/// Lines that are looked at for one file, in all: a stranger's sections may name one another many times.
const MAX_LINES: usize = 4 << 20;
/// Why a file is not looked through.
const TOO_MUCH: &str = "its sections and strings name one another too often to be looked through";
/// Files that are taken of one driver.
const MAX_LISTED: usize = 256;
/// Sections that lead to one another by `Needs`.
const MAX_NEEDS: usize = 32;
/// Bits of a service's flags (`AddService`): it is the device's own, what starts it.
const ASSOCIATED: u32 = 2;

/// A device that a driver is for.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) struct Model {
    /// What it is called, with its strings still names.
    pub(crate) description: String,
    /// Who made it, likewise.
    pub(crate) maker: String,
    /// The section that installs it.
    pub(crate) install: String,
    /// The systems that the section which names it is for.
    pub(crate) fits: Decoration,
    /// Its identities; the first is the hardware's own, the others are of what is compatible.
    pub(crate) ids: Vec<String>,
}

/// A value that is put into the registry, below the key that the section is about.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) struct Setting {
    /// The key below; empty for that key itself.
    pub(crate) key: String,
    /// The value's name.
    pub(crate) name: String,
    /// What it holds; none for a key alone.
    pub(crate) data: Option<Data>,
}

/// A file that goes to the guest.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) struct Copied {
    /// Its path on the medium, from the setup information file's folder on.
    pub(crate) source: String,
    /// The number of the folder that it goes to.
    pub(crate) folder: u32,
    /// Folders below that one; empty for itself.
    pub(crate) below: String,
    /// Its name there.
    pub(crate) name: String,
}

/// A service that drives a device.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) struct Service {
    pub(crate) name: String,
    pub(crate) display: Option<String>,
    pub(crate) kind: u32,
    pub(crate) start: u32,
    pub(crate) error_control: u32,
    pub(crate) group: Option<String>,
    /// Its file, with the folder as a number: `%12%\x.sys`.
    pub(crate) binary: String,
    pub(crate) settings: Vec<Setting>,
}

/// What a section of a file installs.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub(crate) struct Install {
    /// The section, without what tells systems apart.
    pub(crate) section: String,
    pub(crate) files: Vec<Copied>,
    pub(crate) service: Option<Service>,
    /// Settings of the device.
    pub(crate) device: Vec<Setting>,
    /// Settings of the driver.
    pub(crate) driver: Vec<Setting>,
    /// Sections that it needs and that are in other files: those of the system itself.
    pub(crate) needs: Vec<String>,
}

/// A driver.
pub(crate) struct Package {
    /// Its setup information file's path on the medium.
    pub(crate) path: String,
    pub(crate) inf: Inf,
    pub(crate) class: String,
    pub(crate) class_guid: String,
    pub(crate) provider: String,
    /// Its day: year, month, day.
    pub(crate) date: (u32, u32, u32),
    pub(crate) version: [u16; 4],
    /// Its catalogues, by the processors that each is for; the first one is for all.
    pub(crate) catalogs: Vec<String>,
    /// All identities that it names, for whatever system, in order.
    pub(crate) ids: Vec<String>,
    /// Lines that may yet be looked at.
    left: AtomicUsize,
}

/// Whether `name` can be the name of one file, and nothing else.
pub(crate) fn is_plain(name: &str) -> bool {
    let is_letter = |c: char| !c.is_control() && !"\\/:*?\"<>|%".contains(c);
    !name.is_empty() && name.len() <= 200 && name.chars().all(is_letter) && !name.ends_with(['.', ' '])
}

/// `path` with `/` between its names, where each is that of one file or folder.
fn folders(path: &str) -> Option<String> {
    let names: Vec<&str> = path.split(['\\', '/']).filter(|name| !name.is_empty() && *name != ".").collect();
    names.iter().all(|name| is_plain(name)).then(|| names.join("/"))
}

impl Package {
    /// The driver of the file at `path`; what is wrong with it as a sentence.
    pub(crate) fn of(path: &str, inf: Inf) -> Result<Self, String> {
        let value = |key: &str| inf.value("version", key).unwrap_or_default();
        let signature = value("signature").to_lowercase();
        if !["$windows nt$", "$chicago$", "$windows 95$"].contains(&signature.as_str()) {
            return Err("it does not say that it is a driver's".into());
        }
        let (date, version) = match inf.lines("version", "driverver").next() {
            Some(line) => (inf.text(line.value(0)), inf.text(line.value(1))),
            None => (String::new(), String::new()),
        };
        let mut parts = date.split(['/', '-']).map(|part| part.trim().parse().unwrap_or(0));
        let (month, day, year) =
            (parts.next().unwrap_or(0), parts.next().unwrap_or(0), parts.next().unwrap_or(0).clamp(1601, 9999));
        let mut numbers = [0; 4];
        for (place, text) in numbers.iter_mut().zip(version.split('.')) {
            *place = text.trim().parse().unwrap_or(0);
        }
        let keys = ["catalogfile", "catalogfile.nt", "catalogfile.ntamd64", "catalogfile.ntx86", "catalogfile.ntarm64"];
        let catalogs = keys.into_iter().map(value).filter(|name| is_plain(name)).collect();
        let class_guid = value("classguid").to_lowercase();
        let mut package = Self {
            path: path.into(),
            class: value("class"),
            class_guid,
            provider: value("provider"),
            date: (year, month.clamp(1, 12), day.clamp(1, 31)),
            version: numbers,
            catalogs,
            inf,
            ids: Vec::new(),
            left: AtomicUsize::new(MAX_LINES),
        };
        package.ids = package.all_ids();
        match package.is_looked_through() {
            true => Ok(package),
            false => Err(TOO_MUCH.into()),
        }
    }

    /// Whether all that was asked of it was answered.
    fn is_looked_through(&self) -> bool {
        self.left.load(Relaxed) > 0 && !self.inf.makes_too_much()
    }

    /// Whether one more section's name may be looked at.
    fn may_look(&self) -> bool {
        let spent = |left: usize| Some(left.saturating_sub(1));
        self.left.fetch_update(Relaxed, Relaxed, spent).is_ok_and(|left| left > 1)
    }

    /// The lines of a section, as long as not too many were looked at.
    fn section(&self, name: &str) -> Option<&[Line]> {
        let lines = self.inf.section(name)?;
        let spent = |left: usize| Some(left.saturating_sub(lines.len() + 1));
        self.left.fetch_update(Relaxed, Relaxed, spent).is_ok_and(|left| left > lines.len()).then_some(lines)
    }

    /// Those of them that have the key `key`.
    fn lines<'a>(&'a self, section: &str, key: &'a str) -> impl Iterator<Item = &'a Line> {
        let lines = self.section(section).unwrap_or_default().iter();
        lines.filter(move |line| line.key.as_deref().is_some_and(|found| found.eq_ignore_ascii_case(key)))
    }

    /// The name of its setup information file.
    pub(crate) fn name(&self) -> &str {
        self.path.rsplit('/').next().unwrap_or_default()
    }

    /// A file of the medium, from the folder of the setup information file on.
    pub(crate) fn beside(&self, path: &str) -> String {
        match self.path.rsplit_once('/') {
            Some((folder, _)) => format!("{folder}/{path}"),
            None => path.into(),
        }
    }

    /// Its version, with dots.
    pub(crate) fn version_text(&self) -> String {
        self.version.map(|part| part.to_string()).join(".")
    }

    /// Makers with the section of their devices and the systems for which there is one of its own.
    fn makers(&self) -> impl Iterator<Item = (String, String, Vec<Decoration>)> {
        let lines = self.section("manufacturer").unwrap_or_default().iter().take(MAX_MAKERS);
        lines.map(|line| {
            let maker = line.key.clone().unwrap_or_else(|| line.value(0).into());
            let section = self.inf.text(line.value(0));
            let decorations = line
                .values
                .iter()
                .skip(1)
                .take(MAX_SYSTEMS)
                .filter_map(|value| Decoration::parse(&self.inf.text(value)));
            (maker, section, decorations.collect())
        })
    }

    /// The name of a section for the systems of a decoration, as it is written in this file.
    fn decorated(&self, section: &str, wanted: &Decoration) -> Option<String> {
        let start = format!("{}.", section.to_lowercase());
        let is_it =
            |name: &&str| name.strip_prefix(&start).and_then(Decoration::parse).is_some_and(|found| found == *wanted);
        self.inf.sections_from(&start).take_while(|_| self.may_look()).find(is_it).map(Into::into)
    }

    /// Its devices on `target`; why there are none, where there are none.
    pub(crate) fn models(&self, target: &Target) -> Result<Vec<Model>, String> {
        let mut found = Vec::new();
        let mut why = "it names no devices".to_string();
        for (maker, section, mut decorations) in self.makers() {
            if decorations.is_empty() {
                decorations.push(Decoration::default());
            }
            let fitting = decorations.iter().filter(|decoration| decoration.misfit(target).is_none());
            // What is closest to the system: its own version before an older one.
            let Some(best) = fitting.max() else {
                // The version that comes closest tells more than another processor.
                let misfits = decorations.iter().filter(|one| one.machine.as_deref() == Some(target.machine));
                let all: Vec<String> = misfits.chain(&decorations).filter_map(|one| one.misfit(target)).collect();
                why = all.into_iter().next().unwrap_or_default();
                continue;
            };
            let name = if best.is_nt { self.decorated(&section, best) } else { Some(section) };
            let Some(lines) = name.and_then(|name| self.section(&name)) else { continue };
            for line in lines.iter().take(MAX_MODELS.saturating_sub(found.len())) {
                let ids = line.values.iter().skip(1).map(|id| self.inf.text(id).trim().to_uppercase());
                found.push(Model {
                    description: line.key.clone().unwrap_or_default(),
                    maker: maker.clone(),
                    install: self.inf.text(line.value(0)),
                    fits: best.clone(),
                    ids: ids.filter(|id| !id.is_empty()).collect(),
                });
            }
        }
        if !self.is_looked_through() {
            return Err(TOO_MUCH.into());
        }
        if found.is_empty() { Err(why) } else { Ok(found) }
    }

    /// The systems that it is for, in words.
    pub(crate) fn systems(&self) -> Vec<String> {
        let mut all: Vec<String> = Vec::new();
        for (_, _, decorations) in self.makers() {
            let words = decorations.iter().map(Decoration::words);
            all.extend(if decorations.is_empty() { vec!["x86".into()] } else { words.collect() });
        }
        all.sort();
        all.dedup();
        all
    }

    /// All identities that it names, for whatever system.
    fn all_ids(&self) -> Vec<String> {
        let mut ids = Vec::new();
        for (_, section, decorations) in self.makers() {
            let names = decorations.iter().filter_map(|decoration| self.decorated(&section, decoration));
            for name in names.chain([section.to_lowercase()]).take(64) {
                for line in self.section(&name).unwrap_or_default().iter().take(MAX_MODELS) {
                    ids.extend(line.values.iter().skip(1).map(|id| self.inf.text(id).trim().to_uppercase()));
                }
            }
        }
        ids.sort();
        ids.dedup();
        ids
    }

    /// Services that it installs, for whatever system.
    pub(crate) fn services(&self) -> Vec<String> {
        let sections = self.inf.sections().filter(|name| name.ends_with(".services"));
        let mut names: Vec<String> = sections
            .flat_map(|section| self.lines(section, "addservice"))
            .map(|line| self.inf.text(line.value(0)))
            .filter(|name| !name.is_empty())
            .collect();
        names.sort();
        names.dedup();
        names
    }

    /// The section that is meant by `section` on `target`: the one of its processor and version that comes closest.
    fn settled(&self, section: &str, target: &Target) -> Option<String> {
        let start = format!("{}.", section.to_lowercase());
        let names = self.inf.sections_from(&start).take_while(|_| self.may_look());
        let decorated = names.filter_map(|name| {
            let decoration = Decoration::parse(name.strip_prefix(&start)?)?;
            decoration.fits_install(target).then(|| (decoration.machine.is_some(), decoration, name.to_string()))
        });
        let best = decorated.max().map(|(_, _, name)| name);
        best.or_else(|| self.section(section).map(|_| section.to_lowercase()))
    }

    /// What the section `section` installs on `target`.
    ///
    /// # Errors
    /// What is wrong, as a sentence: a section that is not there, a name that is none.
    pub(crate) fn install(&self, section: &str, target: &Target) -> Result<Install, String> {
        let missing = || format!("its section [{section}] is not there");
        let main = self.settled(section, target).ok_or_else(missing)?;
        let mut install = Install { section: section.to_string(), ..Install::default() };
        let mut todo = vec![main.clone()];
        let mut done: Vec<String> = Vec::new();
        while let Some(name) = todo.pop() {
            if done.contains(&name) || done.len() == MAX_NEEDS {
                continue;
            }
            for line in self.lines(&name, "copyfiles") {
                self.copied(line, &mut install.files)?;
            }
            self.settings(&name, "HKR", &mut install.driver);
            for part in [".hw", ".services"] {
                let needed = self.needs(&format!("{name}{part}"), &mut install.needs);
                for name in [format!("{name}{part}")].iter().chain(&needed) {
                    if part == ".hw" {
                        self.settings(name, "HKR", &mut install.device);
                    } else if install.service.is_none() {
                        install.service = self.service(name)?;
                    }
                }
            }
            todo.extend(self.needs(&name, &mut install.needs));
            done.push(name);
        }
        match self.is_looked_through() {
            true => Ok(install),
            false => Err(TOO_MUCH.into()),
        }
    }

    /// Sections of this file that a section needs; those of others are noted.
    fn needs(&self, section: &str, others: &mut Vec<String>) -> Vec<String> {
        let mut found = Vec::new();
        for line in self.lines(section, "needs") {
            for name in line.values.iter().map(|name| self.inf.text(name)).filter(|name| !name.is_empty()) {
                if self.section(&name).is_some() {
                    found.push(name.to_lowercase());
                } else if !others.contains(&name) {
                    others.push(name);
                }
            }
        }
        found
    }

    /// Files that a line `CopyFiles` names: each by itself with `@`, or sections that list them.
    fn copied(&self, line: &Line, files: &mut Vec<Copied>) -> Result<(), String> {
        let folder = |section: &str| {
            let mut places = self.lines("destinationdirs", section);
            let default = || self.lines("destinationdirs", "defaultdestdir").next();
            let line = places.next().or_else(default);
            let id = line.and_then(|line| number(&self.inf.text(line.value(0)))).unwrap_or(12);
            let below = line.map_or(String::new(), |line| self.inf.text(line.value(1)));
            folders(&below).map(|below| (id, below)).ok_or_else(|| format!("'{below}' is no folder"))
        };
        let mut add = |name: &str, source: &str, (folder, below): (u32, String)| {
            if !is_plain(name) || !is_plain(source) {
                return Err(format!("'{name}' is no name of a file"));
            }
            if files.len() == MAX_COPIED {
                return Err(format!("it copies more than {MAX_COPIED} files"));
            }
            files.push(Copied { source: self.source(source)?, folder, below, name: name.into() });
            Ok(())
        };
        for value in line.values.iter().map(|value| self.inf.text(value)).filter(|value| !value.is_empty()) {
            if let Some(name) = value.strip_prefix('@') {
                add(name, name, folder("defaultdestdir")?)?;
                continue;
            }
            for line in self.section(&value).unwrap_or_default() {
                let name = self.inf.text(line.value(0));
                let source = Some(self.inf.text(line.value(1))).filter(|source| !source.is_empty());
                add(&name, source.as_ref().unwrap_or(&name), folder(&value)?)?;
            }
        }
        Ok(())
    }

    /// All files that it lists, whoever needs them: where they lie on the medium, from the setup information file's folder on.
    pub(crate) fn listed(&self) -> Vec<String> {
        let sections = self.inf.sections_from("sourcedisksfiles");
        let lines = sections.flat_map(|section| self.section(section).unwrap_or_default());
        lines.take(MAX_LISTED).filter_map(|line| self.source(line.key.as_deref()?).ok()).collect()
    }

    /// Where a file lies on the medium, from the setup information file's folder on.
    pub(crate) fn source(&self, name: &str) -> Result<String, String> {
        let sections = self.inf.sections_from("sourcedisksfiles");
        let line = sections.flat_map(|section| self.lines(section, name)).next();
        let Some(line) = line else { return Ok(name.into()) };
        let disks = self.inf.sections_from("sourcedisksnames");
        let disk = self.inf.text(line.value(0));
        let path = disks.flat_map(|section| self.lines(section, &disk)).next().map(|line| self.inf.text(line.value(3)));
        let (path, below) = (path.unwrap_or_default(), self.inf.text(line.value(1)));
        let whole = folders(&format!("{path}/{below}/{name}"));
        whole.ok_or_else(|| format!("'{path}\\{below}\\{name}' leads out of its folder"))
    }

    /// What lines `AddReg` of a section put below the key `root`.
    fn settings(&self, section: &str, root: &str, settings: &mut Vec<Setting>) {
        for line in self.lines(section, "addreg") {
            for name in line.values.iter().map(|name| self.inf.text(name)) {
                for line in self.section(&name).unwrap_or_default() {
                    if self.inf.text(line.value(0)).eq_ignore_ascii_case(root)
                        && let Some(setting) = self.setting(line)
                    {
                        settings.push(setting);
                    }
                }
            }
        }
    }

    /// A line `root, key, name, flags, value`.
    fn setting(&self, line: &Line) -> Option<Setting> {
        let text = |index: usize| self.inf.text(line.value(index));
        let flags = Some(text(3)).filter(|flags| !flags.is_empty()).map_or(Some(0), |flags| number(&flags))?;
        let (key, name) = (text(1), text(2));
        // A key alone; a value that is taken away is none of a new driver's.
        if flags & 0x10 != 0 {
            return Some(Setting { key, name: String::new(), data: None });
        }
        let rest = || line.values.iter().skip(4).map(|value| self.inf.text(value));
        let data = match flags & 0xffff_0001 {
            _ if flags & 0x04 != 0 => return None,
            0x0001_0001 => Data::Number(number(&text(4)).unwrap_or(0)),
            0x0000_0001 => {
                let byte = |text: String| u8::from_str_radix(text.trim().trim_start_matches("0x"), 16).ok();
                Data::Bytes(rest().filter(|text| !text.is_empty()).map(byte).collect::<Option<_>>()?)
            }
            0x0001_0000 => Data::Texts(rest().filter(|text| !text.is_empty()).collect()),
            0x0002_0000 => Data::Expand(text(4)),
            _ => Data::Text(text(4)),
        };
        Some(Setting { key, name, data: Some(data) })
    }

    /// The service of a section that is the device's own.
    fn service(&self, section: &str) -> Result<Option<Service>, String> {
        for line in self.lines(section, "addservice") {
            let flags = number(&self.inf.text(line.value(1))).unwrap_or(0);
            if flags & ASSOCIATED == 0 {
                continue;
            }
            let (name, section) = (self.inf.text(line.value(0)), self.inf.text(line.value(2)));
            if !is_plain(&name) {
                return Err(format!("'{name}' is no name of a service"));
            }
            let text = |key: &str| self.inf.value(&section, key).filter(|value| !value.is_empty());
            let number = |key: &str, otherwise: u32| text(key).and_then(|value| number(&value)).unwrap_or(otherwise);
            let mut settings = Vec::new();
            self.settings(&section, "HKR", &mut settings);
            return Ok(Some(Service {
                display: text("displayname"),
                kind: number("servicetype", 1),
                start: number("starttype", 3),
                error_control: number("errorcontrol", 1),
                group: text("loadordergroup"),
                binary: text("servicebinary").unwrap_or_else(|| format!("%12%\\{name}.sys")),
                settings,
                name,
            }));
        }
        Ok(None)
    }
}
