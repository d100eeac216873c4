//! What is written keeps to the rules of its kind: scripts, descriptors, launch JSON.

use std::collections::BTreeSet;

use proptest::prelude::*;
use reformis_machine::{Machine, MachineFile, Name, read, script};
use serde_json::Value;

use crate::common::{document, samples, write};

/// The kinds of token that our scripts are made of, and what may be called.
#[test]
fn start_scripts_keep_to_their_subset() {
    let cmdlets: BTreeSet<&str> = BTreeSet::from([
        "Add-VMDvdDrive",
        "Add-VMHardDiskDrive",
        "Add-VMNetworkAdapter",
        "Add-VMScsiController",
        "Connect-VMNetworkAdapter",
        "Enable-VMTPM",
        "Get-VM",
        "Get-VMDvdDrive",
        "Get-VMHardDiskDrive",
        "Get-VMNetworkAdapter",
        "Get-VMSwitch",
        "Join-Path",
        "New-VM",
        "Remove-VM",
        "Remove-VMDvdDrive",
        "Remove-VMNetworkAdapter",
        "Set-StrictMode",
        "Set-VM",
        "Set-VMBios",
        "Set-VMComPort",
        "Set-VMFirmware",
        "Set-VMKeyProtector",
        "Set-VMMemory",
        "Set-VMNetworkAdapter",
        "Set-VMProcessor",
        "Test-Path",
        "Write-Output",
        "Write-Warning",
    ]);
    let nasty = "a'b\u{2019}c \"$(Remove-Item x)\" `n\n; rm";
    let mut machines: Vec<Machine> = samples().iter().flat_map(|(n, b)| document(n, b).machines).collect();
    for machine in &mut machines {
        machine.name = Name::cleaned(nasty, "");
        machine.description = Some(nasty.into());
    }
    for machine in &machines {
        let text = script::write(machine);
        assert!(text.starts_with('\u{feff}') && text.lines().all(|line| !line.contains('\r')));
        assert_eq!(text.matches("\r\n").count(), text.matches('\n').count());
        let code = strip_strings(&text);
        let mut depth: Vec<char> = Vec::new();
        for c in code.chars() {
            match c {
                '(' | '{' | '[' => depth.push(c),
                ')' => assert_eq!(depth.pop(), Some('('), "{code}"),
                '}' => assert_eq!(depth.pop(), Some('{'), "{code}"),
                ']' => assert_eq!(depth.pop(), Some('['), "{code}"),
                _ => {}
            }
        }
        assert!(depth.is_empty(), "{code}");
        for word in code.split(|c: char| !(c.is_alphanumeric() || c == '-')).filter(|word| word.contains('-')) {
            let is_cmdlet = !word.starts_with('-') && word.starts_with(char::is_uppercase);
            assert!(!is_cmdlet || cmdlets.contains(word), "{word}");
        }
        let words = || code.split(|c: char| !(c.is_alphanumeric() || c == '-'));
        assert!(words().all(|word| word != "Remove-Item" && word != "rm"), "a string got out: {code}");
    }
}

