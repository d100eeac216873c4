//! `reformis lend`

use std::{
    path::Path,
    sync::{Arc, atomic::Ordering},
    time::{Duration, Instant},
};

use anyhow::{Context as _, Result, bail};
use clap::error::ErrorKind;
use reformis_disk::{ByteSize, source::Access, text::printable};
use reformis_machine::domain::{Served, ServedAt};
use reformis_move::{
    Finding,
    finding::FindingRecord,
    lend::{self, Lent, LentDisk, Options},
    prepare::Order,
    propose::Choices,
    staging,
};
use reformis_wire::nbd::serve::{At, Event, Export, Guard, Server};

use super::{
    JSON_SCHEMA,
    carry::{quoted, quoted_target},
    links, order,
};
use crate::{
    Session,
    args::LendArgs,
    chain,
    exit::Exit,
    failure::wrong_usage,
    output::{self, GOOD, columns, emit, emit_json, heading, paint, pairs},
    progress::duration,
};

/// How often the status is shown.
const SHOWN: Duration = Duration::from_millis(250);
/// How often what a guest wrote without a flush is flushed all the same.
const FLUSHED: Duration = Duration::from_secs(5);
/// How often it is looked whether the source is what it was.
const LOOKED: Duration = Duration::from_secs(30);

pub(crate) fn run(args: &LendArgs, session: &Session) -> Result<Exit> {
    let at = place(args)?;
    let guard = match (&args.guard.certificate, &args.guard.key, &args.guard.clients) {
        (Some(certificate), Some(key), Some(clients)) => Some(Guard::from_files(certificate, key, clients)?),
        _ => None,
    };
    let lent = match order_of(args)? {
        Some(order) => {
            let (site, accept, kept) = (session.site.clone(), args.accept.clone(), args.kept.clone());
            let options = Options { order, site, accept, links: links(args.trust_links), kept };
            Some(refused_as_json(session, lend::lend(&options, &session.context()))?)
        }
        None => {
            for (is_given, name) in [(args.kept.is_some(), "--kept"), (args.machine_file.is_some(), "--machine-file")] {
                if is_given {
                    let words =
                        format!("{name} belongs to a machine that is made ready: give --dest and --into, or a brief");
                    wrong_usage(ErrorKind::ArgumentConflict, &words);
                }
            }
            None
        }
    };
    let exports = match &lent {
        Some(lent) => lent.exports(),
        None => {
            let disks = lend::look(&args.target, links(args.trust_links), &session.context())?;
            disks.into_iter().map(|(name, disk)| Export::read_only(name, disk)).collect()
        }
    };
    let started = Instant::now();
    let (server, served, machine_file) = match begin(args, &at, exports, guard, lent.as_ref(), session) {
        Ok(begun) => begun,
        Err(error) => {
            // Nobody was served, so that nothing is kept.
            lent.map(Lent::discard).transpose()?;
            return Err(error);
        }
    };
    let target = args.target.to_string_lossy();
    let shown = Shown { target: &target, lent: lent.as_ref(), exports: server.exports(), served, machine_file };
    match session.json {
        true => emit_json(&shown.document())?,
        false => emit(&(shown.text() + "\n"))?,
    }
    let outcome = watch(&server, lent.is_some(), session);
    reformis_move::Observer::end(&*session.progress);
    let totals = Totals::of(server.exports());
    // Whatever ended it: what was written is flushed.
    server.end()?;
    outcome?;
    if !session.json {
        emit(&ended(args, lent.as_ref(), &totals, started.elapsed()))?;
    }
    Ok(Exit::Done)
}

