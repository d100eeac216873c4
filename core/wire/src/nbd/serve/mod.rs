//! Disks served to others, as exports of a server of network block devices.
//!
//! Each connection has a thread that reads its requests and a few that do them and reply in any order. All connections of
//! an export see the same disk, and a flush on one covers what was written on all ("Multi-conn": any number may be open).
//! Without TLS it listens on loopback and at socket files alone: the protocol knows no passwords.

mod requests;
mod socket;
mod talk;
mod tally;
mod tls;

use std::{
    sync::{
        Arc, Mutex, PoisonError,
        atomic::{AtomicBool, Ordering},
    },
    thread::JoinHandle,
    time::{Duration, Instant},
};

use reformis_disk::{Disk, Error, error::WireKind, scratch::Writable};

pub use tally::Tally;
pub use tls::Guard;

use crate::fault::Fault;
use socket::{Deadline, Listener, Socket};
use talk::{Chosen, Next, Talk};

/// The most connections at the same time: each takes some threads and a MiB or two.
const MOST: usize = 64;
/// How long a client may be silent before it has chosen an export.
const PATIENCE: Duration = Duration::from_secs(10);
/// How long all of that may take together, for one that is not let in yet.
const GREETING: Duration = Duration::from_secs(10);
/// Clients that are not let in yet, besides.
const AT_THE_DOOR: usize = 64;
/// How long a client may take nothing that is sent to it.
const STUCK: Duration = Duration::from_secs(300);
/// How long clients are given their last answers when the server ends.
const LAST: Duration = Duration::from_secs(5);

/// A disk that is served.
#[derive(Clone)]
pub struct Export {
    /// What clients call it.
    pub name: String,
    /// Its bytes.
    pub disk: Arc<dyn Disk>,
    /// The same disk, where it can be written.
    pub writable: Option<Arc<dyn Writable>>,
    /// What is done with it.
    pub tally: Arc<Tally>,
}

impl Export {
    /// A disk that can only be read.
    pub fn read_only(name: impl Into<String>, disk: Arc<dyn Disk>) -> Self {
        Self { name: name.into(), disk, writable: None, tally: Arc::default() }
    }

    /// A disk that can be written.
    pub fn writable(name: impl Into<String>, disk: Arc<dyn Writable>) -> Self {
        Self { name: name.into(), disk: disk.clone(), writable: Some(disk), tally: Arc::default() }
    }
}

/// Where a server listens.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum At {
    /// A socket file.
    Socket(std::path::PathBuf),
    /// `HOST:PORT`; port 0 takes any that is free.
    Port(String),
}

/// What happens at a server.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Event {
    /// A client was not let in, broke the protocol's rules, or was cut off.
    Refused {
        /// Who: an address, or what a socket file tells of the process.
        peer: String,
        /// Why, as the end of a sentence that is safe to show.
        why: String,
    },
    /// A disk could not be read or written.
    Trouble {
        /// The export.
        export: String,
        /// What happened, as a sentence that is safe to show.
        what: String,
    },
}

/// What is told as it happens.
pub type Tell = Arc<dyn Fn(Event) + Send + Sync>;

/// A server that runs.
pub struct Server {
    at: At,
    ending: Arc<AtomicBool>,
    listening: Option<JoinHandle<()>>,
    exports: Arc<Vec<Export>>,
}

/// What every connection is given.
struct House {
    exports: Arc<Vec<Export>>,
    guard: Option<Guard>,
    tell: Tell,
    ending: Arc<AtomicBool>,
}

impl Server {
    /// Begins to serve `exports` at `at`, to those that `guard` lets in.
    ///
    /// # Errors
    /// An address that others can reach without a guard; what the system says of it.
    pub fn start(at: &At, exports: Vec<Export>, guard: Option<Guard>, tell: Tell) -> Result<Self, Error> {
        Self::start_for(at, None, exports, guard, tell)
    }

