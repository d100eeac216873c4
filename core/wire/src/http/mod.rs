//! Files behind HTTP links (RFC 9110, RFC 9112), read by ranges.

mod client;
mod file;
mod follow;
mod forward;
mod listing;
mod range;

use std::{
    sync::Arc,
    time::{Duration, Instant},
};

pub(crate) use client::{Client, Dial, fault_of_answer, fault_of_io, fault_of_tls};
pub(crate) use file::{Opened, open};
pub(crate) use follow::{Relink, get};
pub use listing::read_listing;
pub(crate) use listing::{Listing, list};
use reformis_disk::error::WireKind;

use crate::fault::Fault;

/// What a status that is no success means for a try (RFC 9110, section 15). `opened` tells whether bytes came before.
fn fault_of(status: u16, after: Option<Duration>, opened: bool) -> Fault {
    let what = format!("the server answers {status}{}", name_of(status));
    match status {
        401 | 403 if !opened => Fault::Fatal(WireKind::Denied, what),
        404 if !opened => Fault::Fatal(WireKind::Absent, what),
        401 | 403 | 410 => Fault::Expired(what),
        408 | 425 | 429 | 500 | 502 | 503 | 504 => Fault::Again { what, after },
        404 => Fault::Changed("it is not there any more".into()),
        412 => Fault::Changed("its version is another one".into()),
        416 => Fault::Changed("it is shorter than it was".into()),
        407 => Fault::Fatal(WireKind::Denied, "the proxy wants a credential".into()),
        _ => Fault::Fatal(WireKind::Protocol, what),
    }
}

/// How long a document may take in all, however its bytes drip: a list of ten thousand machines comes in seconds.
const DOCUMENT: Duration = Duration::from_secs(120);

/// The document that `body` is.
///
/// # Errors
/// [`Fault::Fatal`]: it has more than `most` bytes, or takes longer than any document. What the transport says.
pub(crate) fn document(body: impl std::io::Read, most: u64) -> Result<Vec<u8>, Fault> {
    document_within(body, most, DOCUMENT)
}

fn document_within(mut body: impl std::io::Read, most: u64, patience: Duration) -> Result<Vec<u8>, Fault> {
    let (begun, mut bytes, mut piece) = (Instant::now(), Vec::new(), [0; 16 << 10]);
    loop {
        match body.read(&mut piece) {
            Ok(0) => return Ok(bytes),
            Ok(len) => bytes.extend_from_slice(piece.get(..len).unwrap_or_default()),
            Err(error) if error.kind() == std::io::ErrorKind::Interrupted => {}
            Err(error) => return Err(fault_of_io(&error)),
        }
        if bytes.len() as u64 > most {
            return Err(Fault::protocol("an answer has no end"));
        }
        if begun.elapsed() > patience {
            return Err(Fault::protocol("an answer comes so slowly that it has no end"));
        }
    }
}

fn name_of(status: u16) -> &'static str {
    match status {
        401 => " (it wants a credential)",
        403 => " (it does not let us in)",
        404 => " (there is nothing of this name)",
        410 => " (the link has expired)",
        429 | 503 => " (it is busy)",
        500 | 502 | 504 => " (trouble of its own)",
        _ => "",
    }
}

/// How long the other end wants us to wait (RFC 9110, section 10.2.3): seconds, or until a time.
fn retry_after(text: &str) -> Option<Duration> {
    if let Ok(seconds) = text.trim().parse() {
        return Some(Duration::from_secs(seconds));
    }
    let until = jiff::fmt::rfc2822::parse(text.trim()).ok()?.timestamp();
    Duration::try_from(until.duration_since(jiff::Timestamp::now())).ok()
}

/// Gives the link that is good now in place of one that has expired.
pub(crate) type Renewer = Arc<dyn Fn() -> Result<crate::Link, Fault> + Send + Sync>;

#[cfg(test)]
mod tests {
    use super::*;

    /// Gives a byte now and then, for ever.
    struct Drips(Duration);

    impl std::io::Read for Drips {
        fn read(&mut self, buf: &mut [u8]) -> std::io::Result<usize> {
            std::thread::sleep(self.0);
            buf.fill(b' ');
            Ok(if self.0.is_zero() { buf.len() } else { 1 })
        }
    }

    #[test]
    fn an_answer_without_an_end_has_one_here() {
        let patience = Duration::from_millis(200);
        let begun = Instant::now();
        let slow = document_within(Drips(Duration::from_millis(5)), 1 << 20, patience).unwrap_err();
        assert!(slow.what().contains("so slowly") && begun.elapsed() < Duration::from_secs(5), "{}", slow.what());
        let long = document_within(Drips(Duration::ZERO), 1 << 20, Duration::from_secs(60)).unwrap_err();
        assert!(long.what().contains("no end"), "{}", long.what());
        assert_eq!(document(&b"tide"[..], 4).unwrap(), b"tide");
        assert!(document(&b"tides"[..], 4).is_err());
    }

    #[test]
    fn a_wait_is_in_seconds_or_until_a_time() {
        assert_eq!(retry_after(" 7"), Some(Duration::from_secs(7)));
        let soon = jiff::Timestamp::now() + Duration::from_secs(100);
        let text = jiff::fmt::rfc2822::DateTimePrinter::new().timestamp_to_rfc9110_string(&soon).unwrap();
        let wait = retry_after(&text).unwrap();
        assert!((95..=100).contains(&wait.as_secs()), "{text}: {wait:?}");
        assert_eq!(retry_after("soon"), None);
        assert_eq!(retry_after("Thu, 26 Nov 2020 08:00:00 GMT"), None, "a time that is over");
    }
}
