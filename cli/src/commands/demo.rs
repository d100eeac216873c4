//! `reformis demo`

mod estuary;
mod harbour;
mod night;

use std::{
    fs,
    path::{Path, PathBuf},
};

use anyhow::{Context, Result};
use reformis_disk::{
    budget::Budget,
    source::{Access, Links},
};
use reformis_machine::Site;
use reformis_move::{
    brief, carry, draft, peek,
    prepare::{self, Order},
    propose::Choices,
    prove, report, staging, survey,
    target::Unpack,
};

use super::{
    JSON_SCHEMA, carry as carry_command, draft as draft_command, peek as peek_command, prove as prove_command,
    report as report_command, survey as survey_command,
};
use crate::{
    Session,
    args::DemoArgs,
    exit::Exit,
    output::{FAINT, STRONG, emit, emit_json, paint, width},
    site,
};

/// The server `tidelog` of the made-up tide-gauge service; `demo/README.md` tells how it was made.
const TIDELOG: &[u8] = include_bytes!("../../../demo/tidelog.ova");

/// The server `ledger` as it lay on its old host: name and content of each file.
const LEDGER: [(&str, &[u8]); 3] = [
    ("ledger.vmx", include_bytes!("../../../demo/ledger/ledger.vmx")),
    ("ledger.vmdk", include_bytes!("../../../demo/ledger/ledger.vmdk")),
    ("ledger_1.vmdk", include_bytes!("../../../demo/ledger/ledger_1.vmdk")),
];

/// The server `berths` as it lay on its old host, and a medium with the new host's drivers.
const BERTHS: [(&str, &[u8]); 3] = [
    ("berths.vmx", include_bytes!("../../../demo/berths.vmx")),
    ("berths.vmdk", include_bytes!("../../../demo/berths.vmdk")),
    ("tide-drivers.iso", include_bytes!("../../../demo/tide-drivers.iso")),
];

pub(crate) fn run(args: &DemoArgs, session: &Session) -> Result<Exit> {
    let folder = &args.folder;
    write_data(folder, "tidelog.ova", TIDELOG)?;
    for (name, bytes) in LEDGER {
        write_data(&folder.join("ledger"), name, bytes)?;
    }
    for (name, bytes) in BERTHS {
        write_data(folder, name, bytes)?;
    }
    tell(
        session,
        "Saltmarsh Sound measures the tide at four gauges along a marshy coast. Its server tidelog writes the readings \
         down. The old host is to be switched off; it exported tidelog as one archive, and a new host with virtio \
         devices is waiting.",
    )?;
    let first = tidelog(folder, session)?;
    tell(
        session,
        "The server ledger goes elsewhere, to a host with VMBus devices. It lies in a folder as its old host kept it. \
         This time a brief is written first: what is proposed can be read, and changed, before a byte moves.",
    )?;
    let second = ledger(folder, session)?;
    tell(
        session,
        "The harbour's desk, berths, runs Windows. The new host's disks and adapters need drivers that it does not have; a \
         medium with them is at hand.",
    )?;
    let third = berths(folder, session)?;
    tell(
        session,
        "Another one, buoycam, cannot wait: it is still with the old host, which tells of its machines over the network, and is \
         wanted at the new one at once. Here the old host is a small stand-in.",
    )?;
    let last = harbour::buoycam(folder, session)?;
    tell(
        session,
        "For the winter, ledger is tried in a cloud. It has an object store, and imports what lies there; here both are small \
         stand-ins. berths was there last winter, and comes home.",
    )?;
    let cloud = estuary::winter(folder, session)?;
    let page = report(folder, session)?;
    tell(
        session,
        "It works for one at a time. The old host has nine servers, and one night is left: they are moved by a fleet file, three at \
         once, the gauges before the desks.",
    )?;
    let night = night::all(folder, session)?;
    let holds = first && second && third && last && cloud && night;
    if session.json {
        let landings = ["tidelog", "ledger", "berths", "buoycam"]
            .map(|name| folder.join("landing").join(name).to_string_lossy().into_owned());
        let demo = serde_json::json!({ "folder": folder.to_string_lossy(), "landings": landings, "holds": holds, "page": page.to_string_lossy(), "night": folder.join("morning.html").to_string_lossy() });
        emit_json(&serde_json::json!({ "schema": JSON_SCHEMA, "demo": demo }))?;
    }
    tell(
        session,
        &format!(
            "All machines lie complete and stopped in {} and {}, and the sources are as they were. The stand-ins are gone. Open {} and {} in a browser, and have a look around.",
            folder.join("landing").display(),
            folder.join("night").display(),
            page.display(),
            folder.join("morning.html").display()
        ),
    )?;
    Ok(if holds { Exit::Done } else { Exit::NotProved })
}

