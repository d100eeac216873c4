//! Severity, code, sentence and remedy of each kind of finding, together.

use reformis_disk::{ByteSize, Trouble};
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
            Self::NoDisk => (
                Blocker,
                "no-disk",
                "the machine has no disk".into(),
                "Make sure that its host exported the disks too.",
            ),
            Self::DiskMissing { disk, file } => (
                Blocker,
                "disk-missing",
                format!("the file of disk '{disk}', '{file}', is missing"),
                "Put the file beside the machine file, or export the machine again.",
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
                format!("'{file}' does not match the manifest: it was changed after the export"),
                "Export the machine again. If you made the change yourself, remove the manifest from the package.",
            ),
            Self::FirmwareNotOffered { firmware, destination, offered } => (
                Blocker,
                "firmware-not-offered",
                format!("the machine starts with {firmware}, but {destination} only offers {offered}"),
                "Choose a destination that has this firmware.",
            ),
            Self::TooManyDisks { disks, controller, slots } => (
                Blocker,
                "too-many-disks",
                format!("the machine has {disks} disks, but {controller} takes at most {slots} there"),
                "Choose another destination, or carry some of the disks separately.",
            ),
            Self::DiskTooLarge { disk, size, most } => (
                Blocker,
                "disk-too-large",
                format!("disk '{disk}' is {}, but the destination takes at most {}", ByteSize(*size), ByteSize(*most)),
                "Shrink it first, in its guest and on its host, or choose another destination.",
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
                format!("the machine file says that disk '{disk}' has {stated} bytes, but its image has {found}"),
                "Nothing to do: the size of the image counts.",
            ),
            Self::LengthDiffers { file, stated, found } => (
                Caution,
                "length-differs",
                format!("'{file}' should have {stated} bytes, but has {found}"),
                "Compare it with the original on its host.",
            ),
            Self::ImageUnclean { disk } => (
                Caution,
                "image-unclean",
                format!("the host that last wrote disk '{disk}' did not close its image properly"),
                "Make sure that the guest is shut down and that no host holds the disk open.",
            ),
            Self::ImageDirty { disk } => (
                Note,
                "image-dirty",
                format!("the image of disk '{disk}' may count its references wrongly; the data itself is sound"),
                "Nothing to do: the result gets counts of its own.",
            ),
            Self::ImageInTrouble { trouble } => {
                let (code, remedy) = match trouble {
                    Trouble::Encrypted { .. } => {
                        ("disk-encrypted", "Have its host write it without encryption, and move the result.")
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
                format!("disk '{disk}' has no descriptor, and may be only one piece of several"),
                "If there is a descriptor beside it (a small text file), name that instead.",
            ),
            Self::LooksPacked { file, kind } => (
                Note,
                "read-forwards",
                format!("'{file}' ({kind}) has to be unpacked before anything can be said about what is inside"),
                "Say --unpack to look inside; carry unpacks it by itself.",
            ),
            Self::NotInManifest { file } => (
                Caution,
                "not-in-manifest",
                format!("the manifest does not list '{file}', so nothing proves that it is what was exported"),
                "Compare it with the original on its host.",
            ),
            Self::ManifestNamesMissing { file } => (
                Caution,
                "manifest-names-missing",
                format!("the manifest lists '{file}', which is missing"),
                "If the machine needs it, export the machine again.",
            ),
            Self::NoEndMark { archive } => (
                Caution,
                "archive-no-end",
                format!("'{archive}' lacks the mark that ends every archive: it may have been cut short"),
                "Compare its size with that of the original.",
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
                format!("the manifest is signed ('{file}'); the signature was not checked"),
                "Check it with the tools of whoever signed it.",
            ),
            Self::DriverUnchecked { from, to } => (
                Caution,
                "driver-unchecked",
                match from {
                    ControllerKind::Unknown => {
                        format!("the boot disk goes to {to}, and no system was found whose drivers could be checked")
                    }
                    from => format!(
                        "the boot disk moves from {from} to {to}, and no system was found whose drivers could be checked"
                    ),
                },
                "Before you export it, have the guest include the new driver in its early boot image.",
            ),
            Self::NameChanged { name, to } => (
                Note,
                "name-changed",
                format!("the destination does not allow the name '{name}': the machine is called '{to}' there"),
                "Rename it on its new host if you like.",
            ),
            Self::NetworkReplaced { adapter, network, to } => (
                Note,
                "network-replaced",
                format!("adapter '{adapter}' moves from network '{network}' to '{to}'"),
                "If that is the wrong network, change it on the new host before the first start.",
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
                format!("the {what} ('{detail}') is left behind"),
                "Add one on the new host if the guest needs it.",
            ),
            Self::MediaDropped { media } => (
                Note,
                "media-dropped",
                format!("the drive arrives empty: '{media}' is left behind"),
                "Insert the medium on the new host if the guest needs it.",
            ),
            Self::SourceChangedSince { path } => (
                Caution,
                "source-changed",
                format!("the size or time of '{path}' has changed since it was carried"),
                "If its guest was started again, the landing is out of date: carry it again.",
            ),
            Self::MachineFileChanged { path } => (
                Note,
                "machine-file-changed",
                format!("'{path}' was changed after the landing"),
                "Nothing to do if that was you: the proof was told that it may differ.",
            ),
            Self::UnknownDropped { file, names } => (
                Caution,
                "leftovers-dropped",
                format!("the {file} has settings that are not known to be harmless; they are dropped: {}", list(names)),
                "If you know the file and need them, say --keep-unknown, or keep-unknown = true in the brief.",
            ),
            Self::UnknownKept { file, names } => (
                Caution,
                "leftovers-kept",
                format!(
                    "the {file} keeps settings that may run programs on the host, or open its files, devices and sockets: {}",
                    list(names)
                ),
                "Read them in the machine file before you hand it to the host.",
            ),
            Self::MisleadingName { result, format } => (
                Caution,
                "misleading-name",
                format!("'{result}' holds a {format} image, which its name does not say"),
                "Rename it, so that nobody takes it for another format.",
            ),
            Self::VariablesLeft { file, why } => (
                Caution,
                "variables-left",
                format!("the firmware's variables in '{file}' are left behind: {why}"),
                "Boot entries may be missing at the destination; put the file beside the machine file if you need them.",
            ),
            Self::StaleRemoved { path } => (
                Note,
                "stale-removed",
                format!("an earlier run that was cut off had left '{path}' half-made; it was cleared away"),
                "Nothing to do.",
            ),
            Self::Spooled { source, kind } => (
                Note,
                "spooled",
                format!("'{source}' ({kind}) is unpacked first, into a nameless file beside the result"),
                "Nothing to do. It takes room there until the run ends, but none for zeros.",
            ),
            Self::Running { machine } => (
                Blocker,
                "running",
                format!("'{machine}' was running when its machine file was written"),
                "Shut the guest down, then copy the machine file and the disks again.",
            ),
            Self::Suspended { file } => (
                Blocker,
                "suspended",
                format!("the machine was suspended, not shut down: its memory is saved in '{file}'"),
                "Start it on its host and shut the guest down: its disks are not consistent as they are.",
            ),
            Self::Locked { lock } => (
                Blocker,
                "locked",
                format!("'{lock}' says that a host holds the machine"),
                "Shut the machine down there. If that host is gone, say --accept locked.",
            ),
            Self::MachineEncrypted { machine } => (
                Blocker,
                "machine-encrypted",
                format!("'{machine}' is encrypted by its host, which has the key"),
                "Remove the encryption on that host, then move it.",
            ),
            Self::SnapshotsLeft { count } => (
                Note,
                "snapshots-left",
                format!("its host keeps {count} snapshot(s); only the current state is moved"),
                "Keep the source as long as you may need to go back to one of them.",
            ),
            Self::DeltasFlattened { disk, deltas } => (
                Note,
                "deltas-flattened",
                format!("disk '{disk}' is a delta on top of {deltas} other disk(s); it lands as one disk"),
                "Nothing to do.",
            ),
            Self::MachineGuessed => (
                Note,
                "machine-guessed",
                "there are no machine settings here: the proposal comes from what is on the disk, or is a guess".into(),
                "Check memory, processors and network in the brief before you go.",
            ),
            Self::FirmwareCorrected { said, seen } => (
                Caution,
                "firmware-corrected",
                format!("the machine file says {said}, but the disk only boots with {seen}, which is proposed instead"),
                "Nothing to do, unless you know better: change it in the brief.",
            ),
            Self::FirmwareMismatch { said, seen } => (
                Blocker,
                "firmware-mismatch",
                format!("the machine is set to start with {said}, but its disk only boots with {seen}"),
                "Change the firmware in the brief.",
            ),
            Self::NoBootLoader { firmware } => (
                Caution,
                "no-boot-loader",
                format!("{firmware} finds nothing on the boot disk that it could start"),
                "Check that the right disk comes first in the boot order.",
            ),
            Self::NoFallbackLoader => (
                Caution,
                "no-fallback-loader",
                "the old host keeps the boot entries, and the disk has no loader in the fallback path".into(),
                "Install the loader to EFI/BOOT/BOOTX64.EFI in the guest before the move, or add a boot entry afterwards.",
            ),
            Self::NoSecureBoot { destination } => (
                Blocker,
                "no-secure-boot",
                format!("{destination} has no secure boot"),
                "Write secure-boot = false in the brief.",
            ),
            Self::TpmNew => (
                Caution,
                "tpm-new",
                "the contents of the machine's trusted platform module stay with the old host".into(),
                "Unseal what depends on it before the move, or enter it again afterwards.",
            ),
            Self::TpmBound => (
                Blocker,
                "tpm-bound",
                "a volume is encrypted, and its key may be in the machine's trusted platform module".into(),
                "Have the recovery key at hand and say --accept tpm-bound, or suspend the encryption first.",
            ),
            Self::VolumeEncrypted { kind } => (
                Note,
                "volume-encrypted",
                format!("the guest encrypts a volume on the boot disk ({kind})"),
                "Have its passphrase at hand for the first start.",
            ),
            Self::NotOffered { what, asked, destination, offered } => (
                Blocker,
                "not-offered",
                format!("{destination} does not offer the {what} '{asked}' here; it offers {offered}"),
                "Change it in the brief.",
            ),
            Self::NameNotAllowed { name, proposed } => (
                Blocker,
                "name-not-allowed",
                format!("the destination does not allow the name '{name}'"),
                if proposed == "machine" {
                    "Use letters, digits and '-'."
                } else {
                    "Use letters, digits and '-'; `reformis dests NAME` shows the rule."
                },
            ),
            Self::NetworkUnmapped { adapter, network, to } => (
                Caution,
                "network-unmapped",
                format!(
                    "nothing says what network '{network}' of adapter '{adapter}' is called there: it goes to '{to}'"
                ),
                "Name the network in the brief or with --network, or map it in the site's reformis.toml.",
            ),
            Self::Unconnected { adapter, network } => (
                Caution,
                "adapter-unconnected",
                match network {
                    Some(network) => {
                        format!("adapter '{adapter}' is not connected to a network; it was on '{network}'")
                    }
                    None => format!("adapter '{adapter}' is not connected to a network"),
                },
                "Name the network in the brief or with --network, or map it in the site's reformis.toml.",
            ),
            Self::MacTwice { mac, other } => (
                Caution,
                "mac-twice",
                format!("'{other}' has the address {mac} too"),
                "Write mac = \"fresh\" for one of them.",
            ),
            Self::NoSuchDisk { disk, known } => (
                Blocker,
                "no-such-disk",
                format!("the source has no disk '{disk}'; it has {known}"),
                "Correct the source of the disk in the brief.",
            ),
            Self::NoSuchAdapter { adapter } => (
                Caution,
                "no-such-adapter",
                format!("the source has no adapter '{adapter}', so a new one is added"),
                "Leave the source out for an adapter that is new.",
            ),
            Self::DiskTwice { disk } => {
                (Blocker, "disk-twice", format!("the brief has disk '{disk}' twice"), "Remove one of the two.")
            }
            Self::DiskLeft { disk } => (
                Caution,
                "disk-left",
                format!("the brief does not have disk '{disk}': it stays behind"),
                "Nothing to do if that is what you want.",
            ),
            Self::WouldShrink { disk, size, asked } => (
                Blocker,
                "would-shrink",
                format!("disk '{disk}' has {size} bytes; cutting it to {asked} would lose its end"),
                "Shrink it in its guest and on its host first.",
            ),
            Self::SizeUneven { disk, size, multiple } => (
                Blocker,
                "size-uneven",
                format!(
                    "disk '{disk}' would have {size} bytes, which is not a multiple of {}, as the destination requires",
                    ByteSize(*multiple)
                ),
                "Set align in the brief.",
            ),
            Self::NoSuchPlace { disk, place } => (
                Blocker,
                "no-such-place",
                format!("disk '{disk}' is set to {place}, which the destination does not have"),
                "Choose another slot; `reformis dests NAME` shows how many there are.",
            ),
            Self::PlaceLost { disk, file } => (
                Blocker,
                "place-lost",
                format!("the {file} cannot express where disk '{disk}' goes: its hosts have fewer controllers"),
                "Put the disks on fewer controllers.",
            ),
            Self::PlaceTaken { first, second, place } => (
                Blocker,
                "place-taken",
                format!("disks '{first}' and '{second}' are both set to {place}"),
                "Give each a slot of its own.",
            ),
            Self::DoesNotBoot { disk, controller, firmware } => (
                Blocker,
                "does-not-boot",
                format!("disk '{disk}' is in the boot order, but {firmware} cannot boot from {controller} there"),
                "Choose a controller that this firmware boots from; `reformis dests NAME` lists them.",
            ),
            Self::BootOrderUnclear => (
                Blocker,
                "boot-order-unclear",
                "two disks have the same position in the boot order, or one has position 0".into(),
                "Number them from 1.",
            ),
            Self::NothingBoots => (
                Caution,
                "nothing-boots",
                "no disk is in the boot order".into(),
                "Write boot = 1 for the disk that the machine starts from.",
            ),
            Self::NoRoom { needed, free } => (
                Blocker,
                "no-room",
                format!("the disks take {}, but only {} are free where they land", ByteSize(*needed), ByteSize(*free)),
                "Make room, or choose another folder or a thin shape.",
            ),
            Self::WillNotBoot { system, link, about, seen } => (
                Blocker,
                "will-not-boot",
                format!("{system} will not boot: {link} of {about}: {seen}"),
                "Mend this in the guest before you export it, or choose other hardware in the brief.",
            ),
            Self::LinkBroken { system, link, about, seen } => (
                Caution,
                "link-broken",
                format!("{system}: {link} of {about} is broken: {seen}"),
                "Mend it in the guest, before the export or on its console afterwards.",
            ),
            Self::EditFailed { edit, why } => (
                Caution,
                "edit-failed",
                format!("the edit '{edit}' could not be made, and nothing of it was: {why}"),
                "Remove the cause in the guest first, or leave the edit out and do its work by hand.",
            ),
            Self::VolumeUnread { volume, why } => (
                Note,
                "volume-unread",
                format!("{volume} is copied unchanged; its contents could not be read: {why}"),
                "If the system boots from it, make sure in the guest that it has the drivers for its new disks.",
            ),
            Self::PathUnread { path, why } => (
                Caution,
                "path-unread",
                format!("{path} in the guest could not be read: {why}"),
                "Start the guest on its old host, let it check its file systems, and export it again.",
            ),
            Self::JournalReplayed { volume } => (
                Note,
                "journal-replayed",
                format!("{volume} was not unmounted: its journal is replayed before anything is changed"),
                "Nothing to do if the guest was meant to be switched off like that; its kernel would have done the same.",
            ),
            Self::Hibernated { volume } => (
                Blocker,
                "hibernated",
                format!("{volume} holds a suspended system, which expects the old hardware: nothing is changed inside"),
                "Start the guest on its old host, shut it down, and export it again.",
            ),
            Self::AdapterAssumed { name, mac } => (
                Caution,
                "adapter-assumed",
                format!(
                    "the guest does not say which adapter '{name}' is; going by their order, it is the one with {mac}"
                ),
                "Compare with the running guest. If it is another one, change the order of the adapters in the brief.",
            ),
            Self::AdapterUnknown { name } => (
                Caution,
                "adapter-unknown",
                format!("the guest configures '{name}', and none of the adapters with a known address can be that one"),
                "Give the adapter an address in the brief or with --mac, or rename it on the guest's console.",
            ),
            Self::KernelLeft { kernel, why } => (
                Note,
                "kernel-left",
                format!("kernel {kernel} is left as it is: {why}"),
                "Do not start this kernel there, or install it again in the guest.",
            ),
            Self::SeveralSystems { systems } => (
                Note,
                "several-systems",
                format!("there is more than one system; all of them are made ready: {systems}"),
                "If one of them must stay as it is, leave edits out in the brief.",
            ),
            Self::LittleRoom { needed, free } => (
                Caution,
                "little-room",
                format!(
                    "the disks may take up to {}, and only {} are free where they land",
                    ByteSize(*needed),
                    ByteSize(*free)
                ),
                "Make room if you can. If it runs out, the move ends and leaves nothing half-made.",
            ),
            Self::SourceInLanding { folder } => (
                Blocker,
                "source-in-landing",
                format!("the landing would go to '{folder}', where a file of the source lies"),
                "Choose another folder, or another name for the machine.",
            ),
            Self::SettingLost { setting, value, file } => (
                Caution,
                "setting-lost",
                format!("the {file} cannot express {setting}, which is {value}"),
                if setting == "start_with_host" {
                    "Tell the new host, once the machine is there."
                } else {
                    "Set it on the new host if the guest needs it."
                },
            ),
            Self::Accepted { code } => (
                Note,
                "accepted",
                format!("you accepted the blocker '{code}'"),
                "Nothing to do if you know what follows from it.",
            ),
        };
        Words { severity, code, sentence, remedy }
    }
}

/// Names in a sentence: all of them, up to a number that can still be read.
fn list(names: &[String]) -> String {
    const MOST: usize = 20;
    let shown = names.iter().take(MOST).map(|name| format!("'{name}'")).collect::<Vec<_>>().join(", ");
    match names.len().saturating_sub(MOST) {
        0 => shown,
        more => format!("{shown} and {more} more"),
    }
}
