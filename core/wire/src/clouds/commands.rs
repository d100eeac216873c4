//! A cloud that is spoken to by programs of the site. Each gets the wish as JSON on its stdin and answers with JSON on its stdout; its
//! arguments are words of the site with placeholders, and no shell ever sees them.

use std::{
    io::{Read, Write},
    os::unix::process::CommandExt,
    path::PathBuf,
    process::{Command, Stdio},
    time::Duration,
};

use reformis_disk::{Result, error::WireKind, text::printable};
use serde::Deserialize;
use serde_json::json;

use super::{
    Instance, Kind, Refusal, Task, Then, Wish,
    import::{Import, sound},
};
use crate::{fault::Fault, settings::Commands, wires::Wires};

/// The longest answer, and the longest complaint, in bytes.
const MOST: u64 = 1 << 20;
/// The exit code of a program that may do better the next time (`EX_TEMPFAIL` of `sysexits.h`).
const AGAIN: i32 = 75;
/// How often a program that runs is looked at.
const OFTEN: Duration = Duration::from_millis(20);

/// The site's programs.
pub(super) struct Site {
    wires: Wires,
    commands: Option<Commands>,
}

/// What placeholders stand for.
type Words<'a> = [(&'a str, &'a str)];

/// The arguments that `words` come to.
fn filled(line: &[String], words: &Words<'_>) -> Result<Vec<String>, Fault> {
    let wrong = |what: String| Fault::Fatal(WireKind::Settings, what);
    let fill = |argument: &String| {
        let (mut text, mut rest) = (String::new(), argument.as_str());
        // What a value holds is never looked at again: it may have braces of its own.
        while let Some((before, behind)) = rest.split_once('{') {
            let (name, after) =
                behind.split_once('}').ok_or_else(|| wrong(format!("'{argument}' has a lone brace")))?;
            let known = || words.iter().map(|(name, _)| format!("{{{name}}}")).collect::<Vec<_>>().join(", ");
            let value = words.iter().find(|(known, _)| *known == name).map(|(_, value)| *value);
            let value = value.ok_or_else(|| wrong(format!("'{{{name}}}' is unknown here; there are {}", known())))?;
            if value.chars().any(char::is_control) || text.is_empty() && before.is_empty() && value.starts_with('-') {
                return Err(wrong(format!("what {{{name}}} stands for could be taken for an option, or is no text")));
            }
            text += before;
            text += value;
            rest = after;
        }
        Ok(text + rest)
    };
    line.iter().map(fill).collect()
}

impl Site {
    pub(super) fn new(wires: &Wires, commands: Option<Commands>) -> Self {
        Self { wires: wires.clone(), commands }
    }

    fn line(&self, of: impl Fn(&Commands) -> Option<&Vec<String>>) -> Option<&Vec<String>> {
        self.commands.as_ref().and_then(of)
    }

    /// Runs `line`, and reads its answer.
    fn run<T: for<'de> Deserialize<'de>>(&self, line: &[String], words: &Words<'_>, input: &str) -> Result<T, Fault> {
        let fatal = |what: String| Fault::Fatal(WireKind::Settings, what);
        let line = filled(line, words)?;
        let (program, arguments) = line.split_first().ok_or_else(|| fatal("a command names no program".into()))?;
        // One with a slash begins in the folder of the site's file; others are looked for as a shell does.
        let place = match program.contains('/') {
            true => self.wires.inner.settings.folder.join(program),
            false => PathBuf::from(program),
        };
        let shown = printable(program);
        let mut child = Command::new(place)
            .args(arguments)
            .stdin(Stdio::piped())
            .stdout(Stdio::piped())
            .stderr(Stdio::piped())
            .process_group(0)
            .spawn()
            .map_err(|error| fatal(format!("'{shown}' cannot be started: {error}")))?;
        let (stdin, stdout, stderr) = (child.stdin.take(), child.stdout.take(), child.stderr.take());
        let stop = &self.wires.inner.shared.stop;
        let (status, out, complaint) = std::thread::scope(|scope| {
            // One that does not read what it is told is none the worse for it.
            scope.spawn(move || stdin.map(|mut stdin| stdin.write_all(input.as_bytes())));
            let out = scope.spawn(move || stdout.map(collect).unwrap_or_default());
            let complaint = scope.spawn(move || stderr.map(collect).unwrap_or_default());
            let status = loop {
                match child.try_wait() {
                    Ok(None) if stop.is_set() => {
                        // Whatever it started itself would hold its outputs open.
                        let group = i32::try_from(child.id()).ok().and_then(rustix::process::Pid::from_raw);
                        group.map(|group| rustix::process::kill_process_group(group, rustix::process::Signal::KILL));
                        child.kill().ok();
                        break child.wait();
                    }
                    Ok(None) => std::thread::sleep(OFTEN),
                    Ok(Some(status)) => break Ok(status),
                    Err(error) => break Err(error),
                }
            };
            (status, out.join().unwrap_or_default(), complaint.join().unwrap_or_default())
        });
        if stop.is_set() {
            return Err(Fault::again("we were asked to stop"));
        }
        let status = status.map_err(|error| fatal(format!("'{shown}' cannot be waited for: {error}")))?;
        let complaint = String::from_utf8_lossy(&complaint);
        let last = complaint.lines().rev().find(|line| !line.trim().is_empty()).unwrap_or_default();
        let said = || last.trim().chars().take(300).collect::<String>();
        match status.code() {
            Some(0) => serde_json::from_slice(&out).map_err(|_| {
                Fault::protocol(format!("what '{shown}' writes to its stdout is not the JSON it should be"))
            }),
            Some(AGAIN) => Err(Fault::again(format!("'{shown}' says: {}", said()))),
            Some(code) => Err(Fault::Fatal(WireKind::Refused, format!("'{shown}' ends with {code}: {}", said()))),
            None => Err(Fault::again(format!("'{shown}' was killed"))),
        }
    }
}

