//! A host with libvirt, through its public command line.
//!
//! Machines that are off are read where their disks lie: as files of this machine, by SFTP where the connection goes through
//! SSH, else by the download of a volume. A machine that runs is read by a backup in pull mode, which serves one moment of its
//! disks over NBD.

use std::{
    io::Read,
    os::unix::process::CommandExt,
    path::Path,
    process::{Child, ChildStdout, Command, Stdio},
    sync::{Arc, Mutex, PoisonError, Weak},
};

use reformis_disk::{
    Result,
    budget::Budget,
    container::{self, Forwards, Source, Stream},
    error::WireKind,
};

use uuid::Uuid;

use super::{Cargo, FarMachine, Host, Power, Row, Shipped, no_machine, runs};
use crate::{
    fault::{Fault, Unfinished},
    link::Link,
    settings::HostSettings,
    wires::Wires,
};

/// The longest answer, in bytes.
const MOST: u64 = 16 << 20;

/// A host with libvirt.
#[derive(Clone)]
pub(super) struct Libvirt {
    wires: Wires,
    name: String,
    uri: Option<String>,
}

impl Libvirt {
    pub(super) fn new(wires: &Wires, name: &str, settings: &HostSettings) -> Self {
        Self { wires: wires.clone(), name: name.into(), uri: settings.uri.clone() }
    }

    fn command(&self, words: &[&str]) -> Command {
        let mut command = Command::new("virsh");
        command.arg("-q").env("LC_ALL", "C");
        if let Some(uri) = &self.uri {
            command.arg("-c").arg(uri);
        }
        command.args(words).stdin(Stdio::null());
        command
    }

    /// What a command says; its errors in its own words.
    fn ask(&self, words: &[&str]) -> Result<String, Fault> {
        Self::answer(&mut self.command(words))
    }

    /// As [`Self::ask`], for what has to come to its end: an interrupt at the terminal goes to our group of processes, and this
    /// one is in another.
    fn ask_apart(&self, words: &[&str]) -> Result<String, Fault> {
        Self::answer(self.command(words).process_group(0))
    }

    fn answer(command: &mut Command) -> Result<String, Fault> {
        let mut child = command
            .stdout(Stdio::piped())
            .stderr(Stdio::piped())
            .spawn()
            .map_err(|error| Fault::Fatal(WireKind::Settings, format!("virsh could not be started: {error}")))?;
        let (mut text, mut words) = (String::new(), String::new());
        let read = std::thread::scope(|scope| {
            let stderr = child.stderr.take();
            let said = scope.spawn(move || {
                let mut said = String::new();
                stderr.map(|stderr| stderr.take(16 << 10).read_to_string(&mut said).ok());
                said
            });
            let read = child.stdout.take().map(|stdout| stdout.take(MOST).read_to_string(&mut text));
            words = said.join().unwrap_or_default();
            read
        });
        let status = child.wait().map_err(|error| Fault::again(error.to_string()))?;
        match (status.success(), read) {
            (true, Some(Ok(_))) => Ok(text),
            _ => Err(fault_of_words(&words)),
        }
    }

    /// All machines: their UUIDs, and what they are called. A machine is asked for by its UUID alone: a name may be the number that another one
    /// has while it runs, or its UUID, and both are looked for before a name.
    fn machines(&self) -> Result<Vec<(Uuid, String)>, Fault> {
        let listed = self.ask(&["list", "--all", "--uuid", "--name"])?;
        let lines = listed.lines().filter(|line| !line.trim().is_empty());
        lines
            .map(|line| {
                // Spaces at a name's end are the name's.
                let (id, name) = line.trim_start().split_once(' ').unwrap_or((line, ""));
                match Uuid::parse_str(id) {
                    Ok(id) if !name.is_empty() => Ok((id, name.to_string())),
                    _ => Err(Fault::protocol("it lists a machine without a UUID or a name")),
                }
            })
            .collect()
    }

    fn power(&self, id: Uuid) -> Result<Power, Fault> {
        let state = self.ask(&["domstate", &domain(id)])?;
        Ok(match state.trim() {
            "shut off" | "crashed" => Power::Off,
            "" | "no state" => Power::Unknown,
            "pmsuspended" => Power::Suspended,
            _ => Power::Running,
        })
    }

    /// The sizes of its disks as their guest sees them, where the host says.
    fn size(&self, id: Uuid) -> Option<u64> {
        let told = self.ask(&["domblkinfo", &domain(id), "--all"]).ok()?;
        let capacity = |line: &str| line.split_whitespace().nth(1)?.parse::<u64>().ok();
        let sizes: Vec<u64> = told.lines().filter_map(capacity).collect();
        (!sizes.is_empty()).then(|| sizes.into_iter().fold(0, u64::saturating_add))
    }

    /// How the disks of its machines are reached: the host, where the connection goes to one.
    fn there(&self) -> There {
        let Some(uri) = &self.uri else { return There::Here };
        let Some((scheme, rest)) = uri.split_once("://") else { return There::Elsewhere };
        let authority = rest.split('/').next().unwrap_or_default();
        match scheme.split_once('+') {
            _ if authority.is_empty() => There::Here,
            Some((_, "ssh")) => Link::parse(&format!("ssh://{authority}/")).map_or(There::Elsewhere, There::Ssh),
            _ => There::Elsewhere,
        }
    }
}

