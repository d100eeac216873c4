//! A file behind a link, read by ranges; or, where the server knows none, from its start on.

use std::{
    io::Read,
    sync::{Arc, Mutex, PoisonError},
};

use reformis_disk::{
    error::WireKind,
    source::{Access, Version},
};

use super::{
    Renewer,
    client::{fault_of_answer, fault_of_io, text},
    follow::{Answer, Relink, get},
    forward::Forward,
    list,
    range::ContentRange,
};
use crate::{
    fault::{Fault, Stop},
    link::Link,
    remote::{Limits, Remote},
    steady::{self, Shared},
};

/// Bytes that are asked for when a link is opened: what tells most formats.
const FIRST: u64 = 64 << 10;

/// What opening a link gives.
pub(crate) enum Opened {
    /// It can be read at any place.
    Ranges(Arc<HttpFile>),
    /// It can only be read from its start on.
    Forward(Arc<Forward>),
}

/// A file that is read by ranges.
pub(crate) struct HttpFile {
    name: String,
    link: Link,
    relink: Arc<dyn Relink>,
    renewer: Option<Renewer>,
    len: u64,
    version: Version,
    /// A strong entity tag, as it was given.
    tag: Option<String>,
    access: Access,
    /// The start, which came with the answer to the first request.
    first: Vec<u8>,
    /// Where redirects led, until it expires.
    target: Mutex<Option<Link>>,
    depth: usize,
    shared: Shared,
}

/// The version that an answer's headers tell, and its strong entity tag (RFC 9110, section 8.8).
fn version_of(headers: &ureq::http::HeaderMap) -> (Version, Option<String>) {
    let tag = text(headers, "etag").filter(|tag| tag.starts_with('"') && tag.len() < 1024).map(str::to_string);
    let modified = || text(headers, "last-modified").and_then(|text| jiff::fmt::rfc2822::parse(text).ok());
    let version = match &tag {
        Some(tag) => Version::Tag(tag.clone()),
        None => modified().map_or(Version::Unknown, |time| Version::Modified(time.timestamp().into())),
    };
    (version, tag)
}

/// Opens `link`.
///
/// # Errors
/// What the try came to.
pub(crate) fn open(
    relink: &Arc<dyn Relink>,
    link: &Link,
    renewer: Option<Renewer>,
    depth: usize,
    shared: &Shared,
) -> Result<Opened, Fault> {
    let Answer { mut response, link: target } =
        get(relink.as_ref(), link, &[("range", &format!("bytes=0-{}", FIRST - 1))], false)?;
    let status = response.status().as_u16();
    let name = link.to_string();
    let has_credential = link.query.is_some() || relink.client(link, false)?.dial.has_credential();
    let access = steady::access(has_credential);
    let (version, tag) = version_of(response.headers());
    let len = match status {
        206 => {
            let range = part_of(response.headers())?;
            if range.first != 0 || range.last != (range.whole - 1).min(FIRST - 1) {
                return Err(Fault::protocol("it sends another part than it was asked for"));
            }
            range.whole
        }
        // Nothing lies inside of what is empty.
        416 if text(response.headers(), "content-range").and_then(ContentRange::whole_of_unmet) == Some(0) => 0,
        200 => {
            let len = match text(response.headers(), "content-encoding") {
                None | Some("identity") => text(response.headers(), "content-length").and_then(|len| len.parse().ok()),
                // The length is that of what was packed for the way.
                Some(_) => None,
            };
            return Ok(Opened::Forward(Arc::new(Forward::new(link.clone(), relink.clone(), len, tag, shared.clone()))));
        }
        _ => return Err(fault_of_answer(status, response.headers(), false)),
    };
    let mut first = vec![0; reformis_disk::to_usize(len.min(FIRST))];
    read_exactly(response.body_mut(), &mut first)?;
    let target = Some(target).filter(|target| target != link);
    Ok(Opened::Ranges(Arc::new(HttpFile {
        name,
        link: link.clone(),
        relink: relink.clone(),
        renewer,
        len,
        version,
        tag,
        access,
        first,
        target: Mutex::new(target),
        depth,
        shared: shared.clone(),
    })))
}

/// The part that an answer says it is.
fn part_of(headers: &ureq::http::HeaderMap) -> Result<ContentRange, Fault> {
    if text(headers, "content-encoding").is_some_and(|coding| coding != "identity") {
        return Err(Fault::protocol("it packs parts, which cannot be put together"));
    }
    let range = text(headers, "content-range").and_then(ContentRange::parse);
    range.ok_or_else(|| Fault::protocol("it sends a part, and does not say which"))
}

/// Reads a body of `buf`'s length, and sees that it ends there: then the connection is used again.
fn read_exactly(body: &mut ureq::Body, buf: &mut [u8]) -> Result<(), Fault> {
    let mut reader = body.as_reader();
    reader.read_exact(buf).map_err(|error| fault_of_io(&error))?;
    match reader.read(&mut [0]) {
        Ok(0) => Ok(()),
        Ok(_) => Err(Fault::protocol("it sends more than it was asked for")),
        Err(error) => Err(fault_of_io(&error)),
    }
}

