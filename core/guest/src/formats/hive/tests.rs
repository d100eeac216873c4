//! Hives beside a model, under the eyes of a strict check and of another reader.

use std::{collections::BTreeMap, process::Command};

use proptest::prelude::*;
use reformis_disk::budget::Budget;
use reformis_standin::hives;

use super::*;

const NOW: u64 = 134_000_000_000_000_000;

fn open_with(bytes: &[u8], logs: &[Vec<u8>]) -> Result<Hive> {
    Hive::open(Box::new(bytes.to_vec()), "the hive", &|| Ok(logs.to_vec()), NOW, &Budget::whole())
}

fn open(bytes: &[u8]) -> Hive {
    open_with(bytes, &[]).unwrap()
}

/// The hive with what was changed in it.
fn written(bytes: &[u8], hive: &mut Hive) -> (Vec<Changed>, Vec<u8>) {
    let (changes, writes) = hive.finish().unwrap();
    let mut new = bytes.to_vec();
    for (at, run) in writes {
        let at = at as usize;
        new.resize(new.len().max(at + run.len()), 0);
        new[at..at + run.len()].copy_from_slice(&run);
    }
    (changes, new)
}

fn edited(bytes: &[u8], work: impl FnOnce(&mut Hive)) -> Vec<u8> {
    let mut hive = open(bytes);
    work(&mut hive);
    written(bytes, &mut hive).1
}

/// Keys by their paths in small letters, each with its values by their names in small letters.
type Model = BTreeMap<String, BTreeMap<String, Data>>;

fn seen(hive: &Hive, key: Key, path: &str, into: &mut Model) {
    let values = hive.values(key).unwrap().into_iter().map(|value| (value.name.to_lowercase(), value.data()));
    into.insert(path.to_lowercase(), values.collect());
    let mut last = None;
    for (name, below) in hive.keys(key).unwrap() {
        let order = names::key(&names::units(&name));
        assert!(last.is_none_or(|last| last < order), "{path} {name}");
        last = Some(order);
        seen(hive, below, &format!("{path}\\{name}"), into);
    }
}

const NAMES: [&str; 9] =
    ["Select", "ControlSet001", "services", "a", "B", "Grüße", "水位", "with space and a long name", "ß"];

#[derive(Debug, Clone)]
enum Step {
    Set(Vec<usize>, usize, Data),
    Unset(Vec<usize>, usize),
    Make(Vec<usize>),
    Remove(Vec<usize>),
}

fn path(names: &[usize]) -> String {
    names.iter().map(|name| NAMES[name % NAMES.len()]).collect::<Vec<_>>().join("\\")
}

fn data() -> impl Strategy<Value = Data> {
    prop_oneof![
        any::<u32>().prop_map(Data::Number),
        any::<u64>().prop_map(Data::Large),
        "[a-zA-Z\u{e4}\u{6c34} %]{0,40}".prop_map(Data::Text),
        "[a-z%]{0,300}".prop_map(Data::Expand),
        prop::collection::vec("[a-z]{1,9}", 0..6).prop_map(Data::Texts),
        (prop_oneof![0..9usize, 0..3000usize, 16_300..50_000usize], any::<u8>())
            .prop_map(|(len, byte)| Data::Bytes((0..len).map(|at| (at as u8).wrapping_mul(7) ^ byte).collect())),
        (100..200u32).prop_map(|kind| Data::Other(kind, vec![1, 2, 3])),
    ]
}

fn step() -> impl Strategy<Value = Step> {
    let names = || prop::collection::vec(0..9usize, 1..4);
    prop_oneof![
        5 => (names(), 0..9usize, data()).prop_map(|(path, name, data)| Step::Set(path, name, data)),
        2 => (names(), 0..9usize).prop_map(|(path, name)| Step::Unset(path, name)),
        2 => names().prop_map(Step::Make),
        2 => names().prop_map(Step::Remove),
    ]
}

fn keys_above(model: &mut Model, path: &str) {
    let whole = format!("\\{}", path.to_lowercase());
    for end in whole.match_indices('\\').skip(1).map(|(at, _)| at).chain([whole.len()]) {
        model.entry(whole[..end].into()).or_default();
    }
}

