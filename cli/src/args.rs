//! What can be typed.

use std::path::PathBuf;

use clap::{Args, Parser, Subcommand, ValueEnum, builder::Styles};
use reformis_disk::{ByteSize, Format, Shape};

/// The command line.
#[derive(Debug, Parser)]
#[command(
    name = "reformis",
    version,
    about = "Moves virtual machines between hosts and clouds, so that they boot at their destination the first time",
    long_about = "Moves virtual machines between hosts and clouds, so that they boot at their destination the first \
                  time.\n\nA move is one pass: the source is opened read-only and streamed once into its final form. \
                  Nothing is converted twice, and the source is never written; only what is compressed as a whole is \
                  unpacked first.",
    after_help = "The order of the work:\n  \
                  reformis survey tidelog.ova\n  \
                  reformis draft tidelog.ova --dest virtio-host --out tidelog.toml\n  \
                  reformis carry tidelog.toml\n  \
                  reformis prove landing/tidelog/receipt.json\n\n\
                  Exit codes: 0 done, 1 failed, 2 wrong usage, 3 refused because of a blocker, 4 a proof did not \
                  hold, 130 interrupted.",
    styles = STYLES,
    disable_help_subcommand = true,
    propagate_version = true
)]
pub(crate) struct Cli {
    #[command(flatten)]
    pub(crate) global: Global,
    #[command(subcommand)]
    pub(crate) command: Command,
}

const STYLES: Styles = Styles::styled()
    .header(anstyle::Style::new().bold())
    .usage(anstyle::Style::new().bold())
    .literal(anstyle::AnsiColor::Cyan.on_default())
    .placeholder(anstyle::Style::new().dimmed());

/// Options of every command.
#[derive(Debug, Args)]
#[command(next_help_heading = "Options of every command")]
pub(crate) struct Global {
    /// Print one JSON document instead of text
    #[arg(long, global = true)]
    pub(crate) json: bool,
    /// Print results and errors only, no progress
    #[arg(long, short, global = true, conflicts_with = "verbose")]
    pub(crate) quiet: bool,
    /// Say on stderr what is being done
    #[arg(long, short, global = true)]
    pub(crate) verbose: bool,
    /// When to use colours
    #[arg(long, value_name = "WHEN", default_value = "auto", global = true)]
    pub(crate) color: Color,
    /// Write a detailed log to FILE
    #[arg(long, value_name = "FILE", global = true)]
    pub(crate) log: Option<PathBuf>,
}

/// When to use colours.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub(crate) enum Color {
    /// On a terminal
    Auto,
    /// Always
    Always,
    /// Never
    Never,
}

/// How stored pieces are compressed.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub(crate) enum Squeeze {
    /// What every host reads
    Deflate,
    /// Faster and smaller, for newer hosts
    Zstd,
}

