//! One store, for `reformis hosts NAME`.

use anyhow::Result;
use reformis_disk::text::printable;

use super::JSON_SCHEMA;
use crate::{
    Session,
    exit::Exit,
    output::{STRONG, emit, emit_json, heading, paint},
};

/// Tries the store `name`, and says what it lets us do; with `clean`, gives up the uploads there that are not finished.
pub(super) fn run(name: &str, clean: bool, session: &Session) -> Result<Exit> {
    let failed = reformis_move::Error::from;
    let store = session.wires.store(name).map_err(failed)?;
    store.try_out("").map_err(failed)?;
    let mut given_up = Vec::new();
    if clean {
        for (upload, id) in store.unfinished("").map_err(failed)? {
            store.give_up(&upload, &id).map_err(failed)?;
            given_up.push(upload);
        }
    }
    let about = store.about().map_err(failed)?;
    let known = session.wires.stores();
    let (kind, at) =
        known.iter().find(|(known, ..)| known == name).map_or(("", ""), |(_, kind, at)| (*kind, at.as_str()));
    if session.json {
        let store = serde_json::json!({
            "name": name, "kind": kind, "at": at, "answers": true, "about": about, "given-up": given_up,
        });
        emit_json(&serde_json::json!({ "schema": JSON_SCHEMA, "store": store }))?;
        return Ok(Exit::Done);
    }
    let mut text = format!("{}  answers, and lets us write and remove\n", paint(STRONG, name));
    text += &format!("  {kind} at {}\n", printable(at));
    about.iter().for_each(|line| text += &format!("  {}\n", printable(line)));
    if !given_up.is_empty() {
        text += &heading("Given up");
        given_up.iter().for_each(|upload| text += &format!("  {name}:{}\n", printable(upload)));
    }
    text += &heading("Next");
    text += &format!("  reformis draft TARGET --dest NAME --store {name}:FOLDER --out BRIEF\n");
    emit(&text)?;
    Ok(Exit::Done)
}
