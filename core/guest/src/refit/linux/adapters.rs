//! The edit `adapter-names`: each name that the configuration goes by is given to the hardware address of its adapter.

use super::Edits;
use crate::refit::work::{Changes, Remark};
use crate::system::linux::{
    Used,
    network::{RULES, by_path, files, pinned},
};

/// A name of the configuration, and the place of its adapter among the machine's.
type Match = (String, usize);

/// Text in an order in which 9 comes before 10.
#[expect(clippy::string_slice, reason = "cut where the letters end")]
fn natural(name: &str) -> (String, u64, String) {
    let letters = name.trim_end_matches(|c: char| c.is_ascii_digit());
    (letters.to_string(), name[letters.len()..].parse().unwrap_or(0), name.to_string())
}

impl Edits<'_, '_> {
    #[expect(clippy::indexing_slicing, reason = "the places were given by this guest and this hardware")]
    pub(crate) fn adapter_names(&mut self) -> Changes {
        let used = self.system.network.clone();
        let mut changes = Vec::new();
        let pairs = self.work.hardware.adapters.iter().filter_map(|adapter| {
            let (before, after) = (adapter.before.clone()?, adapter.after.clone()?);
            (before != after).then_some((before, after))
        });
        let pairs: Vec<(String, String)> = pairs.collect();
        self.replace_addresses(&pairs, &mut changes)?;
        let mut given = Vec::new();
        for (name, index) in self.matched(&used) {
            let adapter = &self.work.hardware.adapters[index];
            let wish = adapter.name.clone();
            let Some(mac) = adapter.after.clone() else {
                self.work.remarks.push(Remark::AdapterUnknown { name: name.clone() });
                continue;
            };
            let kept = wish.clone().unwrap_or_else(|| name.clone());
            given.push((kept.clone(), mac.clone()));
            if kept != name {
                self.rename(&used, &name, &kept, &mut changes)?;
            }
            self.leave_places(&used, &name, &kept, &mut changes)?;
            let by_mac = used.iter().filter(|used| used.name == name).all(|used| used.by_mac);
            if by_mac && wish.is_none() {
                continue;
            }
            let tree = &self.system.tree;
            if pinned(tree, &kept).as_ref() != Some(&mac) {
                self.pin(&kept, &mac)?;
                changes.push(format!("{kept} is the adapter with {mac}"));
            }
        }
        self.keep_order(&given, &mut changes)?;
        Ok(changes)
    }

    /// Which adapter each name stands for: by its address where one is written down, else in the order of both.
    #[expect(clippy::indexing_slicing, reason = "the places were given by this guest and this hardware")]
    pub(super) fn matched(&mut self, used: &[Used]) -> Vec<Match> {
        let adapters = &self.work.hardware.adapters;
        let mut matched: Vec<Match> = Vec::new();
        let mut open: Vec<&str> = Vec::new();
        for used in used {
            if matched.iter().any(|(name, _)| *name == used.name) || open.contains(&used.name.as_str()) {
                continue;
            }
            // What is written down is the address of before, unless somebody was quicker.
            let by = |mac: &String| {
                let before = adapters.iter().position(|adapter| adapter.before.as_ref() == Some(mac));
                before.or_else(|| adapters.iter().position(|adapter| adapter.after.as_ref() == Some(mac)))
            };
            match used.mac.as_ref().map(by) {
                Some(Some(index)) => matched.push((used.name.clone(), index)),
                // An address that the machine never had: whose it was cannot be told.
                Some(None) if used.by_mac => {
                    self.work.remarks.push(Remark::AdapterUnknown { name: used.name.clone() });
                }
                _ => open.push(&used.name),
            }
        }
        open.sort_by_key(|name| natural(name));
        let free: Vec<usize> =
            (0..adapters.len()).filter(|index| !matched.iter().any(|(_, taken)| taken == index)).collect();
        let assumed = open.len() > 1 || free.len() > 1;
        for (position, name) in open.iter().enumerate() {
            let Some(&index) = free.get(position) else {
                self.work.remarks.push(Remark::AdapterUnknown { name: (*name).into() });
                continue;
            };
            if let Some(mac) = adapters[index].after.clone().filter(|_| assumed) {
                self.work.remarks.push(Remark::AdapterAssumed { name: (*name).into(), mac });
            }
            matched.push(((*name).to_string(), index));
        }
        matched
    }

    /// Replaces addresses in all of the configuration, also where they stand without a name: all of them at once, since two
    /// adapters may change theirs for each other's.
    fn replace_addresses(&mut self, pairs: &[(String, String)], changes: &mut Vec<String>) -> crate::Result<()> {
        if pairs.is_empty() {
            return Ok(());
        }
        let tree = &mut self.system.tree;
        for file in files(tree) {
            let Some(text) = tree.text(&file) else { continue };
            let (new, replaced) = with_addresses(&text, pairs);
            if new != text {
                tree.set_text(&file, &new)?;
                changes.extend(replaced.into_iter().map(|(before, after)| format!("{file}: {before} is {after}")));
            }
        }
        Ok(())
    }

