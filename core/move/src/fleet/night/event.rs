//! What happens in a night, for whoever looks on.

use jiff::Timestamp;
use serde::Serialize;

use crate::verdict::Boots;

/// What happened, for whoever looks on.
#[derive(Debug, Clone, Serialize)]
#[serde(tag = "event", rename_all = "kebab-case")]
pub enum Event {
    /// A try begins.
    Began {
        /// The machine.
        name: String,
        /// Which try it is.
        tries: u32,
    },
    /// A machine has landed.
    Landed {
        /// The machine.
        name: String,
        /// Seconds of this try.
        seconds: f64,
        /// Bytes that were carried.
        bytes: u64,
        /// Whether it boots where it went, by the evidence.
        boots: Option<Boots>,
        /// What went wrong afterwards.
        after: Option<String>,
    },
    /// The first pass of a machine was made; the rest waits for its turn.
    Near {
        /// The machine.
        name: String,
        /// Seconds of this try.
        seconds: f64,
        /// Bytes that were carried.
        bytes: u64,
    },
    /// A try failed.
    Failed {
        /// The machine.
        name: String,
        /// The stable word for what went wrong.
        code: String,
        /// The sentence.
        reason: String,
        /// What helps.
        remedy: Option<String>,
        /// Whether it will be tried again.
        again: bool,
    },
    /// A try was stopped; a later run goes on with it.
    Stopped {
        /// The machine.
        name: String,
    },
    /// Another run, of no fleet of this one, holds what a machine's landing is made in: it is looked again.
    Busy {
        /// The machine.
        name: String,
        /// What is in the way.
        reason: String,
        /// Seconds until it is looked again.
        seconds: f64,
    },
    /// Nothing is left but what other workers have: they are waited for.
    Others {
        /// The machine.
        name: String,
        /// The worker that has it.
        worker: String,
        /// Seconds after which it is taken over if nothing is heard of that.
        seconds: f64,
    },
    /// Another worker has taken a machine over.
    Lost {
        /// The machine.
        name: String,
    },
    /// Nothing begins before this.
    Waits {
        /// When the window opens.
        until: Timestamp,
    },
    /// The gate of the next group is shut.
    Gate {
        /// The group behind it.
        group: String,
        /// Whether it opens by itself when those before it answer.
        answers: bool,
        /// Of the group before, the machines that do not answer yet, or have not landed.
        silent: Vec<String>,
    },
    /// What waits is on a host that is left alone just now.
    Quiet {
        /// The host.
        host: String,
        /// Until then.
        until: Timestamp,
    },
    /// A program that was to be told of an end did not end well.
    Untold {
        /// What was to be told.
        what: String,
        /// Why it was not.
        reason: String,
    },
    /// The database does not answer.
    Away {
        /// What it says.
        what: String,
    },
    /// It answers again.
    Back,
}