/// Moves tidelog as it is proposed.
fn tidelog(folder: &Path, session: &Session) -> Result<bool> {
    let (archive, landing) = (folder.join("tidelog.ova"), folder.join("landing"));
    step(
        session,
        "First, what is in the archive? Only metadata is read, so this takes no time.",
        &["survey", &archive.to_string_lossy()],
    )?;
    for survey in survey::survey(&archive, Links::OwnFolder, None, &session.context())? {
        show(session, &survey_command::show(&survey))?;
    }
    step(
        session,
        "Now the move. Each disk is streamed once, from inside the archive into its final form.",
        &["carry", &archive.to_string_lossy(), "--dest", "virtio-host", "--into", &landing.to_string_lossy()],
    )?;
    let order = Order::Target {
        path: archive,
        machine: None,
        destination: "virtio-host".into(),
        into: landing,
        choices: Box::default(),
    };
    let receipt = carry(order, session)?.join("receipt.json");
    prove("Is it the same machine? Every byte of the landing is compared with the archive.", &receipt, session)
}

/// Moves ledger as a brief says.
fn ledger(folder: &Path, session: &Session) -> Result<bool> {
    let (source, landing, brief) = (folder.join("ledger"), folder.join("landing"), folder.join("ledger.toml"));
    let words = [&source, &landing, &brief].map(|path| path.to_string_lossy().into_owned());
    step(
        session,
        "What is now, and what would be?",
        &["draft", &words[0], "--dest", "vmbus-host", "--into", &words[1], "--out", &words[2]],
    )?;
    let order = Order::Target {
        path: source,
        machine: None,
        destination: "vmbus-host".into(),
        into: landing,
        choices: Box::default(),
    };
    let draft = draft::draft(&order, &Site::default(), Links::OwnFolder, &session.context())?;
    draft_command::save(&brief, &brief::write(&draft.brief, &draft.notes), true)?;
    show(session, &draft_command::show(&draft, Some(&brief)))?;
    step(session, "The brief may be changed now, in any editor; here it goes as it is.", &["carry", &words[2]])?;
    let receipt = carry(prepare::read_brief(&brief)?, session)?.join("receipt.json");
    prove("And is it the same?", &receipt, session)
}

/// Moves berths with drivers from a medium.
fn berths(folder: &Path, session: &Session) -> Result<bool> {
    let (source, medium, landing) =
        (folder.join("berths.vmx"), folder.join("tide-drivers.iso"), folder.join("landing"));
    let words = [&source, &medium, &landing].map(|path| path.to_string_lossy().into_owned());
    for (question, path) in
        [("What is it, and how was it left?", &source), ("And what does the medium offer?", &medium)]
    {
        step(session, question, &["survey", &path.to_string_lossy()])?;
        for survey in survey::survey(path, Links::OwnFolder, None, &session.context())? {
            show(session, &survey_command::show(&survey))?;
        }
    }
    step(
        session,
        "The move. What the first step needs goes in now; the rest is laid ready, and a service does it on the first start.",
        &["carry", &words[0], "--dest", "virtio-host", "--drivers", &words[1], "--into", &words[2]],
    )?;
    let guest = brief::NewGuest { drivers: vec![words[1].clone()], ..brief::NewGuest::default() };
    let order = Order::Target {
        path: source,
        machine: None,
        destination: "virtio-host".into(),
        into: landing,
        choices: Box::new(Choices { guest, ..Choices::default() }),
    };
    let landed = carry(order, session)?;
    let disk = landed.join("berths-0.qcow2");
    let (hive, key) = ("SYSTEM", "CurrentControlSet\\Services\\tidescsi");
    let question = "Is the driver of the new disks started with the system? Start is 0 if it is.";
    step(session, question, &["peek", &disk.to_string_lossy(), "--hive", hive, key])?;
    let (temporary, context) = (std::env::temp_dir(), session.context());
    let unpack = Unpack { folder: &temporary, context: &context };
    let guest = peek::open(&disk, peek::Wanted { volume: None, hive: Some(hive) }, Links::OwnFolder, unpack)?;
    show(session, &peek_command::show_key(&guest.key(hive, key)?))?;
    prove("And is it the same, but for what is listed?", &landed.join("receipt.json"), session)
}

