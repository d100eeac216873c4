//! Signing requests to an object store: version 4 of the signatures (the S3 interface's "Authenticating Requests", sections
//! "Using the Authorization Header" and "Using Query Parameters").

use std::fmt::Write as _;

use jiff::Timestamp;
use ring::{digest, hmac};

use crate::{link::encoded, secret::Secret};

/// What begins the names of the interface's own headers is theirs.
const ALGORITHM: &str = "AWS4-HMAC-SHA256";
const SERVICE: &str = "s3";
const END: &str = "aws4_request";
/// In place of a digest: the body is not part of what is signed.
pub(super) const UNSIGNED: &str = "UNSIGNED-PAYLOAD";

/// What signs.
pub(super) struct Signer {
    pub(super) id: Secret,
    pub(super) key: Secret,
    pub(super) region: String,
}

/// A request as it is signed.
pub(super) struct Unsigned<'a> {
    pub(super) method: &'a str,
    /// `HOST` or `HOST:PORT`, as the header has it.
    pub(super) host: &'a str,
    /// The path, encoded.
    pub(super) path: &'a str,
    /// Names and values, not encoded.
    pub(super) query: &'a [(&'a str, &'a str)],
    /// SHA-256 of the body, in hexadecimal digits; or [`UNSIGNED`].
    pub(super) digest: &'a str,
    /// One more header of the interface, whose name stands in front of `x-amz-content-sha256`.
    pub(super) sum: Option<(&'static str, &'a str)>,
}

/// The SHA-256 of `bytes` in hexadecimal digits.
pub(super) fn sha256(bytes: &[u8]) -> String {
    hex(digest::digest(&digest::SHA256, bytes).as_ref())
}

pub(super) fn hex(bytes: &[u8]) -> String {
    bytes.iter().fold(String::with_capacity(bytes.len() * 2), |mut text, byte| {
        let _ = write!(text, "{byte:02x}");
        text
    })
}

/// Names and values as they stand in a link: encoded, and sorted by their names.
pub(super) fn query(pairs: &[(&str, &str)]) -> String {
    let mut pairs: Vec<String> =
        pairs.iter().map(|(name, value)| format!("{}={}", encoded(name, false), encoded(value, false))).collect();
    pairs.sort();
    pairs.join("&")
}

impl Signer {
    fn scope(&self, day: &str) -> String {
        format!("{day}/{}/{SERVICE}/{END}", self.region)
    }

    fn signature(&self, day: &str, time: &str, canonical: &str) -> String {
        let sign = |key: &[u8], text: &str| {
            let key = hmac::Key::new(hmac::HMAC_SHA256, key);
            hmac::sign(&key, text.as_bytes()).as_ref().to_vec()
        };
        let text = format!("{ALGORITHM}\n{time}\n{}\n{}", self.scope(day), sha256(canonical.as_bytes()));
        let first = format!("AWS4{}", self.key.expose());
        let key = [day, &self.region, SERVICE, END].iter().fold(first.into_bytes(), |key, text| sign(&key, text));
        hex(&sign(&key, &text))
    }

    /// The headers that `request` goes with, signed at `now`.
    pub(super) fn headers(&self, request: &Unsigned<'_>, now: Timestamp) -> Vec<(&'static str, String)> {
        let (day, time) = stamps(now);
        let Unsigned { method, host, path, digest, .. } = request;
        let sum = request
            .sum
            .map_or_else(Default::default, |(name, value)| (format!("{name};"), format!("{name}:{value}\n")));
        let names = format!("host;{}x-amz-content-sha256;x-amz-date", sum.0);
        let headers = format!("host:{host}\n{}x-amz-content-sha256:{digest}\nx-amz-date:{time}\n", sum.1);
        let canonical = format!("{method}\n{path}\n{}\n{headers}\n{names}\n{digest}", query(request.query));
        let signature = self.signature(&day, &time, &canonical);
        let (id, scope) = (self.id.expose(), self.scope(&day));
        let mut headers = vec![
            (
                "authorization",
                format!("{ALGORITHM} Credential={id}/{scope},SignedHeaders={names},Signature={signature}"),
            ),
            ("x-amz-content-sha256", (*digest).into()),
            ("x-amz-date", time),
        ];
        headers.extend(request.sum.map(|(name, value)| (name, value.into())));
        headers
    }

    /// The query of a link by which anybody may `method` what is at `path`, for `seconds` from `now` on.
    pub(super) fn link_query(&self, method: &str, host: &str, path: &str, now: Timestamp, seconds: u32) -> String {
        let (day, time) = stamps(now);
        let credential = format!("{}/{}", self.id.expose(), self.scope(&day));
        let seconds = seconds.to_string();
        let pairs = [
            ("X-Amz-Algorithm", ALGORITHM),
            ("X-Amz-Credential", credential.as_str()),
            ("X-Amz-Date", time.as_str()),
            ("X-Amz-Expires", seconds.as_str()),
            ("X-Amz-SignedHeaders", "host"),
        ];
        let query = query(&pairs);
        let canonical = format!("{method}\n{path}\n{query}\nhost:{host}\n\nhost\n{UNSIGNED}");
        format!("{query}&X-Amz-Signature={}", self.signature(&day, &time, &canonical))
    }
}

/// The day and the time in the basic form of ISO 8601, in universal time.
fn stamps(now: Timestamp) -> (String, String) {
    let time = now.strftime("%Y%m%dT%H%M%SZ").to_string();
    (time.split('T').next().unwrap_or_default().to_string(), time)
}
