//! The network as a run knows it: its settings, what lets us in, and the connections that are open.

use std::{
    collections::HashMap,
    path::Path,
    sync::{
        Arc, Mutex, PoisonError, Weak,
        atomic::{AtomicBool, Ordering},
    },
    time::Duration,
};

use reformis_disk::{
    Error, Result, Storage,
    budget::Budget,
    container::{Source, Stream},
    error::{WireError, WireKind},
};

use crate::{
    cargo::Cargo,
    fault::Fault,
    http::{self, Client, Dial, Listing, Opened, Relink},
    link::{Link, Scheme},
    nbd,
    secret::{Keys, NoKeys, Secret},
    settings::{HeaderValue, LinkSettings, Settings},
    ssh::{self, Pool, Session},
    steady::{Shared, Steady},
};

/// Pieces of a link that are fetched at the same time, where nothing else is said.
const CONNECTIONS: usize = 4;

/// The network as a run knows it.
#[derive(Clone)]
pub struct Wires {
    pub(crate) inner: Arc<Inner>,
}

impl Default for Wires {
    fn default() -> Self {
        Self::plain()
    }
}

/// The entry of the settings by which something is reached, and where it is.
type Way = (Option<usize>, String);

pub(crate) struct Inner {
    pub(crate) settings: Settings,
    keys: Arc<dyn Keys>,
    pub(crate) shared: Shared,
    /// Clients by the entry of their settings and by where they lead.
    clients: Mutex<HashMap<Way, Arc<Client>>>,
    /// Connections by SSH, in the same way.
    sessions: Mutex<HashMap<Way, Arc<Pool>>>,
    /// The files of machines of hosts that somebody here has open, by host and machine: what a host made for the first of them serves all.
    pub(crate) cargoes: Mutex<Cargoes>,
    /// Whether machines that run are read too.
    pub(crate) reads_running: AtomicBool,
}

type Cargoes = HashMap<(String, String), Weak<dyn Cargo>>;

impl Wires {
    /// With a site's `settings`, and the `keys` by which secrets are had.
    pub fn new(settings: Settings, keys: Arc<dyn Keys>, shared: Shared) -> Self {
        let (clients, sessions, cargoes) = (Mutex::default(), Mutex::default(), Mutex::default());
        let reads_running = AtomicBool::new(false);
        Self { inner: Arc::new(Inner { settings, keys, shared, clients, sessions, cargoes, reads_running }) }
    }

    /// Without settings and without secrets.
    pub fn plain() -> Self {
        Self::new(Settings::default(), Arc::new(NoKeys), Shared::quiet())
    }

    /// Whether `path` is a link, and no path of this machine.
    pub fn is_link(path: &Path) -> bool {
        path.to_str().is_some_and(Link::is_one)
    }

    /// Opens the file or the device at `link`; what strangers make us collect from it is counted against `budget`.
    ///
    /// # Errors
    /// [`Error::Wire`].
    pub fn open(&self, link: &Link, budget: &Arc<Budget>) -> Result<Source> {
        let failed = |fault: Fault| fault.into_error("opening", &link.to_string(), None);
        match link.scheme {
            Scheme::Http | Scheme::Https => {
                let relink: Arc<dyn Relink> = self.inner.clone();
                let opened =
                    self.inner.patient(|| http::open(&relink, link, None, self.inner.depth(link), &self.inner.shared));
                Ok(match opened.map_err(failed)? {
                    Opened::Ranges(file) => Source::Storage(self.steady(file, budget)),
                    Opened::Forward(forward) => {
                        Source::Stream(Stream::far(forward.name().to_string(), forward, budget))
                    }
                })
            }
            Scheme::Ssh => {
                let pool = self.inner.machine_by_ssh(link).map_err(failed)?;
                let remote = self.inner.patient(|| ssh::open(&pool, link, self.inner.settings_of(link).connections));
                Ok(Source::Storage(self.steady(remote.map_err(failed)?, budget)))
            }
            Scheme::Nbd | Scheme::Nbds | Scheme::NbdUnix => {
                let dial = self.inner.nbd(link).map_err(failed)?;
                let export = self.inner.patient(|| nbd::Export::open(dial.clone(), self.inner.depth(link)));
                Ok(Source::Storage(self.steady(Arc::new(export.map_err(failed)?), budget)))
            }
        }
    }

    /// What the page at `link` answers, where that is well: its status.
    ///
    /// # Errors
    /// [`Error::Wire`]: nobody answers, or with another status than 2xx.
    pub fn page(&self, text: &str) -> Result<String> {
        let link = self::link(text)?;
        let failed = |fault: Fault| fault.into_error("asking for", &link.to_string(), None);
        if !link.scheme.is_http() {
            return Err(failed(Fault::Fatal(WireKind::Settings, "it is no page".into())));
        }
        let answer = http::get(self.inner.as_ref(), &link, &[], false).map_err(failed)?;
        let status = answer.response.status();
        match status.is_success() {
            true => Ok(format!("it answers {}", status.as_u16())),
            false => Err(failed(Fault::again(format!("it answers {}", status.as_u16())))),
        }
    }

