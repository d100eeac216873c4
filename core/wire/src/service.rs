//! A service that speaks JSON over HTTP within sessions, as hosts that export and clouds that import do (`docs/export-protocol.md`,
//! `docs/cloud-protocol.md`).

use std::sync::{Arc, Mutex, PoisonError};

use reformis_disk::error::WireKind;
use serde::Deserialize;
use ureq::http::Response;

use crate::{
    fault::Fault,
    http::{self, Relink, get},
    link::{Link, escaped},
    secret::Secret,
    wires::Wires,
};

/// The longest answer, in bytes.
const MOST: u64 = 32 << 20;
/// The most characters of a sentence that are shown.
const SENTENCE: usize = 300;

/// An answer that tells of an error.
#[derive(Debug, Clone, Default, PartialEq, Eq, Deserialize)]
pub(crate) struct Failure {
    #[serde(default)]
    pub(crate) code: String,
    #[serde(default)]
    pub(crate) sentence: String,
    /// The grant that is missing.
    #[serde(default)]
    pub(crate) grant: Option<String>,
    /// What the person can do.
    #[serde(default)]
    pub(crate) remedy: Option<String>,
}

/// Why a request was not done.
pub(crate) enum No {
    /// The service says so, with a status.
    Said(u16, Failure),
    /// It did not get that far.
    Fault(Fault),
}

impl From<Fault> for No {
    fn from(fault: Fault) -> Self {
        Self::Fault(fault)
    }
}

impl From<No> for Fault {
    fn from(no: No) -> Self {
        let (status, failure) = match no {
            No::Said(status, failure) => (status, failure),
            No::Fault(fault) => return fault,
        };
        let cut = |text: &str| text.chars().take(SENTENCE).collect::<String>();
        let mut what = match failure.sentence.is_empty() {
            true => format!("it answers {status}"),
            false => format!("it says: {} ({status})", cut(&failure.sentence)),
        };
        if let Some(grant) = &failure.grant {
            what += &format!("; the grant '{}' is missing", cut(grant));
        }
        if let Some(remedy) = &failure.remedy {
            what += &format!("; {}", cut(remedy));
        }
        match status {
            401 | 403 => Self::Fatal(WireKind::Denied, what),
            404 => Self::Fatal(WireKind::Absent, what),
            500.. => Self::again(what),
            _ => Self::Fatal(WireKind::Refused, what),
        }
    }
}

#[derive(Deserialize)]
struct Session {
    session: String,
}

/// A service at a link.
#[derive(Clone)]
pub(crate) struct Service {
    wires: Wires,
    link: Link,
    session: Arc<Mutex<Option<Secret>>>,
}

impl Service {
    /// The service at `link`.
    pub(crate) fn new(wires: &Wires, link: &Link) -> Self {
        Self { wires: wires.clone(), link: link.clone(), session: Arc::default() }
    }

    fn at(&self, path: &str) -> Link {
        self.link.with_path(format!("{}{path}", self.link.path.trim_end_matches('/')))
    }

    /// Sends one request, with the token or within `session`, and reads the answer: its status and its body.
    fn exchange(
        &self,
        method: &str,
        path: &str,
        body: &str,
        key: Option<&str>,
        session: Option<&Secret>,
    ) -> Result<(u16, Vec<u8>), Fault> {
        let link = self.at(path);
        let client = self.wires.inner.client(&link, false)?;
        let authorization = session.map(|session| format!("Session {}", session.expose()));
        let mut extra = vec![("accept", "application/json")];
        if !body.is_empty() {
            extra.push(("content-type", "application/json"));
        }
        extra.extend(key.map(|key| ("idempotency-key", key)));
        // A session takes the place of the token.
        extra.extend(authorization.as_ref().map(|text| ("authorization", text.as_str())));
        let mut response = client.send(method, &link, &extra, body.as_bytes())?;
        whole(&mut response)
    }

    /// What a link that needs nothing but itself leads to.
    pub(crate) fn fetch<T: for<'de> Deserialize<'de>>(&self, link: &Link) -> Result<T, Fault> {
        let mut answer = get(self.wires.inner.as_ref(), link, &[("accept", "application/json")], false)?;
        let (status, bytes) = whole(&mut answer.response)?;
        Ok(read(status, &bytes)?)
    }

