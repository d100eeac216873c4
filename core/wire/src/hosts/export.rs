//! A host that speaks the export protocol (`docs/export-protocol.md`): sessions, machines, exports with links that expire.

use std::{
    collections::BTreeMap,
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

use super::{Cargo, FarMachine, Host, Power, Row, Shipped, no_machine, runs};
use crate::{
    fault::Fault,
    http::{self, Opened, Relink},
    link::Link,
    mapped::{Map, Mapped},
    remote::Remote,
    service::{self, No, Service, name_in_path, parse},
    settings::HostSettings,
    wires::{Wires, link},
};

/// How often a host is asked whether an export is ready.
const POLL: (Duration, Duration) = (Duration::from_millis(100), Duration::from_secs(5));

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
    /// The link of a map of the pages that hold data.
    map: Option<String>,
}

/// A host that exports.
#[derive(Clone)]
pub(super) struct Exporter {
    wires: Wires,
    name: String,
    link: Link,
    service: Service,
    /// Whether one moment of a machine that runs is to be had without being asked for.
    is_cloud: bool,
}

impl Exporter {
    pub(super) fn new(wires: &Wires, name: &str, settings: &HostSettings) -> Result<Self> {
        Self::at(wires, name, settings.at.as_deref().unwrap_or_default(), false)
    }

    /// The cloud at the link `at`: it makes a snapshot of whatever runs.
    pub(super) fn of_cloud(wires: &Wires, name: &str, at: &str) -> Result<Self> {
        Self::at(wires, name, at, true)
    }

    fn at(wires: &Wires, name: &str, at: &str, is_cloud: bool) -> Result<Self> {
        let link = link(at)?;
        Ok(Self { wires: wires.clone(), name: name.into(), service: Service::new(wires, &link), link, is_cloud })
    }

    /// Has an export of `machine` made, and waits until it is ready.
    fn export(&self, machine: &str) -> Result<Export, Fault> {
        let while_running = self.is_cloud || self.wires.reads_running();
        let path = format!("/v1/machines/{}/exports", name_in_path(machine));
        let begun = self.service.ask("POST", &path, &format!("{{\"while-running\": {while_running}}}"));
        let mut export: Export = begun.map_err(|no| match no {
            No::Said(409, failure) if failure.code == "running" => runs(true),
            no => no.into(),
        })?;
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
            export = self.service.ask("GET", &format!("/v1/exports/{}", name_in_path(&export.export)), "")?;
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
        let state: Export = self.service.ask("POST", &format!("/v1/exports/{}/links", name_in_path(export)), "{}")?;
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

/// Reads `bytes` as each of the protocol's answers, as a fuzzer does.
pub fn read_answers(bytes: &[u8]) -> usize {
    let found = [
        service::opens_session(bytes),
        parse::<Machines>(bytes).is_ok(),
        parse::<Whole>(bytes).is_ok(),
        parse::<Export>(bytes).is_ok(),
        parse::<Map>(bytes).is_ok_and(|map| map.sound(1 << 40).is_some()),
        service::read::<Export>(404, bytes).is_ok(),
    ];
    found.into_iter().filter(|found| *found).count()
}

impl Host for Exporter {
    fn list(&self) -> Result<Vec<Row>, Fault> {
        let machines: Machines = self.service.ask("GET", "/v1/machines", "")?;
        let row = |listed: Listed| Row {
            name: listed.name,
            power: Power::of_word(&listed.power),
            size: None,
            stored: listed.bytes,
        };
        Ok(machines.machines.into_iter().take(10_000).map(row).collect())
    }

    fn machine(&self, name: &str, budget: &Arc<Budget>) -> Result<FarMachine, Fault> {
        let whole = self.service.ask("GET", &format!("/v1/machines/{}", name_in_path(name)), "");
        let whole: Whole = whole.map_err(|no| match Fault::from(no) {
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
    links: BTreeMap<String, Ways>,
}

/// The links of a file, and of its map.
type Ways = (Link, Option<Link>);

impl Exported {
    fn made(&self) -> Result<(String, BTreeMap<String, Ways>), Fault> {
        let mut made = self.export.lock().unwrap_or_else(PoisonError::into_inner);
        if made.is_none() {
            let export = self.host.wires.inner.patient(|| self.host.export(&self.machine))?;
            let map = |file: &File| file.map.as_ref().map(|map| self.host.link_of(map)).transpose();
            let ways = |file: &File| Ok((file.name.clone(), (self.host.link_of(&file.link)?, map(file)?)));
            let links = export.files.iter().map(ways);
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
        let Some((link, map)) = links.get(&file) else { return Ok(None) };
        let relink: Arc<dyn Relink> = self.host.wires.inner.clone();
        let (host, renewed) = (self.host.clone(), file.clone());
        let renewer: http::Renewer = Arc::new(move || host.fresh(&export, &renewed));
        let inner = &self.host.wires.inner;
        let opened =
            inner.patient(|| http::open(&relink, link, Some(renewer.clone()), inner.depth(link), &inner.shared));
        let me = self.me.upgrade().ok_or_else(|| failed(no_machine()))?;
        Ok(Some(match opened.map_err(failed)? {
            Opened::Ranges(remote) => {
                let remote: Arc<dyn Remote> = match map {
                    Some(map) => {
                        let map = inner.patient(|| self.host.service.fetch(map)).map_err(failed)?;
                        Mapped::shared(remote, map).map_err(failed)?
                    }
                    None => remote,
                };
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
            let ended = self.host.service.ask::<serde::de::IgnoredAny>(
                "DELETE",
                &format!("/v1/exports/{}", name_in_path(&made.name)),
                "",
            );
            tracing::debug!(export = made.name, ok = ended.is_ok(), "the export is given back");
        }
    }
}
