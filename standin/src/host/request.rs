//! Reading requests (RFC 9112), strictly.

use std::{
    collections::BTreeMap,
    io::{BufRead, Read},
};

/// The most bytes of a line, of all headers, and of a body.
const LINE: u64 = 16 << 10;
const HEADERS: usize = 100;
const BODY: usize = 64 << 10;

/// A request.
#[derive(Debug, Clone, Default)]
pub(crate) struct Request {
    pub(crate) method: String,
    /// The path, from its slash on, without the query.
    pub(crate) path: String,
    pub(crate) query: String,
    /// Headers by their names in small letters.
    pub(crate) headers: BTreeMap<String, String>,
    pub(crate) body: Vec<u8>,
}

fn line(input: &mut impl BufRead) -> Option<String> {
    let mut bytes = Vec::new();
    input.take(LINE).read_until(b'\n', &mut bytes).ok()?;
    let text = String::from_utf8(bytes).ok()?;
    Some(text.strip_suffix("\r\n")?.to_string())
}

/// The next request with its body; `None` at the end, and for what is none.
pub(crate) fn read(input: &mut impl BufRead) -> Option<Request> {
    let mut request = read_head(input)?;
    let len = usize::try_from(request.length()?).ok().filter(|len| *len <= BODY)?;
    request.body = vec![0; len];
    input.read_exact(&mut request.body).ok()?;
    Some(request)
}

/// The next request without its body, which is still to be read and of a length that is told; `None` at the end, and for what is none.
pub(crate) fn read_head(input: &mut impl BufRead) -> Option<Request> {
    read_head_of_any(input).filter(|request| !request.headers.contains_key("transfer-encoding"))
}

/// The same, where the body may come in chunks.
pub(crate) fn read_head_of_any(input: &mut impl BufRead) -> Option<Request> {
    let first = line(input)?;
    let mut words = first.split(' ');
    let (method, target, version) = (words.next()?, words.next()?, words.next()?);
    if words.next().is_some() || version != "HTTP/1.1" || !target.starts_with('/') {
        return None;
    }
    let (path, query) = target.split_once('?').unwrap_or((target, ""));
    let mut request = Request { method: method.into(), path: path.into(), query: query.into(), ..Request::default() };
    for _ in 0..HEADERS {
        let line = line(input)?;
        if line.is_empty() {
            return Some(request);
        }
        let (name, value) = line.split_once(':')?;
        let is_token =
            !name.is_empty() && name.bytes().all(|byte| byte.is_ascii_alphanumeric() || b"-_".contains(&byte));
        // Two headers of one name are a mistake in all that we read.
        let twice = request.headers.insert(name.to_ascii_lowercase(), value.trim().into()).is_some();
        if !is_token || twice {
            return None;
        }
    }
    None
}

impl Request {
    /// All of it but its body, in one line.
    pub(crate) fn line(&self) -> String {
        let headers: Vec<_> = self.headers.iter().map(|(name, value)| format!("{name}: {value}")).collect();
        format!("{} {}?{} {}", self.method, self.path, self.query, headers.join(", "))
    }

    /// Bytes of its body.
    pub(crate) fn length(&self) -> Option<u64> {
        self.headers.get("content-length").map_or(Some(0), |len| len.parse().ok())
    }

    /// The value of `name` in the query.
    pub(crate) fn parameter(&self, name: &str) -> Option<&str> {
        self.query.split('&').find_map(|pair| pair.strip_prefix(name)?.strip_prefix('='))
    }

    /// The part that is asked for, of a file of `len` bytes: only ranges with both ends.
    pub(crate) fn range(&self, len: u64) -> Option<(u64, u64)> {
        let (first, last) = self.headers.get("range")?.strip_prefix("bytes=")?.split_once('-')?;
        let (first, last): (u64, u64) = (first.parse().ok()?, last.parse().ok()?);
        (first <= last && first < len).then(|| (first, last.min(len - 1)))
    }
}