#[derive(Debug, Subcommand)]
pub(crate) enum Command {
    /// Shows what is here: machines, disks, archives, findings
    #[command(
        long_about = "Shows what is here: machine settings, disks and how they are stored, archives, and findings.\n\n\
                      Reads only metadata: it answers at once, whatever the size. A path may continue into an \
                      uncompressed archive. Of a folder, every file in it is shown.",
        after_help = "Examples:\n  reformis survey tidelog.ova\n  reformis survey tidelog.ova/tidelog-disk1.vmdk\n  \
                      reformis survey /exports --json"
    )]
    Survey(SurveyArgs),
    /// Lists the known destinations, or shows one in full
    #[command(
        long_about = "Lists the known destinations, or shows one in full: disk shapes, controllers, adapters, \
                      firmware, rules, and what a guest needs there.\n\nA site adds its own, changes ours, and gives \
                      networks their new names in reformis.toml: in the working folder, else in the folder reformis of \
                      the user's configuration folder.",
        after_help = "Examples:\n  reformis dests\n  reformis dests virtio-host\n  reformis dests --site ./night.toml"
    )]
    Dests(DestsArgs),
    /// Proposes a move as a brief, and shows what it changes
    #[command(
        long_about = "Proposes a move as a brief: a TOML file that a person reads and changes before a byte moves. Shows \
                      what is now and what will be, side by side, with the findings under it.\n\nTARGET is a machine file \
                      (OVF, .vmx, .vbox, domain XML, launch JSON), an archive or a folder that holds one, or a bare disk: \
                      then firmware and system are told by what is on it. Of a brief, it shows what that comes to.",
        after_help = "Examples:\n  reformis draft tidelog.ova --dest vmbus-host\n  \
                      reformis draft /exports/ledger --dest vmx-host --into /landing --out ledger.toml\n  \
                      reformis draft ledger.toml"
    )]
    Draft(DraftArgs),
    /// Makes a move: disks, machine file and receipt, complete and stopped
    #[command(
        long_about = "Makes a move, as a brief says or as it would be proposed. The landing is a folder with the disks, \
                      the machine file and a receipt.\n\n\
                      Each disk is streamed once from where it lies into its final form. The landing appears under its \
                      name when it is whole and on disk, not before; if the move fails or is interrupted, nothing \
                      half-made stays. The machine is complete and has never been started.",
        after_help = "Examples:\n  reformis carry ledger.toml\n  \
                      reformis carry tidelog.ova --dest virtio-host --into landing\n  \
                      reformis carry buoycam.vmx --dest vdi-host --into landing --memory 4GiB --mac fresh\n\nThe landing \
                      is then landing/tidelog. Domain XML names the disks by their whole path, so that they are to stay \
                      there; other machine files move with their folder."
    )]
    Carry(CarryArgs),
    /// Turns one disk into another shape, nothing else changed
    #[command(
        long_about = "Turns one disk into another shape, nothing else changed.\n\nThe source's format is told by its \
                      content, the result's by its name. A delta is read with the disks below it, as one. Runs of \
                      zeros are not stored, unless the layout is full. Raw bytes that can only be read forwards (a \
                      pipe, a compressed file) go straight through; other formats in such a stream are unpacked \
                      first, into a nameless file beside the result. The result appears under its name when it is \
                      whole and on disk, not before.\n\nShapes: raw/thin, raw/full, qcow2/thin, qcow2/full, \
                      vmdk/thin, vmdk/full, vmdk/stream, vmdk/split, vhdx/thin, vhdx/full, vhd/thin, vhd/full, \
                      vdi/thin, vdi/full. A name such as guest.raw.zst or guest.img.gz makes raw bytes, compressed as \
                      a whole; - writes raw/thin or vmdk/stream to stdout.",
        after_help = "Examples:\n  reformis recast buoycam.vmdk buoycam.qcow2\n  \
                      reformis recast ledger-000003.vmdk ledger.qcow2 --squeeze zstd\n  \
                      reformis recast tidelog.ova/tidelog-disk2.vmdk tides.img\n  \
                      reformis recast /dev/vg0/ledger ledger.qcow2 --from raw\n  \
                      reformis recast ledger.qcow2 ledger.vhd --as vhd/full --align 1MiB\n  \
                      reformis recast appliance.img.xz tidegate.vmdk --as vmdk/split\n  \
                      reformis recast buoycam.qcow2 before.vhdx --snapshot before-upgrade\n  \
                      ssh host 'gzip -c </dev/pool/guest' | reformis recast - guest.vhdx\n  \
                      reformis recast tidelog.qcow2 - --as vmdk/stream | ssh host 'cat >tidelog.vmdk'"
    )]
    Recast(RecastArgs),
    /// Makes the system on one disk ready for a destination
    #[command(
        long_about = "Makes the Linux system on one disk ready for the hardware of a destination, into a copy or in \
                      place.\n\nThe early boot image gets the drivers for the new controller, volumes are called by \
                      their UUIDs where their names would change, adapters keep their names, the old host's helpers \
                      stay quiet, and the loader lies where a firmware without boot entries looks. Each edit is made \
                      only where it is needed. The chain of boot evidence says, link by link, what was seen and what \
                      was mended. Nothing of the guest is run. The source is never written: a result in place takes \
                      its name when it is whole.",
        after_help = "Examples:\n  reformis refit buoycam.vdi --dest nvme-cloud --out buoycam-ready.qcow2\n  \
                      reformis refit ledger.qcow2 --dest virtio-host --in-place --mac 02:5a:17:00:00:02\n  \
                      reformis refit ledger.raw --dest vmx-host --out ledger.vmdk --leave-out helpers --receipt r.json"
    )]
    Refit(RefitArgs),
    /// Looks at the files of a guest without starting it
    #[command(
        long_about = "Looks at the files of a guest without starting it: lists a folder, prints a file, or takes out a \
                      folder as a tar archive.\n\nPaths begin at the root of the guest's system, whose volumes are \
                      mounted as its own fstab says; with --volume, at the root of one volume (`reformis survey` lists \
                      them). A journal that was not written out is taken into account, in memory.",
        after_help = "Examples:\n  reformis peek buoycam.vdi\n  reformis peek buoycam.vdi /etc/fstab\n  \
                      reformis peek tidelog.ova /var/log --tar logs.tar\n  \
                      reformis peek ledger.vmx /EFI --volume 'disk 1 partition 1'"
    )]
    Peek(PeekArgs),
    /// Changes files of a guest without starting it
    #[command(
        long_about = "Puts files into a guest, removes them, and makes folders and links, without starting it; into a \
                      copy or in place.\n\nWhat is replaced keeps its owner and permissions; what is new belongs to the \
                      superuser and has the permissions of the file here, and the SELinux label that its neighbours \
                      show. All changes are made or none. The source is never written: a result in place takes its name \
                      when it is whole.",
        after_help = "Examples:\n  reformis patch buoycam.vdi --put netcfg.yaml:/etc/netplan/50-site.yaml --out patched.vdi\n  \
                      reformis patch ledger.qcow2 --remove /etc/udev/rules.d/70-persistent-net.rules --in-place"
    )]
    Patch(PatchArgs),
    /// Checks a landing against its source, or two disks against each other
    #[command(
        long_about = "Checks a landing against its source, or two disks in any shapes against each other.\n\nOf a \
                      landing every byte of every disk is compared with its source, outside the ranges of the edits \
                      that the receipt lists, and with the digest that it records; the machine file and all else that \
                      landed with what the receipt says of it. What differs is shown, and the exit code is 4.",
        after_help = "Examples:\n  reformis prove landing/tidelog/receipt.json\n  reformis prove ledger.vmdk ledger.qcow2"
    )]
    Prove(ProveArgs),
    /// Writes the demo's data and runs a whole example with it
    #[command(
        long_about = "Writes the demo's data into a folder and runs a whole example with it: survey, draft, carry, \
                      prove.\n\nThe scenario is made up: Saltmarsh Sound, a coastal tide-gauge service, moves its servers \
                      tidelog and ledger.",
        after_help = "Examples:\n  reformis demo\n  reformis demo /tmp/saltmarsh"
    )]
    Demo(DemoArgs),
    /// Prints completions for a shell
    #[command(
        long_about = "Prints completions for a shell: commands, options and their words.",
        after_help = "Examples:\n  reformis completions bash >/etc/bash_completion.d/reformis\n  \
                      reformis completions zsh >~/.zfunc/_reformis"
    )]
    Completions(CompletionsArgs),
}

