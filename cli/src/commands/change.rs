//! `reformis refit` and `reformis patch`

use std::{
    ffi::OsString,
    os::unix::ffi::{OsStrExt, OsStringExt},
    path::Path,
};

use anyhow::{Context, Result};
use reformis_disk::Facts;
use reformis_guest::nt::{Data, keys::HiveChange, reg, text};
use reformis_machine::{AdapterModel, ControllerKind};
use reformis_move::{
    Finding,
    brief::FirmwareKind,
    change::{self, Change, PatchOptions, RefitOptions},
    recast::{Options, Recast},
};

use super::{JSON_SCHEMA, links, order, recast::told};
use crate::{
    Session,
    args::{FirmwareWord, PatchArgs, RefitArgs, ResultArgs},
    chain,
    exit::Exit,
    failure::wrong_usage,
    output::{self, GOOD, emit, emit_json, heading, paint, pairs},
};

/// Ends as wrong usage does.
fn usage(what: &str) -> ! {
    wrong_usage(clap::error::ErrorKind::ValueValidation, what)
}

pub(crate) fn refit(args: &RefitArgs, session: &Session) -> Result<Exit> {
    let controller = args.controller.as_ref().map(|word| {
        let known = ControllerKind::ALL.iter().copied().find(|kind| kind.name() == word);
        known.unwrap_or_else(|| usage(&format!("'{word}' is not a controller; `reformis dests NAME` lists them")))
    });
    let adapter = args.adapter.as_ref().map(|word| {
        let known = AdapterModel::ALL.iter().copied().find(|model| model.name() == word);
        known.unwrap_or_else(|| usage(&format!("'{word}' is not an adapter model; `reformis dests NAME` lists them")))
    });
    let mac = args.mac.as_ref().map(|text| {
        reformis_machine::Mac::parse(text).unwrap_or_else(|| usage("--mac takes six pairs of hexadecimal digits"))
    });
    let options = RefitOptions {
        recast: recast_options(&args.disk, &args.result)?,
        destination: args.dest.clone(),
        site: session.site.clone(),
        controller,
        adapter,
        firmware: args
            .firmware
            .map(|word| if word == FirmwareWord::Bios { FirmwareKind::Bios } else { FirmwareKind::Uefi }),
        mac,
        guest: order::guest_wishes(&args.guest)?,
        accept: args.accept.clone(),
    };
    show(&options.recast, &change::refit(&options, &session.context())?, session)
}

pub(crate) fn patch(args: &PatchArgs, session: &Session) -> Result<Exit> {
    // The order of the kinds, not that on the command line: what is put may go where something was removed.
    let pair = |text: &OsString, what: &str| {
        let bytes = text.as_bytes();
        match bytes.iter().position(|byte| *byte == b':').map(|at| (&bytes[..at], &bytes[at + 1..])) {
            Some((one, other)) if !one.is_empty() && !other.is_empty() => (one.to_vec(), other.to_vec()),
            _ => usage(&format!("'{}': {what}, with a colon between them", text.display())),
        }
    };
    let bytes = |path: &OsString| path.as_bytes().to_vec();
    let mut changes: Vec<Change> = args.remove.iter().map(bytes).map(Change::Remove).collect();
    changes.extend(args.folder.iter().map(bytes).map(Change::Folder));
    changes.extend(args.put.iter().map(|text| {
        let (from, to) = pair(text, "--put takes a file here and its path in the guest");
        Change::Put(OsString::from_vec(from).into(), to)
    }));
    changes.extend(args.link.iter().map(|text| {
        let (path, target) = pair(text, "--link takes a path in the guest and where it leads");
        Change::Link(path, target)
    }));
    for file in &args.reg {
        changes.extend(text_changes(file, args.hive.as_deref())?);
    }
    if args.hive.is_some() && args.key.is_none() && args.reg.is_empty() {
        usage("--hive takes a KEY, or a text by --reg");
    }
    if let (Some(hive), Some(key)) = (&args.hive, &args.key) {
        let wanted = hive_changes(args, key);
        if wanted.is_empty() {
            usage("there is nothing to do in the hive: say --set, --unset or --remove-key");
        }
        changes.push(Change::Registry(hive.clone(), wanted));
    }
    if changes.is_empty() {
        usage("there is nothing to do: say --put, --remove, --folder, --link, --hive or --reg");
    }
    let recast = recast_options(&args.disk, &args.result)?;
    let options = PatchOptions { recast, changes, volume: args.volume.clone() };
    show(&options.recast, &change::patch(&options, &session.context())?, session)
}