impl HttpFile {
    /// Asks for `first..=last`, and fills `buf` with it.
    fn part(&self, at: u64, buf: &mut [u8], anew: bool) -> Result<(), Fault> {
        let last = at + buf.len() as u64 - 1;
        let range = format!("bytes={at}-{last}");
        let mut extra = vec![("range", range.as_str())];
        if let Some(tag) = &self.tag {
            extra.push(("if-match", tag));
        }
        let known = self.target.lock().unwrap_or_else(PoisonError::into_inner).clone();
        let Answer { mut response, link } =
            get(self.relink.as_ref(), known.as_ref().unwrap_or(&self.link), &extra, anew)?;
        let status = response.status().as_u16();
        match status {
            206 => {}
            200 => {
                self.same(
                    response.headers(),
                    text(response.headers(), "content-length").and_then(|len| len.parse().ok()),
                )?;
                return Err(Fault::again("it sends the whole in place of a part"));
            }
            _ => {
                let fault = fault_of_answer(status, response.headers(), true);
                // A place that a link led to may be gone while the link is good.
                let is_led = known.is_some() && matches!(fault, Fault::Expired(_) | Fault::Changed(_)) && status != 412;
                return Err(if is_led { Fault::Expired(fault.what()) } else { fault });
            }
        }
        let part = part_of(response.headers())?;
        self.same(response.headers(), Some(part.whole))?;
        if (part.first, part.last) != (at, last) {
            return Err(Fault::protocol(format!(
                "it was asked for bytes {at} to {last}, and sends {} to {}",
                part.first, part.last
            )));
        }
        if known.is_none() && link != self.link {
            *self.target.lock().unwrap_or_else(PoisonError::into_inner) = Some(link);
        }
        read_exactly(response.body_mut(), buf)
    }

    /// Fails when the headers tell of another version.
    fn same(&self, headers: &ureq::http::HeaderMap, whole: Option<u64>) -> Result<(), Fault> {
        if whole.is_some_and(|whole| whole != self.len) {
            return Err(Fault::Changed(format!("it had {} bytes, and has {}", self.len, whole.unwrap_or(0))));
        }
        let (version, _) = version_of(headers);
        let told = version != Version::Unknown && self.version != Version::Unknown;
        if told && version != self.version {
            return Err(Fault::Changed("its version is another one".into()));
        }
        Ok(())
    }
}

impl Remote for HttpFile {
    fn name(&self) -> &str {
        &self.name
    }

    fn len(&self) -> u64 {
        self.len
    }

    fn version(&self) -> Version {
        self.version.clone()
    }

    fn access(&self) -> Access {
        self.access
    }

    fn limits(&self) -> Limits {
        Limits { piece: 4 << 20, depth: self.depth }
    }

    fn fetch(&self, at: u64, buf: &mut [u8], _: &Stop) -> Result<(), Fault> {
        let end = at + buf.len() as u64;
        if let (true, Ok(start), Ok(stop)) = (end <= self.first.len() as u64, usize::try_from(at), usize::try_from(end))
            && let Some(bytes) = self.first.get(start..stop)
        {
            buf.copy_from_slice(bytes);
            return Ok(());
        }
        self.part(at, buf, false)
    }

    fn renew(&self, why: &str, _: &Stop) -> Result<(), Fault> {
        *self.target.lock().unwrap_or_else(PoisonError::into_inner) = None;
        if let Some(renewer) = &self.renewer {
            let link = renewer()?;
            *self.target.lock().unwrap_or_else(PoisonError::into_inner) = Some(link);
        }
        if self.len == 0 {
            return Ok(());
        }
        // The credentials may be others by now: a file that somebody keeps fresh.
        match self.part(0, &mut [0], true) {
            Err(Fault::Expired(_)) => Err(Fault::Fatal(WireKind::Expired, why.into())),
            other => other,
        }
    }

    fn check(&self, _: &Stop) -> Result<(), Fault> {
        if self.len == 0 { Ok(()) } else { self.part(self.len - 1, &mut [0], false) }
    }

    fn sibling(&self, name: &str, _: &Stop) -> Result<Arc<dyn Remote>, Fault> {
        match open(&self.relink, &self.link.beside(name), None, self.depth, &self.shared)? {
            Opened::Ranges(file) => Ok(file),
            Opened::Forward(_) => Err(Fault::Fatal(
                WireKind::Refused,
                "the server sends no parts of files, and this one is needed at any place".into(),
            )),
        }
    }

    fn neighbours(&self, _: &Stop) -> Result<Vec<String>, Fault> {
        match list(self.relink.as_ref(), &self.link.with_path(self.link.folder())) {
            Ok(listing) => Ok(listing.files),
            // Few servers list their folders; that is no trouble.
            Err(Fault::Fatal(..) | Fault::Expired(_) | Fault::Changed(_)) => Ok(Vec::new()),
            Err(fault) => Err(fault),
        }
    }
}
