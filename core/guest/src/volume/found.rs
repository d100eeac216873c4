//! The volumes of a guest: partitions, logical volumes and whole disks, each with what lies in it and by which names a
//! guest can call for it.

use serde::Serialize;

use crate::{
    bench::Device,
    error::{Error, Result},
    fs::{efi, registry},
    volume::{
        md::{self, Array},
        partition::Role,
        probe::{self, Volume},
    },
};

/// A volume.
#[derive(Debug, Clone, Serialize)]
pub struct Found {
    /// What to call it: `disk 1`, `disk 1 partition 2`, `group/volume`, `array root`.
    pub name: String,
    /// Its disk, from 0; for what lies on several, the one that it begins on.
    pub disk: usize,
    /// Number of its partition.
    pub partition: Option<u32>,
    /// What the partition is for.
    pub role: Role,
    /// Bytes.
    pub size: u64,
    /// What lies in it; `None` when that is not known.
    pub kind: Option<Volume>,
    /// Its UUID, or the serial number of FAT, as `/dev/disk/by-uuid` has it.
    pub uuid: Option<String>,
    /// Its label; empty when it has none.
    pub label: String,
    /// The partition's own UUID, as `/dev/disk/by-partuuid` has it.
    pub part_uuid: Option<String>,
    /// The partition's own name, as `/dev/disk/by-partlabel` has it; empty when it has none.
    #[serde(skip_serializing_if = "String::is_empty")]
    pub part_label: String,
    /// Why it cannot be read.
    pub trouble: Option<String>,
    /// The array that it is, or is a partition of.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub array: Option<Array>,
    /// The UUID of the encrypted volume that it is the inside of.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub opens: Option<String>,
    /// Whether it is encrypted, and a key opened it: what it holds is a volume of its own.
    #[serde(skip_serializing_if = "std::ops::Not::not")]
    pub is_opened: bool,
    /// Names below `/dev` that it has wherever its disks are; none where it lies on a disk by itself.
    #[serde(skip)]
    pub(crate) aliases: Vec<String>,
    #[serde(skip)]
    pub(crate) device: Option<Device>,
}

impl Found {
    /// Whether it is a disk, or a partition of one: not put together of others.
    pub fn is_on_disk(&self) -> bool {
        self.aliases.is_empty()
    }

    /// Its bytes; none where it cannot be put together.
    pub fn device(&self) -> Option<&Device> {
        self.device.as_ref()
    }

    /// The loaders on it, as paths with `/`, when it is an EFI system partition.
    pub(crate) fn loaders(&self) -> Vec<String> {
        // Firmware reads FAT alone; and opening another one may replay its journal.
        let device = self.device.as_ref().filter(|_| self.kind == Some(Volume::Fat));
        let opened = device.and_then(|device| registry::open(device, Volume::Fat, 0).ok().flatten());
        opened.and_then(|opened| efi::loaders(&**opened.fs.lock()).ok()).unwrap_or_default()
    }

    pub(super) fn new(name: String, device: Device, disk: usize) -> Self {
        Self {
            name,
            disk,
            partition: None,
            role: Role::Other,
            size: device.size(),
            kind: None,
            uuid: None,
            label: String::new(),
            part_uuid: None,
            part_label: String::new(),
            trouble: None,
            array: None,
            opens: None,
            is_opened: false,
            aliases: Vec::new(),
            device: Some(device),
        }
    }

    /// Looks at what lies in it. What is not sound is its trouble, not an error.
    pub(super) fn look(mut self) -> Result<Self> {
        if let Some(trouble) = self.role.trouble() {
            self.trouble = Some(trouble.into());
            return Ok(self);
        }
        match self.fill() {
            Ok(()) => {}
            Err(error @ Error::Disk(_)) => return Err(error),
            Err(error) => self.trouble = Some(error.to_string()),
        }
        Ok(self)
    }

    #[expect(clippy::indexing_slicing, reason = "the end was found in these bytes")]
    fn fill(&mut self) -> Result<()> {
        let Some(device) = &self.device else { return Ok(()) };
        // What a member starts with may be what the array holds.
        self.kind = match md::is_member(device)? {
            true => Some(Volume::Md),
            false => probe::probe(device, 0, device.size())?,
        };
        match self.kind {
            Some(Volume::Md) if !md::is_member(device)? => {
                return Err(device.unreadable("what it says of its software RAID is not sound"));
            }
            Some(kind @ (Volume::Ext | Volume::Xfs | Volume::Fat | Volume::Ntfs)) => {
                if let Some(facts) = registry::facts(device, kind)? {
                    self.uuid = facts.identity;
                    self.label = facts.label;
                }
            }
            // LUKS writes its UUID as text (its on-disk format, versions 1 and 2: byte 168, 40 bytes).
            Some(Volume::Luks) => {
                let mut text = [0; 40];
                device.read(168, &mut text)?;
                let end = text.iter().position(|byte| *byte == 0).unwrap_or(text.len());
                self.uuid =
                    std::str::from_utf8(&text[..end]).ok().map(Into::into).filter(|uuid: &String| uuid.len() == 36);
            }
            Some(kind) => {
                let (at, text) = match kind {
                    // `mkswap` keeps its UUID there (util-linux `include/swapheader.h`).
                    Volume::Swap => (1036, 1052),
                    Volume::Btrfs => (65_568, 65_835),
                    _ => return Ok(()),
                };
                let mut bytes = [0; 16];
                device.read(at, &mut bytes)?;
                self.uuid = Some(uuid::Uuid::from_bytes(bytes).to_string());
                let mut label = [0; 16];
                device.read(text, &mut label)?;
                let end = label.iter().position(|byte| *byte == 0).unwrap_or(label.len());
                self.label = String::from_utf8_lossy(&label[..end]).into();
            }
            None => {}
        }
        Ok(())
    }
}