#[derive(Debug, Args)]
pub(crate) struct SurveyArgs {
    /// Archives, machine files, disks, or folders
    #[arg(required = true, value_name = "TARGET")]
    pub(crate) targets: Vec<PathBuf>,
    /// Unpack compressed disks into a nameless temporary file, to look inside them
    #[arg(long)]
    pub(crate) unpack: bool,
    /// Follow names in the files that lead out of their folder (never to a device)
    #[arg(long)]
    pub(crate) trust_links: bool,
}

#[derive(Debug, Args)]
pub(crate) struct DestsArgs {
    /// Show this one in full
    #[arg(value_name = "NAME")]
    pub(crate) name: Option<String>,
    #[command(flatten)]
    pub(crate) site: SiteArgs,
}

/// Where a site's own settings are.
#[derive(Debug, Args)]
pub(crate) struct SiteArgs {
    /// The site's destinations and networks, where that is not reformis.toml here or in the configuration folder
    #[arg(long, value_name = "FILE")]
    pub(crate) site: Option<PathBuf>,
}

/// What is moved, and the settings that are chosen most.
#[derive(Debug, Args)]
pub(crate) struct MoveArgs {
    /// A machine file, an archive, a folder that holds one, a disk; or a brief
    #[arg(value_name = "TARGET|BRIEF")]
    pub(crate) target: PathBuf,
    /// Where it goes: one of `reformis dests`
    #[arg(long, value_name = "NAME")]
    pub(crate) dest: Option<String>,
    /// The folder in which the landing is made
    #[arg(long, value_name = "FOLDER")]
    pub(crate) into: Option<PathBuf>,
    /// Which machine, if TARGET describes several
    #[arg(long, value_name = "NAME")]
    pub(crate) machine: Option<String>,
    /// Follow names in the files that lead out of their folder (never to a device)
    #[arg(long)]
    pub(crate) trust_links: bool,
    #[command(flatten)]
    pub(crate) site: SiteArgs,
    #[command(flatten)]
    pub(crate) choices: ChoiceArgs,
}