    /// The session, opened where there is none; `ended` is the one that was refused.
    fn session(&self, ended: Option<&Secret>) -> Result<Secret, No> {
        let mut session = self.session.lock().unwrap_or_else(PoisonError::into_inner);
        if let Some(session) = session.as_ref().filter(|session| Some(*session) != ended) {
            return Ok(session.clone());
        }
        let (status, bytes) = self.exchange("POST", "/v1/session", "{}", None, None)?;
        let opened: Session = read(status, &bytes)?;
        let is_plain = opened.session.bytes().all(|byte| byte.is_ascii_graphic());
        if !is_plain || opened.session.is_empty() {
            return Err(Fault::protocol("the session that it opens has no sound name").into());
        }
        Ok(session.insert(Secret::new(opened.session)).clone())
    }

    /// Asks within a session, which is opened anew when it has ended.
    pub(crate) fn ask<T: for<'de> Deserialize<'de>>(&self, method: &str, path: &str, body: &str) -> Result<T, No> {
        self.ask_once(method, path, body, None)
    }

    /// The same for what must not be done twice: `key` tells the service that it is the same request.
    pub(crate) fn ask_once<T: for<'de> Deserialize<'de>>(
        &self,
        method: &str,
        path: &str,
        body: &str,
        key: Option<&str>,
    ) -> Result<T, No> {
        let session = self.session(None)?;
        let (status, bytes) = self.exchange(method, path, body, key, Some(&session))?;
        if status != 401 {
            return read(status, &bytes);
        }
        let session = self.session(Some(&session))?;
        let (status, bytes) = self.exchange(method, path, body, key, Some(&session))?;
        read(status, &bytes)
    }
}

/// The status and the body of an answer.
fn whole(response: &mut Response<ureq::Body>) -> Result<(u16, Vec<u8>), Fault> {
    let status = response.status().as_u16();
    if matches!(status, 429 | 503) {
        return Err(http::fault_of_answer(status, response.headers(), true));
    }
    Ok((status, http::document(response.body_mut().as_reader(), MOST)?))
}

/// A name as one part of a path.
pub(crate) fn name_in_path(name: &str) -> String {
    escaped(name).replace('/', "%2F")
}

/// What an answer holds.
pub(crate) fn read<T: for<'de> Deserialize<'de>>(status: u16, bytes: &[u8]) -> Result<T, No> {
    if (200..300).contains(&status) {
        // Whoever has nothing to say may say nothing (204, RFC 9110, 15.3.5).
        return Ok(parse(if bytes.is_empty() { b"null" } else { bytes })?);
    }
    #[derive(Default, Deserialize)]
    struct Failed {
        #[serde(default)]
        error: Failure,
    }
    let failed: Failed = serde_json::from_slice(bytes).unwrap_or_default();
    Err(No::Said(status, failed.error))
}

/// What the text of an answer holds.
pub(crate) fn parse<T: for<'de> Deserialize<'de>>(bytes: &[u8]) -> Result<T, Fault> {
    serde_json::from_slice(bytes).map_err(|_| Fault::protocol("its answer is not what the protocol says"))
}

/// Whether `bytes` open a session, as a fuzzer asks.
pub(crate) fn opens_session(bytes: &[u8]) -> bool {
    parse::<Session>(bytes).is_ok()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_refused_is_told_with_the_grant_and_the_remedy() {
        let body =
            br#"{"error": {"code": "grant", "sentence": "no", "grant": "images.make", "remedy": "ask the keeper"}}"#;
        let fault = Fault::from(read::<Session>(403, body).err().unwrap());
        assert_eq!(
            fault,
            Fault::Fatal(
                WireKind::Denied,
                "it says: no (403); the grant 'images.make' is missing; ask the keeper".into()
            )
        );
        assert!(matches!(Fault::from(read::<Session>(500, b"<html>").err().unwrap()), Fault::Again { .. }));
        assert!(matches!(Fault::from(read::<Session>(200, b"[]").err().unwrap()), Fault::Fatal(WireKind::Protocol, _)));
    }
}
