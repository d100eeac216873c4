//! What a system's cloud-init is told at its first start, as a small medium that lands with the machine: in the layout of NoCloud, or of a
//! config drive (cloud-init's documentation, "Datasources").

use std::{io::Read, path::Path};

use reformis_disk::{ByteSize, source::open_within};
use reformis_machine::{Destination, Machine};

use crate::{
    brief::Brief,
    error::{Error, Result},
};

/// The largest file that goes into a seed, in bytes: what services of that kind take at the most is less.
const MOST: u64 = 1 << 20;

/// A seed: its file's name, and its bytes.
#[derive(Debug, Clone)]
pub(crate) struct Seed {
    pub(crate) file: String,
    pub(crate) bytes: Vec<u8>,
}

/// Reads the file at `path`, which the person named, or a file in `home`, which is somebody else's.
fn read(path: &str, home: Option<&Path>) -> Result<Vec<u8>> {
    let place = Path::new(path);
    let file = open_within(home, &home.unwrap_or(Path::new("")).to_string_lossy(), place)?;
    let mut bytes = Vec::new();
    file.take(MOST + 1).read_to_end(&mut bytes).map_err(Error::io("reading", place))?;
    if bytes.len() as u64 > MOST {
        let what = format!("it is larger than the {} that a seed takes of one file", ByteSize(MOST));
        return Err(Error::Seed { path: path.into(), what });
    }
    Ok(bytes)
}

/// The seed that `brief` wants for `machine` at `destination`; `None` where it wants none.
pub(crate) fn make(brief: &Brief, machine: &Machine, destination: &Destination) -> Result<Option<Seed>> {
    let Some(user_data) = &brief.guest.user_data else { return Ok(None) };
    let home = brief.guest.confined_to.as_deref();
    let network = brief.guest.network_config.as_deref().map(|path| read(path, home)).transpose()?;
    let user_data = read(user_data, home)?;
    let name = brief.guest.host_name.as_deref().unwrap_or(&machine.name);
    let id = machine.uuid.map_or_else(|| machine.name.to_string(), |uuid| uuid.to_string());
    let is_drive = destination.rules.data_sources.first().is_some_and(|source| source == "ConfigDrive");
    let (label, meta, paths) = match is_drive {
        true => (
            "config-2",
            serde_json::json!({ "uuid": id, "hostname": name, "name": name }).to_string(),
            ["openstack/latest/meta_data.json", "openstack/latest/user_data", "openstack/latest/network_data.json"],
        ),
        // Both are written as YAML that is JSON too: whatever is in a name stays in it.
        false => (
            "cidata",
            serde_json::json!({ "instance-id": id, "local-hostname": name }).to_string(),
            ["meta-data", "user-data", "network-config"],
        ),
    };
    let mut files: Vec<(&str, &[u8])> = vec![(paths[0], meta.as_bytes()), (paths[1], &user_data)];
    files.extend(network.as_deref().map(|network| (paths[2], network)));
    let file = format!("{}-seed.iso", machine.name);
    match reformis_guest::make_medium(label, &files) {
        Some(bytes) => Ok(Some(Seed { file, bytes })),
        None => Err(Error::Seed { path: file, what: "it is more than a seed holds".into() }),
    }
}