/// Settings that are chosen most; a brief has all of them.
#[derive(Debug, Args)]
#[command(next_help_heading = "What to change (a brief has these settings and more)")]
pub(crate) struct ChoiceArgs {
    /// Call the machine NAME
    #[arg(long, value_name = "NAME")]
    pub(crate) name: Option<String>,
    /// Give it SIZE of memory, such as 4GiB
    #[arg(long, value_name = "SIZE")]
    pub(crate) memory: Option<ByteSize>,
    /// Give it N sockets
    #[arg(long, value_name = "N", value_parser = clap::value_parser!(u32).range(1..=4096))]
    pub(crate) sockets: Option<u32>,
    /// Give each socket N cores
    #[arg(long, value_name = "N", value_parser = clap::value_parser!(u32).range(1..=4096))]
    pub(crate) cores: Option<u32>,
    /// Start it with this firmware
    #[arg(long, value_name = "KIND")]
    pub(crate) firmware: Option<FirmwareWord>,
    /// Connect all adapters to NAME
    #[arg(long, value_name = "NAME")]
    pub(crate) network: Option<String>,
    /// Hardware addresses: keep, or fresh
    #[arg(long, value_name = "WHICH")]
    pub(crate) mac: Option<MacWord>,
    /// Store the disks in this shape
    #[arg(long, value_name = "SHAPE")]
    pub(crate) shape: Option<Shape>,
    /// Write this kind of machine file
    #[arg(long, value_name = "KIND")]
    pub(crate) machine_file: Option<String>,
    /// Keep settings of the source's machine file that are not known to be harmless on the new host
    #[arg(long)]
    pub(crate) keep_unknown: bool,
    #[command(flatten)]
    pub(crate) guest: GuestArgs,
}

/// What is changed inside a guest.
#[derive(Debug, Default, Args)]
#[command(next_help_heading = "Inside the guest")]
pub(crate) struct GuestArgs {
    /// Do not make this edit: fallback-loader, drivers, device-names, adapter-names, helpers, identity, first-boot
    #[arg(long, value_name = "EDIT")]
    pub(crate) leave_out: Vec<String>,
    /// Run the script FILE once, on the first start; its output goes to a log in the guest
    #[arg(long, value_name = "FILE")]
    pub(crate) first_boot: Vec<PathBuf>,
    /// Give the guest a new host name
    #[arg(long, value_name = "NAME")]
    pub(crate) host_name: Option<String>,
    /// Have the guest make a new machine identity on its first start
    #[arg(long)]
    pub(crate) new_machine_id: bool,
    /// Have the guest make new keys for its SSH server on its first start
    #[arg(long)]
    pub(crate) new_ssh_keys: bool,
}

/// What starts a machine.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub(crate) enum FirmwareWord {
    /// A master boot record
    Bios,
    /// A loader on an EFI system partition
    Uefi,
}

/// Which hardware addresses.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub(crate) enum MacWord {
    /// Those that the adapters have
    Keep,
    /// New ones
    Fresh,
}

#[derive(Debug, Args)]
pub(crate) struct DraftArgs {
    #[command(flatten)]
    pub(crate) order: MoveArgs,
    /// Write the brief to FILE, or - for stdout instead of the summary
    #[arg(long, value_name = "FILE")]
    pub(crate) out: Option<PathBuf>,
    /// Replace FILE if it exists
    #[arg(long)]
    pub(crate) force: bool,
}

