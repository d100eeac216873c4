//! One disk changed inside: made ready for a destination ([`refit`]), or as a person says ([`patch`]).

mod put;

use std::{
    path::{Path, PathBuf},
    sync::Arc,
};

use jiff::Timestamp;
use reformis_disk::{
    Disk,
    budget::Budget,
    container,
    overlay::Overlay,
    source::{self, Access},
};
use reformis_guest::{
    Done, Family, Guest, Hardware, Tree,
    nt::{
        Changed,
        keys::{self, HiveChange},
    },
};
use reformis_machine::{AdapterModel, ControllerKind, Firmware, Mac, Site};

use crate::{
    brief::{FirmwareKind, NewGuest},
    error::{Error, Result},
    finding::{Finding, Severity},
    hardware,
    inside::{self, EditedDisk, Inside},
    observer::Context,
    prepare,
    recast::{self, Edited, Recast},
    record::GuestRecord,
};

/// How a disk is made ready.
#[derive(Debug, Clone)]
pub struct RefitOptions {
    /// Source, result and shape.
    pub recast: recast::Options,
    /// Where it goes.
    pub destination: String,
    /// What the site adds.
    pub site: Site,
    /// The controller that it will be on; the destination's first for booting unless it is said.
    pub controller: Option<ControllerKind>,
    /// The adapter that the machine will have; the destination's first unless it is said.
    pub adapter: Option<AdapterModel>,
    /// What will start it; what the disk boots with unless it is said.
    pub firmware: Option<FirmwareKind>,
    /// The hardware address of the machine's adapter.
    pub mac: Option<Mac>,
    /// What is changed besides.
    pub guest: NewGuest,
    /// Codes of blockers that the person accepts.
    pub accept: Vec<String>,
}

/// Makes a disk ready for a destination.
///
/// # Errors
/// [`Error::Refused`] when the system would not boot and that is not accepted; those of [`recast::recast`].
#[expect(
    clippy::indexing_slicing,
    reason = "every destination offers an adapter, and the place was given by this guest"
)]
pub fn refit(options: &RefitOptions, context: &Context<'_>) -> Result<Recast> {
    let destination = options.site.destination(&options.destination)?;
    // What a person named wrongly is told before the disk is opened.
    let wishes = inside::wishes(&options.guest, context)?;
    let site_drivers = options.site.drivers();
    let editor = |disk: Arc<dyn Disk>| {
        let look = reformis_guest::look(&disk, context.budget)?;
        let mut wishes = wishes.clone();
        if wishes.drivers.is_none() && look.family() == Some(Family::Nt) {
            wishes.drivers = inside::library(&site_drivers, context)?;
        }
        let uefi = match options.firmware {
            Some(kind) => kind == FirmwareKind::Uefi,
            None => look.boots_uefi() && !look.boots_bios(),
        };
        let firmware = if uefi { Firmware::Uefi { secure_boot: false } } else { Firmware::Bios };
        let proposed = destination.boot_controller(firmware).map(|controller| controller.kind);
        let offers = |kind: ControllerKind| destination.controllers.iter().any(|controller| controller.kind == kind);
        let controller = options.controller.or(proposed).filter(|kind| offers(*kind));
        let Some(controller) = controller else {
            let asked = options.controller.map_or("none", ControllerKind::name).into();
            let offered: Vec<_> = destination.controllers.iter().map(|controller| controller.kind.name()).collect();
            let (destination, offered) = (destination.name.clone(), offered.join(", "));
            return Err(Error::NotOffered { what: "controller", asked, destination, offered });
        };
        let model = options.adapter.unwrap_or(destination.adapters[0]);
        let hardware = Hardware {
            uefi,
            unchanged: false,
            keeps_entries: false,
            disks: vec![Some(hardware::disk_place(controller, &destination, firmware))],
            adapters: vec![hardware::adapter_place(model, &destination.guest, options.mac)],
            host: destination.helpers.clone(),
            others: hardware::others(&destination),
            agents: destination.agents.clone(),
            rules: hardware::host_rules(&destination),
            has_local_clock: None,
        };
        let inside = inside::ready(vec![(0, disk.clone())], &hardware, &wishes, &destination.name, context)?;
        if !inside.has_system && inside.record.edits.is_empty() {
            let path = options.recast.source.to_string_lossy().into();
            return Err(Error::NoSystem { path });
        }
        edited(disk, inside, &options.accept)
    };
    let narrowed = prepare::access_of(&options.guest, context);
    recast::recast_edited(&options.recast, Some(&editor), narrowed, context)
}

