//! What can be typed.

mod disks;
mod fleet;
mod lend;
mod moving;

use std::path::PathBuf;

use clap::{Args, Parser, Subcommand, ValueEnum, builder::Styles};
use reformis_disk::Format;

pub(crate) use disks::{PatchArgs, PeekArgs, RecastArgs, RefitArgs, ResultArgs};
pub(crate) use fleet::{
    CheckArgs, ConfirmArgs, FleetArgs, FleetCommand, GatherArgs, GoArgs, HoldArgs, NightArgs, RehearseArgs, RunArgs,
    StateArgs, StatusArgs, SteerArgs, TakeArgs, UndoArgs, WorkArgs,
};
pub(crate) use lend::LendArgs;
pub(crate) use moving::{CarryArgs, ChoiceArgs, DraftArgs, FirmwareWord, GuestArgs, MacWord, MoveArgs, ThenWord};

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
    /// Allow TIMES as much work on what is inside a guest as any sound one needs
    #[arg(long, global = true, value_name = "TIMES", default_value_t = 1, hide_default_value = true, value_parser = clap::value_parser!(u64).range(1..=10_000))]
    pub(crate) work: u64,
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
    /// The site's settings, where they are not reformis.toml here or in the configuration folder
    #[arg(long, value_name = "FILE", global = true)]
    pub(crate) site: Option<PathBuf>,
    /// Read a machine of a host, or a disk in a page store, while it runs, where one moment of it can be had
    #[arg(long, global = true)]
    pub(crate) while_running: bool,
    /// Open the encrypted volume VOLUME, by its name or UUID, or all, with the key or passphrase in FILE; without FILE it is asked for
    #[arg(long, value_name = "VOLUME[=FILE]", global = true)]
    pub(crate) unlock: Vec<String>,
    /// Take at most RATE a second from the network, such as 50MiB/s
    #[arg(long, value_name = "RATE", global = true, value_parser = reformis_move::fleet::rate)]
    pub(crate) limit: Option<u64>,
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
                      uncompressed archive. Of a folder, every file in it is shown. Of a medium with drivers for Windows \
                      guests (a folder, an ISO image, an archive, a cabinet), the drivers are listed.",
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
                      half-made stays, but what came over a network: --resume goes on with that. The machine is complete and has never been started.",
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
                      a whole; - writes raw/thin, vmdk/stream or vhd/full to stdout.",
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
    /// Serves a machine's disks, made ready, so that it can be started before a byte is copied
    #[command(
        long_about = "Serves a machine's disks as network block devices, made ready for its destination, so that a host there \
                      can start the guest before a byte is copied. Runs until Ctrl-C.\n\nThe source is only read. What was \
                      changed inside the guest, and what it writes while it runs, is kept in a folder beside the landing; \
                      lent again, the guest finds it there, and carry --with FOLDER lands all of it.\n\nA socket file serves \
                      this machine. For others there is TLS alone, and clients show a certificate. A bare TARGET without \
                      --dest is served as it is, for reading alone.",
        after_help = "Examples:\n  reformis lend ledger.toml --at unix:/run/ledger.sock --machine-file ledger-lent.xml\n  \
                      reformis lend ledger.toml --at 0.0.0.0:10809 --certificate quay.pem --key quay.key --clients hosts-ca.pem\n  \
                      reformis lend buoycam.vmdk --at 127.0.0.1:10809\n\nThen, with the guest shut down and lend ended:\n  \
                      reformis carry ledger.toml --with landing/ledger.lent"
    )]
    Lend(LendArgs),
    /// Shows the hosts that are known, and tries one
    #[command(
        long_about = "Shows the hosts that reformis.toml names. With NAME, tries that one: whether it answers, lets us in, and \
                      what it lets us do.\n\nA host is a place on the network where machines live: NAME: stands for all of \
                      them, NAME:MACHINE for one, wherever a command takes a TARGET.",
        after_help = "Examples:\n  reformis hosts\n  reformis hosts harbour\n  reformis survey harbour:\n  \
                      reformis draft harbour:ledger --dest virtio-host --out ledger.toml"
    )]
    Hosts(HostsArgs),
    /// Runs a small simulated host or store, to try things with
    #[command(
        subcommand_required = true,
        arg_required_else_help = true,
        long_about = "Runs a small simulated host or store, for trying, for the demo and for tests: without TLS, with one \
                      token or key.\n\nA host lists the machines in a folder and exports their disks by links that expire, as \
                      docs/export-protocol.md says. A store takes objects in parts, and looks at every signature and digest, \
                      as docs/clouds.md says.",
        after_help = "Examples:\n  reformis standin host --data saltmarsh-demo/host --at 127.0.0.1:8640\n  \
                      reformis standin store --data saltmarsh-demo/store --at 127.0.0.1:8641\n  \
                      reformis standin cloud --data saltmarsh-demo/cloud"
    )]
    Standin(StandinArgs),
    /// Makes the system on one disk ready for a destination
    #[command(
        long_about = "Makes the system on one disk ready for the hardware of a destination, into a copy or in place.\n\n\
                      Linux: the early boot image gets the drivers for the new controller, volumes are called by \
                      their UUIDs where their names would change, adapters keep their names, the old host's helpers \
                      stay quiet, and the loader lies where a firmware without boot entries looks.\n\nWindows: the \
                      drivers of the new controllers start with the system, from what it has or from --drivers; the \
                      first start gives the new adapters the addresses of the old ones.\n\nEach edit is made \
                      only where it is needed. The chain of boot evidence says, link by link, what was seen and what \
                      was mended. Nothing of the guest is run. The source is never written: a result in place takes \
                      its name when it is whole.",
        after_help = "Examples:\n  reformis refit buoycam.vdi --dest nvme-cloud --out buoycam-ready.qcow2\n  \
                      reformis refit ledger.qcow2 --dest virtio-host --in-place --mac 02:5a:17:00:00:02\n  \
                      reformis refit ledger.raw --dest vmx-host --out ledger.vmdk --leave-out helpers --receipt r.json\n  \
                      reformis refit desk.vdi --dest virtio-host --drivers tide-drivers.iso --out desk.qcow2"
    )]
    Refit(RefitArgs),
    /// Looks at the files of a guest without starting it
    #[command(
        long_about = "Looks at the files of a guest without starting it: lists a folder, prints a file, takes out a \
                      folder as a tar archive, or shows a key of a registry.\n\nPaths begin at the root of the guest's \
                      system, whose volumes are mounted as its own fstab says, or have their letters (d:/data); with --volume, at the root of one volume (`reformis survey` lists \
                      them). A journal that was not written out is taken into account, in memory.",
        after_help = "Examples:\n  reformis peek buoycam.vdi\n  reformis peek buoycam.vdi /etc/fstab\n  \
                      reformis peek tidelog.ova /var/log --tar logs.tar\n  \
                      reformis peek ledger.vmx /EFI --volume 'disk 1 partition 1'\n  \
                      reformis peek berths.vmdk --hive SYSTEM Select"
    )]
    Peek(PeekArgs),
    /// Changes files of a guest without starting it
    #[command(
        long_about = "Puts files into a guest, removes them, makes folders and links, and sets registry values, without \
                      starting it; into a copy or in place.\n\nWhat is replaced keeps its owner and permissions; what is \
                      new belongs to the superuser and has the permissions of the file here, and the SELinux label that \
                      its neighbours show; on NTFS it has the security of its folder. All changes are made or none. The source is never written: a result in place takes its name \
                      when it is whole.",
        after_help = "Examples:\n  reformis patch buoycam.vdi --put netcfg.yaml:/etc/netplan/50-site.yaml --out patched.vdi\n  \
                      reformis patch ledger.qcow2 --remove /etc/udev/rules.d/70-persistent-net.rules --in-place\n  \
                      reformis patch berths.vmdk --hive SYSTEM 'CurrentControlSet\\Services\\stornvme' --set Start=dword:0 \
                      --out patched.vdi"
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
    /// Tells what moves came to, for one receipt or for all of a night, as a page
    #[command(
        long_about = "Tells what moves came to, for one receipt or for all of a night.\n\nThe page is one file that needs \
                      nothing else, no script and no network: the figures of all machines, when each was moved, and of \
                      each machine its findings, its chain of boot evidence, what was changed inside, and a map of its \
                      disks. Nothing is measured anew but where the disks that landed hold data.",
        after_help = "Examples:\n  reformis report landing/tidelog/receipt.json\n  \
                      reformis report night.toml --out morning.html --title 'Saltmarsh Sound, in one night'\n  \
                      reformis report night.toml --csv morning.csv"
    )]
    Report(ReportArgs),
    /// Many moves, in one night
    #[command(
        subcommand_required = true,
        arg_required_else_help = true,
        long_about = "Many moves, in one night: a fleet file names the machines, their groups, what comes after what, and how much is \
                      done at once.\n\nWhere each machine stands is kept in a database, so that a night which was cut off goes on. \
                      docs/fleet.md leads from two machines to two hundred.",
        after_help = "The order of the work:\n  reformis fleet gather harbour: --dest virtio-host --out night.toml\n  \
                      reformis fleet check night.toml\n  reformis fleet run night.toml --at-once 4 --until 05:30\n  \
                      reformis fleet status night.toml\n  reformis report night.toml --out morning.html"
    )]
    Fleet(FleetArgs),
    /// Writes the demo's data and runs a whole example with it
    #[command(
        long_about = "Writes the demo's data into a folder and runs a whole example with it: survey, draft, carry, \
                      prove.\n\nThe scenario is made up: Saltmarsh Sound, a coastal tide-gauge service, moves its servers \
                      tidelog, ledger and berths, which runs Windows.",
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
    /// Archives, machine files, disks, folders, links to such, or HOST: and HOST:MACHINE
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
pub(crate) struct HostsArgs {
    /// Try this one
    #[arg(value_name = "NAME")]
    pub(crate) name: Option<String>,
    /// Give up the uploads to the store NAME that were left unfinished
    #[arg(long, requires = "name")]
    pub(crate) clean: bool,
}

