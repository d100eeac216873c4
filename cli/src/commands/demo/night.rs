//! The demo's last chapter: all of Saltmarsh Sound in one night, from the old host to the new one.

use std::{fs, path::Path};

use anyhow::{Context, Result};
use jiff::Timestamp;
use reformis_disk::source::Links;
use reformis_machine::Site;
use reformis_move::{
    fleet::{
        Fleet, Place, State, Worker, check, gather,
        night::{self, Control, Event, Options},
    },
    prove, report,
};
use reformis_standin::host::{Host, Options as HostOptions};

use super::{BERTHS, LEDGER, TIDELOG, show, step, tell, with_site, write_data};
use crate::{
    Session,
    commands::{fleet, report as report_command, standin},
};

/// The other servers, which were made like ledger, from the same installation: name, number, and what each does.
const OTHERS: [(&str, u8, &str); 6] = [
    ("buoycam", 4, "Watches the buoys of Saltmarsh Sound."),
    ("gauge-north", 5, "Reads the gauge at the northern creek."),
    ("gauge-south", 6, "Reads the gauge at the southern creek."),
    ("sluice", 7, "Opens and closes the sluice."),
    ("almanac", 8, "Prints the tide tables."),
    ("lantern", 9, "Keeps the harbour lights."),
];

/// What the person writes into the file that was gathered: groups, what comes after what, networks, drivers.
const HEAD: &str = "name = \"night\"\n\n[limits]\nat-once = 3\nhost = { harbour = 3 }\nroom = \"1GiB\"\n\n\
                    [failure]\nthen = \"go-on\"\ntries = 3\n\n[defaults]\ndestination = \"virtio-host\"\ninto = \"night\"\nnetwork = \"quay\"\n";

/// Each machine's group, and what it comes after.
const GROUPS: [(&str, &[(&str, &str)]); 2] = [
    (
        "gauges",
        &[("tidelog", ""), ("gauge-north", "tidelog"), ("gauge-south", "tidelog"), ("buoycam", ""), ("sluice", "")],
    ),
    ("desks", &[("ledger", ""), ("berths", "ledger"), ("almanac", ""), ("lantern", "")]),
];

/// Moves them all.
pub(super) fn all(folder: &Path, session: &Session) -> Result<bool> {
    let data = folder.join("old-host");
    write_all(&data)?;
    write_data(folder, "tide-drivers.iso", BERTHS[2].1)?;
    let token = standin::token(&folder.join("harbour.token"))?;
    let host = Host::start(HostOptions { token, ..HostOptions::new(data) }).context("starting the stand-in host")?;
    let text = format!(
        "[host.harbour]\nkind = \"export\"\nat = \"{0}\"\n\n[link.\"{0}\"]\ntoken = {{ file = \"harbour.token\" }}\n",
        host.link()
    );
    let site_file = folder.join("night-site.toml");
    let session = &with_site(&site_file, text, session)?;
    let file = folder.join("night.toml");
    let words = [&site_file, &file].map(|path| path.to_string_lossy().into_owned());
    let [site_word, file_word] = words;

    step(
        session,
        "What is there, and what would stand in the way tonight?",
        &[
            "fleet",
            "gather",
            "harbour:",
            "--dest",
            "virtio-host",
            "--into",
            "night",
            "--out",
            &file_word,
            "--site",
            &site_word,
        ],
    )?;
    let options = gather::Options {
        targets: vec!["harbour:".into()],
        destination: "virtio-host".into(),
        into: "night".into(),
        site: Site::default(),
        links: Links::OwnFolder,
        at_once: 4,
        inventory: Vec::new(),
        group: None,
        existing: None,
    };
    let rows = gather::gather(&options, &session.context())?;
    show(session, &fleet::show_gathered(&rows, Some(&file), false))?;
    let gathered = gather::write(&rows, &options, &file_word, Timestamp::now());
    fs::write(&file, &gathered).with_context(|| format!("writing '{}'", file.display()))?;

    tell(
        session,
        "The file is edited now: two groups, one after the other; what comes after what; the new host's network; and the medium with \
         the drivers that berths needs.",
    )?;
    fs::write(&file, edited(&rows)).with_context(|| format!("writing '{}'", file.display()))?;
    step(session, "Would anything be refused?", &["fleet", "check", &file_word, "--site", &site_word])?;
    let fleet_file = Fleet::read(&file)?;
    let checked = check::check(&fleet_file, None, &Site::default(), 4, &session.context())?;
    show(session, &fleet::show_checked(&fleet_file, &checked, &file_word))?;

    step(session, "Then the night itself.", &["fleet", "run", &file_word, "--site", &site_word])?;
    run(folder, &file, &fleet_file, session)
}