fn edited(disk: Arc<dyn Disk>, mut inside: Inside, accept: &[String]) -> Result<Edited> {
    let open = |finding: &&Finding| {
        finding.severity() == Severity::Blocker && !accept.iter().any(|code| code == finding.code())
    };
    if inside.findings.iter().any(|finding| open(&finding)) {
        return Err(Error::Refused { findings: inside.findings });
    }
    let EditedDisk { disk, edits } = inside.disks.remove(&0).unwrap_or(EditedDisk { disk, edits: Vec::new() });
    Ok(Edited { disk, edits, guest: Some(inside.record), verdict: inside.verdict, findings: inside.findings })
}

/// A change to a guest's files.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Change {
    /// A file or a folder of this machine is put at a path in the guest.
    Put(PathBuf, Vec<u8>),
    /// A folder is made, with those that lead to it.
    Folder(Vec<u8>),
    /// A symbolic link is made: its path, and where it leads.
    Link(Vec<u8>, Vec<u8>),
    /// What is at a path is removed; a folder with all that is in it.
    Remove(Vec<u8>),
    /// Keys and values of a registry hive are changed.
    Registry(String, Vec<HiveChange>),
}

/// How a disk is changed as a person says.
#[derive(Debug, Clone)]
pub struct PatchOptions {
    /// Source, result and shape.
    pub recast: recast::Options,
    /// The changes, in order.
    pub changes: Vec<Change>,
    /// The volume that paths begin on; the tree of the first system unless it is said.
    pub volume: Option<String>,
}

/// Changes files in a guest.
///
/// # Errors
/// Those of each change, with none of them made; those of [`recast::recast`].
pub fn patch(options: &PatchOptions, context: &Context<'_>) -> Result<Recast> {
    let editor = |disk: Arc<dyn Disk>| {
        let now = Timestamp::now().as_second();
        let mut guest = Guest::open_with([context.stoppable(disk.clone())], context.keys, now, context.budget)?;
        let name = options.recast.source.to_string_lossy().into_owned();
        // Journals are replayed before, as an edit of their own.
        let (mut tree, system) = tree_of(&mut guest, options.volume.as_deref(), &name, now)?;
        guest.bench.begin("patch", "the person asked for it");
        let mut changes = Vec::new();
        for change in &options.changes {
            match change {
                Change::Registry(hive, wanted) if keys::is_boot_store(hive) => {
                    let none = || Error::NoBootStore { path: name.clone() };
                    let (mut tree, path) = keys::boot_store(&mut guest, now)?.ok_or_else(none)?;
                    changes.extend(keys::change(&mut tree, &path, wanted, now)?.iter().map(|made| told(hive, made)));
                }
                Change::Registry(hive, wanted) => {
                    changes.extend(keys::change(&mut tree, hive, wanted, now)?.iter().map(|made| told(hive, made)));
                }
                change => {
                    apply(&mut tree, change, context)?;
                    changes.push(shown(change));
                }
            }
        }
        if tree.wants_relabel() && options.volume.is_none() {
            tree.write("/.autorelabel", b"")?;
            changes.push("all files get their SELinux labels again on the first start, which takes long".into());
        }
        // A value that is so already is no change.
        let done = (!changes.is_empty()).then(|| Done { name: "patch".into(), system, changes });
        let record = GuestRecord { evidence: Vec::new(), edits: done.into_iter().collect() };
        let overlay: Option<Overlay> = guest.bench.take().pop();
        let edits = overlay.iter().flat_map(Overlay::edits).filter(|edit| !edit.ranges.is_empty()).cloned().collect();
        let disk: Arc<dyn Disk> = match overlay {
            Some(overlay) => Arc::new(overlay),
            None => disk,
        };
        Ok(Edited { disk, edits, guest: Some(record), verdict: None, findings: Vec::new() })
    };
    let put = options.changes.iter().filter_map(|change| match change {
        Change::Put(path, _) => Some(put::access_of(path)),
        _ => None,
    });
    let keys = if context.keys.is_empty() { Access::ANYBODY } else { Access::OWNER };
    recast::recast_edited(&options.recast, Some(&editor), put.fold(keys, Access::and), context)
}

