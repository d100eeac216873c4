//! Who is let in: requests that the account's key signed, and links that it signed for a time.

use base64::{Engine as _, engine::general_purpose::STANDARD};

use super::{State, refuse};
use crate::{
    host::request::Request,
    store::{
        refusal::Refusal,
        signature::{decoded, hmac, seconds},
    },
};

/// The most by which clocks may be apart, in seconds.
const SKEW: u64 = 15 * 60;

/// The time of a header, `Thu, 26 Nov 2026 20:00:00 GMT`, in seconds since 1970.
fn said_at(text: &str) -> Option<u64> {
    const MONTHS: [&str; 12] = ["Jan", "Feb", "Mar", "Apr", "May", "Jun", "Jul", "Aug", "Sep", "Oct", "Nov", "Dec"];
    let words: Vec<&str> = text.split(' ').collect();
    let &[_, day, month, year, time, "GMT"] = &words[..] else { return None };
    let month = MONTHS.iter().position(|known| *known == month)? + 1;
    seconds(&format!("{year}{month:02}{day}T{}Z", time.replace(':', "")))
}

impl State {
    fn sign(&self, text: &str) -> String {
        STANDARD.encode(hmac(&STANDARD.decode(&self.options.key).unwrap_or_default(), text.as_bytes()))
    }

    /// Whether a request is signed by the account's key, now.
    pub(super) fn check_key(&self, request: &Request) -> Result<(), Refusal> {
        let header = |name: &str| request.headers.get(name).map_or("", String::as_str);
        let len = if request.body.is_empty() { String::new() } else { request.body.len().to_string() };
        let mut text = format!(
            "{}\n\n\n{len}\n{}\n{}\n\n\n\n\n\n{}\n",
            request.method,
            header("content-md5"),
            header("content-type"),
            header("range")
        );
        for (name, value) in request.headers.iter().filter(|(name, _)| name.starts_with("x-ms-")) {
            text += &format!("{name}:{value}\n");
        }
        text += &format!("/{}{}", self.options.account, request.path);
        let pairs = request.query.split('&').filter(|pair| !pair.is_empty());
        let mut pairs: Vec<(String, String)> = pairs
            .map(|pair| pair.split_once('=').unwrap_or((pair, "")))
            .map(|(name, value)| (decoded(name).to_lowercase(), decoded(value)))
            .collect();
        pairs.sort();
        pairs.iter().for_each(|(name, value)| text += &format!("\n{name}:{value}"));
        let wanted = format!("SharedKey {}:{}", self.options.account, self.sign(&text));
        if header("authorization") != wanted {
            return refuse(403, "AuthenticationFailed");
        }
        let said = said_at(header("x-ms-date")).unwrap_or(0);
        if said.abs_diff(self.now()) > SKEW {
            return refuse(403, "AuthenticationFailed");
        }
        Ok(())
    }

    /// Whether a link that needs no more than itself is good for reading `path` now.
    pub(super) fn check_link(&self, request: &Request, path: &str) -> Result<(), Refusal> {
        let part = |name: &str| request.parameter(name).map(decoded).unwrap_or_default();
        let (end, version, rights) = (part("se"), part("sv"), part("sp"));
        let resource = format!("/blob{path}");
        // What is of an object is of no snapshot, and of one snapshot of no other.
        let (kind, moment) = (part("sr"), part("snapshot"));
        if (kind == "bs") == moment.is_empty() {
            return refuse(403, "AuthenticationFailed");
        }
        let text = format!("{rights}\n\n{end}\n{resource}\n\n\n\n{version}\n{kind}\n{moment}\n\n\n\n\n");
        if part("sig") != self.sign(&text) {
            return refuse(403, "AuthenticationFailed");
        }
        let digits: String = end.chars().filter(|c| !matches!(c, '-' | ':')).collect();
        match seconds(&digits) {
            Some(end) if end > self.now() && rights.contains('r') => Ok(()),
            _ => refuse(403, "AuthenticationFailed"),
        }
    }
}
