//! The chain of boot evidence: firmware, partition, loader, kernel and early boot image, controller driver, root file system,
//! adapters; each link with what was seen.

use serde::{Deserialize, Serialize};

use crate::{
    boot::BOOT_CODE,
    found::{self, Found},
    hardware::{Hardware, Need},
    initramfs::Image,
    modules::{Driver, Modules},
    partitions::Role,
    refit::{edit, images::Images},
    system::{Guest, Kernel, System},
    volumes::Volume,
};

/// A link of the chain.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Link {
    /// The firmware finds something to start.
    Firmware,
    /// The partition or volume that holds the root file system.
    Partition,
    /// The loader finds its entries.
    Loader,
    /// A kernel and its early boot image are where the loader looks.
    Kernel,
    /// The kernel finds the controller of the disk.
    Driver,
    /// The root file system and what else is mounted is found by its name.
    Root,
    /// Adapters come up under the names that their configuration has.
    Adapters,
}

impl Link {
    /// The words for it.
    pub fn name(self) -> &'static str {
        match self {
            Self::Firmware => "firmware",
            Self::Partition => "partition",
            Self::Loader => "loader",
            Self::Kernel => "kernel",
            Self::Driver => "driver",
            Self::Root => "root",
            Self::Adapters => "adapters",
        }
    }
}

/// Whether a link holds.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum State {
    /// It does.
    Holds,
    /// It did not, and does by an edit.
    Mended,
    /// It does not.
    Broken,
    /// It cannot be told.
    Unknown,
}

impl State {
    /// The words for it.
    pub fn name(self) -> &'static str {
        match self {
            Self::Holds => "holds",
            Self::Mended => "mended",
            Self::Broken => "broken",
            Self::Unknown => "unknown",
        }
    }
}

/// A link as it was seen.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Evidence {
    /// Which link.
    pub link: Link,
    /// What of it: a kernel, a device's name, an adapter. It stays the same when the link is mended.
    pub about: String,
    /// Whether it holds.
    pub state: State,
    /// What was read, and where.
    pub seen: String,
    /// The edit that mends it, or did.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub edit: Option<String>,
}

impl Evidence {
    fn new(link: Link, about: impl Into<String>, state: State, seen: impl Into<String>) -> Self {
        Self { link, about: about.into(), state, seen: seen.into(), edit: None }
    }

    fn mended_by(self, edit: &str) -> Self {
        Self { edit: Some(edit.into()), ..self }
    }
}

/// The chain after edits, told beside what it was before them.
pub(crate) fn compared(before: &[Evidence], after: Vec<Evidence>) -> Vec<Evidence> {
    let was_broken = |now: &Evidence| {
        let same = |old: &&Evidence| old.link == now.link && old.about == now.about;
        before.iter().find(same).filter(|old| old.state == State::Broken)
    };
    after
        .into_iter()
        .map(|mut now| {
            match was_broken(&now) {
                Some(old) if now.state == State::Holds => {
                    now.edit.clone_from(&old.edit);
                    now.state = State::Mended;
                }
                _ => now.edit = None,
            }
            now
        })
        .collect()
}

/// Walks the chain of the system of number `index` on `hardware`.
#[expect(
    clippy::indexing_slicing,
    reason = "systems name volumes of their own guest, and dependencies modules of their own index"
)]
pub(crate) fn walk(guest: &Guest, index: usize, hardware: &Hardware, images: &mut Images) -> Vec<Evidence> {
    let system = &guest.systems[index];
    let mut chain = vec![firmware(guest, hardware), partition(guest, system), loader(system)];
    let listed: Vec<&Kernel> = started(system).collect();
    let needs = root_needs(guest, system, hardware);
    for kernel in &listed {
        chain.push(kernel_link(index, system, kernel, images));
        let modules = images.modules(index, &system.tree, kernel);
        for (controller, needs) in &needs {
            chain.push(driver_link(index, system, kernel, modules.as_deref(), controller, needs, images));
        }
    }
    chain.extend(names(guest, system, hardware));
    let modules = listed.first().and_then(|kernel| images.modules(index, &system.tree, kernel));
    chain.extend(adapters(system, hardware, modules.as_deref()));
    chain
}

/// The kernels that count: those of the loader; all that are there when it lists none that we read.
pub(crate) fn started(system: &System) -> impl Iterator<Item = &Kernel> {
    let any = system.kernels.iter().any(|kernel| kernel.listed);
    system.kernels.iter().filter(move |kernel| kernel.listed || !any)
}

