//! Disks that a host reads over the network ("Domain XML format", hard drives, `type='network'`).

use std::io;

use crate::xml::write::{Xml, around, empty};

/// Where a disk is served as a network block device.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Served {
    /// The export's name.
    pub export: String,
    /// Its server.
    pub at: ServedAt,
}

/// Where a server of network block devices listens.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum ServedAt {
    /// At a socket file, by its whole path.
    Socket(String),
    /// At a port.
    Port {
        /// Name or address of the host.
        host: String,
        /// The port.
        port: u16,
        /// Whether over TLS.
        tls: bool,
    },
}

impl Served {
    /// It as a link: `nbd+unix:///EXPORT?socket=PATH`, `nbd://HOST:PORT/EXPORT` or `nbds://…` (the scheme's description in the NBD project,
    /// `doc/uri.md`).
    pub fn link(&self) -> String {
        let name = coded(&self.export);
        match &self.at {
            ServedAt::Socket(path) => format!("nbd+unix:///{name}?socket={}", coded(path)),
            ServedAt::Port { host, port, tls } => {
                let host = if host.contains(':') { format!("[{host}]") } else { host.clone() };
                format!("{}://{host}:{port}/{name}", if *tls { "nbds" } else { "nbd" })
            }
        }
    }
}

/// `text` as part of a link: what may mean something else there is a number (RFC 3986, section 2.1).
fn coded(text: &str) -> String {
    let plain = |c: char| c.is_ascii_alphanumeric() || matches!(c, '/' | '.' | '-' | '_');
    let each = |c: char| {
        let mut buf = [0; 4];
        match plain(c) {
            true => c.to_string(),
            false => c.encode_utf8(&mut buf).bytes().map(|byte| format!("%{byte:02X}")).collect(),
        }
    };
    text.chars().map(each).collect()
}

/// The source of a disk that is served.
pub(super) fn source(xml: &mut Xml, served: &Served) -> io::Result<()> {
    let mut attributes = vec![("protocol", "nbd"), ("name", served.export.as_str())];
    if matches!(served.at, ServedAt::Port { tls: true, .. }) {
        attributes.push(("tls", "yes"));
    }
    around(xml, "source", &attributes, |xml| match &served.at {
        ServedAt::Socket(path) => empty(xml, "host", &[("transport", "unix"), ("socket", path)]),
        ServedAt::Port { host, port, .. } => empty(xml, "host", &[("name", host), ("port", &port.to_string())]),
    })
}