/// What `from` gives, as far as that is kept.
fn collect(mut from: impl Read) -> Vec<u8> {
    let mut bytes = Vec::new();
    from.by_ref().take(MOST).read_to_end(&mut bytes).ok();
    // It must not wait for somebody to read the rest.
    std::io::copy(&mut from, &mut std::io::sink()).ok();
    bytes
}

/// The words of a wish.
fn words<'a>(wish: &'a Wish, key: &'a str) -> [(&'a str, &'a str); 4] {
    let object = wish.objects.first().map_or("", |object| object.at.as_str());
    [("name", wish.name.as_str()), ("object", object), ("key", key), ("then", wish.then.word())]
}

impl Kind for Site {
    fn about(&self) -> Result<Vec<String>, Fault> {
        let has = |line: Option<&Vec<String>>| if line.is_some() { "yes" } else { "no" };
        Ok(vec![format!(
            "programs of the site: check {}, poll {}, instance {}",
            has(self.line(|commands| commands.check.as_ref())),
            has(self.line(|commands| commands.poll.as_ref())),
            has(self.line(|commands| commands.instance.as_ref()))
        )])
    }

    fn check(&self, wish: &Wish) -> Result<Vec<Refusal>, Fault> {
        #[derive(Deserialize)]
        struct Checked {
            refusals: Vec<Refusal>,
        }
        if wish.then != Then::Image && self.line(|commands| commands.instance.as_ref()).is_none() {
            let sentence = "there is no command that makes an instance".into();
            let remedy = Some("write then = \"image\", or give the cloud the command 'instance'".into());
            return Ok(vec![Refusal { code: "no-command".into(), sentence, remedy, grant: None }]);
        }
        let Some(line) = self.line(|commands| commands.check.as_ref()) else { return Ok(Vec::new()) };
        self.run::<Checked>(line, &words(wish, ""), &json!(wish).to_string()).map(|checked| checked.refusals)
    }

    fn begin(&self, wish: &Wish, key: &str) -> Result<Task, Fault> {
        let none = || Fault::Fatal(WireKind::Settings, "it has no command for an import".into());
        let line = self.line(|commands| Some(&commands.import)).ok_or_else(none)?;
        let task = self.run::<Import>(line, &words(wish, key), &json!(wish).to_string())?.task()?;
        match (&task.outcome, self.line(|commands| commands.poll.as_ref())) {
            (None, None) => {
                Err(Fault::Fatal(WireKind::Settings, "the import goes on, and there is no command that polls".into()))
            }
            _ => Ok(task),
        }
    }

    fn task(&self, id: &str) -> Result<Task, Fault> {
        match self.line(|commands| commands.poll.as_ref()) {
            Some(line) => self.run::<Import>(line, &[("import", id)], "")?.task(),
            None => Err(Fault::Fatal(WireKind::Settings, "there is no command that polls an import".into())),
        }
    }

    fn make(&self, wish: &Wish, image: &str, key: &str) -> Result<Option<Instance>, Fault> {
        let Some(line) = self.line(|commands| commands.instance.as_ref()) else { return Ok(None) };
        let [name, object, key, then] = words(wish, key);
        let words = [name, object, key, then, ("image", image)];
        sound(self.run(line, &words, &json!(wish).to_string())?).map(Some)
    }

    fn instance(&self, instance: &Instance) -> Result<Option<Instance>, Fault> {
        let words = [("name", instance.name.as_str()), ("instance", instance.instance.as_str())];
        match self.line(|commands| commands.state.as_ref()) {
            Some(line) => sound(self.run(line, &words, "")?).map(Some),
            None => Ok(None),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_placeholder_is_one_piece_of_one_argument() {
        let fill = |text: &str, value: &str| filled(&[text.to_string()], &[("name", value)]);
        assert_eq!(fill("--name={name}!", "a b; $(rm) {key} '\"").unwrap(), ["--name=a b; $(rm) {key} '\"!"]);
        assert_eq!(fill("plain", "x").unwrap(), ["plain"]);
        for (text, value) in [("{name}", "-rf"), ("{name}", "a\nb"), ("{nam}", "a"), ("{name", "a")] {
            assert!(matches!(fill(text, value), Err(Fault::Fatal(WireKind::Settings, _))), "{text} {value}");
        }
        assert_eq!(fill("x{name}", "-rf").unwrap(), ["x-rf"], "no option");
    }
}