/// What has to be driven to reach the root file system: each controller once.
pub(crate) fn root_needs(guest: &Guest, system: &System, hardware: &Hardware) -> Vec<(String, Vec<Need>)> {
    let device = guest.volumes.get(system.root).and_then(|volume| volume.device.as_ref());
    let mut needs: Vec<(String, Vec<Need>)> = Vec::new();
    for disk in device.map(crate::bench::Device::disks).unwrap_or_default() {
        if let Some(place) = hardware.place(disk)
            && !needs.iter().any(|(controller, _)| *controller == place.controller)
        {
            needs.push((place.controller.clone(), place.needs.clone()));
        }
    }
    needs
}

/// What has to be driven to reach the root file system on the other controllers that its disks may be put on.
pub(crate) fn other_needs(guest: &Guest, system: &System, hardware: &Hardware) -> Vec<Vec<Need>> {
    let device = guest.volumes.get(system.root).and_then(|volume| volume.device.as_ref());
    let mut needs: Vec<Vec<Need>> = Vec::new();
    for disk in device.map(crate::bench::Device::disks).unwrap_or_default() {
        for other in hardware.place(disk).into_iter().flat_map(|place| &place.others) {
            if !needs.contains(&other.needs) {
                needs.push(other.needs.clone());
            }
        }
    }
    needs
}

fn firmware(guest: &Guest, hardware: &Hardware) -> Evidence {
    let link =
        |state, seen: String| Evidence::new(Link::Firmware, if hardware.uefi { "UEFI" } else { "BIOS" }, state, seen);
    if !hardware.uefi {
        let code = (0..guest.bench.disks()).find(|disk| {
            let mut bytes = [0; BOOT_CODE];
            let device = crate::bench::Device::part(&guest.bench, *disk, 0, BOOT_CODE as u64, "");
            device.read(0, &mut bytes).is_ok() && bytes.iter().any(|byte| *byte != 0)
        });
        return match code {
            Some(disk) => link(State::Holds, format!("code in the first sector of disk {}", disk + 1)),
            None => link(State::Broken, "no disk has code in its first sector".into()),
        };
    }
    let mut loaders = Vec::new();
    for volume in guest.volumes.iter().filter(|volume| volume.role == Role::Esp) {
        let found = volume.loaders().into_iter();
        loaders.extend(found.map(|path| (path, volume.name.clone())));
    }
    let fallback = loaders.iter().find(|(path, _)| path.eq_ignore_ascii_case(edit::FALLBACK));
    match (fallback, loaders.first()) {
        (Some((path, volume)), _) => link(State::Holds, format!("{path} on {volume}")),
        (None, Some((path, volume))) if hardware.keeps_entries => {
            link(State::Holds, format!("{path} on {volume}, by the boot entries that come along"))
        }
        (None, Some((path, volume))) => {
            let seen = format!("only {path} on {volume}, which no boot entry of the new host names");
            link(State::Broken, seen).mended_by(edit::FALLBACK_LOADER)
        }
        (None, None) => link(State::Broken, "no EFI system partition holds a loader".into()),
    }
}

#[expect(
    clippy::indexing_slicing,
    reason = "systems name volumes of their own guest, and dependencies modules of their own index"
)]
fn partition(guest: &Guest, system: &System) -> Evidence {
    let root = &guest.volumes[system.root];
    let kind = root.kind.map_or("", Volume::name);
    let uuid = root.uuid.as_deref().unwrap_or("no UUID");
    Evidence::new(
        Link::Partition,
        "root",
        State::Holds,
        format!("{} on {}, {kind} {uuid}", system.release.name, root.name),
    )
}

fn loader(system: &System) -> Evidence {
    let link = |state, seen: String| Evidence::new(Link::Loader, "entries", state, seen);
    let Some(first) = system.entries.first() else {
        return link(State::Unknown, "no loader configuration that I can read was found".into());
    };
    let files: std::collections::BTreeSet<&str> = system.entries.iter().map(|entry| entry.file.as_str()).collect();
    let count = system.entries.len();
    let more = if files.len() > 1 { format!(" and {} more files", files.len() - 1) } else { String::new() };
    link(State::Holds, format!("{}{more}: {count} entr{}", first.file, if count == 1 { "y" } else { "ies" }))
}

