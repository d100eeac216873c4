//! The cloud itself: connections, sessions, and what each request comes to.

use std::{
    collections::{BTreeMap, BTreeSet},
    fs::{self, File},
    io::{self, BufReader, BufWriter, Seek, SeekFrom, Write},
    net::{TcpListener, TcpStream},
    path::PathBuf,
    sync::{
        Arc, Mutex,
        atomic::{AtomicU64, Ordering},
    },
    time::{Duration, SystemTime, UNIX_EPOCH},
};

use serde_json::{Value, json};

use super::{
    fixed,
    imports::{self, Image, Import},
    instances::Instances,
    object,
    rules::Rules,
};
use crate::{
    host::{
        answer::{Answer, Sending, send},
        exports::Exports,
        machines::Machine,
        request::{Request, read},
    },
    listen::{Listening, lock, takes},
    store::{self, Store},
};

/// How a cloud is set up.
#[derive(Debug, Clone)]
pub struct Options {
    /// The folder with all that it keeps.
    pub data: PathBuf,
    /// Where it listens; port 0 for a free one.
    pub at: String,
    /// Who has this is let in.
    pub token: String,
    /// For how many seconds a session and a link are good.
    pub seconds: u64,
    /// The store from which it imports.
    pub store: store::Options,
    /// What it takes.
    pub rules: Rules,
}

impl Options {
    /// A cloud in `data` on free ports of this machine alone.
    pub fn new(data: impl Into<PathBuf>) -> Self {
        let data = data.into();
        let store = store::Options::new(data.join("store"));
        let (at, token) = ("127.0.0.1:0".into(), "a-token-for-tests".into());
        Self { data, at, token, seconds: 600, store, rules: Rules::default() }
    }
}

/// What goes wrong. Counts are of times to come: each one that goes wrong takes one away.
#[derive(Debug, Clone, Default)]
pub struct Faults {
    /// Is busy so many times.
    pub busy: u32,
    /// Makes what it is asked for, and breaks the connection in place of the answer, so many times.
    pub lost: u32,
    /// So many imports fail in their middle.
    pub fail: u32,
    /// Every import waits so many milliseconds for each MiB.
    pub slow: u64,
}

/// A cloud that runs until it is dropped.
pub struct Cloud {
    state: Arc<State>,
    listening: Listening,
}

pub(super) struct State {
    pub(super) options: Options,
    pub(super) base: String,
    pub(super) store: Store,
    pub(super) faults: Mutex<Faults>,
    /// What the role may not do.
    pub(super) denied: Mutex<BTreeSet<String>>,
    /// Sessions, and when they end.
    sessions: Mutex<BTreeMap<String, u64>>,
    pub(super) imports: Mutex<BTreeMap<String, Import>>,
    pub(super) images: Mutex<BTreeMap<String, Image>>,
    pub(super) instances: Mutex<Instances>,
    pub(super) exports: Mutex<Exports>,
    /// Seconds by which the clock was moved.
    moved: AtomicU64,
    /// Every request with all its headers, so that a test sees which secrets came here.
    log: Mutex<Vec<String>>,
}

impl Cloud {
    /// Starts one, and its store.
    ///
    /// # Errors
    /// Their places cannot be listened at, or their folder cannot be made.
    pub fn start(options: Options) -> io::Result<Self> {
        let listener = TcpListener::bind(&options.at)?;
        let images = options.data.join("images");
        fs::create_dir_all(&images)?;
        let mut exports = Exports::new(&options.token);
        exports.has_maps = true;
        let state = Arc::new(State {
            base: format!("http://{}", listener.local_addr()?),
            store: Store::start(options.store.clone())?,
            faults: Mutex::default(),
            denied: Mutex::default(),
            sessions: Mutex::default(),
            imports: Mutex::default(),
            images: Mutex::new(imports::images(&images)),
            instances: Mutex::new(Instances::new(options.data.join("instances"))?),
            exports: Mutex::new(exports),
            moved: AtomicU64::new(0),
            log: Mutex::default(),
            options,
        });
        let serving = state.clone();
        let listening = Listening::start(listener, move |stream| talk(&serving, stream))?;
        Ok(Self { state, listening })
    }