fn take(hive: &mut Hive, model: &mut Model, step: &Step) {
    match step {
        Step::Set(names, name, data) => {
            let path = path(names);
            hive.set(&path, NAMES[*name], data).unwrap();
            keys_above(model, &path);
            let values = model.get_mut(&format!("\\{}", path.to_lowercase())).unwrap();
            values.insert(NAMES[*name].to_lowercase(), data.clone());
        }
        Step::Unset(names, name) => {
            let path = path(names);
            let known = model.get_mut(&format!("\\{}", path.to_lowercase()));
            let was_there = known.is_some_and(|values| values.remove(&NAMES[*name].to_lowercase()).is_some());
            assert_eq!(hive.unset(&path, NAMES[*name]).unwrap(), was_there);
        }
        Step::Make(names) => {
            hive.make_key(&path(names)).unwrap();
            keys_above(model, &path(names));
        }
        Step::Remove(names) => {
            let whole = format!("\\{}", path(names).to_lowercase());
            let was_there = model.contains_key(&whole);
            model.retain(|key, _| *key != whole && !key.starts_with(&format!("{whole}\\")));
            assert_eq!(hive.remove(&path(names)).unwrap(), was_there);
        }
    }
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 48, ..ProptestConfig::default() })]

    /// Any changes, in several turns, leave what the model has in a hive that is sound to the last cell.
    #[test]
    fn any_changes_leave_what_was_meant(
        minor in 3..=6_u32,
        turns in prop::collection::vec(prop::collection::vec(step(), 1..30), 1..4),
    ) {
        let mut bytes = hives::empty(minor);
        let mut model = Model::from([(String::new(), BTreeMap::new())]);
        for turn in &turns {
            let mut hive = open(&bytes);
            turn.iter().for_each(|step| take(&mut hive, &mut model, step));
            bytes = written(&bytes, &mut hive).1;
            prop_assert_eq!(hives::check(&bytes), Vec::<String>::new());
            let mut found = Model::new();
            let hive = open(&bytes);
            seen(&hive, hive.root(), "", &mut found);
            prop_assert_eq!(&found, &model);
        }
        // What a system had not yet written when it stopped is in its log.
        let before = hives::empty(minor);
        for is_newer in [true, false] {
            let (stopped, log) = hives::interrupted(&before, &bytes, is_newer);
            let hive = open_with(&stopped, &[log]).unwrap();
            prop_assert!(hive.was_replayed || bytes[PAGE..] == before[PAGE..]);
            let mut found = Model::new();
            seen(&hive, hive.root(), "", &mut found);
            prop_assert_eq!(&found, &model);
        }
    }

    #[test]
    fn any_bytes_are_refused_or_read(at in prop::collection::vec((0..9000_usize, any::<u8>()), 1..12)) {
        let mut bytes = edited(&hives::empty(5), |hive| {
            hive.set("a\\b", "long", &Data::Bytes(vec![7; 20_000])).unwrap();
            hive.set("a\\c", "text", &Data::Text("tide".into())).unwrap();
        });
        for (at, byte) in at {
            let at = at % bytes.len();
            bytes[at] = byte;
        }
        let sum = header::checksum(&bytes).to_le_bytes();
        bytes[SECTOR - 4..SECTOR].copy_from_slice(&sum);
        if let Ok(mut hive) = open_with(&bytes, &[]) {
            let root = hive.root();
            let _ = hive.keys(root).map(|keys| keys.into_iter().filter(|(_, key)| hive.values(*key).is_ok()).count());
            let _ = hive.data("a\\b", "long");
            let _ = hive.set("a\\b", "long", &Data::Number(1));
            let _ = hive.remove("a");
            let _ = hive.finish();
        }
    }
}

#[test]
fn a_change_of_one_number_changes_a_handful_of_bytes() {
    let bytes = edited(&hives::empty(5), |hive| {
        for number in 0..3000 {
            hive.set(&format!("ControlSet001\\Services\\service {number}"), "Start", &Data::Number(3)).unwrap();
        }
    });
    assert_eq!(hives::check(&bytes), Vec::<String>::new());
    let mut hive = open(&bytes);
    hive.set("ControlSet001\\Services\\SERVICE 1234", "start", &Data::Number(0)).unwrap();
    hive.set("ControlSet001\\Services\\service 7", "Start", &Data::Number(3)).unwrap();
    let (changes, new) = written(&bytes, &mut hive);
    assert_eq!(changes.len(), 1, "what is so already is no change");
    assert_eq!((&changes[0].before, &changes[0].after), (&Some(Data::Number(3)), &Some(Data::Number(0))));
    let differing = bytes.iter().zip(&new).filter(|(old, new)| old != new).count();
    assert!(differing < 40 && bytes.len() == new.len(), "{differing}");
    assert_eq!(hives::check(&new), Vec::<String>::new());
}

