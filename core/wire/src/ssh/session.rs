//! The user's own `ssh`: one connection, which channels share.

use std::{
    ffi::OsString,
    fs::File,
    io::{Read, Write},
    os::unix::fs::OpenOptionsExt,
    path::{Path, PathBuf},
    process::{Child, Command, Stdio},
    sync::{
        Mutex, PoisonError,
        atomic::{AtomicBool, Ordering},
    },
    time::{Duration, Instant},
};

use reformis_disk::error::WireKind;
use rustix::fs::{CWD, FileType, Mode, OFlags};

use crate::{
    fault::{Fault, Stop},
    link::Link,
    secret::Secret,
    settings::Compression,
};

/// How `ssh` is told to connect, with the secrets at hand.
#[derive(Debug, Clone, Default)]
pub(crate) struct Way {
    /// The private key.
    pub(crate) key: Option<PathBuf>,
    /// The file of known hosts.
    pub(crate) known_hosts: Option<PathBuf>,
    /// A file of settings in place of the user's own.
    pub(crate) config: Option<PathBuf>,
    /// The password.
    pub(crate) password: Option<Secret>,
    /// Whether what comes is compressed.
    pub(crate) compression: Compression,
    /// Whether `ssh` may ask at a terminal.
    pub(crate) has_terminal: bool,
}

/// How long connecting may take, without a person who types.
const CONNECT: Duration = Duration::from_secs(45);
/// Bytes that a pipe to us holds.
const PIPE: usize = 1 << 20;
/// Below so many bytes a second, a link is slow, and compressing pays.
const SLOW: f64 = (6 << 20) as f64;
/// Bytes by which the rate is told.
const MEASURED: u64 = 4 << 20;

/// A connection to one machine.
pub(crate) struct Session {
    link: Link,
    way: Way,
    stop: Stop,
    /// Holds the socket of the connection, for us alone.
    folder: tempfile::TempDir,
    state: Mutex<State>,
    /// Whether a conversation in SFTP has begun before.
    has_sftp: AtomicBool,
}

#[derive(Default)]
struct State {
    /// The process that holds the connection.
    master: Option<Child>,
    /// Counts the connections: each has a socket of its own.
    number: u32,
    compressed: bool,
    measured: u64,
    spent: Duration,
}

impl Session {
    /// A connection to the machine of `link`, which is made when it is needed.
    ///
    /// # Errors
    /// No folder for its socket.
    pub(crate) fn new(link: &Link, way: Way, stop: Stop) -> Result<Self, Fault> {
        let folder = tempfile::Builder::new().prefix("rf").tempdir();
        let folder = folder.map_err(|error| Fault::again(format!("no folder for the connection's socket: {error}")))?;
        let compressed = way.compression == Compression::Always;
        let state = Mutex::new(State { compressed, ..State::default() });
        Ok(Self { link: link.clone(), way, stop, folder, state, has_sftp: AtomicBool::new(false) })
    }

    /// What is common to all calls: nobody is asked in the background, and dead connections are noticed.
    fn command(&self, socket: &str) -> Command {
        let mut command = Command::new("ssh");
        let mut option = |text: String| {
            command.arg("-o").arg(text);
        };
        option(format!("ControlPath={socket}"));
        option("ServerAliveInterval=15".into());
        option("ServerAliveCountMax=4".into());
        option("ConnectTimeout=15".into());
        option("ForwardAgent=no".into());
        option("ForwardX11=no".into());
        option("ClearAllForwardings=yes".into());
        option("PermitLocalCommand=no".into());
        option("Ciphers=^aes128-gcm@openssh.com,aes256-gcm@openssh.com".into());
        if let Some(known) = &self.way.known_hosts {
            option(format!("UserKnownHostsFile={}", quoted(&known.to_string_lossy())));
            option("GlobalKnownHostsFile=/dev/null".into());
        }
        if let Some(key) = &self.way.key {
            command.arg("-i").arg(key).args(["-o", "IdentitiesOnly=yes"]);
        }
        if let Some(config) = &self.way.config {
            command.arg("-F").arg(config);
        }
        if let Some(port) = self.link.port {
            command.arg("-p").arg(port.to_string());
        }
        if let Some(user) = &self.link.user {
            command.arg("-l").arg(user);
        }
        command.env("LC_ALL", "C");
        command
    }

