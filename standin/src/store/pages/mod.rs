//! A page store: one account with one container, whose objects are pages or plain. It is strict: every signature, time, digest, range
//! and alignment is looked at, and it fails on demand.

mod answers;
mod gate;

use std::{
    collections::BTreeMap,
    fs::{self, File, OpenOptions},
    io::{self, Read, Seek, SeekFrom, Write},
    net::{SocketAddr, TcpListener, TcpStream},
    os::unix::fs::FileExt,
    path::PathBuf,
    sync::{
        Arc, Mutex,
        atomic::{AtomicI64, Ordering},
    },
    time::{SystemTime, UNIX_EPOCH},
};

use base64::{Engine as _, engine::general_purpose::STANDARD};
use md5::{Digest as _, Md5};

use super::{kept::Faults, refusal::Refusal, serve::date, signature::decoded, talk::Talk};
use crate::{
    host::request::Request,
    listen::{Listening, lock},
};

/// How a page store is set up.
#[derive(Debug, Clone)]
pub struct PageOptions {
    /// The folder with the objects.
    pub data: PathBuf,
    /// Where it listens; port 0 for a free one.
    pub at: String,
    /// Its account.
    pub account: String,
    /// The account's key, in base64.
    pub key: String,
    /// Its container.
    pub container: String,
}

impl PageOptions {
    /// A store in `data` on a free port of this machine alone.
    pub fn new(data: impl Into<PathBuf>) -> Self {
        let key = STANDARD.encode(b"a key of thirty-two bytes, plain");
        let (at, account, container) = ("127.0.0.1:0".into(), "saltmarsh".into(), "moves".into());
        Self { data: data.into(), at, account, key, container }
    }
}

/// An object.
#[derive(Debug, Clone, Default)]
struct Object {
    is_pages: bool,
    len: u64,
    marks: BTreeMap<String, String>,
    file: PathBuf,
    /// Pages that were put: start and end of each run, apart.
    runs: Vec<(u64, u64)>,
    version: u32,
}

/// A page store that runs until it is dropped.
pub struct PageStore {
    state: Arc<State>,
    listening: Listening,
}

struct State {
    options: PageOptions,
    objects: Mutex<BTreeMap<String, Object>>,
    /// By the object's name and the time.
    snapshots: Mutex<BTreeMap<(String, String), Object>>,
    faults: Mutex<Faults>,
    /// What the key may not do: `put`, `get`, `remove`, `list`.
    denied: Mutex<Vec<String>>,
    quota: Mutex<u64>,
    ahead: AtomicI64,
    log: Mutex<Vec<String>>,
}

/// An answer: status, headers, and what follows.
struct Answer(u16, Vec<(String, String)>, Body);

enum Body {
    Text(String),
    Part(File, u64, u64),
    /// A length that is only told.
    Told(u64),
}

fn refuse<T>(status: u16, code: &'static str) -> Result<T, Refusal> {
    Err(Refusal::new(status, code))
}

impl PageStore {
    /// Starts one.
    ///
    /// # Errors
    /// Its place cannot be listened at, or its folder cannot be made.
    pub fn start(options: PageOptions) -> io::Result<Self> {
        let listener = TcpListener::bind(&options.at)?;
        fs::create_dir_all(&options.data)?;
        let state = Arc::new(State {
            options,
            objects: Mutex::default(),
            snapshots: Mutex::default(),
            faults: Mutex::default(),
            denied: Mutex::default(),
            quota: Mutex::new(u64::MAX),
            ahead: AtomicI64::new(0),
            log: Mutex::default(),
        });
        let serving = state.clone();
        let listening = Listening::start(listener, move |stream| serving.talk(stream))?;
        Ok(Self { state, listening })
    }

    /// The link of its container.
    pub fn link(&self) -> String {
        let PageOptions { account, container, .. } = &self.state.options;
        format!("http://{}/{account}/{container}", self.address())
    }

    /// Where it listens.
    pub fn address(&self) -> SocketAddr {
        self.listening.address()
    }

    /// Makes it do wrong from now on.
    pub fn go_wrong(&self, faults: Faults) {
        *lock(&self.state.faults) = faults;
    }

    /// Sets by how many seconds its clock is ahead.
    pub fn set_clock(&self, seconds: i64) {
        self.state.ahead.store(seconds, Ordering::Relaxed);
    }

    /// Takes from the key what it may do: `put`, `get`, `remove`, `list`.
    pub fn deny(&self, words: &[&str]) {
        *lock(&self.state.denied) = words.iter().map(|word| (*word).into()).collect();
    }

    /// Sets the most bytes of pages that hold something.
    pub fn set_quota(&self, bytes: u64) {
        *lock(&self.state.quota) = bytes;
    }

    /// All objects that are whole: names and bytes.
    pub fn objects(&self) -> Vec<(String, u64)> {
        let objects = lock(&self.state.objects);
        objects.iter().filter(|(_, o)| o.marks.is_empty()).map(|(name, object)| (name.clone(), object.len)).collect()
    }