/// The word by which a command is told of a machine.
fn domain(id: Uuid) -> String {
    format!("--domain={id}")
}

/// Where the disks of a host are.
enum There {
    Here,
    Ssh(Link),
    /// Only its own service reaches them.
    Elsewhere,
}

fn fault_of_words(words: &str) -> Fault {
    let words = words.trim();
    let last = words.lines().last().unwrap_or("virsh failed").trim_start_matches("error: ").to_string();
    let said = |text: &str| words.contains(text);
    if said("failed to get domain") || said("Domain not found") {
        return no_machine();
    }
    if said("authentication") || said("Permission denied") || said("access denied") {
        return Fault::Fatal(WireKind::Denied, last);
    }
    if said("ertificate") {
        return Fault::Fatal(WireKind::Untrusted, last);
    }
    if said("failed to connect") || said("Cannot recv data") {
        return Fault::again(last);
    }
    Fault::Fatal(WireKind::Refused, last)
}

impl Host for Libvirt {
    fn list(&self) -> Result<Vec<Row>, Fault> {
        let row =
            |(id, name): (Uuid, String)| Ok(Row { name, power: self.power(id)?, size: self.size(id), stored: None });
        self.machines()?.into_iter().map(row).collect()
    }

    fn machine(&self, name: &str, budget: &Arc<Budget>) -> Result<FarMachine, Fault> {
        let found = self.machines()?.into_iter().find(|(_, known)| known == name);
        let (id, _) = found.ok_or_else(no_machine)?;
        let power = self.power(id)?;
        // Its definition, not what the host made of it while it runs.
        let text = self.ask(&["dumpxml", &domain(id), "--inactive"])?;
        let files = Arc::new_cyclic(|me| Disks {
            host: self.clone(),
            machine: name.into(),
            id,
            power,
            budget: budget.clone(),
            backup: Mutex::default(),
            me: me.clone(),
        });
        let file = format!("{name}.xml");
        Ok(FarMachine { host: self.name.clone(), name: name.into(), power, file, text: text.into_bytes(), files })
    }

    fn about(&self) -> Result<Vec<String>, Fault> {
        let rows = self.list()?;
        let running = rows.iter().filter(|row| row.power == Power::Running).count();
        let way = match self.there() {
            There::Here => "disks are read where they lie",
            There::Ssh(_) => "disks are read by SFTP",
            There::Elsewhere => "disks are read by the download of volumes",
        };
        let pull = match self.there() {
            There::Here => "machines that run are read by a backup in pull mode",
            _ => "machines that run are not read",
        };
        Ok(vec![format!("{} machines, {running} of them running", rows.len()), way.into(), pull.into()])
    }
}

/// The disks of a machine.
struct Disks {
    host: Libvirt,
    machine: String,
    id: Uuid,
    power: Power,
    budget: Arc<Budget>,
    /// The backup that serves one moment of a machine that runs.
    backup: Mutex<Option<Backup>>,
    me: Weak<Self>,
}

/// A backup in pull mode.
struct Backup {
    folder: tempfile::TempDir,
    /// The names of the disks by the files that they lie in.
    disks: Vec<(String, String)>,
    frozen: bool,
}

impl Disks {
    fn domain(&self) -> String {
        domain(self.id)
    }

    /// The link of the disk at `path`, of which one moment is served.
    fn moment(&self, path: &str) -> Result<Option<Link>, Fault> {
        let can = matches!(self.host.there(), There::Here);
        if !self.host.wires.reads_running() || !can {
            return Err(runs(can));
        }
        let mut backup = self.backup.lock().unwrap_or_else(PoisonError::into_inner);
        if backup.is_none() {
            *backup = Some(self.begin()?);
        }
        let Some(backup) = backup.as_ref() else { return Ok(None) };
        let Some((target, _)) = backup.disks.iter().find(|(_, file)| file == path) else { return Ok(None) };
        let socket = backup.folder.path().join("nbd").to_string_lossy().into_owned();
        let link = Link::parse(&format!("nbd+unix:///{target}?socket={}", crate::link::escaped(&socket)));
        link.map(Some).map_err(|error| Fault::protocol(error.what))
    }

