//! Writing a brief, with where its values come from.

use std::{collections::BTreeMap, fmt::Write};

use reformis_disk::text::is_unsafe;

use super::Brief;

/// Where a value comes from, by its path in the brief, such as `machine.firmware` or `disks.0.shape`.
pub type Notes = BTreeMap<String, String>;

/// The brief as TOML: reading it back gives the same brief. Each value that has a note gets it as a comment.
pub fn write(brief: &Brief, notes: &Notes) -> String {
    let mut text = format!(
        "# The move of '{}'. Change what you like, then: reformis carry THIS-FILE\n",
        plain(&brief.machine.name)
    );
    // All keys are strings and all numbers are small, so there is no error to report.
    let value = toml::Value::try_from(brief).unwrap_or(toml::Value::Table(toml::Table::new()));
    // The order of a person's reading, not the alphabet's.
    for (name, keys) in TABLES {
        match value.get(name) {
            Some(toml::Value::Table(table)) => {
                write!(text, "\n[{name}]\n").ok();
                lines(&mut text, name, table, keys, notes);
            }
            Some(toml::Value::Array(tables)) => {
                for (index, table) in tables.iter().filter_map(toml::Value::as_table).enumerate() {
                    write!(text, "\n[[{name}]]\n").ok();
                    lines(&mut text, &format!("{name}.{index}"), table, keys, notes);
                }
            }
            _ => {}
        }
    }
    text
}

/// All tables and their keys, in order.
const TABLES: [(&str, &[&str]); 6] = [
    ("move", &["source", "machine", "destination", "into", "store", "cloud", "then", "machine-file", "keep-unknown"]),
    (
        "machine",
        &[
            "name",
            "description",
            "uuid",
            "sockets",
            "cores",
            "memory",
            "firmware",
            "secure-boot",
            "tpm",
            "clock",
            "time-zone",
            "system",
            "system-name",
            "serial-ports",
            "start-with-host",
        ],
    ),
    ("disks", &["source", "file", "shape", "compress", "controller", "bus", "slot", "boot", "grow", "align"]),
    ("adapters", &["source", "model", "mac", "network", "connected", "guest-name"]),
    ("drives", &["kind", "controller"]),
    (
        "guest",
        &[
            "leave-out",
            "first-boot",
            "drivers",
            "user-data",
            "network-config",
            "host-name",
            "new-machine-id",
            "new-ssh-keys",
        ],
    ),
];

fn lines(text: &mut String, path: &str, table: &toml::Table, keys: &[&str], notes: &Notes) {
    for key in keys {
        let note = notes.get(&format!("{path}.{key}")).map(|note| plain(note));
        let line = table.get(*key).map(|value| format!("{key} = {}", shown(value)));
        match (line, note) {
            (Some(line), Some(note)) => writeln!(text, "{line:<36}# {note}").ok(),
            (Some(line), None) => writeln!(text, "{line}").ok(),
            // What is not said, and why.
            (None, Some(note)) => writeln!(text, "{:<36}# {note}", format!("# {key} =")).ok(),
            (None, None) => None,
        };
    }
}

/// A value as TOML. Characters that could steer a terminal or hide are escapes in it: the brief may be read on one.
fn shown(value: &toml::Value) -> String {
    match value {
        toml::Value::String(text) if text.chars().any(is_unsafe) => {
            let mut quoted = String::from("\"");
            for c in text.chars() {
                match c {
                    '"' | '\\' => quoted.extend(['\\', c]),
                    c if is_unsafe(c) => quoted += &format!("\\U{:08X}", u32::from(c)),
                    c => quoted.push(c),
                }
            }
            quoted + "\""
        }
        toml::Value::Array(values) => format!("[{}]", values.iter().map(shown).collect::<Vec<_>>().join(", ")),
        other => other.to_string(),
    }
}