/// The machine file of the server `name`, after that of ledger: with addresses and an identity of its own, by `number`.
fn like_ledger(ledger: &str, name: &str, number: u8, about: &str) -> String {
    let text = ledger.replace("ledger", name).replace("02:5a:17:00:00:3", &format!("02:5a:17:00:00:{number}"));
    let lines = text.lines().map(|line| match line.split_once(" = ") {
        Some(("annotation", _)) => format!("annotation = \"{about}\""),
        Some(("uuid.bios", _)) => format!("uuid.bios = \"5a 17 00 00 00 00 40 00-80 00 00 00 00 00 00 {number}1\""),
        _ => line.to_string(),
    });
    lines.map(|line| line + "\n").collect()
}

/// The session with the site's file at `file`, whose text is `text`.
fn with_site(file: &Path, text: String, session: &Session) -> Result<Session> {
    fs::write(file, &text).with_context(|| format!("writing '{}'", file.display()))?;
    let text = site::Text::new(file, text);
    Ok(Session {
        json: session.json,
        progress: session.progress.clone(),
        cancel: session.cancel.clone(),
        budget: Budget::whole(),
        site: Site::default(),
        wires: site::wires(&text, None, &session.progress, &session.cancel)?,
        text,
        limit: None,
        keys: reformis_guest::Keys::default(),
    })
}

/// Makes a move and shows its landing; returns where that is.
fn carry(order: Order, session: &Session) -> Result<PathBuf> {
    carry_with(order, None, session)
}

/// As [`carry()`], with what a guest wrote, which is kept in a folder.
fn carry_with(order: Order, with: Option<PathBuf>, session: &Session) -> Result<PathBuf> {
    let landed = carry_quietly(order, with, session)?;
    show(session, &carry_command::show(&landed))?;
    Ok(landed.folder)
}

/// Makes a move.
fn carry_quietly(order: Order, with: Option<PathBuf>, session: &Session) -> Result<carry::Landing> {
    // What is replaced is the landing of an earlier demo.
    let options = carry::Options {
        order,
        site: Site::default(),
        accept: Vec::new(),
        force: true,
        links: Links::OwnFolder,
        resume: false,
        with,
        job: None,
        is_second: false,
        bitmap: None,
        off_since: None,
    };
    Ok(carry::carry(&options, &session.context())?)
}

fn prove(text: &str, receipt: &Path, session: &Session) -> Result<bool> {
    step(session, text, &["prove", &receipt.to_string_lossy()])?;
    let proof = prove::prove_receipt(receipt, prove::Options::default(), &session.context())?;
    show(session, &prove_command::show(&proof))?;
    Ok(proof.holds)
}

/// Tells what all moves of the demo came to; the page that is made.
fn report(folder: &Path, session: &Session) -> Result<PathBuf> {
    let page = folder.join("report.html");
    let landings = ["landing", "in-cloud", "home"].map(|name| folder.join(name));
    let names = landings.each_ref().map(|path| path.to_string_lossy().into_owned());
    let (out, title) = (page.to_string_lossy(), "Saltmarsh Sound, moved");
    let mut words = vec!["report"];
    words.extend(names.iter().map(String::as_str));
    words.extend(["--out", &out, "--title", "'Saltmarsh Sound, moved'", "--force"]);
    step(session, "In the morning somebody asks how it went. All receipts together are one page.", &words)?;
    let report = report::report(&landings, &session.context())?;
    report_command::save(&report, &page, title, true)?;
    show(session, &report_command::show(&report, Some(&page)))?;
    Ok(page)
}

/// Writes a file of the demo's data, unless it is there from an earlier run; another file of that name is not touched.
fn write_data(folder: &Path, name: &str, content: &[u8]) -> Result<()> {
    fs::create_dir_all(folder).with_context(|| format!("making '{}'", folder.display()))?;
    let path = folder.join(name);
    match fs::read(&path) {
        Ok(bytes) if bytes == content => Ok(()),
        Ok(_) => anyhow::bail!("'{}' exists and is not the demo's data: choose another folder", path.display()),
        Err(_) => Ok(staging::write(&path, content, false, Access::ANYBODY)?),
    }
}

fn tell(session: &Session, text: &str) -> Result<()> {
    show(session, &format!("\n{}\n", textwrap::fill(&reformis_disk::text::printable(text), width())))
}

fn step(session: &Session, text: &str, command: &[&str]) -> Result<()> {
    tell(session, text)?;
    let line = reformis_disk::text::printable(&command.join(" "));
    show(session, &format!("\n{} {}\n\n", paint(FAINT, "$"), paint(STRONG, format!("reformis {line}"))))
}

/// Shows a part of the story; a script gets the one document at the end alone.
fn show(session: &Session, text: &str) -> Result<()> {
    if session.json { Ok(()) } else { Ok(emit(text)?) }
}
