//! A page store: an account with containers, in which a disk is an object of 512-byte pages (the Blob service's REST interface, "Put
//! Blob", "Put Page", "Get Page Ranges", "Set Blob Metadata"). Only pages that hold data are sent.

mod parts;
mod snapshots;

use std::{
    collections::BTreeMap,
    sync::{
        Arc, Mutex,
        atomic::{AtomicI64, Ordering},
    },
};

use base64::{Engine as _, engine::general_purpose::STANDARD};
use jiff::{SignedDuration, Timestamp};
use md5::{Digest as _, Md5};
use reformis_disk::error::WireKind;
use ureq::{SendBody, http::Response};

use snapshots::at_moment;

use super::{
    Parts, Store,
    piece::Paced,
    runs::PAGE,
    shared_key::{SharedKey, Unsigned, VERSION},
    xml,
};
use crate::{
    fault::Fault,
    http::{Client, Relink, document, fault_of_answer},
    link::{Link, encoded},
    secret::Secret,
    settings::{HeaderValue, StoreSettings, Style},
    wires::Wires,
};

/// The most bytes that are put at once.
const PIECE: u64 = 4 << 20;
/// Bytes of a part, whose runs are put one after another.
const PART: u64 = 16 << 20;
/// The longest document that is read of an answer, in bytes.
const MOST: u64 = 64 << 20;
/// How long a link for reading is good, in hours.
const LINK: i64 = 12;
/// A clock that is further away than this is told of, in seconds.
const APART: i64 = 5 * 60;
/// The most pages of a list.
const LISTS: usize = 10_000;
/// What a disk that is not whole yet says of itself: by which upload it is made. Snapshots that are ours have it too.
const MARK: &str = "x-ms-meta-reformisupload";

/// An answer that is no success, and the store's word for why.
type Refused = (Response<ureq::Body>, String);

/// A container, and a folder in it.
pub(super) struct Pages {
    name: String,
    wires: Wires,
    link: Link,
    host: String,
    /// The path of the container, encoded.
    container: String,
    /// The folder that all names begin with; empty, or with a slash at its end.
    folder: String,
    key: SharedKey,
    /// Seconds by which the store's clock is ahead of ours.
    ahead: AtomicI64,
    /// What was sent of each object in this run: runs of bytes, in pieces.
    sent: Mutex<BTreeMap<String, Vec<(u64, u64)>>>,
}

/// A request before it is signed.
#[derive(Clone, Copy)]
struct Ask<'a> {
    method: &'a str,
    object: Option<&'a str>,
    query: &'a [(&'a str, &'a str)],
    /// The interface's own headers but the date and the version.
    headers: &'a [(&'a str, &'a str)],
    body: &'a [u8],
    /// What our key needs to be allowed, as it is told.
    what: &'a str,
}

fn bytes_of(answer: &mut Response<ureq::Body>) -> Result<Vec<u8>, Fault> {
    document(answer.body_mut().as_reader(), MOST)
}

/// The header `name` of an answer.
fn header<'a>(answer: &'a Response<ureq::Body>, name: &str) -> Option<&'a str> {
    answer.headers().get(name).and_then(|value| value.to_str().ok())
}

impl Pages {
    pub(super) fn new(wires: &Wires, name: &str, settings: &StoreSettings) -> Result<Self, Fault> {
        let wrong = |what: String| Fault::Fatal(WireKind::Settings, what);
        let missing = || wrong("it has no key".into());
        let link = Link::parse(&settings.at).map_err(|error| wrong(error.what))?;
        let account = match settings.key_id.as_ref().ok_or_else(missing)? {
            HeaderValue::Plain(text) => Secret::new(text.as_str()),
            HeaderValue::Secret(credential) => wires.inner.secret(credential)?,
        };
        let secret = wires.inner.secret(settings.key.as_ref().ok_or_else(missing)?)?;
        let key = SharedKey::new(account, &secret).ok_or_else(|| wrong("its key is not in base64".into()))?;
        // By path, the account stands in front of the container.
        let depth = if settings.style == Style::Path { 2 } else { 1 };
        let parts: Vec<&str> = link.path.trim_matches('/').split('/').filter(|part| !part.is_empty()).collect();
        let (own, folder) = parts.split_at_checked(depth).ok_or_else(|| wrong("'at' names no container".into()))?;
        Ok(Self {
            name: name.into(),
            wires: wires.clone(),
            ahead: AtomicI64::new(0),
            host: match link.port {
                Some(port) => format!("{}:{port}", link.host),
                None => link.host.clone(),
            },
            container: own.iter().fold(String::new(), |path, part| path + "/" + &encoded(part, false)),
            folder: if folder.is_empty() { String::new() } else { format!("{}/", folder.join("/")) },
            key,
            sent: Mutex::default(),
            link,
        })
    }

