//! Everything but the landing, before the night: each machine is made ready, some of it is read, and where the fleet file names a program
//! for it, that starts it from lent disks or from a landing apart, and says whether it came up.

use std::{
    ffi::OsString,
    path::Path,
    sync::Arc,
    time::{Duration, Instant},
};

use jiff::Timestamp;
use reformis_disk::{Disk, ExtentKind, disk::extents, source::Links, text::printable};
use reformis_machine::{
    Site,
    domain::{Served, ServedAt},
};
use reformis_wire::nbd::serve::{At, Server};
use serde::{Deserialize, Serialize};
use serde_json::{Value, json};

use super::{
    error::FleetError,
    file::{Fleet, PROGRAM, Rehearsal, Spec, With, patience},
    look::{each, goes, look_and},
    program::{self, Runner},
};
use crate::{
    carry,
    error::{Error, Result},
    finding::{Finding, FindingRecord},
    lend,
    observer::Context,
    verdict::Verdict,
};

/// Of each machine so much is read, and for so long, at the most, to see how fast its host gives it.
const SAMPLE: u64 = 256 << 20;
const SAMPLE_TIME: Duration = Duration::from_secs(5);
/// Bytes of one read.
const PIECE: usize = 1 << 20;

/// How a rehearsal is made.
#[derive(Debug, Clone)]
pub struct Options {
    /// What the site adds.
    pub site: Site,
    /// Machines at the same time.
    pub at_once: usize,
    /// What keeps the program: the words that start [`super::keep`]; none where it may not run.
    pub keeper: Option<Vec<OsString>>,
}

/// How the rehearsal of a machine went.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Rehearsed {
    /// Its name.
    pub name: String,
    /// When it ended.
    pub at: Timestamp,
    /// Seconds that it took.
    pub seconds: f64,
    /// Whether a move would begin.
    pub goes: bool,
    /// Whether it boots where it goes, by the evidence.
    pub verdict: Option<Verdict>,
    /// What there is to say.
    pub findings: Vec<FindingRecord>,
    /// Bytes that will be carried, where that is known.
    pub bytes: Option<u64>,
    /// Bytes a second that its host gave.
    pub rate: Option<u64>,
    /// Seconds that its move will take, about.
    pub estimate: Option<f64>,
    /// Whether the site's program saw it come up, and what it said; none where none ran.
    pub came_up: Option<CameUp>,
    /// The stable word for what stops it, and the sentence.
    pub error: Option<(String, String)>,
    /// What helps.
    pub remedy: Option<String>,
}

/// What the site's program saw.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct CameUp {
    /// Whether the machine came up.
    pub well: bool,
    /// The last line that the program said, or how it ended.
    pub said: String,
    /// Seconds that it took.
    pub seconds: f64,
}

impl Rehearsed {
    /// Whether nothing speaks against the move.
    pub fn is_well(&self) -> bool {
        self.goes && self.error.is_none() && self.came_up.as_ref().is_none_or(|came_up| came_up.well)
    }
}

/// Rehearses the machines of `fleet` that `is_meant`; `tell` hears of each when it ends. Machines that run are read where their hosts can give
/// one moment of them.
///
/// # Errors
/// Interrupted. What is wrong with a machine is told of it.
pub fn rehearse(
    fleet: &Fleet,
    options: &Options,
    is_meant: impl Fn(&Spec) -> bool,
    context: &Context<'_>,
    tell: impl Fn(&Rehearsed) + Sync,
) -> Result<Vec<Rehearsed>> {
    let machines: Vec<&Spec> = fleet.machines.iter().filter(|spec| is_meant(spec)).collect();
    context.wires.read_running();
    let rehearsed = each(&machines, options.at_once, |spec| {
        if context.is_cancelled() {
            return None;
        }
        let rehearsed = one(fleet, spec, options, context);
        tell(&rehearsed);
        Some(rehearsed)
    });
    context.check()?;
    Ok(rehearsed.into_iter().flatten().collect())
}

fn one(fleet: &Fleet, spec: &Spec, options: &Options, context: &Context<'_>) -> Rehearsed {
    let begun = Instant::now();
    let mut rehearsed = Rehearsed {
        name: spec.row.name.clone(),
        at: Timestamp::now(),
        seconds: 0.0,
        goes: false,
        verdict: None,
        findings: Vec::new(),
        bytes: None,
        rate: None,
        estimate: None,
        came_up: None,
        error: None,
        remedy: None,
    };
    if let Err(error) = attempt(fleet, spec, options, context, &mut rehearsed) {
        if let Error::Refused { findings } = &error {
            rehearsed.findings = findings.iter().map(Finding::record).collect();
        }
        rehearsed.goes = false;
        rehearsed.remedy = error.remedy().map(str::to_string);
        rehearsed.error = Some((error.code().into(), error.to_string()));
    }
    (rehearsed.at, rehearsed.seconds) = (Timestamp::now(), begun.elapsed().as_secs_f64());
    rehearsed
}