fn kernel_link(index: usize, system: &System, kernel: &Kernel, images: &mut Images) -> Evidence {
    let link = |state, seen: String| Evidence::new(Link::Kernel, kernel.version.clone(), state, seen);
    let entries = || system.entries.iter().filter(|entry| entry.kernel == kernel.image);
    let missing = entries().flat_map(|entry| &entry.initrds).find(|path| !system.tree.exists(path));
    if let Some(path) = missing {
        return link(State::Broken, format!("the loader names {path}, which is not there"));
    }
    let mut seen = kernel.image.clone();
    for path in &kernel.initrds {
        match images.read(index, &system.tree, path).as_ref() {
            Ok(image) => {
                let packing = image.parts.iter().map(|part| part.name()).collect::<Vec<_>>().join(" + ");
                seen = format!("{seen}, {path} ({packing})");
            }
            Err(why) => return link(State::Unknown, format!("{path} cannot be read: {why}")),
        }
    }
    if kernel.initrds.is_empty() {
        seen.push_str(", no early boot image");
    }
    link(State::Holds, seen)
}

/// Whether an image holds the module with this path below the folder of modules, packed in whichever way.
pub(crate) fn image_has(image: &Image, version: &str, path: &str) -> bool {
    let stem = path.split_once(".ko").map_or(path, |(stem, _)| stem);
    let endings = ["", ".xz", ".zst", ".gz"];
    endings.iter().any(|ending| image.has(&format!("lib/modules/{version}/{stem}.ko{ending}")))
        || endings.iter().any(|ending| image.has(&format!("usr/lib/modules/{version}/{stem}.ko{ending}")))
}

/// The modules that an image lacks to drive `needs`; or what no module of the kernel drives.
#[expect(
    clippy::indexing_slicing,
    reason = "systems name volumes of their own guest, and dependencies modules of their own index"
)]
pub(crate) fn lacking(
    modules: &Modules,
    image: Option<&Image>,
    version: &str,
    needs: &[Need],
) -> Result<Vec<String>, String> {
    let mut missing = Vec::new();
    for need in needs {
        match modules.driver(&need.device, &need.module) {
            Some(Driver::Builtin(_)) => {}
            Some(Driver::Module(name)) => {
                for one in modules.closure(&name) {
                    let path = &modules.files[&one].path;
                    if !image.is_some_and(|image| image_has(image, version, path)) && !missing.contains(&one) {
                        missing.push(one);
                    }
                }
            }
            None => return Err(format!("no module of this kernel drives {} ({})", need.device, need.module)),
        }
    }
    Ok(missing)
}

fn driver_link(
    index: usize,
    system: &System,
    kernel: &Kernel,
    modules: Option<&Modules>,
    controller: &str,
    needs: &[Need],
    images: &mut Images,
) -> Evidence {
    let link =
        |state, seen: String| Evidence::new(Link::Driver, format!("{controller}, {}", kernel.version), state, seen);
    let Some(modules) = modules else {
        return link(State::Unknown, format!("no modules are listed for {}", kernel.version));
    };
    let names: Vec<&str> = needs.iter().map(|need| need.module.as_str()).collect();
    let names = names.join(", ");
    let Some(path) = kernel.initrds.last() else {
        return match lacking(modules, None, &kernel.version, needs) {
            Ok(missing) if missing.is_empty() => link(State::Holds, format!("{names}: part of the kernel")),
            Ok(missing) => {
                link(State::Broken, format!("{} are modules, and there is no early boot image", missing.join(", ")))
            }
            Err(why) => link(State::Broken, why),
        };
    };
    // Every image has to hold them: which one is started is the person's choice.
    for path in &kernel.initrds {
        let outcome = images.read(index, &system.tree, path);
        let Ok(image) = outcome.as_ref() else {
            return link(State::Unknown, format!("{path} cannot be read"));
        };
        // Microcode alone is no image that drives anything.
        if kernel.initrds.len() > 1 && !image.paths().any(|path| path.contains("lib/modules")) {
            continue;
        }
        match lacking(modules, Some(image), &kernel.version, needs) {
            Ok(missing) if missing.is_empty() => {}
            Ok(missing) => {
                return link(State::Broken, format!("{path} lacks {}", missing.join(", "))).mended_by(edit::DRIVERS);
            }
            Err(why) => return link(State::Broken, why),
        }
    }
    link(State::Holds, format!("{names} in {path} or part of the kernel"))
}

