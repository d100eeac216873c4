//! What a site says of a host.

use serde::Deserialize;

use crate::link::Link;

/// How a host is spoken to.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum HostKind {
    /// Through the command line of libvirt.
    Libvirt,
    /// A folder in which machine files lie.
    Files,
    /// By the export protocol.
    Export,
}

impl HostKind {
    /// The word for it.
    pub fn word(self) -> &'static str {
        match self {
            Self::Libvirt => "libvirt",
            Self::Files => "files",
            Self::Export => "export",
        }
    }
}

/// What a site says of a host.
#[derive(Debug, Clone, PartialEq, Eq, Deserialize)]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub struct HostSettings {
    /// How it is spoken to.
    pub kind: HostKind,
    /// Where it is: a link, for `files` and `export`.
    pub at: Option<String>,
    /// The connection, for `libvirt`; without one, this machine's.
    pub uri: Option<String>,
}

impl HostSettings {
    /// Says what does not fit together, as the end of a sentence.
    pub(super) fn check(&self) -> Result<(), String> {
        match self.kind {
            HostKind::Libvirt if self.at.is_some() => Err("a libvirt host has a uri, not an 'at'".into()),
            HostKind::Libvirt => match self.uri.as_deref() {
                Some(uri) if uri.starts_with('-') || uri.chars().any(char::is_control) => {
                    Err("its uri is not sound".into())
                }
                _ => Ok(()),
            },
            HostKind::Files | HostKind::Export if self.uri.is_some() => Err("only a libvirt host has a uri".into()),
            HostKind::Files | HostKind::Export => {
                let at = self.at.as_deref().ok_or("it needs 'at', the link where it is")?;
                let link = Link::parse(at).map_err(|error| format!("'at' is no link that is read: {}", error.what))?;
                let fits =
                    link.scheme.is_http() || self.kind == HostKind::Files && link.scheme == crate::link::Scheme::Ssh;
                if fits { Ok(()) } else { Err("'at' is no link of such a host".into()) }
            }
        }
    }

    /// Where it is, as it is shown.
    pub fn place(&self) -> String {
        match (&self.at, &self.uri) {
            (Some(at), _) => crate::link::without_secrets(at),
            (None, Some(uri)) => uri.clone(),
            (None, None) => "this machine".into(),
        }
    }
}
