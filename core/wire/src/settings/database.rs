//! What a site says of the database of its fleets' states.

use serde::Deserialize;

use crate::secret::Credential;

/// The table `database` of a site's file. Paths begin in the folder of that file.
#[derive(Debug, Clone, Default, PartialEq, Eq, Deserialize)]
#[serde(rename_all = "kebab-case", deny_unknown_fields, default)]
pub struct DatabaseSettings {
    /// Where it is: `postgres://USER@HOST/DATABASE`.
    pub at: Option<String>,
    /// The user's password.
    pub password: Option<Credential>,
    /// Files with the authorities (PEM) that are trusted, and no others.
    pub authorities: Vec<String>,
    /// Our certificate (PEM).
    pub client_certificate: Option<String>,
    /// Its key (PEM), in a file that nobody else may read.
    pub client_key: Option<String>,
}

impl DatabaseSettings {
    /// Says what does not fit together, as the end of a sentence.
    pub(super) fn check(&self) -> Result<(), String> {
        match self.client_certificate.is_some() == self.client_key.is_some() {
            true => Ok(()),
            false => Err("client-certificate and client-key belong together".into()),
        }
    }
}
