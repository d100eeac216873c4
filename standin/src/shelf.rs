//! A small image service: images with properties, and their data in one stream. It is strict about states, and fails on demand.

use std::{
    collections::BTreeMap,
    io::{self, BufRead, BufReader, BufWriter, Read, Write},
    net::{TcpListener, TcpStream},
    sync::{
        Arc, Mutex,
        atomic::{AtomicU32, Ordering},
    },
    time::Duration,
};

use serde_json::{Map, Value, json};
use sha2::{Digest, Sha512};

use crate::{
    host::{
        answer::Answer,
        request::{Request, read_head_of_any},
    },
    listen::{Listening, lock},
    store::decoded,
};

/// Images in one list.
const LISTED: usize = 2;
/// The longest body that is no data.
const MOST: u64 = 1 << 20;

/// What goes wrong. Counts are of times to come: each one that goes wrong takes one away.
#[derive(Debug, Clone, Copy, Default)]
pub struct Faults {
    /// Breaks the connection after so many bytes of data, so many times.
    pub cut: Option<(u64, u32)>,
    /// Keeps other data than it was sent, so many times.
    pub bent: u32,
}

/// An image: its properties, and its data.
#[derive(Debug, Clone, Default)]
struct Image {
    values: Map<String, Value>,
    data: Vec<u8>,
}

#[derive(Default)]
struct State {
    images: Mutex<BTreeMap<String, Image>>,
    faults: Mutex<Faults>,
    /// The token that lets in; none for anybody.
    token: Option<String>,
    log: Mutex<Vec<String>>,
    /// How many images were made.
    made: AtomicU32,
}

/// A service that runs until it is dropped.
pub struct Shelf {
    state: Arc<State>,
    listening: Listening,
}

impl Shelf {
    /// Starts one on a free port of this machine alone, which lets in whoever has `token`.
    ///
    /// # Errors
    /// There is no port.
    pub fn start(token: Option<&str>) -> io::Result<Self> {
        let listener = TcpListener::bind("127.0.0.1:0")?;
        let state = Arc::new(State { token: token.map(String::from), ..State::default() });
        let serving = state.clone();
        let listening = Listening::start(listener, move |stream| serving.talk(stream))?;
        Ok(Self { state, listening })
    }

    /// Its link.
    pub fn link(&self) -> String {
        format!("http://{}", self.listening.address())
    }

    /// Makes it do wrong from now on.
    pub fn go_wrong(&self, faults: Faults) {
        *lock(&self.state.faults) = faults;
    }

    /// All images: their properties, and their data.
    pub fn images(&self) -> Vec<(Value, Vec<u8>)> {
        lock(&self.state.images)
            .values()
            .map(|image| (Value::Object(image.values.clone()), image.data.clone()))
            .collect()
    }

    /// Every request so far, with all its headers.
    pub fn log(&self) -> Vec<String> {
        lock(&self.state.log).clone()
    }
}

/// A body in chunks (RFC 9112, section 7.1), or of a length that is told; at most `most` bytes, for an early end.
fn body(input: &mut impl BufRead, request: &Request, most: u64) -> io::Result<(Vec<u8>, bool)> {
    let bad = || io::Error::from(io::ErrorKind::InvalidData);
    let mut bytes = Vec::new();
    if !request.headers.contains_key("transfer-encoding") {
        let len = request.length().ok_or_else(bad)?;
        input.take(len.min(most)).read_to_end(&mut bytes)?;
        return Ok((bytes, len <= most));
    }
    loop {
        let mut line = String::new();
        input.take(64).read_line(&mut line)?;
        let len = u64::from_str_radix(line.trim(), 16).map_err(|_| bad())?;
        let left = most.saturating_sub(bytes.len() as u64);
        input.take(len.min(left)).read_to_end(&mut bytes)?;
        if len > left {
            return Ok((bytes, false));
        }
        let mut end = [0; 2];
        input.read_exact(&mut end)?;
        if len == 0 {
            return Ok((bytes, true));
        }
    }
}

impl State {
    fn talk(&self, stream: TcpStream) -> io::Result<()> {
        stream.set_read_timeout(Some(Duration::from_secs(60)))?;
        let (mut input, mut output) = (BufReader::new(stream.try_clone()?), BufWriter::new(stream));
        while let Some(mut request) = read_head_of_any(&mut input) {
            lock(&self.log).push(request.line());
            let is_data = request.path.ends_with("/file");
            let cut = lock(&self.faults).cut.filter(|(_, times)| is_data && request.method == "PUT" && *times > 0);
            let most = cut.map_or(if is_data { u64::MAX } else { MOST }, |(after, _)| after);
            let (bytes, is_whole) = body(&mut input, &request, most)?;
            request.body = bytes;
            if !is_whole {
                if let Some((after, times)) = cut {
                    lock(&self.faults).cut = Some((after, times - 1));
                }
                return Ok(());
            }
            if is_data && request.method == "GET" {
                self.send(&request, &mut output)?;
                continue;
            }
            self.answer(&request).write(&mut output)?;
        }
        Ok(())
    }