    fn begin(&self) -> Result<Backup, Fault> {
        use std::os::unix::fs::PermissionsExt;
        let listed = self.host.ask(&["domblklist", &self.domain(), "--details"])?;
        let mut disks = Vec::new();
        for line in listed.lines() {
            let mut words = line.split_whitespace();
            if let (Some(_), Some("disk"), Some(target)) = (words.next(), words.next(), words.next()) {
                // The path is what follows, spaces and all.
                let file = line.split_once(target).map_or("", |(_, rest)| rest.trim());
                disks.push((target.to_string(), file.to_string()));
            }
        }
        let failed = |error: std::io::Error| Fault::again(format!("no folder for the backup's socket: {error}"));
        let folder = tempfile::Builder::new().prefix("rf").tempdir().map_err(failed)?;
        // The host's own process makes socket and scratch files there, and has another user than we.
        std::fs::set_permissions(folder.path(), PermissionsExt::from_mode(0o711)).map_err(failed)?;
        let socket = folder.path().join("nbd");
        let xml = format!(
            "<domainbackup mode='pull'><server transport='unix' socket='{}'/></domainbackup>",
            socket.display()
        );
        let file = folder.path().join("backup.xml");
        std::fs::write(&file, xml).map_err(failed)?;
        // A guest that is frozen is not left: whoever wants to end waits for this.
        let _guest = Unfinished::begin();
        let frozen = self.host.ask_apart(&["domfsfreeze", &self.domain()]).is_ok();
        let begun = self.host.ask_apart(&["backup-begin", &self.domain(), &file.to_string_lossy()]);
        if frozen {
            self.host.ask_apart(&["domfsthaw", &self.domain()]).ok();
        }
        begun?;
        Ok(Backup { folder, disks, frozen })
    }

    /// The disk at `path`, where nothing writes to it.
    fn at_rest(&self, path: &str) -> Result<Option<Source>> {
        match self.host.there() {
            There::Here => match container::locate(Path::new(path), &self.budget) {
                Ok(source) => return Ok(Some(source)),
                Err(reformis_disk::Error::Io { source, .. }) if source.kind() == std::io::ErrorKind::NotFound => {
                    return Ok(None);
                }
                Err(reformis_disk::Error::Io { source, .. })
                    if source.kind() == std::io::ErrorKind::PermissionDenied => {}
                Err(error) => return Err(error),
            },
            There::Ssh(link) => return self.host.wires.open(&link.with_path(path), &self.budget).map(Some),
            There::Elsewhere => {}
        }
        let download = Download { host: self.host.clone(), path: path.into() };
        let name = format!("{}:{}{path}", self.host.name, self.machine);
        Ok(Some(Source::Stream(Stream::far(name, Arc::new(download), &self.budget))))
    }
}

impl Cargo for Disks {
    fn find(&self, name: &str) -> Result<Option<Source>> {
        if !name.starts_with('/') {
            return Ok(None);
        }
        if matches!(self.power, Power::Off | Power::Unknown) {
            return self.at_rest(name);
        }
        let shown = format!("{}:{}{name}", self.host.name, self.machine);
        let link = self.moment(name).map_err(|fault| fault.into_error("opening", &shown, None))?;
        let (Some(link), Some(me)) = (link, self.me.upgrade()) else { return Ok(None) };
        let storage = self.host.wires.open(&link, &self.budget)?.random_access()?;
        Ok(Some(Source::Storage(Shipped::shared(storage, shown, me))))
    }

    fn consistency(&self) -> Option<String> {
        let backup = self.backup.lock().unwrap_or_else(PoisonError::into_inner);
        backup.as_ref().map(|backup| match backup.frozen {
            true => "its file systems were frozen by its agent while the moment was taken".into(),
            false => "it is one moment, as after a power cut".into(),
        })
    }
}

impl Drop for Disks {
    fn drop(&mut self) {
        if self.backup.get_mut().unwrap_or_else(PoisonError::into_inner).is_some() {
            let ended = self.host.ask(&["domjobabort", &self.domain()]);
            tracing::debug!(machine = self.machine, ok = ended.is_ok(), "the backup is ended");
        }
    }
}

/// The download of a volume.
struct Download {
    host: Libvirt,
    path: String,
}

impl Forwards for Download {
    fn len(&self) -> Option<u64> {
        None
    }

    fn begin(&self) -> Result<Box<dyn Read + Send>> {
        let volume = format!("--vol={}", self.path);
        let mut command = self.host.command(&["vol-download", &volume, "--file=/dev/stdout"]);
        let child = command.stdout(Stdio::piped()).stderr(Stdio::piped()).spawn();
        let failed = |what: String| Fault::again(what).into_error("reading", &self.path, Some(0));
        let mut child = child.map_err(|error| failed(format!("virsh could not be started: {error}")))?;
        let stdout = child.stdout.take().ok_or_else(|| failed("virsh has no output".into()))?;
        Ok(Box::new(Coming { child, stdout }))
    }
}

/// A download that is under way; an end is one only when the command says so.
struct Coming {
    child: Child,
    stdout: ChildStdout,
}

impl Read for Coming {
    fn read(&mut self, buf: &mut [u8]) -> std::io::Result<usize> {
        let len = self.stdout.read(buf)?;
        if len == 0 && !buf.is_empty() && !self.child.wait()?.success() {
            let mut words = String::new();
            if let Some(stderr) = &mut self.child.stderr {
                stderr.take(16 << 10).read_to_string(&mut words).ok();
            }
            return Err(std::io::Error::other(fault_of_words(&words).what()));
        }
        Ok(len)
    }
}

impl Drop for Coming {
    fn drop(&mut self) {
        self.child.kill().ok();
        self.child.wait().ok();
    }
}
