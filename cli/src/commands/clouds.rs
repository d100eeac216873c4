//! One cloud, for `reformis hosts NAME`.

use anyhow::Result;
use reformis_disk::text::printable;

use super::JSON_SCHEMA;
use crate::{
    Session,
    exit::Exit,
    output::{STRONG, emit, emit_json, heading, paint},
};

/// Tries the cloud `name`, and says what it takes and what our role may do there.
pub(super) fn run(name: &str, kind: &str, at: &str, session: &Session) -> Result<Exit> {
    let failed = reformis_move::Error::from;
    let cloud = session.wires.cloud(name).map_err(failed)?;
    let about = cloud.about().map_err(failed)?;
    if session.json {
        let cloud = serde_json::json!({
            "name": name, "kind": kind, "at": at, "store": cloud.store(), "answers": true, "about": about,
        });
        emit_json(&serde_json::json!({ "schema": JSON_SCHEMA, "cloud": cloud }))?;
        return Ok(Exit::Done);
    }
    let mut text = format!("{}  answers, and lets us in\n", paint(STRONG, name));
    text += &match kind {
        "image-service" => format!("  {kind} at {}\n", printable(at)),
        _ => format!("  {kind} at {}, from the store {}\n", printable(at), printable(cloud.store())),
    };
    about.iter().for_each(|line| text += &format!("  {}\n", printable(line)));
    text += &heading("Next");
    text += &format!("  reformis draft TARGET --dest NAME --cloud {name} --out BRIEF\n");
    emit(&text)?;
    Ok(Exit::Done)
}