/// What a registry text asks for: one change for each hive, in the order in which they come.
fn text_changes(file: &Path, hive: Option<&str>) -> Result<Vec<Change>> {
    let size = std::fs::metadata(file).with_context(|| format!("reading '{}'", file.display()))?.len();
    anyhow::ensure!(
        size <= reg::MOST,
        "'{}' has {size} bytes, more than the {} that are read",
        file.display(),
        reg::MOST
    );
    let bytes = std::fs::read(file).with_context(|| format!("reading '{}'", file.display()))?;
    let asked = text::changes(&bytes, hive).map_err(|what| anyhow::anyhow!("'{}': {what}", file.display()))?;
    let mut changes: Vec<Change> = Vec::new();
    for (hive, change) in asked {
        match changes.last_mut() {
            Some(Change::Registry(last, all)) if *last == hive => all.push(change),
            _ => changes.push(Change::Registry(hive, vec![change])),
        }
    }
    Ok(changes)
}

/// What is to be changed in a key of a hive.
fn hive_changes(args: &PatchArgs, key: &str) -> Vec<HiveChange> {
    let mut wanted = Vec::new();
    if args.remove_key {
        wanted.push(HiveChange::Remove(key.into()));
    }
    wanted.extend(args.unset.iter().map(|name| HiveChange::Unset(key.into(), name.clone())));
    wanted.extend(args.set.iter().map(|text| {
        let Some((name, value)) = text.split_once('=') else {
            usage(&format!("'{text}': --set takes NAME=TYPE:DATA, such as Start=dword:0"))
        };
        let data = Data::parse(value).unwrap_or_else(|what| usage(&format!("'{text}': {what}")));
        HiveChange::Set(key.into(), name.into(), data)
    }));
    wanted
}

fn recast_options(disk: &Path, args: &ResultArgs) -> Result<Options> {
    let result = args.out.clone().unwrap_or_else(|| disk.to_path_buf());
    let shape = if args.in_place { Some(change::shape_in_place(disk)?) } else { args.shape };
    Ok(Options {
        source: disk.to_path_buf(),
        result,
        from: args.from,
        snapshot: None,
        shape,
        squeeze: None,
        cluster: None,
        force: args.force || args.in_place,
        links: links(args.trust_links),
        align: None,
        grow: None,
        receipt: args.receipt.clone(),
        in_place: args.in_place,
    })
}

fn show(options: &Options, recast: &Recast, session: &Session) -> Result<Exit> {
    if session.json {
        emit_json(&serde_json::json!({ "schema": JSON_SCHEMA, "recast": recast }))?;
        return Ok(Exit::Done);
    }
    let name = reformis_disk::text::printable(&options.result.to_string_lossy());
    let mut text = format!("{} {name}\n", paint(GOOD, "Made"));
    text += &chain::verdict(recast.verdict.as_ref());
    let mut rows = vec![("before", told(&recast.before))];
    rows.extend(recast.after.as_ref().map(|after: &Facts| ("after", told(after))));
    rows.push(("content digest", recast.content_digest.clone()));
    text += &pairs(&rows);
    if let Some(guest) = &recast.guest {
        text += &chain::edits(&guest.edits, "Changed inside the guest");
        if guest.edits.is_empty() {
            text += &heading("Nothing had to be changed inside the guest");
        }
        text += &chain::evidence(&guest.evidence);
    }
    if !recast.findings.is_empty() {
        text += &heading("Findings");
        text += &output::findings(&recast.findings.iter().map(Finding::record).collect::<Vec<_>>());
    }
    emit(&text)?;
    Ok(Exit::Done)
}
