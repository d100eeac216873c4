//! The store itself: connections, and what each request comes to.

use std::{
    collections::BTreeSet,
    fs::File,
    io::{self, Read, Seek, SeekFrom, Write},
    net::{SocketAddr, TcpListener, TcpStream},
    path::PathBuf,
    sync::{
        Arc, Mutex,
        atomic::{AtomicI64, Ordering},
    },
    time::{SystemTime, UNIX_EPOCH},
};

use base64::{Engine as _, engine::general_purpose::STANDARD};
use sha2::{Digest, Sha256};

use super::{
    kept::{Faults, Kept, Listed, Sum, Wanted},
    refusal::Refusal,
    signature::{Gate, decoded, hex},
    talk::Talk,
};
use crate::{
    host::request::Request,
    listen::{Listening, lock, takes},
};

/// The longest body.
const MOST: u64 = 1 << 30;
/// Parts in one list.
const LISTED: usize = 7;

/// How a store is set up.
#[derive(Debug, Clone)]
pub struct Options {
    /// The folder with the objects.
    pub data: PathBuf,
    /// Where it listens; port 0 for a free one.
    pub at: String,
    /// Its bucket.
    pub bucket: String,
    /// Its region.
    pub region: String,
    /// The name of the key that is known.
    pub id: String,
    /// The key.
    pub key: String,
}

impl Options {
    /// A store in `data` on a free port of this machine alone.
    pub fn new(data: impl Into<PathBuf>) -> Self {
        let (at, bucket, region) = ("127.0.0.1:0".into(), "saltmarsh".into(), "estuary-1".into());
        Self { data: data.into(), at, bucket, region, id: "keeper".into(), key: "a-key-for-tests".into() }
    }
}

/// A store that runs until it is dropped.
pub struct Store {
    state: Arc<State>,
    listening: Listening,
}

struct State {
    options: Options,
    kept: Mutex<Kept>,
    faults: Mutex<Faults>,
    /// What the key may not do: `put`, `get`, `remove`, `list`.
    denied: Mutex<BTreeSet<String>>,
    /// Seconds by which the clock is ahead.
    ahead: AtomicI64,
    /// Every request with all its headers, so that a test sees which secrets came here.
    log: Mutex<Vec<String>>,
}

