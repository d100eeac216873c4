//! An inventory: the machines of a site as a table, as other programs write it (CSV, RFC 4180; with commas or semicolons). Each column whose
//! heading is a key of a machine's row goes into the fleet file.

use std::{collections::BTreeSet, path::Path};

use super::{error::FleetError, file::Row};
use crate::error::{Error, Result};

/// The largest inventory that is read, in bytes.
const MOST_BYTES: u64 = 8 << 20;
/// The most machines of one.
const MOST: usize = 10_000;

/// A machine of an inventory.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Entry {
    /// Where it is.
    pub source: String,
    /// Its name there, where the source describes several machines.
    pub machine: Option<String>,
    /// Its name in the fleet; that of the machine where it is not given.
    pub name: Option<String>,
    /// Where it goes, where that is another place than that of the others.
    pub destination: Option<String>,
    /// The other keys of its row, with their values as TOML.
    pub keys: Vec<(&'static str, String)>,
}

/// An inventory.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Inventory {
    /// Its machines, in their order.
    pub entries: Vec<Entry>,
    /// Columns that are no keys of a row, and say nothing here.
    pub unknown: Vec<String>,
}

/// How a cell becomes a value.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum As {
    Text,
    Number,
    Flag,
    /// Words with spaces between.
    Words,
    /// A flag, or a word.
    FlagOrText,
    /// `tcp:HOST:PORT`, `ssh:HOST:PORT`, or a page.
    Confirm,
}

/// The columns besides `source`, `machine`, `name` and `destination`.
const COLUMNS: [(&str, As); 21] = [
    ("into", As::Text),
    ("group", As::Text),
    ("after", As::Words),
    ("size", As::Text),
    ("accept", As::Words),
    ("trust-links", As::Flag),
    ("ahead", As::FlagOrText),
    ("bitmap", As::Text),
    ("memory", As::Text),
    ("sockets", As::Number),
    ("cores", As::Number),
    ("firmware", As::Text),
    ("network", As::Text),
    ("mac", As::Text),
    ("shape", As::Text),
    ("machine-file", As::Text),
    ("keep-unknown", As::Flag),
    ("store", As::Text),
    ("cloud", As::Text),
    ("then", As::Text),
    ("confirm", As::Confirm),
];

impl Inventory {
    /// Reads the inventory at `path`.
    ///
    /// # Errors
    /// [`FleetError::Inventory`], with the line where it is known; those of reading.
    pub fn read(path: &Path) -> Result<Self> {
        let len = path.metadata().map_err(Error::io("reading", path))?.len();
        let file = path.to_string_lossy();
        if len > MOST_BYTES {
            let what = format!("it has {len} bytes, and {MOST_BYTES} are the most");
            return Err(FleetError::Inventory { file: file.into(), what }.into());
        }
        let bytes = std::fs::read(path).map_err(Error::io("reading", path))?;
        Ok(Self::parse(&bytes).map_err(|what| FleetError::Inventory { file: file.into(), what })?)
    }

    /// The inventory that `bytes` are.
    ///
    /// # Errors
    /// As the end of a sentence.
    pub fn parse(bytes: &[u8]) -> Result<Self, String> {
        // A spreadsheet begins its text with a mark of its order of bytes.
        let text = std::str::from_utf8(bytes.strip_prefix(b"\xef\xbb\xbf").unwrap_or(bytes))
            .map_err(|_| "it is no text in UTF-8".to_string())?;
        let first = text.lines().next().unwrap_or_default();
        let delimiter = if first.matches(';').count() > first.matches(',').count() { b';' } else { b',' };
        let mut reader =
            csv::ReaderBuilder::new().delimiter(delimiter).trim(csv::Trim::All).from_reader(text.as_bytes());
        let headings: Vec<String> =
            reader.headers().map_err(|error| error.to_string())?.iter().map(str::to_ascii_lowercase).collect();
        let mut seen = BTreeSet::new();
        if let Some(twice) = headings.iter().find(|heading| !seen.insert(heading.as_str())) {
            return Err(format!("the column '{twice}' is there twice"));
        }
        if !seen.contains("source") {
            return Err("it has no column 'source'".into());
        }
        let is_known = |heading: &str| {
            matches!(heading, "source" | "machine" | "name" | "destination")
                || COLUMNS.iter().any(|(known, _)| *known == heading)
        };
        let unknown = headings.iter().filter(|heading| !is_known(heading)).cloned().collect();
        let mut inventory = Self { entries: Vec::new(), unknown };
        for record in reader.records() {
            let record = record.map_err(|error| error.to_string())?;
            let line = record.position().map_or(0, csv::Position::line);
            let at = |what: String| format!("line {line}: {what}");
            if inventory.entries.len() >= MOST {
                return Err(format!("it has more than {MOST} machines"));
            }
            inventory.entries.push(entry(&headings, &record).map_err(at)?);
        }
        match inventory.entries.is_empty() {
            true => Err("no machine is in it".into()),
            false => Ok(inventory),
        }
    }
}

