//! Checking signatures of version 4 (the S3 interface's "Authenticating Requests"), in headers and in links.

use std::collections::BTreeMap;

use sha2::{Digest, Sha256};

use super::refusal::Refusal;
use crate::host::request::Request;

/// By how many seconds a request's time may be off.
const APART: u64 = 15 * 60;

/// Who is let in, and where.
pub(super) struct Gate<'a> {
    pub(super) id: &'a str,
    pub(super) key: &'a str,
    pub(super) region: &'a str,
    /// Seconds since 1970.
    pub(super) now: u64,
}

pub(super) fn hex(bytes: &[u8]) -> String {
    bytes.iter().map(|byte| format!("{byte:02x}")).collect()
}

pub(super) fn hmac(key: &[u8], text: &[u8]) -> Vec<u8> {
    let mut block = [0u8; 64];
    match key.len() {
        0..=64 => block[..key.len()].copy_from_slice(key),
        _ => block[..32].copy_from_slice(&Sha256::digest(key)),
    }
    let pad = |with: u8| block.map(|byte| byte ^ with);
    let inner = Sha256::new().chain_update(pad(0x36)).chain_update(text).finalize();
    Sha256::new().chain_update(pad(0x5c)).chain_update(inner).finalize().to_vec()
}

/// Seconds since 1970 of a time such as `20261126T160000Z`.
pub(super) fn seconds(text: &str) -> Option<u64> {
    let number = |from: usize, to: usize| text.get(from..to)?.parse::<u64>().ok();
    let (year, month, day) = (number(0, 4)?, number(4, 6)?, number(6, 8)?);
    let (hour, minute, second) = (number(9, 11)?, number(11, 13)?, number(13, 15)?);
    if text.len() != 16 || &text[8..9] != "T" || !text.ends_with('Z') || !(1..=12).contains(&month) {
        return None;
    }
    // Days from the civil date, with years that begin in March.
    let (year, month) = if month > 2 { (year, month - 3) } else { (year.checked_sub(1)?, month + 9) };
    let days = year * 365 + year / 4 - year / 100 + year / 400 + (month * 153 + 2) / 5 + day - 1;
    Some(days.checked_sub(719_468)? * 86_400 + hour * 3600 + minute * 60 + second)
}