/// Listens, and writes the machine file that says where.
fn begin<'a>(
    args: &'a LendArgs,
    at: &At,
    exports: Vec<Export>,
    guard: Option<Guard>,
    lent: Option<&Lent>,
    session: &Session,
) -> Result<(Server, Vec<Served>, Option<&'a Path>)> {
    let tls = guard.is_some();
    let progress = session.progress.clone();
    let tell = move |event: Event| {
        progress.say(&match event {
            Event::Refused { peer, why } => format!("The connection of {peer} ended: {why}.\n"),
            Event::Trouble { export, what } => format!("{export}: {what}.\n"),
        });
    };
    let server = Server::start_for(at, group(args)?, exports, guard, Arc::new(tell))?;
    let served = served(&server, &args.at, tls);
    let (Some(lent), Some(path)) = (lent, args.machine_file.as_deref()) else { return Ok((server, served, None)) };
    staging::write(path, lent.machine_file(&served)?.as_bytes(), args.force, Access::ANYBODY)?;
    Ok((server, served, Some(path)))
}

/// The error of a refusal, after its findings were printed where a script wants them.
fn refused_as_json<T>(session: &Session, outcome: reformis_move::Result<T>) -> Result<T> {
    if let (true, Err(reformis_move::Error::Refused { findings })) = (session.json, &outcome) {
        emit_json(&serde_json::json!({ "schema": JSON_SCHEMA, "refused": true, "findings": findings }))?;
    }
    Ok(outcome?)
}

/// Where to listen.
fn place(args: &LendArgs) -> Result<At> {
    if let Some(path) = args.at.strip_prefix("unix:") {
        if args.guard.certificate.is_some() {
            wrong_usage(
                ErrorKind::ArgumentConflict,
                "a socket file serves this machine alone, and needs no certificate",
            );
        }
        let path = Path::new(path);
        return Ok(At::Socket(std::path::absolute(path).with_context(|| format!("finding '{}'", path.display()))?));
    }
    let is_place = args.at.rsplit_once(':').is_some_and(|(host, port)| !host.is_empty() && port.parse::<u16>().is_ok());
    if !is_place {
        wrong_usage(ErrorKind::ValueValidation, "--at is unix:/PATH or HOST:PORT, such as unix:/run/ledger.sock");
    }
    if args.guard.group.is_some() {
        wrong_usage(ErrorKind::ArgumentConflict, "--group is for socket files");
    }
    Ok(At::Port(args.at.clone()))
}

/// What is to be made ready; `None` for a disk that is served as it is.
fn order_of(args: &LendArgs) -> Result<Option<Order>> {
    if let Some(brief) = order::brief(&args.target)? {
        if args.dest.is_some() || args.machine.is_some() {
            wrong_usage(ErrorKind::ArgumentConflict, "the brief has all of that: change it there");
        }
        return Ok(Some(brief));
    }
    Ok(args.dest.clone().zip(args.into.clone()).map(|(destination, into)| Order::Target {
        path: args.target.clone(),
        machine: args.machine.clone(),
        destination,
        into,
        choices: Box::new(Choices::default()),
    }))
}

/// The group that may use the socket file, by its number.
fn group(args: &LendArgs) -> Result<Option<u32>> {
    let Some(group) = &args.guard.group else { return Ok(None) };
    let known = std::fs::read_to_string("/etc/group").unwrap_or_default();
    let mut lines = known.lines().filter_map(|line| {
        let mut fields = line.split(':');
        Some((fields.next()?, fields.nth(1)?.parse::<u32>().ok()?))
    });
    let number = lines.find(|(name, _)| name == group).map(|(_, number)| number).or_else(|| group.parse().ok());
    let Some(number) = number else { bail!("there is no group called '{group}' here") };
    Ok(Some(number))
}

/// Where the exports are had, as a machine file says it.
pub(super) fn served(server: &Server, at: &str, tls: bool) -> Vec<Served> {
    let place = match server.at() {
        At::Socket(path) => ServedAt::Socket(path.to_string_lossy().into()),
        At::Port(found) => {
            // The name as the person gave it: it is the certificate's.
            let host = at.rsplit_once(':').map_or(at, |(host, _)| host).trim_matches(['[', ']']);
            let everywhere = matches!(host, "0.0.0.0" | "::" | "*");
            let own = || std::fs::read_to_string("/proc/sys/kernel/hostname").unwrap_or_default();
            let host = if everywhere { own().trim().to_string() } else { host.to_string() };
            let port = found.rsplit_once(':').and_then(|(_, port)| port.parse().ok()).unwrap_or(10809);
            ServedAt::Port { host, port, tls }
        }
    };
    server.exports().iter().map(|export| Served { export: export.name.clone(), at: place.clone() }).collect()
}