    /// Sees that the connection is there; its socket.
    fn connected(&self) -> Result<String, Fault> {
        let mut state = self.state.lock().unwrap_or_else(PoisonError::into_inner);
        let socket = |number: u32| self.folder.path().join(number.to_string()).to_string_lossy().into_owned();
        if let Some(master) = &mut state.master
            && matches!(master.try_wait(), Ok(None))
        {
            return Ok(socket(state.number));
        }
        state.number += 1;
        let socket = socket(state.number);
        let mut command = self.command(&socket);
        command.args(["-M", "-N", "-T", "-o", "ControlPersist=no", "-o", "ExitOnForwardFailure=no"]);
        // What was chosen here counts, whatever the user's own file says.
        let compression = match (self.way.compression, state.compressed) {
            (_, true) => Some("Compression=yes"),
            (Compression::Never, _) => Some("Compression=no"),
            _ => None,
        };
        command.args(compression.into_iter().flat_map(|text| ["-o", text]));
        let (asked, _answer) = self.answers(&mut command, &socket)?;
        command.arg("--").arg(&self.link.host);
        command.stdin(Stdio::null()).stdout(Stdio::null()).stderr(Stdio::piped());
        let mut master = command.spawn().map_err(|error| match error.kind() {
            std::io::ErrorKind::NotFound => Fault::Fatal(WireKind::Settings, "the program ssh is not installed".into()),
            _ => Fault::again(format!("ssh could not be started: {error}")),
        })?;
        let start = Instant::now();
        loop {
            if std::path::Path::new(&socket).exists() {
                // Nothing more is read of what it says: it must not wait for us.
                let mut words = master.stderr.take();
                std::thread::spawn(move || words.as_mut().map(|words| std::io::copy(words, &mut std::io::sink())));
                state.master = Some(master);
                return Ok(socket);
            }
            if let Ok(Some(_)) = master.try_wait() {
                let mut words = String::new();
                if let Some(stderr) = &mut master.stderr {
                    stderr.take(16 << 10).read_to_string(&mut words).ok();
                }
                let question = asked.and_then(|path| std::fs::read_to_string(path).ok()).unwrap_or_default();
                return Err(fault_of_words(&words, &question));
            }
            let is_late = !self.way.has_terminal && start.elapsed() > CONNECT;
            if is_late || !self.stop.sleep(Duration::from_millis(10)) {
                master.kill().ok();
                master.wait().ok();
                return Err(Fault::again("it takes too long to connect"));
            }
        }
    }

    /// Prepares what `ssh` asks for: a password that we have is given, other questions go to the terminal, and where there is
    /// none they are written down, so that they can be told. The file that they are written to, and the pipe with the password,
    /// which is there as long as it is open.
    fn answers(&self, command: &mut Command, socket: &str) -> Result<(Option<PathBuf>, Option<File>), Fault> {
        if self.way.has_terminal && self.way.password.is_none() {
            return Ok((None, None));
        }
        let (script, asked) = (self.folder.path().join("ask"), self.folder.path().join("asked"));
        let failed = |error: std::io::Error| Fault::again(format!("'{}' cannot be written: {error}", script.display()));
        if !script.exists() {
            let mut file =
                std::fs::OpenOptions::new().write(true).create_new(true).mode(0o700).open(&script).map_err(failed)?;
            file.write_all(SCRIPT.as_bytes()).map_err(failed)?;
        }
        std::fs::remove_file(&asked).ok();
        command.env("SSH_ASKPASS", &script).env("SSH_ASKPASS_REQUIRE", "force").env("REFORMIS_ASKED", &asked);
        command.args(["-o", "NumberOfPasswordPrompts=1"]);
        let mut answer = None;
        if let Some(password) = &self.way.password {
            let pipe = self.folder.path().join("answer");
            answer = Some(in_a_pipe(&pipe, password).map_err(failed)?);
            command.env("REFORMIS_ANSWER", &pipe).env("REFORMIS_SOCKET", socket);
        }
        Ok((Some(asked), answer))
    }

    /// Starts `words` on the machine, with `options` for `ssh`.
    ///
    /// # Errors
    /// What `ssh` says.
    pub(super) fn start(&self, options: &[&str], words: &[&str]) -> Result<Child, Fault> {
        let socket = self.connected()?;
        let mut command = self.command(&socket);
        command.args(["-o", "ControlMaster=no", "-o", "BatchMode=yes", "-T"]).args(options);
        let host: OsString = self.link.host.clone().into();
        command.arg("--").arg(host).args(words);
        command.stdin(Stdio::piped()).stdout(Stdio::piped()).stderr(Stdio::piped());
        let child = command.spawn().map_err(|error| Fault::again(format!("ssh could not be started: {error}")))?;
        if let Some(stdout) = &child.stdout {
            // Fewer and larger reads; where it is not allowed, it goes as it goes.
            rustix::pipe::fcntl_setpipe_size(stdout, PIPE).ok();
        }
        Ok(child)
    }

    /// Notes that the machine has SFTP.
    pub(super) fn sftp_began(&self) {
        self.has_sftp.store(true, Ordering::Relaxed);
    }