#[derive(Debug, Args)]
pub(crate) struct StandinArgs {
    #[command(subcommand)]
    pub(crate) kind: StandinKind,
}

#[derive(Debug, Subcommand)]
pub(crate) enum StandinKind {
    /// A host that lists machines and exports their disks
    Host(StandinHostArgs),
    /// A store that takes objects in parts
    Store(StandinStoreArgs),
    /// A cloud that imports from a store of its own, and starts instances in the machine emulator
    Cloud(StandinCloudArgs),
}

#[derive(Debug, Args)]
pub(crate) struct StandinCloudArgs {
    /// The folder with its objects, images and instances; made if it is not there
    #[arg(long, value_name = "FOLDER")]
    pub(crate) data: PathBuf,
    /// Where it listens
    #[arg(long, value_name = "ADDRESS:PORT", default_value = "127.0.0.1:8642")]
    pub(crate) at: String,
    /// Where its store listens
    #[arg(long, value_name = "ADDRESS:PORT", default_value = "127.0.0.1:8643")]
    pub(crate) store_at: String,
    /// A file whose first line is the token that lets clients in; made with a new one if it is not there
    #[arg(long, value_name = "FILE", default_value = "standin-token")]
    pub(crate) token_file: PathBuf,
    /// The same for the key of its store
    #[arg(long, value_name = "FILE", default_value = "standin-key")]
    pub(crate) key_file: PathBuf,
    /// Take a grant from the import's role: objects.read, images.make, instances.make, instances.start, snapshots.make
    #[arg(long, value_name = "GRANT")]
    pub(crate) deny: Vec<String>,
    /// Give snapshots as fixed VHDs, and not as bare bytes
    #[arg(long)]
    pub(crate) fixed_snapshots: bool,
}

