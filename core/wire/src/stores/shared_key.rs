//! Signing requests to a page store, and links into it (the Blob service's REST interface, "Authorize with Shared Key" and "Create a
//! service SAS", of the version that the requests name).

use base64::{Engine as _, engine::general_purpose::STANDARD};
use jiff::Timestamp;
use ring::hmac;

use crate::{link::encoded, secret::Secret};

/// The version of the interface that requests are made by.
pub(super) const VERSION: &str = "2019-12-12";
/// What a link says that it is of.
const LINK_VERSION: &str = "2018-11-09";

/// What signs.
pub(super) struct SharedKey {
    /// The account.
    pub(super) account: Secret,
    key: hmac::Key,
}

/// A request as it is signed.
pub(super) struct Unsigned<'a> {
    pub(super) method: &'a str,
    /// The path, encoded.
    pub(super) path: &'a str,
    /// Names and values, not encoded, in the order of their names.
    pub(super) query: &'a [(&'a str, &'a str)],
    /// Bytes of the body.
    pub(super) len: u64,
    /// The MD5 of the body as base64 has it; empty for none.
    pub(super) md5: &'a str,
    /// The interface's own headers, in the order of their names.
    pub(super) headers: &'a [(&'a str, &'a str)],
}

impl SharedKey {
    /// The key that `text` is in base64.
    pub(super) fn new(account: Secret, key: &Secret) -> Option<Self> {
        let bytes = STANDARD.decode(key.expose().trim()).ok()?;
        Some(Self { account, key: hmac::Key::new(hmac::HMAC_SHA256, &bytes) })
    }

    fn sign(&self, text: &str) -> String {
        STANDARD.encode(hmac::sign(&self.key, text.as_bytes()).as_ref())
    }

    /// The header by which `request` is let in.
    pub(super) fn authorization(&self, request: &Unsigned<'_>) -> String {
        let Unsigned { method, path, query, len, md5, headers } = request;
        let len = if *len == 0 { String::new() } else { len.to_string() };
        let account = self.account.expose();
        // Encoding, language, length, MD5, type, date, four conditions, range: those that are not sent are empty.
        let mut text = format!("{method}\n\n\n{len}\n{md5}\n\n\n\n\n\n\n\n");
        headers.iter().for_each(|(name, value)| text += &format!("{name}:{value}\n"));
        text += &format!("/{account}{path}");
        query.iter().for_each(|(name, value)| text += &format!("\n{name}:{value}"));
        format!("SharedKey {account}:{}", self.sign(&text))
    }

    /// The query of a link by which anybody may read the object at `name` (`CONTAINER/NAME`) until `end`; with a `moment`, its snapshot
    /// of that time.
    pub(super) fn link_query(&self, name: &str, moment: Option<&str>, end: Timestamp) -> String {
        let end = end.strftime("%Y-%m-%dT%H:%M:%SZ").to_string();
        let resource = format!("/blob/{}/{name}", self.account.expose());
        // Rights, start, end, what, policy, addresses, protocols, version, kind, snapshot, and five headers of the answer.
        let (kind, time) = (if moment.is_some() { "bs" } else { "b" }, moment.unwrap_or_default());
        let text = format!("r\n\n{end}\n{resource}\n\n\n\n{LINK_VERSION}\n{kind}\n{time}\n\n\n\n\n");
        let signature = encoded(&self.sign(&text), false);
        let snapshot = moment.map_or(String::new(), |moment| format!("snapshot={}&", encoded(moment, false)));
        format!("{snapshot}sv={LINK_VERSION}&sr={kind}&sp=r&se={}&sig={signature}", encoded(&end, false))
    }
}
