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
