//! The labels that SELinux's policy has for files (`file_contexts(5)`, `selabel_file(5)`): what is made new gets its own, so that
//! nothing has to be labelled again.

use std::cell::OnceCell;

use reformis_disk::budget::Hold;
use regex::bytes::{Regex, RegexBuilder};

use crate::fs::{
    node::Kind,
    tree::{Label, Labels, Tree},
};

/// The largest file of rules.
const MAX_RULES: u64 = 8 << 20;
/// Bytes that one rule's automaton may have.
const MAX_AUTOMATON: usize = 1 << 20;
/// Rules that are tried for one path; a policy has a few hundred at most that begin like it.
const MAX_TRIED: usize = 4096;

/// The rules of a policy.
pub(crate) struct Contexts {
    /// Those for one path alone come last, and the last one that fits counts.
    rules: Vec<Rule>,
    /// Paths that stand for others, longest first.
    same: Vec<(String, String)>,
    _hold: Hold,
}

struct Rule {
    pattern: String,
    /// What each path that fits begins with; the whole path when `is_exact`.
    start: String,
    is_exact: bool,
    kind: Option<Kind>,
    /// `None` where the policy says that there is to be none.
    label: Option<String>,
    regex: OnceCell<Option<Regex>>,
}

impl Contexts {
    /// The rules of the policy that is in force; `None` when there is none, or when files have no labels.
    pub(crate) fn read(tree: &Tree) -> Option<Self> {
        let config = tree.text("/etc/selinux/config")?;
        let value = |key: &str| {
            let mut lines = config.lines().filter_map(|line| line.trim().split_once('='));
            lines.find(|(name, _)| name.trim() == key).map(|(_, value)| value.trim().to_string())
        };
        let policy = value("SELINUXTYPE").filter(|name| !name.is_empty() && !name.contains('/'))?;
        let labelled = tree.attributes("/").ok()?.iter().any(|(name, _)| name == b"security.selinux");
        if value("SELINUX").as_deref() == Some("disabled") || !labelled {
            return None;
        }
        let base = format!("/etc/selinux/{policy}/contexts/files/file_contexts");
        let mut hold = tree.budget().hold();
        let mut text = |path: &str| -> Option<String> {
            let bytes = tree.some(path, MAX_RULES)?;
            // The text, its parts, and what is remembered of each line.
            hold.grow(4 * bytes.len() as u64).ok()?;
            String::from_utf8(bytes).ok()
        };
        let mut rules: Vec<Rule> = text(&base)?.lines().filter_map(Rule::of).collect();
        for more in ["homedirs", "local"] {
            rules.extend(text(&format!("{base}.{more}")).unwrap_or_default().lines().filter_map(Rule::of));
        }
        rules.sort_by_key(|rule| rule.is_exact);
        let mut same = Vec::new();
        for more in ["subs", "subs_dist"] {
            let text = text(&format!("{base}.{more}")).unwrap_or_default();
            let pairs = text.lines().filter(|line| !line.trim_start().starts_with('#')).filter_map(|line| {
                let mut words = line.split_whitespace();
                Some((words.next()?.to_string(), words.next()?.to_string()))
            });
            same.extend(pairs);
        }
        same.sort_by_key(|(alias, _)| std::cmp::Reverse(alias.len()));
        Some(Self { rules, same, _hold: hold })
    }

    /// A path as the rules have it.
    fn plain(&self, path: &str) -> String {
        let found = self.same.iter().find_map(|(alias, target)| {
            let rest = path.strip_prefix(alias.as_str())?;
            (rest.is_empty() || rest.starts_with('/')).then(|| format!("{}{rest}", target.trim_end_matches('/')))
        });
        found.unwrap_or_else(|| path.to_string())
    }

    fn find(&self, path: &str, kind: Kind) -> Label {
        let path = self.plain(path);
        let mut tried = 0;
        for rule in self.rules.iter().rev() {
            if rule.kind.is_some_and(|wanted| wanted != kind) || !path.starts_with(&rule.start) {
                continue;
            }
            let fits = if rule.is_exact {
                path == rule.start
            } else {
                tried += 1;
                match rule.regex() {
                    Some(regex) if tried <= MAX_TRIED => regex.is_match(path.as_bytes()),
                    // A rule that cannot be read may be the one that counts.
                    _ => return Label::Unknown,
                }
            };
            if fits {
                return rule.label.as_ref().map_or(Label::None, |label| Label::Is(format!("{label}\0").into_bytes()));
            }
        }
        Label::None
    }
}

impl Labels for Contexts {
    fn label(&self, path: &[u8], kind: Kind) -> Label {
        std::str::from_utf8(path).map_or(Label::Unknown, |path| self.find(path, kind))
    }
}

impl Rule {
    /// A line: a pattern, a kind of file, and a label.
    fn of(line: &str) -> Option<Self> {
        let words: Vec<&str> = line.split_whitespace().collect();
        let (pattern, kind, label) = match words[..] {
            [pattern, ..] if pattern.starts_with('#') => return None,
            [pattern, label] => (pattern, None, label),
            [pattern, kind, label] => (pattern, Some(kind), label),
            _ => return None,
        };
        let kind = match kind {
            None => None,
            Some("--") => Some(Kind::File),
            Some("-d") => Some(Kind::Folder),
            Some("-l") => Some(Kind::Link),
            // Devices, pipes and sockets are not made here.
            Some(_) => Some(Kind::Other),
        };
        let (start, is_exact) = literal_start(pattern);
        let label = (label != "<<none>>").then(|| label.to_string());
        Some(Self { pattern: pattern.into(), start, is_exact, kind, label, regex: OnceCell::new() })
    }

