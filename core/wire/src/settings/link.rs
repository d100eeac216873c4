//! What a site says of the links below one.

use std::collections::BTreeMap;

use serde::Deserialize;

use crate::secret::Credential;

/// What a site says of the links below one. Paths begin in the folder of the site's file.
#[derive(Debug, Clone, Default, PartialEq, Eq, Deserialize)]
#[serde(rename_all = "kebab-case", deny_unknown_fields, default)]
pub struct LinkSettings {
    /// A bearer token, for HTTP.
    pub token: Option<Credential>,
    /// Headers that are sent along, for HTTP.
    pub headers: BTreeMap<String, HeaderValue>,
    /// What stands behind the question mark of a link that was signed, for HTTP.
    pub query: Option<Credential>,
    /// Files with the authorities (PEM) that are trusted, and no others.
    pub authorities: Vec<String>,
    /// Our certificate (PEM).
    pub client_certificate: Option<String>,
    /// Its key (PEM), in a file that nobody else may read.
    pub client_key: Option<String>,
    /// `HOST:PORT` to connect to in place of the link's, whose name stays the one that is asked for and checked.
    pub connect_to: Option<String>,
    /// The proxy, or `none` where the environment's is not to be used.
    pub proxy: Option<String>,
    /// Pieces that are fetched at the same time.
    pub connections: Option<usize>,
    /// For SSH: the private key.
    pub key: Option<String>,
    /// For SSH: the file of known hosts.
    pub known_hosts: Option<String>,
    /// For SSH: a file of settings of the program `ssh`, in place of the user's own.
    pub config: Option<String>,
    /// For SSH: the password, where there is no key.
    pub password: Option<Credential>,
    /// For SSH: whether what comes is compressed on its way.
    pub compression: Compression,
}

/// A header's value: one that may be known, or a credential.
#[derive(Debug, Clone, PartialEq, Eq, Deserialize)]
#[serde(untagged)]
pub enum HeaderValue {
    /// As it stands here.
    Plain(String),
    /// From where it is kept.
    Secret(Credential),
}

/// When SSH compresses.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Compression {
    /// When the link turns out to be slow.
    #[default]
    Auto,
    /// Always.
    Always,
    /// Never.
    Never,
}

impl LinkSettings {
    /// Says what does not fit together, as the end of a sentence.
    pub(super) fn check(&self) -> Result<(), String> {
        if self.client_certificate.is_some() != self.client_key.is_some() {
            return Err("client-certificate and client-key belong together".into());
        }
        if self.connections.is_some_and(|count| !(1..=32).contains(&count)) {
            return Err("connections is a number from 1 to 32".into());
        }
        let is_token = |name: &str| {
            !name.is_empty() && name.bytes().all(|byte| byte.is_ascii_alphanumeric() || byte == b'-' || byte == b'_')
        };
        match self.headers.keys().find(|name| !is_token(name)) {
            Some(name) => Err(format!("'{name}' is not the name of a header")),
            None => Ok(()),
        }
    }
}
