//! Severity, code and sentence of each kind of finding, together.

use reformis_disk::{ByteSize, Trouble};
use reformis_machine::ControllerKind;

use super::{Finding, Severity};

pub(super) struct Words {
    pub(super) severity: Severity,
    pub(super) code: &'static str,
    pub(super) sentence: String,
}

impl Finding {
    /// All there is to say, in one place.
    pub(super) fn words(&self) -> Words {
        use Severity::{Blocker, Caution, Note};
        let (severity, code, sentence) = match self {
            Self::NoDisk => (Blocker, "no-disk", "the machine has no disk".into()),
            Self::DiskMissing { disk, file } => {
                (Blocker, "disk-missing", format!("the file of disk '{disk}', '{file}', is missing"))
            }
            Self::DiskUnreadable { disk, why } => {
                (Blocker, "disk-unreadable", format!("disk '{disk}' cannot be read: {why}"))
            }
            Self::DescriptorChanged { file } => (
                Blocker,
                "descriptor-changed",
                format!("'{file}' does not match the manifest: it was changed after the export"),
            ),
            Self::FirmwareNotOffered { firmware, destination, offered } => (
                Blocker,
                "firmware-not-offered",
                format!("the machine starts with {firmware}, but {destination} only offers {offered}"),
            ),
            Self::TooManyDisks { disks, controller, slots } => (
                Blocker,
                "too-many-disks",
                format!("the machine has {disks} disks, but {controller} takes at most {slots} there"),
            ),
            Self::DiskTooLarge { disk, size, most } => (
                Blocker,
                "disk-too-large",
                format!("disk '{disk}' is {}, but the destination takes at most {}", ByteSize(*size), ByteSize(*most)),
            ),
            Self::SizeRounded { disk, size, rounded } => (
                Note,
                "size-rounded",
                format!("disk '{disk}' grows from {size} to {rounded} bytes with zeros at its end"),
            ),
            Self::CapacityDiffers { disk, stated, found } => (
                Caution,
                "capacity-differs",
                format!("the machine file says that disk '{disk}' has {stated} bytes, but its image has {found}"),
            ),
            Self::LengthDiffers { file, stated, found } => {
                (Caution, "length-differs", format!("'{file}' should have {stated} bytes, but has {found}"))
            }
            Self::ImageUnclean { disk } => (
                Caution,
                "image-unclean",
                format!("the host that last wrote disk '{disk}' did not close its image properly"),
            ),
            Self::ImageDirty { disk } => (
                Note,
                "image-dirty",
                format!("the image of disk '{disk}' may count its references wrongly; the data itself is sound"),
            ),
            Self::PieceAlone { disk } => (
                Caution,
                "piece-alone",
                format!("disk '{disk}' has no descriptor, and may be only one piece of several"),
            ),
            Self::LooksPacked { file, kind } => (
                Note,
                "read-forwards",
                format!("'{file}' ({kind}) has to be unpacked before anything can be said about what is inside"),
            ),
            Self::NotInManifest { file } => (
                Caution,
                "not-in-manifest",
                format!("the manifest does not list '{file}', so nothing proves that it is what was exported"),
            ),
            Self::ManifestNamesMissing { file } => {
                (Caution, "manifest-names-missing", format!("the manifest lists '{file}', which is missing"))
            }
            Self::NoEndMark { archive } => (
                Caution,
                "archive-no-end",
                format!("'{archive}' lacks the mark that ends every archive: it may have been cut short"),
            ),
            Self::NoManifest => (
                Note,
                "no-manifest",
                "there is no manifest, so nothing proves that the files are what was exported".into(),
            ),
            Self::CertificateUnchecked { file } => (
                Note,
                "certificate-unchecked",
                format!("the manifest is signed ('{file}'); the signature was not checked"),
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
            ),
            Self::NameChanged { name, to } => (
                Note,
                "name-changed",
                format!("the destination does not allow the name '{name}': the machine is called '{to}' there"),
            ),
            Self::NetworkReplaced { adapter, network, to } => {
                (Note, "network-replaced", format!("adapter '{adapter}' moves from network '{network}' to '{to}'"))
            }
            Self::MacKept { adapter, mac } => {
                (Note, "mac-kept", format!("adapter '{adapter}' keeps its address {mac}"))
            }
            Self::DeviceDropped { what, detail } => {
                (Note, "device-dropped", format!("the {what} ('{detail}') is left behind"))
            }
            Self::MediaDropped { media } => {
                (Note, "media-dropped", format!("the drive arrives empty: '{media}' is left behind"))
            }
            Self::SourceChangedSince { path } => {
                (Caution, "source-changed", format!("the size or time of '{path}' has changed since it was carried"))
            }
            Self::MachineFileChanged { path } => {
                (Note, "machine-file-changed", format!("'{path}' was changed after the landing"))
            }
            Self::UnknownDropped { file, names } => (
                Caution,
                "leftovers-dropped",
                format!("the {file} has settings that are not known to be harmless; they are dropped: {}", list(names)),
            ),
            Self::UnknownKept { file, names } => (
                Caution,
                "leftovers-kept",
                format!(
                    "the {file} keeps settings that may run programs on the host, or open its files, devices and sockets: {}",
                    list(names)
                ),
            ),
            Self::MisleadingName { result, format } => {
                (Caution, "misleading-name", format!("'{result}' holds a {format} image, which its name does not say"))
            }
            Self::VariablesLeft { file, why } => {
                (Caution, "variables-left", format!("the firmware's variables in '{file}' are left behind: {why}"))
            }
            Self::StaleRemoved { path } => (
                Note,
                "stale-removed",
                format!("an earlier run that was cut off had left '{path}' half-made; it was cleared away"),
            ),
            Self::GuestWrote { disk, bytes } => {
                (Note, "guest-wrote", format!("the guest wrote {} of disk {disk} while it was lent", ByteSize(*bytes)))
            }
            Self::PartKept { path } => (
                Note,
                "part-kept",
                format!("what was carried of '{path}' so far is kept beside it, under a hidden name"),
            ),
            Self::MadeHereFirst { disk, why } => (
                Note,
                "made-here-first",
                format!("'{disk}' is made in the landing's folder first, and sent then: {why}"),
            ),
            Self::SwapOnSystemDisk { swap } => (
                Caution,
                "swap-on-system-disk",
                format!("'{swap}' is swap space on the system's disk, where the destination wants none"),
            ),
            Self::NoRemoteLogin { system } => (
                Caution,
                "no-remote-login",
                format!("{system} has no SSH server, and the network is the only way in at the destination"),
            ),
            Self::SeedMade { file } => (
                Note,
                "seed-made",
                format!("'{file}' lands with the machine: it tells cloud-init what to do at the first start"),
            ),
            Self::CloudRefuses { cloud, what, remedy } => {
                let remedy = if remedy.is_empty() { String::new() } else { format!("; {remedy}") };
                (Blocker, "cloud-refuses", format!("the cloud {cloud} would refuse it: {what}{remedy}"))
            }
            Self::BegunAnew { path } => (
                Note,
                "begun-anew",
                format!(
                    "what an earlier run had left of '{path}' is of another source or another plan; it was cleared away"
                ),
            ),
            Self::Spooled { source, kind } => (
                Note,
                "spooled",
                format!("'{source}' ({kind}) is unpacked first, into a nameless file beside the result"),
            ),
            Self::Running { machine } => {
                (Blocker, "running", format!("'{machine}' is running, or was when its machine file was written"))
            }
            Self::ReadWhileRunning { machine, how } => (
                Caution,
                "read-while-running",
                format!(
                    "'{machine}' runs, and one moment of it is read: {how}. What it writes from then on is not in it"
                ),
            ),
            Self::Suspended { file } if file.is_empty() => {
                (Blocker, "suspended", "the machine is suspended, not shut down: its host keeps its memory".into())
            }
            Self::Suspended { file } => (
                Blocker,
                "suspended",
                format!("the machine was suspended, not shut down: its memory is saved in '{file}'"),
            ),
            Self::Locked { lock } => (Blocker, "locked", format!("'{lock}' says that a host holds the machine")),
            Self::MachineEncrypted { machine } => {
                (Blocker, "machine-encrypted", format!("'{machine}' is encrypted by its host, which has the key"))
            }
            Self::SnapshotsLeft { count } => {
                (Note, "snapshots-left", format!("its host keeps {count} snapshot(s); only the current state is moved"))
            }
            Self::DeltasFlattened { disk, deltas } => (
                Note,
                "deltas-flattened",
                format!("disk '{disk}' is a delta on top of {deltas} other disk(s); it lands as one disk"),
            ),
            Self::MachineGuessed => (
                Note,
                "machine-guessed",
                "there are no machine settings here: the proposal comes from what is on the disk, or is a guess".into(),
            ),
            Self::FirmwareCorrected { said, seen } => (
                Caution,
                "firmware-corrected",
                format!("the machine file says {said}, but the disk only boots with {seen}, which is proposed instead"),
            ),
            Self::FirmwareMismatch { said, seen } => (
                Blocker,
                "firmware-mismatch",
                format!("the machine is set to start with {said}, but its disk only boots with {seen}"),
            ),
            Self::NoBootLoader { firmware } => {
                (Caution, "no-boot-loader", format!("{firmware} finds nothing on the boot disk that it could start"))
            }
            Self::NoFallbackLoader => (
                Caution,
                "no-fallback-loader",
                "the old host keeps the boot entries, and the disk has no loader in the fallback path".into(),
            ),
            Self::NoSecureBoot { destination } => {
                (Blocker, "no-secure-boot", format!("{destination} has no secure boot"))
            }
            Self::TpmNew => (
                Caution,
                "tpm-new",
                "the contents of the machine's trusted platform module stay with the old host".into(),
            ),
            Self::TpmBound => (
                Blocker,
                "tpm-bound",
                "a volume is encrypted, and its key may be in the machine's trusted platform module".into(),
            ),
            Self::VolumeEncrypted { kind } => {
                (Note, "volume-encrypted", format!("the guest encrypts a volume on the boot disk ({kind})"))
            }
            Self::NotOffered { what, asked, destination, offered } => (
                Blocker,
                "not-offered",
                format!("{destination} does not offer the {what} '{asked}' here; it offers {offered}"),
            ),
            Self::NameNotAllowed { name, .. } => {
                (Blocker, "name-not-allowed", format!("the destination does not allow the name '{name}'"))
            }
            Self::NetworkUnmapped { adapter, network, to } => (
                Caution,
                "network-unmapped",
                format!(
                    "nothing says what network '{network}' of adapter '{adapter}' is called there: it goes to '{to}'"
                ),
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
            ),
            Self::MacTwice { mac, other } => (Caution, "mac-twice", format!("'{other}' has the address {mac} too")),
            Self::NoSuchDisk { disk, known } => {
                (Blocker, "no-such-disk", format!("the source has no disk '{disk}'; it has {known}"))
            }
            Self::NoSuchAdapter { adapter } => {
                (Caution, "no-such-adapter", format!("the source has no adapter '{adapter}', so a new one is added"))
            }
            Self::DiskTwice { disk } => (Blocker, "disk-twice", format!("the brief has disk '{disk}' twice")),
            Self::DiskLeft { disk } => {
                (Caution, "disk-left", format!("the brief does not have disk '{disk}': it stays behind"))
            }
            Self::WouldShrink { disk, size, asked } => (
                Blocker,
                "would-shrink",
                format!("disk '{disk}' has {size} bytes; cutting it to {asked} would lose its end"),
            ),
            Self::SizeUneven { disk, size, multiple } => (
                Blocker,
                "size-uneven",
                format!(
                    "disk '{disk}' would have {size} bytes, which is not a multiple of {}, as the destination requires",
                    ByteSize(*multiple)
                ),
            ),
            Self::NoSuchPlace { disk, place } => (
                Blocker,
                "no-such-place",
                format!("disk '{disk}' is set to {place}, which the destination does not have"),
            ),
            Self::PlaceLost { disk, file } => (
                Blocker,
                "place-lost",
                format!("the {file} cannot express where disk '{disk}' goes: its hosts have fewer controllers"),
            ),
            Self::PlaceTaken { first, second, place } => {
                (Blocker, "place-taken", format!("disks '{first}' and '{second}' are both set to {place}"))
            }
            Self::DoesNotBoot { disk, controller, firmware } => (
                Blocker,
                "does-not-boot",
                format!("disk '{disk}' is in the boot order, but {firmware} cannot boot from {controller} there"),
            ),
            Self::BootOrderUnclear => (
                Blocker,
                "boot-order-unclear",
                "two disks have the same position in the boot order, or one has position 0".into(),
            ),
            Self::NothingBoots => (Caution, "nothing-boots", "no disk is in the boot order".into()),
            Self::NoRoom { needed, free } => (
                Blocker,
                "no-room",
                format!("the disks take {}, but only {} are free where they land", ByteSize(*needed), ByteSize(*free)),
            ),
            Self::WillNotBoot { system, link, about, seen } => {
                (Blocker, "will-not-boot", format!("{system} will not boot: {link} of {about}: {seen}"))
            }
            Self::LinkBroken { system, link, about, seen } => {
                (Caution, "link-broken", format!("{system}: {link} of {about} is broken: {seen}"))
            }
            Self::EditFailed { edit, why } => {
                (Caution, "edit-failed", format!("the edit '{edit}' could not be made, and nothing of it was: {why}"))
            }
            Self::VolumeUnread { volume, why } => {
                (Note, "volume-unread", format!("{volume} is copied unchanged; its contents could not be read: {why}"))
            }
            Self::KeyRefused { volume, why } => {
                (Blocker, "key-refused", format!("{volume} is encrypted, and stays closed: {why}"))
            }
            Self::ArrayIncomplete { array, missing, members } => (
                Caution,
                "array-incomplete",
                format!(
                    "{array}: {missing} of its {members} members are not here, or are behind the others; edits are made on those that are right"
                ),
            ),
            Self::ArrayUnclean { array } => {
                (Caution, "array-unclean", format!("{array} was not stopped cleanly, and is not changed inside"))
            }
            Self::PathUnread { path, why } => {
                (Caution, "path-unread", format!("{path} in the guest could not be read: {why}"))
            }
            Self::JournalReplayed { volume } => (
                Note,
                "journal-replayed",
                format!("{volume} was not unmounted: its journal is replayed before anything is changed"),
            ),
            Self::Hibernated { volume } => (
                Blocker,
                "hibernated",
                format!("{volume} holds a suspended system, which expects the old hardware: nothing is changed inside"),
            ),
            Self::AdapterAssumed { name, mac } => (
                Caution,
                "adapter-assumed",
                format!(
                    "the guest does not say which adapter '{name}' is; going by their order, it is the one with {mac}"
                ),
            ),
            Self::AdapterUnknown { name } => (
                Caution,
                "adapter-unknown",
                format!("the guest configures '{name}', and none of the adapters with a known address can be that one"),
            ),
            Self::KernelLeft { kernel, why } => {
                (Note, "kernel-left", format!("kernel {kernel} is left as it is: {why}"))
            }
            Self::NoDriver { device, why } => {
                let why = if why.is_empty() { String::new() } else { format!(": {why}") };
                (Caution, "no-driver", format!("the guest has no driver for {device}{why}"))
            }
            Self::DriverUnread { file, why } => (Note, "driver-unread", format!("'{file}' is passed over: {why}")),
            Self::DomainController { system } => (
                Caution,
                "domain-controller",
                format!("{system} is a domain controller: others trust its clock, and it must not be started twice"),
            ),
            Self::Activation { system } => {
                (Note, "activation", format!("{system} may ask for its activation again on other hardware"))
            }
            Self::AddressesUnread { system } => (
                Caution,
                "addresses-unread",
                format!("{system} keeps IPv6 addresses of its own, which are not read and stay with the old adapters"),
            ),
            Self::SeveralSystems { systems } => (
                Note,
                "several-systems",
                format!("there is more than one system; all of them are made ready: {systems}"),
            ),
            Self::LittleRoom { needed, free } => (
                Caution,
                "little-room",
                format!(
                    "the disks may take up to {}, and only {} are free where they land",
                    ByteSize(*needed),
                    ByteSize(*free)
                ),
            ),
            Self::SourceInLanding { folder } => (
                Blocker,
                "source-in-landing",
                format!("the landing would go to '{folder}', where a file of the source lies"),
            ),
            Self::SettingLost { setting, value, file } => {
                (Caution, "setting-lost", format!("the {file} cannot express {setting}, which is {value}"))
            }
            Self::Accepted { code } => (Note, "accepted", format!("you accepted the blocker '{code}'")),
            Self::ImageInTrouble { trouble } => {
                let code = match trouble {
                    Trouble::Encrypted { .. } => "disk-encrypted",
                    Trouble::Corrupt { .. } => "image-corrupt",
                    Trouble::WrongParent { .. } => "parent-changed",
                };
                (Blocker, code, trouble.to_string())
            }
        };
        Words { severity, code, sentence }
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