    /// Names of disks that are not whole.
    pub fn unfinished(&self) -> Vec<String> {
        lock(&self.state.objects).iter().filter(|(_, o)| !o.marks.is_empty()).map(|(name, _)| name.clone()).collect()
    }

    /// All bytes of an object.
    pub fn bytes(&self, name: &str) -> Vec<u8> {
        lock(&self.state.objects).get(name).and_then(|object| fs::read(&object.file).ok()).unwrap_or_default()
    }

    /// The runs of pages of an object: where each begins and ends.
    pub fn runs(&self, name: &str) -> Vec<(u64, u64)> {
        lock(&self.state.objects).get(name).map(|object| object.runs.clone()).unwrap_or_default()
    }

    /// Snapshots: names and times.
    pub fn snapshots(&self) -> Vec<(String, String)> {
        lock(&self.state.snapshots).keys().cloned().collect()
    }

    /// Changes bytes of an object, as a machine does that runs from it.
    ///
    /// # Errors
    /// There is no such object.
    pub fn change(&self, name: &str, at: u64, bytes: &[u8]) -> io::Result<()> {
        let mut objects = lock(&self.state.objects);
        let object = objects.get_mut(name).ok_or(io::ErrorKind::NotFound)?;
        object.version += 1;
        OpenOptions::new().write(true).open(&object.file)?.write_all_at(bytes, at)
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
        now.saturating_add_signed(self.ahead.load(Ordering::Relaxed))
    }

    fn talk(&self, stream: TcpStream) -> io::Result<()> {
        let talk = Talk { log: &self.log, faults: &self.faults, most: 64 << 20, busy: "ServerBusy" };
        talk.with(
            stream,
            |request| self.answer(request),
            |request, answer, output| {
                let answer = answer.unwrap_or_else(|refusal| {
                    let text = format!("<?xml version=\"1.0\"?><Error><Code>{}</Code></Error>", refusal.code);
                    Answer(refusal.status, vec![("x-ms-error-code".into(), refusal.code.into())], Body::Text(text))
                });
                self.write(request, answer, output)
            },
        )
    }

    fn write(&self, request: &Request, answer: Answer, output: &mut impl Write) -> io::Result<()> {
        let Answer(status, headers, body) = answer;
        let len = match &body {
            Body::Text(text) => text.len() as u64,
            Body::Part(_, _, len) | Body::Told(len) => *len,
        };
        let now = date(self.now());
        let mut head =
            format!("HTTP/1.1 {status} -\r\nDate: {now}\r\nLast-Modified: {now}\r\nContent-Length: {len}\r\n");
        if matches!(&body, Body::Text(text) if !text.is_empty()) {
            head += "Content-Type: application/xml\r\n";
        }
        headers.iter().for_each(|(name, value)| head += &format!("{name}: {value}\r\n"));
        output.write_all(format!("{head}\r\n").as_bytes())?;
        match body {
            Body::Text(text) if request.method != "HEAD" => output.write_all(text.as_bytes())?,
            Body::Part(mut file, start, len) => {
                file.seek(SeekFrom::Start(start))?;
                io::copy(&mut file.take(len), output)?;
            }
            Body::Text(_) | Body::Told(_) => {}
        }
        output.flush()
    }

    fn may(&self, word: &str) -> Result<(), Refusal> {
        if lock(&self.denied).iter().any(|denied| denied == word) {
            return refuse(403, "AuthorizationPermissionMismatch");
        }
        Ok(())
    }

    fn answer(&self, request: &Request) -> Result<Answer, Refusal> {
        let path = decoded(&request.path);
        let reads = matches!(request.method.as_str(), "GET" | "HEAD");
        match request.parameter("sig") {
            Some(_) if reads => self.check_link(request, &path)?,
            Some(_) => return refuse(403, "AuthorizationPermissionMismatch"),
            None => self.check_key(request)?,
        }
        let PageOptions { account, container, .. } = &self.options;
        let Some(rest) = path.strip_prefix(&format!("/{account}/")) else { return refuse(404, "ResourceNotFound") };
        let (asked, name) = rest.split_once('/').unwrap_or((rest, ""));
        if asked != container {
            return refuse(404, "ContainerNotFound");
        }
        let has_version = request.headers.contains_key("x-ms-version") || request.parameter("sv").is_some();
        if !has_version {
            return refuse(400, "MissingRequiredHeader");
        }
        if let Some(said) = request.headers.get("content-md5")
            && *said != STANDARD.encode(Md5::digest(&request.body))
        {
            return refuse(400, "Md5Mismatch");
        }
        match (request.method.as_str(), request.parameter("comp"), name.is_empty()) {
            ("GET", Some("list"), true) => {
                self.may("list")?;
                Ok(self.list(request))
            }
            ("GET", Some("pagelist"), false) => {
                self.may("get")?;
                self.page_list(request, name)
            }
            ("GET" | "HEAD", None, false) => {
                self.may("get")?;
                self.read(request, name)
            }
            ("PUT", comp, false) => {
                self.may("put")?;
                self.put(request, comp, name)
            }
            ("DELETE", None, false) => {
                self.may("remove")?;
                self.remove(request, name)
            }
            _ => refuse(405, "UnsupportedHttpVerb"),
        }
    }
}
