//! Netplan.

use yaml_rust2::parser::{Event, Parser};

use super::{Used, is_hardware, mac};

/// Keys below one another that are followed; netplan's own go six deep.
const MAX_DEPTH: usize = 64;

/// The adapters below `ethernets` of the netplan file at `file`. Where it is no YAML any more, what was read until then
/// counts.
pub(super) fn read(text: &str, file: &str, found: &mut Vec<Used>) {
    let mut adapters: Vec<Adapter> = Vec::new();
    scalars(text, |path, value| {
        let ["network", "ethernets", id, keys @ ..] = path else { return };
        if adapters.last().is_none_or(|last| last.id != *id) {
            adapters.push(Adapter { id: (*id).into(), ..Adapter::default() });
        }
        let Some(adapter) = adapters.last_mut() else { return };
        match keys {
            ["match", "macaddress"] => adapter.matched = mac(value),
            // A pattern may be for several.
            ["match", "name"] if !value.contains(['*', '?', '[']) => adapter.name = Some(value.into()),
            ["macaddress"] => adapter.set = mac(value),
            ["set-name"] => adapter.renamed = Some(value.into()),
            _ => {}
        }
    });
    found.extend(adapters.into_iter().filter_map(|adapter| adapter.used(file)));
}

/// An entry below `ethernets`.
#[derive(Default)]
struct Adapter {
    id: String,
    /// The address that tells which adapter it is.
    matched: Option<String>,
    /// The name that does.
    name: Option<String>,
    /// The address that it is given.
    set: Option<String>,
    /// The name that it is given.
    renamed: Option<String>,
}

impl Adapter {
    fn used(self, file: &str) -> Option<Used> {
        let name = self.renamed.or(self.name).unwrap_or(self.id);
        let by_mac = self.matched.is_some();
        let mac = self.matched.or(self.set);
        is_hardware(&name).then(|| Used { name, mac, by_mac, path: None, file: file.into() })
    }
}

/// Gives `visit` every plain value of a YAML text (YAML 1.2, chapter 3) with the keys above it; a mapping or a list with
/// nothing in it, and a place that repeats another one, are an empty value. Reads events alone: nothing grows by repeating.
fn scalars(text: &str, mut visit: impl FnMut(&[&str], &str)) {
    /// A mapping, and the key in it that a value is waited for; or a list.
    enum Level {
        Mapping(Option<String>),
        List,
    }
    let mut parser = Parser::new_from_str(text);
    let mut levels: Vec<Level> = Vec::new();
    let mut tell = |levels: &[Level], value: &str| {
        // Borrowed: a key may be as long as the file, and stand above very many values.
        let key = |level| if let &Level::Mapping(Some(ref key)) = level { Some(key.as_str()) } else { None };
        let keys: Vec<&str> = levels.iter().filter_map(key).collect();
        visit(&keys, value);
    };
    // What was a value is done with: the mapping waits for the next key.
    let done = |levels: &mut Vec<Level>| {
        if let Some(Level::Mapping(key)) = levels.last_mut() {
            *key = None;
        }
    };
    while let Ok((event, _)) = parser.next_token() {
        match event {
            Event::StreamEnd => return,
            Event::MappingStart(..) | Event::SequenceStart(..) => {
                if levels.len() == MAX_DEPTH {
                    return;
                }
                tell(&levels, "");
                levels.push(if matches!(event, Event::MappingStart(..)) { Level::Mapping(None) } else { Level::List });
            }
            Event::MappingEnd | Event::SequenceEnd => {
                levels.pop();
                done(&mut levels);
            }
            Event::Scalar(value, ..) => {
                if let Some(Level::Mapping(key @ None)) = levels.last_mut() {
                    *key = Some(value);
                } else {
                    tell(&levels, &value);
                    done(&mut levels);
                }
            }
            Event::Alias(_) => {
                tell(&levels, "");
                done(&mut levels);
            }
            _ => {}
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn adapters(text: &str) -> Vec<(String, Option<String>, bool)> {
        let mut found = Vec::new();
        read(text, "f", &mut found);
        assert!(found.iter().all(|used| used.file == "f"));
        found.into_iter().map(|used| (used.name, used.mac, used.by_mac)).collect()
    }

    #[test]
    fn by_name_and_by_address() {
        let text = "# made up\nnetwork:\n  version: 2\n  ethernets:\n    ens33: # the shore\n      dhcp4: true\n    \"ens34\":\n      addresses:\n        - 192.0.2.9/24\n    ens35: {}\n  vlans:\n    shore.7:\n      id: 7\n      link: ens33\n";
        assert_eq!(adapters(text), ["ens33", "ens34", "ens35"].map(|name| (name.to_string(), None, false)));
        let address = "02:5a:17:00:00:01".to_string();
        let text = "network:\n  ethernets:\n    shore:\n      match:\n        macaddress: \"02:5A:17:00:00:01\"\n      set-name: ens5\n    ens6:\n      macaddress: 02:5a:17:00:00:01\n    sea: {match: {name: ens7}}\n    all: {match: {name: en*}}\n";
        let expected = [
            ("ens5", Some(&address), true),
            ("ens6", Some(&address), false),
            ("ens7", None, false),
            ("all", None, false),
        ];
        assert_eq!(adapters(text), expected.map(|(name, mac, by)| (name.to_string(), mac.cloned(), by)));
    }

    #[test]
    fn in_one_line_with_anchors_and_in_several_documents() {
        let text = "{network: {ethernets: {ens3: {match: {macaddress: '02:5a:17:00:00:03'}, set-name: tide0}, ens4: &a {dhcp4: true}, ens5: *a}}}";
        let expected = [("tide0", Some("02:5a:17:00:00:03"), true), ("ens4", None, false), ("ens5", None, false)];
        assert_eq!(adapters(text), expected.map(|(name, mac, by)| (name.to_string(), mac.map(String::from), by)));
        let text = "---\nnetwork:\n  ethernets:\n    ens3:\n      dhcp4: true\n---\nother: 1\n";
        assert_eq!(adapters(text), [("ens3".to_string(), None, false)]);
    }

    /// Made by a stranger: nothing grows, nothing goes deep, and what is broken ends it.
    #[test]
    fn what_is_hostile_is_read_as_far_as_it_goes() {
        let good = "network:\n  ethernets:\n    ens3:\n      dhcp4: true\n";
        assert_eq!(adapters(&format!("{good}  x: [\n")).len(), 1);
        assert_eq!(adapters(&format!("{good}  \tx: : :\n")).len(), 1);
        for piece in ["[", "{", "- ", "? ", "a: {", "&a [", "!!x "] {
            assert!(adapters(&piece.repeat(20_000)).is_empty(), "{piece}");
        }
        // A long key above many values: what it costs must not be the product of both.
        let key = "k".repeat(300_000);
        assert!(adapters(&format!("? {key}\n: [{}]\n", "a, ".repeat(100_000))).is_empty());
        let bomb: String = (0..60).map(|n| format!("a{}: &a{} [*a{n}, *a{n}, *a{n}, *a{n}]\n", n + 1, n + 1)).collect();
        assert!(adapters(&format!("a0: &a0 x\n{bomb}")).is_empty());
    }
}