/// A machine with the same strange text wherever a file can say one.
fn hostile(text: &str) -> Machine {
    let name = || Name::cleaned(text, "x");
    let mut machine =
        document("gatekeeper.vmx", &samples().into_iter().find(|(n, _)| n == "gatekeeper.vmx").unwrap().1)
            .machines
            .remove(0);
    machine.name = name();
    machine.description = Some(text.into());
    machine.time_zone = Some(text.into());
    machine.nvram = Some(text.into());
    machine.system = Some(reformis_machine::System { cim_os_type: 101, description: Some(text.into()) });
    for disk in &mut machine.disks {
        disk.id = name();
        disk.files = vec![format!("disk {text}")];
        disk.format = Some(text.into());
        disk.compression = Some(text.into());
    }
    for drive in &mut machine.removable {
        drive.media = Some(text.into());
    }
    for adapter in &mut machine.adapters {
        adapter.name = name();
        adapter.network = Some(name());
    }
    machine
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 300, failure_persistence: None, ..ProptestConfig::default() })]
    /// Whatever a stranger's file says, the script's code is the same: all of it stays inside strings.
    #[test]
    fn no_text_becomes_code_of_a_script(text in prop_oneof![any::<String>(), "['\"$`;(){}\n\r#\u{2018}-\u{201e} a]{0,40}"]) {
        prop_assert_eq!(strip_strings(&script::write(&hostile(&text))), strip_strings(&script::write(&hostile("plain"))));
    }

    /// And every machine file that is written of it can be read, with its text in its place.
    #[test]
    fn no_text_breaks_a_machine_file(text in any::<String>()) {
        let machine = hostile(&text);
        for kind in [MachineFile::DomainXml, MachineFile::Vmx, MachineFile::Vbox, MachineFile::LaunchJson, MachineFile::Ovf] {
            let written = write(kind, &machine, None);
            let again = read(kind, written.as_bytes(), "again");
            prop_assert!(again.is_ok(), "{}: {:?}\n{}", kind.word(), again.err(), written);
            let again = again.unwrap().machines.remove(0);
            prop_assert_eq!(again.disks.len(), machine.disks.len());
            prop_assert_eq!(again.adapters.len(), machine.adapters.len());
        }
    }
}

/// The script without comments and what is inside its strings; fails when a string does not end on its line.
fn strip_strings(text: &str) -> String {
    let mut code = String::new();
    for line in text.trim_start_matches('\u{feff}').lines() {
        let mut quote = None;
        let mut chars = line.chars().peekable();
        while let Some(c) = chars.next() {
            let same = |q: char| {
                matches!(c, '\'' | '\u{2018}' | '\u{2019}' | '\u{201a}' | '\u{201b}') == (q == '\'')
                    && (c == '"') == (q == '"')
            };
            match quote {
                Some(q) if same(q) && chars.peek() == Some(&c) => drop(chars.next()),
                Some(q) if same(q) => quote = None,
                Some('"') if c == '$' => assert!(chars.peek().is_some_and(|c| c.is_alphabetic()), "{line}"),
                Some(_) => {}
                None if c == '#' => break,
                None if c == '\'' || c == '"' => quote = Some(c),
                None => code.push(c),
            }
        }
        assert_eq!(quote, None, "a string is open: {line}");
        code.push('\n');
    }
    code
}

/// The rules of DMTF's schemas (DSP8023 and the CIM classes): order of elements, unique instances, sound references.
#[test]
fn descriptors_keep_to_the_rules_of_the_schema() {
    for (name, bytes) in samples() {
        for mut machine in document(&name, &bytes).machines {
            for (index, disk) in machine.disks.iter_mut().enumerate() {
                disk.files = vec![format!("disk-{index}.vmdk")];
            }
            let text = write(MachineFile::Ovf, &machine, None);
            let document = roxmltree::Document::parse(&text).unwrap();
            let names = |node: roxmltree::Node<'_, '_>| -> Vec<String> {
                node.children().filter(roxmltree::Node::is_element).map(|c| c.tag_name().name().to_string()).collect()
            };
            let top = names(document.root_element());
            let order = ["References", "DiskSection", "NetworkSection", "VirtualSystem"];
            assert_eq!(top, order.into_iter().filter(|n| top.contains(&n.to_string())).collect::<Vec<_>>());
            let all = |name: &'static str| document.descendants().filter(move |n| n.tag_name().name() == name);
            for section in document.descendants().filter(|n| n.tag_name().name().ends_with("Section")) {
                assert_eq!(names(section)[0], "Info", "{name}");
            }
            assert_eq!(names(all("VirtualSystem").next().unwrap())[..2], ["Info", "Name"]);
            let mut instances = BTreeSet::new();
            for item in all("Item") {
                let fields = item.children().filter(|n| {
                    n.tag_name().namespace().is_some_and(|ns| ns.contains("RASD") || ns.contains("ResourceAllocation"))
                });
                let fields: Vec<_> = fields.map(|n| n.tag_name().name()).collect();
                assert!(fields.is_sorted(), "{name}: {fields:?}");
                assert!(["ElementName", "InstanceID", "ResourceType"].iter().all(|n| fields.contains(n)), "{fields:?}");
                let value = |field: &str| item.children().find(|n| n.tag_name().name() == field).and_then(|n| n.text());
                assert!(value("Parent").is_none_or(|parent| instances.contains(parent)), "{name}: parents come first");
                assert!(instances.insert(value("InstanceID").unwrap()), "{name}: an instance twice");
                if let Some(host) = value("HostResource") {
                    let id = host.strip_prefix("ovf:/disk/").unwrap();
                    let disk =
                        all("Disk").find(|n| n.attributes().any(|a| a.name() == "diskId" && a.value() == id)).unwrap();
                    let file = disk.attributes().find(|a| a.name() == "fileRef").unwrap().value();
                    assert!(all("File").any(|n| n.attributes().any(|a| a.name() == "id" && a.value() == file)));
                }
                if let Some(network) = value("Connection") {
                    assert!(all("Network").any(|n| n.attributes().any(|a| a.value() == network)), "{name}: {network}");
                }
            }
        }
    }
}

