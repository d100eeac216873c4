//! A host that speaks the export protocol (`docs/export-protocol.md`): sessions, machines, exports with links that expire.

use std::{
    collections::BTreeMap,
    io::Read,
    sync::{Arc, Mutex, PoisonError, Weak},
    time::Duration,
};

use reformis_disk::{
    Result,
    budget::Budget,
    container::{Source, Stream},
    error::WireKind,
};
use serde::Deserialize;

use super::{Cargo, FarMachine, Host, Power, Row, cargo::Shipped, no_machine, runs};
use crate::{
    fault::Fault,
    http::{self, Opened, Relink, fault_of_io},
    link::{Link, escaped},
    secret::Secret,
    settings::HostSettings,
    wires::{Wires, link},
};

/// The longest answer, in bytes.
const MOST: u64 = 32 << 20;
/// How often a host is asked whether an export is ready.
const POLL: (Duration, Duration) = (Duration::from_millis(100), Duration::from_secs(5));

/// An answer that tells of an error.
#[derive(Debug, Default, Deserialize)]
struct Failure {
    #[serde(default)]
    code: String,
    #[serde(default)]
    sentence: String,
}

#[derive(Deserialize)]
struct Session {
    session: String,
}

#[derive(Deserialize)]
struct Machines {
    machines: Vec<Listed>,
}

#[derive(Deserialize)]
struct Listed {
    name: String,
    #[serde(default)]
    power: String,
    bytes: Option<u64>,
}

#[derive(Deserialize)]
#[serde(rename_all = "kebab-case")]
struct Whole {
    #[serde(default)]
    power: String,
    machine_file: Text,
}

#[derive(Deserialize)]
struct Text {
    name: String,
    text: String,
}

/// The state of an export.
#[derive(Deserialize)]
struct Export {
    export: String,
    state: String,
    #[serde(default)]
    done: u64,
    #[serde(default)]
    of: u64,
    #[serde(default)]
    why: String,
    #[serde(default)]
    consistency: String,
    #[serde(default)]
    files: Vec<File>,
}

#[derive(Deserialize)]
struct File {
    name: String,
    link: String,
}

/// A host that exports.
#[derive(Clone)]
pub(super) struct Exporter {
    wires: Wires,
    name: String,
    link: Link,
    session: Arc<Mutex<Option<Secret>>>,
}

impl Exporter {
    pub(super) fn new(wires: &Wires, name: &str, settings: &HostSettings) -> Result<Self> {
        let link = link(settings.at.as_deref().unwrap_or_default())?;
        Ok(Self { wires: wires.clone(), name: name.into(), link, session: Arc::default() })
    }

    fn at(&self, path: &str) -> Link {
        self.link.with_path(format!("{}{path}", self.link.path.trim_end_matches('/')))
    }

    /// Sends one request with `authorization`, and reads the answer: its status and its body.
    fn exchange(
        &self,
        method: &str,
        path: &str,
        body: &str,
        session: Option<&Secret>,
    ) -> Result<(u16, Vec<u8>), Fault> {
        let link = self.at(path);
        let client = self.wires.inner.client(&link, false)?;
        let authorization = session.map(|session| format!("Session {}", session.expose()));
        let mut extra = vec![("accept", "application/json")];
        if !body.is_empty() {
            extra.push(("content-type", "application/json"));
        }
        // A session takes the place of the token.
        extra.extend(authorization.as_ref().map(|text| ("authorization", text.as_str())));
        let mut response = client.send(method, &link, &extra, body.as_bytes())?;
        let status = response.status().as_u16();
        if matches!(status, 429 | 503) {
            return Err(http::fault_of_answer(status, response.headers(), true));
        }
        let mut bytes = Vec::new();
        response.body_mut().as_reader().take(MOST + 1).read_to_end(&mut bytes).map_err(|error| fault_of_io(&error))?;
        if bytes.len() as u64 > MOST {
            return Err(Fault::protocol("an answer has no end"));
        }
        Ok((status, bytes))
    }

    /// The session, opened where there is none; `ended` is the one that was refused.
    fn session(&self, ended: Option<&Secret>) -> Result<Secret, Fault> {
        let mut session = self.session.lock().unwrap_or_else(PoisonError::into_inner);
        if let Some(session) = session.as_ref().filter(|session| Some(*session) != ended) {
            return Ok(session.clone());
        }
        let (status, bytes) = self.exchange("POST", "/v1/session", "{}", None)?;
        let opened: Session = read(status, &bytes)?;
        let is_plain = opened.session.bytes().all(|byte| byte.is_ascii_graphic());
        if !is_plain || opened.session.is_empty() {
            return Err(Fault::protocol("the session that it opens has no sound name"));
        }
        Ok(session.insert(Secret::new(opened.session)).clone())
    }