#[derive(Debug, Args)]
pub(crate) struct StandinStoreArgs {
    /// The folder with its objects; made if it is not there
    #[arg(long, value_name = "FOLDER")]
    pub(crate) data: PathBuf,
    /// Where it listens
    #[arg(long, value_name = "ADDRESS:PORT", default_value = "127.0.0.1:8641")]
    pub(crate) at: String,
    /// A file whose first line is the key that lets clients in; made with a new one if it is not there
    #[arg(long, value_name = "FILE", default_value = "standin-key")]
    pub(crate) key_file: PathBuf,
    /// Be a store of pages
    #[arg(long)]
    pub(crate) pages: bool,
}

#[derive(Debug, Args)]
pub(crate) struct StandinHostArgs {
    /// The folder with a folder for each machine: its machine file, its disks, and maybe a file `power`
    #[arg(long, value_name = "FOLDER")]
    pub(crate) data: PathBuf,
    /// Where it listens
    #[arg(long, value_name = "ADDRESS:PORT", default_value = "127.0.0.1:8640")]
    pub(crate) at: String,
    /// A file whose first line is the token that lets clients in; made with a new one if it is not there
    #[arg(long, value_name = "FILE", default_value = "standin-token")]
    pub(crate) token_file: PathBuf,
    /// For how many seconds a session and a link are good
    #[arg(long, value_name = "SECONDS", default_value_t = 600)]
    pub(crate) seconds: u64,
    /// What it does wrong, such as cut=1048576*3, busy=2*1, no-ranges, gzip, chunked, slow=200; can be given several times
    #[arg(long, value_name = "FAULT")]
    pub(crate) fault: Vec<String>,
}

#[derive(Debug, Args)]
pub(crate) struct DestsArgs {
    /// Show this one in full
    #[arg(value_name = "NAME")]
    pub(crate) name: Option<String>,
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
    /// Compare a landing whose sources are gone with what its receipt records, and say so
    #[arg(long, conflicts_with = "second")]
    pub(crate) without_sources: bool,
    /// Follow names in the disks that lead out of their folder (never to a device)
    #[arg(long)]
    pub(crate) trust_links: bool,
}

#[derive(Debug, Args)]
pub(crate) struct ReportArgs {
    /// Receipts, landings, folders of landings; or a fleet file
    #[arg(value_name = "RECEIPT|FOLDER|FLEET", required = true)]
    pub(crate) targets: Vec<PathBuf>,
    #[command(flatten)]
    pub(crate) state: StateArgs,
    /// Write the page to FILE; '-' for stdout
    #[arg(long, value_name = "FILE")]
    pub(crate) out: Option<PathBuf>,
    /// What the page is called
    #[arg(long, value_name = "TEXT", default_value = "What the moves came to")]
    pub(crate) title: String,
    /// Write a row for each machine to FILE, as CSV for a spreadsheet
    #[arg(long, value_name = "FILE")]
    pub(crate) csv: Option<PathBuf>,
    /// Replace files that exist
    #[arg(long)]
    pub(crate) force: bool,
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