    /// Its link.
    pub fn link(&self) -> String {
        self.state.base.clone()
    }

    /// The store from which it imports.
    pub fn store(&self) -> &Store {
        &self.state.store
    }

    /// Makes it do wrong from now on.
    pub fn go_wrong(&self, faults: Faults) {
        *lock(&self.state.faults) = faults;
    }

    /// Moves its clock on.
    pub fn move_clock(&self, seconds: u64) {
        self.state.moved.fetch_add(seconds, Ordering::Relaxed);
    }

    /// Takes grants from the role: `objects.read`, `images.make`, `instances.make`, `instances.start`, `snapshots.make`.
    pub fn deny(&self, grants: &[&str]) {
        *lock(&self.state.denied) = grants.iter().map(|grant| (*grant).into()).collect();
    }

    /// Images: what each is called, and its name.
    pub fn images(&self) -> Vec<(String, String)> {
        lock(&self.state.images).iter().map(|(id, image)| (id.clone(), image.name.clone())).collect()
    }

    /// Names of the instances.
    pub fn instances(&self) -> Vec<String> {
        lock(&self.state.instances).all().into_iter().map(|machine| machine.name).collect()
    }

    /// What an instance said on its serial port.
    pub fn boot_log(&self, name: &str) -> String {
        lock(&self.state.instances).boot_log(name)
    }

