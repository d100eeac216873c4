//! The demo's last chapter: into a cloud, and home from one.

use std::{
    fs,
    os::unix::fs::DirBuilderExt,
    path::{Path, PathBuf},
};

use anyhow::{Context, Result};
use reformis_move::{prepare::Order, propose::Choices};
use reformis_standin::{
    cloud::{Cloud, Options},
    store,
};

use super::{carry, carry_quietly, prove, show, step, tell, with_site};
use crate::{
    Session,
    commands::{hosts, standin},
};

/// A folder that goes with the chapter.
struct Gone(PathBuf);

impl Drop for Gone {
    fn drop(&mut self) {
        fs::remove_dir_all(&self.0).ok();
    }
}

/// Moves ledger into a cloud, and berths home from it.
pub(super) fn winter(folder: &Path, session: &Session) -> Result<bool> {
    let data = Gone(std::env::temp_dir().join(format!("reformis-estuary-{}", uuid::Uuid::new_v4())));
    // It fails where somebody was there before, and nobody else may look into it.
    fs::DirBuilder::new().mode(0o700).create(&data.0).with_context(|| format!("making '{}'", data.0.display()))?;
    let (token, key) = (standin::token(&folder.join("estuary.token"))?, standin::token(&folder.join("estuary.key"))?);
    let whole = Options::new(&data.0);
    let store = store::Options { key, ..whole.store };
    let (id, region) = (store.id.clone(), store.region.clone());
    let cloud = Cloud::start(Options { token, store, ..whole }).context("starting the stand-in cloud")?;
    let text = format!(
        "[cloud.estuary]\nkind = \"import\"\nat = \"{0}\"\nstore = \"jetty:moves\"\n\n[link.\"{0}\"]\ntoken = {{ file = \"estuary.token\" }}\n\n\
         [store.jetty]\nkind = \"objects\"\nat = \"{1}\"\nregion = \"{region}\"\nkey-id = \"{id}\"\nkey = {{ file = \"estuary.key\" }}\n",
        cloud.link(),
        cloud.store().link()
    );
    let (site_file, landing, home) = (folder.join("estuary.toml"), folder.join("in-cloud"), folder.join("home"));
    let session = &with_site(&site_file, text, session)?;
    let [site_word, landing_word, home_word, ledger] =
        [&site_file, &landing, &home, &folder.join("ledger")].map(|path| path.to_string_lossy().into_owned());
    let into_cloud = |source: &Path| Order::Target {
        path: source.into(),
        machine: None,
        destination: "virtio-cloud".into(),
        into: landing.clone(),
        choices: Box::new(Choices { cloud: Some("estuary".into()), ..Choices::default() }),
    };
    // Last winter.
    carry_quietly(into_cloud(&folder.join("landing").join("berths")), None, session)?;

    step(
        session,
        "Converted, made ready, compressed and sent in one pass; then the cloud imports it, and makes an image and an instance.",
        &[
            "carry",
            &ledger,
            "--dest",
            "virtio-cloud",
            "--cloud",
            "estuary",
            "--into",
            &landing_word,
            "--site",
            &site_word,
        ],
    )?;
    let landed = carry(into_cloud(&folder.join("ledger")), session)?;
    let there = prove("Is what lies in the store the same machine?", &landed.join("receipt.json"), session)?;
    step(session, "And what is in the cloud now?", &["survey", "estuary:", "--site", &site_word])?;
    show(session, &hosts::show("estuary", &hosts::machines("estuary", session)?))?;
    tell(
        session,
        "The way home: the cloud makes an export with links that expire, and a map of what holds data; nothing else is fetched.",
    )?;
    step(
        session,
        "berths comes home.",
        &["carry", "estuary:berths", "--dest", "virtio-host", "--into", &home_word, "--site", &site_word],
    )?;
    let order = Order::Target {
        path: "estuary:berths".into(),
        machine: None,
        destination: "virtio-host".into(),
        into: home.clone(),
        choices: Box::default(),
    };
    let came = carry(order, session)?;
    let home = prove("And is it the same?", &came.join("receipt.json"), session)?;
    Ok(there && home)
}
