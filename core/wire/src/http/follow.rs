//! Asking for a link, and following where it leads.

use std::sync::Arc;

use reformis_disk::error::WireKind;

use super::client::{Client, text};
use crate::{
    fault::Fault,
    link::{Link, Scheme},
};

/// Redirects that are followed.
const REDIRECTS: usize = 8;

/// Finds the client for a link, made of its settings.
pub(crate) trait Relink: Send + Sync {
    /// The client for `link`; `anew` reads its credentials again.
    fn client(&self, link: &Link, anew: bool) -> Result<Arc<Client>, Fault>;
}

/// An answer, and the link that gave it.
pub(crate) struct Answer {
    pub(crate) response: ureq::http::Response<ureq::Body>,
    pub(super) link: Link,
}

/// Asks for `link` and follows where it leads. Nothing that lets us in goes along to another server: each is spoken to as the
/// settings for its own links say. No step leads from TLS to none.
pub(crate) fn get(relink: &dyn Relink, link: &Link, extra: &[(&str, &str)], anew: bool) -> Result<Answer, Fault> {
    let mut at = link.clone();
    for _ in 0..=REDIRECTS {
        let client = relink.client(&at, anew)?;
        let response = client.send("GET", &at, extra, &[])?;
        if !matches!(response.status().as_u16(), 301 | 302 | 303 | 307 | 308) {
            return Ok(Answer { response, link: at });
        }
        let location = text(response.headers(), "location")
            .ok_or_else(|| Fault::protocol("it leads elsewhere, and does not say where"))?;
        at = resolve(&at, location)?;
    }
    Err(Fault::protocol("it leads from one place to the next, and to no end"))
}

/// Where `location`, which `from` was answered with, leads (RFC 3986, section 5.2).
fn resolve(from: &Link, location: &str) -> Result<Link, Fault> {
    let wrong = |_| Fault::protocol("it leads to what is no link");
    let next = if Link::is_one(location) {
        Link::parse(location).map_err(wrong)?
    } else if let Some(rest) = location.strip_prefix("//") {
        let scheme = if from.scheme == Scheme::Https { "https" } else { "http" };
        Link::parse(&format!("{scheme}://{rest}")).map_err(wrong)?
    } else {
        let path =
            if location.starts_with('/') { location.to_string() } else { format!("{}{location}", from.folder()) };
        Link::parse(&format!("{}{path}", from.with_path(""))).map_err(wrong)?
    };
    if !next.scheme.is_http() {
        return Err(Fault::protocol("it leads to what is not HTTP"));
    }
    if from.scheme == Scheme::Https && next.scheme != Scheme::Https {
        return Err(Fault::Fatal(WireKind::Refused, "it leads from a link with TLS to one without".into()));
    }
    Ok(next)
}