    /// How many imports there were.
    pub fn imports(&self) -> usize {
        lock(&self.state.imports).len()
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

impl Drop for Cloud {
    fn drop(&mut self) {
        // Connections and imports may hold the state for longer; no machine is to outlive its cloud.
        lock(&self.state.instances).end();
    }
}

fn talk(state: &Arc<State>, stream: TcpStream) -> io::Result<()> {
    stream.set_nodelay(true)?;
    stream.set_read_timeout(Some(Duration::from_secs(120)))?;
    let (mut input, mut output) = (BufReader::new(stream.try_clone()?), BufWriter::with_capacity(128 << 10, stream));
    while let Some(request) = read(&mut input) {
        lock(&state.log).push(request.line());
        if takes(&mut lock(&state.faults).busy) {
            Answer::error(503, "busy", "the cloud is busy").with("Retry-After", "0").write(&mut output)?;
            continue;
        }
        if request.method == "GET" && (request.path.contains("/files/") || request.path.contains("/maps/")) {
            if !state.send_file(&request, &mut output)? {
                return Ok(());
            }
            continue;
        }
        let answer = state.answer(&request);
        let makes = request.method == "POST" && matches!(request.path.as_str(), "/v1/imports" | "/v1/instances");
        if makes && takes(&mut lock(&state.faults).lost) {
            return Ok(());
        }
        answer.write(&mut output)?;
    }
    Ok(())
}

impl State {
    pub(super) fn now(&self) -> u64 {
        let now = SystemTime::now().duration_since(UNIX_EPOCH).map_or(0, |now| now.as_secs());
        now + self.moved.load(Ordering::Relaxed)
    }

    pub(super) fn is_denied(&self, grant: &str) -> bool {
        lock(&self.denied).contains(grant)
    }

    /// Sends a file of an export, a part of it, or its map; whether the connection is whole afterwards.
    fn send_file(&self, request: &Request, output: &mut impl Write) -> io::Result<bool> {
        let (expires, sig) = (request.parameter("expires"), request.parameter("sig"));
        let found = lock(&self.exports).file(&request.path, expires, sig, self.now());
        let path = match found {
            Ok(path) => path,
            Err(status) => {
                Answer::error(status, "no-file", "there is no such file, or the link is not good").write(output)?;
                return Ok(true);
            }
        };
        let mut file = File::open(&path)?;
        if request.path.contains("/maps/") {
            Answer::new(200, json!({ "data": object::map(&file)? })).write(output)?;
            return Ok(true);
        }
        let len = file.metadata()?.len();
        let headers = vec![format!("ETag: \"p-{len}\"")];
        let mut sending = Sending { status: 200, headers, len, chunked: false, cut: None };
        if let Some((first, last)) = request.range(len) {
            file.seek(SeekFrom::Start(first))?;
            (sending.status, sending.len) = (206, last - first + 1);
            sending.headers.push(format!("Content-Range: bytes {first}-{last}/{len}"));
        }
        send(output, file, &sending)
    }

    /// What a request of the protocol comes to.
    fn answer(self: &Arc<Self>, request: &Request) -> Answer {
        let decoded = |part: &str| part.replace("%20", " ").replace("%2F", "/");
        let parts: Vec<String> = request.path.trim_start_matches('/').split('/').map(decoded).collect();
        let parts: Vec<&str> = parts.iter().map(String::as_str).collect();
        let said = request.headers.get("authorization").map_or("", String::as_str);
        if (request.method.as_str(), &parts[..]) == ("POST", &["v1", "session"]) {
            if said != format!("Bearer {}", self.options.token) {
                return Answer::error(401, "no-token", "the token is not one that is known here");
            }
            let session = format!("s-{}-{}", lock(&self.sessions).len() + 1, std::process::id());
            lock(&self.sessions).insert(session.clone(), self.now() + self.options.seconds);
            return Answer::new(201, json!({ "session": session, "seconds": self.options.seconds }));
        }
        let ends = said.strip_prefix("Session ").and_then(|session| lock(&self.sessions).get(session).copied());
        if ends.is_none_or(|ends| ends <= self.now()) {
            return Answer::error(401, "no-session", "the session is not known, or has ended");
        }
        let body: Value = match (request.body.is_empty(), serde_json::from_slice(&request.body)) {
            (true, _) => Value::Null,
            (false, Ok(body)) => body,
            (false, Err(_)) => return Answer::error(400, "no-json", "the body is not JSON"),
        };
        let key = request.headers.get("idempotency-key").map_or("", String::as_str);
        let unknown = || Answer::error(404, "not-there", "there is nothing of this name");
        match (request.method.as_str(), &parts[..]) {
            ("GET", ["v1", "cloud"]) => Answer::new(200, self.about()),
            ("POST", ["v1", "checks"]) => Answer::new(200, json!({ "refusals": self.check(&body) })),
            ("POST", ["v1", "imports"]) => self.import(&body, key),
            ("GET", ["v1", "imports", id]) => {
                lock(&self.imports).get(*id).map_or_else(unknown, |import| Answer::new(200, import.value(id)))
            }
            ("GET", ["v1", "images"]) => {
                let images = lock(&self.images);
                let row = |(id, image): (&String, &Image)| json!({ "image": id, "name": image.name });
                Answer::new(200, json!({ "images": images.iter().map(row).collect::<Vec<_>>() }))
            }
            ("POST", ["v1", "instances"]) => self.make(&body, key),
            ("GET", ["v1", "instances", name]) => {
                lock(&self.instances).state(name).map_or_else(unknown, |state| Answer::new(200, state))
            }
            ("GET", ["v1", "instances", name, "boot-log"]) => {
                let instances = lock(&self.instances);
                let log = instances.get(name).map(|_| instances.boot_log(name));
                log.map_or_else(unknown, |text| Answer::new(200, json!({ "text": text })))
            }
            ("GET", ["v1", "machines"]) => {
                let rows: Vec<_> = lock(&self.instances).all().iter().map(Machine::row).collect();
                Answer::new(200, json!({ "machines": rows }))
            }
            ("GET", ["v1", "machines", name]) => {
                let told = |machine: Machine| match self.options.rules.fixed_snapshots {
                    true => fixed::told(&machine),
                    false => machine.whole(),
                };
                lock(&self.instances).get(name).map_or_else(unknown, |machine| Answer::new(200, told(machine)))
            }
            ("POST", ["v1", "machines", name, "exports"]) => self.export(name, &body).unwrap_or_else(unknown),
            ("GET", ["v1", "exports", name]) => self.export_state(name, 200).unwrap_or_else(unknown),
            ("POST", ["v1", "exports", name, "links"]) => self.export_state(name, 200).unwrap_or_else(unknown),
            ("DELETE", ["v1", "exports", name]) => {
                let is_known = lock(&self.exports).end(name);
                if !is_known {
                    return unknown();
                }
                fs::remove_dir_all(self.snapshot_folder(name)).ok();
                Answer::new(204, Value::Null)
            }
            _ => unknown(),
        }
    }
}