    fn send(&self, request: &Request, output: &mut impl Write) -> io::Result<()> {
        let id = request.path.trim_start_matches("/v2/images/").trim_end_matches("/file");
        let data = lock(&self.images).get(id).map(|image| image.data.clone()).unwrap_or_default();
        let (first, last) = request.range(data.len() as u64).unwrap_or((0, (data.len() as u64).saturating_sub(1)));
        let part = data.get(first as usize..=last as usize).unwrap_or_default();
        let head = match request.headers.contains_key("range") {
            true => format!("206 -\r\nContent-Range: bytes {first}-{last}/{}", data.len()),
            false => "200 -".into(),
        };
        output.write_all(format!("HTTP/1.1 {head}\r\nContent-Length: {}\r\n\r\n", part.len()).as_bytes())?;
        output.write_all(part)?;
        output.flush()
    }

    fn answer(&self, request: &Request) -> Answer {
        let no = |status: u16| Answer::new(status, json!({ "message": "no" }));
        if self.token.as_ref().is_some_and(|token| request.headers.get("x-auth-token") != Some(token)) {
            return no(401);
        }
        let mut images = lock(&self.images);
        let parts: Vec<&str> = request.path.trim_start_matches("/v2/images").trim_matches('/').split('/').collect();
        let said: Value = serde_json::from_slice(&request.body).unwrap_or(Value::Null);
        match (request.method.as_str(), &parts[..]) {
            ("POST", [""]) => {
                let Some(mut values) = said.as_object().cloned() else { return no(400) };
                let known = ["raw", "qcow2", "vmdk", "vhd", "vhdx", "vdi"];
                if !known.contains(&said["disk_format"].as_str().unwrap_or_default())
                    || said["container_format"] != "bare"
                {
                    return no(400);
                }
                let id = format!("5a170000-{:04}", self.made.fetch_add(1, Ordering::Relaxed) + 1);
                values.insert("id".into(), id.as_str().into());
                values.insert("status".into(), "queued".into());
                values.insert("size".into(), Value::Null);
                images.insert(id, Image { values: values.clone(), data: Vec::new() });
                Answer::new(201, Value::Object(values))
            }
            ("GET", [""]) => {
                let fits = |image: &&Image| {
                    request.query.split('&').all(|pair| match pair.split_once('=') {
                        Some(("limit" | "marker", _)) | None => true,
                        Some((name, value)) => image.values.get(name).and_then(Value::as_str) == Some(&*decoded(value)),
                    })
                };
                let from: usize = request.parameter("marker").and_then(|marker| marker.parse().ok()).unwrap_or(0);
                let all: Vec<_> =
                    images.values().filter(fits).map(|image| Value::Object(image.values.clone())).collect();
                let mut list = json!({ "images": all.iter().skip(from).take(LISTED).collect::<Vec<_>>() });
                if from + LISTED < all.len() {
                    let query: Vec<_> = request.query.split('&').filter(|pair| !pair.starts_with("marker=")).collect();
                    list["next"] = format!("/v2/images?{}&marker={}", query.join("&"), from + LISTED).into();
                }
                Answer::new(200, list)
            }
            ("GET", [id]) => match images.get(*id) {
                Some(image) => Answer::new(200, Value::Object(image.values.clone())),
                None => no(404),
            },
            ("PUT", [id, "file"]) => {
                let Some(image) = images.get_mut(*id) else { return no(404) };
                if image.values["status"] != "queued" {
                    return no(409);
                }
                image.data.clone_from(&request.body);
                let mut faults = lock(&self.faults);
                if faults.bent > 0 {
                    faults.bent -= 1;
                    image.data.reverse();
                }
                let digest: String = Sha512::digest(&image.data).iter().map(|byte| format!("{byte:02x}")).collect();
                for (name, value) in [
                    ("status", json!("active")),
                    ("size", json!(image.data.len())),
                    ("os_hash_algo", json!("sha512")),
                    ("os_hash_value", json!(digest)),
                ] {
                    image.values.insert(name.into(), value);
                }
                Answer::new(204, Value::Null)
            }
            ("PATCH", [id]) => {
                let (Some(image), Some(changes)) = (images.get_mut(*id), said.as_array()) else { return no(404) };
                for change in changes {
                    let name = change["path"].as_str().unwrap_or_default().trim_start_matches('/').to_string();
                    if change["op"] != "add" || matches!(name.as_str(), "" | "id" | "status" | "size") {
                        return no(403);
                    }
                    image.values.insert(name, change["value"].clone());
                }
                Answer::new(200, Value::Object(image.values.clone()))
            }
            ("DELETE", [id]) => match images.remove(*id) {
                Some(_) => Answer::new(204, Value::Null),
                None => no(404),
            },
            _ => no(404),
        }
    }
}
