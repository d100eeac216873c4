//! The edit `drivers`: what drives the new disks is started by the loader, from what the system has or from a medium; what drives the
//! rest is laid ready for the first start.

use super::{
    Edits,
    first_start::LOG,
    inject::{Injection, SCSI},
    script::{Script, quoted},
};
use crate::{
    error::{Error, Result},
    evidence::hardware::DriverNeed,
    formats::hive::{Data, Hive},
    refit::work::{Changes, Remark},
    system::nt::{
        FIRST_START_FOLDER as FOLDER,
        drivers::{Choice, Library, Package, Target, device_ids, ids, is_plain},
        hives,
        start::{Driven, Start, at, boot_sets},
    },
};

/// Classes of controllers: those of IDE and SATA, and the bus of virtual machines.
const IDE: &str = "{4D36E96A-E325-11CE-BFC1-08002BE10318}";
const SYSTEM: &str = "{4D36E97D-E325-11CE-BFC1-08002BE10318}";

/// What is to be done for a device.
enum Task<'a> {
    /// A service that the system has is started by the loader, and bound to these identities.
    Enable(String, Vec<String>),
    /// A driver from a medium is put in.
    Inject(Box<Choice<'a>>),
}

/// Classes whose devices are all driven alike (PCI Code and ID Assignment, sections 1.2: IDE, SATA and NVMe): the class tells more of
/// a device at the destination than the model that a machine of it happens to have.
fn has_common_interface(class: &str) -> bool {
    ["PCI\\CC_0101", "PCI\\CC_0106", "PCI\\CC_0108"].contains(&class)
}

/// The identities under which a service that the system has is bound to a device.
fn to_bind(device: &str) -> Vec<String> {
    let all = device_ids(device);
    let is_model = |id: &&String| id.matches('&').count() == 1 && id.contains("&DEV_");
    let mut bound: Vec<String> = all.iter().filter(is_model).chain(all.last()).cloned().collect();
    bound.retain(|id| all.len() == 1 || has_common_interface(id) || id.contains("&DEV_"));
    bound.dedup();
    bound
}

fn class_of(device: &str) -> &'static str {
    match device {
        _ if device.contains("&CC_0101") || device.contains("&CC_0106") || device.starts_with('*') => IDE,
        _ if device.starts_with("ACPI\\") => SYSTEM,
        _ => SCSI,
    }
}

impl Edits<'_, '_> {
    pub(crate) fn drivers(&mut self) -> Changes {
        let (hardware, wishes) = (self.work.hardware, self.work.wishes);
        let target = self.target()?;
        let library = wishes.drivers.as_deref();
        let needed = self.system.disk_needs(self.work.guest, hardware);
        let mut tasks = Vec::new();
        {
            let hive = hives::open(&self.system.tree, &hives::path("SYSTEM"), self.work.now)?;
            let start = self.system.start(&hive, &target)?;
            for (needs, must) in &needed {
                for need in *needs {
                    match task(&start, need, library, &target)? {
                        Ok(Some(task)) => tasks.push(task),
                        Ok(None) => {}
                        Err(why) if *must => {
                            self.work.remarks.push(Remark::NoDriver { device: need.device.clone(), why });
                        }
                        Err(_) => {}
                    }
                }
            }
        }
        let mut changes = Vec::new();
        let mut injected: Vec<&Package> = Vec::new();
        for task in tasks {
            match task {
                Task::Enable(service, bound) => changes.extend(self.enable(&service, &bound, &target)?),
                Task::Inject(choice) => {
                    if !is_among(choice.package, &injected) {
                        injected.push(choice.package);
                        changes.extend(self.inject(&choice, &target, library)?);
                    }
                }
            }
        }
        changes.extend(self.stage(library, &target, &injected)?);
        Ok(changes)
    }

