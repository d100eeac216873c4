use std::path::Path;

use proptest::prelude::*;

use super::*;

fn parse(text: &str) -> Result<Fleet> {
    Fleet::parse(text, "night.toml", "night", Path::new("/work"))
}

fn row(name: &str, more: &str) -> String {
    format!("[[machine]]\nname = \"{name}\"\nsource = \"harbour:{name}\"\n{more}\n")
}

const DEFAULTS: &str = "[defaults]\ndestination = \"virtio-host\"\ninto = \"landing\"\n";

#[test]
fn a_row_has_what_the_defaults_say_where_it_says_nothing() {
    let text = format!(
        "{DEFAULTS}memory = \"2GiB\"\naccept = [\"locked\"]\nhooks = {{ before = [\"./quiet\"], after = [\"./tell\"] }}\n{}{}",
        row("tidelog", "memory = \"4GiB\"\naccept = [\"tpm-bound\"]\nhooks = { after = [\"./other\", \"it\"] }"),
        row("ledger", "into = \"/elsewhere\"\nstore = \"jetty:night\""),
    );
    let fleet = parse(&text).unwrap();
    let [one, two] = &fleet.machines[..] else { panic!("{fleet:?}") };
    assert_eq!(one.row.memory.unwrap().0, 4 << 30);
    assert_eq!(one.row.accept, ["locked", "tpm-bound"]);
    assert_eq!(one.row.hooks.before.as_ref().unwrap(), &["./quiet"]);
    assert_eq!(one.row.hooks.after.as_ref().unwrap(), &["./other", "it"]);
    assert_eq!((one.landing(), one.host()), ("/work/landing/tidelog".into(), Some("harbour".into())));
    assert_eq!((two.landing(), two.stores()), ("/elsewhere/ledger".into(), vec!["jetty".to_string()]));
    assert_eq!((two.destination(), two.source()), ("virtio-host", "harbour:ledger"));
    assert_eq!(fleet.programs(), ["./other it", "./quiet", "./tell"]);
    assert_eq!(fleet.name, "night");
}

#[test]
fn hosts_are_known_by_their_names_and_by_links() {
    let fleet = |source: &str| {
        parse(&format!("{DEFAULTS}[[machine]]\nname = \"a\"\nsource = \"{source}\"\n")).unwrap().machines[0].host()
    };
    for (source, host) in [
        ("harbour:ledger", Some("harbour")),
        ("https://quay.example/exports/ledger.ova", Some("quay.example")),
        ("ssh://root@quay.example/srv/ledger.qcow2", Some("quay.example")),
        ("/exports/a:b/ledger.vmx", None),
        ("./ledger.ova", None),
        ("ledger.ova", None),
    ] {
        assert_eq!(fleet(source).as_deref(), host, "{source}");
    }
}

#[test]
fn groups_come_in_their_order() {
    let rows = row("a", "group = \"desks\"")
        + &row("b", "group = \"gauges\"\nafter = [\"c\"]")
        + &row("c", "group = \"gauges\"");
    let fleet = parse(&format!("{DEFAULTS}{rows}")).unwrap();
    let places: Vec<usize> = fleet.machines.iter().map(|spec| fleet.group_of(&spec.row)).collect();
    assert_eq!(places, [0, 1, 1]);
    let written =
        format!("{DEFAULTS}[[group]]\nname = \"gauges\"\nthen = \"stop-group\"\n[[group]]\nname = \"desks\"\n{rows}");
    let fleet = parse(&written).unwrap();
    let places: Vec<usize> = fleet.machines.iter().map(|spec| fleet.group_of(&spec.row)).collect();
    assert_eq!(places, [1, 0, 0]);
    assert_eq!((fleet.rules.then(0), fleet.rules.then(1)), (Then::StopGroup, Then::GoOn));
}

