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
mod boot;
mod error;
mod evidence;
mod ext;
mod fat;
mod found;
mod fs;
mod hardware;
mod initramfs;
mod lvm;
mod modules;
mod node;
mod partitions;
mod refit;
mod system;
mod tree;
mod volumes;

pub use bench::{Bench, Device};
pub use boot::{Family, Look, look};
pub use error::{Error, Result};
pub use evidence::{Evidence, Link, State, is_broken};
pub use found::{Found, find, resolve};
pub use hardware::{AdapterPlace, DiskPlace, Hardware, Need, OtherPlace};
pub use initramfs::Packing;
pub use node::{Attribute, Kind, New, Owner, Stat};
pub use partitions::{Partition, Role, Table};
pub use refit::{Done, Refit, Remark, Wishes, edit, look as walk, refit, remarks};
pub use system::{Entry, Guest, Helper, Kernel, Release, Summary, System, Used};
pub use tree::Tree;
pub use volumes::{Volume, probe};

/// Readers of what a stranger's guest holds, for the fuzzers alone.
#[doc(hidden)]
pub mod fuzzing {
    /// Reads an early boot image.
    pub fn early_image(bytes: &[u8]) -> bool {
        let budget = reformis_disk::budget::Budget::new(reformis_disk::budget::Budget::MOST);
        crate::initramfs::read(bytes, &budget).is_ok_and(|image| image.has("lib/modules/x"))
    }

    /// Reads the indexes of a kernel's modules, split from `text` by zero bytes, and asks them.
    pub fn modules(text: &str) -> usize {
        let modules = crate::modules::Modules::of_texts(text);
        let driver = modules.driver("virtio:d00000008v00001AF4", "virtio_scsi");
        modules.files.keys().take(16).map(|name| modules.closure(name).len()).sum::<usize>()
            + usize::from(driver.is_some())
    }
}