    /// As [`Server::start`]; a socket file may be used by `group`, too.
    ///
    /// # Errors
    /// As those of [`Server::start`].
    pub fn start_for(
        at: &At,
        group: Option<u32>,
        exports: Vec<Export>,
        guard: Option<Guard>,
        tell: Tell,
    ) -> Result<Self, Error> {
        let listener = Listener::bind(at, group, guard.is_some())?;
        let at = listener.at()?;
        let exports = Arc::new(exports);
        let ending = Arc::new(AtomicBool::new(false));
        let house = House { exports: exports.clone(), guard, tell, ending: ending.clone() };
        let listening = std::thread::spawn(move || listen(&listener, &Arc::new(house)));
        Ok(Self { at, ending, listening: Some(listening), exports })
    }

    /// Where it listens: with the port that it was given.
    pub fn at(&self) -> &At {
        &self.at
    }

    /// What it serves.
    pub fn exports(&self) -> &[Export] {
        &self.exports
    }

    /// Flushes what was written.
    ///
    /// # Errors
    /// Those of [`Writable::flush`], the first one.
    pub fn flush(&self) -> Result<(), Error> {
        let flushed: Vec<_> =
            self.exports.iter().filter_map(|export| export.writable.as_ref()).map(|disk| disk.flush()).collect();
        flushed.into_iter().collect()
    }

    /// Ends: what clients asked for is done, nothing further is taken, and what was written is flushed.
    ///
    /// # Errors
    /// Those of [`Server::flush`].
    pub fn end(mut self) -> Result<(), Error> {
        self.close();
        self.flush()
    }

    fn close(&mut self) {
        self.ending.store(true, Ordering::Relaxed);
        if let Some(thread) = self.listening.take() {
            thread.join().ok();
        }
    }
}

impl Drop for Server {
    fn drop(&mut self) {
        self.close();
    }
}

/// Takes connections until the server ends, and then ends those that are open.
fn listen(listener: &Listener, house: &Arc<House>) {
    let mut open: Vec<Guest> = Vec::new();
    while !house.ending.load(Ordering::Relaxed) {
        open.retain(|guest| !guest.thread.is_finished());
        let (socket, peer) = match listener.accept() {
            Ok(Some(came)) => came,
            Ok(None) => continue,
            // Short of files or memory: those that are open go on, and may end.
            Err(error) => {
                tracing::warn!(%error, "no connection could be taken");
                std::thread::sleep(Duration::from_millis(200));
                continue;
            }
        };
        // Places are for clients that were let in. Who says nothing keeps no other out: of those the one goes that has been at the door longest.
        let is_waiting = |guest: &Guest| !guest.is_in.load(Ordering::Relaxed);
        let waiting = open.iter().filter(|guest| is_waiting(guest)).count();
        if open.len() - waiting >= MOST {
            (house.tell)(Event::Refused { peer, why: format!("{MOST} connections are open already") });
            continue;
        }
        if waiting >= AT_THE_DOOR
            && let Some(at) = open.iter().position(is_waiting)
        {
            // Its thread ends by itself, once it is told that nobody is there.
            open.remove(at).socket.end();
        }
        let is_in = Arc::new(AtomicBool::new(false));
        let (Ok(own), house, let_in) = (socket.try_clone(), house.clone(), is_in.clone()) else { continue };
        let serve = move || {
            if let Err(fault) = connection(own, &peer, &house, &let_in)
                && !house.ending.load(Ordering::Relaxed)
            {
                tracing::info!(peer, why = fault.what(), "a connection ended");
                (house.tell)(Event::Refused { peer, why: fault.what() });
            }
        };
        match std::thread::Builder::new().spawn(serve) {
            Ok(thread) => open.push(Guest { thread, socket, is_in }),
            Err(error) => tracing::warn!(%error, "no thread for a connection"),
        }
    }
    for guest in &open {
        // What was asked for is still answered.
        guest.socket.end_reading();
    }
    let until = Instant::now() + LAST;
    while Instant::now() < until && open.iter().any(|guest| !guest.thread.is_finished()) {
        std::thread::sleep(Duration::from_millis(10));
    }
    for guest in open {
        // Whoever takes no answers is not waited for.
        guest.socket.end();
        guest.thread.join().ok();
    }
}