#[test]
fn what_cannot_be_right_is_refused_with_its_reason() {
    let one = row("a", "");
    for (text, what) in [
        (String::new(), "it has 0 machines"),
        (one.clone(), "it has no destination"),
        (format!("{DEFAULTS}{one}{one}"), "'a' is there twice"),
        (format!("{DEFAULTS}{}", row("a", "colour = 3")), "colour"),
        (format!("{DEFAULTS}{}", row("a", "after = [\"a\"]")), "in a circle: a"),
        (format!("{DEFAULTS}{}{}", row("a", "after = [\"b\"]"), row("b", "after = [\"a\"]")), "in a circle: a, b"),
        (format!("{DEFAULTS}{}", row("a", "after = [\"x\"]")), "waits for 'x', which is not in the file"),
        (
            format!("{DEFAULTS}{}{}", row("a", "group = \"one\"\nafter = [\"b\"]"), row("b", "group = \"two\"")),
            "whose group comes later",
        ),
        (format!("{DEFAULTS}[[group]]\nname = \"g\"\n{one}"), "is in no group"),
        (format!("{DEFAULTS}[[group]]\nname = \"g\"\n{}", row("a", "group = \"h\"")), "there is no group 'h'"),
        (format!("{DEFAULTS}[[machine]]\nname = \"../a\"\nsource = \"x\"\n"), "is no name of a machine"),
        (format!("{DEFAULTS}[[machine]]\nname = \"-rf\"\nsource = \"x\"\n"), "is no name of a machine"),
        (format!("{DEFAULTS}[[machine]]\nname = \"a\"\n"), "neither a source nor a brief"),
        (format!("{DEFAULTS}[[machine]]\nname = \"a\"\nsource = \"x\"\nbrief = \"y\"\n"), "a source and a brief"),
        ("[[machine]]\nname = \"a\"\nbrief = \"y\"\nmemory = \"1GiB\"\n".into(), "put them into the brief"),
        (format!("{DEFAULTS}{}", row("a", "mac = \"some\"")), "keep"),
        (format!("{DEFAULTS}{}", row("a", "shape = \"qcow9/thin\"")), "qcow9"),
        (format!("{DEFAULTS}{}", row("a", "memory = \"1KiB\"")), "memory"),
        (format!("{DEFAULTS}{}", row("a", "cores = 0")), "cores"),
        (format!("{DEFAULTS}{}", row("a", "accept = [\"Not A Code\"]")), "codes of blockers"),
        (format!("{DEFAULTS}{}", row("a", "hooks = { before = [] }")), "a program is a list"),
        (format!("{DEFAULTS}{}", row("a", "hooks = { before = \"rm -rf /\" }")), "expected a sequence"),
        (format!("{DEFAULTS}{}", row("a", "hooks = { patience = \"soon\" }")), "no length of time"),
        (format!("{DEFAULTS}{}", row("a", "hooks = { patience = \"-1 min\" }")), "from 1 s to 24 h"),
        (format!("{DEFAULTS}{}", row("a", "confirm = { tcp = \"h:1\", page = \"http://h\" }")), "one of tcp"),
        (format!("{DEFAULTS}{}", row("a", "confirm = { tcp = \"h\" }")), "HOST:PORT"),
        (format!("{DEFAULTS}{}", row("a", "confirm = { page = \"file:///etc/passwd\" }")), "no page"),
        (format!("[limits]\nat-once = 0\n{DEFAULTS}{one}"), "at-once"),
        (format!("[limits]\nrate = {{ harbour = \"fast\" }}\n{DEFAULTS}{one}"), "no rate"),
        (format!("[failure]\ntries = 0\n{DEFAULTS}{one}"), "tries"),
        (format!("[window]\nfrom = \"22:00\"\nuntil = \"late\"\n{DEFAULTS}{one}"), "late"),
        (format!("name = \"a b\"\n{DEFAULTS}{one}"), "no name of a fleet"),
        (format!("{DEFAULTS}name = \"x\"\n{one}"), "each machine's own"),
        ("not toml".into(), "line 1"),
    ] {
        let error = parse(&text).unwrap_err().to_string();
        assert!(error.contains(what), "{text}\n{error}");
    }
}

#[test]
fn machines_that_land_at_one_place_are_refused() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("night.toml");
    let other = "[[machine]]\nname = \"b\"\nsource = \"x\"\ninto = \"landing/a/..\"\n";
    std::fs::write(&path, format!("{DEFAULTS}{}{other}", row("a", ""))).unwrap();
    assert!(Fleet::read(&path).is_ok(), "other names are other places");
    let brief = "[move]\nsource = \"x.ova\"\ndestination = \"virtio-host\"\ninto = \"landing\"\nmachine-file = \"domain-xml\"\n\
                 [machine]\nname = \"a\"\nsockets = 1\ncores = 1\nmemory = \"1GiB\"\nfirmware = \"bios\"\nclock = \"utc\"\n";
    std::fs::write(folder.path().join("a.toml"), brief).unwrap();
    std::fs::write(&path, format!("{DEFAULTS}{}[[machine]]\nname = \"c\"\nbrief = \"a.toml\"\n", row("a", "")))
        .unwrap();
    let error = Fleet::read(&path).unwrap_err().to_string();
    assert!(error.contains("'a' and 'c' land at the same place"), "{error}");
    std::fs::write(&path, format!("{DEFAULTS}[[machine]]\nname = \"c\"\nbrief = \"none.toml\"\n")).unwrap();
    assert!(Fleet::read(&path).unwrap_err().to_string().contains("none.toml"));
}

#[test]
fn a_long_chain_is_no_circle_and_no_deep_call() {
    let mut rows = row("m0", "");
    for number in 1..5000 {
        rows += &row(&format!("m{number}"), &format!("after = [\"m{}\"]", number - 1));
    }
    assert_eq!(parse(&format!("{DEFAULTS}{rows}")).unwrap().machines.len(), 5000);
}

proptest! {
    /// Whatever stands there, it is read or refused; and what is read names no place outside its folders by a machine's name.
    #[test]
    fn a_strangers_words_end_in_a_fleet_or_an_error(name in "\\PC{0,20}", source in "\\PC{0,30}", more in "\\PC{0,40}") {
        let quoted = |text: &str| toml::Value::String(text.into()).to_string();
        let text = format!("{DEFAULTS}[[machine]]\nname = {}\nsource = {}\n{more}\n", quoted(&name), quoted(&source));
        if let Ok(fleet) = parse(&text) {
            let spec = &fleet.machines[0];
            let landing = spec.landing();
            prop_assert_eq!(landing.parent().unwrap(), Path::new("/work/landing"));
            prop_assert!(landing.file_name().is_some());
            spec.host();
        }
    }
}
