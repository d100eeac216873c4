//! A file or a device of a machine without SFTP: each piece by a `dd` there.
//!
//! What runs on the machine, with PATH in quotes, is first
//! `if [ -b PATH ]; then echo block; blockdev --getsize64 PATH; elif [ -f PATH ]; then stat -c 'file %Y %s' PATH; fi`
//! and for each piece `dd if=PATH bs=32768 skip=N count=N 2>/dev/null`.

use std::{io::Read, process::Child, sync::Arc, time::Duration, time::UNIX_EPOCH};

use reformis_disk::{
    error::WireKind,
    source::{Access, Version},
};

use super::{path_of, pool::Pool, session::Session};
use crate::{
    fault::{Fault, Stop},
    http::fault_of_io,
    link::Link,
    remote::{Limits, Remote},
};

/// Bytes of a block: all pieces begin at a multiple.
const BLOCK: u64 = 32 << 10;

/// A file or a device that is read by `dd`.
pub(super) struct DdFile {
    name: String,
    link: Link,
    path: String,
    pool: Arc<Pool>,
    facts: Facts,
    depth: usize,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq)]
struct Facts {
    len: u64,
    /// Seconds since 1970 of a file's last change; `None` for a device.
    modified: Option<u64>,
}

impl DdFile {
    /// Opens the file or device at `link`.
    pub(super) fn open(pool: &Arc<Pool>, link: &Link, depth: usize) -> Result<Self, Fault> {
        let path = quoted(&path_of(link));
        let facts = ask(pool.session(), &path)?;
        Ok(Self { name: link.to_string(), link: link.clone(), path, pool: pool.clone(), facts, depth })
    }
}

/// `path` as one word of the machine's shell. What begins with a dash is a name all the same.
fn quoted(path: &str) -> String {
    let path = if path.starts_with('/') { path.to_string() } else { format!("./{path}") };
    format!("'{}'", path.replace('\'', r"'\''"))
}

fn ask(session: &Session, path: &str) -> Result<Facts, Fault> {
    let script = format!(
        "if [ -b {path} ]; then echo block; blockdev --getsize64 {path}; elif [ -f {path} ]; then stat -c 'file %Y %s' {path}; fi"
    );
    let mut child = session.start(&[], &[&script])?;
    let mut text = String::new();
    if let Some(stdout) = &mut child.stdout {
        stdout.take(4096).read_to_string(&mut text).map_err(|error| fault_of_io(&error))?;
    }
    let mut words = text.split_whitespace();
    let number = |words: &mut std::str::SplitWhitespace<'_>| words.next().and_then(|word| word.parse::<u64>().ok());
    let facts = match words.next() {
        Some("block") => number(&mut words).map(|len| Facts { len, modified: None }),
        Some("file") => {
            let modified = number(&mut words);
            number(&mut words).map(|len| Facts { len, modified })
        }
        _ => None,
    };
    match facts {
        Some(facts) => {
            child.wait().ok();
            Ok(facts)
        }
        None => {
            Err(session
                .end_of(child, Fault::Fatal(WireKind::Absent, "there is no file and no device of this name".into())))
        }
    }
}

impl Remote for DdFile {
    fn name(&self) -> &str {
        &self.name
    }

    fn len(&self) -> u64 {
        self.facts.len
    }

    fn version(&self) -> Version {
        self.facts
            .modified
            .map_or(Version::Unknown, |seconds| Version::Modified(UNIX_EPOCH + Duration::from_secs(seconds)))
    }

    fn access(&self) -> Access {
        Access::OWNER
    }

    fn limits(&self) -> Limits {
        Limits { piece: 8 << 20, depth: self.depth }
    }

    fn fetch(&self, at: u64, buf: &mut [u8], _: &Stop) -> Result<(), Fault> {
        let first = at / BLOCK;
        let before = at - first * BLOCK;
        let count = (before + buf.len() as u64).div_ceil(BLOCK);
        let script = format!("dd if={} bs={BLOCK} skip={first} count={count} 2>/dev/null", self.path);
        let mut child = self.pool.session().start(&[], &[&script])?;
        match receive(&mut child, before, buf) {
            Ok(()) => {
                // The rest of its last block is not needed.
                drop(child.stdout.take());
                child.wait().ok();
                Ok(())
            }
            Err(fault) => Err(self.pool.session().end_of(child, fault)),
        }
    }

    fn check(&self, _: &Stop) -> Result<(), Fault> {
        match ask(self.pool.session(), &self.path)? {
            facts if facts == self.facts => Ok(()),
            _ => Err(Fault::Changed("its length or its modification time is another one".into())),
        }
    }

    fn sibling(&self, name: &str, _: &Stop) -> Result<Arc<dyn Remote>, Fault> {
        // Without SFTP nobody says where a name really leads: only names in the folder itself, and no links.
        let link = self.link.beside(name);
        let path = quoted(&path_of(&link));
        let mut child =
            self.pool.session().start(&[], &[&format!("if [ -f {path} ] && [ ! -L {path} ]; then echo plain; fi")])?;
        let mut text = String::new();
        if let Some(stdout) = &mut child.stdout {
            stdout.take(64).read_to_string(&mut text).map_err(|error| fault_of_io(&error))?;
        }
        child.wait().ok();
        if text.trim() != "plain" || name.contains('/') {
            return Err(Fault::Fatal(WireKind::Absent, "there is no plain file of this name".into()));
        }
        Ok(Arc::new(Self::open(&self.pool, &link, self.depth)?))
    }
}

/// Fills `buf` with what comes, without the first `before` bytes.
fn receive(child: &mut Child, before: u64, buf: &mut [u8]) -> Result<(), Fault> {
    let Some(stdout) = &mut child.stdout else { return Err(Fault::again("ssh could not be started")) };
    let skipped = std::io::copy(&mut stdout.by_ref().take(before), &mut std::io::sink());
    if skipped.map_err(|error| fault_of_io(&error))? < before {
        return Err(Fault::again("the connection ended early"));
    }
    stdout.read_exact(buf).map_err(|error| fault_of_io(&error))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_path_is_one_word_of_a_shell() {
        for path in ["/a b", "/x'; touch /tmp/y; '", "-rf", "/$HOME/`id`", "/new\nline"] {
            let script = format!("printf %s {}", quoted(path));
            let out = std::process::Command::new("sh").args(["-c", &script]).output().unwrap();
            let expected = if path.starts_with('/') { path.to_string() } else { format!("./{path}") };
            assert_eq!(String::from_utf8(out.stdout).unwrap(), expected);
        }
    }
}
