//! An object store: a bucket that is spoken to by signed requests (the S3 interface, its API reference).

use std::{
    collections::BTreeMap,
    io::Read,
    sync::{
        Arc,
        atomic::{AtomicI64, Ordering},
    },
};

use jiff::Timestamp;
use reformis_disk::error::WireKind;
use ureq::{SendBody, http::Response};

use super::{
    Done, Parts, Piece, Store, Sum, There,
    sign::{self, Signer, Unsigned, sha256},
    xml::{self, Text},
};
use crate::{
    fault::Fault,
    http::{Client, Relink, document, fault_of_answer},
    link::{Link, encoded},
    secret::Secret,
    settings::{Checksum, HeaderValue, StoreSettings, Style},
    wires::{Inner, Wires},
};

/// The longest document that is read of an answer, in bytes.
const MOST: u64 = 16 << 20;
/// How long a link for reading is good.
const LINK: u32 = 12 * 3600;
/// The most pages of a list: 10,000 parts, a few in each.
const PAGES: usize = 10_000;
/// The most names that are taken of a list.
const MANY: usize = 100_000;
/// A clock that is further away than this is told of, in seconds.
const APART: i64 = 5 * 60;

/// A bucket, and a folder in it.
pub(super) struct Objects {
    name: String,
    wires: Wires,
    link: Link,
    /// `HOST` or `HOST:PORT`.
    host: String,
    /// The first part of every path, encoded: the bucket, where it stands there.
    bucket: String,
    /// The folder that all names begin with; empty, or with a slash at its end.
    folder: String,
    signer: Signer,
    sum: Sum,
    /// Seconds by which the store's clock is ahead of ours.
    ahead: AtomicI64,
}

impl Objects {
    pub(super) fn new(wires: &Wires, name: &str, settings: &StoreSettings) -> Result<Self, Fault> {
        let missing = || Fault::Fatal(WireKind::Settings, "it has no key".into());
        let wrong = |error: reformis_disk::error::WireError| Fault::Fatal(WireKind::Settings, error.what);
        let link = Link::parse(&settings.at).map_err(wrong)?;
        let path = link.path.trim_matches('/');
        let (bucket, folder) = match settings.style {
            Style::Path => path.split_once('/').unwrap_or((path, "")),
            Style::Host => ("", path),
        };
        Ok(Self {
            name: name.into(),
            wires: wires.clone(),
            host: match link.port {
                Some(port) => format!("{}:{port}", link.host),
                None => link.host.clone(),
            },
            bucket: if bucket.is_empty() { String::new() } else { format!("/{}", encoded(bucket, false)) },
            folder: if folder.is_empty() { String::new() } else { format!("{folder}/") },
            signer: Signer {
                id: match settings.key_id.as_ref().ok_or_else(missing)? {
                    HeaderValue::Plain(text) => Secret::new(text.as_str()),
                    HeaderValue::Secret(credential) => wires.inner.secret(credential)?,
                },
                key: wires.inner.secret(settings.key.as_ref().ok_or_else(missing)?)?,
                region: settings.region.clone().unwrap_or_default(),
            },
            sum: match settings.checksum(&link) {
                Checksum::Sha256 => Sum::Sha256,
                Checksum::Crc32c => Sum::Crc32c,
            },
            ahead: AtomicI64::new(0),
            link,
        })
    }

    fn inner(&self) -> &Arc<Inner> {
        &self.wires.inner
    }

    fn client(&self) -> Result<Arc<Client>, Fault> {
        self.inner().client(&self.link, false)
    }

    /// The path of the object `name`, encoded; that of the bucket for none.
    fn path(&self, name: Option<&str>) -> String {
        match name {
            Some(name) => format!("{}/{}", self.bucket, encoded(&format!("{}{name}", self.folder), true)),
            None if self.bucket.is_empty() => "/".into(),
            None => self.bucket.clone(),
        }
    }

