//! One way to a server: who is trusted there, what lets us in, and which other place it leads to.

use std::{fmt, time::Duration};

use reformis_disk::error::WireKind;
use ureq::{
    Agent,
    http::{HeaderMap, Response, header},
    tls::{ClientCert, RootCerts, TlsConfig},
    unversioned::{
        resolver::{DefaultResolver, ResolvedSocketAddrs, Resolver},
        transport::{DefaultConnector, NextTimeout},
    },
};

use super::{fault_of, retry_after};
use crate::{fault::Fault, link::Link, secret::Secret};

/// How long a server may take to answer, and to send the next bytes.
const PATIENCE: Duration = Duration::from_secs(60);
/// How long connecting may take.
const CONNECT: Duration = Duration::from_secs(15);
/// The most bytes of headers.
const HEADERS: usize = 64 << 10;

/// How a server is reached, with every secret at hand.
#[derive(Debug, Clone, Default)]
pub(crate) struct Dial {
    /// `HOST:PORT` that is connected to in place of the link's.
    pub(crate) connect_to: Option<String>,
    /// Authorities in PEM; none for those of the web.
    pub(crate) authorities: Vec<Vec<u8>>,
    /// Our certificate and its key in PEM.
    pub(crate) certificate: Option<(Vec<u8>, Secret)>,
    /// The proxy; none to go straight.
    pub(crate) proxy: Option<String>,
    /// A bearer token (RFC 6750).
    pub(crate) token: Option<Secret>,
    /// Headers that let us in.
    pub(crate) headers: Vec<(String, Secret)>,
    /// What stands behind the question mark.
    pub(crate) query: Option<Secret>,
}

impl Dial {
    /// Whether something in it lets us in.
    pub(crate) fn has_credential(&self) -> bool {
        self.token.is_some() || !self.headers.is_empty() || self.query.is_some() || self.certificate.is_some()
    }
}

/// Connects to servers as a [`Dial`] says.
pub(crate) struct Client {
    agent: Agent,
    pub(crate) dial: Dial,
}

/// Sends every name to one place, or to its own.
struct Lead {
    to: Option<ureq::http::Uri>,
    own: DefaultResolver,
}

impl fmt::Debug for Lead {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "Lead({:?})", self.to)
    }
}

impl Resolver for Lead {
    fn resolve(
        &self,
        uri: &ureq::http::Uri,
        config: &ureq::config::Config,
        timeout: NextTimeout,
    ) -> Result<ResolvedSocketAddrs, ureq::Error> {
        self.own.resolve(self.to.as_ref().unwrap_or(uri), config, timeout)
    }
}

impl Client {
    /// A client for `dial`.
    ///
    /// # Errors
    /// As the end of a sentence: a certificate, a key, a proxy or a place that is not sound.
    pub(crate) fn new(dial: Dial) -> Result<Self, String> {
        let mut roots = Vec::new();
        for pem in &dial.authorities {
            for item in ureq::tls::parse_pem(pem) {
                if let ureq::tls::PemItem::Certificate(certificate) =
                    item.map_err(|error| format!("an authority cannot be read: {error}"))?
                {
                    roots.push(certificate);
                }
            }
        }
        if roots.is_empty() && !dial.authorities.is_empty() {
            return Err("there is no certificate in its authorities".into());
        }
        let roots = if roots.is_empty() { RootCerts::WebPki } else { RootCerts::new_with_certs(&roots) };
        let mut tls = TlsConfig::builder().root_certs(roots).unversioned_rustls_crypto_provider(crate::tls::provider());
        if let Some((pem, key)) = &dial.certificate {
            let chain = ureq::tls::parse_pem(pem).filter_map(|item| match item {
                Ok(ureq::tls::PemItem::Certificate(certificate)) => Some(certificate),
                _ => None,
            });
            let chain: Vec<_> = chain.collect();
            let key = ureq::tls::PrivateKey::from_pem(key.expose().as_bytes());
            let key = key.map_err(|_| "the key of our certificate cannot be read".to_string())?;
            if chain.is_empty() {
                return Err("there is no certificate in ours".into());
            }
            tls = tls.client_cert(Some(ClientCert::new_with_certs(&chain, key)));
        }
        let proxy = dial.proxy.as_deref().map(ureq::Proxy::new).transpose();
        let proxy = proxy.map_err(|_| "the proxy is no link of one".to_string())?;
        let to = dial.connect_to.as_ref().map(|to| format!("http://{to}/").parse()).transpose();
        let to = to.map_err(|_| "connect-to is not HOST:PORT".to_string())?;
        let config = Agent::config_builder()
            .http_status_as_error(false)
            // WebDAV has its own.
            .allow_non_standard_methods(true)
            .max_redirects(0)
            .max_redirects_will_error(false)
            .accept_encoding("identity")
            .user_agent(concat!("reformis/", env!("CARGO_PKG_VERSION")))
            .proxy(proxy)
            .tls_config(tls.build())
            .timeout_connect(Some(CONNECT))
            .timeout_resolve(Some(CONNECT))
            .timeout_recv_response(Some(PATIENCE))
            .timeout_per_read(Some(PATIENCE))
            .timeout_per_write(Some(PATIENCE))
            .max_response_header_size(HEADERS)
            .input_buffer_size(128 << 10)
            .max_idle_connections_per_host(16)
            .build();
        let agent =
            Agent::with_parts(config, DefaultConnector::default(), Lead { to, own: DefaultResolver::default() });
        Ok(Self { agent, dial })
    }