    fn client(&self) -> Result<Arc<Client>, Fault> {
        self.wires.inner.client(&self.link, false)
    }

    fn base(&self) -> String {
        format!("{}://{}", if self.link.scheme == crate::Scheme::Https { "https" } else { "http" }, self.host)
    }

    fn path(&self, name: Option<&str>) -> String {
        match name {
            Some(name) => format!("{}/{}", self.container, encoded(&format!("{}{name}", self.folder), true)),
            None => self.container.clone(),
        }
    }

    /// Sends one request, and once more by the store's clock where ours is off; the answer, when it is a success.
    fn ask(&self, ask: &Ask<'_>) -> Result<Response<ureq::Body>, Fault> {
        let (answer, code) = match self.ask_once(ask)? {
            Ok(answer) => return Ok(answer),
            Err(refused) => refused,
        };
        // It does not say what is wrong with a signature; its own clock tells whether it may be the date.
        let theirs = header(&answer, "date").and_then(|date| jiff::fmt::rfc2822::parse(date.trim()).ok());
        let ahead = theirs.map_or(0, |date| date.timestamp().as_second() - Timestamp::now().as_second());
        let known = self.ahead.load(Ordering::Relaxed);
        if code == "AuthenticationFailed" && ahead.abs() > APART && (ahead - known).abs() > APART {
            self.ahead.store(ahead, Ordering::Relaxed);
            (self.wires.inner.shared.tell)(&format!(
                "the clock of {} is {} min {} ours: requests are dated by its clock",
                self.name,
                (ahead.abs() + 30) / 60,
                if ahead > 0 { "ahead of" } else { "behind" }
            ));
            return match self.ask_once(ask)? {
                Ok(answer) => Ok(answer),
                Err((answer, code)) => Err(self.fault(&answer, &code, ask.what)),
            };
        }
        Err(self.fault(&answer, &code, ask.what))
    }

    /// The store's time.
    fn now(&self) -> Timestamp {
        let ahead = SignedDuration::from_secs(self.ahead.load(Ordering::Relaxed));
        Timestamp::now().checked_add(ahead).unwrap_or_else(|_| Timestamp::now())
    }

    /// Sends one request: the answer, and the store's word for why it is no success.
    fn ask_once(&self, ask: &Ask<'_>) -> Result<Result<Response<ureq::Body>, Refused>, Fault> {
        let path = self.path(ask.object);
        let date = self.now().strftime("%a, %d %b %Y %H:%M:%S GMT").to_string();
        let mut headers: Vec<(&str, &str)> = ask.headers.to_vec();
        headers.extend([("x-ms-date", date.as_str()), ("x-ms-version", VERSION)]);
        headers.sort_unstable();
        let mut query = ask.query.to_vec();
        query.sort_unstable();
        let len = ask.body.len() as u64;
        let md5 = if ask.body.is_empty() { String::new() } else { STANDARD.encode(Md5::digest(ask.body)) };
        let unsigned = Unsigned { method: ask.method, path: &path, query: &query, len, md5: &md5, headers: &headers };
        let authorization = self.key.authorization(&unsigned);
        let len = len.to_string();
        headers.push(("authorization", &authorization));
        if !md5.is_empty() {
            headers.push(("content-md5", &md5));
        }
        let mut target = format!("{}{path}", self.base());
        if !query.is_empty() {
            target = format!("{target}?{}", super::sign::query(&query));
        }
        let client = self.client()?;
        let mut answer = match ask.method {
            "PUT" => {
                headers.push(("content-length", &len));
                let shared = &self.wires.inner.shared;
                let mut reader = Paced::new(ask.body, &shared.pace, &shared.stop);
                client.send_to("PUT", &target, &headers, SendBody::from_reader(&mut reader))?
            }
            method => client.send_to(method, &target, &headers, ())?,
        };
        if answer.status().is_success() {
            return Ok(Ok(answer));
        }
        let code = match header(&answer, "x-ms-error-code").map(String::from) {
            Some(code) => code,
            None => bytes_of(&mut answer)
                .and_then(|bytes| xml::read(&bytes))
                .ok()
                .and_then(|said| xml::first(&said.texts, "Code").map(String::from))
                .unwrap_or_default(),
        };
        Ok(Err((answer, code)))
    }

