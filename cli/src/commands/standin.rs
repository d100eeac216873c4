//! `reformis standin`

use std::{
    io::Write,
    os::unix::fs::{MetadataExt, OpenOptionsExt},
    path::Path,
    sync::atomic::Ordering,
    time::Duration,
};

use anyhow::{Context as _, Result, bail};
use reformis_standin::{
    cloud::{self, Cloud},
    host::{Faults, Host, Options},
    store::{self, PageOptions, PageStore, Store},
};

use crate::{
    Session,
    args::{StandinArgs, StandinCloudArgs, StandinHostArgs, StandinKind, StandinStoreArgs},
    exit::Exit,
    output::emit,
};

pub(crate) fn run(args: &StandinArgs, session: &Session) -> Result<Exit> {
    match &args.kind {
        StandinKind::Host(args) => host(args, session),
        StandinKind::Store(args) => store(args, session),
        StandinKind::Cloud(args) => cloud(args, session),
    }
}

/// Runs until it is interrupted.
fn host(args: &StandinHostArgs, session: &Session) -> Result<Exit> {
    if !args.data.is_dir() {
        bail!("'{}' is not a folder", args.data.display());
    }
    let mut faults = Faults::default();
    for word in &args.fault {
        faults.set(word).map_err(anyhow::Error::msg)?;
    }
    let token = token(&args.token_file)?;
    let options = Options { data: args.data.clone(), at: args.at.clone(), token, seconds: args.seconds };
    let host = Host::start(options).with_context(|| format!("listening at {}", args.at))?;
    host.go_wrong(faults);
    emit(&format!(
        "A stand-in host of '{}' is at {}; Ctrl-C ends it.\n\nIn reformis.toml:\n\n\
         [host.harbour]\nkind = \"export\"\nat = \"{1}\"\n\n[link.\"{1}\"]\ntoken = {{ file = \"{}\" }}\n",
        args.data.display(),
        host.link(),
        args.token_file.display()
    ))?;
    show_requests(session, || host.log());
    Ok(Exit::Done)
}

/// Runs until it is interrupted.
fn store(args: &StandinStoreArgs, session: &Session) -> Result<Exit> {
    let key = token(&args.key_file)?;
    if args.pages {
        return pages(args, key, session);
    }
    let options = store::Options { at: args.at.clone(), key, ..store::Options::new(&args.data) };
    let (id, region) = (options.id.clone(), options.region.clone());
    let store = Store::start(options).with_context(|| format!("listening at {}", args.at))?;
    emit(&format!(
        "A stand-in store in '{}' is at {}; Ctrl-C ends it.\n\nIn reformis.toml:\n\n\
         [store.estuary]\nkind = \"objects\"\nat = \"{}\"\nregion = \"{region}\"\n\
         key-id = \"{id}\"\nkey = {{ file = \"{}\" }}\n",
        args.data.display(),
        store.link(),
        store.link(),
        args.key_file.display()
    ))?;
    show_requests(session, || store.log());
    Ok(Exit::Done)
}

/// Runs until it is interrupted.
fn pages(args: &StandinStoreArgs, key: String, session: &Session) -> Result<Exit> {
    // Hexadecimal digits are base64 too.
    let options = PageOptions { at: args.at.clone(), key, ..PageOptions::new(&args.data) };
    let account = options.account.clone();
    let store = PageStore::start(options).with_context(|| format!("listening at {}", args.at))?;
    emit(&format!(
        "A stand-in store of pages in '{}' is at {}; Ctrl-C ends it.\n\nIn reformis.toml:\n\n\
         [store.quay]\nkind = \"pages\"\nat = \"{1}\"\nkey-id = \"{account}\"\nkey = {{ file = \"{}\" }}\n",
        args.data.display(),
        store.link(),
        args.key_file.display()
    ))?;
    show_requests(session, || store.log());
    Ok(Exit::Done)
}

/// Runs until it is interrupted.
fn cloud(args: &StandinCloudArgs, session: &Session) -> Result<Exit> {
    let (token, key) = (token(&args.token_file)?, token(&args.key_file)?);
    let whole = cloud::Options::new(&args.data);
    let store = store::Options { at: args.store_at.clone(), key, ..whole.store };
    let (id, region) = (store.id.clone(), store.region.clone());
    let rules = cloud::Rules { fixed_snapshots: args.fixed_snapshots, ..whole.rules };
    let cloud = Cloud::start(cloud::Options { at: args.at.clone(), token, store, rules, ..whole })
        .with_context(|| format!("listening at {} and {}", args.at, args.store_at))?;
    cloud.deny(&args.deny.iter().map(String::as_str).collect::<Vec<_>>());
    emit(&format!(
        "A stand-in cloud in '{}' is at {}, and its store at {}; Ctrl-C ends it.\n\nIn reformis.toml:\n\n\
         [cloud.estuary]\nkind = \"import\"\nat = \"{1}\"\nstore = \"jetty:moves\"\n\n\
         [link.\"{1}\"]\ntoken = {{ file = \"{}\" }}\n\n\
         [store.jetty]\nkind = \"objects\"\nat = \"{2}\"\nregion = \"{region}\"\n\
         key-id = \"{id}\"\nkey = {{ file = \"{}\" }}\n",
        args.data.display(),
        cloud.link(),
        cloud.store().link(),
        args.token_file.display(),
        args.key_file.display()
    ))?;
    show_requests(session, || cloud.log());
    Ok(Exit::Done)
}

/// Shows the requests that come, until the person ends it.
fn show_requests(session: &Session, log: impl Fn() -> Vec<String>) {
    let mut seen = 0;
    while !session.cancel.load(Ordering::Relaxed) {
        std::thread::sleep(Duration::from_millis(100));
        let log = log();
        for line in log.get(seen..).unwrap_or_default() {
            // Without its headers and its query, which hold secrets.
            let line = line.split('?').next().unwrap_or_default();
            session.progress.say(&format!("{}\n", reformis_disk::text::printable(line)));
        }
        seen = log.len();
    }
}

/// The token in the file at `path`; a new one where there is no file.
pub(super) fn token(path: &Path) -> Result<String> {
    if !path.exists() {
        let token = format!("{}{}", uuid::Uuid::new_v4().simple(), uuid::Uuid::new_v4().simple());
        let file = std::fs::OpenOptions::new().write(true).create_new(true).mode(0o600).open(path);
        file.and_then(|mut file| file.write_all(format!("{token}\n").as_bytes()))
            .with_context(|| format!("making '{}'", path.display()))?;
        return Ok(token);
    }
    let metadata = std::fs::metadata(path).with_context(|| format!("looking at '{}'", path.display()))?;
    if metadata.mode() & 0o077 != 0 {
        bail!("'{}' may be read by others than its owner: chmod 600 it", path.display());
    }
    let text = std::fs::read_to_string(path).with_context(|| format!("reading '{}'", path.display()))?;
    Ok(text.lines().next().unwrap_or_default().trim().to_string())
}