    /// Asks within a session, which is opened anew when it has ended.
    fn ask<T: for<'de> Deserialize<'de>>(&self, method: &str, path: &str, body: &str) -> Result<T, Fault> {
        let session = self.session(None)?;
        let (status, bytes) = self.exchange(method, path, body, Some(&session))?;
        if status != 401 {
            return read(status, &bytes);
        }
        let session = self.session(Some(&session))?;
        let (status, bytes) = self.exchange(method, path, body, Some(&session))?;
        read(status, &bytes)
    }

    /// Has an export of `machine` made, and waits until it is ready.
    fn export(&self, machine: &str) -> Result<Export, Fault> {
        let while_running = self.wires.reads_running();
        let path = format!("/v1/machines/{}/exports", name_in_path(machine));
        let mut export: Export = self.ask("POST", &path, &format!("{{\"while-running\": {while_running}}}"))?;
        let mut wait = POLL.0;
        let mut told = None;
        while export.state == "making" {
            if told != Some(export.done) {
                let machine = reformis_disk::text::printable(machine);
                let (host, done, of) = (&self.name, export.done, export.of);
                (self.wires.inner.shared.tell)(&format!("{host} makes the export of {machine}: {done} of {of}"));
                told = Some(export.done);
            }
            if !self.wires.inner.shared.stop.sleep(wait) {
                return Err(Fault::again("we were asked to stop"));
            }
            wait = (wait * 2).min(POLL.1);
            export = self.ask("GET", &format!("/v1/exports/{}", name_in_path(&export.export)), "")?;
        }
        match export.state.as_str() {
            "ready" => Ok(export),
            "failed" => {
                Err(Fault::Fatal(WireKind::Refused, format!("the host could not make the export: {}", export.why)))
            }
            other => Err(Fault::protocol(format!("an export is '{other}', which is no state"))),
        }
    }

    /// The link of `file` that is good now.
    fn fresh(&self, export: &str, file: &str) -> Result<Link, Fault> {
        let state: Export = self.ask("POST", &format!("/v1/exports/{}/links", name_in_path(export)), "{}")?;
        let found = state.files.into_iter().find(|known| known.name == file);
        let found = found.ok_or_else(|| Fault::Changed("the export does not have it any more".into()))?;
        self.link_of(&found.link)
    }

    fn link_of(&self, text: &str) -> Result<Link, Fault> {
        let wrong = |_| Fault::protocol("it gives a link that is none");
        let link = if text.starts_with('/') && !text.starts_with("//") {
            let base = self.link.with_path("");
            Link::parse(&format!("{base}{text}")).map_err(wrong)?
        } else {
            Link::parse(text).map_err(wrong)?
        };
        let is_downgrade = self.link.scheme == crate::Scheme::Https && link.scheme != crate::Scheme::Https;
        match link.scheme.is_http() && !is_downgrade {
            true => Ok(link),
            false => Err(Fault::protocol("it gives a link that is not as safe as its own")),
        }
    }
}

/// A name as one part of a path.
fn name_in_path(name: &str) -> String {
    escaped(name).replace('/', "%2F")
}

/// What an answer holds.
fn read<T: for<'de> Deserialize<'de>>(status: u16, bytes: &[u8]) -> Result<T, Fault> {
    if (200..300).contains(&status) {
        return parse(bytes);
    }
    #[derive(Default, Deserialize)]
    struct Failed {
        #[serde(default)]
        error: Failure,
    }
    let failed: Failed = serde_json::from_slice(bytes).unwrap_or_default();
    let what = match failed.error.sentence.is_empty() {
        true => format!("the host answers {status}"),
        false => format!("the host says: {} ({status})", failed.error.sentence.chars().take(300).collect::<String>()),
    };
    Err(match (status, failed.error.code.as_str()) {
        (409, "running") => runs(true),
        (401 | 403, _) => Fault::Fatal(WireKind::Denied, what),
        (404, _) => Fault::Fatal(WireKind::Absent, what),
        (500.., _) => Fault::again(what),
        _ => Fault::Fatal(WireKind::Refused, what),
    })
}

fn parse<T: for<'de> Deserialize<'de>>(bytes: &[u8]) -> Result<T, Fault> {
    serde_json::from_slice(bytes).map_err(|_| Fault::protocol("its answer is not what the export protocol says"))
}

/// Reads `bytes` as each of the protocol's answers, as a fuzzer does.
pub fn read_answers(bytes: &[u8]) -> usize {
    let found = [
        parse::<Session>(bytes).is_ok(),
        parse::<Machines>(bytes).is_ok(),
        parse::<Whole>(bytes).is_ok(),
        parse::<Export>(bytes).is_ok(),
        read::<Export>(404, bytes).is_ok(),
    ];
    found.into_iter().filter(|found| *found).count()
}