    /// What an answer that is no success means, with the remedy where there is one.
    fn fault(&self, answer: &Response<ureq::Body>, code: &str, what: &str) -> Fault {
        let container = self.container.rsplit('/').next().unwrap_or_default();
        let status = answer.status().as_u16();
        match (code, status) {
            ("ContainerNotFound", _) => Fault::Fatal(
                WireKind::Absent,
                format!("there is no container '{container}': make it there, or name another in 'at'"),
            ),
            ("BlobNotFound" | "ResourceNotFound", _) => {
                Fault::Fatal(WireKind::Absent, "there is nothing of this name".into())
            }
            ("AuthenticationFailed" | "InvalidAuthenticationInfo", _) => Fault::Fatal(
                WireKind::Denied,
                "our key does not fit its account, or our clock is off by more than 15 min: look at key-id and key, and at the clock"
                    .into(),
            ),
            ("AccountIsDisabled" | "InsufficientAccountPermissions" | "AuthorizationFailure", _)
            | ("AuthorizationPermissionMismatch", _) => Fault::Fatal(
                WireKind::Denied,
                format!("our key may not {what} in '{container}': grant it that, or use a container of your own"),
            ),
            ("AccountQuotaExceeded" | "InsufficientStorage" | "QuotaExceeded", _) | (_, 507) => {
                Fault::Fatal(WireKind::Refused, "it has no room for that: ask for a larger quota".into())
            }
            ("Md5Mismatch" | "Crc64Mismatch" | "IncompleteBody", _) => {
                Fault::again("what arrived there is not what was sent")
            }
            ("ServerBusy" | "InternalError" | "OperationTimedOut", _) => fault_of_answer(503, answer.headers(), false),
            ("", _) => fault_of_answer(status, answer.headers(), false),
            (code, _) => Fault::Fatal(WireKind::Refused, format!("it answers {status}: {code}")),
        }
    }

    /// What the store says of an object: its length, and the upload that it waits for.
    fn state(&self, name: &str) -> Result<Option<(u64, Option<String>)>, Fault> {
        let (name, moment) = at_moment(name);
        let query: Vec<_> = moment.map(|moment| ("snapshot", moment)).into_iter().collect();
        let ask =
            Ask { method: "HEAD", object: Some(name), query: &query, headers: &[], body: &[], what: "read objects" };
        match self.ask(&ask) {
            Ok(answer) => {
                let len = header(&answer, "content-length").and_then(|len| len.parse().ok());
                let len = len.ok_or_else(|| Fault::protocol("it does not say how long an object is"))?;
                Ok(Some((len, header(&answer, MARK).map(String::from))))
            }
            Err(Fault::Fatal(WireKind::Absent, _)) => Ok(None),
            Err(fault) => Err(fault),
        }
    }

    /// The runs of pages that hold data.
    fn ranges(&self, name: &str) -> Result<Vec<(u64, u64)>, Fault> {
        let (mut runs, mut marker) = (Vec::new(), String::new());
        let (name, moment) = at_moment(name);
        for _ in 0..LISTS {
            let mut query = vec![("comp", "pagelist")];
            query.extend(moment.map(|moment| ("snapshot", moment)));
            if !marker.is_empty() {
                query.push(("marker", &marker));
            }
            let ask =
                Ask { method: "GET", object: Some(name), query: &query, headers: &[], body: &[], what: "read objects" };
            let list = xml::read(&bytes_of(&mut self.ask(&ask)?)?)?;
            for range in xml::groups(&list.texts, "PageRange") {
                let number = |name: &str| xml::one(&range, name).and_then(|text| text.parse::<u64>().ok());
                let (Some(start), Some(end)) = (number("Start"), number("End")) else {
                    return Err(Fault::protocol("a range of pages has no ends"));
                };
                let len = end.checked_sub(start).and_then(|len| len.checked_add(1));
                runs.push((start, len.ok_or_else(|| Fault::protocol("a range of pages ends before it begins"))?));
            }
            marker = xml::first(&list.texts, "NextMarker").unwrap_or_default().to_string();
            if marker.is_empty() {
                return Ok(runs);
            }
        }
        Err(Fault::protocol("its list of pages has no end"))
    }
}