    /// Whether a conversation that did not begin tells that the machine has no SFTP. What worked before breaks with its
    /// connection, which others may have made anew by now.
    pub(super) fn lacks_sftp(&self) -> bool {
        !self.has_sftp.load(Ordering::Relaxed) && self.is_alive()
    }

    /// Whether the connection still holds after a moment in which it would have ended.
    fn is_alive(&self) -> bool {
        self.stop.sleep(Duration::from_millis(200));
        let mut state = self.state.lock().unwrap_or_else(PoisonError::into_inner);
        state.master.as_mut().is_some_and(|master| matches!(master.try_wait(), Ok(None)))
    }

    /// Why `child` ended, where it says so; else `fault`.
    pub(super) fn end_of(&self, mut child: Child, fault: Fault) -> Fault {
        drop((child.stdin.take(), child.stdout.take()));
        // It ends by itself, most often, and says why before.
        let start = Instant::now();
        while matches!(child.try_wait(), Ok(None)) && start.elapsed() < Duration::from_secs(2) {
            std::thread::sleep(Duration::from_millis(5));
        }
        child.kill().ok();
        let mut words = String::new();
        if let Some(stderr) = &mut child.stderr {
            stderr.take(16 << 10).read_to_string(&mut words).ok();
        }
        child.wait().ok();
        match words.trim().is_empty() {
            true => fault,
            false => fault_of_words(&words, ""),
        }
    }

    /// Notes how fast `bytes` came. When the link turns out to be slow, the next connection is compressed; whether it is now.
    pub(super) fn measured(&self, bytes: u64, spent: Duration) -> bool {
        let mut state = self.state.lock().unwrap_or_else(PoisonError::into_inner);
        if self.way.compression != Compression::Auto || state.compressed || state.measured >= MEASURED {
            return false;
        }
        state.measured += bytes;
        state.spent += spent;
        if state.measured < MEASURED || state.measured as f64 / state.spent.as_secs_f64().max(1e-6) >= SLOW {
            return false;
        }
        tracing::info!(host = self.link.host, "the link is slow: what comes is compressed from now on");
        state.compressed = true;
        end(state.master.take());
        true
    }
}

/// A pipe at `path` that holds `secret`, for whoever reads it first: it is in no file, and in no environment, which `ssh` may send on.
fn in_a_pipe(path: &Path, secret: &Secret) -> std::io::Result<File> {
    std::fs::remove_file(path).ok();
    std::fs::remove_file(path.with_extension("given")).ok();
    rustix::fs::mknodat(CWD, path, FileType::Fifo, Mode::RUSR | Mode::WUSR, 0)?;
    // Open in both directions, so that nobody is waited for; what it cannot hold is an error.
    let flags = OFlags::RDWR | OFlags::NONBLOCK | OFlags::CLOEXEC;
    let mut pipe = File::from(rustix::fs::open(path, flags, Mode::empty())?);
    pipe.write_all(format!("{}\n", secret.expose()).as_bytes())?;
    Ok(pipe)
}

/// Answers the first question for a password that our own `ssh` asks with what is in a pipe, and writes all others down: the `ssh` that it starts
/// for a machine on the way asks here, too, and is another machine's. Ours is known by its words (proc(5), `/proc/pid/cmdline`). The pipe
/// loses its name before it is read, so that nobody waits for a second answer.
const SCRIPT: &str = r#"#!/bin/sh
case "$1" in
    *assword*)
        if tr '\0' '\n' <"/proc/$PPID/cmdline" | grep -qxF -e "ControlPath=$REFORMIS_SOCKET" \
            && [ -p "$REFORMIS_ANSWER" ] && mv "$REFORMIS_ANSWER" "$REFORMIS_ANSWER.given" 2>/dev/null; then
            IFS= read -r line <"$REFORMIS_ANSWER.given" && printf '%s\n' "$line" && exit 0
        fi
        ;;
esac
printf '%s\n' "$1" >>"$REFORMIS_ASKED"
exit 1
"#;

/// A value of an option of `ssh`, which takes double quotes.
fn quoted(text: &str) -> String {
    format!("\"{}\"", text.replace('"', ""))
}

