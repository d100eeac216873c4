//! GRUB 2's configuration (its manual, "The list of commands" and "Environment block"): its menu, and which entry it starts by itself.

use super::{
    entry::{Entry, GRUB_ENV, Menu, in_tree, named},
    version,
};
use crate::fs::tree::Tree;

/// Entries of a file, and blocks in one another, that are read; a menu has a few, and a stranger's has no more.
const MOST_ENTRIES: usize = 1024;
const MOST_BLOCKS: usize = 16;
/// Early boot images of an entry.
const MOST_IMAGES: usize = 64;

/// What the menu shows at one place.
#[derive(Debug)]
struct Item {
    /// Its number in each menu on the way to it.
    path: Vec<usize>,
    title: String,
    id: String,
    /// The entry that it starts; none for what starts no Linux kernel, and for a menu of its own.
    entry: Option<usize>,
}

/// What a brace encloses.
#[derive(Clone, Copy, PartialEq, Eq)]
enum Block {
    Menu,
    Item,
    Other,
}

/// The words of a line: quotes hold a word together.
fn words(line: &str) -> Vec<String> {
    let (mut all, mut word, mut quote) = (Vec::new(), None::<String>, None);
    for c in line.chars() {
        match (quote, c) {
            (Some(open), c) if c == open => quote = None,
            (Some(_), c) => word.get_or_insert_default().push(c),
            (None, '"' | '\'') => {
                quote = Some(c);
                word.get_or_insert_default();
            }
            (None, c) if c.is_whitespace() => all.extend(word.take()),
            (None, c) => word.get_or_insert_default().push(c),
        }
    }
    all.extend(word);
    all
}

/// The identity behind one of the options that give it.
fn id_of(words: &[String]) -> String {
    let at = words
        .iter()
        .position(|word| matches!(word.as_str(), "--id" | "$menuentry_id_option" | "${menuentry_id_option}"));
    let behind = at.and_then(|at| words.get(at + 1)).cloned();
    behind.or_else(|| words.iter().find_map(|word| Some(word.strip_prefix("--id=")?.to_string()))).unwrap_or_default()
}

/// What a file of GRUB's says.
#[derive(Default)]
struct Config {
    entries: Vec<Entry>,
    items: Vec<Item>,
    /// What `default` is set to, in order.
    defaults: Vec<String>,
    /// Whether entry files are a part of its menu.
    reads_entry_files: bool,
}

#[expect(clippy::string_slice, reason = "cut behind ASCII that was seen there")]
fn read(in_tree: &dyn Fn(&str) -> String, file: &str, text: &str) -> Config {
    let mut config = Config::default();
    let mut blocks: Vec<Block> = Vec::new();
    // How many items each menu has so far.
    let mut counts = vec![0];
    for line in text.lines().map(str::trim) {
        if config.items.len().max(config.entries.len()) >= MOST_ENTRIES || blocks.len() > MOST_BLOCKS {
            break;
        }
        let (word, rest) = line.split_once(char::is_whitespace).unwrap_or((line, ""));
        match word {
            "menuentry" | "submenu" => {
                let words = words(rest);
                let mut path: Vec<usize> = counts.clone();
                if let (Some(last), Some(count)) = (path.last_mut(), counts.last_mut()) {
                    *last = *count;
                    *count += 1;
                }
                // Above it are the menus that it is in, each the last of its own.
                let depth = path.len() - 1;
                for above in path.iter_mut().take(depth) {
                    *above = above.saturating_sub(1);
                }
                let title = words.first().cloned().unwrap_or_default();
                config.items.push(Item { path, title, id: id_of(&words), entry: None });
                if word == "submenu" {
                    counts.push(0);
                }
                blocks.push(if word == "submenu" { Block::Menu } else { Block::Item });
            }
            "linux" | "linux16" | "linuxefi" => {
                let (kernel, parameters) = rest.trim().split_once(char::is_whitespace).unwrap_or((rest.trim(), ""));
                let item = config.items.last_mut().filter(|_| blocks.contains(&Block::Item));
                let title = item.as_ref().map_or(String::new(), |item| item.title.clone());
                if let Some(item) = item {
                    item.entry = Some(config.entries.len());
                }
                config.entries.push(Entry {
                    title,
                    kernel: in_tree(kernel),
                    parameters: parameters.trim().into(),
                    ..named(file)
                });
            }
            "initrd" | "initrd16" | "initrdefi" => {
                if let Some(entry) = config.entries.last_mut() {
                    entry.initrds = rest.split_whitespace().take(MOST_IMAGES).map(in_tree).collect();
                }
            }
            "set" if rest.starts_with("default=") => {
                config.defaults.push(rest["default=".len()..].trim_matches(['"', '\'']).into());
            }
            "blscfg" => config.reads_entry_files = true,
            "}" if blocks.pop() == Some(Block::Menu) => drop(counts.pop()),
            _ if line.ends_with('{') => blocks.push(Block::Other),
            _ => {}
        }
    }
    config
}

/// What GRUB keeps between starts, under a name.
fn kept(tree: &Tree, name: &str) -> Option<String> {
    let text = GRUB_ENV.iter().find_map(|path| tree.text(path))?;
    let value = text.lines().find_map(|line| Some(line.strip_prefix(name)?.strip_prefix('=')?.to_string()));
    value.filter(|value| !value.is_empty())
}