/// Runs the night and tells what it came to.
fn run(folder: &Path, file: &Path, fleet_file: &Fleet, session: &Session) -> Result<bool> {
    let landings = folder.join("night");
    // What is replaced is the night of an earlier demo.
    for old in [landings.clone(), file.with_extension("logs")] {
        if old.is_dir() {
            fs::remove_dir_all(&old).with_context(|| format!("removing '{}'", old.display()))?;
        }
    }
    let place = Place::beside(file);
    if let Place::File(path) = &place {
        drop((fs::remove_file(path), fs::remove_dir_all(path)));
    }
    let access = session.wires.database().map_err(reformis_move::Error::from)?;
    let state = State::open(&place, &access, true)?;
    let worker = Worker::here().called("demo");
    state.sync(fleet_file, &[], None, &worker)?;
    let told = |event: &Event| drop(show(session, &fleet::line_of(event)));
    let hands = fleet::Ours::new(session, (place, access), &file.with_extension("logs"), &told)?;
    let options = Options { at_once: 3, ..Options::new(worker, Site::default()) };
    let control = Control { stop: session.cancel.clone(), ..Control::default() };
    let outcome = night::work(&state, &fleet_file.name, &options, &hands, &control)?;
    if control.stop.load(std::sync::atomic::Ordering::Relaxed) {
        return Err(reformis_move::Error::from(reformis_disk::Error::Interrupted).into());
    }
    show(session, "\n")?;
    show(
        session,
        &fleet::show_status(&fleet_file.name, &state.machines(&fleet_file.name)?, &state.pace(&fleet_file.name)?),
    )?;

    let page = folder.join("morning.html");
    let (file_word, out) = (file.to_string_lossy().into_owned(), page.to_string_lossy().into_owned());
    let words = ["report", &file_word, "--out", &out, "--title", "'Saltmarsh Sound, in one night'", "--force"];
    step(session, "And in the morning there is a page that the boss can read.", &words)?;
    let report = report::of_fleet(&state, &fleet_file.name, &session.context())?;
    report_command::save(&report, &page, "Saltmarsh Sound, in one night", true)?;
    show(session, &report_command::show(&report, Some(&page)))?;

    let mut holds = outcome.counts.landed == fleet_file.machines.len();
    for spec in &fleet_file.machines {
        let receipt = spec.landing().join("receipt.json");
        holds &= prove::prove_receipt(&receipt, prove::Options::default(), &session.context())?.holds;
    }
    let proved = if holds { "Every byte of all nine is accounted for." } else { "Not every byte is accounted for." };
    tell(session, proved)?;
    Ok(holds)
}

/// The fleet file as the person leaves it.
fn edited(rows: &[gather::Gathered]) -> String {
    let mut text = HEAD.to_string();
    for (group, _) in GROUPS {
        text += &format!("\n[[group]]\nname = \"{group}\"\n");
    }
    for (group, machines) in GROUPS {
        for (name, after) in machines {
            text += &format!("\n[[machine]]\nname = \"{name}\"\nsource = \"harbour:{name}\"\ngroup = \"{group}\"\n");
            if !after.is_empty() {
                text += &format!("after = [\"{after}\"]\n");
            }
            if let Some(size) = rows.iter().find(|row| row.name == *name).and_then(|row| row.size) {
                text += &format!("size = {size}\n");
            }
            if *name == "berths" {
                text += "guest = { drivers = [\"tide-drivers.iso\"] }\n";
            }
        }
    }
    text
}

/// The machines as they lie at the old host.
fn write_all(data: &Path) -> Result<()> {
    let mut archive = reformis_standin::ova::members(TIDELOG)?;
    archive.retain(|(name, _)| !name.ends_with(".mf"));
    for (name, bytes) in &archive {
        write_data(&data.join("tidelog"), name, bytes)?;
    }
    for (name, bytes) in LEDGER {
        write_data(&data.join("ledger"), name, bytes)?;
    }
    for (name, bytes) in &BERTHS[..2] {
        write_data(&data.join("berths"), name, bytes)?;
    }
    for (name, number, about) in OTHERS {
        for (file, bytes) in LEDGER {
            let text = String::from_utf8(bytes.to_vec()).ok().filter(|_| file.ends_with(".vmx"));
            let bytes = text.map_or(bytes.to_vec(), |text| super::like_ledger(&text, name, number, about).into_bytes());
            write_data(&data.join(name), &file.replace("ledger", name), &bytes)?;
        }
    }
    Ok(())
}
