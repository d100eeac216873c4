//! Programs of the site's: started as they stand in the fleet file, never through a shell. What they are told comes as JSON on their
//! standard input, so that no name of a machine is ever a word of a command.

use std::{
    ffi::OsString,
    fs::File,
    io::{Read, Seek, SeekFrom, Write},
    os::unix::process::CommandExt,
    path::Path,
    process::{Child, Command, ExitStatus, Stdio},
    sync::atomic::{AtomicBool, Ordering},
    time::{Duration, Instant},
};

use reformis_disk::{ByteSize, text::printable};
use rustix::process::{Signal, kill_process_group};

use super::error::FleetError;
use crate::error::{Error, Result};

/// Bytes of a program's output that are kept.
const MOST_OUTPUT: u64 = 64 << 10;
/// Bytes of its output that lie on a disk before all but the last of them are given up.
const MOST_FILE: u64 = 4 << 20;
/// What of our environment programs get, and nothing else: docs/fleet.md names it.
const KEPT: [&str; 8] = ["PATH", "HOME", "USER", "LOGNAME", "LANG", "LC_ALL", "TZ", "TMPDIR"];
/// How often it is looked whether a program has ended, and how much it said.
const LOOK: Duration = Duration::from_millis(20);
/// How long a program that is to end may take for it.
const GRACE: Duration = Duration::from_millis(1200);

/// What runs a program, and ends it.
#[derive(Debug, Clone, Copy)]
pub(crate) struct Runner<'a> {
    /// The words that start [`super::keep`], with the worker's number and the program behind them; none to start it directly.
    pub(crate) keeper: &'a [OsString],
    /// How long it may take.
    pub(crate) patience: Duration,
    /// Ends it.
    pub(crate) cancel: &'a AtomicBool,
}

/// Runs `program`, whose paths begin in `folder`, tells it `input`, and returns the lines that it said: the last of them, where it said much.
///
/// # Errors
/// [`FleetError::Program`]: it cannot be started, did not end well, or not in time. Interrupted when it was cancelled; the program and what
/// it started are ended then.
pub(crate) fn run(
    program: &[String],
    folder: &Path,
    input: &serde_json::Value,
    runner: &Runner<'_>,
) -> Result<Vec<String>> {
    let name = program.first().map(String::as_str).unwrap_or_default();
    let failed = |what: String, code| Error::from(FleetError::Program { program: printable(name), what, code });
    let whole = if name.contains('/') { folder.join(name) } else { name.into() };
    let unusable = |error: std::io::Error| failed(format!("cannot be started: {error}"), None);
    let mut told = tempfile::tempfile().map_err(unusable)?;
    told.write_all(input.to_string().as_bytes()).and_then(|()| told.seek(SeekFrom::Start(0))).map_err(unusable)?;
    // A file, not a pipe: whatever it leaves running can neither block us nor be blocked by us. It is appended to, so that it can be
    // cut short while it is written.
    let said = tempfile::Builder::new().append(true).tempfile().map_err(unusable)?.into_file();
    let mut said = Said { file: said, gone: 0 };
    let out = || said.file.try_clone().map(Stdio::from);
    let mut command = match runner.keeper {
        [keeper, words @ ..] => {
            let mut command = Command::new(keeper);
            command.args(words).arg(std::process::id().to_string()).arg(whole);
            command
        }
        [] => Command::new(whole),
    };
    command.args(program.get(1..).unwrap_or_default()).current_dir(folder).process_group(0);
    // What lets us in somewhere may stand in our own.
    command.env_clear().envs(KEPT.iter().filter_map(|name| Some((name, std::env::var_os(name)?))));
    command.stdin(told).stdout(out().map_err(unusable)?).stderr(out().map_err(unusable)?);
    let mut child = command.spawn().map_err(unusable)?;
    let ended = wait(&mut child, &mut said, runner);
    let lines = said.lines();
    match ended.map_err(unusable)? {
        Some(status) if status.success() => Ok(lines),
        Some(status) => {
            let last = lines.last().map_or(String::new(), |line| format!(": {line}"));
            Err(failed(format!("ended with {status}{last}"), status.code()))
        }
        None if runner.cancel.load(Ordering::Relaxed) => Err(reformis_disk::Error::Interrupted.into()),
        None => Err(failed(format!("was not done after {} s", runner.patience.as_secs()), None)),
    }
}