fn entry(headings: &[String], record: &csv::StringRecord) -> Result<Entry, String> {
    let mut entry = Entry::default();
    for (heading, cell) in headings.iter().zip(record).filter(|(_, cell)| !cell.is_empty()) {
        let text = || Some(cell.to_string());
        match heading.as_str() {
            "source" => entry.source = cell.into(),
            "machine" => entry.machine = text(),
            "name" => entry.name = text(),
            "destination" => entry.destination = text(),
            heading => {
                if let Some((key, kind)) = COLUMNS.iter().find(|(known, _)| *known == heading) {
                    let value = value(*kind, cell).map_err(|what| format!("{key}: {what}"))?;
                    // As a fleet file would take it.
                    toml::from_str::<Row>(&format!("{key} = {value}\n"))
                        .map_err(|error| format!("{key}: {}", error.message()))?;
                    entry.keys.push((key, value));
                }
            }
        }
    }
    match entry.source.is_empty() {
        true => Err("it has no source".into()),
        false => Ok(entry),
    }
}

/// A cell as a value of TOML.
fn value(kind: As, cell: &str) -> Result<String, String> {
    let flag = || match cell.to_ascii_lowercase().as_str() {
        "true" | "yes" | "1" => Some("true"),
        "false" | "no" | "0" => Some("false"),
        _ => None,
    };
    match kind {
        As::Text => Ok(quoted(cell)),
        As::Number => {
            cell.parse::<u32>().map(|number| number.to_string()).map_err(|_| format!("'{cell}' is no number"))
        }
        As::Flag => flag().map(str::to_string).ok_or_else(|| format!("'{cell}' is neither yes nor no")),
        As::FlagOrText => Ok(flag().map_or_else(|| quoted(cell), str::to_string)),
        As::Words => Ok(format!("[{}]", cell.split_whitespace().map(quoted).collect::<Vec<_>>().join(", "))),
        As::Confirm => match cell.split_once(':') {
            Some((kind @ ("tcp" | "ssh"), at)) => Ok(format!("{{ {kind} = {} }}", quoted(at))),
            Some(("http" | "https", _)) => Ok(format!("{{ page = {} }}", quoted(cell))),
            _ => Err(format!("'{cell}' is none of tcp:HOST:PORT, ssh:HOST:PORT and a page")),
        },
    }
}

/// `text` as a string of TOML on one line: one of JSON, but for the character DEL.
pub(super) fn quoted(text: &str) -> String {
    serde_json::Value::from(text).to_string().replace('\u{7f}', "\\u007f")
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    #[test]
    fn a_table_of_a_spreadsheet_is_read() {
        let text = "\u{feff}Name;Source;Group;Memory;Cores;After;Ahead;Confirm;Owner\r\n\
                    tidelog;harbour:tidelog;gauges;2GiB;2;;yes;ssh:10.0.0.5:22;\"Quay; the old one\"\r\n\
                    ;harbour:ledger;desks;;;tidelog  berths;early;https://ledger/;\r\n";
        let inventory = Inventory::parse(text.as_bytes()).unwrap();
        assert_eq!(inventory.unknown, ["owner"]);
        let [one, two] = &inventory.entries[..] else { panic!("{inventory:?}") };
        assert_eq!((one.name.as_deref(), one.source.as_str()), (Some("tidelog"), "harbour:tidelog"));
        assert_eq!(two.name, None);
        let keys: Vec<String> =
            two.keys.iter().chain(&one.keys).map(|(key, value)| format!("{key} = {value}")).collect();
        assert_eq!(
            keys,
            [
                "group = \"desks\"",
                "after = [\"tidelog\", \"berths\"]",
                "ahead = \"early\"",
                "confirm = { page = \"https://ledger/\" }",
                "group = \"gauges\"",
                "memory = \"2GiB\"",
                "cores = 2",
                "ahead = true",
                "confirm = { ssh = \"10.0.0.5:22\" }",
            ]
        );
    }

    #[test]
    fn what_is_wrong_is_told_with_its_line() {
        for (text, told) in [
            ("name\nx\n", "no column 'source'"),
            ("source,source\nx,y\n", "'source' is there twice"),
            ("source\n", "no machine"),
            ("source,cores\na,1\nb,two\n", "line 3: cores: 'two' is no number"),
            ("source,memory\na,much\n", "line 2: memory: "),
            ("source,ahead\na,soon\n", "line 2: ahead: "),
            ("source,name\n,x\n", "line 2: it has no source"),
            ("source\n\"a\nb\",c\n", "found record with 2 fields"),
        ] {
            let error = Inventory::parse(text.as_bytes()).unwrap_err();
            assert!(error.contains(told), "{text:?}: {error}");
        }
        assert!(Inventory::parse(b"source\n\xff\xfe\n").is_err());
    }

    proptest! {
        /// Whatever stands in the cells: what becomes of them is one key with one value, and says the same when a fleet file is read.
        #[test]
        fn a_cell_is_one_value_whatever_stands_in_it(cell in any::<String>()) {
            let mut writer = csv::Writer::from_writer(Vec::new());
            writer.write_record(["source", "network"]).unwrap();
            writer.write_record(["harbour:a", &cell]).unwrap();
            let bytes = writer.into_inner().unwrap();
            if let Ok(inventory) = Inventory::parse(&bytes)
                && let Some((key, value)) = inventory.entries[0].keys.first()
            {
                prop_assert_eq!(*key, "network");
                let table: toml::Table = toml::from_str(&format!("{key} = {value}\n")).unwrap();
                prop_assert_eq!(table.len(), 1);
                prop_assert_eq!(table["network"].as_str(), Some(cell.trim()));
            }
        }
    }
}
