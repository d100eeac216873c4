//! Links: where something lies on the network, without what lets us in.

use std::fmt;

use percent_encoding::{AsciiSet, CONTROLS, percent_decode_str, utf8_percent_encode};
use reformis_disk::error::{WireError, WireKind};

use crate::secret::Secret;

/// How a link is spoken to.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub enum Scheme {
    /// HTTP without TLS.
    Http,
    /// HTTP over TLS.
    Https,
    /// Files and devices by SSH.
    Ssh,
    /// A network block device without TLS.
    Nbd,
    /// A network block device over TLS.
    Nbds,
    /// A network block device at a socket of this machine.
    NbdUnix,
}

impl Scheme {
    const ALL: [(&'static str, Self); 6] = [
        ("http", Self::Http),
        ("https", Self::Https),
        ("ssh", Self::Ssh),
        ("nbd", Self::Nbd),
        ("nbds", Self::Nbds),
        ("nbd+unix", Self::NbdUnix),
    ];

    fn word(self) -> &'static str {
        Self::ALL.iter().find(|(_, scheme)| *scheme == self).map_or("", |(word, _)| word)
    }

    /// The port that is meant where none is named.
    pub fn port(self) -> u16 {
        match self {
            Self::Http => 80,
            Self::Https => 443,
            Self::Ssh => 22,
            Self::Nbd | Self::Nbds | Self::NbdUnix => 10809,
        }
    }

    /// Whether it is HTTP, with TLS or without.
    pub fn is_http(self) -> bool {
        matches!(self, Self::Http | Self::Https)
    }
}

/// A link (RFC 3986; for network block devices, the URI specification of their project). Its text, also for debugging, does
/// not show the query, which may be what lets us in.
#[derive(Clone, PartialEq, Eq)]
pub struct Link {
    /// How it is spoken to.
    pub scheme: Scheme,
    /// The user, for SSH.
    pub user: Option<String>,
    /// Name or address, in small letters, an IPv6 address without its brackets; empty for a socket of this machine.
    pub host: String,
    /// The port, where one is named.
    pub port: Option<u16>,
    /// What follows, from its first slash on; escaped as it was written for HTTP, else as it is.
    pub path: String,
    /// What stands behind the question mark.
    pub query: Option<Secret>,
    /// The socket of this machine.
    pub socket: Option<String>,
}

/// Characters that stand for themselves in no path.
const ESCAPED: &AsciiSet = &CONTROLS
    .add(b' ')
    .add(b'"')
    .add(b'#')
    .add(b'%')
    .add(b'&')
    .add(b'<')
    .add(b'>')
    .add(b'?')
    .add(b'`')
    .add(b'{')
    .add(b'}')
    .add(b'\\')
    .add(b'^')
    .add(b'|')
    .add(b'[')
    .add(b']');

/// Characters that stand in no link as they are.
const BARE: &AsciiSet = &CONTROLS.add(b' ').add(b'"').add(b'<').add(b'>');

impl Link {
    /// Whether nobody on the way reads or changes what is said: TLS guards it, or it does not leave this machine.
    pub(crate) fn is_guarded(&self) -> bool {
        let is_here = || {
            let host = self.host.trim_matches(['[', ']']);
            host.eq_ignore_ascii_case("localhost")
                || host.parse::<std::net::IpAddr>().is_ok_and(|address| address.is_loopback())
        };
        !matches!(self.scheme, Scheme::Http | Scheme::Nbd) || is_here()
    }

    /// Whether `text` begins like a link: a scheme, a colon and two slashes.
    pub fn is_one(text: &str) -> bool {
        text.split_once("://").is_some_and(|(scheme, _)| {
            scheme.len() >= 2
                && scheme.starts_with(|c: char| c.is_ascii_alphabetic())
                && scheme.chars().all(|c| c.is_ascii_alphanumeric() || matches!(c, '+' | '-' | '.'))
        })
    }