/// Launch JSON against the schema in `docs/`, as far as the schema's own words go.
#[test]
fn launch_json_keeps_to_its_published_schema() {
    let schema: Value = serde_json::from_str(include_str!("../../../../docs/launch.schema.json")).unwrap();
    let mut wrong = Vec::new();
    for (name, bytes) in samples() {
        for machine in document(&name, &bytes).machines {
            let value: Value = serde_json::from_str(&write(MachineFile::LaunchJson, &machine, None)).unwrap();
            check(&schema, &schema, &value, &name, &mut wrong);
        }
    }
    assert_eq!(wrong, [""; 0]);
    // The checker itself notices what is wrong.
    check(&schema, &schema, &serde_json::json!({ "schema": 2, "machine": { "memory": "x" } }), "bad", &mut wrong);
    assert!(wrong.len() > 8, "{wrong:?}");
}

fn check(root: &Value, schema: &Value, value: &Value, at: &str, wrong: &mut Vec<String>) {
    if let Some(name) = schema["$ref"].as_str().and_then(|path| path.strip_prefix("#/$defs/")) {
        return check(root, &root["$defs"][name], value, at, wrong);
    }
    let mut note = |what: String| wrong.push(format!("{at}: {what}"));
    let fits = match schema["type"].as_str() {
        Some("object") => value.is_object(),
        Some("array") => value.is_array(),
        Some("string") => value.is_string(),
        Some("integer") => value.is_u64(),
        Some("boolean") => value.is_boolean(),
        _ => true,
    };
    if !fits {
        note(format!("{value} is no {}", schema["type"]));
    }
    let constant = schema.get("const").is_none_or(|constant| constant == value);
    if !constant || schema["enum"].as_array().is_some_and(|words| !words.contains(value)) {
        note(format!("{value} is not one of what is allowed"));
    }
    if value.as_u64() < schema["minimum"].as_u64() && value.is_u64() {
        note(format!("{value} is too small"));
    }
    if let Some(items) = value.as_array() {
        items.iter().enumerate().for_each(|(i, item)| check(root, &schema["items"], item, &format!("{at}.{i}"), wrong));
    }
    let Some(object) = value.as_object() else { return };
    for name in schema["required"].as_array().into_iter().flatten().filter_map(Value::as_str) {
        if !object.contains_key(name) {
            wrong.push(format!("{at}: {name} is missing"));
        }
    }
    for (name, value) in object {
        match schema["properties"].get(name) {
            Some(inner) => check(root, inner, value, &format!("{at}.{name}"), wrong),
            None if schema["additionalProperties"] == false => wrong.push(format!("{at}: {name} is not known")),
            None => {}
        }
    }
}