/// Text that stays on one line of a comment.
fn plain(text: &str) -> String {
    text.chars().map(|c| if is_unsafe(c) { ' ' } else { c }).collect()
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use reformis_wire::clouds::Then;

    use super::*;
    use crate::brief::{FirmwareKind, Journey, Mac, NewAdapter, NewDisk, NewDrive, NewGuest, NewMachine, Size, read};
    use reformis_disk::Shape;
    use reformis_machine::{AdapterModel, Clock, ControllerKind, MachineFile, RemovableKind, Tpm};

    fn one_of<T: Copy + std::fmt::Debug + 'static>(all: &'static [T]) -> impl Strategy<Value = T> {
        prop::sample::select(all)
    }

    fn machine() -> impl Strategy<Value = NewMachine> {
        let words = (any::<String>(), any::<Option<String>>(), any::<Option<String>>(), any::<Option<u16>>());
        let numbers = (1u32..64, 1u32..64, 1u64 << 20..1 << 46, 0u32..5);
        let flags = (any::<bool>(), any::<bool>(), any::<bool>(), any::<bool>(), any::<bool>());
        (words, numbers, flags).prop_map(
            |((name, description, zone, system), (sockets, cores, memory, ports), flags)| NewMachine {
                name,
                description,
                uuid: flags.0.then(|| reformis_machine::Uuid::from_u128(0x5a17)),
                sockets,
                cores,
                memory: Size(memory),
                firmware: if flags.1 { FirmwareKind::Bios } else { FirmwareKind::Uefi },
                secure_boot: flags.2,
                tpm: flags.3.then_some(Tpm::V12),
                clock: if flags.4 { Clock::Utc } else { Clock::Local },
                system_name: zone.clone(),
                time_zone: zone,
                system,
                serial_ports: ports,
                start_with_host: flags.0,
            },
        )
    }

    fn disk() -> impl Strategy<Value = NewDisk> {
        let shapes = prop::sample::select(Shape::all());
        let places = (0u32..9, 0u32..9, any::<Option<u32>>());
        let sizes = (any::<Option<u64>>(), any::<Option<u32>>());
        (any::<String>(), any::<Option<String>>(), shapes, one_of(ControllerKind::ALL), places, sizes).prop_map(
            |(source, file, shape, controller, (bus, slot, boot), (grow, align))| NewDisk {
                source,
                compress: file.clone(),
                file,
                shape,
                controller,
                bus,
                slot,
                boot,
                grow: grow.map(|size| Size(size >> 2)),
                align: align.map(|size| Size(size.into())),
            },
        )
    }

    fn adapter() -> impl Strategy<Value = NewAdapter> {
        let mac = prop_oneof![
            Just(Mac::Keep),
            Just(Mac::Fresh),
            Just(Mac::Given(reformis_machine::Mac::new([2, 0x5a, 0x17, 0, 0, 1])))
        ];
        (any::<Option<String>>(), one_of(AdapterModel::ALL), mac, any::<bool>()).prop_map(
            |(network, model, mac, connected)| NewAdapter {
                source: network.clone(),
                model,
                mac,
                network: network.map(|name| reformis_machine::Name::cleaned(&name, "network")),
                connected,
                guest_name: connected.then(|| "tide0".into()),
            },
        )
    }

    proptest! {
        #[test]
        fn what_is_written_is_read_back(
            machine in machine(),
            disks in prop::collection::vec(disk(), 0..4),
            adapters in prop::collection::vec(adapter(), 0..3),
            texts in (any::<String>(), any::<Option<String>>(), any::<String>()),
            machine_file in one_of(&MachineFile::ALL),
        ) {
            let (source, several, note) = texts;
            let (source_again, several_again) = (source.clone(), several.clone());
            let journey =
                Journey { destination: note.clone(), into: source.clone(), source, store: several.clone(), cloud: several.clone(), then: several.as_ref().map(|_| Then::Started), machine: several, machine_file, keep_unknown: disks.is_empty() };
            let drives = vec![NewDrive { kind: RemovableKind::Floppy, controller: ControllerKind::Ide }];
            let guest = NewGuest {
                confined_to: None,
                leave_out: vec![note.clone()],
                drivers: vec![source_again.clone()],
                user_data: several_again.as_ref().map(|_| source_again.clone()),
                network_config: several_again.clone(),
                first_boot: vec![source_again],
                host_name: several_again.map(|_| "tidelog".into()),
                new_machine_id: disks.is_empty(),
                new_ssh_keys: adapters.is_empty(),
            };
            let brief = Brief { journey, machine, disks, adapters, drives, guest };
            let notes = Notes::from([("machine.name".into(), note.clone()), ("disks.0.shape".into(), note)]);
            prop_assert!(write(&brief, &notes).chars().all(|c| c == '\n' || !is_unsafe(c)));
            let text = write(&brief, &notes);
            prop_assert_eq!(read(&text, "brief.toml").unwrap(), brief, "{}", text);
        }
    }
}