/// Somebody who came.
struct Guest {
    thread: JoinHandle<()>,
    socket: Socket,
    /// Whether an export was chosen, and before that a certificate shown where one is wanted.
    is_in: Arc<AtomicBool>,
}

/// One client, from its greeting to its end; `is_in` says when it was let in.
fn connection(socket: Socket, peer: &str, house: &House, is_in: &AtomicBool) -> Result<(), Fault> {
    let gone = |error: std::io::Error| crate::http::fault_of_io(&error);
    socket.set_patience(Some(PATIENCE), Some(STUCK)).map_err(gone)?;
    let mut talk = Talk::new(&house.exports, house.guard.is_some());
    let until = Instant::now() + GREETING;
    let mut plain = Deadline::new(socket.try_clone().map_err(gone)?, until);
    talk.greet(&mut plain)?;
    let (chosen, halves) = match talk.options(&mut plain)? {
        Next::Chosen(chosen) => (chosen, socket.try_clone().and_then(Socket::halves).map_err(gone)?),
        Next::Ended => return Ok(()),
        Next::StartTls => {
            let Some(guard) = &house.guard else { return Err(Fault::protocol("it asks for TLS that is not there")) };
            let mut tls = guard.greet(socket.try_clone().map_err(gone)?, until)?;
            socket.set_patience(Some(PATIENCE), Some(STUCK)).map_err(gone)?;
            match talk.options(&mut tls)? {
                Next::Chosen(chosen) => (chosen, tls.halves()),
                Next::Ended => return Ok(()),
                Next::StartTls => return Err(Fault::protocol("it asks for TLS a second time")),
            }
        }
    };
    is_in.store(true, Ordering::Relaxed);
    // A guest may have nothing to read for days.
    socket.set_patience(None, Some(STUCK)).map_err(gone)?;
    serve(&chosen, peer, halves, house)
}

fn serve(chosen: &Chosen, peer: &str, halves: socket::Halves, house: &House) -> Result<(), Fault> {
    let export = &chosen.export;
    tracing::info!(peer, export = export.name, "a client came");
    export.tally.came();
    let told = Mutex::new(None);
    let trouble = |what: String| {
        export.tally.failed();
        // A disk that cannot be read fails often, with the same words.
        let mut last = told.lock().unwrap_or_else(PoisonError::into_inner);
        if last.as_ref() != Some(&what) {
            tracing::warn!(export = export.name, what, "a request failed");
            *last = Some(what.clone());
            (house.tell)(Event::Trouble { export: export.name.clone(), what });
        }
    };
    let outcome = requests::serve(chosen, halves, &trouble);
    // A client that is gone may come back after we ended.
    if let Some(Err(error)) = export.writable.as_ref().map(|disk| disk.flush()) {
        trouble(reformis_disk::text::printable(&error.to_string()));
    }
    export.tally.left();
    tracing::info!(peer, export = export.name, "a client has gone");
    outcome
}

/// Serves `disk` to a client that says `input`, as its bytes are in a fuzzer; the bytes that it is sent.
///
/// # Errors
/// What the protocol's errors are.
pub fn answer(input: &[u8], disk: Arc<dyn Writable>) -> Result<Vec<u8>, Fault> {
    let sent = socket::Recorded::default();
    let mut both = socket::Said::new(input.to_vec(), sent.clone());
    let exports = vec![Export::writable("disk", disk)];
    let mut talk = Talk::new(&exports, false);
    talk.greet(&mut both)?;
    if let Next::Chosen(chosen) = talk.options(&mut both)? {
        requests::serve(&chosen, both.halves(), &|_| {})?;
    }
    Ok(sent.bytes())
}

/// An error of the settings of a server.
fn wrong(place: &str, what: impl Into<String>) -> Error {
    Fault::Fatal(WireKind::Settings, what.into()).into_error("listening at", place, None)
}
