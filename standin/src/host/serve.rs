//! The host itself: connections, sessions, and what each request comes to.

use std::{
    collections::BTreeMap,
    fs::File,
    io::{self, BufReader, BufWriter, Read, Seek, SeekFrom, Write},
    net::{SocketAddr, TcpListener, TcpStream},
    path::PathBuf,
    sync::{
        Arc, Mutex,
        atomic::{AtomicU32, AtomicU64, Ordering},
    },
    time::{Duration, SystemTime, UNIX_EPOCH},
};

use serde_json::{Value, json};

use super::{
    answer::{Answer, Sending, send},
    exports::Exports,
    faults::Faults,
    machines::{self, Machine},
    request::{Request, read},
};
use crate::listen::{Listening, lock};

/// How a host is set up.
#[derive(Debug, Clone)]
pub struct Options {
    /// The folder with the machines.
    pub data: PathBuf,
    /// Where it listens; port 0 for a free one.
    pub at: String,
    /// Who has this is let in.
    pub token: String,
    /// For how many seconds a session and a link are good.
    pub seconds: u64,
}

impl Options {
    /// A host of `data` on a free port of this machine alone.
    pub fn new(data: impl Into<PathBuf>) -> Self {
        Self { data: data.into(), at: "127.0.0.1:0".into(), token: "a-token-for-tests".into(), seconds: 600 }
    }
}

/// A host that runs until it is dropped.
pub struct Host {
    state: Arc<State>,
    listening: Listening,
}

struct State {
    options: Options,
    base: String,
    faults: Mutex<Faults>,
    exports: Mutex<Exports>,
    /// Sessions, and when they end.
    sessions: Mutex<BTreeMap<String, u64>>,
    /// Seconds by which the clock was moved.
    moved: AtomicU64,
    version: AtomicU32,
    /// Every request with all its headers, so that a test sees which secrets came here.
    log: Mutex<Vec<String>>,
}

impl Host {
    /// Starts one.
    ///
    /// # Errors
    /// Its place cannot be listened at.
    pub fn start(options: Options) -> io::Result<Self> {
        let listener = TcpListener::bind(&options.at)?;
        let address = listener.local_addr()?;
        let state = Arc::new(State {
            exports: Mutex::new(Exports::new(&options.token)),
            base: format!("http://{address}"),
            options,
            faults: Mutex::default(),
            sessions: Mutex::default(),
            moved: AtomicU64::new(0),
            version: AtomicU32::new(1),
            log: Mutex::default(),
        });
        let serving = state.clone();
        let listening = Listening::start(listener, move |stream| serving.talk(stream))?;
        Ok(Self { state, listening })
    }

    /// Its link.
    pub fn link(&self) -> String {
        self.state.base.clone()
    }

    /// Where it listens.
    pub fn address(&self) -> SocketAddr {
        self.listening.address()
    }

    /// Makes it do wrong from now on.
    pub fn go_wrong(&self, faults: Faults) {
        if faults.changed {
            self.state.version.fetch_add(1, Ordering::Relaxed);
        }
        *lock(&self.state.faults) = faults;
    }

    /// Moves its clock on.
    pub fn move_clock(&self, seconds: u64) {
        self.state.moved.fetch_add(seconds, Ordering::Relaxed);
    }

    /// Every request so far, with all its headers.
    pub fn log(&self) -> Vec<String> {
        lock(&self.state.log).clone()
    }

    /// Breaks all connections.
    pub fn cut(&self) {
        self.listening.cut();
    }
}

impl State {
    fn now(&self) -> u64 {
        let now = SystemTime::now().duration_since(UNIX_EPOCH).map_or(0, |now| now.as_secs());
        now + self.moved.load(Ordering::Relaxed)
    }

