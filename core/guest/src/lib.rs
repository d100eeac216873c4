//! What a guest keeps on its disks: partitions, volumes, file systems, systems, and whether they boot; read from outside, and
//! changed through an overlay. Nothing here needs root rights or a mount, and nothing of the guest is run.

// What is read here was written by strangers: nothing in it may stop the program. Where one of these is allowed, the
// function says why it holds.
#![cfg_attr(
    not(test),
    deny(
        clippy::cast_possible_truncation,
        clippy::expect_used,
        clippy::indexing_slicing,
        clippy::panic,
        clippy::string_slice,
        clippy::unwrap_used
    )
)]

mod bench;
mod error;
mod evidence;
mod formats;
mod fs;
mod refit;
mod system;
mod volume;

pub use bench::{Bench, Device};
pub use error::{Error, Result};
pub use evidence::{
    Evidence, Link, State,
    hardware::{AdapterPlace, DiskPlace, DriverNeed, Hardware, HostRules, Need, OtherPlace},
    is_broken,
    look::{Family, Look, look},
};
pub use formats::{early::Packing, iso::make as make_medium};
pub use fs::{
    acl::access_text,
    node::{Attribute, Device as DeviceNumbers, Kind, New, Owner, Special, Stat, Stream},
    tree::{Spot, Tree},
};
pub use refit::{
    Done, Refit, array_remarks, edit, look as walk, refit, remarks,
    work::{Changes, Remark, Wishes, Work},
};
pub use system::{
    Guest,
    family::{Summary, System},
    linux::{Helper, Kernel, Used, devices::resolve},
    nt,
};
pub use volume::{
    finder::find,
    found::Found,
    luks::Keys,
    md::Array,
    partition::{Partition, Role},
    probe::{Volume, probe},
    table::Table,
};

/// Readers of what a stranger's guest holds, for the fuzzers alone.
#[doc(hidden)]
pub mod fuzzing {
    /// Reads an early boot image.
    pub fn early_image(bytes: &[u8]) -> bool {
        let budget = reformis_disk::budget::Budget::new(reformis_disk::budget::Budget::MOST);
        crate::formats::early::read(bytes, &budget).is_ok_and(|image| image.has("lib/modules/x"))
    }

    /// Reads the indexes of a kernel's modules, split from `text` by zero bytes, and asks them.
    pub fn modules(text: &str) -> usize {
        let modules = crate::formats::modules::Modules::of_texts(text);
        let driver = modules.driver("virtio:d00000008v00001AF4", "virtio_scsi");
        modules.files.keys().take(16).map(|name| modules.closure(name).len()).sum::<usize>()
            + usize::from(driver.is_some())
    }

    /// Reads a registry hive with a log, and as a boot store; changes it, and reads what was made. Gives the number of changes.
    pub fn hive(bytes: &[u8], log: &[u8]) -> usize {
        use crate::{
            formats::hive::{Data, Hive},
            system::nt,
        };
        let budget = reformis_disk::budget::Budget::new(reformis_disk::budget::Budget::MOST);
        let logs = || Ok(vec![log.to_vec()]);
        let Ok(mut hive) = Hive::open(Box::new(bytes.to_vec()), "the hive", &logs, 1, &budget) else { return 0 };
        drop(nt::read_boot_store(&hive, &[]));
        nt::read_all(&hive);
        let mut todo = vec![hive.root()];
        for _ in 0..64 {
            let Some(key) = todo.pop() else { break };
            if let Ok(values) = hive.values(key) {
                values.iter().for_each(|value| drop(value.data().to_string()));
            }
            todo.extend(hive.keys(key).unwrap_or_default().into_iter().take(8).map(|(_, key)| key));
        }
        let first = hive.keys(hive.root()).ok().and_then(|keys| Some(keys.into_iter().next()?.0));
        let changes = [
            hive.set("a\\b", "c", &Data::Bytes(vec![7; 20_000])).is_ok(),
            hive.set(first.as_deref().unwrap_or("a"), "", &Data::Number(7)).is_ok(),
            hive.unset("a\\b", "c").is_ok(),
            hive.remove(first.as_deref().unwrap_or("a")).is_ok(),
        ];
        drop(hive.finish());
        changes.into_iter().filter(|done| *done).count()
    }

    /// Reads a setup information file, and what it would install on several systems. Gives the number of files.
    pub fn setup_information(bytes: &[u8]) -> usize {
        use crate::{
            formats::inf::Inf,
            system::nt::drivers::{Package, Target},
        };
        let budget = reformis_disk::budget::Budget::whole();
        let Ok(inf) = Inf::read(bytes, "x.inf", &budget) else { return 0 };
        let Ok(package) = Package::of("a/x.inf", inf) else { return 0 };
        drop((package.systems(), package.services(), package.ids.len(), package.listed()));
        let mut files = 0;
        for (machine, version) in [("amd64", (10, 0)), ("x86", (6, 1)), ("arm64", (10, 0))] {
            let target = Target { machine, version, build: 20348, product: 3 };
            for model in package.models(&target).unwrap_or_default().iter().take(8) {
                let Ok(install) = package.install(&model.install, &target) else { continue };
                let names = install.files.iter().flat_map(|file| [&file.source, &file.below, &file.name]);
                assert!(names.clone().all(|name| !name.starts_with('/') && !name.split('/').any(|part| part == "..")));
                files += names.count();
            }
        }
        files
    }