fn attempt(
    fleet: &Fleet,
    spec: &Spec,
    options: &Options,
    context: &Context<'_>,
    rehearsed: &mut Rehearsed,
) -> Result<()> {
    let links = if spec.row.trust_links { Links::Trusted } else { Links::OwnFolder };
    let wrong = |what: String| Error::from(FleetError::File { file: fleet.name.clone(), what });
    let order = spec.order(context.wires).map_err(wrong)?;
    let (seen, rate) = look_and(&order, &options.site, links, true, context, sample)?;
    rehearsed.goes = goes(&seen.findings, &spec.row.accept);
    rehearsed.findings = seen.findings.iter().map(Finding::record).collect();
    (rehearsed.verdict, rehearsed.bytes, rehearsed.rate) = (seen.verdict, seen.bytes, rate?);
    #[expect(clippy::cast_precision_loss, reason = "an estimate")]
    let estimate = rehearsed.bytes.zip(rehearsed.rate).map(|(bytes, rate)| bytes as f64 / rate.max(1) as f64);
    rehearsed.estimate = estimate;
    let rehearsal = &fleet.rules.rehearsal;
    let Some((program, keeper)) = rehearsal.program.as_ref().zip(options.keeper.as_deref()).filter(|_| rehearsed.goes)
    else {
        return Ok(());
    };
    let stage = Stage { fleet, spec, options, rehearsal, program, keeper, links, context };
    match rehearsal.with {
        With::Lent => stage.lent(rehearsed),
        With::Copy => stage.copied(rehearsed),
    }
}

/// Reads some of what holds data on `disks`; bytes a second, where there was enough to say so.
#[expect(
    clippy::cast_possible_truncation,
    clippy::cast_precision_loss,
    clippy::cast_sign_loss,
    reason = "a rate that is told"
)]
fn sample(disks: &[Arc<dyn Disk>]) -> Result<Option<u64>> {
    let (begun, mut read, mut piece) = (Instant::now(), 0u64, vec![0; PIECE]);
    'all: for disk in disks {
        for extent in extents(disk.as_ref()) {
            let extent = extent?;
            if extent.kind != ExtentKind::Data {
                continue;
            }
            let mut at = extent.start;
            while at < extent.end() {
                let len = (extent.end() - at).min(PIECE as u64);
                let Some(piece) = piece.get_mut(..len as usize) else { break };
                disk.read_at(at, piece)?;
                (at, read) = (at + len, read + len);
                if read >= SAMPLE || begun.elapsed() >= SAMPLE_TIME {
                    break 'all;
                }
            }
        }
    }
    let seconds = begun.elapsed().as_secs_f64();
    Ok((read > 0 && seconds > 0.0).then(|| (read as f64 / seconds) as u64))
}

/// Where a machine is started for a rehearsal.
struct Stage<'a> {
    fleet: &'a Fleet,
    spec: &'a Spec,
    options: &'a Options,
    rehearsal: &'a Rehearsal,
    program: &'a [String],
    keeper: &'a [OsString],
    links: Links,
    context: &'a Context<'a>,
}