    /// Lets the loader start a service that the system has, in every control set that it may start with.
    fn enable(&mut self, service: &str, bound: &[String], target: &Target) -> Changes {
        let has_table = target.version < (6, 2);
        self.change("SYSTEM", |hive: &mut Hive| {
            for set in boot_sets(hive)? {
                let key = format!("{set}\\Services\\{service}");
                if hive.find(&key)?.is_none() {
                    continue;
                }
                hive.set(&key, "Start", &Data::Number(at::BOOT))?;
                hive.remove(&format!("{key}\\StartOverride"))?;
                for id in bound.iter().filter(|_| has_table) {
                    let key = format!("{set}\\Control\\CriticalDeviceDatabase\\{}", ids::critical(id));
                    if hive.text(&key, "Service")?.is_none() {
                        hive.set(&key, "Service", &Data::Text(service.into()))?;
                        hive.set(&key, "ClassGUID", &Data::Text(class_of(id).into()))?;
                    }
                }
            }
            Ok(())
        })
    }

    fn inject(&mut self, choice: &Choice<'_>, target: &Target, library: Option<&Library>) -> Changes {
        let Some(library) = library else { return Ok(Vec::new()) };
        let refused = |what: String| {
            let volume = format!("{} on {}", choice.package.path, choice.medium.name);
            Error::Unsupported { volume, action: "put into the guest", what }
        };
        let injection = Injection::of(choice, target, library).map_err(refused)?;
        injection.put(self)
    }

    /// Lays drivers ready that the first start installs: those of the adapters and of what else there is, and once more those that
    /// were put in, which the system's own tool then makes a proper package of.
    fn stage(&mut self, library: Option<&Library>, target: &Target, injected: &[&Package]) -> Changes {
        let (hardware, mut changes) = (self.work.hardware, Vec::new());
        let mut wanted: Vec<(&str, &[String], bool)> = Vec::new();
        for need in hardware.adapters.iter().flat_map(|adapter| &adapter.drivers) {
            wanted.push((&need.device, &need.services, true));
        }
        wanted.extend(hardware.others.iter().map(|device| (device.as_str(), &[][..], false)));
        let mut chosen: Vec<Choice<'_>> = Vec::new();
        for (device, services, must) in wanted {
            let has_own = self.system.drives(device, services, self.work.now)?;
            if has_own || hardware.unchanged {
                continue;
            }
            let (choice, why) =
                library.map_or((None, Vec::new()), |library| library.choose(&device_ids(device), target));
            match choice {
                Some(choice) if !is_chosen(choice.package, &chosen) => {
                    chosen.push(choice);
                }
                Some(_) => {}
                None if must => self.work.remarks.push(Remark::NoDriver { device: device.into(), why }),
                None => {}
            }
        }
        let Some(library) = library else { return Ok(changes) };
        for need in self.system.disk_needs(self.work.guest, hardware).iter().flat_map(|(needs, _)| needs.iter()) {
            let choice = library.choose(&device_ids(&need.device), target).0;
            chosen.extend(
                choice.filter(|choice| is_among(choice.package, injected) && !is_chosen(choice.package, &chosen)),
            );
        }
        let mut stems: Vec<String> = Vec::new();
        for choice in &chosen {
            let stem = choice.package.name().rsplit_once('.').map_or("driver", |(stem, _)| stem);
            // Drivers of different makers may be called alike.
            let same = stems.iter().filter(|known| known.eq_ignore_ascii_case(stem)).count();
            stems.push(stem.into());
            let stem = if same == 0 { stem.to_string() } else { format!("{stem}-{}", same + 1) };
            let folder = format!("{FOLDER}/drivers/{stem}");
            let mut changed = false;
            for (path, bytes) in package_files(library, choice)? {
                changed |= self.put(&format!("{folder}/{path}"), &bytes)?;
            }
            if changed && !is_among(choice.package, injected) {
                changes.push(format!("{} is installed on the first start; see {LOG}", choice.words()));
            }
        }
        let stems = self.system.tree.names(&format!("{FOLDER}/drivers"));
        if stems.is_empty() || chosen.is_empty() {
            return Ok(changes);
        }
        let mut script = Script::new("Installs the drivers that were laid ready.");
        for stem in stems {
            let names = self.system.tree.names(&format!("{FOLDER}/drivers/{stem}"));
            for name in names.iter().filter(|name| name.to_lowercase().ends_with(".inf")) {
                let Some(path) = quoted(&format!("drivers\\{stem}\\{name}")) else { continue };
                let path = path.trim_matches('"');
                let what = format!("the driver {}", stem.replace(|c: char| !c.is_ascii_alphanumeric(), "_"));
                if target.version >= (10, 0) {
                    script.install(&what, &format!("pnputil /add-driver \"%~dp0{path}\" /install"));
                } else {
                    // What the older tool's code means is not written down.
                    script.line(&format!("pnputil -i -a \"%~dp0{path}\""));
                    script.line(&format!("echo done: {what}, with code %ERRORLEVEL%"));
                }
            }
        }
        self.schedule("10-drivers.cmd", &script.finish())?;
        Ok(changes)
    }
}

