//! What went wrong and what helps: text for a person, or one JSON document for a script.

use std::sync::{
    Mutex, PoisonError,
    atomic::{AtomicBool, Ordering},
};

use reformis_disk::text::printable;

use crate::{
    exit::Exit,
    hints::with_option,
    output::{self, BAD, FAINT, paint, say},
};

/// Whether failures are told as JSON.
static JSON: AtomicBool = AtomicBool::new(false);

/// Version of the JSON document.
const SCHEMA: u32 = 1;

/// Whether something half-made was kept, to go on with.
static KEPT: AtomicBool = AtomicBool::new(false);

/// Something half-made is kept.
pub(crate) fn set_kept() {
    KEPT.store(true, Ordering::Relaxed);
}

/// Tells failures as JSON from now on, or as text.
pub(crate) fn set_json(json: bool) {
    JSON.store(json, Ordering::Relaxed);
}

/// One failure: a stable code, the sentence, and what helps.
fn tell(code: &str, sentence: &str, remedy: Option<&str>, findings: Option<&[reformis_move::Finding]>) {
    let remedy = remedy.map(|remedy| with_option(code, remedy));
    if JSON.load(Ordering::Relaxed) {
        let mut error = serde_json::json!({ "code": code, "sentence": sentence, "remedy": remedy });
        if let (Some(findings), Some(error)) = (findings, error.as_object_mut()) {
            error.insert("findings".into(), serde_json::json!(findings));
        }
        let document = serde_json::json!({ "schema": SCHEMA, "error": error });
        say(&(serde_json::to_string_pretty(&document).unwrap_or_default() + "\n"));
        return;
    }
    if let Some(findings) = findings {
        let records: Vec<_> = findings.iter().map(reformis_move::Finding::record).collect();
        say(&output::findings(&records));
    }
    say(&format!("{} {}\n", paint(BAD, "error:"), printable(sentence)));
    if let Some(remedy) = remedy {
        say(&format!("{} {remedy}\n", paint(FAINT, "help:")));
    }
}

/// Tells of an error, and says how the program ends.
pub(crate) fn report(error: &anyhow::Error) -> Exit {
    use reformis_move::Error;
    let core = error.downcast_ref::<Error>();
    if core.is_some_and(Error::is_interrupted) {
        let sentence = match KEPT.load(Ordering::Relaxed) {
            true => "interrupted: what was carried so far is kept",
            false => "interrupted: nothing half-made was left",
        };
        if JSON.load(Ordering::Relaxed) {
            tell("interrupted", sentence, None, None);
        } else {
            say(&format!("{}\n", paint(BAD, sentence)));
        }
        return Exit::Interrupted;
    }
    // An error of the core is a whole sentence; others need what is below them.
    let sentence = if core.is_some() { error.to_string() } else { format!("{error:#}") };
    let refused = match core {
        Some(Error::Refused { findings }) => Some(findings.as_slice()),
        _ => None,
    };
    tell(core.map_or("failed", Error::code), &sentence, core.and_then(Error::remedy), refused);
    if refused.is_some() { Exit::Refused } else { Exit::Failed }
}

/// Tells that the command line is not understood; help and version that were asked for are printed as they are.
pub(crate) fn of_usage(error: &clap::Error) -> Exit {
    if !error.use_stderr() {
        error.print().ok();
        return Exit::Done;
    }
    if JSON.load(Ordering::Relaxed) {
        let text = error.render().to_string();
        let sentence = text.lines().next().unwrap_or_default().trim_start_matches("error: ");
        tell("usage", sentence, Some("reformis COMMAND --help shows the options, with examples."), None);
    } else {
        error.print().ok();
    }
    Exit::Usage
}

/// Ends the program as wrong usage does.
pub(crate) fn wrong_usage(kind: clap::error::ErrorKind, message: &str) -> ! {
    use clap::CommandFactory;
    let exit = of_usage(&crate::args::Cli::command().error(kind, message));
    std::process::exit(exit.number().into())
}

/// The last panic, until it is told or turns out to be none of ours.
static DEFECT: Mutex<Option<String>> = Mutex::new(None);

/// Keeps what a panic says instead of printing it with a trace of calls. One that the core catches, such as that of a
/// library over a damaged file system, becomes an error there and is never told as a defect.
pub(crate) fn catch_panics() {
    std::panic::set_hook(Box::new(|panic| {
        let what = panic.payload();
        let what = (what.downcast_ref::<&str>().copied())
            .or_else(|| what.downcast_ref::<String>().map(String::as_str))
            .unwrap_or("no words");
        // What the standard library says when a thread has panicked, whose own words are kept already.
        if what == "a scoped thread panicked" {
            return;
        }
        let place = panic.location().map(ToString::to_string).unwrap_or_default();
        let sentence = format!("a defect in reformis {}, at {place}: {what}", env!("CARGO_PKG_VERSION"));
        *DEFECT.lock().unwrap_or_else(PoisonError::into_inner) = Some(sentence);
    }));
}

/// Tells of the panic that ended the work.
pub(crate) fn of_defect() -> Exit {
    let kept = DEFECT.lock().unwrap_or_else(PoisonError::into_inner).take();
    let sentence = kept.unwrap_or_else(|| format!("a defect in reformis {}", env!("CARGO_PKG_VERSION")));
    let remedy = "Please report this to the project, as CONTRIBUTING.md says, with the command and what --log FILE \
                  wrote. What was half-made is gone.";
    tell("defect", &sentence, Some(remedy), None);
    Exit::Failed
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_panic_in_a_thread_is_kept_with_its_own_words() {
        catch_panics();
        let outcome = std::panic::catch_unwind(|| {
            std::thread::scope(|scope| {
                scope.spawn(|| panic!("the tide is out"));
            });
        });
        let kept = DEFECT.lock().unwrap().take();
        drop(std::panic::take_hook());
        assert!(outcome.is_err());
        let kept = kept.unwrap();
        assert!(kept.starts_with("a defect in reformis ") && kept.ends_with(": the tide is out"), "{kept}");
    }
}
