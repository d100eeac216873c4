//! A file whose server sends no parts: read from its start on, as often as it is needed.

use std::{
    io::{self, Read},
    sync::Arc,
    time::Duration,
};

use reformis_disk::{Result, container::Forwards};

use super::{
    client::{fault_of_answer, fault_of_io, text},
    follow::{Answer, Relink, get},
};
use crate::{fault::Fault, link::Link, steady::Shared};

/// A link that is read from its start on.
#[derive(Clone)]
pub(crate) struct Forward {
    name: String,
    link: Link,
    relink: Arc<dyn Relink>,
    len: Option<u64>,
    tag: Option<String>,
    shared: Shared,
}

impl Forward {
    pub(super) fn new(
        link: Link,
        relink: Arc<dyn Relink>,
        len: Option<u64>,
        tag: Option<String>,
        shared: Shared,
    ) -> Self {
        Self { name: link.to_string(), link, relink, len, tag, shared }
    }

    /// What it is called, without secrets.
    pub(crate) fn name(&self) -> &str {
        &self.name
    }

    /// Its bytes from `at` on: what comes before is thrown away, since the server sends no parts.
    fn start(&self, at: u64) -> Result<Box<dyn Read + Send>, Fault> {
        let extra = self.tag.as_deref().map(|tag| ("if-match", tag));
        let extra: Vec<_> = extra.into_iter().collect();
        let Answer { response, .. } = get(self.relink.as_ref(), &self.link, &extra, false)?;
        match response.status().as_u16() {
            200 => {}
            status => return Err(fault_of_answer(status, response.headers(), false)),
        }
        let len = text(response.headers(), "content-length").and_then(|len| len.parse::<u64>().ok());
        if self.len.is_some() && len.is_some() && self.len != len {
            return Err(Fault::Changed("its length is another one".into()));
        }
        let mut body = response.into_body().into_reader();
        let skipped = io::copy(&mut (&mut body).take(at), &mut io::sink()).map_err(|error| fault_of_io(&error))?;
        match skipped == at {
            true => Ok(Box::new(body)),
            false => Err(Fault::Changed("it is shorter than it was".into())),
        }
    }
}

impl Forwards for Forward {
    fn len(&self) -> Option<u64> {
        self.len
    }

    fn begin(&self) -> Result<Box<dyn Read + Send>> {
        let body = self.start(0).map_err(|fault| fault.into_error("reading", &self.name, Some(0)))?;
        Ok(Box::new(Going { forward: self.clone(), body: Some(body), at: 0, tries: 0 }))
    }
}

/// Tries in a row that may fail. Each reads everything before anew.
const TRIES: u32 = 6;

/// A body that goes on where it broke.
struct Going {
    forward: Forward,
    body: Option<Box<dyn Read + Send>>,
    at: u64,
    tries: u32,
}

impl Going {
    /// The next bytes. An end before the length that was told is a connection that broke.
    fn next(&mut self, buf: &mut [u8]) -> Result<usize, Fault> {
        let body = match &mut self.body {
            Some(body) => body,
            none => none.insert(self.forward.start(self.at)?),
        };
        let len = body.read(buf).map_err(|error| fault_of_io(&error))?;
        match len == 0 && !buf.is_empty() && self.forward.len.is_some_and(|whole| self.at < whole) {
            true => Err(Fault::again("the connection ended early")),
            false => Ok(len),
        }
    }
}

impl Read for Going {
    fn read(&mut self, buf: &mut [u8]) -> io::Result<usize> {
        loop {
            let shared = &self.forward.shared;
            if shared.stop.is_set() || !shared.pace.take(buf.len() as u64, &shared.stop) {
                return Err(io::Error::other("we were asked to stop"));
            }
            match self.next(buf) {
                Ok(len) => {
                    self.at += len as u64;
                    self.tries = 0;
                    return Ok(len);
                }
                Err(Fault::Again { what, after }) if self.tries < TRIES => {
                    self.tries += 1;
                    self.body = None;
                    let shared = &self.forward.shared;
                    (shared.tell)(&format!("{}: {what}; reading from the start again", self.forward.name));
                    shared
                        .stop
                        .sleep(after.unwrap_or(Duration::from_millis(500) * self.tries).min(Duration::from_secs(300)));
                }
                Err(fault) => {
                    let error = fault.into_error("reading", &self.forward.name, Some(self.at));
                    return Err(io::Error::other(error.to_string()));
                }
            }
        }
    }
}
