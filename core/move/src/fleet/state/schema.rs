//! The tables of a fleet's state, and how those of an earlier version become ours. Times are milliseconds since the beginning of 1970,
//! sizes are bytes, flags are 0 and 1.
//!
//! A machine's `state` is one of: `waiting`, `running`, `landed`, `failed`, `skipped` (what it comes after did not land, or its group was
//! stopped), `held` (a person holds it back), `gone` (it is no longer in the file).

use super::database::{Result, Session, Trouble, Value};

/// What each version adds to the one before it. A version that was used is never changed.
const VERSIONS: &[&[&str]] = &[
    &[
        "CREATE TABLE reformis_fleet (
        name TEXT PRIMARY KEY,
        rules TEXT NOT NULL,
        paused BIGINT NOT NULL DEFAULT 0)",
        "CREATE TABLE reformis_machine (
        fleet TEXT NOT NULL REFERENCES reformis_fleet (name),
        name TEXT NOT NULL,
        place BIGINT NOT NULL,
        team BIGINT NOT NULL,
        job TEXT NOT NULL,
        spec TEXT NOT NULL,
        size BIGINT,
        state TEXT NOT NULL,
        tries BIGINT NOT NULL DEFAULT 0,
        not_before BIGINT NOT NULL DEFAULT 0,
        fence BIGINT NOT NULL DEFAULT 0,
        worker TEXT,
        lease_until BIGINT,
        stage TEXT,
        done BIGINT,
        total BIGINT,
        began BIGINT,
        ended BIGINT,
        code TEXT,
        reason TEXT,
        remedy TEXT,
        landing TEXT,
        receipt TEXT,
        answer TEXT,
        PRIMARY KEY (fleet, name))",
        "CREATE INDEX reformis_machine_order ON reformis_machine (fleet, state, team, place)",
        "CREATE TABLE reformis_needs (
        fleet TEXT NOT NULL,
        name TEXT NOT NULL,
        other TEXT NOT NULL,
        PRIMARY KEY (fleet, name, other))",
        "CREATE TABLE reformis_uses (
        fleet TEXT NOT NULL,
        name TEXT NOT NULL,
        what TEXT NOT NULL,
        PRIMARY KEY (fleet, name, what))",
        "CREATE TABLE reformis_limit (
        fleet TEXT NOT NULL,
        what TEXT NOT NULL,
        most BIGINT NOT NULL,
        PRIMARY KEY (fleet, what))",
    ],
    &[
        // Where the file of the fleet lies.
        "ALTER TABLE reformis_fleet ADD COLUMN origin TEXT",
        // The machine on which the worker runs that has it or had it last, and its process there.
        "ALTER TABLE reformis_machine ADD COLUMN host TEXT",
        "ALTER TABLE reformis_machine ADD COLUMN process TEXT",
        // Whether a worker runs programs for it.
        "ALTER TABLE reformis_machine ADD COLUMN programs BIGINT",
        // How far these programs are: nothing, `begun`, or `done` and the code that it ended with.
        "ALTER TABLE reformis_machine ADD COLUMN before_hook TEXT",
        "ALTER TABLE reformis_machine ADD COLUMN after_hook TEXT",
    ],
    &[
        // Whether its first pass need not wait for its turn, and when that was made.
        "ALTER TABLE reformis_machine ADD COLUMN early BIGINT",
        "ALTER TABLE reformis_machine ADD COLUMN first_pass BIGINT",
        // What came of its rehearsal, as JSON.
        "ALTER TABLE reformis_machine ADD COLUMN rehearsal TEXT",
        // The groups that a person let begin.
        "CREATE TABLE reformis_gate (
        fleet TEXT NOT NULL,
        name TEXT NOT NULL,
        PRIMARY KEY (fleet, name))",
        // What a program of the site's is told, or was: `machine NAME`, `group NAME`, `night`. `done` is 0 while it is being told.
        "CREATE TABLE reformis_notice (
        fleet TEXT NOT NULL,
        what TEXT NOT NULL,
        host TEXT,
        process TEXT,
        until BIGINT NOT NULL,
        done BIGINT NOT NULL DEFAULT 0,
        PRIMARY KEY (fleet, what))",
    ],
    &[
        // The files of its landing as they were when it landed, as JSON.
        "ALTER TABLE reformis_machine ADD COLUMN landed_files TEXT",
    ],
];

/// Makes the tables, or those of an earlier version ours.
pub(super) fn migrate(session: &mut dyn Session) -> Result<()> {
    session.execute("CREATE TABLE IF NOT EXISTS reformis_version (version BIGINT NOT NULL)", &[])?;
    let rows = session.query("SELECT version FROM reformis_version", &[])?;
    let found = rows.first().and_then(|row| row.count(0)).unwrap_or(0);
    let missing = usize::try_from(found).ok().and_then(|found| VERSIONS.get(found..)).ok_or_else(|| newer(found))?;
    for statement in missing.iter().copied().flatten() {
        session.execute(statement, &[])?;
    }
    if !missing.is_empty() {
        session.execute("DELETE FROM reformis_version", &[])?;
        session.execute("INSERT INTO reformis_version (version) VALUES ($1)", &[Value::from(VERSIONS.len())])?;
    }
    Ok(())
}

/// Whether the tables are ours, for who only reads.
pub(super) fn check(session: &mut dyn Session) -> Result<()> {
    let rows = session.query("SELECT version FROM reformis_version", &[])?;
    match rows.first().and_then(|row| row.count(0)).unwrap_or(0) {
        found if found == VERSIONS.len() as u64 => Ok(()),
        found if found > VERSIONS.len() as u64 => Err(newer(found)),
        _ => {
            Err(Trouble { what: "it is of an earlier version: `reformis fleet run` brings it up".into(), again: false })
        }
    }
}

fn newer(found: u64) -> Trouble {
    let what = format!("its version is {found}, and this program knows {}: use a newer one", VERSIONS.len());
    Trouble { what, again: false }
}