    /// The names of the plain files in the folder at `link`, or of the exports there; `None` where it is no folder.
    ///
    /// # Errors
    /// [`Error::Wire`].
    pub fn list(&self, link: &Link) -> Result<Option<Vec<String>>> {
        let listing = self.inner.listing(link).map_err(|fault| fault.into_error("listing", &link.to_string(), None))?;
        Ok(listing.map(|listing| listing.files))
    }

    /// The names of files and of folders in the folder at `link`.
    pub(crate) fn entries(&self, link: &Link) -> Result<(Vec<String>, Vec<String>), Fault> {
        let listing = self.inner.listing(link)?;
        let listing =
            listing.ok_or_else(|| Fault::Fatal(WireKind::Refused, "it is no folder that is listed".into()))?;
        Ok((listing.files, listing.folders))
    }

    /// Reads machines that run too, where their host can give one moment of them.
    pub fn read_running(&self) {
        self.inner.reads_running.store(true, Ordering::Relaxed);
    }

    /// Whether it does.
    pub fn reads_running(&self) -> bool {
        self.inner.reads_running.load(Ordering::Relaxed)
    }

    pub(crate) fn steady(&self, remote: Arc<dyn crate::Remote>, budget: &Arc<Budget>) -> Arc<dyn Storage> {
        Arc::new(Steady::new(remote, self.inner.shared.clone(), budget))
    }
}

/// Waits between the tries for a first answer: whoever asks waits for it. A connection that was kept and had died meanwhile is no reason
/// to wait long.
const WAITS: [Duration; 3] = [Duration::from_millis(50), Duration::from_secs(1), Duration::from_secs(3)];

impl Inner {
    /// What is said of `link`.
    pub(crate) fn settings_of(&self, link: &Link) -> LinkSettings {
        self.settings.of(link).map(|(_, settings)| settings.clone()).unwrap_or_default()
    }

    pub(crate) fn depth(&self, link: &Link) -> usize {
        self.settings_of(link).connections.unwrap_or(CONNECTIONS)
    }

    /// A few tries of what is done before the work begins.
    pub(crate) fn patient<T>(&self, mut attempt: impl FnMut() -> Result<T, Fault>) -> Result<T, Fault> {
        for wait in WAITS {
            match attempt() {
                Err(Fault::Again { what, after }) => {
                    let wait = after.unwrap_or(wait).min(Duration::from_secs(60));
                    tracing::debug!(what, ?wait, "trying again");
                    if !self.shared.stop.sleep(wait) {
                        return Err(Fault::again("we were asked to stop"));
                    }
                }
                other => return other,
            }
        }
        attempt()
    }

    /// What is in the folder at `link`; `None` where it is none.
    fn listing(&self, link: &Link) -> Result<Option<Listing>, Fault> {
        match link.scheme {
            // A folder is called one: its link ends in a slash.
            Scheme::Http | Scheme::Https if link.path.is_empty() || link.path.ends_with('/') => {
                self.patient(|| http::list(self, link)).map(Some)
            }
            Scheme::Http | Scheme::Https => Ok(None),
            Scheme::Ssh => {
                let pool = self.machine_by_ssh(link)?;
                self.patient(|| ssh::list(&pool, link))
            }
            // Without an export's name, all are meant.
            Scheme::Nbd | Scheme::Nbds | Scheme::NbdUnix if link.path.trim_matches('/').is_empty() => {
                let dial = self.nbd(link)?;
                match self.patient(|| nbd::list(&dial)) {
                    Ok(files) if !files.is_empty() => Ok(Some(Listing { files, folders: Vec::new() })),
                    // It may have one without a name, and not tell which there are.
                    Ok(_) | Err(Fault::Fatal(WireKind::Refused, _)) => Ok(None),
                    Err(fault) => Err(fault),
                }
            }
            Scheme::Nbd | Scheme::Nbds | Scheme::NbdUnix => Ok(None),
        }
    }

    /// How the export at `link` is reached.
    fn nbd(&self, link: &Link) -> Result<nbd::Dial, Fault> {
        let settings = self.settings_of(link);
        let tls = match link.scheme {
            Scheme::Nbds => {
                let own = self.certificate(&settings)?;
                Some(crate::tls::client(&self.authorities(&settings)?, own.as_ref())?)
            }
            _ => None,
        };
        Ok(nbd::Dial { link: link.clone(), connect_to: settings.connect_to, tls })
    }