#[derive(Debug, Args)]
pub(crate) struct CarryArgs {
    #[command(flatten)]
    pub(crate) order: MoveArgs,
    /// Go on in spite of the blocker CODE; can be given several times
    #[arg(long, value_name = "CODE")]
    pub(crate) accept: Vec<String>,
    /// Replace a landing of the same name
    #[arg(long)]
    pub(crate) force: bool,
}

#[derive(Debug, Args)]
pub(crate) struct RecastArgs {
    /// The disk: a file, a block device, the first of several pieces, a member of an archive, any of them compressed, or
    /// - for stdin
    #[arg(value_name = "SRC")]
    pub(crate) source: PathBuf,
    /// The file to make, or - for stdout
    #[arg(value_name = "DST")]
    pub(crate) result: PathBuf,
    /// The shape to make, FORMAT/LAYOUT, if the name of DST does not say it
    #[arg(long = "as", value_name = "SHAPE")]
    pub(crate) shape: Option<Shape>,
    /// The format of the source; skips detection
    #[arg(long, value_name = "FORMAT")]
    pub(crate) from: Option<Format>,
    /// Read the snapshot NAME inside the image, not its current state (qcow2)
    #[arg(long, value_name = "NAME")]
    pub(crate) snapshot: Option<String>,
    /// Compress what is stored (qcow2/thin)
    #[arg(long, value_name = "METHOD")]
    pub(crate) squeeze: Option<Squeeze>,
    /// Store in clusters of SIZE, from 4KiB to 2MiB (qcow2; 64KiB unless given)
    #[arg(long, value_name = "SIZE")]
    pub(crate) cluster: Option<ByteSize>,
    /// Round the disk's size up to a multiple of SIZE, such as 1MiB
    #[arg(long, value_name = "SIZE")]
    pub(crate) align: Option<ByteSize>,
    /// Make the disk SIZE large, with zeros at its end; smaller is refused
    #[arg(long, value_name = "SIZE")]
    pub(crate) grow: Option<ByteSize>,
    /// Write a record of it, with digests and findings, to FILE
    #[arg(long, value_name = "FILE")]
    pub(crate) receipt: Option<PathBuf>,
    /// Replace DST if it exists
    #[arg(long)]
    pub(crate) force: bool,
    /// Follow names in the source's files that lead out of their folder (never to a device)
    #[arg(long)]
    pub(crate) trust_links: bool,
}

/// Where a changed disk goes.
#[derive(Debug, Args)]
pub(crate) struct ResultArgs {
    /// The file to make
    #[arg(long, value_name = "FILE", required_unless_present = "in_place", conflicts_with = "in_place")]
    pub(crate) out: Option<PathBuf>,
    /// Replace the disk with the result once that is complete, in the same shape
    #[arg(long)]
    pub(crate) in_place: bool,
    /// The shape to make, FORMAT/LAYOUT, if the name of FILE does not say it
    #[arg(long = "as", value_name = "SHAPE", conflicts_with = "in_place")]
    pub(crate) shape: Option<Shape>,
    /// The format of the disk; skips detection
    #[arg(long, value_name = "FORMAT")]
    pub(crate) from: Option<Format>,
    /// Write a record of it, with the ranges that were changed, to FILE
    #[arg(long, value_name = "FILE")]
    pub(crate) receipt: Option<PathBuf>,
    /// Replace FILE if it exists
    #[arg(long)]
    pub(crate) force: bool,
    /// Follow names in the disk's files that lead out of their folder (never to a device)
    #[arg(long)]
    pub(crate) trust_links: bool,
}