    /// Sends one request for `link` with what lets us in, and `extra` headers; the answer, whatever its status.
    pub(crate) fn send(
        &self,
        method: &str,
        link: &Link,
        extra: &[(&str, &str)],
        body: &[u8],
    ) -> Result<Response<ureq::Body>, Fault> {
        let mut target = link.exposed();
        if let (None, Some(query)) = (&link.query, &self.dial.query) {
            target = format!("{target}?{}", query.expose());
        }
        match body.is_empty() {
            true => self.send_to(method, &target, extra, ()),
            false => self.send_to(method, &target, extra, body),
        }
    }

    /// The same for the link `target` as it stands, with its query.
    pub(crate) fn send_to(
        &self,
        method: &str,
        target: &str,
        extra: &[(&str, &str)],
        body: impl ureq::AsSendBody,
    ) -> Result<Response<ureq::Body>, Fault> {
        let mut request = ureq::http::Request::builder().method(method).uri(target);
        let is_own = extra.iter().any(|(name, _)| *name == "authorization");
        if let Some(token) = self.dial.token.as_ref().filter(|_| !is_own) {
            request = request.header(header::AUTHORIZATION, format!("Bearer {}", token.expose()));
        }
        for (name, value) in &self.dial.headers {
            request = request.header(name, value.expose());
        }
        for (name, value) in extra {
            request = request.header(*name, *value);
        }
        // The error of a request that is not sound shows what it holds.
        let request = request
            .body(body)
            .map_err(|_| Fault::Fatal(WireKind::Settings, "the link or a header is not sound".into()));
        self.agent.run(request?).map_err(|error| fault_of_transport(&error))
    }
}

/// What an answer without success means.
pub(crate) fn fault_of_answer(status: u16, headers: &HeaderMap, opened: bool) -> Fault {
    fault_of(status, text(headers, "retry-after").and_then(retry_after), opened)
}

/// The header `name` as text.
pub(super) fn text<'a>(headers: &'a HeaderMap, name: &str) -> Option<&'a str> {
    headers.get(name)?.to_str().ok()
}

/// What a failure below HTTP means.
fn fault_of_transport(error: &ureq::Error) -> Fault {
    use ureq::Error as E;
    match error {
        E::Io(error) => fault_of_io(error),
        E::Timeout(_) => Fault::again("the server takes too long to answer"),
        E::HostNotFound => Fault::again("no address is known for the host"),
        E::ConnectionFailed => Fault::again("no connection could be made"),
        E::ConnectProxyFailed(_) => Fault::again("the proxy does not lead there"),
        E::Rustls(error) => fault_of_tls(error),
        E::Tls(what) => Fault::Fatal(WireKind::Untrusted, (*what).into()),
        E::Protocol(_) => Fault::protocol("its answer breaks the rules of HTTP"),
        E::LargeResponseHeader(..) => Fault::protocol("the headers of its answer have no end"),
        // Others may show the link.
        _ => Fault::protocol("the request could not be made"),
    }
}

/// What an error while reading or writing means; TLS hides its own in it.
pub(crate) fn fault_of_io(error: &std::io::Error) -> Fault {
    let inner = error.get_ref().and_then(|inner| inner.downcast_ref::<rustls::Error>());
    if let Some(tls) = inner {
        return fault_of_tls(tls);
    }
    if let Some(own) = error.get_ref().and_then(|inner| inner.downcast_ref::<ureq::Error>())
        && !matches!(own, ureq::Error::Io(_))
    {
        return fault_of_transport(own);
    }
    let kind = error.kind();
    Fault::again(match kind {
        std::io::ErrorKind::ConnectionRefused => "nobody answers there".into(),
        std::io::ErrorKind::TimedOut | std::io::ErrorKind::WouldBlock => "it takes too long to answer".into(),
        std::io::ErrorKind::UnexpectedEof => "the connection ended early".into(),
        std::io::ErrorKind::ConnectionReset | std::io::ErrorKind::BrokenPipe => "the connection broke".into(),
        _ => format!("the connection failed ({kind})"),
    })
}

/// What a failure of TLS means.
pub(crate) fn fault_of_tls(error: &rustls::Error) -> Fault {
    use rustls::{AlertDescription as Alert, CertificateError as Bad, Error as E};
    let untrusted = |what: &str| Fault::Fatal(WireKind::Untrusted, what.into());
    match error {
        E::InvalidCertificate(bad) => match bad {
            Bad::UnknownIssuer => untrusted("its certificate is of an authority that is not trusted here"),
            Bad::Expired | Bad::ExpiredContext { .. } => untrusted("its certificate has expired"),
            Bad::NotValidYet | Bad::NotValidYetContext { .. } => untrusted("its certificate is not valid yet"),
            Bad::NotValidForName | Bad::NotValidForNameContext { .. } => {
                untrusted("its certificate is for another name")
            }
            bad => untrusted(&format!("its certificate is refused: {bad}")),
        },
        E::AlertReceived(
            Alert::CertificateRequired
            | Alert::BadCertificate
            | Alert::UnknownCA
            | Alert::AccessDenied
            | Alert::CertificateUnknown
            | Alert::HandshakeFailure,
        ) => Fault::Fatal(WireKind::Denied, "it refuses our certificate, or wants one".into()),
        E::InvalidMessage(_) => Fault::protocol("it does not speak TLS"),
        error => Fault::again(format!("TLS failed: {error}")),
    }
}
