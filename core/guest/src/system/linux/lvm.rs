//! By what LVM2 decides which devices it looks at (`man 5 lvm.conf`, `filter`, `global_filter`; `man 8 lvmdevices`): patterns of names, and a list of
//! devices by their identities.

use std::ops::Range;

use regex::RegexBuilder;

/// Its settings.
pub(crate) const SETTINGS: &str = "/etc/lvm/lvm.conf";
/// Its list of devices.
pub(crate) const DEVICES: &str = "/etc/lvm/devices/system.devices";
/// What the list is called once it is of another host.
pub(crate) const OLD_DEVICES: &str = "/etc/lvm/devices/system.devices.before-move";
/// A filter that lets everything pass.
const OPEN: &str = "[ \"a|.*|\" ]";
/// Patterns of a list that are understood.
const MOST_PATTERNS: usize = 256;
/// Memory that one pattern of a stranger's may come to.
const MAX_PATTERN: usize = 1 << 16;

/// Where each line's comment begins, and with that where settings end.
fn without_comment(line: &str) -> &str {
    let mut is_quoted = false;
    let end = line.char_indices().find(|(_, c)| {
        is_quoted ^= *c == '"';
        *c == '#' && !is_quoted
    });
    end.and_then(|(at, _)| line.get(..at)).unwrap_or(line)
}

/// The values of a setting, by their places in the text: a list in brackets as a whole, which may go over several lines.
fn values(text: &str, name: &str) -> Vec<Range<usize>> {
    let mut found = Vec::new();
    let mut at = 0;
    for line in text.split_inclusive('\n') {
        let start = at;
        at += line.len();
        let plain = without_comment(line);
        let Some((key, value)) = plain.split_once('=').filter(|(key, _)| key.trim() == name) else { continue };
        let begin = start + key.len() + 1 + (value.len() - value.trim_start().len());
        let end = match value.trim_start().starts_with('[') {
            true => text.get(begin..).and_then(end_of_list).map(|len| begin + len),
            false => Some(begin + value.trim().len()),
        };
        found.extend(end.map(|end| begin..end));
    }
    found
}

/// Bytes of a list in brackets; those in quotes end nothing.
fn end_of_list(text: &str) -> Option<usize> {
    let mut is_quoted = false;
    let end = text.char_indices().find(|(_, c)| {
        is_quoted ^= *c == '"';
        *c == ']' && !is_quoted
    });
    end.map(|(at, _)| at + 1)
}

/// The words in quotes of a value.
fn quoted(value: &str) -> impl Iterator<Item = &str> {
    value.split('"').skip(1).step_by(2)
}

/// Whether patterns let a name pass; `None` where one of them is not understood.
fn passes(value: &str, name: &str) -> Option<bool> {
    for (number, pattern) in quoted(value).enumerate() {
        if number >= MOST_PATTERNS {
            return None;
        }
        let mut letters = pattern.chars();
        let takes = match letters.next()? {
            'a' => true,
            'r' => false,
            _ => return None,
        };
        let mark = letters.next()?;
        let pattern = letters.as_str().strip_suffix(mark)?;
        let regex = RegexBuilder::new(pattern).size_limit(MAX_PATTERN).build().ok()?;
        if regex.is_match(name) {
            return Some(takes);
        }
    }
    // What none of them says anything of passes.
    Some(true)
}

/// Whether the settings let LVM look at a device of this name; `None` where they are not understood.
pub(crate) fn sees(settings: &str, name: &str) -> Option<bool> {
    let mut sees = true;
    for range in ["filter", "global_filter"].into_iter().flat_map(|key| values(settings, key)) {
        sees &= passes(settings.get(range)?, name)?;
    }
    Some(sees)
}

/// The settings with filters that let everything pass.
pub(crate) fn opened(settings: &str) -> String {
    let mut ranges: Vec<Range<usize>> =
        ["filter", "global_filter"].into_iter().flat_map(|key| values(settings, key)).collect();
    ranges.sort_by_key(|range| std::cmp::Reverse(range.start));
    let mut text = settings.to_string();
    for range in ranges {
        text.replace_range(range, OPEN);
    }
    text
}

