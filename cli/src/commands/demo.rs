//! `reformis demo`

use std::{fs, path::Path};

use anyhow::{Context, Result};
use reformis_disk::source::Links;
use reformis_machine::Site;
use reformis_move::{
    carry,
    draft::{self, Order},
    prove, survey,
};

use super::{carry as carry_command, draft as draft_command, prove as prove_command, survey as survey_command};
use crate::{
    Session,
    args::DemoArgs,
    exit::Exit,
    output::{FAINT, STRONG, emit, paint, width},
};

/// The server `tidelog` of the made-up tide-gauge service; `demo/README.md` tells how it was made.
const TIDELOG: &[u8] = include_bytes!("../../../demo/tidelog.ova");

pub(crate) fn run(args: &DemoArgs, session: &Session) -> Result<Exit> {
    let folder = &args.folder;
    let archive = folder.join("tidelog.ova");
    let landing = folder.join("landing");
    write_data(folder, &archive)?;

    tell(
        "Saltmarsh Sound measures the tide at four gauges along a marshy coast. Its server tidelog writes the readings \
         down. The old host is to be switched off; it exported tidelog as one archive, and a new host with virtio \
         devices is waiting.",
    )?;
    step(
        "First, what is in the archive? Only metadata is read, so this takes no time.",
        &["survey", &archive.to_string_lossy()],
    )?;
    for survey in survey::survey(&archive, Links::OwnFolder)? {
        emit(&survey_command::show(&survey))?;
    }

    let order = Order::Target {
        path: archive.clone(),
        machine: None,
        destination: "virtio-host".into(),
        into: landing.clone(),
        choices: Box::default(),
    };
    let site = Site::default();
    step(
        "What would become of it? A draft says so before a byte moves; with --out it is a brief that can be changed.",
        &["draft", &archive.to_string_lossy(), "--dest", "virtio-host", "--into", &landing.to_string_lossy()],
    )?;
    emit(&draft_command::show(&draft::draft(&order, &site, Links::OwnFolder)?, None))?;

    step(
        "Now the move. Each disk is streamed once, from inside the archive into its final form.",
        &["carry", &archive.to_string_lossy(), "--dest", "virtio-host", "--into", &landing.to_string_lossy()],
    )?;
    let options = carry::Options {
        order,
        site,
        accept: Vec::new(),
        // What is replaced is the landing of an earlier demo.
        force: true,
        links: Links::OwnFolder,
    };
    let landed = carry::carry(&options, &session.context())?;
    emit(&carry_command::show(&landed))?;

    let receipt = landed.folder.join("receipt.json");
    step(
        "Is it the same machine? Every byte of the landing is compared with the archive.",
        &["prove", &receipt.to_string_lossy()],
    )?;
    let proof = prove::prove_receipt(&receipt, Links::OwnFolder, &session.context())?;
    emit(&prove_command::show(&proof))?;
    tell(&format!(
        "The machine lies complete and stopped in {}, and the archive is as it was. Have a look around.",
        landed.folder.display()
    ))?;
    Ok(if proof.holds { Exit::Done } else { Exit::NotProved })
}

/// Writes the archive, unless it is there from an earlier run; another file of that name is not touched.
fn write_data(folder: &Path, archive: &Path) -> Result<()> {
    fs::create_dir_all(folder).with_context(|| format!("making '{}'", folder.display()))?;
    match fs::read(archive) {
        Ok(bytes) if bytes == TIDELOG => Ok(()),
        Ok(_) => anyhow::bail!("'{}' exists and is not the demo's data: choose another folder", archive.display()),
        Err(_) => fs::write(archive, TIDELOG).with_context(|| format!("writing '{}'", archive.display())),
    }
}

fn tell(text: &str) -> Result<()> {
    Ok(emit(&format!("\n{}\n", textwrap::fill(&reformis_disk::text::printable(text), width())))?)
}

fn step(text: &str, command: &[&str]) -> Result<()> {
    tell(text)?;
    let line = reformis_disk::text::printable(&command.join(" "));
    Ok(emit(&format!("\n{} {}\n\n", paint(FAINT, "$"), paint(STRONG, format!("reformis {line}"))))?)
}