/// What is shown when it begins.
pub(super) struct Shown<'a> {
    pub(super) target: &'a str,
    pub(super) lent: Option<&'a Lent>,
    pub(super) exports: &'a [Export],
    pub(super) served: Vec<Served>,
    pub(super) machine_file: Option<&'a Path>,
}

impl Shown<'_> {
    fn document(&self) -> serde_json::Value {
        let export = |(export, served, disk): (&Export, &Served, Option<&LentDisk>)| {
            serde_json::json!({
                "name": export.name,
                "disk": disk.map(|disk| disk.id.clone()),
                "size": export.disk.size(),
                "boot": disk.and_then(|disk| disk.boot),
                "writable": export.writable.is_some(),
                "link": served.link(),
            })
        };
        let lent = serde_json::json!({
            "name": self.lent.map(Lent::name),
            "destination": self.lent.map(Lent::destination),
            "exports": self.rows().map(export).collect::<Vec<_>>(),
            "kept": self.lent.map(|lent| lent.kept.clone()),
            "goes_on": self.lent.is_some_and(|lent| lent.goes_on),
            "machine_file": self.machine_file,
            "verdict": self.lent.and_then(|lent| lent.verdict.clone()),
            "guest": self.lent.map(|lent| lent.guest.clone()),
            "findings": self.findings(),
        });
        serde_json::json!({ "schema": JSON_SCHEMA, "lent": lent })
    }

    fn findings(&self) -> Vec<FindingRecord> {
        self.lent.map(|lent| lent.findings.iter().map(Finding::record).collect()).unwrap_or_default()
    }

    pub(super) fn text(&self) -> String {
        let name = self.lent.map_or_else(|| printable(self.target), |lent| lent.name().into());
        let mut text = format!("{} {name}\n", paint(GOOD, "Lent"));
        if let Some(lent) = self.lent {
            text += &chain::verdict(lent.verdict.as_ref());
            let kept = quoted(&lent.kept.to_string_lossy());
            let how = if lent.goes_on { "goes on with what the guest wrote before" } else { "new" };
            text += &pairs(&[("writes", format!("{kept}  ({how})"))]);
        } else {
            text +=
                "Served as it is, for reading alone: a machine is made ready with --dest and --into, or by a brief.\n";
        }
        text += &heading("Exports");
        let row = |(export, served, disk): (&Export, &Served, Option<&LentDisk>)| {
            let boot = disk.and_then(|disk| disk.boot).map_or(String::new(), |boot| boot.to_string());
            let edits = disk.map_or(0, |disk| disk.edits.len());
            [printable(&served.link()), ByteSize(export.disk.size()).to_string(), edits.to_string(), boot]
        };
        text += &columns(["export", "size", "edits", "boot"], &self.rows().map(row).collect::<Vec<_>>(), &[1, 2]);
        if let Some(guest) = self.lent.map(|lent| &lent.guest) {
            text += &chain::edits(&guest.edits, "Changed inside the guest");
        }
        let findings = self.findings();
        if !findings.is_empty() {
            text += &heading("Findings");
            text += &output::findings(&findings);
        }
        text += &heading("Next");
        for line in self.next() {
            text += &format!("  {line}\n");
        }
        text
    }

    fn rows(&self) -> impl Iterator<Item = (&Export, &Served, Option<&LentDisk>)> {
        let disks = |index: usize| self.lent.and_then(|lent| lent.disks.get(index));
        self.exports
            .iter()
            .zip(&self.served)
            .enumerate()
            .map(move |(index, (export, served))| (export, served, disks(index)))
    }

    fn next(&self) -> [String; 2] {
        let attach = match (self.machine_file, self.lent) {
            (Some(path), _) => format!("virsh create {}", quoted(&path.to_string_lossy())),
            (None, Some(lent)) if lent.machine_file(&self.served).is_ok() => {
                "attach the exports to a machine there; --machine-file FILE writes one that does".into()
            }
            (None, Some(lent)) => format!("attach the exports as disks of a machine on {}", lent.destination()),
            (None, None) => "read the exports as network block devices".into(),
        };
        [attach, "Ctrl-C here, when its guest is shut down".into()]
    }
}