    /// Calls an adapter by another name wherever the configuration speaks of it.
    fn rename(&mut self, used: &[Used], from: &str, to: &str, changes: &mut Vec<String>) -> crate::Result<()> {
        let tree = &mut self.system.tree;
        let mut files: Vec<&str> = used.iter().map(|used| used.file.as_str()).collect();
        files.sort_unstable();
        files.dedup();
        for file in files {
            let Some(text) = tree.text(file) else { continue };
            let new = with_word(&text, from, to);
            if new != text {
                tree.set_text(file, &new)?;
                changes.push(format!("{file}: {from} is {to}"));
            }
            // Files of this kind are called by the adapter.
            if let Some(folder) = file.strip_suffix(&format!("/ifcfg-{from}")) {
                let bytes = tree.read(file, 1 << 20)?;
                let stat = tree.stat(file)?;
                let place = format!("{folder}/ifcfg-{to}");
                tree.write(&place, &bytes)?;
                tree.set_owner(&place, stat.uid, stat.gid, stat.mode)?;
                tree.remove(file)?;
            }
        }
        Ok(())
    }

    /// Lets files that go by the place of an adapter's card go by its name.
    fn leave_places(&mut self, used: &[Used], name: &str, kept: &str, changes: &mut Vec<String>) -> crate::Result<()> {
        for one in used.iter().filter(|one| one.name == name) {
            let Some(path) = &one.path else { continue };
            let tree = &mut self.system.tree;
            let Some(text) = tree.text(&one.file) else { continue };
            tree.set_text(&one.file, &by_path::by_name(&text, &one.file, kept))?;
            changes.push(format!("{}: the card at {path} is {kept}", one.file));
        }
        Ok(())
    }

    /// Gives a name to an address.
    fn pin(&mut self, name: &str, mac: &str) -> crate::Result<()> {
        let system = &mut *self.system;
        let modern = system.has_systemd();
        let tree = &mut system.tree;
        if modern {
            tree.make_folders("/etc/systemd/network")?;
            // What is built on an adapter may have its address too; only hardware has a path.
            let text = format!(
                "# Keeps the name that this system's configuration goes by.\n[Match]\nMACAddress={mac}\nPath=*\n\n[Link]\nName={name}\n"
            );
            return tree.write(format!("/etc/systemd/network/10-keep-{name}.link"), text.as_bytes());
        }
        let text = tree.text(RULES).unwrap_or_default();
        let quoted = format!("NAME=\"{name}\"");
        let kept: String = text.split_inclusive('\n').filter(|line| !line.contains(&quoted)).collect();
        let gap = if kept.is_empty() || kept.ends_with('\n') { "" } else { "\n" };
        let rule = format!(
            "SUBSYSTEM==\"net\", ACTION==\"add\", DRIVERS==\"?*\", ATTR{{address}}==\"{mac}\", ATTR{{type}}==\"1\", {quoted}\n"
        );
        tree.make_folders("/etc/udev/rules.d")?;
        tree.set_text(RULES, &format!("{kept}{gap}{rule}"))
    }
}

/// `text` with each address of the first kind replaced by the second of its pair, and the pairs that were found.
fn with_addresses<'p>(text: &str, pairs: &'p [(String, String)]) -> (String, Vec<&'p (String, String)>) {
    // The same letters in any case, at the same places.
    let small = text.to_ascii_lowercase();
    let mut found: Vec<(usize, &(String, String))> =
        pairs.iter().flat_map(|pair| small.match_indices(&pair.0).map(move |(at, _)| (at, pair))).collect();
    found.sort_by_key(|(at, _)| *at);
    let mut new = String::with_capacity(text.len());
    let mut replaced: Vec<&(String, String)> = Vec::new();
    let mut done = 0;
    for (at, pair) in found {
        let Some(between) = text.get(done..at) else { continue };
        new.push_str(between);
        new.push_str(&pair.1);
        done = at + pair.0.len();
        if !replaced.contains(&pair) {
            replaced.push(pair);
        }
    }
    new.push_str(text.get(done..).unwrap_or_default());
    (new, replaced)
}

/// `text` with a word replaced wherever it stands alone.
#[expect(clippy::string_slice, reason = "cut where the word was found and where it ends")]
fn with_word(text: &str, from: &str, to: &str) -> String {
    let is_part = |c: char| c.is_ascii_alphanumeric() || c == '-' || c == '_';
    let mut result = String::with_capacity(text.len());
    let mut at = 0;
    for (found, _) in text.match_indices(from) {
        let before = text[..found].chars().next_back();
        let after = text[found + from.len()..].chars().next();
        if before.is_some_and(is_part) || after.is_some_and(is_part) || found < at {
            continue;
        }
        result.push_str(&text[at..found]);
        result.push_str(to);
        at = found + from.len();
    }
    result.push_str(&text[at..]);
    result
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn two_adapters_may_change_their_addresses_for_each_others() {
        let (a, b) = ("02:5a:17:00:00:0a".to_string(), "02:5a:17:00:00:0b".to_string());
        let pairs = [(a.clone(), b.clone()), (b.clone(), a.clone())];
        let text = format!("one {} two {b} three {a}\n", a.to_uppercase());
        assert_eq!(with_addresses(&text, &pairs).0, format!("one {b} two {a} three {b}\n"));
        assert_eq!(with_addresses("none", &pairs), ("none".to_string(), Vec::new()));
    }

    #[test]
    fn words_and_order() {
        assert_eq!(with_word("auto ens3 ens33 bens3 ens3.7:", "ens3", "ens9"), "auto ens9 ens33 bens3 ens9.7:");
        let mut names = vec!["eth10", "ens5", "eth9"];
        names.sort_by_key(|name| natural(name));
        assert_eq!(names, ["ens5", "eth9", "eth10"]);
    }
}
