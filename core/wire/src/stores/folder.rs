//! A folder that takes files by HTTP `PUT` (RFC 9110, section 9.3.4), as WebDAV servers do.

use std::{io::Read, sync::Arc};

use reformis_disk::error::WireKind;
use ureq::{SendBody, http::Response};

use super::{Piece, Store};
use crate::{
    fault::Fault,
    http::{Client, Relink, fault_of_answer},
    link::{Link, encoded},
    settings::StoreSettings,
    wires::Wires,
};

/// A folder.
pub(super) struct Folder {
    wires: Wires,
    /// Its link, without a slash at its end.
    link: Link,
}

impl Folder {
    pub(super) fn new(wires: &Wires, settings: &StoreSettings) -> Result<Self, Fault> {
        let link = Link::parse(&settings.at).map_err(|error| Fault::Fatal(WireKind::Settings, error.what))?;
        let path = link.path.trim_end_matches('/').to_string();
        Ok(Self { wires: wires.clone(), link: link.with_path(path) })
    }

    fn client(&self) -> Result<Arc<Client>, Fault> {
        self.wires.inner.client(&self.link, false)
    }

    fn of(&self, name: &str) -> Link {
        self.link.with_path(format!("{}/{}", self.link.path, encoded(name, true)))
    }

    fn send(
        &self,
        method: &str,
        name: &str,
        len: u64,
        body: Option<SendBody<'_>>,
    ) -> Result<Response<ureq::Body>, Fault> {
        let (client, link, len) = (self.client()?, self.of(name), len.to_string());
        let mut target = link.exposed();
        if let Some(query) = &client.dial.query {
            target = format!("{target}?{}", query.expose());
        }
        match body {
            Some(body) => client.send_to(method, &target, &[("content-length", &len)], body),
            None => client.send_to(method, &target, &[], ()),
        }
    }

    /// Puts what `body` gives, and makes the folders first that a server does not make by itself.
    fn put_body<R: Read>(&self, name: &str, len: u64, body: impl Fn() -> R) -> Result<(), Fault> {
        let put = || self.send("PUT", name, len, Some(SendBody::from_reader(&mut body())));
        let mut answer = put()?;
        // Some say that they have trouble of their own where a folder is missing.
        if matches!(answer.status().as_u16(), 404 | 409 | 500) && self.make_folders(name)? {
            answer = put()?;
        }
        match answer.status().as_u16() {
            200..=299 => Ok(()),
            401 | 403 => Err(Fault::Fatal(
                WireKind::Denied,
                "it does not let us write there: give its link a token that may, or name another folder in 'at'".into(),
            )),
            404 | 409 => {
                Err(Fault::Fatal(WireKind::Absent, "the folder is not there: make it, or name another in 'at'".into()))
            }
            405 => Err(Fault::Fatal(WireKind::Refused, "it takes no files: let it allow PUT".into())),
            413 | 507 => Err(Fault::Fatal(WireKind::Refused, "it has no room for a file of this length".into())),
            status => Err(fault_of_answer(status, answer.headers(), false)),
        }
    }

    /// Makes the folders that lead to `name` (RFC 4918, section 9.3); whether one was made.
    fn make_folders(&self, name: &str) -> Result<bool, Fault> {
        let mut is_made = false;
        for (end, _) in name.match_indices('/') {
            let folder = name.get(..=end).unwrap_or_default();
            // One that is there already is refused, which is right.
            is_made |= self.send("MKCOL", folder, 0, None)?.status().as_u16() == 201;
        }
        Ok(is_made)
    }
}

impl Store for Folder {
    fn about(&self) -> Result<Vec<String>, Fault> {
        Ok(vec!["files are sent as a whole, after they were made here".into()])
    }

    fn len_of(&self, name: &str) -> Result<Option<u64>, Fault> {
        let answer = self.send("HEAD", name, 0, None)?;
        match answer.status().as_u16() {
            200..=299 => {
                let len = answer.headers().get("content-length").and_then(|len| len.to_str().ok()?.parse().ok());
                Ok(Some(len.ok_or_else(|| Fault::protocol("it does not say how long a file is"))?))
            }
            404 | 410 => Ok(None),
            status => Err(fault_of_answer(status, answer.headers(), false)),
        }
    }

    fn put(&self, name: &str, bytes: &[u8]) -> Result<(), Fault> {
        self.put_body(name, bytes.len() as u64, || bytes)
    }

    fn remove(&self, name: &str) -> Result<(), Fault> {
        let answer = self.send("DELETE", name, 0, None)?;
        match answer.status().as_u16() {
            200..=299 | 404 | 410 => Ok(()),
            403 | 405 => {
                Err(Fault::Fatal(WireKind::Denied, "it lets us write and not remove: let it allow DELETE".into()))
            }
            status => Err(fault_of_answer(status, answer.headers(), false)),
        }
    }

    fn address(&self, name: &str) -> String {
        self.of(name).to_string()
    }

    fn link(&self, name: &str) -> Result<Link, Fault> {
        Ok(self.of(name))
    }

    fn put_whole(&self, name: &str, piece: &Piece) -> Result<(), Fault> {
        let shared = &self.wires.inner.shared;
        self.put_body(name, piece.len, || piece.reader(&shared.pace, &shared.stop))
    }
}