    fn talk(&self, stream: TcpStream) -> io::Result<()> {
        stream.set_nodelay(true)?;
        stream.set_read_timeout(Some(Duration::from_secs(120)))?;
        let (mut input, mut output) =
            (BufReader::new(stream.try_clone()?), BufWriter::with_capacity(128 << 10, stream));
        while let Some(request) = read(&mut input) {
            lock(&self.log).push(request.line());
            let faults = lock(&self.faults).clone();
            std::thread::sleep(Duration::from_millis(faults.slow));
            if faults.endless_headers {
                output.write_all(b"HTTP/1.1 200 -\r\n")?;
                loop {
                    output.write_all(b"X-More: and more and more and more and more and more\r\n")?;
                }
            }
            if let Some((times, seconds)) = faults.busy.filter(|(times, _)| *times > 0) {
                lock(&self.faults).busy = Some((times - 1, seconds));
                Answer::error(503, "busy", "the host is busy")
                    .with("Retry-After", seconds.to_string())
                    .write(&mut output)?;
                continue;
            }
            let is_file = request.path.contains("/files/") || request.path.starts_with("/plain/");
            if is_file && request.method == "GET" {
                if !self.send_file(&request, &faults, &mut output)? {
                    return Ok(());
                }
                continue;
            }
            self.answer(&request).write(&mut output)?;
        }
        Ok(())
    }

    /// Sends a file, or a part of it; whether the connection is whole afterwards.
    fn send_file(&self, request: &Request, faults: &Faults, output: &mut impl Write) -> io::Result<bool> {
        if let Some(elsewhere) = &faults.redirect {
            Answer::new(302, Value::Null).with("Location", format!("{elsewhere}{}", request.path)).write(output)?;
            return Ok(true);
        }
        let refuse = |status: u16, output: &mut _| {
            Answer::error(status, "no-file", "there is no such file, or the link is not good")
                .write(output)
                .map(|()| true)
        };
        let found = match request.path.strip_prefix("/plain/") {
            // Files as a plain server has them, for those who have the token.
            Some(path) => match self.is_let_in(request, "Bearer", &self.options.token) {
                true if !path.split('/').any(|part| part == "..") => Ok(self.options.data.join(path)),
                true => Err(404),
                false => Err(401),
            },
            None => {
                let (expires, sig) = (request.parameter("expires"), request.parameter("sig"));
                lock(&self.exports).file(&request.path, expires, sig, self.now())
            }
        };
        let path = match found {
            Ok(path) => path,
            Err(status) => return refuse(status, output),
        };
        if path.is_dir() {
            let mut names: Vec<_> = std::fs::read_dir(&path)?
                .flatten()
                .map(|entry| json!({ "name": entry.file_name().to_string_lossy() }))
                .collect();
            names.sort_by_key(ToString::to_string);
            Answer::new(200, Value::Array(names)).write(output)?;
            return Ok(true);
        }
        let Ok(mut file) = File::open(&path) else { return refuse(404, output) };
        let len = file.metadata()?.len();
        let tag = format!("\"v{}-{len}\"", self.version.load(Ordering::Relaxed));
        if request.headers.get("if-match").is_some_and(|wanted| *wanted != tag) {
            Answer::error(412, "changed", "it is another version").write(output)?;
            return Ok(true);
        }
        let mut sending =
            Sending { status: 200, headers: vec![format!("ETag: {tag}")], len, chunked: faults.chunked, cut: None };
        if let Some((mut first, mut last)) = request.range(len).filter(|_| !faults.no_ranges) {
            if faults.other_part && last + 1 < len {
                (first, last) = (first + 1, last + 1);
            }
            file.seek(SeekFrom::Start(first))?;
            sending.status = 206;
            sending.len = last - first + 1;
            sending.headers.push(format!("Content-Range: bytes {first}-{last}/{len}"));
        } else if request.headers.contains_key("range") && !faults.no_ranges {
            Answer::new(416, Value::Null).with("Content-Range", format!("bytes */{len}")).write(output)?;
            return Ok(true);
        }
        if let Some((bytes, times)) = faults.cut.filter(|(bytes, times)| *times > 0 && *bytes < sending.len) {
            lock(&self.faults).cut = Some((bytes, times - 1));
            sending.cut = Some(bytes);
        }
        if faults.gzip {
            let mut bytes = vec![0; sending.len as usize];
            file.read_exact(&mut bytes)?;
            let mut packed = vec![0; libdeflater::Compressor::default().gzip_compress_bound(bytes.len())];
            let len = libdeflater::Compressor::default().gzip_compress(&bytes, &mut packed);
            packed.truncate(len.map_err(|error| io::Error::other(error.to_string()))?);
            sending.headers.push("Content-Encoding: gzip".into());
            sending.len = packed.len() as u64;
            return send(output, &packed[..], &sending);
        }
        send(output, file, &sending)
    }

