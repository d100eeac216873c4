//! The demo's fourth chapter: a machine of a host on the network, started before it is copied.

use std::{fs, path::Path, sync::Arc};

use anyhow::{Context, Result};
use reformis_disk::source::Links;
use reformis_machine::Site;
use reformis_move::{lend, prepare::Order};
use reformis_standin::{
    host::{Faults, Host, Options},
    nbd::Client,
};
use reformis_wire::nbd::serve::{At, Server};

use super::{LEDGER, carry_with, like_ledger, prove, show, step, tell, with_site, write_data};
use crate::{
    Session,
    commands::{hosts, lend as lend_command, standin},
};

/// Where the disk of the guest has nothing.
const FREE: u64 = 1900 << 20;

/// Moves buoycam, which runs before it is there.
pub(super) fn buoycam(folder: &Path, session: &Session) -> Result<bool> {
    let data = folder.join("host");
    for (name, content) in LEDGER {
        // It was made like ledger, from the same installation.
        let machine = String::from_utf8(content.to_vec()).ok().filter(|_| name.ends_with(".vmx"));
        let about = "Watches the buoys of Saltmarsh Sound.";
        let content = machine.map_or(content.to_vec(), |text| like_ledger(&text, "buoycam", 4, about).into_bytes());
        write_data(&data.join("buoycam"), &name.replace("ledger", "buoycam"), &content)?;
    }
    let token_file = folder.join("harbour.token");
    let token = standin::token(&token_file)?;
    let host = Host::start(Options { token, ..Options::new(data) }).context("starting the stand-in host")?;
    let text = format!(
        "[host.harbour]\nkind = \"export\"\nat = \"{0}\"\n\n[link.\"{0}\"]\ntoken = {{ file = \"harbour.token\" }}\n",
        host.link()
    );
    let (site_file, landing, socket) =
        (folder.join("harbour.toml"), folder.join("landing"), folder.join("buoycam.sock"));
    let socket = std::path::absolute(&socket).with_context(|| format!("finding '{}'", socket.display()))?;
    let session = &with_site(&site_file, text, session)?;
    let [site_word, landing_word, socket_word] =
        [&site_file, &landing, &socket].map(|path| path.to_string_lossy().into_owned());
    step(session, "What has the old host?", &["survey", "harbour:", "--site", &site_word])?;
    show(session, &hosts::show("harbour", &hosts::machines("harbour", session)?))?;

    let order = Order::Target {
        path: "harbour:buoycam".into(),
        machine: None,
        destination: "virtio-host".into(),
        into: landing.clone(),
        choices: Box::default(),
    };
    let at = format!("unix:{socket_word}");
    step(
        session,
        "Its disks are lent to the new host, made ready, before a byte of them is copied.",
        &[
            "lend",
            "harbour:buoycam",
            "--dest",
            "virtio-host",
            "--into",
            &landing_word,
            "--at",
            &at,
            "--site",
            &site_word,
        ],
    )?;
    let kept = landing.join("buoycam.lent");
    let options = lend::Options {
        order: order.clone(),
        site: Site::default(),
        accept: Vec::new(),
        links: Links::OwnFolder,
        kept: Some(kept.clone()),
    };
    let lent = lend::lend(&options, &session.context())?;
    let server = Server::start(&At::Socket(socket.clone()), lent.exports(), None, Arc::new(|_| ()))?;
    let shown = lend_command::Shown {
        target: "harbour:buoycam",
        lent: Some(&lent),
        exports: server.exports(),
        served: lend_command::served(&server, &at, false),
        machine_file: None,
    };
    show(session, &shown.text())?;
    tell(
        session,
        "A hypervisor would start the guest now. In its place, this demo writes a few readings to its first disk, as a guest \
         does, and shuts down.",
    )?;
    let mut guest = Client::connect(&socket, "buoycam-0").context("attaching the lent disk")?;
    let readings = b"buoy 4: 1.92 m\n".repeat(5000);
    guest.write_at(FREE, &readings).and_then(|()| guest.flush()).context("writing to the lent disk")?;
    drop(guest);
    server.end()?;
    drop(lent);

    // Lines break; the move goes on.
    let mut faults = Faults::default();
    faults.set("cut=20000*3").map_err(anyhow::Error::msg)?;
    host.go_wrong(faults);
    let kept_word = kept.to_string_lossy().into_owned();
    step(
        session,
        "With the guest shut down, it is carried: the old host's disks, the edits, and what the guest wrote. The old host's line \
         breaks three times meanwhile, which costs a moment and nothing else.",
        &[
            "carry",
            "harbour:buoycam",
            "--dest",
            "virtio-host",
            "--into",
            &landing_word,
            "--with",
            &kept_word,
            "--site",
            &site_word,
        ],
    )?;
    let landed = carry_with(order, Some(kept.clone()), session)?;
    host.go_wrong(Faults::default());
    let holds = prove(
        "Is it the same, but for the edits and for what the guest wrote? The old host is read once more.",
        &landed.join("receipt.json"),
        session,
    )?;
    // It has landed.
    fs::remove_dir_all(&kept).with_context(|| format!("removing '{}'", kept.display()))?;
    Ok(holds)
}