    /// Reads a link.
    ///
    /// # Errors
    /// A scheme that is not read, a password in the link, a port that is none, a name that holds what no name does.
    pub fn parse(text: &str) -> Result<Self, WireError> {
        let wrong = |what: &str| WireError {
            action: "reading the link",
            place: without_secrets(text),
            offset: None,
            what: what.into(),
            kind: WireKind::Settings,
        };
        let (scheme, rest) = text.split_once("://").ok_or_else(|| wrong("it has no scheme"))?;
        let known = Scheme::ALL.iter().find(|(word, _)| word.eq_ignore_ascii_case(scheme));
        let Some((_, scheme)) = known else {
            let words: Vec<_> = Scheme::ALL.iter().map(|(word, _)| *word).collect();
            return Err(wrong(&format!("its scheme is not one of {}", words.join(", "))));
        };
        // What stands behind a hash is the reader's own, and never sent.
        let rest = rest.split('#').next().unwrap_or(rest);
        let (rest, query) = rest.split_once('?').map_or((rest, None), |(rest, query)| (rest, Some(query)));
        let (authority, path) = rest.find('/').map_or((rest, ""), |slash| rest.split_at(slash));
        let (user, place) = authority.rsplit_once('@').map_or((None, authority), |(user, place)| (Some(user), place));
        if user.is_some_and(|user| user.contains(':')) {
            return Err(wrong("it holds a password: secrets come from a file, the environment or a prompt"));
        }
        if user.is_some() && *scheme != Scheme::Ssh {
            return Err(wrong("only ssh links name a user"));
        }
        let (host, port) = match place.strip_prefix('[').and_then(|rest| rest.split_once(']')) {
            Some((host, "")) => (host, None),
            Some((host, port)) => (host, Some(port.strip_prefix(':').ok_or_else(|| wrong("its host is not sound"))?)),
            None => place.split_once(':').map_or((place, None), |(host, port)| (host, Some(port))),
        };
        let port = port.map(str::parse).transpose().map_err(|_| wrong("its port is not a number below 65536"))?;
        let plain = |c: char| c.is_alphanumeric() || matches!(c, '-' | '.' | '_' | ':');
        let user = user.map(decoded).transpose().map_err(|()| wrong("its user is not sound"))?;
        // What begins with a dash would be an option of the program that is given it.
        let is_word = |text: &str| !text.starts_with('-') && text.chars().all(plain);
        if !is_word(host) || !user.as_deref().is_none_or(|user| !user.is_empty() && is_word(user)) {
            return Err(wrong("its host or its user is not sound"));
        }
        let is_local = *scheme == Scheme::NbdUnix;
        if host.is_empty() != is_local {
            return Err(wrong(if is_local { "a socket of this machine has no host" } else { "it names no host" }));
        }
        let path = match scheme.is_http() {
            true => utf8_percent_encode(path, BARE).to_string(),
            false => decoded(path).map_err(|()| wrong("its path is not text"))?,
        };
        let mut link = Self {
            scheme: *scheme,
            user,
            host: host.to_ascii_lowercase(),
            port,
            path,
            query: query.map(Secret::new),
            socket: None,
        };
        if is_local {
            let query = link.query.take();
            let socket = query
                .as_ref()
                .and_then(|query| query.expose().split('&').find_map(|pair| pair.strip_prefix("socket=")));
            link.socket = socket.map(decoded).transpose().map_err(|()| wrong("its socket is not text"))?;
            if link.socket.is_none() {
                return Err(wrong("it names no socket (?socket=PATH)"));
            }
        }
        Ok(link)
    }

    /// The port that is connected to.
    pub fn port(&self) -> u16 {
        self.port.unwrap_or_else(|| self.scheme.port())
    }

    /// Whether `other` is the same scheme, host and port (RFC 6454, section 5).
    pub fn is_same_origin(&self, other: &Self) -> bool {
        self.scheme == other.scheme && self.host == other.host && self.port() == other.port() && self.user == other.user
    }

    /// Whether this link lies at `base` or below it.
    pub fn is_below(&self, base: &Self) -> bool {
        let same = self.scheme == base.scheme && self.host == base.host && self.port() == base.port();
        let user = base.user.is_none() || base.user == self.user;
        let folder = base.path.trim_end_matches('/');
        let inside = self.path.strip_prefix(folder).is_some_and(|rest| rest.is_empty() || rest.starts_with('/'));
        same && user && inside && !self.path.split('/').any(|part| part == "..")
    }

