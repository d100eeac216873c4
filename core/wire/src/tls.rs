//! TLS for what is not HTTP.

use std::sync::Arc;

use reformis_disk::error::WireKind;
use rustls::{
    CipherSuite, ClientConfig, RootCertStore, ServerConfig, SupportedCipherSuite,
    crypto::CryptoProvider,
    pki_types::{CertificateDer, PrivateKeyDer, pem::PemObject},
    server::WebPkiClientVerifier,
};

use crate::{fault::Fault, secret::Secret};

/// What does the arithmetic. AES with keys of 128 bits comes first: disks are large, and longer keys cost a third more.
pub(crate) fn provider() -> Arc<CryptoProvider> {
    let mut provider = rustls::crypto::ring::default_provider();
    let is_first = |suite: &SupportedCipherSuite| {
        matches!(
            suite.suite(),
            CipherSuite::TLS13_AES_128_GCM_SHA256
                | CipherSuite::TLS_ECDHE_ECDSA_WITH_AES_128_GCM_SHA256
                | CipherSuite::TLS_ECDHE_RSA_WITH_AES_128_GCM_SHA256
        )
    };
    provider.cipher_suites.sort_by_key(|suite| !is_first(suite));
    Arc::new(provider)
}

fn wrong(what: &str) -> Fault {
    Fault::Fatal(WireKind::Settings, what.into())
}

/// The certificates in `pem`.
fn certificates(pem: &[u8]) -> Result<Vec<CertificateDer<'static>>, Fault> {
    let found: Result<Vec<_>, _> = CertificateDer::pem_slice_iter(pem).collect();
    match found {
        Ok(found) if !found.is_empty() => Ok(found),
        _ => Err(wrong("there is no certificate in a file of certificates")),
    }
}

/// The authorities in `pems`; those of the web where there are none.
fn roots(pems: &[Vec<u8>]) -> Result<RootCertStore, Fault> {
    let mut roots = RootCertStore::empty();
    if pems.is_empty() {
        roots.extend(webpki_roots::TLS_SERVER_ROOTS.iter().cloned());
    }
    for pem in pems {
        for certificate in certificates(pem)? {
            roots.add(certificate).map_err(|_| wrong("an authority is not sound"))?;
        }
    }
    Ok(roots)
}

fn key(pem: &Secret) -> Result<PrivateKeyDer<'static>, Fault> {
    PrivateKeyDer::from_pem_slice(pem.expose().as_bytes()).map_err(|_| wrong("the key of a certificate cannot be read"))
}

/// How a client trusts and shows itself.
///
/// # Errors
/// Certificates and keys that are not sound.
pub(crate) fn client(authorities: &[Vec<u8>], own: Option<&(Vec<u8>, Secret)>) -> Result<Arc<ClientConfig>, Fault> {
    let builder = ClientConfig::builder_with_provider(provider()).with_safe_default_protocol_versions();
    let builder = builder.map_err(|_| wrong("TLS cannot be set up"))?.with_root_certificates(roots(authorities)?);
    let config = match own {
        Some((chain, pem)) => builder.with_client_auth_cert(certificates(chain)?, key(pem)?),
        None => return Ok(Arc::new(builder.with_no_client_auth())),
    };
    Ok(Arc::new(config.map_err(|_| wrong("our certificate does not fit its key"))?))
}

/// How a server shows itself, to clients with a certificate of one of the authorities in `clients` alone.
///
/// # Errors
/// Certificates and keys that are not sound.
pub(crate) fn server(chain: &[u8], pem: &Secret, clients: &[u8]) -> Result<Arc<ServerConfig>, Fault> {
    let roots = Arc::new(roots(&[clients.to_vec()])?);
    let verifier = WebPkiClientVerifier::builder_with_provider(roots, provider()).build();
    let verifier = verifier.map_err(|_| wrong("an authority is not sound"))?;
    let builder = ServerConfig::builder_with_provider(provider()).with_safe_default_protocol_versions();
    let builder = builder.map_err(|_| wrong("TLS cannot be set up"))?.with_client_cert_verifier(verifier);
    let config = builder.with_single_cert(certificates(chain)?, key(pem)?);
    Ok(Arc::new(config.map_err(|_| wrong("the certificate does not fit its key"))?))
}