/// An answer.
enum Answer {
    Text(u16, Vec<(&'static str, String)>, String),
    /// A part of a file: its length is that of the range.
    File(u16, Vec<(&'static str, String)>, File, u64, u64),
    /// Headers that speak of a body which does not come.
    Head(Vec<(&'static str, String)>, u64),
}

impl Store {
    /// Starts one.
    ///
    /// # Errors
    /// Its place cannot be listened at, or its folder cannot be made.
    pub fn start(options: Options) -> io::Result<Self> {
        let listener = TcpListener::bind(&options.at)?;
        let _address = listener.local_addr()?;
        let state = Arc::new(State {
            kept: Mutex::new(Kept::new(options.data.clone())?),
            options,
            faults: Mutex::default(),
            denied: Mutex::default(),
            ahead: AtomicI64::new(0),
            log: Mutex::default(),
        });
        let serving = state.clone();
        let listening = Listening::start(listener, move |stream| serving.talk(stream))?;
        Ok(Self { state, listening })
    }

    /// The link of its bucket.
    pub fn link(&self) -> String {
        format!("http://{}/{}", self.address(), self.state.options.bucket)
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

    /// Sets the most bytes that there may be.
    pub fn set_quota(&self, bytes: u64) {
        lock(&self.state.kept).quota = bytes;
    }

    /// All objects: keys and bytes.
    pub fn objects(&self) -> Vec<(String, u64)> {
        lock(&self.state.kept).objects()
    }

    /// The file of an object.
    pub fn file(&self, key: &str) -> PathBuf {
        lock(&self.state.kept).file(key)
    }

    /// Uploads that are not finished: keys, and what each is called.
    pub fn uploads(&self) -> Vec<(String, String)> {
        lock(&self.state.kept).uploads("")
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
        let talk = Talk { log: &self.log, faults: &self.faults, most: MOST, busy: "SlowDown" };
        let answer = |request: &Request| match request.headers.contains_key("content-length") {
            false if request.method == "PUT" => Err(Refusal::new(411, "MissingContentLength")),
            _ => self.answer(request),
        };
        talk.with(stream, answer, |request, answer, output| {
            self.write(request, answer.unwrap_or_else(|refusal| self.refuse(&refusal)), output)
        })
    }

    fn refuse(&self, refusal: &Refusal) -> Answer {
        let region = refusal.region.as_ref().map_or(String::new(), |region| format!("<Region>{region}</Region>"));
        let code = refusal.code;
        let text =
            format!("<?xml version=\"1.0\"?>\n<Error><Code>{code}</Code><Message>{code}</Message>{region}</Error>");
        Answer::Text(refusal.status, Vec::new(), text)
    }

    fn write(&self, request: &Request, answer: Answer, output: &mut impl Write) -> io::Result<()> {
        let (status, headers, len) = match &answer {
            Answer::Text(status, headers, text) => (*status, headers, text.len() as u64),
            Answer::File(status, headers, _, _, len) => (*status, headers, *len),
            Answer::Head(headers, len) => (200, headers, *len),
        };
        let mut head = format!("HTTP/1.1 {status} -\r\nDate: {}\r\n", date(self.now()));
        if status != 204 {
            head += &format!("Content-Length: {len}\r\n");
        }
        headers.iter().for_each(|(name, value)| head += &format!("{name}: {value}\r\n"));
        output.write_all(format!("{head}\r\n").as_bytes())?;
        match answer {
            _ if request.method == "HEAD" => {}
            Answer::Text(_, _, text) => output.write_all(text.as_bytes())?,
            Answer::File(_, _, mut file, start, len) => {
                file.seek(SeekFrom::Start(start))?;
                io::copy(&mut file.take(len), output)?;
            }
            Answer::Head(..) => {}
        }
        output.flush()
    }

    /// Whether the key may do this.
    fn may(&self, word: &str) -> Result<(), Refusal> {
        match lock(&self.denied).contains(word) {
            true => Err(Refusal::new(403, "AccessDenied")),
            false => Ok(()),
        }
    }

    fn answer(&self, request: &Request) -> Result<Answer, Refusal> {
        let Options { id, key, region, bucket, .. } = &self.options;
        Gate { id, key, region, now: self.now() }.check(request)?;
        let path = request.path.trim_start_matches('/');
        let host = request.headers.get("host").map_or("", String::as_str);
        let (asked, object) = match host.split_once('.').filter(|(first, _)| *first == bucket.as_str()) {
            // The bucket stands in the name of the host.
            Some((first, _)) => (first, path),
            None => path.split_once('/').unwrap_or((path, "")),
        };
        if decoded(asked) != *bucket {
            // Names are the same for all people: what is not ours may be somebody's.
            return Err(match decoded(asked).starts_with("other") {
                true => Refusal::new(403, "AccessDenied"),
                false => Refusal::new(404, "NoSuchBucket"),
            });
        }
        let sum = sum_of(request)?;
        let object = decoded(object);
        let parameter = |name: &str| request.parameter(name).map(decoded);
        let has =
            |name: &str| request.query.split('&').any(|pair| pair == name || pair.strip_suffix('=') == Some(name));
        let text = |text: String| Ok(Answer::Text(200, Vec::new(), format!("<?xml version=\"1.0\"?>\n{text}")));
        let with_tag = |tag: String| Ok(Answer::Text(200, vec![("ETag", tag)], String::new()));
        match (request.method.as_str(), object.is_empty(), parameter("uploadId")) {
            ("GET", true, _) if has("uploads") => {
                self.may("list")?;
                let prefix = parameter("prefix").unwrap_or_default();
                let uploads = lock(&self.kept).uploads(&prefix);
                let row = |(key, id): &(String, String)| {
                    format!("<Upload><Key>{}</Key><UploadId>{id}</UploadId></Upload>", key.replace('&', "&amp;"))
                };
                let rows: String = uploads.iter().map(row).collect();
                text(format!(
                    "<ListMultipartUploadsResult>{rows}<IsTruncated>false</IsTruncated></ListMultipartUploadsResult>"
                ))
            }
            ("GET" | "HEAD", false, None) => {
                self.may("get")?;
                self.get(request, &object)
            }
            ("PUT", false, None) => {
                self.may("put")?;
                with_tag(lock(&self.kept).put(&object, &request.body, &sum)?)
            }
            ("DELETE", false, None) => {
                self.may("remove")?;
                lock(&self.kept).remove(&object);
                Ok(Answer::Text(204, Vec::new(), String::new()))
            }
            ("POST", false, None) if has("uploads") => {
                self.may("put")?;
                let is_summed = match request.headers.get("x-amz-checksum-algorithm").map(String::as_str) {
                    None => false,
                    Some("CRC32C") => true,
                    Some(_) => return Err(Refusal::new(400, "InvalidRequest")),
                };
                let id = lock(&self.kept).begin(&object, is_summed)?;
                text(format!(
                    "<InitiateMultipartUploadResult><UploadId>{id}</UploadId></InitiateMultipartUploadResult>"
                ))
            }
            ("PUT", false, Some(id)) => {
                self.may("put")?;
                let number = parameter("partNumber").and_then(|number| number.parse().ok()).unwrap_or(0);
                with_tag(lock(&self.kept).put_part(&object, &id, number, &request.body, &sum)?)
            }
            ("GET", false, Some(id)) => {
                self.may("list")?;
                let after = parameter("part-number-marker").and_then(|after| after.parse().ok()).unwrap_or(0);
                let (parts, more) = lock(&self.kept).parts(&object, &id, after, LISTED)?;
                let row = |(number, len, tag): &Listed| {
                    format!(
                        "<Part><Size>{len}</Size><ETag>{}</ETag><PartNumber>{number}</PartNumber></Part>",
                        tag.replace('"', "&quot;")
                    )
                };
                let rows: String = parts.iter().map(row).collect();
                let next = parts.last().map_or(0, |part| part.0);
                text(format!(
                    "<ListPartsResult>{rows}<NextPartNumberMarker>{next}</NextPartNumberMarker><IsTruncated>{more}</IsTruncated></ListPartsResult>"
                ))
            }
            ("POST", false, Some(id)) => {
                self.may("put")?;
                if takes(&mut lock(&self.faults).late) {
                    return text("<Error><Code>InternalError</Code></Error>".into());
                }
                let wanted = wanted(&request.body).ok_or_else(|| Refusal::new(400, "MalformedXML"))?;
                let tag = lock(&self.kept).finish(&object, &id, &wanted)?;
                text(format!(
                    "<CompleteMultipartUploadResult><ETag>{}</ETag></CompleteMultipartUploadResult>",
                    tag.replace('"', "&quot;")
                ))
            }
            ("DELETE", false, Some(id)) => {
                self.may("remove")?;
                lock(&self.kept).abort(&object, &id)?;
                Ok(Answer::Text(204, Vec::new(), String::new()))
            }
            _ => Err(Refusal::new(405, "MethodNotAllowed")),
        }
    }

    fn get(&self, request: &Request, object: &str) -> Result<Answer, Refusal> {
        let kept = lock(&self.kept);
        let (len, tag) = kept.object(object).cloned().ok_or_else(|| Refusal::new(404, "NoSuchKey"))?;
        let mut headers = vec![("ETag", tag.clone()), ("Accept-Ranges", "bytes".into())];
        if request.method == "HEAD" {
            return Ok(Answer::Head(headers, len));
        }
        if request.headers.get("if-match").is_some_and(|wanted| *wanted != tag) {
            return Err(Refusal::new(412, "PreconditionFailed"));
        }
        let file = File::open(kept.file(object)).map_err(|_| Refusal::new(500, "InternalError"))?;
        match request.range(len) {
            Some((first, last)) => {
                headers.push(("Content-Range", format!("bytes {first}-{last}/{len}")));
                Ok(Answer::File(206, headers, file, first, last - first + 1))
            }
            None => Ok(Answer::File(200, headers, file, 0, len)),
        }
    }
}

/// The sum of a body, which is what the request says: nothing comes without one, since a proxy on the way may have changed it.
fn sum_of(request: &Request) -> Result<Sum, Refusal> {
    let said = request.headers.get("x-amz-content-sha256");
    if said.is_some_and(|said| said == "UNSIGNED-PAYLOAD") {
        let said = request.headers.get("x-amz-checksum-crc32c").ok_or_else(|| Refusal::new(400, "InvalidRequest"))?;
        let sum = STANDARD.encode(crc32c::crc32c(&request.body).to_be_bytes());
        return match *said == sum {
            true => Ok(Sum::Crc32c(sum)),
            false => Err(Refusal::new(400, "BadDigest")),
        };
    }
    let digest = hex(&Sha256::digest(&request.body));
    match said.is_some_and(|said| *said != digest) {
        true => Err(Refusal::new(400, "XAmzContentSHA256Mismatch")),
        false => Ok(Sum::Sha256(digest)),
    }
}

/// Numbers, tags and sums of the parts that an upload is finished with.
fn wanted(body: &[u8]) -> Option<Vec<Wanted>> {
    let text = std::str::from_utf8(body).ok()?;
    let document = roxmltree::Document::parse(text).ok()?;
    let root = document.root_element();
    if root.tag_name().name() != "CompleteMultipartUpload" {
        return None;
    }
    let of = |part: roxmltree::Node<'_, '_>, name: &str| {
        part.children().find(|child| child.tag_name().name() == name)?.text().map(String::from)
    };
    let parts = root.children().filter(roxmltree::Node::is_element);
    let one = |part| Some((of(part, "PartNumber")?.parse().ok()?, of(part, "ETag")?, of(part, "ChecksumCRC32C")));
    parts.map(one).collect()
}

/// A time as HTTP writes it.
pub(super) fn date(seconds: u64) -> String {
    let (days, rest) = (seconds / 86_400, seconds % 86_400);
    let week = ["Thu", "Fri", "Sat", "Sun", "Mon", "Tue", "Wed"][(days % 7) as usize];
    let months = ["Mar", "Apr", "May", "Jun", "Jul", "Aug", "Sep", "Oct", "Nov", "Dec", "Jan", "Feb"];
    // The civil date of a day, with years that begin in March.
    let days = days + 719_468;
    let (era, day) = (days / 146_097, days % 146_097);
    let year = (day - day / 1460 + day / 36_524 - day / 146_096) / 365;
    let day = day - (365 * year + year / 4 - year / 100);
    let month = (5 * day + 2) / 153;
    let year = era * 400 + year + u64::from(month >= 10);
    let day = day - (153 * month + 2) / 5 + 1;
    let (hour, minute, second) = (rest / 3600, rest / 60 % 60, rest % 60);
    format!("{week}, {day:02} {} {year} {hour:02}:{minute:02}:{second:02} GMT", months[month as usize])
}

#[cfg(test)]
mod tests {
    #[test]
    fn times_are_written_as_http_has_them() {
        // RFC 9110, section 5.6.7.
        assert_eq!(super::date(784_111_777), "Sun, 06 Nov 1994 08:49:37 GMT");
        assert_eq!(super::date(951_827_696), "Tue, 29 Feb 2000 12:34:56 GMT");
    }
}