    /// Reads a driver medium, and looks for a driver on it. Gives the number of drivers that it offers.
    pub fn medium(bytes: &[u8]) -> usize {
        use crate::system::nt::drivers::{Library, Medium, Target, device_ids};
        use reformis_disk::{budget::Budget, source::MemoryStorage};
        let budget = Budget::whole();
        let storage = std::sync::Arc::new(MemoryStorage::new("medium", bytes.to_vec()));
        let Ok(medium) = Medium::of_storage(storage, &budget) else { return 0 };
        let Ok(library) = Library::read(vec![medium], &budget) else { return 0 };
        let target = Target { machine: "amd64", version: (10, 0), build: 20348, product: 3 };
        let ids = device_ids("PCI\\VEN_1AF4&DEV_1048&SUBSYS_11001AF4&REV_01&CC_010000");
        if let (Some(choice), _) = library.choose(&ids, &target) {
            drop((library.inf_of(&choice), library.catalog_of(&choice)));
        }
        library.offers().len()
    }

    /// Reads a program file.
    pub fn program(bytes: &[u8]) -> bool {
        crate::formats::pe::read(bytes).is_some()
    }

    /// Reads registry text; what is read is written, and read as the same.
    pub fn registry_text(bytes: &[u8]) -> bool {
        use crate::formats::reg;
        drop(crate::system::nt::text::changes(bytes, None));
        reg::read(bytes).is_ok_and(|lines| reg::write(&lines).is_ok_and(|text| reg::read(&text) == Ok(lines)))
    }

    /// Reads a volume of metadata as that of a thin pool and of a cache: the tree at each of its first blocks, and the array.
    /// Gives the number of values.
    pub fn lvm_tables(bytes: &[u8]) -> usize {
        crate::volume::lvm::read_tables(bytes)
    }

    /// Reads the rules of a policy for labels, and asks them for a path.
    pub fn label_rules(text: &str) -> bool {
        crate::system::linux::contexts::is_known(text, "/etc/tide/tide.conf")
    }

    /// Unpacks bytes that a Windows system packed, or that say where a link leads.
    pub fn unpack(kind: u8, bytes: &[u8]) -> bool {
        let mut out = vec![0; 32 << 10];
        match kind {
            0 => crate::formats::lznt1::unpack(bytes, &mut out).is_ok(),
            1 => crate::formats::xpress::unpack(bytes, out.get_mut(..4096).unwrap_or_default()).is_ok(),
            2 => crate::formats::lzx::unpack(bytes, &mut out).is_ok(),
            _ => crate::fs::ntfs::reads_reparse(bytes),
        }
    }

    /// Lets an adapter ask for its address in `text`, as a file of each of the tools, and adds a console to it as to a loader's file. What was
    /// done once is not done twice.
    ///
    /// # Panics
    /// It was.
    pub fn cloud_rules(text: &str) {
        use crate::refit::linux::{asking, with_console};
        for file in [
            "/etc/network/interfaces",
            "/etc/netplan/x.yaml",
            "/etc/systemd/network/x.network",
            "/etc/NetworkManager/x",
            "/etc/x/ifcfg-ens3",
        ] {
            if let Ok(Some((new, left))) = asking(file, text, "ens3") {
                assert!(!left.is_empty());
                let again = asking(file, &new, "ens3").map(|made| made.map(|(_, left)| left));
                assert!(!matches!(again, Ok(Some(_))), "{file}: {again:?}");
            }
        }
        for file in ["/boot/grub/grub.cfg", "/boot/loader/entries/x.conf", "/etc/default/grub", "/etc/kernel/cmdline"] {
            let new = with_console(file, text, "console=ttyS0,115200");
            assert_eq!(with_console(file, &new, "console=ttyS0,115200"), new, "{file}");
        }
    }

    /// Reads `text` as a file of each of the tools that configure a network, and as a table of mounts whose fields are
    /// changed. Gives the number of adapters, and whether the changed table has as many lines.
    pub fn texts(text: &str) -> (usize, bool) {
        use crate::system::linux::{fstab, network};
        let changed = fstab::with_field(text, 0, |field| field.starts_with("/dev/").then(|| "UUID=1".into()));
        let same = fstab::read(text).len() == fstab::read(&changed).len();
        (network::of_text(text).len(), same)
    }
}
