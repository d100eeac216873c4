//! What is written about the program is true of it: commands and options in the documents exist, and links lead somewhere.

use std::{
    collections::{BTreeMap, BTreeSet},
    fs,
    path::{Path, PathBuf},
};

use crate::support::Place;

fn documents() -> Vec<(PathBuf, String)> {
    let root = Path::new(env!("CARGO_MANIFEST_DIR")).join("..");
    let inside = |folder: &str| fs::read_dir(root.join(folder)).unwrap().map(|entry| entry.unwrap().path());
    let all = inside("docs").chain(inside("demo")).chain(inside("."));
    let texts = all.filter(|path| path.extension().is_some_and(|ending| ending == "md"));
    let mut documents: Vec<_> = texts.map(|path| (path.clone(), fs::read_to_string(path).unwrap())).collect();
    documents.sort();
    assert!(documents.len() >= 10, "{}", documents.len());
    documents
}

/// Commands of the program that stand in a text: those of code blocks, and those between backticks.
fn commands(text: &str) -> Vec<Vec<String>> {
    let lines =
        text.lines().filter_map(|line| line.trim_start().strip_prefix("reformis ").filter(|_| line.starts_with(' ')));
    let mut in_fences = false;
    let fenced = text.lines().filter_map(|line| {
        in_fences ^= line.starts_with("```");
        line.strip_prefix("reformis ").filter(|_| in_fences)
    });
    let spans = text.split('`').skip(1).step_by(2).filter_map(|span| span.strip_prefix("reformis "));
    let all: Vec<&str> = lines.chain(fenced).chain(spans).collect();
    let words = |line: &str| {
        // What follows is another program's, or was said about it.
        let own = line.split(['|', '#', '>']).next().unwrap_or_default().to_string();
        own.split_whitespace().map(ToString::to_string).collect::<Vec<_>>()
    };
    all.into_iter().map(words).filter(|words| !words.is_empty()).collect()
}

#[test]
fn every_command_and_option_in_the_documents_is_one() {
    let place = Place::new();
    let mut helps: BTreeMap<String, String> = BTreeMap::new();
    let general = place.run(&["--help"]).expect(0).out;
    let known: BTreeSet<&str> = general.lines().filter_map(|line| line.strip_prefix("  ")?.split(' ').next()).collect();
    assert!(known.contains("carry") && known.contains("survey"), "{known:?}");
    let mut seen = 0;
    for (path, text) in documents() {
        for words in commands(&text) {
            let command = words[0].as_str();
            // A placeholder, or an option of the program itself.
            if command.starts_with('-') || command.chars().all(|c| c.is_ascii_uppercase() || c == '…') {
                continue;
            }
            assert!(known.contains(command), "{}: reformis {}", path.display(), words.join(" "));
            // A command of commands has options of its own in each.
            let below = words.get(1).filter(|_| command == "fleet").filter(|word| !word.starts_with('-'));
            let whole: Vec<&str> = std::iter::once(command).chain(below.map(String::as_str)).collect();
            let help = helps
                .entry(whole.join(" "))
                .or_insert_with(|| place.run(&[&whole[..], &["--help"]].concat()).expect(0).out.clone());
            for option in words.iter().filter_map(|word| word.strip_prefix("--")) {
                let name: String = option.chars().take_while(|c| c.is_ascii_lowercase() || *c == '-').collect();
                let is_one =
                    help.split(|c: char| !(c.is_ascii_lowercase() || c == '-')).any(|word| word == format!("--{name}"));
                assert!(is_one, "{}: {command} has no option --{name}", path.display());
                seen += 1;
            }
        }
    }
    assert!(seen > 30, "{seen} options were looked for");
    // The judge judges: what is none is found.
    let helps_of_carry = &helps["carry"];
    assert!(!helps_of_carry.contains("--format") && commands("    reformis carry x --format y\n")[0][2] == "--format");
}

#[test]
fn every_link_between_the_documents_leads_to_a_file() {
    let mut seen = 0;
    for (path, text) in documents() {
        let folder = path.parent().unwrap();
        for target in text.match_indices("](").filter_map(|(at, _)| text[at + 2..].split(')').next()) {
            let file = target.split('#').next().unwrap();
            if file.is_empty() || file.contains("://") {
                continue;
            }
            assert!(folder.join(file).exists(), "{}: {target}", path.display());
            seen += 1;
        }
    }
    assert!(seen > 20, "{seen} links were followed");
}

#[test]
fn every_picture_is_shown_somewhere() {
    let folder = Path::new(env!("CARGO_MANIFEST_DIR")).join("../docs/screenshots");
    let all: String = documents().into_iter().map(|(_, text)| text).collect();
    let names: Vec<_> = fs::read_dir(folder).unwrap().map(|entry| entry.unwrap().file_name()).collect();
    assert!((5..20).contains(&names.len()));
    for name in names {
        assert!(all.contains(&*name.to_string_lossy()), "{name:?} is linked from nowhere");
    }
}