/// The value of `default` when the menu is there.
fn wanted(tree: &Tree, defaults: &[String]) -> String {
    let mut wanted = "0".to_string();
    for text in defaults {
        let name = text.strip_prefix("${").and_then(|rest| rest.strip_suffix('}')).or_else(|| text.strip_prefix('$'));
        match (name, name.and_then(|name| kept(tree, name))) {
            (None, _) => wanted.clone_from(text),
            // What is to be started once comes before what was kept for good.
            (Some("next_entry"), Some(value)) => return value,
            (Some(_), Some(value)) => wanted = value,
            (Some(_), None) => {}
        }
    }
    wanted
}

impl Item {
    fn is_called(&self, name: &str) -> bool {
        self.title == name || !self.id.is_empty() && self.id == name
    }
}

/// The item that a value of `default` means: numbers, titles or identities, with `>` between those of menus in one another.
fn find<'i>(items: &'i [Item], wanted: &str) -> Option<&'i Item> {
    let mut at: Vec<usize> = Vec::new();
    let mut found = None;
    for step in wanted.split('>') {
        let inside = |item: &&Item| item.path.len() == at.len() + 1 && item.path.starts_with(&at);
        let item = match step.trim().parse::<usize>() {
            Ok(number) => items.iter().filter(inside).find(|item| item.path.last() == Some(&number)),
            Err(_) => items.iter().filter(inside).find(|item| item.is_called(step)),
        };
        // An entry that is not there leaves the first one of its menu.
        let item = item.or_else(|| items.iter().find(inside))?;
        at.clone_from(&item.path);
        found = Some(item);
    }
    found
}

/// The menu of GRUB's file; `files` are the entry files of the boot volume, each with its name.
pub(super) fn menu(tree: &Tree, file: &str, text: &str, files: &[(String, Entry)]) -> Menu {
    let mut config = read(&|path| in_tree(tree, path), file, text);
    let wanted = wanted(tree, &config.defaults);
    if config.reads_entry_files && !files.is_empty() {
        // The newest first; what the configuration has itself comes behind.
        let mut sorted: Vec<&(String, Entry)> = files.iter().collect();
        sorted.sort_by(|(one, _), (other, _)| version::compare(other, one));
        let by_name = sorted.iter().position(|(name, entry)| *name == wanted || entry.title == wanted);
        let default = by_name.or_else(|| wanted.parse().ok().filter(|number| *number < sorted.len())).unwrap_or(0);
        let mut entries: Vec<Entry> = sorted.into_iter().map(|(_, entry)| entry.clone()).collect();
        entries.append(&mut config.entries);
        return Menu { entries, default: Some(Ok(default)) };
    }
    let default = match find(&config.items, &wanted) {
        Some(Item { entry: Some(entry), .. }) => Some(Ok(*entry)),
        // A menu of its own opens with its first entry.
        Some(item)
            if config
                .items
                .iter()
                .any(|other| other.path.len() > item.path.len() && other.path.starts_with(&item.path)) =>
        {
            let below = config.items.iter().filter(|other| other.path.starts_with(&item.path));
            below.filter_map(|item| item.entry).next().map(Ok)
        }
        Some(item) => Some(Err(format!("{file} starts '{}' by itself, which is no Linux kernel", item.title))),
        // Kernels outside of entries are started as they come.
        None if !config.entries.is_empty() => Some(Ok(0)),
        None => None,
    };
    Menu { entries: config.entries, default }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn items(text: &str) -> Vec<Item> {
        let mut counts: Vec<Item> = Vec::new();
        for line in text.lines() {
            let (path, title) = line.split_once(' ').unwrap_or((line, ""));
            let path = path.split('.').map(|number| number.parse().unwrap()).collect();
            counts.push(Item { path, title: title.into(), id: format!("id-{title}"), entry: None });
        }
        counts
    }

    #[test]
    fn an_entry_is_found_by_number_title_and_identity() {
        let items = items("0 Tidal\n1 Advanced\n1.0 Tidal 6.1\n1.1 Tidal 5.10\n2 Other");
        for (wanted, title) in [
            ("0", "Tidal"),
            ("2", "Other"),
            ("1>1", "Tidal 5.10"),
            ("Advanced>Tidal 6.1", "Tidal 6.1"),
            ("id-Advanced>id-Tidal 5.10", "Tidal 5.10"),
            ("7", "Tidal"),
            ("not there", "Tidal"),
            ("", "Tidal"),
        ] {
            assert_eq!(find(&items, wanted).map(|item| item.title.as_str()), Some(title), "{wanted}");
        }
        assert!(find(&[], "0").is_none());
    }

    #[test]
    fn a_menu_without_an_end_is_read_as_far_as_any_is() {
        for text in ["submenu x {\n".repeat(200_000), "menuentry x {\n}\n".repeat(200_000), "{\n".repeat(200_000)] {
            let config = read(&str::to_string, "grub.cfg", &text);
            assert!(
                config.items.len() <= MOST_ENTRIES
                    && config.items.iter().all(|item| item.path.len() <= MOST_BLOCKS + 2)
            );
        }
    }

    #[test]
    fn words_are_held_together_by_quotes() {
        let all = words("'Tidal GNU, with \"x\"' --class tidal $menuentry_id_option 'gnulinux-1' {");
        assert_eq!(all, ["Tidal GNU, with \"x\"", "--class", "tidal", "$menuentry_id_option", "gnulinux-1", "{"]);
        assert_eq!(id_of(&all), "gnulinux-1");
    }
}
