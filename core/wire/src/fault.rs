//! What one try comes to.

use std::{
    sync::{
        Arc,
        atomic::{AtomicBool, AtomicUsize, Ordering},
    },
    time::{Duration, Instant},
};

use reformis_disk::{
    Error,
    error::{WireError, WireKind},
    text::printable,
};

/// Why one try did not give what it should.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Fault {
    /// It may work the next time: the connection broke, or the other end is busy and says for how long.
    Again {
        /// What happened, as the end of a sentence.
        what: String,
        /// How long the other end wants us to wait.
        after: Option<Duration>,
    },
    /// What let us in does so no longer.
    Expired(String),
    /// What is read is not what it was.
    Changed(String),
    /// It will not work the next time either.
    Fatal(WireKind, String),
}

impl Fault {
    /// A try that may work the next time.
    pub fn again(what: impl Into<String>) -> Self {
        Self::Again { what: what.into(), after: None }
    }

    /// The other end breaks the rules of its protocol.
    pub fn protocol(what: impl Into<String>) -> Self {
        Self::Fatal(WireKind::Protocol, what.into())
    }

    /// What happened, as the end of a sentence; a stranger's characters in it are safe to show.
    pub fn what(&self) -> String {
        printable(match self {
            Self::Again { what, .. } | Self::Expired(what) | Self::Changed(what) | Self::Fatal(_, what) => what,
        })
    }

    /// The error that it is once no further try is made.
    pub fn into_error(self, action: &'static str, place: &str, offset: Option<u64>) -> Error {
        let kind = match &self {
            Self::Again { .. } => WireKind::Unreachable,
            Self::Expired(_) => WireKind::Expired,
            Self::Changed(what) => return Error::Changed { path: place.into(), what: printable(what) },
            Self::Fatal(kind, _) => *kind,
        };
        WireError { action, place: place.into(), offset, what: self.what(), kind }.into()
    }
}

/// Set when the person or the system asked us to stop.
#[derive(Debug, Clone, Default)]
pub struct Stop(pub Arc<AtomicBool>);

impl Stop {
    /// Whether it is set.
    pub fn is_set(&self) -> bool {
        self.0.load(Ordering::Relaxed)
    }

    /// Sleeps for `time`, or until it is set; whether it was not.
    pub fn sleep(&self, time: Duration) -> bool {
        let end = Instant::now() + time;
        loop {
            if self.is_set() {
                return false;
            }
            let left = end.saturating_duration_since(Instant::now());
            if left.is_zero() {
                return true;
            }
            std::thread::sleep(left.min(Duration::from_millis(50)));
        }
    }
}

/// What would do harm if the program ended in the middle of it, such as a guest whose file systems are frozen.
#[derive(Debug)]
pub(crate) struct Unfinished(());

/// How much of it is under way.
static UNFINISHED: AtomicUsize = AtomicUsize::new(0);

impl Unfinished {
    pub(crate) fn begin() -> Self {
        UNFINISHED.fetch_add(1, Ordering::SeqCst);
        Self(())
    }
}

impl Drop for Unfinished {
    fn drop(&mut self) {
        UNFINISHED.fetch_sub(1, Ordering::SeqCst);
    }
}

/// Whether the program must not end at once now, not even when the person insists: it takes seconds at the most.
pub fn is_unfinished() -> bool {
    UNFINISHED.load(Ordering::SeqCst) > 0
}
