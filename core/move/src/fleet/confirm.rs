//! Whether machines that were started answer: a port, a page, or a program of the site's that looks.

use std::{
    ffi::OsString,
    io::Read,
    net::{SocketAddr, TcpStream, ToSocketAddrs},
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
    /// What was asked: `port 10.0.0.5:22`, `ssh 10.0.0.5:22`, `page http://…`, `program ./look`.
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
    let patience = spec.row.confirm.as_ref().and_then(|confirm| patience(confirm.patience.as_ref(), ANSWER).ok());
    ask(machine, spec, keeper, wires, cancel, patience.unwrap_or(ANSWER).unsigned_abs())
}

/// As [`confirm`], by one try.
///
/// # Errors
/// As those of [`confirm`].
pub(super) fn once(
    machine: &Machine,
    spec: &Spec,
    keeper: Option<&[OsString]>,
    wires: &Wires,
    cancel: &AtomicBool,
) -> Result<Option<Answer>> {
    ask(machine, spec, keeper, wires, cancel, TRY)
}

fn ask(
    machine: &Machine,
    spec: &Spec,
    keeper: Option<&[OsString]>,
    wires: &Wires,
    cancel: &AtomicBool,
    wait: Duration,
) -> Result<Option<Answer>> {
    let Some(confirm) = &spec.row.confirm else { return Ok(None) };
    let asked = match confirm {
        Confirm { tcp: Some(tcp), .. } => format!("port {tcp}"),
        Confirm { ssh: Some(ssh), .. } => format!("ssh {ssh}"),
        Confirm { page: Some(page), .. } => format!("page {}", reformis_wire::without_secrets(page)),
        Confirm { program, .. } => {
            format!("program {}", program.as_ref().and_then(|program| program.first()).map_or("", String::as_str))
        }
    };
    if confirm.program.is_some() && keeper.is_none() {
        return Ok(None);
    }
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

/// A connection to `at`, `HOST:PORT`, by the first of its addresses that takes one.
fn connected(at: &str, patience: Duration) -> std::result::Result<(SocketAddr, TcpStream), String> {
    let addresses = at.to_socket_addrs().map_err(|error| error.to_string())?;
    let mut last = "its name has no address".to_string();
    for address in addresses {
        match TcpStream::connect_timeout(&address, patience) {
            Ok(stream) => return Ok((address, stream)),
            Err(error) => last = error.to_string(),
        }
    }
    Err(last)
}

/// The line by which a server of SSH tells its version: it may say others before, and each has 255 bytes at the most (RFC 4253, 4.2).
fn banner(stream: &TcpStream, patience: Duration) -> std::result::Result<String, String> {
    const MOST_LINES: usize = 50;
    let until = Instant::now() + patience;
    let mut lines = vec![Vec::new()];
    while lines.len() <= MOST_LINES {
        let left = until.saturating_duration_since(Instant::now());
        if left.is_zero() {
            break;
        }
        stream.set_read_timeout(Some(left)).map_err(|error| error.to_string())?;
        let mut byte = [0];
        match (&mut &*stream).read(&mut byte) {
            Ok(0) => break,
            Ok(_) => {}
            Err(error) => return Err(format!("it takes connections, and says nothing: {error}")),
        }
        let line = lines.last_mut().ok_or("it says nothing")?;
        match byte {
            [b'\n'] if line.starts_with(b"SSH-") => return Ok(printable(String::from_utf8_lossy(line).trim_end())),
            [b'\n'] => lines.push(Vec::new()),
            [byte] if line.len() < 255 => line.push(byte),
            _ => break,
        }
    }
    Err("it takes connections, and says nothing of SSH".into())
}

/// One try; what came back.
fn attempt(
    machine: &Machine,
    spec: &Spec,
    confirm: &Confirm,
    runner: &Runner<'_>,
    wires: &Wires,
) -> std::result::Result<String, String> {
    if let Some(at) = confirm.tcp.as_ref().or(confirm.ssh.as_ref()) {
        let (address, stream) = connected(at, TRY.min(runner.patience))?;
        return match confirm.ssh.is_some() {
            true => banner(&stream, TRY.min(runner.patience)).map(|banner| format!("{address} says {banner}")),
            false => Ok(format!("{address} takes connections")),
        };
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

#[cfg(test)]
mod tests {
    use std::{io::Write, net::TcpListener};

    use super::*;

    /// What is made of a server that says `pieces`, one after the other, and goes or stays.
    fn said(pieces: &[&[u8]], stays: bool) -> std::result::Result<String, String> {
        let listener = TcpListener::bind("127.0.0.1:0").unwrap();
        let at = listener.local_addr().unwrap().to_string();
        std::thread::scope(|scope| {
            scope.spawn(move || {
                let (mut stream, _) = listener.accept().unwrap();
                for piece in pieces {
                    stream.write_all(piece).ok();
                    std::thread::sleep(Duration::from_millis(5));
                }
                if stays {
                    std::thread::sleep(Duration::from_millis(400));
                }
            });
            banner(&connected(&at, TRY).unwrap().1, Duration::from_millis(300))
        })
    }

    #[test]
    fn a_server_of_ssh_is_known_by_its_line() {
        assert_eq!(said(&[b"SSH-2.0-tide_1\r\n"], true).unwrap(), "SSH-2.0-tide_1");
        assert_eq!(said(&[b"wel", b"come\r\nSS", b"H-2.0-a\x1b[2J\n"], false).unwrap(), "SSH-2.0-a\\u{1b}[2J");
        let long = vec![b'x'; 4000];
        let many = b"a\n".repeat(1000);
        for pieces in [&b"HTTP/1.1 400 Bad Request\r\n\r\n"[..], b"", b"SSH-2.0-cut", &long, &many] {
            assert!(said(&[pieces], false).is_err());
        }
        // One that says nothing does not keep us.
        let begun = Instant::now();
        assert!(said(&[b"SSH-"], true).is_err());
        assert!(begun.elapsed() < Duration::from_secs(5));
    }
}
