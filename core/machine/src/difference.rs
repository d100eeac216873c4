//! What differs between two machines, and what goes lost when one is written.

use serde::{Deserialize, Serialize};

use crate::model::Machine;

/// A setting that a file of some kind has no word for.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Lost {
    /// The setting: its path in the neutral machine, such as `adapters.0.connected`.
    pub setting: String,
    /// Its value.
    pub value: String,
}

/// A setting that is not the same in two machines.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct Difference {
    /// The setting: its path in the neutral machine, such as `cpu.sockets`.
    pub setting: String,
    /// Its value before; empty where there was none.
    pub before: String,
    /// Its value after; empty where there is none.
    pub after: String,
}

/// What of `machine` is not in `read`, which was read back from the file that was written for it. Disks are numbered in the
/// order of their places: controller, bus, slot.
pub fn lost(machine: &Machine, read: &Machine) -> Vec<Lost> {
    let mut lost = differences(machine, read);
    // What a kind gives on top is no loss.
    lost.retain(|lost| {
        !lost.before.is_empty() && (lost.setting != "serial_ports" || read.serial_ports <= machine.serial_ports)
    });
    lost.into_iter().map(|lost| Lost { setting: lost.setting, value: lost.before }).collect()
}

/// The settings that differ between two machines. Disks are numbered in the order of their places: controller, bus, slot.
pub fn differences(before: &Machine, after: &Machine) -> Vec<Difference> {
    let as_value = |machine: &Machine| {
        let mut settings = Machine { leftovers: Vec::new(), signs: Vec::new(), ..machine.clone() };
        // A file has its own order of controllers; a disk is the one at its place.
        settings.disks.sort_by_key(|disk| (disk.controller.name(), disk.bus, disk.slot));
        serde_json::to_value(settings).unwrap_or_default()
    };
    let mut found = Vec::new();
    compare(&as_value(before), &as_value(after), &mut String::new(), &mut found);
    // Names of disks and adapters, and what the file says of a disk's file, are no settings of the machine.
    let bookkeeping = ["id", "name", "files", "format", "compression", "capacity"];
    found.retain(|difference| {
        let mut parts = difference.setting.split('.');
        !(matches!(parts.next(), Some("disks" | "adapters"))
            && parts.nth(1).is_some_and(|key| bookkeeping.contains(&key)))
    });
    found
}

fn compare(before: &serde_json::Value, after: &serde_json::Value, path: &mut String, found: &mut Vec<Difference>) {
    use serde_json::Value;
    if before == after {
        return;
    }
    let mut inner = |key: &str, before: &Value, after: &Value| {
        let len = path.len();
        if len > 0 {
            path.push('.');
        }
        path.push_str(key);
        compare(before, after, path, found);
        path.truncate(len);
    };
    let null = &Value::Null;
    match (before, after) {
        (Value::Object(before), Value::Object(after)) => {
            for (key, value) in before {
                inner(key, value, after.get(key).unwrap_or(null));
            }
            for (key, value) in after.iter().filter(|(key, _)| !before.contains_key(*key)) {
                inner(key, null, value);
            }
        }
        (Value::Array(before), Value::Array(after)) => {
            for index in 0..before.len().max(after.len()) {
                inner(&index.to_string(), before.get(index).unwrap_or(null), after.get(index).unwrap_or(null));
            }
        }
        _ => {
            let shown = |value: &Value| match value {
                Value::Null => String::new(),
                Value::String(text) => text.clone(),
                other => other.to_string(),
            };
            found.push(Difference { setting: path.clone(), before: shown(before), after: shown(after) });
        }
    }
}
