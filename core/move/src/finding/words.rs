//! Severity, code, sentence and remedy of each kind of finding, together.

use reformis_disk::{ByteSize, formats::Trouble};
use reformis_machine::ControllerKind;

use super::{Finding, Severity};

pub(super) struct Words {
    pub(super) severity: Severity,
    pub(super) code: &'static str,
    pub(super) sentence: String,
    pub(super) remedy: &'static str,
}

impl Finding {
    /// All there is to say, in one place.
    pub(super) fn words(&self) -> Words {
        use Severity::{Blocker, Caution, Note};
        let (severity, code, sentence, remedy) = match self {
            Self::NoDisk => {
                (Blocker, "no-disk", "the machine has no disk".into(), "See that its host exported the disks too.")
            }
            Self::DiskMissing { disk, file } => (
                Blocker,
                "disk-missing",
                format!("disk '{disk}' is kept in '{file}', which is not there"),
                "Put the file beside its descriptor, or export the machine again.",
            ),
            Self::DiskUnreadable { disk, why } => (
                Blocker,
                "disk-unreadable",
                format!("disk '{disk}' cannot be read: {why}"),
                "Export or copy the disk again from its host.",
            ),
            Self::DescriptorChanged { file } => (
                Blocker,
                "descriptor-changed",
                format!("'{file}' is not what the manifest says: it was changed after the export"),
                "Export the machine again; if the change was meant, remove the manifest from the package.",
            ),
            Self::Compressed { file, kind } => (
                Blocker,
                "file-compressed",
                format!("'{file}' is compressed as a whole with {kind}, which is not read in place here"),
                "Unpack it with `reformis recast` and move that, or export the machine without compressing its files.",
            ),
            Self::FirmwareNotOffered { firmware, destination, offered } => (
                Blocker,
                "firmware-not-offered",
                format!("the machine starts with {firmware}, and {destination} offers {offered}"),
                "Choose a destination with that firmware.",
            ),
            Self::TooManyDisks { disks, controller, slots } => (
                Blocker,
                "too-many-disks",
                format!("the machine has {disks} disks, and {controller} there holds {slots}"),
                "Choose another destination, or carry some disks by themselves.",
            ),
            Self::DiskTooLarge { disk, size, most } => (
                Blocker,
                "disk-too-large",
                format!("disk '{disk}' has {}, and the destination takes {}", ByteSize(*size), ByteSize(*most)),
                "Shrink the disk in its guest and on its host first, or choose another destination.",
            ),
            Self::SizeRounded { disk, size, rounded } => (
                Note,
                "size-rounded",
                format!("disk '{disk}' grows from {size} to {rounded} bytes with zeros at its end"),
                "Nothing to do: the guest does not see it until its partitions are grown.",
            ),
            Self::CapacityDiffers { disk, stated, found } => (
                Caution,
                "capacity-differs",
                format!("disk '{disk}' is said to have {stated} bytes, and its image has {found}"),
                "The image's own size is used.",
            ),
            Self::LengthDiffers { file, stated, found } => (
                Caution,
                "length-differs",
                format!("'{file}' is said to have {stated} bytes, and has {found}"),
                "Compare it with the original on its host.",
            ),
            Self::ImageUnclean { disk } => (
                Caution,
                "image-unclean",
                format!("the image of disk '{disk}' was not closed properly by its last writer"),
                "See that the guest is shut down and the host has let go of the disk.",
            ),
            Self::ImageDirty { disk } => (
                Note,
                "image-dirty",
                format!(
                    "the counts of references in the image of disk '{disk}' may be wrong; its data is not touched by that"
                ),
                "Nothing to do: the result has counts of its own.",
            ),
            Self::ImageInTrouble { trouble } => {
                let (code, remedy) = match trouble {
                    Trouble::Encrypted { .. } => {
                        ("disk-encrypted", "Have its host write it without encryption, and move that.")
                    }
                    Trouble::Corrupt { .. } => {
                        ("image-corrupt", "Have its host check and repair the image, or restore it from a backup.")
                    }
                    Trouble::WrongParent { .. } => (
                        "parent-changed",
                        "Put back the disk that the delta was made of, or have its host consolidate the chain.",
                    ),
                };
                (Blocker, code, trouble.to_string(), remedy)
            }
            Self::PieceAlone { disk } => (
                Caution,
                "piece-alone",
                format!("the image of disk '{disk}' has no descriptor, and may be one piece of several"),
                "If there is a descriptor beside it (a small text file), name that one.",
            ),
            Self::LooksPacked { file, kind } => (
                Note,
                "read-forwards",
                format!("'{file}' ({kind}) can only be read forwards, so that only its start was looked at"),
                "`reformis recast` turns it into a disk; the survey of that tells more.",
            ),
            Self::NotInManifest { file } => (
                Caution,
                "not-in-manifest",
                format!("'{file}' is not in the manifest, so nothing proves that it is what was exported"),
                "Compare it with the original on its host.",
            ),
            Self::ManifestNamesMissing { file } => (
                Caution,
                "manifest-names-missing",
                format!("the manifest names '{file}', which is not there"),
                "If the machine needs it, export the machine again.",
            ),
            Self::NoEndMark { archive } => (
                Caution,
                "archive-no-end",
                format!("'{archive}' ends without the mark that every archive ends with: it may have been cut short"),
                "Compare its size with the original's.",
            ),
            Self::NoManifest => (
                Note,
                "no-manifest",
                "there is no manifest, so nothing proves that the files are what was exported".into(),
                "Let the host write a manifest with the export.",
            ),
            Self::CertificateUnchecked { file } => (
                Note,
                "certificate-unchecked",
                format!("the manifest is signed with '{file}', and the signature was not checked"),
                "Check it with the tools of whoever signed it.",
            ),
            Self::DriverUnchecked { from, to } => (
                Caution,
                "driver-unchecked",
                match from {
                    ControllerKind::Unknown => {
                        format!(
                            "the boot disk is put on {to}, and no system was found of which the drivers can be read"
                        )
                    }
                    from => format!(
                        "the boot disk moves from {from} to {to}, and no system was found of which the drivers can be read"
                    ),
                },
                "Before the export, have the guest include the new driver in its early boot image.",
            ),
            Self::NameChanged { name, to } => (
                Note,
                "name-changed",
                format!("the name '{name}' is not allowed there: the machine is called '{to}'"),
                "Rename it on its new host if you like.",
            ),
            Self::NetworkReplaced { adapter, network, to } => (
                Note,
                "network-replaced",
                format!("adapter '{adapter}' was on network '{network}', and is put on '{to}'"),
                "Change the network on the new host before the first start if that is not the one.",
            ),
            Self::MacKept { adapter, mac } => (
                Note,
                "mac-kept",
                format!("adapter '{adapter}' keeps its address {mac}"),
                "Do not let the old and the new machine run at the same time on one network.",
            ),
            Self::DeviceDropped { what, detail } => (
                Note,
                "device-dropped",
                format!("the {what} ('{detail}') does not come along"),
                "Add one on the new host if the guest needs it.",
            ),
            Self::MediaDropped { media } => (
                Note,
                "media-dropped",
                format!("the drive arrives empty: '{media}' does not come along"),
                "Insert the medium on the new host if the guest needs it.",
            ),
            Self::SourceChangedSince { path } => (
                Caution,
                "source-changed",
                format!("'{path}' has another size or time than when it was carried"),
                "If its guest was started again, the landing is older than its source: carry it again.",
            ),
            Self::MachineFileChanged { path } => (
                Note,
                "machine-file-changed",
                format!("'{path}' was changed since the landing"),
                "Nothing to do if that was you.",
            ),
            Self::StaleRemoved { path } => (
                Note,
                "stale-removed",
                format!("'{path}' was left by a run that did not end, and was cleared away"),
                "Nothing to do.",
            ),
            Self::Spooled { source, kind } => (
                Note,
                "spooled",
                format!(
                    "'{source}' ({kind}) can only be read forwards: it is unpacked first, into a file beside the result"
                ),
                "Nothing to do; it takes room there for as long as the run takes, and no more than what is not zero.",
            ),
            Self::Running { machine } => (
                Blocker,
                "running",
                format!("'{machine}' was running when its machine file was written"),
                "Shut the guest down, and take the machine file and the disks again.",
            ),
            Self::Suspended { file } => (
                Blocker,
                "suspended",
                format!("the machine is suspended, not shut down: its memory is kept in '{file}'"),
                "Start it on its host and shut the guest down; its disks are not consistent as they are.",
            ),
            Self::Locked { lock } => (
                Blocker,
                "locked",
                format!("'{lock}' says that a host holds the machine"),
                "Shut the machine down there; if the host is gone, accept this with --accept locked.",
            ),
            Self::MachineEncrypted { machine } => (
                Blocker,
                "machine-encrypted",
                format!("'{machine}' is encrypted by its host, and the key is with that host"),
                "Take the encryption off on its host, and move it then.",
            ),
            Self::SnapshotsLeft { count } => (
                Note,
                "snapshots-left",
                format!("its host keeps {count} snapshot(s): the current state is moved, without them"),
                "Keep the source for as long as you may need to go back.",
            ),
            Self::DeltasFlattened { disk, deltas } => (
                Note,
                "deltas-flattened",
                format!("disk '{disk}' is a delta of {deltas} disk(s) below it: it lands as one disk"),
                "Nothing to do.",
            ),
            Self::MachineGuessed => (
                Note,
                "machine-guessed",
                "there are no machine settings here: what is proposed comes from the disk, or is a guess".into(),
                "Read memory, processors and network in the brief before you go.",
            ),
            Self::FirmwareCorrected { said, seen } => (
                Caution,
                "firmware-corrected",
                format!("the machine file says {said}, and the disk boots with {seen} alone: that is proposed"),
                "Nothing to do, unless you know better: the brief has it.",
            ),
            Self::FirmwareMismatch { said, seen } => (
                Blocker,
                "firmware-mismatch",
                format!("the machine is to start with {said}, and its disk boots with {seen} alone"),
                "Change the firmware in the brief.",
            ),
            Self::NoBootLoader { firmware } => (
                Caution,
                "no-boot-loader",
                format!("nothing was found on the boot disk that {firmware} would start"),
                "See that the right disk comes first in the boot order.",
            ),
            Self::NoFallbackLoader => (
                Caution,
                "no-fallback-loader",
                "the boot entries of the old host do not come along, and the disk has no loader in the fallback path"
                    .into(),
                "In the guest, install its loader to EFI/BOOT/BOOTX64.EFI before the move, or add a boot entry afterwards.",
            ),
            Self::NoSecureBoot { destination } => (
                Blocker,
                "no-secure-boot",
                format!("{destination} has no secure boot"),
                "Say secure-boot = false in the brief.",
            ),
            Self::TpmNew => (
                Caution,
                "tpm-new",
                "the machine has a trusted platform module, whose content stays with the old host".into(),
                "What is sealed to it has to be unsealed before the move, or given again afterwards.",
            ),
            Self::TpmBound => (
                Blocker,
                "tpm-bound",
                "a volume is encrypted, and the machine has the trusted platform module that may hold its key".into(),
                "Have the recovery key at hand and accept this with --accept tpm-bound, or suspend the encryption first.",
            ),
            Self::VolumeEncrypted { kind } => (
                Note,
                "volume-encrypted",
                format!("a volume on the boot disk is encrypted by the guest ({kind})"),
                "Have its passphrase at hand for the first start.",
            ),
            Self::NotOffered { what, asked, destination, offered } => (
                Blocker,
                "not-offered",
                format!("{destination} does not have the {what} '{asked}' here; it has {offered}"),
                "Change it in the brief.",
            ),
            Self::NameNotAllowed { name, proposed } => (
                Blocker,
                "name-not-allowed",
                format!("the name '{name}' is not allowed there"),
                if proposed == "machine" {
                    "Choose letters, digits and '-'."
                } else {
                    "Choose letters, digits and '-'; `reformis dests NAME` has the rule."
                },
            ),
            Self::NetworkUnmapped { adapter, network, to } => (
                Caution,
                "network-unmapped",
                format!("the network '{network}' of adapter '{adapter}' has no new name: it is put on '{to}'"),
                "Say the network in the brief or with --network, or map it in the site's reformis.toml.",
            ),
            Self::Unconnected { adapter, network } => (
                Caution,
                "adapter-unconnected",
                match network {
                    Some(network) => format!("adapter '{adapter}' is connected to no network; it was on '{network}'"),
                    None => format!("adapter '{adapter}' is connected to no network"),
                },
                "Say the network in the brief or with --network, or map it in the site's reformis.toml.",
            ),
            Self::MacTwice { mac, other } => (
                Caution,
                "mac-twice",
                format!("the address {mac} is in this landing twice: '{other}' has it too"),
                "Say mac = \"fresh\" for one of them.",
            ),
            Self::NoSuchDisk { disk, known } => (
                Blocker,
                "no-such-disk",
                format!("the source has no disk '{disk}'; it has {known}"),
                "Correct the disk's source in the brief.",
            ),
            Self::NoSuchAdapter { adapter } => (
                Caution,
                "no-such-adapter",
                format!("the source has no adapter '{adapter}': it is a new one"),
                "Leave source out for an adapter that is new.",
            ),
            Self::DiskTwice { disk } => {
                (Blocker, "disk-twice", format!("disk '{disk}' is in the brief twice"), "Remove one of the two.")
            }
            Self::DiskLeft { disk } => (
                Caution,
                "disk-left",
                format!("disk '{disk}' is not in the brief: it stays behind"),
                "Nothing to do if that is meant.",
            ),
            Self::WouldShrink { disk, size, asked } => (
                Blocker,
                "would-shrink",
                format!("disk '{disk}' has {size} bytes, and is not made smaller to {asked}: its end would be lost"),
                "Shrink it in its guest and on its host first.",
            ),
            Self::SizeUneven { disk, size, multiple } => (
                Blocker,
                "size-uneven",
                format!(
                    "disk '{disk}' would have {size} bytes, which is no multiple of {} as the destination wants it",
                    ByteSize(*multiple)
                ),
                "Say align in the brief.",
            ),
            Self::NoSuchPlace { disk, place } => (
                Blocker,
                "no-such-place",
                format!("disk '{disk}' is put on {place}, which is no place there"),
                "Choose another slot; `reformis dests NAME` has their number.",
            ),
            Self::PlaceLost { disk, file } => (
                Blocker,
                "place-lost",
                format!(
                    "the {file} has no word for the place of disk '{disk}': hosts that take it have fewer controllers"
                ),
                "Put the disks on fewer controllers.",
            ),
            Self::PlaceTaken { first, second, place } => (
                Blocker,
                "place-taken",
                format!("disks '{first}' and '{second}' are both put on {place}"),
                "Give each a slot of its own.",
            ),
            Self::DoesNotBoot { disk, controller, firmware } => (
                Blocker,
                "does-not-boot",
                format!("disk '{disk}' is in the boot order, and {firmware} does not boot from {controller} there"),
                "Choose a controller that boots with this firmware; `reformis dests NAME` has them.",
            ),
            Self::BootOrderUnclear => (
                Blocker,
                "boot-order-unclear",
                "two disks have the same place in the boot order, or one has the place 0".into(),
                "Number them from 1.",
            ),
            Self::NothingBoots => (
                Caution,
                "nothing-boots",
                "no disk is in the boot order".into(),
                "Say boot = 1 for the disk that the machine starts from.",
            ),
            Self::NoRoom { needed, free } => (
                Blocker,
                "no-room",
                format!(
                    "the disks take {}, and {} are free where they are to land",
                    ByteSize(*needed),
                    ByteSize(*free)
                ),
                "Make room, choose another folder, or a thin shape.",
            ),
            Self::WillNotBoot { system, link, about, seen } => (
                Blocker,
                "will-not-boot",
                format!("{system} will not boot: {link} of {about}: {seen}"),
                "See to what is said in the guest before the export, or choose other hardware in the brief.",
            ),
            Self::LinkBroken { system, link, about, seen } => (
                Caution,
                "link-broken",
                format!("{system}: {link} of {about} does not hold: {seen}"),
                "See to it in the guest, before the export or on its console afterwards.",
            ),
            Self::EditFailed { edit, why } => (
                Caution,
                "edit-failed",
                format!("the edit '{edit}' cannot be made, and nothing of it is: {why}"),
                "Remove the reason in the guest where it is, or leave the edit out and do by hand what it does.",
            ),
            Self::VolumeUnread { volume, why } => (
                Note,
                "volume-unread",
                format!("{volume} is carried and not looked into: {why}"),
                "If the system boots from it, see in the guest that it has the drivers for its new disks.",
            ),
            Self::JournalReplayed { volume } => (
                Note,
                "journal-replayed",
                format!("{volume} was not unmounted: its journal is replayed before anything is changed"),
                "Nothing, if the guest was meant to be off like that; its own kernel would have done the same.",
            ),
            Self::Hibernated { volume } => (
                Blocker,
                "hibernated",
                format!(
                    "{volume} holds a suspended system, which would go on with the old hardware: nothing is changed inside"
                ),
                "Start the guest where it is, shut it down, and export it again.",
            ),
            Self::AdapterAssumed { name, mac } => (
                Caution,
                "adapter-assumed",
                format!("nothing in the guest says which adapter is '{name}': by their order it is the one with {mac}"),
                "Compare with the guest where it is; if it is another one, say so by the order of adapters in the brief.",
            ),
            Self::AdapterUnknown { name } => (
                Caution,
                "adapter-unknown",
                format!("'{name}' is configured in the guest, and no adapter with a known address can be it"),
                "Give the adapter an address, in the brief or with refit's --mac, or rename it in the guest on its console.",
            ),
            Self::KernelLeft { kernel, why } => (
                Note,
                "kernel-left",
                format!("the kernel {kernel} is left as it is: {why}"),
                "Do not start this kernel at the destination, or install it anew in the guest.",
            ),
            Self::SeveralSystems { systems } => (
                Note,
                "several-systems",
                format!("there is more than one system, and all are made ready: {systems}"),
                "Name edits to leave out in the brief if one of them must stay as it is.",
            ),
            Self::LittleRoom { needed, free } => (
                Caution,
                "little-room",
                format!(
                    "the disks may take up to {}, and {} are free where they are to land",
                    ByteSize(*needed),
                    ByteSize(*free)
                ),
                "Make room if you can; when it runs out, the move ends and nothing half-made stays.",
            ),
            Self::SourceInLanding { folder } => (
                Blocker,
                "source-in-landing",
                format!("a file of the source lies in '{folder}', where the landing is to be"),
                "Choose another folder, or another name for the machine.",
            ),
            Self::SettingLost { setting, value, file } => (
                Caution,
                "setting-lost",
                format!("the {file} has no word for {setting}, which is {value}"),
                if setting == "start_with_host" {
                    "Say so to the new host itself, once the machine is there."
                } else {
                    "Set it on the new host if the guest needs it."
                },
            ),
            Self::Accepted { code } => (
                Note,
                "accepted",
                format!("the blocker '{code}' was accepted"),
                "Nothing to do, if you know what follows from it.",
            ),
        };
        Words { severity, code, sentence, remedy }
    }
}