    /// The folder that it lies in, with the slash.
    pub fn folder(&self) -> &str {
        self.path.rfind('/').and_then(|slash| self.path.get(..=slash)).unwrap_or("/")
    }

    /// The name without its folder, as a person reads it.
    pub fn base_name(&self) -> String {
        let last = self.path.rsplit('/').next().unwrap_or_default();
        if self.scheme.is_http() { decoded(last).unwrap_or_else(|()| last.into()) } else { last.into() }
    }

    /// The link of `name`, a path relative to the folder that this one lies in.
    #[must_use]
    pub fn beside(&self, name: &str) -> Self {
        let name = if self.scheme.is_http() { escaped(name) } else { name.to_string() };
        Self { path: format!("{}{name}", self.folder()), query: None, ..self.clone() }
    }

    /// With this path, and no query.
    #[must_use]
    pub fn with_path(&self, path: impl Into<String>) -> Self {
        Self { path: path.into(), query: None, ..self.clone() }
    }

    /// Where it leads, with the secret part: only ever sent.
    pub(crate) fn exposed(&self) -> String {
        match &self.query {
            Some(query) => format!("{self}?{}", query.expose()),
            None => self.to_string(),
        }
    }
}

/// `name` escaped for a path; slashes stay.
pub(crate) fn escaped(name: &str) -> String {
    utf8_percent_encode(name, ESCAPED).to_string()
}

/// `text` with all but unreserved characters encoded (RFC 3986, section 2.3); slashes stay where `keeps_slashes`.
pub(crate) fn encoded(text: &str, keeps_slashes: bool) -> String {
    text.bytes().fold(String::with_capacity(text.len()), |mut out, byte| {
        match byte {
            b'A'..=b'Z' | b'a'..=b'z' | b'0'..=b'9' | b'-' | b'.' | b'_' | b'~' => out.push(char::from(byte)),
            b'/' if keeps_slashes => out.push('/'),
            _ => {
                out += &format!("%{byte:02X}");
            }
        }
        out
    })
}

/// The text that `escaped` stands for.
pub(crate) fn decoded(escaped: &str) -> Result<String, ()> {
    percent_decode_str(escaped).decode_utf8().map(Into::into).map_err(|_| ())
}

/// `text` as it may be shown and kept: a link without its query and without a password; anything else as it is.
pub fn without_secrets(text: &str) -> String {
    if !Link::is_one(text) {
        return text.into();
    }
    let is_local = text.starts_with("nbd+unix:");
    let text = text.split('#').next().unwrap_or(text);
    let text = if is_local { text } else { text.split('?').next().unwrap_or(text) };
    let Some((scheme, rest)) = text.split_once("://") else { return text.into() };
    let (authority, path) = rest.find('/').map_or((rest, ""), |slash| rest.split_at(slash));
    match authority.rsplit_once('@') {
        Some((user, place)) if user.contains(':') => {
            let user = user.split(':').next().unwrap_or_default();
            format!("{scheme}://{user}@{place}{path}")
        }
        _ => format!("{scheme}://{authority}{path}"),
    }
}

impl fmt::Display for Link {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{}://", self.scheme.word())?;
        if let Some(user) = &self.user {
            write!(f, "{user}@")?;
        }
        if self.host.contains(':') { write!(f, "[{}]", self.host) } else { f.write_str(&self.host) }?;
        if let Some(port) = self.port {
            write!(f, ":{port}")?;
        }
        if self.scheme.is_http() { f.write_str(&self.path) } else { f.write_str(&escaped(&self.path)) }?;
        match &self.socket {
            Some(socket) => write!(f, "?socket={}", escaped(socket)),
            None => Ok(()),
        }
    }
}

