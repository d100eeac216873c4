//! What a site says of a store.

use serde::Deserialize;

use super::HeaderValue;
use crate::{link::Link, secret::Credential};

/// How a store is spoken to.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum StoreKind {
    /// An object store: requests that are signed, and uploads in parts.
    Objects,
    /// A page store: objects of pages, of which those that hold data are put.
    Pages,
    /// A folder that takes files by HTTP `PUT`.
    Folder,
}

impl StoreKind {
    /// The word for it.
    pub fn word(self) -> &'static str {
        match self {
            Self::Objects => "objects",
            Self::Pages => "pages",
            Self::Folder => "folder",
        }
    }
}

/// Where the bucket of an object store stands in its links.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Style {
    /// As the first part of the path.
    #[default]
    Path,
    /// In the name of the host, which `at` has already.
    Host,
}

/// By what an object store knows that a part arrived as it was sent.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Checksum {
    /// A digest that is signed with the request.
    Sha256,
    /// A sum that finds accidents: enough where nobody on the way can change a byte, and many times as fast.
    Crc32c,
}

/// What a site says of a store. How its server is reached, the table `link` says.
#[derive(Debug, Clone, PartialEq, Eq, Deserialize)]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub struct StoreSettings {
    /// How it is spoken to.
    pub kind: StoreKind,
    /// Where it is: for `objects` the link of the bucket, for `pages` that of the container; for all with a folder in it where one is
    /// meant.
    pub at: String,
    /// Where the bucket stands in the link, for `objects`; where the account does, for `pages`.
    #[serde(default)]
    pub style: Style,
    /// The region that requests are signed for, for `objects`.
    pub region: Option<String>,
    /// The name of the key that signs, for `objects`; the account, for `pages`.
    pub key_id: Option<HeaderValue>,
    /// The key that signs, for `objects` and `pages`.
    pub key: Option<Credential>,
    /// By what it knows that a part arrived as it was sent, for `objects`; where nothing is said, CRC-32C over TLS and on this machine,
    /// SHA-256 elsewhere.
    pub checksum: Option<Checksum>,
    /// Parts that are sent at the same time.
    pub connections: Option<usize>,
}

impl StoreSettings {
    /// By what it knows that a part arrived as it was sent.
    pub(crate) fn checksum(&self, link: &Link) -> Checksum {
        self.checksum.unwrap_or(if link.is_guarded() { Checksum::Crc32c } else { Checksum::Sha256 })
    }

    /// Says what does not fit together, as the end of a sentence.
    pub(super) fn check(&self) -> Result<(), String> {
        let link = Link::parse(&self.at).map_err(|error| format!("'at' is no link that is read: {}", error.what))?;
        if !link.scheme.is_http() || link.query.is_some() {
            return Err("'at' is an http or https link without a query".into());
        }
        if self.connections.is_some_and(|count| !(1..=4).contains(&count)) {
            return Err("connections is a number from 1 to 4".into());
        }
        if self.checksum.is_some() && self.kind != StoreKind::Objects {
            return Err("a checksum is for stores of objects".into());
        }
        if self.checksum == Some(Checksum::Crc32c) && !link.is_guarded() {
            return Err("checksum = \"crc32c\" is not safe without TLS: anybody on the way could change a part".into());
        }
        match self.kind {
            StoreKind::Objects if self.region.is_none() || self.key_id.is_none() || self.key.is_none() => {
                Err("a store of objects needs region, key-id and key".into())
            }
            StoreKind::Objects if self.style == Style::Path && link.path.trim_matches('/').is_empty() => {
                Err("'at' names no bucket: write it behind the host, or say style = \"host\"".into())
            }
            StoreKind::Pages if self.key_id.is_none() || self.key.is_none() || self.region.is_some() => {
                Err("a store of pages needs key-id, the account, and key; it has no region".into())
            }
            StoreKind::Pages if link.path.trim_matches('/').split('/').count() < 2 && self.style == Style::Path => {
                Err("'at' names the account and the container behind the host, or say style = \"host\"".into())
            }
            StoreKind::Pages if link.path.trim_matches('/').is_empty() => Err("'at' names no container".into()),
            StoreKind::Folder if self.region.is_some() || self.key_id.is_some() || self.key.is_some() => {
                Err("a folder has no region and no key; its token stands in the table of its link".into())
            }
            _ => Ok(()),
        }
    }
}