#[derive(Debug, Args)]
pub(crate) struct RefitArgs {
    /// The disk
    #[arg(value_name = "DISK")]
    pub(crate) disk: PathBuf,
    /// Where it goes: one of `reformis dests`
    #[arg(long, value_name = "NAME")]
    pub(crate) dest: String,
    /// The controller that the disk will be on; the first of the destination unless given (drivers for the others go in too)
    #[arg(long, value_name = "KIND")]
    pub(crate) controller: Option<String>,
    /// The model of the adapter; the first of the destination unless given
    #[arg(long, value_name = "MODEL")]
    pub(crate) adapter: Option<String>,
    /// The hardware address that the adapter will have
    #[arg(long, value_name = "ADDRESS")]
    pub(crate) mac: Option<String>,
    /// The firmware that will start it; what the disk boots with unless given
    #[arg(long, value_name = "KIND")]
    pub(crate) firmware: Option<FirmwareWord>,
    /// Go on in spite of the blocker CODE; can be given several times
    #[arg(long, value_name = "CODE")]
    pub(crate) accept: Vec<String>,
    #[command(flatten)]
    pub(crate) result: ResultArgs,
    #[command(flatten)]
    pub(crate) site: SiteArgs,
    #[command(flatten)]
    pub(crate) guest: GuestArgs,
}

#[derive(Debug, Args)]
pub(crate) struct PeekArgs {
    /// A disk, or a machine with its disks
    #[arg(value_name = "TARGET")]
    pub(crate) target: PathBuf,
    /// A folder to list or a file to print; the root unless given
    #[arg(value_name = "PATH")]
    pub(crate) path: Option<String>,
    /// Begin paths at the root of this volume, such as 'disk 1 partition 2' or 'group/volume'
    #[arg(long, value_name = "NAME")]
    pub(crate) volume: Option<String>,
    /// Write PATH with all that is below it as a tar archive into FILE, or - for stdout
    #[arg(long, value_name = "FILE", conflicts_with = "stat")]
    pub(crate) tar: Option<PathBuf>,
    /// Show what a file is instead of printing it
    #[arg(long)]
    pub(crate) stat: bool,
    /// Follow names in the files that lead out of their folder (never to a device)
    #[arg(long)]
    pub(crate) trust_links: bool,
}

#[derive(Debug, Args)]
pub(crate) struct PatchArgs {
    /// The disk
    #[arg(value_name = "DISK")]
    pub(crate) disk: PathBuf,
    /// Put a file or a folder of this machine at a path in the guest; can be given several times, as the others
    #[arg(long, value_name = "FILE:PATH")]
    pub(crate) put: Vec<String>,
    /// Remove what is at PATH, before anything is put in; a folder with all that is in it
    #[arg(long, value_name = "PATH")]
    pub(crate) remove: Vec<String>,
    /// Make a folder, with those that lead to it
    #[arg(long, value_name = "PATH")]
    pub(crate) folder: Vec<String>,
    /// Make a symbolic link at PATH that leads to TARGET
    #[arg(long, value_name = "PATH:TARGET")]
    pub(crate) link: Vec<String>,
    /// Begin paths at the root of this volume
    #[arg(long, value_name = "NAME")]
    pub(crate) volume: Option<String>,
    #[command(flatten)]
    pub(crate) result: ResultArgs,
}

#[derive(Debug, Args)]
pub(crate) struct ProveArgs {
    /// A receipt, or a disk
    #[arg(value_name = "RECEIPT|DISK")]
    pub(crate) first: PathBuf,
    /// The disk to compare the first one with
    #[arg(value_name = "DISK")]
    pub(crate) second: Option<PathBuf>,
    /// The format of both disks; skips detection
    #[arg(long, value_name = "FORMAT", requires = "second")]
    pub(crate) from: Option<Format>,
    /// Accept that the machine file, or another file beside the disks, was changed after the landing
    #[arg(long, conflicts_with = "second")]
    pub(crate) machine_may_differ: bool,
    /// Follow names in the disks that lead out of their folder (never to a device)
    #[arg(long)]
    pub(crate) trust_links: bool,
}

#[derive(Debug, Args)]
pub(crate) struct DemoArgs {
    /// The folder for the data; made if it is not there
    #[arg(value_name = "FOLDER", default_value = "saltmarsh-demo")]
    pub(crate) folder: PathBuf,
}

#[derive(Debug, Args)]
pub(crate) struct CompletionsArgs {
    /// The shell
    #[arg(value_name = "SHELL")]
    pub(crate) shell: clap_complete::Shell,
}

#[cfg(test)]
mod tests {
    use clap::CommandFactory;

    #[test]
    fn the_definition_is_sound() {
        super::Cli::command().debug_assert();
    }
}
