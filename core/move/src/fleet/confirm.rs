//! Whether machines that were started answer: a port, a page, or a program of the site's that looks.

use std::{
    ffi::OsString,
    net::{TcpStream, ToSocketAddrs},
    sync::atomic::{AtomicBool, Ordering},
    time::{Duration, Instant},
};

use jiff::Timestamp;
use reformis_disk::text::printable;
use reformis_wire::Wires;
use serde::{Deserialize, Serialize};
use serde_json::json;

use super::{
    file::{ANSWER, Confirm, Spec, patience},
    look::each,
    program::{self, Runner},
    state::Machine,
};
use crate::error::{Error, Result};

/// How long one try may take.
const TRY: Duration = Duration::from_secs(5);
/// How long it is waited between tries.
const PAUSE: Duration = Duration::from_secs(1);

/// Whether a machine answered.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Answer {
    /// Whether it did.
    pub answers: bool,
    /// What was asked: `port 10.0.0.5:22`, `page http://…`, `program ./look`.
    pub asked: String,
    /// What came back, as the end of a sentence.
    pub what: String,
    /// When that was.
    pub at: Timestamp,
    /// Seconds until it answered, or until it was given up.
    pub seconds: f64,
}

/// Asks the machine of `spec`; none where its file does not say how. Programs run only where there is a `keeper` for them: the words that
/// start [`super::keep`].
///
/// # Errors
/// Interrupted. That it does not answer is no error.
pub fn confirm(
    machine: &Machine,
    spec: &Spec,
    keeper: Option<&[OsString]>,
    wires: &Wires,
    cancel: &AtomicBool,
) -> Result<Option<Answer>> {
    let Some(confirm) = &spec.row.confirm else { return Ok(None) };
    let asked = match confirm {
        Confirm { tcp: Some(tcp), .. } => format!("port {tcp}"),
        Confirm { page: Some(page), .. } => format!("page {}", reformis_wire::without_secrets(page)),
        Confirm { program, .. } => {
            format!("program {}", program.as_ref().and_then(|program| program.first()).map_or("", String::as_str))
        }
    };
    if confirm.program.is_some() && keeper.is_none() {
        return Ok(None);
    }
    let wait = patience(confirm.patience.as_ref(), ANSWER).unwrap_or(ANSWER).unsigned_abs();
    let begun = Instant::now();
    loop {
        let left = wait.saturating_sub(begun.elapsed());
        let runner = Runner { keeper: keeper.unwrap_or_default(), patience: left.max(PAUSE), cancel };
        let tried = attempt(machine, spec, confirm, &runner, wires);
        if cancel.load(Ordering::Relaxed) {
            return Err(reformis_disk::Error::Interrupted.into());
        }
        if tried.is_ok() || begun.elapsed() + PAUSE >= wait {
            let (answers, what) = tried.map_or_else(|what| (false, what), |what| (true, what));
            let (at, seconds) = (Timestamp::now(), begun.elapsed().as_secs_f64());
            return Ok(Some(Answer { answers, asked, what: printable(&what), at, seconds }));
        }
        std::thread::sleep(PAUSE);
    }
}

/// Machines that are asked at the same time.
const AT_ONCE: usize = 16;

/// Asks many at the same time: a machine that is silent keeps no other waiting.
pub fn all<T: Sync, R: Send>(machines: &[T], ask: impl Fn(&T) -> R + Sync) -> Vec<R> {
    each(machines, AT_ONCE, ask)
}

/// One try; what came back.
fn attempt(
    machine: &Machine,
    spec: &Spec,
    confirm: &Confirm,
    runner: &Runner<'_>,
    wires: &Wires,
) -> std::result::Result<String, String> {
    if let Some(tcp) = &confirm.tcp {
        let addresses = tcp.to_socket_addrs().map_err(|error| error.to_string())?;
        let mut last = "its name has no address".to_string();
        for address in addresses {
            match TcpStream::connect_timeout(&address, TRY.min(runner.patience)) {
                Ok(_) => return Ok(format!("{address} takes connections")),
                Err(error) => last = error.to_string(),
            }
        }
        return Err(last);
    }
    if let Some(page) = &confirm.page {
        return wires.page(page).map_err(|error| error.to_string());
    }
    let program = confirm.program.as_deref().unwrap_or_default();
    let input = json!({ "event": "confirm", "machine": machine.name, "landing": machine.landing, "destination": spec.destination() });
    let said = program::run(program, &spec.folder, &input, runner);
    said.map(|lines| lines.last().cloned().unwrap_or_else(|| "it ended well".into()))
        .map_err(|error: Error| error.to_string())
}