/// Whether a driver is one of these: two media may have files of one path.
fn is_among(package: &Package, known: &[&Package]) -> bool {
    known.iter().any(|one| std::ptr::eq(*one, package))
}

/// The same for those that were chosen.
fn is_chosen(package: &Package, known: &[Choice<'_>]) -> bool {
    known.iter().any(|one| std::ptr::eq(one.package, package))
}

/// What has to be done for a device: nothing where it is driven; why nothing can be.
fn task<'a>(
    start: &Start<'_>,
    need: &DriverNeed,
    library: Option<&'a Library>,
    target: &Target,
) -> Result<std::result::Result<Option<Task<'a>>, Vec<String>>> {
    let all = device_ids(&need.device);
    let (seen, own) = match start.driven(&all, &need.services)? {
        Driven::Yes(_) => return Ok(Ok(None)),
        Driven::No(seen, own) => (seen, own),
        Driven::Perhaps(seen) => (seen, None),
    };
    if let Some(service) = own
        && start.can_be_started(&service)?
    {
        return Ok(Ok(Some(Task::Enable(service, to_bind(&need.device)))));
    }
    let (choice, mut why) = library.map_or((None, Vec::new()), |library| library.choose(&all, target));
    let storage = |choice: &Choice<'_>| choice.install.service.is_some();
    match choice.filter(storage) {
        Some(choice) => Ok(Ok(Some(Task::Inject(Box::new(choice))))),
        None => {
            why.insert(0, seen);
            Ok(Err(why))
        }
    }
}

/// All files of a driver as the system's own tool wants them: the paths from its folder on, and their bytes.
fn package_files(library: &Library, choice: &Choice<'_>) -> Result<Vec<(String, Vec<u8>)>> {
    let refused = |what: String| {
        let volume = format!("{} on {}", choice.package.path, choice.medium.name);
        Error::Unsupported { volume, action: "put into the guest", what }
    };
    let mut files = vec![(choice.package.name().to_string(), library.inf_of(choice).map_err(refused)?)];
    files.extend(library.catalog_of(choice).map_err(refused)?);
    let mut sources: Vec<String> = choice.install.files.iter().map(|file| file.source.clone()).collect();
    sources.extend(choice.package.listed());
    sources.sort();
    sources.dedup();
    let mut sum = 0;
    for source in sources {
        if source.split('/').all(is_plain)
            && files.iter().all(|(known, _)| !known.eq_ignore_ascii_case(&source))
            && let Ok(bytes) = library.file(choice, &source)
        {
            Library::add_to(&mut sum, &bytes).map_err(refused)?;
            files.push((source, bytes));
        }
    }
    files.retain(|(path, _)| path.split('/').all(is_plain));
    Ok(files)
}
