//! What a machine is made of: controllers, disks, drives, adapters.

use std::fmt;

use serde::{Deserialize, Serialize};

use crate::typed::{Mac, Name};

macro_rules! words {
    ($(#[$outer:meta])* $name:ident { $($(#[$inner:meta])* $variant:ident = $word:literal,)+ }) => {
        $(#[$outer])*
        #[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize)]
        pub enum $name { $($(#[$inner])* #[serde(rename = $word)] $variant,)+ }

        impl $name {
            /// All of them.
            pub const ALL: &[Self] = &[$(Self::$variant),+];

            /// The word for it in files and messages.
            pub fn name(self) -> &'static str {
                match self { $(Self::$variant => $word,)+ }
            }
        }

        impl fmt::Display for $name {
            fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
                f.pad(self.name())
            }
        }
    };
}

words! {
    /// The version of a trusted platform module.
    Tpm {
        /// The older one.
        V12 = "1.2",
        /// The current one.
        V20 = "2.0",
    }
}

words! {
    /// What a disk is attached to.
    ControllerKind {
        /// Virtio SCSI host adapter.
        VirtioScsi = "virtio-scsi",
        /// A virtio block device of its own for each disk.
        VirtioBlk = "virtio-blk",
        /// SATA by AHCI.
        Ahci = "ahci",
        /// Parallel ATA.
        Ide = "ide",
        /// Paravirtual SCSI.
        Pvscsi = "pvscsi",
        /// LSI 53c1030, parallel SCSI.
        Lsi = "lsi",
        /// LSI SAS 1068.
        LsiSas = "lsi-sas",
        /// BusLogic parallel SCSI.
        Buslogic = "buslogic",
        /// NVM Express.
        Nvme = "nvme",
        /// SCSI over VMBus.
        VmbusScsi = "vmbus-scsi",
        /// USB storage.
        Usb = "usb",
        /// Its file does not say, or says it in a word that is not known.
        Unknown = "unknown",
    }
}

impl ControllerKind {
    /// What a CD drive of a machine with this controller is attached to: IDE stays, all else becomes SATA.
    pub(crate) fn for_discs(self) -> Self {
        if self == Self::Ide { Self::Ide } else { Self::Ahci }
    }
}

words! {
    /// The model of a network adapter.
    AdapterModel {
        /// Virtio network device.
        VirtioNet = "virtio-net",
        /// Intel 82540/82545 family.
        E1000 = "e1000",
        /// Intel 82574.
        E1000e = "e1000e",
        /// Paravirtual, third generation.
        Vmxnet3 = "vmxnet3",
        /// Paravirtual, second generation.
        Vmxnet2 = "vmxnet2",
        /// AMD PCnet.
        Pcnet = "pcnet",
        /// Realtek 8139.
        Rtl8139 = "rtl8139",
        /// Synthetic adapter over VMBus.
        VmbusNet = "vmbus-net",
        /// Elastic network adapter.
        Ena = "ena",
        /// Its file does not say, or says it in a word that is not known.
        Unknown = "unknown",
    }
}

/// A disk, as it is attached.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct DiskDevice {
    /// The name its file gives it.
    pub id: Name,
    /// The files that hold its bytes, in order, relative to the machine file; several are pieces of one image, none
    /// means that the disk starts empty.
    pub files: Vec<String>,
    /// How those files are compressed as a whole, such as "gzip".
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub compression: Option<String>,
    /// The format of those files, where the machine file's word for it is binding, such as "raw".
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub format: Option<String>,
    /// Size in bytes, where the file states it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub capacity: Option<u64>,
    /// What it is attached to.
    pub controller: ControllerKind,
    /// Which of the controllers of that kind, from 0.
    pub bus: u32,
    /// Its place there, from 0.
    pub slot: u32,
    /// Its place in the boot order, from 1.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub boot: Option<u32>,
}

/// What a removable drive takes.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum RemovableKind {
    /// CD or DVD.
    Cdrom,
    /// Floppy disk.
    Floppy,
}

/// A drive for media that a person changes.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Removable {
    /// What it takes.
    pub kind: RemovableKind,
    /// What it is attached to.
    pub controller: ControllerKind,
    /// The file that lay in it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub media: Option<String>,
}

/// A network adapter.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Adapter {
    /// The source's own word for it.
    pub name: Name,
    /// Its model.
    pub model: AdapterModel,
    /// Hardware address.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub mac: Option<Mac>,
    /// The network it is connected to.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub network: Option<Name>,
    /// Whether its cable is plugged in when the machine starts.
    #[serde(default = "plugged")]
    pub connected: bool,
}

fn plugged() -> bool {
    true
}

/// Something that the machine file describes, and the model cannot hold.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Leftover {
    /// What it is, such as "sound card".
    pub what: String,
    /// The source's own word for it.
    pub detail: String,
}