/// The tree of a volume, or of the first system; and what to call it.
#[expect(
    clippy::indexing_slicing,
    reason = "every destination offers an adapter, and the place was given by this guest"
)]
pub(crate) fn tree_of(guest: &mut Guest, volume: Option<&str>, path: &str, now: i64) -> Result<(Tree, String)> {
    match volume {
        Some(name) => {
            let index = guest.volumes.iter().position(|volume| volume.name == name);
            let known = || guest.volumes.iter().map(|volume| volume.name.clone()).collect::<Vec<_>>().join(", ");
            let missing = || Error::NoSuchVolume { volume: name.into(), known: known() };
            let index = index.ok_or_else(missing)?;
            let tree = guest.volume_tree(index, now)?;
            let kind = guest.volumes[index].kind.map_or("nothing that is known", |kind| kind.name());
            let is_locked = guest.volumes[index].kind.is_some_and(reformis_guest::Volume::is_encrypted);
            let (volume, kind) = (name.to_string(), kind.to_string());
            let unread = || match is_locked {
                true => Error::VolumeLocked { volume, kind },
                false => Error::VolumeNotRead { volume, kind },
            };
            Ok((tree.ok_or_else(unread)?, name.to_string()))
        }
        None if guest.systems.is_empty() => {
            // A system that nobody can see is more likely than none.
            let locked =
                guest.volumes.iter().find_map(|volume| Some((volume, volume.kind.filter(|kind| kind.is_encrypted())?)));
            Err(match locked {
                Some((volume, kind)) => Error::VolumeLocked { volume: volume.name.clone(), kind: kind.name().into() },
                None => Error::NoSystem { path: path.into() },
            })
        }
        None => {
            let system = guest.systems.remove(0);
            let name = system.name().to_string();
            Ok((system.into_tree(), name))
        }
    }
}

fn shown(change: &Change) -> String {
    let text = |path: &[u8]| String::from_utf8_lossy(path).into_owned();
    match change {
        Change::Put(from, to) => format!("{} is put in from {}", text(to), from.display()),
        Change::Folder(path) => format!("{} is made", text(path)),
        Change::Link(path, target) => format!("{} leads to {}", text(path), text(target)),
        Change::Remove(path) => format!("{} is removed", text(path)),
        Change::Registry(hive, _) => format!("{hive} is changed"),
    }
}

/// A change in a hive, as a sentence.
fn told(hive: &str, made: &Changed) -> String {
    let key = format!("{hive}\\{}", made.key);
    let name = |value: &str| if value.is_empty() { "its own value".to_string() } else { value.to_string() };
    match (&made.value, &made.before, &made.after) {
        (None, ..) if made.is_removed => format!("{key} is removed"),
        (None, ..) => format!("{key} is made"),
        (Some(value), Some(before), Some(after)) => format!("{key}: {} was {before}, is {after}", name(value)),
        (Some(value), None, Some(after)) => format!("{key}: {} is {after}", name(value)),
        (Some(value), Some(before), None) => format!("{key}: {} is removed, was {before}", name(value)),
        (Some(value), None, None) => format!("{key}: {} is removed", name(value)),
    }
}

fn apply(tree: &mut Tree, change: &Change, context: &Context<'_>) -> Result<()> {
    match change {
        Change::Put(from, to) => put::put(tree, from, to, context),
        Change::Folder(path) => Ok(tree.make_folders(path)?),
        Change::Link(path, target) => Ok(tree.link(path, target)?),
        Change::Remove(path) => Ok(tree.remove(path)?),
        // The keys of a hive are changed where its tree is known.
        Change::Registry(..) => Ok(()),
    }
}

/// The shape of the image at `path`, for a result in its place.
///
/// # Errors
/// Those of opening it; [`Error::NotInPlace`] for what is not one file alone.
pub fn shape_in_place(path: &Path) -> Result<reformis_disk::Shape> {
    let refuse = |what: &str| Error::NotInPlace { path: path.to_string_lossy().into(), what: what.into() };
    let storage = match container::locate(path, &Budget::whole())?.unwrapped()? {
        container::Source::Storage(storage) if path.is_file() => storage,
        _ => return Err(refuse("it is not a file of its own that can be read at any place")),
    };
    let image = reformis_disk::format::opener(source::Links::OwnFolder).open(storage, None)?;
    if !image.files.is_empty() {
        return Err(refuse("it is kept in several files"));
    }
    Ok(image.facts.shape)
}