    fn now(&self) -> Timestamp {
        let ahead = jiff::SignedDuration::from_secs(self.ahead.load(Ordering::Relaxed));
        Timestamp::now().checked_add(ahead).unwrap_or_else(|_| Timestamp::now())
    }

    /// The scheme and the host of a link there.
    fn base(&self) -> String {
        format!("{}://{}", if self.link.scheme == crate::Scheme::Https { "https" } else { "http" }, self.host)
    }

    /// Sends one request, and once more by the store's clock where ours is off; the answer, when it is a success.
    fn ask<'b>(
        &self,
        ask: &Ask<'_>,
        body: &dyn Fn() -> Option<Box<dyn Read + 'b>>,
    ) -> Result<Response<ureq::Body>, Fault> {
        for is_last in [false, true] {
            let path = self.path(ask.object);
            let Ask { method, query, digest, sum, .. } = *ask;
            let unsigned = Unsigned { method, host: &self.host, path: &path, query, digest, sum };
            let headers = self.signer.headers(&unsigned, self.now());
            let len = ask.len.to_string();
            let mut extra: Vec<(&str, &str)> = headers.iter().map(|(name, value)| (*name, value.as_str())).collect();
            let mut target = format!("{}{path}", self.base());
            if !ask.query.is_empty() {
                target = format!("{target}?{}", sign::query(ask.query));
            }
            let has_body = matches!(ask.method, "PUT" | "POST");
            if has_body {
                extra.push(("content-length", &len));
            }
            let client = self.client()?;
            let mut answer = match body().filter(|_| has_body) {
                Some(mut reader) => client.send_to(ask.method, &target, &extra, SendBody::from_reader(&mut reader))?,
                None => client.send_to(ask.method, &target, &extra, ())?,
            };
            if answer.status().is_success() {
                return Ok(answer);
            }
            let date = answer.headers().get("date").and_then(|date| date.to_str().ok()).and_then(read_date);
            let said = bytes_of(&mut answer).and_then(|bytes| xml::read(&bytes));
            let (status, texts) = (answer.status().as_u16(), said.map_or_else(|_| Vec::new(), |said| said.texts));
            if xml::first(&texts, "Code") == Some("RequestTimeTooSkewed") && !is_last {
                let date =
                    date.ok_or_else(|| Fault::protocol("it says that our clock is off, and not what its own shows"))?;
                let ahead = date.as_second() - Timestamp::now().as_second();
                self.ahead.store(ahead, Ordering::Relaxed);
                (self.inner().shared.tell)(&format!(
                    "the clock of {} is {} min {} ours: requests are dated by its clock",
                    self.name,
                    (ahead.abs() + 30) / 60,
                    if ahead > 0 { "ahead of" } else { "behind" }
                ));
                continue;
            }
            return Err(self.fault(status, answer.headers(), &texts, ask));
        }
        Err(Fault::protocol("it takes no clock, not even its own"))
    }

    /// What an answer that is no success means, with the remedy where there is one.
    fn fault(&self, status: u16, headers: &ureq::http::HeaderMap, texts: &[Text], ask: &Ask<'_>) -> Fault {
        let said = |name: &str| xml::first(texts, name);
        let bucket = self.bucket.trim_start_matches('/');
        let bucket = if bucket.is_empty() { self.host.as_str() } else { bucket };
        let region =
            headers.get("x-amz-bucket-region").and_then(|region| region.to_str().ok()).or_else(|| said("Region"));
        match (said("Code").unwrap_or_default(), status) {
            ("NoSuchBucket", _) => Fault::Fatal(
                WireKind::Absent,
                format!("there is no bucket '{bucket}': make it there, or name another in 'at'"),
            ),
            ("NoSuchUpload", _) => Fault::Changed("the upload is not there any more".into()),
            ("NoSuchKey", _) => Fault::Fatal(WireKind::Absent, "there is nothing of this name".into()),
            ("AuthorizationHeaderMalformed" | "PermanentRedirect" | "IllegalLocationConstraintException", _)
            | (_, 301) => {
                let place = region.map_or("another region".into(), |region| format!("the region '{region}'"));
                let signed = &self.signer.region;
                Fault::Fatal(
                    WireKind::Settings,
                    format!("the bucket is in {place}, and we sign for '{signed}': change 'region'"),
                )
            }
            ("InvalidAccessKeyId", _) => {
                Fault::Fatal(WireKind::Denied, "it does not know our key: look at key-id".into())
            }
            ("SignatureDoesNotMatch", _) => {
                Fault::Fatal(WireKind::Denied, "our key does not fit its name: look at key-id and key".into())
            }
            ("RequestTimeTooSkewed", _) => Fault::Fatal(WireKind::Denied, "our clock is off: set it".into()),
            ("QuotaExceeded" | "EntityTooLarge", _) | (_, 507) => {
                Fault::Fatal(WireKind::Refused, "it has no room for that: ask for a larger quota".into())
            }
            ("AccessDenied" | "AllAccessDisabled", _) | (_, 403) => Fault::Fatal(
                WireKind::Denied,
                format!("our key may not {} in '{bucket}': grant it that, or use a bucket of your own", ask.what),
            ),
            ("BadDigest" | "XAmzContentSHA256Mismatch" | "RequestTimeout" | "IncompleteBody", _) => {
                Fault::again("what arrived there is not what was sent")
            }
            ("SlowDown" | "InternalError" | "ServiceUnavailable" | "OperationAborted", _) => {
                fault_of_answer(503, headers, false)
            }
            ("", _) => fault_of_answer(status, headers, false),
            (code, _) => Fault::Fatal(WireKind::Refused, format!("it answers {status}: {code}")),
        }
    }

    /// A request whose answer says no more than that it was done.
    fn done(&self, ask: &Ask<'_>, body: &[u8]) -> Result<Vec<u8>, Fault> {
        let digest = sha256(body);
        let ask = Ask { digest: &digest, len: body.len() as u64, ..*ask };
        bytes_of(&mut self.ask(&ask, &|| (!body.is_empty()).then(|| Box::new(body) as Box<dyn Read + '_>))?)
    }

    /// A request whose answer is a document called `root`. What goes wrong after an answer has begun stands in it.
    fn texts(&self, ask: &Ask<'_>, body: &[u8], root: &str) -> Result<Vec<Text>, Fault> {
        let answer = xml::read(&self.done(ask, body)?)?;
        match answer.root.as_str() {
            "Error" => Err(self.fault(500, &ureq::http::HeaderMap::new(), &answer.texts, ask)),
            // Some servers end its name another way.
            found if found == root || found.strip_suffix("Response") == root.strip_suffix("Result") => Ok(answer.texts),
            _ => Err(Fault::protocol("its answer is not what was asked for: is it an object store?")),
        }
    }
}

/// A request, before it is signed.
#[derive(Clone, Copy)]
struct Ask<'a> {
    method: &'a str,
    object: Option<&'a str>,
    query: &'a [(&'a str, &'a str)],
    /// SHA-256 of the body.
    digest: &'a str,
    /// The header that says by which sum, or which it is.
    sum: Option<(&'static str, &'a str)>,
    len: u64,
    /// What our key needs to be allowed, as it is told.
    what: &'a str,
}

impl<'a> Ask<'a> {
    fn of(method: &'a str, object: Option<&'a str>, query: &'a [(&'a str, &'a str)], what: &'a str) -> Self {
        Self { method, object, query, digest: "", sum: None, len: 0, what }
    }
}

/// A time as HTTP writes it (RFC 9110, section 5.6.7).
fn read_date(text: &str) -> Option<Timestamp> {
    Some(jiff::fmt::rfc2822::parse(text.trim()).ok()?.timestamp())
}

fn bytes_of(answer: &mut Response<ureq::Body>) -> Result<Vec<u8>, Fault> {
    document(answer.body_mut().as_reader(), MOST)
}

impl Store for Objects {
    fn about(&self) -> Result<Vec<String>, Fault> {
        let open = self.open("")?;
        let mut lines = vec![format!("the region is {}", self.signer.region)];
        let ahead = self.ahead.load(Ordering::Relaxed);
        if ahead.abs() > APART {
            lines.push(format!("its clock is {} min away from ours", (ahead.abs() + 30) / 60));
        }
        lines.push(match open.len() {
            0 => "no upload is left unfinished".into(),
            1 => "one upload is left unfinished".into(),
            count => format!("{count} uploads are left unfinished"),
        });
        Ok(lines)
    }

    fn len_of(&self, name: &str) -> Result<Option<u64>, Fault> {
        let digest = sha256(b"");
        let ask = Ask { digest: &digest, ..Ask::of("HEAD", Some(name), &[], "read objects") };
        match self.ask(&ask, &|| None) {
            Ok(answer) => {
                let len = answer.headers().get("content-length").and_then(|len| len.to_str().ok()?.parse().ok());
                Ok(Some(len.ok_or_else(|| Fault::protocol("it does not say how long an object is"))?))
            }
            Err(Fault::Fatal(WireKind::Absent, _)) => Ok(None),
            Err(fault) => Err(fault),
        }
    }

    fn put(&self, name: &str, bytes: &[u8]) -> Result<(), Fault> {
        self.done(&Ask::of("PUT", Some(name), &[], "put objects"), bytes).map(drop)
    }

    fn remove(&self, name: &str) -> Result<(), Fault> {
        self.done(&Ask::of("DELETE", Some(name), &[], "remove objects"), b"").map(drop)
    }

    fn address(&self, name: &str) -> String {
        format!("{}{}", self.base(), self.path(Some(name)))
    }

    fn link(&self, name: &str) -> Result<Link, Fault> {
        let path = self.path(Some(name));
        let query = self.signer.link_query("GET", &self.host, &path, self.now(), LINK);
        Link::parse(&format!("{}{path}?{query}", self.base()))
            .map_err(|_| Fault::Fatal(WireKind::Settings, "its name makes no link".into()))
    }

    fn parts(&self) -> Option<&dyn Parts> {
        Some(self)
    }
}

impl Parts for Objects {
    fn sum(&self) -> Sum {
        self.sum
    }

    fn begin(&self, name: &str, _: u64) -> Result<String, Fault> {
        // Parts come with the sum that the upload was begun with, and with no other ("Checking object integrity").
        let sum = (self.sum == Sum::Crc32c).then_some(("x-amz-checksum-algorithm", "CRC32C"));
        let ask = Ask { sum, ..Ask::of("POST", Some(name), &[("uploads", "")], "put objects") };
        let texts = self.texts(&ask, b"", "InitiateMultipartUploadResult")?;
        let id = xml::first(&texts, "UploadId").map(String::from);
        id.ok_or_else(|| Fault::protocol("it begins an upload, and does not name it"))
    }

    fn put_part(&self, name: &str, id: &str, number: u32, piece: &Piece) -> Result<String, Fault> {
        let number = number.to_string();
        let query = [("partNumber", number.as_str()), ("uploadId", id)];
        let digest = if piece.crc.is_some() { sign::UNSIGNED } else { &piece.digest };
        let sum = piece.crc.as_deref().map(|crc| ("x-amz-checksum-crc32c", crc));
        let ask = Ask { digest, sum, len: piece.len, ..Ask::of("PUT", Some(name), &query, "put objects") };
        let shared = &self.inner().shared;
        let answer = self.ask(&ask, &|| Some(Box::new(piece.reader(&shared.pace, &shared.stop))))?;
        let tag = answer.headers().get("etag").and_then(|tag| tag.to_str().ok()).map(String::from);
        tag.ok_or_else(|| Fault::protocol("it takes a part, and gives no tag for it"))
    }

    fn there(&self, name: &str, id: &str) -> Result<Option<There>, Fault> {
        let mut there = BTreeMap::new();
        let mut marker = "0".to_string();
        for _ in 0..PAGES {
            let query = [("uploadId", id), ("part-number-marker", marker.as_str())];
            let texts = match self.texts(&Ask::of("GET", Some(name), &query, "list parts"), b"", "ListPartsResult") {
                Err(Fault::Changed(_)) => return Ok(None),
                other => other?,
            };
            for part in xml::groups(&texts, "Part") {
                let number = xml::one(&part, "PartNumber").and_then(|number| number.parse().ok());
                let len = xml::one(&part, "Size").and_then(|len| len.parse().ok());
                let (Some(number), Some(len), Some(tag)) = (number, len, xml::one(&part, "ETag")) else {
                    return Err(Fault::protocol("it lists a part without its number, length or tag"));
                };
                there.insert(number, (len, tag.to_string()));
            }
            let next = xml::first(&texts, "NextPartNumberMarker").unwrap_or_default().to_string();
            if xml::first(&texts, "IsTruncated") != Some("true") || next == marker || next.is_empty() {
                return Ok(Some(There::Parts(there)));
            }
            if there.len() > MANY {
                break;
            }
            marker = next;
        }
        Err(Fault::protocol("its list of parts has no end"))
    }

    fn finish(&self, name: &str, id: &str, parts: &[Done], _: u64) -> Result<(), Fault> {
        let part = |(index, done): (usize, &Done)| {
            let sum = |crc: &String| format!("<ChecksumCRC32C>{}</ChecksumCRC32C>", xml::escaped(crc));
            let sum = done.crc.as_ref().map(sum).unwrap_or_default();
            let (number, tag) = (index + 1, xml::escaped(&done.tag));
            format!("<Part><PartNumber>{number}</PartNumber><ETag>{tag}</ETag>{sum}</Part>")
        };
        let parts: String = parts.iter().enumerate().map(part).collect();
        let body = format!("<CompleteMultipartUpload>{parts}</CompleteMultipartUpload>");
        let query = [("uploadId", id)];
        let ask = Ask::of("POST", Some(name), &query, "put objects");
        self.texts(&ask, body.as_bytes(), "CompleteMultipartUploadResult").map(drop)
    }

    fn abort(&self, name: &str, id: &str) -> Result<(), Fault> {
        match self.done(&Ask::of("DELETE", Some(name), &[("uploadId", id)], "abort uploads"), b"") {
            Ok(_) | Err(Fault::Changed(_)) => Ok(()),
            Err(fault) => Err(fault),
        }
    }

    fn open(&self, name: &str) -> Result<Vec<(String, String)>, Fault> {
        let prefix = format!("{}{name}", self.folder);
        let mut open = Vec::new();
        let (mut key, mut id) = (String::new(), String::new());
        for _ in 0..PAGES {
            let mut query = vec![("uploads", "")];
            query.extend((!prefix.is_empty()).then_some(("prefix", prefix.as_str())));
            if !key.is_empty() {
                query.extend([("key-marker", key.as_str()), ("upload-id-marker", id.as_str())]);
            }
            let texts = self.texts(&Ask::of("GET", None, &query, "list uploads"), b"", "ListMultipartUploadsResult")?;
            for upload in xml::groups(&texts, "Upload") {
                if let (Some(key), Some(id)) = (xml::one(&upload, "Key"), xml::one(&upload, "UploadId"))
                    && let Some(name) = key.strip_prefix(&self.folder)
                {
                    open.push((name.to_string(), id.to_string()));
                }
            }
            let next = (xml::first(&texts, "NextKeyMarker"), xml::first(&texts, "NextUploadIdMarker"));
            let (Some(next_key), Some(next_id)) = next else { return Ok(open) };
            if xml::first(&texts, "IsTruncated") != Some("true") || (next_key == key && next_id == id) {
                return Ok(open);
            }
            if open.len() > MANY {
                break;
            }
            (key, id) = (next_key.into(), next_id.into());
        }
        Err(Fault::protocol("its list of uploads has no end"))
    }
}
