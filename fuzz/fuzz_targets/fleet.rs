//! The reader of fleet files, and what a worker makes of each row: no name of a machine leads out of its folder, and a row that went into a
//! state comes out as it was. And the reader of inventories: whatever stands in a cell is one value of one key.
#![no_main]

use std::path::Path;

use libfuzzer_sys::fuzz_target;
use reformis_move::fleet::{Fleet, Inventory, Spec};

fuzz_target!(|bytes: &[u8]| {
    if let Ok(inventory) = Inventory::parse(bytes) {
        for (key, value) in inventory.entries.iter().flat_map(|entry| &entry.keys) {
            let row = "[[machine]]\nname = \"a\"\nsource = \"b\"\ndestination = \"c\"\ninto = \"d\"\n";
            if let Ok(fleet) = Fleet::parse(&format!("{row}{key} = {value}\n"), "i.toml", "i", Path::new("/work")) {
                assert!(fleet.machines.len() == 1 && fleet.machines.iter().all(|spec| spec.row.source.as_deref() == Some("b")));
            }
        }
    }
    let Ok(text) = std::str::from_utf8(bytes) else { return };
    let Ok(fleet) = Fleet::parse(text, "fuzz.toml", "fuzz", Path::new("/work")) else { return };
    fleet.programs();
    for spec in &fleet.machines {
        let landing = spec.landing();
        assert_eq!(landing.file_name().expect("a name"), spec.row.name.as_str());
        assert_eq!(landing.parent().expect("a folder"), spec.into());
        (spec.host(), spec.stores(), spec.source().len(), spec.destination().len());
        let text = serde_json::to_string(spec).expect("a spec is written");
        assert_eq!(&serde_json::from_str::<Spec>(&text).expect("what is written is sound"), spec);
    }
});
