//! The chain of a Linux system.

mod adapters;
mod disks;
pub(crate) mod drivers;
pub(crate) mod layers;
pub(crate) mod lvm;
pub(crate) mod names;

use super::{
    Evidence, Link, State, firmware,
    hardware::{Hardware, Need},
};
use crate::{
    system::{
        Guest,
        linux::{Entry, Kernel, Linux, images::Images},
    },
    volume::probe::Volume,
};

/// Walks the chain of `system` on `hardware`.
pub(crate) fn walk(guest: &Guest, system: &mut Linux, hardware: &Hardware) -> Vec<Evidence> {
    let mut images = std::mem::take(&mut system.images);
    let chain = links(guest, system, hardware, &mut images);
    system.images = images;
    chain
}

fn links(guest: &Guest, system: &Linux, hardware: &Hardware, images: &mut Images) -> Vec<Evidence> {
    let mut chain = vec![firmware::firmware(guest, hardware), partition(guest, system), loader(system)];
    chain.extend(missing_kernel(system));
    let listed: Vec<&Kernel> = started(system).collect();
    let needs = root_needs(guest, system, hardware);
    // The kernel of the entry that is started by itself; the first where no entry was read.
    let default = default_kernel(system).or_else(|| listed.first().map(|kernel| kernel.image.as_str()));
    let default = default.filter(|_| system.unknown_start.is_none());
    for kernel in &listed {
        let is_default = Some(kernel.image.as_str()) == default;
        chain.extend(kernel_links(system, kernel, images, is_default));
        let modules = images.modules(&system.tree, kernel);
        for (controller, needs) in &needs {
            let link = drivers::driver_link(system, kernel, modules.as_deref(), controller, needs, images);
            chain.push(link.needed(is_default));
        }
    }
    chain.extend(names::names(guest, system, hardware));
    chain.extend(layers::subvolumes(system));
    chain.extend(layers::members(guest, system, hardware, images));
    chain.extend(lvm::links(guest, system, hardware, images));
    let modules = listed.first().and_then(|kernel| images.modules(&system.tree, kernel));
    chain.extend(adapters::adapters(system, hardware, modules.as_deref()));
    chain
}

/// The kernel of the entry that is started by itself.
pub(super) fn default_kernel(system: &Linux) -> Option<&str> {
    system.entries.first().filter(|_| system.unknown_start.is_none()).map(|entry| entry.kernel.as_str())
}

/// The default entry's kernel, where it is not there.
fn missing_kernel(system: &Linux) -> Option<Evidence> {
    let entry = system.entries.first().filter(|entry| !system.tree.exists(&entry.kernel))?;
    let seen = format!("{} names {}, which is not there", entry.file, entry.kernel);
    Some(Evidence::new(Link::Kernel, entry.kernel.clone(), State::Broken, seen).needed(true))
}

/// The kernels that count: those of the loader; all that are there when it lists none that we read.
pub(crate) fn started(system: &Linux) -> impl Iterator<Item = &Kernel> {
    let any = system.kernels.iter().any(|kernel| kernel.listed);
    system.kernels.iter().filter(move |kernel| kernel.listed || !any)
}

/// What has to be driven to reach the root file system: each controller once.
pub(crate) fn root_needs(guest: &Guest, system: &Linux, hardware: &Hardware) -> Vec<(String, Vec<Need>)> {
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
pub(crate) fn other_needs(guest: &Guest, system: &Linux, hardware: &Hardware) -> Vec<Vec<Need>> {
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

#[expect(
    clippy::indexing_slicing,
    reason = "systems name volumes of their own guest, and dependencies modules of their own index"
)]
fn partition(guest: &Guest, system: &Linux) -> Evidence {
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

fn loader(system: &Linux) -> Evidence {
    let link = |state, seen: String| Evidence::new(Link::Loader, "entries", state, seen);
    let Some(first) = system.entries.first() else {
        return link(State::Unknown, "no loader configuration that I can read was found".into());
    };
    if let Some(why) = &system.unknown_start {
        return link(State::Unknown, why.clone());
    }
    let files: std::collections::BTreeSet<&str> = system.entries.iter().map(|entry| entry.file.as_str()).collect();
    let count = system.entries.len();
    let more = if files.len() > 1 { format!(" and {} more files", files.len() - 1) } else { String::new() };
    link(State::Holds, format!("{}{more}: {count} entr{}", first.file, if count == 1 { "y" } else { "ies" }))
}

/// Whether a kernel and its early boot images are where the loader looks; what another entry of the same kernel lacks is told beside it.
fn kernel_links(system: &Linux, kernel: &Kernel, images: &mut Images, is_default: bool) -> Vec<Evidence> {
    let link =
        |state, seen: String| Evidence::new(Link::Kernel, kernel.version.clone(), state, seen).needed(is_default);
    let mut entries = system.entries.iter().filter(|entry| entry.kernel == kernel.image);
    let missing = |entry: &Entry| entry.initrds.iter().find(|path| !system.tree.exists(path)).cloned();
    let told = |path: &str| format!("the loader names {path}, which is not there");
    if let Some(path) = entries.next().and_then(missing) {
        return vec![link(State::Broken, told(&path))];
    }
    let mut chain = Vec::new();
    let mut seen = kernel.image.clone();
    for path in &kernel.initrds {
        match images.read(&system.tree, path).as_ref() {
            Ok(image) => {
                let packing = image.parts.iter().map(|part| part.name()).collect::<Vec<_>>().join(" + ");
                seen = format!("{seen}, {path} ({packing})");
            }
            Err(why) => {
                chain.push(link(State::Unknown, format!("{path} cannot be read: {why}")));
                break;
            }
        }
    }
    if kernel.initrds.is_empty() {
        seen.push_str(", no early boot image");
    }
    if chain.is_empty() {
        chain.push(link(State::Holds, seen));
    }
    chain.extend(entries.find_map(|entry| {
        let about = format!("{}, {}", kernel.version, entry.title);
        Some(Evidence::new(Link::Kernel, about, State::Broken, told(&missing(entry)?)))
    }));
    chain
}