/// Whether the settings switch the list of devices off.
pub(crate) fn ignores_list(settings: &str) -> bool {
    values(settings, "use_devicesfile").into_iter().next_back().is_some_and(|range| settings.get(range) == Some("0"))
}

/// The settings with the list of devices switched off.
pub(crate) fn without_list(settings: &str) -> String {
    let mut text = settings.to_string();
    let known = values(settings, "use_devicesfile");
    if !known.is_empty() {
        for range in known.into_iter().rev() {
            text.replace_range(range, "0");
        }
        return text;
    }
    // In the section that is there, or in one of its own.
    let mut at = 0;
    for line in settings.split_inclusive('\n') {
        at += line.len();
        if without_comment(line).split_whitespace().collect::<String>() == "devices{" {
            text.insert_str(at, "\tuse_devicesfile = 0\n");
            return text;
        }
    }
    if !text.is_empty() && !text.ends_with('\n') {
        text.push('\n');
    }
    text + "devices {\n\tuse_devicesfile = 0\n}\n"
}

/// Whether a list of devices goes by what a move changes: the identities of disks, or their names. Those of arrays, of encrypted volumes and of
/// logical ones stay.
pub(crate) fn is_of_host(list: &str) -> bool {
    let lines = list.lines().map(str::trim).filter(|line| !line.starts_with('#'));
    let kinds = lines.flat_map(str::split_whitespace).filter_map(|word| word.strip_prefix("IDTYPE="));
    kinds.into_iter().any(|kind| !matches!(kind, "md_uuid" | "crypt_uuid" | "lvmlv_uuid" | "loop_file"))
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    const TEXT: &str = "# filter = [ \"r|.*|\" ]\ndevices {\n\tdir = \"/dev\"\n\tfilter = [ \"a|^/dev/sda|\",\n\t\t\"r|.*|\" ] # those\n\tglobal_filter=[\"r/drbd/\"]\n}\nactivation { checks = 1 }\n";

    #[test]
    fn filters_are_understood_and_opened() {
        assert_eq!(sees(TEXT, "/dev/sda2"), Some(true));
        assert_eq!(sees(TEXT, "/dev/vda2"), Some(false));
        assert_eq!(sees("", "/dev/vda2"), Some(true));
        assert_eq!(sees("filter = [ \"a|^/dev/[sv]da|\", \"r|.*|\" ]", "/dev/vda2"), Some(true));
        assert_eq!(sees("filter = [ \"x|a|\" ]", "/dev/vda2"), None);
        assert_eq!(sees("filter = [ \"a|(|\" ]", "/dev/vda2"), None);
        let open = opened(TEXT);
        assert_eq!(sees(&open, "/dev/vda2"), Some(true));
        assert!(open.contains("# those") && open.contains("checks = 1") && open.starts_with("# filter"), "{open}");
    }

    #[test]
    fn the_list_is_switched_off_where_settings_have_it() {
        for text in [TEXT, "", "devices {\n}\n", "devices {\n\tuse_devicesfile = 1\n}\n", "log { level = 1 }"] {
            assert!(!ignores_list(text));
            let off = without_list(text);
            assert!(ignores_list(&off), "{off}");
            assert_eq!(off.matches("use_devicesfile").count(), 1);
            assert_eq!(off.matches("devices {").count(), 1, "{off}");
        }
        assert!(is_of_host("VERSION=1.1.1\nIDTYPE=sys_wwid IDNAME=naa.5 DEVNAME=/dev/sda2 PVID=x PART=2\n"));
        assert!(!is_of_host("# IDTYPE=sys_wwid\nIDTYPE=md_uuid IDNAME=x DEVNAME=/dev/md0 PVID=x\n") && !is_of_host(""));
    }

    proptest! {
        #[test]
        fn any_text_is_lived_through(text in "[filter=\\[\\]\"|ar/#\n {}.*(+)devics_]{0,80}") {
            sees(&text, "/dev/sda");
            prop_assert!(ignores_list(&without_list(&text)) || text.contains('#') || text.contains('"') || text.contains('['));
            opened(&text);
            is_of_host(&text);
        }
    }
}
