//! What the person can do about each kind of finding.

use reformis_disk::Trouble;

use super::Finding;

impl Finding {
    /// What the person can do, as a sentence.
    pub(super) fn remedy_words(&self) -> &'static str {
        match self {
            Self::NoDisk => "Make sure that its host exported the disks too.",
            Self::DiskMissing { .. } => "Put the file beside the machine file, or export the machine again.",
            Self::DiskUnreadable { .. } => "Export or copy the disk again from its host.",
            Self::DescriptorChanged { .. } => {
                "Export the machine again. If you made the change yourself, remove the manifest from the package."
            }
            Self::FirmwareNotOffered { .. } => "Choose a destination that has this firmware.",
            Self::TooManyDisks { .. } => "Choose another destination, or carry some of the disks separately.",
            Self::DiskTooLarge { .. } => {
                "Shrink it first, in its guest and on its host, or choose another destination."
            }
            Self::SizeRounded { .. } => "Nothing to do: the guest does not see it until its partitions are grown.",
            Self::CapacityDiffers { .. } => "Nothing to do: the size of the image counts.",
            Self::LengthDiffers { .. } => "Compare it with the original on its host.",
            Self::ImageUnclean { .. } => "Make sure that the guest is shut down and that no host holds the disk open.",
            Self::ImageDirty { .. } => "Nothing to do: the result gets counts of its own.",
            Self::PieceAlone { .. } => "If there is a descriptor beside it (a small text file), name that instead.",
            Self::LooksPacked { .. } => "Let it be unpacked to look inside; carry does that by itself.",
            Self::NotInManifest { .. } => "Compare it with the original on its host.",
            Self::ManifestNamesMissing { .. } => "If the machine needs it, export the machine again.",
            Self::NoEndMark { .. } => "Compare its size with that of the original.",
            Self::NoManifest => "Let the host write a manifest with the export.",
            Self::CertificateUnchecked { .. } => "Check it with the tools of whoever signed it.",
            Self::DriverUnchecked { .. } => {
                "Before you export it, have the guest load the new controller's driver when it starts."
            }
            Self::NameChanged { .. } => "Rename it on its new host if you like.",
            Self::NetworkReplaced { .. } => {
                "If that is the wrong network, change it on the new host before the first start."
            }
            Self::MacKept { .. } => "Do not let the old and the new machine run at the same time on one network.",
            Self::DeviceDropped { .. } => "Add one on the new host if the guest needs it.",
            Self::MediaDropped { .. } => "Insert the medium on the new host if the guest needs it.",
            Self::SourceChangedSince { .. } => {
                "If its guest was started again, the landing is out of date: carry it again."
            }
            Self::MachineFileChanged { .. } => "Nothing to do if that was you: the proof was told that it may differ.",
            Self::UnknownDropped { .. } => {
                "If you know the file and need them, keep them: keep-unknown = true in the brief."
            }
            Self::UnknownKept { .. } => "Read them in the machine file before you hand it to the host.",
            Self::MisleadingName { .. } => "Rename it, so that nobody takes it for another format.",
            Self::VariablesLeft { .. } => {
                "Boot entries may be missing at the destination; put the file beside the machine file if you need them."
            }
            Self::StaleRemoved { .. } => "Nothing to do.",
            Self::Spooled { .. } => "Nothing to do. It takes room there until the run ends, but none for zeros.",
            Self::Running { .. } => {
                "Shut the guest down, and take it from its host again. Where the host can give one moment of it, it can be read while it runs."
            }
            Self::PartKept { .. } => "Give the same command again, to go on where it stopped.",
            Self::MadeHereFirst { .. } => "Nothing to do; it takes room there until it is sent.",
            Self::SwapOnSystemDisk { .. } => {
                "Take it out of /etc/fstab in the guest, or give it a disk of its own; it boots either way."
            }
            Self::NoRemoteLogin { .. } => {
                "Install one in the guest before the move, or put one in with a script of the first start."
            }
            Self::SeedMade { .. } => "Attach it as a CD or as a disk, unless the machine has it in a drive already.",
            Self::CloudRefuses { .. } => "Mend that, in the brief or in the cloud; nothing was sent.",
            Self::BegunAnew { .. } => "Nothing to do: all of it was carried now.",
            Self::GuestWrote { .. } => "Nothing to do: it lands too, and the receipt lists where.",
            Self::ReadWhileRunning { .. } => "Shut it down before the last move, so that nothing is lost.",
            Self::Suspended { .. } => {
                "Start it on its host and shut the guest down: its disks are not consistent as they are."
            }
            Self::Locked { .. } => "Shut the machine down there. If that host is gone, accept it.",
            Self::MachineEncrypted { .. } => "Remove the encryption on that host, then move it.",
            Self::SnapshotsLeft { .. } => "Keep the source as long as you may need to go back to one of them.",
            Self::DeltasFlattened { .. } => "Nothing to do.",
            Self::MachineGuessed => "Check memory, processors and network in the brief before you go.",
            Self::FirmwareCorrected { .. } => "Nothing to do, unless you know better: change it in the brief.",
            Self::FirmwareMismatch { .. } => "Change the firmware in the brief.",
            Self::NoBootLoader { .. } => "Check that the right disk comes first in the boot order.",
            Self::NoFallbackLoader => {
                "Install the loader to EFI/BOOT/BOOTX64.EFI in the guest before the move, or add a boot entry afterwards."
            }
            Self::NoSecureBoot { .. } => "Write secure-boot = false in the brief.",
            Self::TpmNew => "Unseal what depends on it before the move, or enter it again afterwards.",
            Self::TpmBound => "Suspend the encryption first, or have the recovery key at hand and accept it.",
            Self::VolumeEncrypted { .. } => "Have its passphrase at hand for the first start.",
            Self::NotOffered { .. } => "Change it in the brief.",
            Self::NameNotAllowed { proposed, .. } => {
                if proposed == "machine" {
                    "Use letters, digits and '-'."
                } else {
                    "Use letters, digits and '-'; `reformis dests NAME` shows the rule."
                }
            }
            Self::NetworkUnmapped { .. } => "Map it in the site's reformis.toml, or name the network in the brief.",
            Self::Unconnected { .. } => "Map it in the site's reformis.toml, or name the network in the brief.",
            Self::MacTwice { .. } => "Write mac = \"fresh\" for one of them.",
            Self::NoSuchDisk { .. } => "Correct the source of the disk in the brief.",
            Self::NoSuchAdapter { .. } => "Leave the source out for an adapter that is new.",
            Self::DiskTwice { .. } => "Remove one of the two.",
            Self::DiskLeft { .. } => "Nothing to do if that is what you want.",
            Self::WouldShrink { .. } => "Shrink it in its guest and on its host first.",
            Self::SizeUneven { .. } => "Set align in the brief.",
            Self::NoSuchPlace { .. } => "Choose another slot; `reformis dests NAME` shows how many there are.",
            Self::PlaceLost { .. } => "Put the disks on fewer controllers.",
            Self::PlaceTaken { .. } => "Give each a slot of its own.",
            Self::DoesNotBoot { .. } => {
                "Choose a controller that this firmware boots from; `reformis dests NAME` lists them."
            }
            Self::BootOrderUnclear => "Number them from 1.",
            Self::NothingBoots => "Write boot = 1 for the disk that the machine starts from.",
            Self::NoRoom { .. } => "Make room, or choose another folder or a thin shape.",
            Self::WillNotBoot { .. } => {
                "Mend this in the guest before you export it, or choose other hardware in the brief."
            }
            Self::LinkBroken { .. } => "Mend it in the guest, before the export or on its console afterwards.",
            Self::EditFailed { .. } => {
                "Remove the cause in the guest first, or leave the edit out and do its work by hand."
            }
            Self::VolumeUnread { .. } => {
                "If the system boots from it, make sure in the guest that it has the drivers for its new disks."
            }
            Self::KeyRefused { .. } => {
                "Give the key or passphrase that its own system asks for, or leave --unlock out: then it is copied as it is."
            }
            Self::ArrayIncomplete { .. } => {
                "Move the machine with all of its disks, or let the array become whole there: it starts without the missing ones."
            }
            Self::ArrayUnclean { .. } => {
                "Start the guest on its old host, let the array become the same on all members, shut it down, and export it again."
            }
            Self::PathUnread { .. } => {
                "Start the guest on its old host, let it check its file systems, and export it again."
            }
            Self::JournalReplayed { .. } => {
                "Nothing to do if the guest was meant to be switched off like that; its kernel would have done the same."
            }
            Self::Hibernated { .. } => "Start the guest on its old host, shut it down, and export it again.",
            Self::AdapterAssumed { .. } => {
                "Compare with the running guest. If it is another one, change the order of the adapters in the brief."
            }
            Self::AdapterUnknown { .. } => {
                "Rename it on the guest's console, or give the adapter an address in the brief."
            }
            Self::KernelLeft { .. } => "Do not start this kernel there, or install it again in the guest.",
            Self::NoDriver { .. } => {
                "Name a medium with a driver for it, or choose a controller or an adapter that the system knows."
            }
            Self::DriverUnread { .. } => "If the guest needs this driver, fetch the medium again.",
            Self::DomainController { .. } => {
                "Stop the old one for good before the new one starts, and check the time of the new host first."
            }
            Self::Activation { .. } => "Have its key or its licence server at hand; it runs until then.",
            Self::AddressesUnread { .. } => "Write them down before the move, and set them in the guest afterwards.",
            Self::SeveralSystems { .. } => "If one of them must stay as it is, leave edits out in the brief.",
            Self::LittleRoom { .. } => {
                "Make room if you can. If it runs out, the move ends and leaves nothing half-made."
            }
            Self::SourceInLanding { .. } => "Choose another folder, or another name for the machine.",
            Self::SettingLost { setting, .. } => {
                if setting == "start_with_host" {
                    "Tell the new host, once the machine is there."
                } else {
                    "Set it on the new host if the guest needs it."
                }
            }
            Self::Accepted { .. } => "Nothing to do if you know what follows from it.",
            Self::ImageInTrouble { trouble } => match trouble {
                Trouble::Encrypted { .. } => "Have its host write it without encryption, and move the result.",
                Trouble::Corrupt { .. } => "Have its host check and repair the image, or restore it from a backup.",
                Trouble::WrongParent { .. } => {
                    "Put back the disk that the delta was made of, or have its host consolidate the chain."
                }
            },
        }
    }
}