/// Names of volumes: `root=` and `resume=` of each entry, and what fstab mounts.
fn names(guest: &Guest, system: &System, hardware: &Hardware) -> Vec<Evidence> {
    let mut chain: Vec<Evidence> = Vec::new();
    let mut add = |about: String, place: String, spec: &str, needed: bool| {
        if chain.iter().any(|known| known.about == about && known.link == Link::Root) {
            return;
        }
        let link = |state, seen: String| Evidence::new(Link::Root, about.clone(), state, seen);
        let evidence = match found::resolve(&guest.volumes, spec) {
            Some((_, volume)) if is_plain(spec) && !keeps(hardware, spec, volume) => {
                link(State::Broken, format!("{place} says {spec}, which has another name there"))
                    .mended_by(edit::DEVICE_NAMES)
            }
            Some((_, volume)) => link(State::Holds, format!("{place} says {spec}: {}", volume.name)),
            None if needed => {
                link(State::Unknown, format!("{place} says {spec}, which is not one of the volumes that could be read"))
            }
            None => return,
        };
        chain.push(evidence);
    };
    for entry in &system.entries {
        for key in ["root", "resume"] {
            if let Some(spec) = entry.parameter(key) {
                let about = format!("{key}=, {}", entry.kernel);
                add(about, entry.file.clone(), spec, key == "root");
            }
        }
    }
    for line in &system.fstab {
        let optional = line.options.split(',').any(|option| matches!(option, "noauto" | "nofail"));
        let is_volume = line.spec.starts_with("/dev/") || line.spec.contains('=');
        if is_volume && !line.spec.starts_with("/dev/sr") && !line.spec.starts_with("/dev/fd") {
            let about = format!("{} in fstab", if line.kind == "swap" { "swap" } else { &line.place });
            add(about, "/etc/fstab".into(), &line.spec, !optional);
        }
    }
    chain
}

/// Whether a name is one that tells a disk by its place in the machine.
pub(crate) fn is_plain(spec: &str) -> bool {
    found::plain_name(spec).is_some() || found::by_place(spec).is_some()
}

/// Whether such a name will mean the same at the destination.
pub(crate) fn keeps(hardware: &Hardware, spec: &str, volume: &Found) -> bool {
    hardware.unchanged || found::by_place(spec).is_none() && hardware.keeps_name(spec, volume.disk, volume.partition)
}

/// Whether such a name will mean the same on every controller that the disk may be put on there.
pub(crate) fn keeps_everywhere(hardware: &Hardware, spec: &str, volume: &Found) -> bool {
    hardware.unchanged
        || found::by_place(spec).is_none() && hardware.keeps_name_everywhere(spec, volume.disk, volume.partition)
}

fn adapters(system: &System, hardware: &Hardware, modules: Option<&Modules>) -> Vec<Evidence> {
    let mut chain = Vec::new();
    let mut models: Vec<&str> = Vec::new();
    for adapter in &hardware.adapters {
        if models.contains(&adapter.model.as_str()) {
            continue;
        }
        models.push(&adapter.model);
        if let Some(modules) = modules {
            let lost = adapter.needs.iter().find(|need| modules.driver(&need.device, &need.module).is_none());
            let about = format!("{} driver", adapter.model);
            chain.push(match lost {
                None => Evidence::new(Link::Adapters, about, State::Holds, "a module of the kernel, or part of it"),
                Some(need) => {
                    let seen = format!("no module of this kernel drives {} ({})", need.device, need.module);
                    Evidence::new(Link::Adapters, about, State::Broken, seen)
                }
            });
        }
    }
    let mut told: Vec<&str> = Vec::new();
    for used in &system.network {
        if told.contains(&used.name.as_str()) {
            continue;
        }
        told.push(&used.name);
        let link = |state, seen: String| Evidence::new(Link::Adapters, used.name.clone(), state, seen);
        let known = used
            .mac
            .as_ref()
            .is_some_and(|mac| hardware.adapters.iter().any(|adapter| adapter.after.as_ref() == Some(mac)));
        let goes_by = used.by_mac || crate::system::network::pinned(&system.tree, &used.name).is_some();
        chain.push(match (&used.mac, goes_by) {
            (Some(mac), true) if known => link(State::Holds, format!("{}: the adapter with {mac}", used.file)),
            _ if hardware.unchanged => link(State::Holds, format!("{}: goes by its name", used.file)),
            (Some(mac), true) => {
                link(State::Broken, format!("{}: goes by {mac}, which no adapter has there", used.file))
                    .mended_by(edit::ADAPTER_NAMES)
            }
            _ => link(State::Broken, format!("{}: goes by a name that the new adapter may not get", used.file))
                .mended_by(edit::ADAPTER_NAMES),
        });
    }
    if system.network.is_empty() && !hardware.adapters.is_empty() {
        let seen = "no configuration names an adapter: what is configured goes for all of them, or nothing is";
        chain.push(Evidence::new(Link::Adapters, "configuration", State::Unknown, seen));
    }
    chain
}

/// Whether anything in `chain` does not hold.
pub fn is_broken(chain: &[Evidence]) -> bool {
    chain.iter().any(|evidence| evidence.state == State::Broken)
}