/// How `child` ended; none where it had to be ended.
fn wait(child: &mut Child, said: &mut Said, runner: &Runner<'_>) -> std::io::Result<Option<ExitStatus>> {
    let until = Instant::now() + runner.patience;
    while Instant::now() < until && !runner.cancel.load(Ordering::Relaxed) {
        if let Some(status) = child.try_wait()? {
            return Ok(Some(status));
        }
        said.cut()?;
        std::thread::sleep(LOOK);
    }
    let group = super::keeper::group(child.id());
    let signal = |signal| group.map(|group| kill_process_group(group, signal).ok());
    signal(Signal::TERM);
    let until = Instant::now() + GRACE;
    while Instant::now() < until && child.try_wait()?.is_none() {
        said.cut()?;
        std::thread::sleep(LOOK);
    }
    signal(Signal::KILL);
    child.wait()?;
    Ok(None)
}

/// What a program says, in a file that never gets large.
struct Said {
    file: File,
    /// Bytes that are kept no more.
    gone: u64,
}

impl Said {
    /// Gives up all but the last bytes of a file that has become large.
    fn cut(&mut self) -> std::io::Result<()> {
        let len = self.file.metadata()?.len();
        if len <= MOST_FILE {
            return Ok(());
        }
        let mut last = Vec::new();
        self.file.seek(SeekFrom::Start(len - MOST_OUTPUT))?;
        (&self.file).take(MOST_OUTPUT).read_to_end(&mut last)?;
        self.file.set_len(0)?;
        // It may write in between: then its words stand before these, and none of them is lost.
        self.file.write_all(&last)?;
        self.gone = self.gone.saturating_add(len - MOST_OUTPUT);
        Ok(())
    }

    /// The last lines, safe to show, behind a word about what was said before.
    fn lines(&mut self) -> Vec<String> {
        let mut bytes = Vec::new();
        let len = self.file.metadata().map_or(0, |metadata| metadata.len());
        let from = len.saturating_sub(MOST_OUTPUT);
        let read =
            self.file.seek(SeekFrom::Start(from)).and_then(|_| (&self.file).take(MOST_OUTPUT).read_to_end(&mut bytes));
        if read.is_err() {
            return Vec::new();
        }
        let gone = self.gone.saturating_add(from);
        let gone = (gone > 0).then(|| format!("(and {} before that)", ByteSize(gone)));
        let text = String::from_utf8_lossy(&bytes);
        let lines = text.lines().map(printable).filter(|line| !line.trim().is_empty());
        gone.into_iter().chain(lines).collect()
    }
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
        let runner = Runner { keeper: &[], patience: Duration::from_millis(millis), cancel };
        run(&words(program), Path::new("/"), &input, &runner)
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
        assert!(said[0].contains("before that)"), "{}", said[0]);
        // One that never stops fills nothing.
        let folder = tempfile::tempdir().unwrap();
        let script = format!("yes the tide is in & echo $! >{0}/yes; sleep 600", folder.path().display());
        let stop = AtomicBool::new(false);
        std::thread::scope(|scope| {
            let running = scope.spawn(|| run_for(&["sh", "-c", &script], 60_000, &stop));
            let begun = Instant::now();
            let mut most = 0;
            while begun.elapsed() < Duration::from_secs(2) {
                let yes = std::fs::read_to_string(folder.path().join("yes")).unwrap_or_default();
                let len = std::fs::metadata(format!("/proc/{}/fd/1", yes.trim())).map_or(0, |said| said.len());
                most = most.max(len);
                std::thread::sleep(Duration::from_millis(1));
            }
            stop.store(true, Ordering::Relaxed);
            assert!(running.join().unwrap().unwrap_err().is_interrupted());
            assert!((1..1 << 30).contains(&most), "{most} bytes lay there");
        });
    }
}
