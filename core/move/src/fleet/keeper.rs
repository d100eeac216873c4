//! What stands between a worker and a program of the site's: it ends the program, and all that this started, as soon as the worker is gone,
//! however that ended. A program that went on by itself would run beside the one that the next worker starts.

use std::{
    ffi::OsString,
    os::unix::process::ExitStatusExt,
    process::{Command, ExitStatus},
    time::Duration,
};

use rustix::process::{Pid, Signal, getpgrp, getppid, kill_process_group};

/// How often it is looked whether either has ended.
const LOOK: Duration = Duration::from_millis(10);
/// The code for a program that cannot be started, as shells have it (POSIX.1-2017, 2.8.2).
const NOT_STARTED: i32 = 127;

/// Runs `words`, a program and its arguments, for the worker `parent`, in the process group that this process leads; the code that it ended
/// with, or 128 and the number of the signal that ended it.
///
/// # Errors
/// As a sentence: it cannot be started; then the code is 127.
pub fn keep(parent: u32, words: &[OsString]) -> Result<i32, (i32, String)> {
    let [program, words @ ..] = words else { return Err((NOT_STARTED, "there is no program".into())) };
    let is_alone = || getppid().and_then(|pid| u32::try_from(pid.as_raw_nonzero().get()).ok()) != Some(parent);
    let mut child = Command::new(program)
        .args(words)
        .spawn()
        .map_err(|error| (NOT_STARTED, format!("cannot be started: {error}")))?;
    loop {
        match child.try_wait() {
            Ok(Some(status)) => return Ok(code(status)),
            Ok(None) => {}
            Err(error) => return Err((NOT_STARTED, error.to_string())),
        }
        if is_alone() {
            // This process, too.
            kill_process_group(getpgrp(), Signal::KILL).ok();
        }
        std::thread::sleep(LOOK);
    }
}

fn code(status: ExitStatus) -> i32 {
    status.code().unwrap_or_else(|| 128 + status.signal().unwrap_or(0))
}

/// The process `id` as the leader of a group.
pub(super) fn group(id: u32) -> Option<Pid> {
    i32::try_from(id).ok().and_then(Pid::from_raw)
}
