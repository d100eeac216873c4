//! What lets us into the database of a fleet's state, as a site's file says.

use std::sync::Arc;

use reformis_disk::Result;
pub use rustls::ClientConfig;

use crate::{fault::Fault, secret::Secret, settings::LinkSettings, wires::Wires};

/// What lets us into a database.
#[derive(Debug, Clone)]
pub struct Access {
    /// The user's password.
    pub password: Option<Secret>,
    /// How its server is trusted, and how we show ourselves.
    pub tls: Arc<ClientConfig>,
}

impl Wires {
    /// Where the site's database is.
    pub fn database_at(&self) -> Option<&str> {
        self.inner.settings.database.at.as_deref()
    }

    /// What lets us into the site's database.
    ///
    /// # Errors
    /// [`reformis_disk::Error::Wire`]: a password, a certificate or a key that cannot be had.
    pub fn database(&self) -> Result<Access> {
        let settings = &self.inner.settings.database;
        let links = LinkSettings {
            authorities: settings.authorities.clone(),
            client_certificate: settings.client_certificate.clone(),
            client_key: settings.client_key.clone(),
            ..LinkSettings::default()
        };
        let failed = |fault: Fault| fault.into_error("preparing for", "the database", None);
        let password = settings.password.as_ref().map(|password| self.inner.secret(password)).transpose();
        let own = self.inner.certificate(&links).map_err(failed)?;
        let authorities = self.inner.authorities(&links).map_err(failed)?;
        let tls = crate::tls::client(&authorities, own.as_ref()).map_err(failed)?;
        Ok(Access { password: password.map_err(failed)?, tls })
    }
}
