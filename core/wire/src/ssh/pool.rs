//! Channels that are there, and one more when all are busy.

use std::sync::{Mutex, PoisonError};

use super::{channel::Channel, session::Session};
use crate::fault::Fault;

/// Channels of one connection.
pub(crate) struct Pool {
    session: Session,
    free: Mutex<Vec<Channel>>,
}

impl Pool {
    pub(crate) fn new(session: Session) -> Self {
        Self { session, free: Mutex::default() }
    }

    pub(super) fn session(&self) -> &Session {
        &self.session
    }

    /// Does `work` in a channel; one in which something broke is not used again.
    pub(super) fn with<T>(&self, work: impl FnOnce(&mut Channel) -> Result<T, Fault>) -> Result<T, Fault> {
        let free = self.free.lock().unwrap_or_else(PoisonError::into_inner).pop();
        let mut channel = match free {
            Some(channel) => channel,
            None => Channel::begin(&self.session)?,
        };
        let outcome = work(&mut channel);
        // A request that was refused leaves the conversation as it was; what is broken may have replies under way.
        let is_sound = matches!(&outcome, Ok(_) | Err(Fault::Fatal(..))) && !is_broken(&outcome);
        if is_sound {
            self.free.lock().unwrap_or_else(PoisonError::into_inner).push(channel);
        }
        outcome
    }

    /// Begins anew: the connection is another one.
    pub(super) fn clear(&self) {
        self.free.lock().unwrap_or_else(PoisonError::into_inner).clear();
    }
}

fn is_broken<T>(outcome: &Result<T, Fault>) -> bool {
    use reformis_disk::error::WireKind;
    // Of several requests under way, one was refused, or an answer made no sense.
    matches!(outcome, Err(Fault::Fatal(WireKind::Protocol | WireKind::Refused | WireKind::Denied, _)))
}