/// Shows how it stands until the person ends it; the source of a guest that writes has to stay what it is.
fn watch(server: &Server, is_kept: bool, session: &Session) -> Result<()> {
    let mut flushed = Instant::now();
    let mut looked = Instant::now();
    while !session.cancel.load(Ordering::Relaxed) {
        std::thread::sleep(SHOWN);
        let totals = Totals::of(server.exports());
        let open = totals.connections;
        let errors = if totals.errors == 0 { String::new() } else { format!(", {} failed", totals.errors) };
        session.progress.stands(&format!(
            "{open} {}, {} read, {} written{errors}",
            if open == 1 { "connection" } else { "connections" },
            ByteSize(totals.read),
            ByteSize(totals.written)
        ));
        if flushed.elapsed() >= FLUSHED {
            if let Err(error) = server.flush() {
                session.progress.say(&format!("What was written could not be flushed: {error}.\n"));
            }
            flushed = Instant::now();
        }
        if looked.elapsed() >= LOOKED && is_kept {
            for export in server.exports() {
                match export.disk.check_unchanged() {
                    // A guest that reads two versions of one disk is better stopped.
                    Err(error @ reformis_disk::Error::Changed { .. }) => return Err(error.into()),
                    // A network that is away for a while comes back.
                    Err(error) => tracing::warn!(%error, export = export.name, "the source could not be looked at"),
                    Ok(()) => {}
                }
            }
            looked = Instant::now();
        }
    }
    Ok(())
}

/// What was done with all exports.
struct Totals {
    connections: u64,
    read: u64,
    written: u64,
    errors: u64,
}

impl Totals {
    fn of(exports: &[Export]) -> Self {
        let sum = |count: fn(&Export) -> u64| exports.iter().map(count).sum();
        Self {
            connections: sum(|export| export.tally.connections()),
            read: sum(|export| export.tally.read()),
            written: sum(|export| export.tally.written()),
            errors: sum(|export| export.tally.errors()),
        }
    }
}

fn ended(args: &LendArgs, lent: Option<&Lent>, totals: &Totals, time: Duration) -> String {
    let mut text = format!("{}\n", paint(GOOD, "Ended"));
    let mut rows = vec![
        ("read", ByteSize(totals.read).to_string()),
        ("written", ByteSize(totals.written).to_string()),
        ("time", duration(time.as_secs_f64())),
    ];
    if totals.errors > 0 {
        rows.push(("failed", format!("{} of the guest's requests", totals.errors)));
    }
    if totals.connections > 0 {
        let open = totals.connections;
        let what = "still open: the guest finds its disks as after a loss of power";
        rows.push(("connections", format!("{open} {what}")));
    }
    let Some(lent) = lent else { return text + &pairs(&rows) };
    let room: u64 = lent.disks.iter().map(|disk| disk.scratch.room()).sum();
    let kept = quoted(&lent.kept.to_string_lossy());
    rows.push(("writes", format!("{kept}, {} on disk", ByteSize(room))));
    text += &pairs(&rows);
    text += &heading("Next");
    let target = quoted_target(&args.target.to_string_lossy());
    let how = match (&args.dest, &args.into) {
        (Some(dest), Some(into)) => format!("{target} --dest {dest} --into {}", quoted(&into.to_string_lossy())),
        _ => target,
    };
    text + &format!("  reformis carry {how} --with {kept}\n")
}