impl Store for Pages {
    fn about(&self) -> Result<Vec<String>, Fault> {
        let open = self.open("")?;
        Ok(vec![
            format!("disks go there in pages of {PAGE} bytes, those that hold nothing are not sent"),
            match open.len() {
                0 => "no disk is left unfinished".into(),
                1 => "one disk is left unfinished".into(),
                count => format!("{count} disks are left unfinished"),
            },
        ])
    }

    fn len_of(&self, name: &str) -> Result<Option<u64>, Fault> {
        // What is not whole is not there yet.
        Ok(self.state(name)?.filter(|(_, mark)| mark.is_none()).map(|(len, _)| len))
    }

    fn put(&self, name: &str, bytes: &[u8]) -> Result<(), Fault> {
        let headers = [("x-ms-blob-type", "BlockBlob")];
        let ask =
            Ask { method: "PUT", object: Some(name), query: &[], headers: &headers, body: bytes, what: "put objects" };
        self.ask(&ask).map(drop)
    }

    fn remove(&self, name: &str) -> Result<(), Fault> {
        let headers = [("x-ms-delete-snapshots", "include")];
        let ask = Ask {
            method: "DELETE",
            object: Some(name),
            query: &[],
            headers: &headers,
            body: &[],
            what: "remove objects",
        };
        match self.ask(&ask) {
            Err(Fault::Fatal(WireKind::Absent, _)) => Ok(()),
            other => other.map(drop),
        }
    }

    fn address(&self, name: &str) -> String {
        format!("{}{}", self.base(), self.path(Some(name)))
    }

    fn link(&self, name: &str) -> Result<Link, Fault> {
        let container = self.container.rsplit('/').next().unwrap_or_default();
        let end = self.now().checked_add(SignedDuration::from_hours(LINK)).unwrap_or_else(|_| Timestamp::now());
        let (name, moment) = at_moment(name);
        let query = self.key.link_query(&format!("{container}/{}{name}", self.folder), moment, end);
        Link::parse(&format!("{}?{query}", self.address(name)))
            .map_err(|_| Fault::Fatal(WireKind::Settings, "its name makes no link".into()))
    }

    fn map(&self, name: &str) -> Result<Option<Vec<(u64, u64)>>, Fault> {
        self.ranges(name).map(Some)
    }

    fn snapshot(&self, name: &str) -> Result<Option<String>, Fault> {
        self.take_snapshot(name).map(Some)
    }

    fn remove_snapshot(&self, name: &str) -> Result<(), Fault> {
        self.give_snapshot_back(name)
    }

    fn parts(&self) -> Option<&dyn Parts> {
        Some(self)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// The account of the interface's own examples for trying ("Use the Azurite emulator"): its key is public.
    #[test]
    fn a_request_is_signed_as_the_interface_says() {
        let public = "Eby8vdM02xNOcqFlqUwJPLlmEtlCDXJ1OUzFT50uSRZ6IFsuFq2UVErCz4I6tq/K1SZFPTOtr/KBHBeksoGMGw==";
        let key = SharedKey::new(Secret::new("devstoreaccount1"), &Secret::new(public)).unwrap();
        let headers = [("x-ms-date", "Thu, 26 Nov 2026 20:00:00 GMT"), ("x-ms-version", VERSION)];
        let unsigned = Unsigned {
            method: "GET",
            path: "/devstoreaccount1/moves",
            query: &[("comp", "list"), ("restype", "container")],
            len: 0,
            md5: "",
            headers: &headers,
        };
        let text = key.authorization(&unsigned);
        assert!(text.starts_with("SharedKey devstoreaccount1:") && text.len() == 27 + 44, "{text}");
        assert!(SharedKey::new(Secret::new("a"), &Secret::new("not base64!")).is_none());
    }
}