impl Stage<'_> {
    /// Lends the disks at a socket that only we may use, and keeps what is written to them apart; all of it goes afterwards.
    fn lent(&self, rehearsed: &mut Rehearsed) -> Result<()> {
        let (spec, context) = (self.spec, self.context);
        let apart = tempfile::Builder::new()
            .prefix("reformis-rehearsal-")
            .tempdir()
            .map_err(Error::io("making", &std::env::temp_dir()))?;
        let wrong = |what: String| Error::from(FleetError::File { file: self.fleet.name.clone(), what });
        let options = lend::Options {
            order: spec.order(context.wires).map_err(wrong)?,
            site: self.options.site.clone(),
            accept: spec.row.accept.clone(),
            links: self.links,
            kept: Some(apart.path().join("kept")),
        };
        let lent = lend::lend(&options, context)?;
        let socket = apart.path().join("lent.sock");
        let tell = |event| tracing::debug!(?event, "a rehearsal's disk");
        let server = Server::start(&At::Socket(socket.clone()), lent.exports(), None, Arc::new(tell))?;
        let at = ServedAt::Socket(socket.to_string_lossy().into_owned());
        let served: Vec<Served> =
            server.exports().iter().map(|export| Served { export: export.name.clone(), at: at.clone() }).collect();
        let machine_file = match lent.machine_file(&served) {
            Ok(text) => {
                let path = apart.path().join(format!("{}.xml", spec.row.name));
                std::fs::write(&path, text).map_err(Error::io("writing", &path))?;
                Some(path)
            }
            // Its kind of host has no word for disks that are served.
            Err(Error::NoWordForServed { .. }) => None,
            Err(error) => return Err(error),
        };
        let disk = |(served, disk): (&Served, &lend::LentDisk)| json!({ "disk": disk.id, "boot": disk.boot, "link": served.link(), "export": served.export });
        let disks: Vec<Value> = served.iter().zip(&lent.disks).map(disk).collect();
        let told = self.run(json!({ "disks": disks, "socket": socket, "machine-file": machine_file }));
        server.end()?;
        drop(lent);
        rehearsed.came_up = Some(told?);
        apart.close().map_err(Error::io("removing", &std::env::temp_dir()))
    }

    /// Makes a landing in a hidden folder beside where it is to land, for as long as the program takes.
    fn copied(&self, rehearsed: &mut Rehearsed) -> Result<()> {
        let (spec, context) = (self.spec, self.context);
        let into = spec.into();
        // What is there already: a rehearsal makes no folder that stays.
        let beside = into.ancestors().find(|folder| folder.is_dir()).unwrap_or(Path::new("/"));
        let apart = tempfile::Builder::new()
            .prefix(&format!(".{}.rehearsal-", spec.row.name))
            .tempdir_in(beside)
            .map_err(Error::io("making", beside))?;
        let wrong = |what: String| Error::from(FleetError::File { file: self.fleet.name.clone(), what });
        let options = carry::Options {
            order: spec.apart(apart.path()).order(context.wires).map_err(wrong)?,
            site: self.options.site.clone(),
            accept: spec.row.accept.clone(),
            force: false,
            links: self.links,
            resume: false,
            with: None,
            job: None,
            is_second: false,
            bitmap: None,
            off_since: None,
        };
        let begun = Instant::now();
        let landing = carry::carry(&options, context)?;
        // What was measured is worth more than what was guessed.
        rehearsed.estimate = Some(begun.elapsed().as_secs_f64());
        rehearsed.verdict.clone_from(&landing.receipt.verdict);
        rehearsed.came_up = Some(self.run(json!({ "landing": landing.folder }))?);
        apart.close().map_err(Error::io("removing", beside))
    }

    /// Has the program start it.
    fn run(&self, more: Value) -> Result<CameUp> {
        let spec = self.spec;
        let mut input = json!({
            "event": "rehearse",
            "fleet": self.fleet.name,
            "machine": spec.row.name,
            "group": spec.row.group,
            "source": spec.shown_source(),
            "destination": spec.destination(),
            "time": Timestamp::now(),
        });
        if let (Some(input), Some(more)) = (input.as_object_mut(), more.as_object()) {
            input.extend(more.clone());
        }
        let wait = patience(self.rehearsal.patience.as_ref(), PROGRAM).unwrap_or(PROGRAM).unsigned_abs();
        let runner = Runner { keeper: self.keeper, patience: wait, cancel: self.context.cancel };
        let begun = Instant::now();
        let said = program::run(self.program, &self.fleet.rules.folder, &input, &runner);
        let seconds = begun.elapsed().as_secs_f64();
        match said {
            Ok(lines) => {
                let said = lines.last().map_or("it ended well".into(), |line| printable(line));
                Ok(CameUp { well: true, said, seconds })
            }
            Err(error) if error.is_interrupted() => Err(error),
            Err(error) => Ok(CameUp { well: false, said: printable(&error.to_string()), seconds }),
        }
    }
}

/// Seconds that the night will take, about, with `at_once` machines at the same time; none where nothing is known of one of them.
#[expect(clippy::cast_precision_loss, reason = "an estimate")]
pub fn night_of(rehearsed: &[Rehearsed], at_once: usize) -> Option<f64> {
    let times: Option<Vec<f64>> = rehearsed.iter().map(|rehearsed| rehearsed.estimate).collect();
    let times = times.filter(|times| !times.is_empty())?;
    let longest = times.iter().copied().fold(0.0, f64::max);
    Some((times.iter().sum::<f64>() / at_once.max(1) as f64).max(longest))
}