/// What `ssh` said when it ended, and what it would have asked.
fn fault_of_words(words: &str, question: &str) -> Fault {
    let said = |text: &str| words.contains(text);
    let last = words.lines().rev().map(str::trim).find(|line| !line.is_empty()).unwrap_or("it said nothing");
    if said("IDENTIFICATION HAS CHANGED") || said("REVOKED HOST KEY") || said("is revoked") {
        let what = "its host key is not the one that is known: somebody else may answer in its place";
        return Fault::Fatal(WireKind::Untrusted, what.into());
    }
    if said("Host key verification failed") || said("host key is known for") {
        let words = question.split_whitespace().collect::<Vec<_>>();
        let fingerprint = words.iter().find(|word| word.starts_with("SHA256:")).map(|word| word.trim_end_matches('.'));
        let what = match fingerprint {
            Some(fingerprint) => format!("its host key is not known here; its fingerprint is {fingerprint}"),
            None => "its host key is not known here".into(),
        };
        return Fault::Fatal(WireKind::Untrusted, what);
    }
    if said("Permission denied") || said("Too many authentication failures") {
        return Fault::Fatal(WireKind::Denied, "it lets us in with none of our keys and passwords".into());
    }
    if said("subsystem request failed") || said("Subsystem") {
        return Fault::Fatal(WireKind::Refused, "it has no SFTP".into());
    }
    if said("Bad configuration") || said("no such identity") || said("Bad owner or permissions") {
        return Fault::Fatal(WireKind::Settings, format!("ssh says: {last}"));
    }
    Fault::again(format!("ssh says: {last}"))
}

/// Ends a process, and waits for it.
fn end(child: Option<Child>) {
    if let Some(mut child) = child {
        child.kill().ok();
        child.wait().ok();
    }
}

impl Drop for Session {
    fn drop(&mut self) {
        end(self.state.get_mut().unwrap_or_else(PoisonError::into_inner).master.take());
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// The script as `ssh` runs it: the password goes to whoever asks for it, once; no other question gets it.
    #[test]
    fn a_password_is_given_to_the_question_for_it_alone() {
        let link = Link::parse("ssh://keeper@shed.example/x").unwrap();
        let way = Way { password: Some(Secret::new("tide $HOME \\n 'x'")), has_terminal: true, ..Way::default() };
        let session = Session::new(&link, way, Stop::default()).unwrap();
        let mut command = Command::new("true");
        let (asked, answer) = session.answers(&mut command, "/s/ocket").unwrap();
        let mut environment = Vec::new();
        for (name, value) in command.get_envs() {
            environment.push((name.to_owned(), value.unwrap().to_owned()));
            assert!(!value.unwrap().to_string_lossy().contains("tide"), "{name:?} holds the password");
        }
        // The words of the `ssh` that asks are those of a shell here.
        let ask_of = |question: &str, socket: &str| {
            let script = session.folder.path().join("ask");
            let mut shell = Command::new("sh");
            shell.args(["-c", "\"$1\" \"$2\"; exit $?", "ssh"]).arg(script).arg(question);
            shell.arg(format!("ControlPath={socket}"));
            let mut child = shell.envs(environment.clone()).stdout(Stdio::piped()).spawn().unwrap();
            let start = Instant::now();
            while child.try_wait().unwrap().is_none() && start.elapsed() < Duration::from_secs(2) {
                std::thread::sleep(Duration::from_millis(5));
            }
            child.kill().ok();
            let out = child.wait_with_output().unwrap();
            (out.status.code(), String::from_utf8(out.stdout).unwrap())
        };
        let ask = |question: &str| ask_of(question, "/s/ocket");
        let question = "The authenticity of host 'shed.example' can't be established. Are you sure?";
        assert_eq!(ask(question), (Some(1), String::new()));
        let question = "keeper@shed.example's password: ";
        // The one of a machine on the way, whatever it asks for.
        assert_eq!(ask_of(question, "/another"), (Some(1), String::new()));
        assert_eq!(ask(question), (Some(0), "tide $HOME \\n 'x'\n".into()));
        assert_eq!(ask(question), (Some(1), String::new()), "once");
        assert!(std::fs::read_to_string(asked.unwrap()).unwrap().contains("authenticity"));
        drop(answer);
    }

    #[test]
    fn what_ssh_says_is_told_apart() {
        let kind = |words: &str| match fault_of_words(words, "ED25519 key fingerprint is SHA256:abc.\nAre you sure") {
            Fault::Fatal(kind, what) => (Some(kind), what),
            fault => (None, fault.what()),
        };
        assert_eq!(
            kind("@ WARNING: REMOTE HOST IDENTIFICATION HAS CHANGED! @\nHost key verification failed.").0,
            Some(WireKind::Untrusted)
        );
        let unknown = kind("Host key verification failed.\r\n");
        assert!(unknown.0 == Some(WireKind::Untrusted) && unknown.1.ends_with("SHA256:abc"), "{}", unknown.1);
        assert_eq!(kind("root@h: Permission denied (publickey).").0, Some(WireKind::Denied));
        assert_eq!(kind("subsystem request failed on channel 0").0, Some(WireKind::Refused));
        assert_eq!(
            kind("ssh: connect to host h port 22: Connection refused\n"),
            (None, "ssh says: ssh: connect to host h port 22: Connection refused".into())
        );
    }
}