    fn is_let_in(&self, request: &Request, kind: &str, secret: &str) -> bool {
        request.headers.get("authorization").is_some_and(|value| *value == format!("{kind} {secret}"))
    }

    /// What a request of the protocol comes to.
    fn answer(&self, request: &Request) -> Answer {
        let parts: Vec<&str> = request.path.trim_start_matches('/').split('/').collect();
        if (request.method.as_str(), &parts[..]) == ("POST", &["v1", "session"]) {
            if !self.is_let_in(request, "Bearer", &self.options.token) {
                return Answer::error(401, "no-token", "the token is not one that is known here");
            }
            let session = format!("s-{}-{}", lock(&self.sessions).len() + 1, std::process::id());
            lock(&self.sessions).insert(session.clone(), self.now() + self.options.seconds);
            return Answer::new(201, json!({ "session": session, "seconds": self.options.seconds }));
        }
        let session = request.headers.get("authorization").and_then(|value| value.strip_prefix("Session "));
        let ends = session.and_then(|session| lock(&self.sessions).get(session).copied());
        if ends.is_none_or(|ends| ends <= self.now()) {
            return Answer::error(401, "no-session", "the session is not known, or has ended");
        }
        let machine = |name: &str| -> Option<Machine> {
            machines::all(&self.options.data).into_iter().find(|machine| machine.name == name)
        };
        let unknown = || Answer::error(404, "not-there", "there is nothing of this name");
        match (request.method.as_str(), &parts[..]) {
            ("GET", ["v1", "machines"]) => {
                let rows: Vec<_> = machines::all(&self.options.data).iter().map(Machine::row).collect();
                Answer::new(200, json!({ "machines": rows }))
            }
            ("GET", ["v1", "machines", name]) => {
                machine(name).map_or_else(unknown, |machine| Answer::new(200, machine.whole()))
            }
            ("POST", ["v1", "machines", name, "exports"]) => match machine(name) {
                Some(machine) => self.export(&machine, &request.body),
                None => unknown(),
            },
            ("GET", ["v1", "exports", name]) => self.state_of(name, 200).unwrap_or_else(unknown),
            ("POST", ["v1", "exports", name, "links"]) => self.state_of(name, 200).unwrap_or_else(unknown),
            ("DELETE", ["v1", "exports", name]) => match lock(&self.exports).end(name) {
                true => Answer::new(204, Value::Null),
                false => unknown(),
            },
            _ => unknown(),
        }
    }

    fn export(&self, machine: &Machine, body: &[u8]) -> Answer {
        let wishes: Value = match serde_json::from_slice(body) {
            Ok(wishes) => wishes,
            Err(_) => return Answer::error(400, "no-json", "the body is not JSON"),
        };
        let Some(while_running) = wishes.get("while-running").and_then(Value::as_bool) else {
            return Answer::error(400, "no-wish", "'while-running' is true or false");
        };
        let consistency = match (machine.power.as_str(), while_running) {
            ("running", true) => "frozen",
            ("running", false) => return Answer::error(409, "running", "the machine runs"),
            _ => "off",
        };
        let name = lock(&self.exports).begin(machine, consistency);
        self.state_of(&name, 202).unwrap_or_else(|| Answer::error(500, "lost", "the export is gone"))
    }

    fn state_of(&self, name: &str, status: u16) -> Option<Answer> {
        let (expires, seconds) = (self.now() + self.options.seconds, self.options.seconds);
        let state = lock(&self.exports).state(name, &self.base, expires, seconds)?;
        Some(Answer::new(status, state))
    }
}