    /// The connection to the machine of `link`.
    fn machine_by_ssh(&self, link: &Link) -> Result<Arc<Pool>, Fault> {
        let found = self.settings.of(link);
        let key = (found.map(|(place, _)| place), link.with_path("").to_string());
        let mut sessions = self.sessions.lock().unwrap_or_else(PoisonError::into_inner);
        if let Some(session) = sessions.get(&key) {
            return Ok(session.clone());
        }
        let settings = found.map(|(_, settings)| settings.clone()).unwrap_or_default();
        let whole = |name: &Option<String>| name.as_ref().map(|name| self.settings.folder.join(name));
        let way = ssh::Way {
            key: whole(&settings.key),
            known_hosts: whole(&settings.known_hosts),
            config: whole(&settings.config),
            password: settings.password.as_ref().map(|password| self.secret(password)).transpose()?,
            compression: settings.compression,
            has_terminal: self.keys.has_terminal(),
        };
        let pool = Arc::new(Pool::new(Session::new(link, way, self.shared.stop.clone())?));
        sessions.insert(key, pool.clone());
        Ok(pool)
    }

    fn read(&self, name: &str) -> Result<Vec<u8>, Fault> {
        let path = self.settings.folder.join(name);
        std::fs::read(&path)
            .map_err(|error| Fault::Fatal(WireKind::Settings, format!("'{}' cannot be read: {error}", path.display())))
    }

    /// The secret that `credential` names.
    pub(crate) fn secret(&self, credential: &crate::secret::Credential) -> Result<Secret, Fault> {
        credential
            .read(&self.settings.folder, self.keys.as_ref())
            .map_err(|what| Fault::Fatal(WireKind::Settings, what))
    }

    /// Our certificate and its key, as `settings` name them.
    pub(crate) fn certificate(&self, settings: &LinkSettings) -> Result<Option<(Vec<u8>, Secret)>, Fault> {
        let (Some(certificate), Some(key)) = (&settings.client_certificate, &settings.client_key) else {
            return Ok(None);
        };
        let key = crate::secret::read_private(&self.settings.folder.join(key));
        let key = key.map_err(|what| Fault::Fatal(WireKind::Settings, what))?;
        Ok(Some((self.read(certificate)?, Secret::new(key))))
    }

    /// The authorities that `settings` name.
    pub(crate) fn authorities(&self, settings: &LinkSettings) -> Result<Vec<Vec<u8>>, Fault> {
        settings.authorities.iter().map(|name| self.read(name)).collect()
    }

    /// How `link` is reached.
    fn dial(&self, link: &Link, settings: &LinkSettings) -> Result<Dial, Fault> {
        let headers = settings.headers.iter().map(|(name, value)| {
            Ok((
                name.clone(),
                match value {
                    HeaderValue::Plain(text) => Secret::new(text.as_str()),
                    HeaderValue::Secret(credential) => self.secret(credential)?,
                },
            ))
        });
        Ok(Dial {
            connect_to: settings.connect_to.clone(),
            authorities: self.authorities(settings)?,
            certificate: self.certificate(settings)?,
            proxy: self.proxy(link, settings),
            token: settings.token.as_ref().map(|token| self.secret(token)).transpose()?,
            headers: headers.collect::<Result<_, Fault>>()?,
            query: settings.query.as_ref().map(|query| self.secret(query)).transpose()?,
        })
    }

    /// The proxy for `link`: the site's, else the environment's, unless we connect elsewhere anyway.
    fn proxy(&self, link: &Link, settings: &LinkSettings) -> Option<String> {
        match &settings.proxy {
            Some(proxy) if proxy == "none" => return None,
            Some(proxy) => return Some(proxy.clone()),
            None if settings.connect_to.is_some() => return None,
            None => {}
        }
        let either = |name: &str| {
            let found = self.keys.variable(name).or_else(|| self.keys.variable(&name.to_ascii_uppercase()));
            found.filter(|value| !value.is_empty())
        };
        let spared = either("no_proxy").unwrap_or_default();
        let spared = spared.split(',').map(|part| part.trim().trim_start_matches('.')).filter(|part| !part.is_empty());
        let is_spared = |part: &str| part == "*" || link.host == part || link.host.ends_with(&format!(".{part}"));
        if spared.into_iter().any(is_spared) {
            return None;
        }
        either(if link.scheme == Scheme::Https { "https_proxy" } else { "http_proxy" }).or_else(|| either("all_proxy"))
    }
}

impl Relink for Inner {
    fn client(&self, link: &Link, anew: bool) -> Result<Arc<Client>, Fault> {
        let found = self.settings.of(link);
        let key = (found.map(|(place, _)| place), link.with_path("").to_string());
        let mut clients = self.clients.lock().unwrap_or_else(PoisonError::into_inner);
        if let Some(client) = clients.get(&key).filter(|_| !anew) {
            return Ok(client.clone());
        }
        let settings = found.map(|(_, settings)| settings.clone()).unwrap_or_default();
        let client = Client::new(self.dial(link, &settings)?).map_err(|what| Fault::Fatal(WireKind::Settings, what))?;
        let client = Arc::new(client);
        clients.insert(key, client.clone());
        Ok(client)
    }
}

/// The link that `text` is.
///
/// # Errors
/// [`Error::Wire`] for one that is not sound.
pub fn link(text: &str) -> Result<Link> {
    Link::parse(text).map_err(|error: WireError| Error::from(error))
}