impl Host for Exporter {
    fn list(&self) -> Result<Vec<Row>, Fault> {
        let machines: Machines = self.ask("GET", "/v1/machines", "")?;
        let row = |listed: Listed| Row {
            name: listed.name,
            power: Power::of_word(&listed.power),
            size: None,
            stored: listed.bytes,
        };
        Ok(machines.machines.into_iter().take(10_000).map(row).collect())
    }

    fn machine(&self, name: &str, budget: &Arc<Budget>) -> Result<FarMachine, Fault> {
        let whole: Result<Whole, Fault> = self.ask("GET", &format!("/v1/machines/{}", name_in_path(name)), "");
        let whole = whole.map_err(|fault| match fault {
            Fault::Fatal(WireKind::Absent, _) => no_machine(),
            fault => fault,
        })?;
        let files = Arc::new_cyclic(|me| Exported {
            host: self.clone(),
            machine: name.into(),
            budget: budget.clone(),
            export: Mutex::default(),
            me: me.clone(),
        });
        Ok(FarMachine {
            host: self.name.clone(),
            name: name.into(),
            power: Power::of_word(&whole.power),
            file: whole.machine_file.name,
            text: whole.machine_file.text.into_bytes(),
            files,
        })
    }

    fn about(&self) -> Result<Vec<String>, Fault> {
        let rows = self.list()?;
        let running = rows.iter().filter(|row| row.power == Power::Running).count();
        Ok(vec![
            format!("{} machines, {running} of them running", rows.len()),
            "exports by links that are renewed".into(),
        ])
    }
}

/// The files of a machine, exported when the first of them is asked for.
struct Exported {
    host: Exporter,
    machine: String,
    budget: Arc<Budget>,
    export: Mutex<Option<Made>>,
    me: Weak<Self>,
}

/// An export that was made.
struct Made {
    name: String,
    consistency: String,
    links: BTreeMap<String, Link>,
}

impl Exported {
    fn made(&self) -> Result<(String, BTreeMap<String, Link>), Fault> {
        let mut made = self.export.lock().unwrap_or_else(PoisonError::into_inner);
        if made.is_none() {
            let export = self.host.wires.inner.patient(|| self.host.export(&self.machine))?;
            let links = export.files.iter().map(|file| Ok((file.name.clone(), self.host.link_of(&file.link)?)));
            let links = links.collect::<Result<_, Fault>>()?;
            *made = Some(Made { name: export.export, consistency: export.consistency, links });
        }
        made.as_ref().map(|made| (made.name.clone(), made.links.clone())).ok_or_else(no_machine)
    }
}

impl Cargo for Exported {
    fn find(&self, name: &str) -> Result<Option<Source>> {
        let shown = format!("{}:{}/{name}", self.host.name, self.machine);
        let failed = |fault: Fault| fault.into_error("opening", &shown, None);
        let (export, links) = self.made().map_err(failed)?;
        let name = name.replace('\\', "/");
        let last = name.rsplit('/').next().unwrap_or(&name).to_string();
        let Some(file) = [name, last].into_iter().find(|name| links.contains_key(name)) else { return Ok(None) };
        let Some(link) = links.get(&file) else { return Ok(None) };
        let relink: Arc<dyn Relink> = self.host.wires.inner.clone();
        let (host, renewed) = (self.host.clone(), file.clone());
        let renewer: http::Renewer = Arc::new(move || host.fresh(&export, &renewed));
        let inner = &self.host.wires.inner;
        let opened =
            inner.patient(|| http::open(&relink, link, Some(renewer.clone()), inner.depth(link), &inner.shared));
        let me = self.me.upgrade().ok_or_else(|| failed(no_machine()))?;
        Ok(Some(match opened.map_err(failed)? {
            Opened::Ranges(remote) => {
                let storage = self.host.wires.steady(remote, &self.budget);
                Source::Storage(Shipped::shared(storage, shown, me))
            }
            Opened::Forward(forward) => Source::Stream(Stream::far(shown, forward, &self.budget)),
        }))
    }

    fn consistency(&self) -> Option<String> {
        let made = self.export.lock().unwrap_or_else(PoisonError::into_inner);
        let word = made.as_ref().map(|made| made.consistency.clone())?;
        match word.as_str() {
            "" | "off" => None,
            "frozen" => Some("its file systems were frozen by the host while the moment was taken".into()),
            "snapshot" => Some("it is one moment, as after a power cut".into()),
            other => Some(format!("the host calls it '{}'", reformis_disk::text::printable(other))),
        }
    }
}

impl Drop for Exported {
    fn drop(&mut self) {
        let made = self.export.get_mut().unwrap_or_else(PoisonError::into_inner).take();
        if let Some(made) = made {
            // What is left there is the host's own, which forgets it in time.
            let ended = self.host.ask::<serde::de::IgnoredAny>(
                "DELETE",
                &format!("/v1/exports/{}", name_in_path(&made.name)),
                "",
            );
            tracing::debug!(export = made.name, ok = ended.is_ok(), "the export is given back");
        }
    }
}
