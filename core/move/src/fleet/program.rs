//! Programs of the site's: started as they stand in the fleet file, never through a shell. What they are told comes as JSON on their
//! standard input, so that no name of a machine is ever a word of a command.

use std::{
    fs::File,
    io::{Read, Seek, SeekFrom, Write},
    os::unix::process::CommandExt,
    path::Path,
    process::{Child, Command, ExitStatus, Stdio},
    sync::atomic::{AtomicBool, Ordering},
    time::{Duration, Instant},
};

use reformis_disk::text::printable;
use rustix::process::{Pid, Signal, kill_process_group};

use super::error::FleetError;
use crate::error::{Error, Result};

/// Bytes of a program's output that are kept.
const MOST_OUTPUT: u64 = 64 << 10;
/// How often it is looked whether a program has ended.
const LOOK: Duration = Duration::from_millis(20);
/// How long a program that is to end may take for it.
const GRACE: Duration = Duration::from_secs(5);

/// Runs `program`, whose paths begin in `folder`, tells it `input`, and returns the lines that it said.
///
/// # Errors
/// [`FleetError::Program`]: it cannot be started, did not end well, or not within `patience`. Interrupted when `cancel` is set; the
/// program and what it started are ended then.
pub(crate) fn run(
    program: &[String],
    folder: &Path,
    input: &serde_json::Value,
    patience: Duration,
    cancel: &AtomicBool,
) -> Result<Vec<String>> {
    let name = program.first().map(String::as_str).unwrap_or_default();
    let failed = |what: String| Error::from(FleetError::Program { program: printable(name), what });
    let whole = if name.contains('/') { folder.join(name) } else { name.into() };
    let unusable = |error: std::io::Error| failed(format!("cannot be started: {error}"));
    let mut told = tempfile::tempfile().map_err(unusable)?;
    told.write_all(input.to_string().as_bytes()).and_then(|()| told.seek(SeekFrom::Start(0))).map_err(unusable)?;
    // Files, not pipes: whatever it leaves running can neither block us nor be blocked by us.
    let mut said = tempfile::tempfile().map_err(unusable)?;
    let out = || said.try_clone().map(Stdio::from);
    let mut command = Command::new(whole);
    command.args(program.get(1..).unwrap_or_default()).current_dir(folder).process_group(0);
    command.stdin(told).stdout(out().map_err(unusable)?).stderr(out().map_err(unusable)?);
    let mut child = command.spawn().map_err(unusable)?;
    let ended = wait(&mut child, patience, cancel);
    let lines = lines_of(&mut said);
    match ended.map_err(unusable)? {
        Some(status) if status.success() => Ok(lines),
        Some(status) => {
            let last = lines.last().map_or(String::new(), |line| format!(": {line}"));
            Err(failed(format!("ended with {status}{last}")))
        }
        None if cancel.load(Ordering::Relaxed) => Err(reformis_disk::Error::Interrupted.into()),
        None => Err(failed(format!("was not done after {} s", patience.as_secs()))),
    }
}

/// How `child` ended; none where it had to be ended.
fn wait(child: &mut Child, patience: Duration, cancel: &AtomicBool) -> std::io::Result<Option<ExitStatus>> {
    let until = Instant::now() + patience;
    while Instant::now() < until && !cancel.load(Ordering::Relaxed) {
        if let Some(status) = child.try_wait()? {
            return Ok(Some(status));
        }
        std::thread::sleep(LOOK);
    }
    let group = i32::try_from(child.id()).ok().and_then(Pid::from_raw);
    let signal = |signal| group.map(|group| kill_process_group(group, signal).ok());
    signal(Signal::TERM);
    let until = Instant::now() + GRACE;
    while Instant::now() < until && child.try_wait()?.is_none() {
        std::thread::sleep(LOOK);
    }
    signal(Signal::KILL);
    child.wait()?;
    Ok(None)
}

/// The last lines of what a program said, safe to show.
fn lines_of(said: &mut File) -> Vec<String> {
    let mut bytes = Vec::new();
    let len = said.metadata().map_or(0, |metadata| metadata.len());
    let from = len.saturating_sub(MOST_OUTPUT);
    let read = said.seek(SeekFrom::Start(from)).and_then(|_| said.take(MOST_OUTPUT).read_to_end(&mut bytes));
    if read.is_err() {
        return Vec::new();
    }
    String::from_utf8_lossy(&bytes).lines().map(printable).filter(|line| !line.trim().is_empty()).collect()
}

#[cfg(test)]
mod tests {
    use std::path::Path;

    use super::*;

    fn words(words: &[&str]) -> Vec<String> {
        words.iter().map(|word| (*word).into()).collect()
    }

    fn run_for(program: &[&str], millis: u64, cancel: &AtomicBool) -> Result<Vec<String>> {
        let input = serde_json::json!({ "name": "$(touch /tmp/x); `id` 'a' \"b\"" });
        run(&words(program), Path::new("/"), &input, Duration::from_millis(millis), cancel)
    }

    #[test]
    fn it_is_told_on_its_input_and_its_words_stay_words() {
        let never = AtomicBool::new(false);
        let said = run_for(&["cat"], 5000, &never).unwrap();
        assert_eq!(said, [r#"{"name":"$(touch /tmp/x); `id` 'a' \"b\""}"#]);
        let said = run_for(&["printf", "%s\\n", "$HOME;ls", "\u{1b}[2J"], 5000, &never).unwrap();
        assert_eq!(said.len(), 2);
        assert_eq!(said[0], "$HOME;ls");
        assert!(!said[1].contains('\u{1b}'), "{said:?}");
    }

    #[test]
    fn what_fails_hangs_or_is_not_there_is_told() {
        let never = AtomicBool::new(false);
        let told = |done: Result<Vec<String>>| done.unwrap_err().to_string();
        assert!(told(run_for(&["false"], 5000, &never)).contains("ended with exit status: 1"));
        assert!(told(run_for(&["no-such-program"], 5000, &never)).contains("cannot be started"));
        assert!(
            told(run_for(&["sh", "-c", "echo a; echo the tide is out >&2; exit 3"], 5000, &never))
                .ends_with("3: the tide is out")
        );
        let begun = Instant::now();
        // What it started goes with it, and does not keep us by the output that it holds.
        assert!(told(run_for(&["sh", "-c", "sleep 600 & sleep 600"], 200, &never)).contains("was not done"));
        let stopped = AtomicBool::new(true);
        assert!(run_for(&["sleep", "600"], 60_000, &stopped).unwrap_err().is_interrupted());
        assert!(begun.elapsed() < Duration::from_secs(10));
    }

    #[test]
    fn of_much_output_the_end_is_kept() {
        let never = AtomicBool::new(false);
        let said = run_for(&["seq", "1", "200000"], 20_000, &never).unwrap();
        assert_eq!(said.last().unwrap(), "200000");
        assert!(said.iter().map(String::len).sum::<usize>() as u64 <= MOST_OUTPUT);
    }
}