impl fmt::Debug for Link {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{self}{}", if self.query.is_some() { "?…" } else { "" })
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    #[test]
    fn links_are_read_and_shown_without_their_query() {
        for (text, shown, host, port) in [
            (
                "https://export.example/a/ledger.vmdk?sig=abc",
                "https://export.example/a/ledger.vmdk",
                "export.example",
                443,
            ),
            ("HTTP://[2001:db8::1]:8080/x", "http://[2001:db8::1]:8080/x", "2001:db8::1", 8080),
            ("ssh://root@store1/dev/zvol/tank/tidelog", "ssh://root@store1/dev/zvol/tank/tidelog", "store1", 22),
            ("nbds://store1:10810/disk%201", "nbds://store1:10810/disk%201", "store1", 10810),
            ("nbd+unix:///disk?socket=/run/a%20b.sock", "nbd+unix:///disk?socket=/run/a%20b.sock", "", 10809),
            ("https://export.example/a b#here", "https://export.example/a%20b", "export.example", 443),
        ] {
            let link = Link::parse(text).unwrap();
            assert_eq!((link.to_string().as_str(), link.host.as_str(), link.port()), (shown, host, port), "{text}");
            assert!(!format!("{link:?} {link}").contains("abc"));
        }
        let link = Link::parse("nbd+unix:///disk?socket=/run/a%20b.sock").unwrap();
        assert_eq!((link.path.as_str(), link.socket.as_deref()), ("/disk", Some("/run/a b.sock")));
    }

    #[test]
    fn what_is_no_sound_link_is_refused_without_its_secrets() {
        for text in [
            "gopher://a/b",
            "https://",
            "https:///x",
            "https://user:pa55@h/x",
            "https://u@h/x",
            "ssh://-oProxyCommand=x/y",
            "ssh://a@-h/x",
            "https://h:99999/x",
            "nbd+unix:///x",
            "nbd+unix://h/x?socket=/s",
            "https://h x/y",
            "ssh://u%3bx@h/y",
        ] {
            let error = Link::parse(text).unwrap_err();
            assert!(!error.to_string().contains("pa55"), "{error}");
        }
        assert_eq!(without_secrets("ssh://u:pa55@h/x?y"), "ssh://u@h/x");
        assert_eq!(without_secrets("what?is=this"), "what?is=this");
        assert!(!Link::is_one("C://x") && !Link::is_one("a/b://c") && Link::is_one("nbd+unix:///x"));
    }

    #[test]
    fn what_lies_below_is_told_by_whole_names() {
        let below = |link: &str, base: &str| Link::parse(link).unwrap().is_below(&Link::parse(base).unwrap());
        assert!(
            below("https://h/a/b", "https://h")
                && below("https://h/a/b", "https://h/a/")
                && below("https://h:443/a", "https://h/a")
        );
        for (link, base) in [
            ("https://h.evil/a", "https://h"),
            ("https://h/ab", "https://h/a"),
            ("http://h/a", "https://h/a"),
            ("https://h:8/a", "https://h/a"),
            ("https://h/a/../b", "https://h/a"),
            ("ssh://eve@h/a", "ssh://root@h/a"),
        ] {
            assert!(!below(link, base), "{link} {base}");
        }
    }

    proptest! {
        /// A name that is put beside a link leads there, whatever is in it.
        #[test]
        fn a_name_beside_a_link_is_that_name(name in "[^/\\x00-\\x1f\\x7f]{1,20}") {
            for base in ["https://h/a/b.vmdk?q=1", "ssh://h/a/b.vmdk"] {
                let link = Link::parse(base).unwrap().beside(&name);
                prop_assert_eq!(link.base_name(), name.clone());
                let again = Link::parse(&link.to_string()).unwrap();
                prop_assert_eq!(again.base_name(), name.clone());
                prop_assert_eq!(again.query, None);
            }
        }

        #[test]
        fn any_text_is_read_or_refused(text in ".{0,40}", scheme in "(https|ssh|nbd|nbd\\+unix)") {
            let _ = Link::parse(&text);
            let text = format!("{scheme}://{text}");
            let _ = without_secrets(&text);
            if let Ok(link) = Link::parse(&text) {
                prop_assert_eq!(Link::parse(&link.to_string()).unwrap().to_string(), link.to_string());
            }
        }
    }
}