#[test]
fn another_reader_sees_the_same() {
    let path = std::env::var_os("PATH").unwrap_or_default();
    if !std::env::split_paths(&path).any(|folder| folder.join("hivexml").is_file()) {
        let _ = std::io::Write::write_all(
            &mut std::io::stderr(),
            b"SKIPPED another_reader_sees_the_same: there is no hivexml\n",
        );
        return;
    }
    let bytes = edited(&hives::empty(5), |hive| {
        for number in 0..700 {
            hive.set(&format!("Tide\\gauge {number}"), "Level", &Data::Number(number)).unwrap();
        }
        hive.set("Tide", "Where", &Data::Text("Saltmarsh Sound".into())).unwrap();
        hive.set("Tide", "Parts", &Data::Texts(vec!["one".into(), "two".into()])).unwrap();
        hive.set("Tide", "Long", &Data::Bytes(vec![0x5a; 40_000])).unwrap();
        for number in (0..700).step_by(3) {
            hive.remove(&format!("Tide\\gauge {number}")).unwrap();
        }
    });
    let folder = tempfile::tempdir().unwrap();
    let file = folder.path().join("TIDE");
    std::fs::write(&file, bytes).unwrap();
    let output = Command::new("hivexml").arg(&file).output().unwrap();
    assert!(output.status.success(), "{}", String::from_utf8_lossy(&output.stderr));
    let text = String::from_utf8(output.stdout).unwrap();
    assert_eq!(text.matches("<node name=\"gauge ").count(), 466);
    assert!(text.contains("<value type=\"string\" key=\"Where\" value=\"Saltmarsh Sound\">"));
    assert!(text.contains("<string>one</string><string>two</string>"));
    assert!(text.contains("<value type=\"int32\" key=\"Level\" value=\"698\">") && !text.contains("value=\"699\""));
}

/// The check itself, tried on what is broken on purpose.
#[test]
fn the_checker_finds_every_deliberate_breakage() {
    let sound = edited(&hives::empty(5), |hive| {
        for name in ["alpha", "beta", "gamma"] {
            hive.set(&format!("Keys\\{name}"), "Number", &Data::Bytes(vec![1; 9])).unwrap();
        }
        hive.set("Keys", "Long", &Data::Bytes(vec![2; 20_000])).unwrap();
        hive.set("Keys", "Gone", &Data::Bytes(vec![3; 64])).unwrap();
        hive.unset("Keys", "Gone").unwrap();
    });
    assert_eq!(hives::check(&sound), Vec::<String>::new());
    let hive = open(&sound);
    let place = |key: Key| PAGE + key.0 as usize + 4;
    let keys = hive.find("Keys").unwrap().unwrap();
    let (of_keys, alpha) = (place(keys), place(hive.find("Keys\\alpha").unwrap().unwrap()));
    let node = hive.node(keys.0).unwrap();
    let (list, values) = (place(Key(node.list)), place(Key(node.value_list)));
    let value = place(Key(hive.value_cells(&node).unwrap()[0]));
    let security = place(Key(node.security));
    let long = PAGE + Hive::long(&sound, value + 8) as usize + 4;
    let breakages: [(&str, usize, u8); 22] = [
        ("signature", 0, 1),
        ("checksum", 508, 1),
        ("sequence", 4, 1),
        ("version", 24, 8),
        ("length of the bins", 41, 0x80),
        ("signature of a bin", PAGE, 1),
        ("place of a bin", PAGE + 4, 16),
        ("length of a cell", alpha - 4, 4),
        ("a used cell is free", alpha - 1, 0x80),
        ("signature of a key", alpha, 1),
        ("parent of a key", alpha + 16, 8),
        ("name of a key", alpha + 76, 1),
        ("count of keys", of_keys + 20, 1),
        ("signature of a list", list, 1),
        ("hash of a name", list + 8, 1),
        ("order of keys", list + 4, 0x18),
        ("count of values", of_keys + 36, 1),
        ("a value that is none", values, 8),
        ("length of a value", value + 4, 1),
        ("parts of a long value", long + 2, 1),
        ("count of keys with a security", security + 12, 1),
        ("neighbour of a security", security + 4, 8),
    ];
    let unseen: Vec<&str> = (breakages.iter())
        .filter(|(_, at, bits)| {
            let mut broken = sound.clone();
            broken[*at] ^= bits;
            // What is not about the first block is seen although that is right.
            if *at >= PAGE || *at == 4 || *at == 24 || *at == 41 {
                let sum = header::checksum(&broken).to_le_bytes();
                broken[SECTOR - 4..SECTOR].copy_from_slice(&sum);
            }
            hives::check(&broken).is_empty()
        })
        .map(|(name, ..)| *name)
        .collect();
    assert_eq!(unseen, Vec::<&str>::new());
}