impl Gate<'_> {
    /// Lets `request` in, or says why not. Its path and its query are as they came.
    pub(super) fn check(&self, request: &Request) -> Result<(), Refusal> {
        let pairs: Vec<(&str, &str)> = request
            .query
            .split('&')
            .filter(|pair| !pair.is_empty())
            .map(|pair| pair.split_once('=').unwrap_or((pair, "")))
            .collect();
        let in_query: BTreeMap<&str, String> = pairs.iter().map(|(name, value)| (*name, decoded(value))).collect();
        let is_link = in_query.contains_key("X-Amz-Signature");
        let malformed = || Refusal::new(400, "AuthorizationHeaderMalformed");
        let (credential, names, signature) = match is_link {
            true => {
                let of = |name: &str| in_query.get(name).cloned().ok_or_else(malformed);
                (of("X-Amz-Credential")?, of("X-Amz-SignedHeaders")?, of("X-Amz-Signature")?)
            }
            false => {
                let header = request.headers.get("authorization").ok_or_else(|| Refusal::new(403, "AccessDenied"))?;
                let rest = header.strip_prefix("AWS4-HMAC-SHA256 ").ok_or_else(malformed)?;
                let of = |name: &str| {
                    let parts = rest.split(',').map(str::trim);
                    parts.filter_map(|part| part.strip_prefix(name)?.strip_prefix('=')).next().map(String::from)
                };
                (
                    of("Credential").ok_or_else(malformed)?,
                    of("SignedHeaders").ok_or_else(malformed)?,
                    of("Signature").ok_or_else(malformed)?,
                )
            }
        };
        let scope: Vec<&str> = credential.split('/').collect();
        let [id, day, region, "s3", "aws4_request"] = scope[..] else { return Err(malformed()) };
        if id != self.id {
            return Err(Refusal::new(403, "InvalidAccessKeyId"));
        }
        if region != self.region {
            return Err(Refusal { region: Some(self.region.into()), ..malformed() });
        }
        let time = match is_link {
            true => in_query.get("X-Amz-Date").cloned(),
            false => request.headers.get("x-amz-date").cloned(),
        };
        let time = time.ok_or_else(malformed)?;
        let at = seconds(&time).filter(|_| time.starts_with(day)).ok_or_else(malformed)?;
        if is_link {
            let lasts = in_query.get("X-Amz-Expires").and_then(|text| text.parse::<u64>().ok());
            let lasts = lasts.filter(|lasts| (1..=604_800).contains(lasts)).ok_or_else(malformed)?;
            if self.now > at + lasts || at > self.now + APART {
                return Err(Refusal::new(403, "AccessDenied"));
            }
        } else if at.abs_diff(self.now) > APART {
            return Err(Refusal::new(403, "RequestTimeTooSkewed"));
        }
        let digest = match is_link {
            true => "UNSIGNED-PAYLOAD".to_string(),
            false => request
                .headers
                .get("x-amz-content-sha256")
                .cloned()
                .ok_or_else(|| Refusal::new(400, "MissingSecurityHeader"))?,
        };
        let mut headers = String::new();
        for name in names.split(';') {
            let value = request.headers.get(name).ok_or_else(|| Refusal::new(403, "AccessDenied"))?;
            headers += &format!("{name}:{}\n", value.split_whitespace().collect::<Vec<_>>().join(" "));
        }
        let is_signed = |name: &String| names.split(';').any(|signed| signed == name);
        if request.headers.keys().any(|name| name.starts_with("x-amz-") && !is_signed(name)) {
            return Err(Refusal::new(403, "AccessDenied"));
        }
        if !names.split(';').any(|name| name == "host") {
            return Err(Refusal::new(403, "AccessDenied"));
        }
        let mut query: Vec<String> = pairs
            .iter()
            .filter(|(name, _)| *name != "X-Amz-Signature")
            .map(|(name, value)| format!("{name}={value}"))
            .collect();
        query.sort();
        let canonical =
            format!("{}\n{}\n{}\n{headers}\n{names}\n{digest}", request.method, request.path, query.join("&"));
        let scope = format!("{day}/{region}/s3/aws4_request");
        let text = format!("AWS4-HMAC-SHA256\n{time}\n{scope}\n{}", hex(&Sha256::digest(canonical)));
        let key = [day, region, "s3", "aws4_request"]
            .iter()
            .fold(format!("AWS4{}", self.key).into_bytes(), |key, part| hmac(&key, part.as_bytes()));
        match hex(&hmac(&key, text.as_bytes())) == signature {
            true => Ok(()),
            false => Err(Refusal::new(403, "SignatureDoesNotMatch")),
        }
    }
}

/// Text without its percent signs.
pub(crate) fn decoded(text: &str) -> String {
    let (mut out, mut bytes) = (Vec::new(), text.bytes());
    while let Some(byte) = bytes.next() {
        let digits = (byte == b'%').then(|| [bytes.next().unwrap_or(b'0'), bytes.next().unwrap_or(b'0')]);
        let value = digits.and_then(|digits| u8::from_str_radix(std::str::from_utf8(&digits).ok()?, 16).ok());
        out.push(value.unwrap_or(byte));
    }
    String::from_utf8_lossy(&out).into_owned()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn times_are_seconds() {
        for (text, expected) in [
            ("19700101T000000Z", Some(0)),
            ("20000229T123456Z", Some(951_827_696)),
            ("20261126T160000Z", Some(1_795_708_800)),
            ("20261326T160000Z", None),
            ("2026-11-26T16:0Z", None),
        ] {
            assert_eq!(seconds(text), expected, "{text}");
        }
    }

    #[test]
    fn the_code_is_that_of_rfc_4231() {
        // Test cases 1 and 6 of section 4.
        assert_eq!(
            hex(&hmac(&[0x0b; 20], b"Hi There")),
            "b0344c61d8db38535ca8afceaf0bf12b881dc200c9833da726e9376c2e32cff7"
        );
        assert_eq!(
            hex(&hmac(&[0xaa; 131], b"Test Using Larger Than Block-Size Key - Hash Key First")),
            "60e431591ee0b67f0d8a26aacbf5b77f8e0bc6213728c5140546040f0ee37f54"
        );
    }
}
