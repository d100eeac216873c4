//! Launch JSON: what an import into a cloud needs to know. Its schema is `docs/launch.schema.json`.

use serde::{Deserialize, Serialize};
use serde_json::{Map, Value};

use crate::{
    earlier::{Earlier, Keep},
    error::{Error, Result},
    landed::LandedDisk,
    limits,
    model::Machine,
};

/// The version of the schema.
const SCHEMA: u64 = 1;
/// What the file says that it is.
const KIND: &str = "machine-launch";
const MAX_BYTES: usize = 16 << 20;

#[derive(Serialize, Deserialize)]
struct Launch {
    schema: u64,
    kind: String,
    /// The name of the destination that it was made for.
    #[serde(default)]
    destination: String,
    architecture: String,
    machine: Machine,
    /// The disks' files, in the order of the machine's disks.
    #[serde(default)]
    images: Vec<LandedDisk>,
    /// What others added.
    #[serde(flatten)]
    other: Map<String, Value>,
}

/// Whether `head`, the start of a file, looks like such a file.
pub fn looks_like(head: &[u8]) -> bool {
    let text = String::from_utf8_lossy(head);
    text.trim_start_matches('\u{feff}').trim_start().starts_with('{') && text.contains(&format!("\"{KIND}\""))
}

/// Reads a machine; `file` names it in errors.
///
/// # Errors
/// [`Error::Json`] for what is no such file, [`Error::Unsupported`] for a newer schema.
pub fn read(bytes: &[u8], file: &str) -> Result<Machine> {
    let wrong = |what: String| Error::Json { file: file.into(), what };
    if bytes.len() > MAX_BYTES {
        return Err(wrong("it is larger than 16 MiB".into()));
    }
    let launch: Launch = serde_json::from_slice(bytes).map_err(|error| wrong(error.to_string()))?;
    if launch.schema > SCHEMA {
        let what = format!("its schema is {}, and this version reads up to {SCHEMA}", launch.schema);
        return Err(Error::Unsupported { file: file.into(), what });
    }
    let machine = launch.machine;
    if !limits::is_memory(&machine.memory) {
        return Err(wrong(format!("memory of {} bytes, which is not a sensible size", machine.memory)));
    }
    if !(1..=limits::MAX_PROCESSORS).contains(&machine.cpu.total()) {
        return Err(wrong(format!("'{}' processors", machine.cpu.total())));
    }
    Ok(machine)
}

/// The keys in `text` that others added: what an import makes of them is not known.
pub(crate) fn unknown(text: &str) -> Vec<String> {
    serde_json::from_str::<Launch>(text).map(|launch| launch.other.keys().cloned().collect()).unwrap_or_default()
}

/// The file for `machine` going to `destination`, whose disks are `landed`, in the same order. `earlier` is the file that
/// it was read from, if it was one of this kind: what others added to it is kept where everything is.
pub fn write(machine: &Machine, landed: &[LandedDisk], destination: &str, earlier: Option<Earlier<'_>>) -> String {
    let kept = earlier
        .filter(|earlier| earlier.keep == Keep::Everything)
        .and_then(|earlier| serde_json::from_str::<Launch>(earlier.text).ok());
    let launch = Launch {
        schema: SCHEMA,
        kind: KIND.into(),
        destination: destination.into(),
        architecture: "x86_64".into(),
        machine: machine.clone(),
        images: landed.to_vec(),
        other: kept.map(|launch| launch.other).unwrap_or_default(),
    };
    // All keys are strings and no value refuses to be written.
    serde_json::to_string_pretty(&launch).unwrap_or_default() + "\n"
}