    fn regex(&self) -> Option<&Regex> {
        let make = || {
            let whole = format!("^(?:{})$", self.pattern);
            let mut builder = RegexBuilder::new(&whole);
            builder.unicode(!self.pattern.is_ascii()).dot_matches_new_line(true).size_limit(MAX_AUTOMATON);
            builder.dfa_size_limit(MAX_AUTOMATON).build().ok()
        };
        self.regex.get_or_init(make).as_ref()
    }
}

/// Whether these rules say something of a path, for the fuzzers.
pub(crate) fn is_known(text: &str, path: &str) -> bool {
    let mut rules: Vec<Rule> = text.lines().filter_map(Rule::of).collect();
    rules.sort_by_key(|rule| rule.is_exact);
    let all = Contexts { rules, same: Vec::new(), _hold: reformis_disk::budget::Budget::whole().hold() };
    !matches!(all.find(path, Kind::File), Label::Unknown)
}

/// What all paths that fit a pattern begin with, and whether that is the only one.
fn literal_start(pattern: &str) -> (String, bool) {
    let mut start = String::new();
    let mut chars = pattern.chars();
    while let Some(c) = chars.next() {
        match c {
            '\\' => match chars.next() {
                // A letter behind it stands for several characters.
                Some(next) if !next.is_ascii_alphanumeric() => start.push(next),
                _ => return (start, false),
            },
            // The one before may be there or not.
            '?' | '*' | '{' => {
                start.pop();
                return (start, false);
            }
            '|' => return (String::new(), false),
            '.' | '^' | '$' | '+' | '[' | '(' => {
                let inside = pattern.bytes().scan(0i32, |depth, byte| {
                    *depth += i32::from(byte == b'(') - i32::from(byte == b')');
                    Some((*depth, byte))
                });
                let either = inside.into_iter().any(|(depth, byte)| depth == 0 && byte == b'|');
                return (if either { String::new() } else { start }, false);
            }
            c => start.push(c),
        }
    }
    (start, true)
}

#[cfg(test)]
mod tests {
    use super::*;

    fn contexts(text: &str, same: &[(&str, &str)]) -> Contexts {
        let mut rules: Vec<Rule> = text.lines().filter_map(Rule::of).collect();
        rules.sort_by_key(|rule| rule.is_exact);
        let same = same.iter().map(|(a, b)| ((*a).to_string(), (*b).to_string())).collect();
        Contexts { rules, same, _hold: reformis_disk::budget::Budget::whole().hold() }
    }

    #[test]
    fn the_last_rule_that_fits_counts_and_one_path_alone_before_all() {
        let all: Contexts = contexts(
            "# made up\n/.*\tsystem_u:object_r:default_t:s0\n/etc/tide\\.conf\t--\tu:r:tide_conf_t:s0\n\
             /etc(/.*)?\tu:r:etc_t:s0\n/etc/net[^/]*/.*\t--\tu:r:net_conf_t:s0\n/proc(/.*)?\t<<none>>\n\
             /usr/lib(64)?/tide\t-d\tu:r:lib_t:s0\n",
            &[("/lib64", "/usr/lib64"), ("/run", "/var/run")],
        );
        let label = |path: &str, kind| match all.find(path, kind) {
            Label::Is(bytes) => String::from_utf8(bytes).unwrap().split(':').nth(2).unwrap().to_string(),
            Label::None => "none".into(),
            Label::Unknown => "unknown".into(),
        };
        assert_eq!(label("/etc/tide.conf", Kind::File), "tide_conf_t");
        assert_eq!(label("/etc/tidexconf", Kind::File), "etc_t");
        assert_eq!(label("/etc/tide.conf", Kind::Folder), "etc_t");
        assert_eq!(label("/etc/network/a", Kind::File), "net_conf_t");
        assert_eq!(label("/etc/network/a", Kind::Folder), "etc_t");
        assert_eq!(label("/etcetera", Kind::File), "default_t");
        assert_eq!(label("/proc/1", Kind::File), "none");
        assert_eq!(label("/lib64/tide", Kind::Folder), "lib_t");
        assert_eq!(label("/lib64x/tide", Kind::Folder), "default_t");
    }

    #[test]
    fn what_a_pattern_begins_with_is_what_all_of_its_paths_do() {
        for (pattern, start, is_exact) in [
            ("/etc/a\\.b", "/etc/a.b", true),
            ("/usr/lib(64)?/x", "/usr/lib", false),
            ("/var/logs?", "/var/log", false),
            ("/a|/b", "", false),
            ("/a/(b|c)", "/a/", false),
            ("/x[0-9]|/y", "", false),
            ("/a/\\d+", "/a/", false),
        ] {
            assert_eq!(literal_start(pattern), (start.to_string(), is_exact), "{pattern}");
        }
    }

    /// Made by a stranger: a rule that would take much memory or time says nothing.
    #[test]
    fn a_hostile_rule_is_not_known_rather_than_slow() {
        let all: Contexts = contexts("/.*\tu:r:default_t:s0\n/(((a{1,900}){1,900}){1,900})\tu:r:x_t:s0\n", &[]);
        assert!(matches!(all.find("/b", Kind::File), Label::Unknown));
        let many = "/.*b\tu:r:x_t:s0\n".repeat(5000);
        assert!(matches!(contexts(&many, &[]).find("/a", Kind::File), Label::Unknown));
    }
}
