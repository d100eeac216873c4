//! A kernel's modules: which of them drives a device, and what else it needs (kmod, `man 5 modules.dep`; Linux,
//! `Documentation/kbuild/kbuild.rst` for `modules.builtin`).

use std::collections::{BTreeMap, BTreeSet, HashMap, HashSet};

use reformis_disk::budget::Hold;

use crate::fs::tree::Tree;

/// The longest of a kernel's index files that is read, in bytes.
const MAX_INDEX: u64 = 32 << 20;

/// A module's file and what it needs, by names.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) struct Module {
    /// Path of its file below the kernel's folder.
    pub(crate) path: String,
    /// Modules that are loaded before it.
    pub(crate) needs: Vec<String>,
}

/// The modules of one kernel.
#[derive(Debug, Default)]
pub(crate) struct Modules {
    /// By name, with underscores.
    pub(crate) files: BTreeMap<String, Module>,
    /// Patterns of device names, and the module that each stands for.
    aliases: Vec<(String, String)>,
    /// Modules that are part of the kernel.
    builtin: HashSet<String>,
    builtin_aliases: Vec<(String, String)>,
    /// What a module wants beside it, as far as it is there.
    soft: BTreeMap<String, Vec<String>>,
    /// What all of that takes.
    _hold: Option<Hold>,
}

/// What drives a device.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) enum Driver {
    /// Part of the kernel: the module's name.
    Builtin(String),
    /// A module of this name.
    Module(String),
}

/// The name of a module by its path: dashes are underscores.
pub(crate) fn name_of(path: &str) -> String {
    let file = path.rsplit('/').next().unwrap_or(path);
    let stem = file.split_once(".ko").map_or(file, |(stem, _)| stem);
    stem.replace('-', "_")
}

impl Modules {
    /// Reads the indexes in `folder`, such as `/lib/modules/6.1.0`; `None` when there is no list of modules, or no room in the
    /// budget for it.
    pub(crate) fn read(tree: &Tree, folder: &str) -> Option<Self> {
        let mut hold = tree.budget().hold();
        let mut text = |name: &str| {
            let bytes = tree.some(format!("{folder}/{name}"), MAX_INDEX)?;
            // About as much is kept as is read.
            tree.noted(name, hold.grow(bytes.len() as u64).map_err(Into::into))?;
            Some(String::from_utf8_lossy(&bytes).into_owned())
        };
        let mut modules = Self::default();
        modules.take_dependencies(&text("modules.dep")?);
        modules.take_aliases(&text("modules.alias").unwrap_or_default());
        modules.take_soft(&text("modules.softdep").unwrap_or_default());
        modules.builtin = text("modules.builtin").unwrap_or_default().lines().map(name_of).collect();
        modules.take_builtin_aliases(&text("modules.builtin.modinfo").unwrap_or_default());
        modules._hold = Some(hold);
        Some(modules)
    }

    /// From the texts of its indexes, behind one another with zero bytes between them.
    pub(crate) fn of_texts(text: &str) -> Self {
        let mut parts = text.split('\0');
        let mut next = || parts.next().unwrap_or_default();
        let mut modules = Self::default();
        modules.take_dependencies(next());
        modules.take_aliases(next());
        modules.take_soft(next());
        modules.builtin = next().lines().map(name_of).collect();
        modules.take_builtin_aliases(text);
        modules
    }

    fn take_dependencies(&mut self, text: &str) {
        for line in text.lines() {
            let Some((path, needs)) = line.split_once(':') else { continue };
            let needs = needs.split_whitespace().map(name_of).collect();
            self.files.insert(name_of(path), Module { path: path.trim().into(), needs });
        }
    }

    fn take_aliases(&mut self, text: &str) {
        self.aliases = text
            .lines()
            .filter_map(|line| {
                let (pattern, module) = line.strip_prefix("alias ")?.rsplit_once(' ')?;
                Some((pattern.to_string(), module.replace('-', "_")))
            })
            .collect();
    }

    fn take_soft(&mut self, text: &str) {
        for line in text.lines() {
            let mut words = line.split_whitespace();
            if words.next() != Some("softdep") {
                continue;
            }
            let Some(module) = words.next() else { continue };
            let wanted = words.filter(|word| !word.ends_with(':')).map(|word| word.replace('-', "_"));
            self.soft.entry(module.replace('-', "_")).or_default().extend(wanted);
        }
    }

    fn take_builtin_aliases(&mut self, text: &str) {
        self.builtin_aliases = text
            .split('\0')
            .filter_map(|entry| {
                let (module, pattern) = entry.split_once(".alias=")?;
                Some((pattern.to_string(), module.replace('-', "_")))
            })
            .collect();
    }

    /// What drives the device called `modalias`. Kernels that do not tell what their built-in drivers are for are asked for
    /// `known`, the name that the driver has everywhere.
    pub(crate) fn driver(&self, modalias: &str, known: &str) -> Option<Driver> {
        let fits = |(pattern, _): &&(String, String)| matches(pattern, modalias);
        let builtin = self.builtin_aliases.iter().find(fits).map(|(_, module)| Driver::Builtin(module.clone()));
        let named = || self.builtin.contains(known).then(|| Driver::Builtin(known.to_string()));
        builtin.or_else(named).or_else(|| {
            let all: Vec<&String> = self.aliases.iter().filter(fits).map(|(_, module)| module).collect();
            // Several may fit: the one that is known for it counts.
            let chosen = all.iter().find(|module| **module == known).or_else(|| all.first());
            chosen.map(|module| Driver::Module((*module).clone()))
        })
    }

    /// `module` and everything that is loaded with it, without what is part of the kernel.
    pub(crate) fn closure(&self, module: &str) -> Vec<String> {
        let mut found: BTreeSet<&str> = BTreeSet::new();
        let mut todo: Vec<&str> = vec![module];
        // Made when something is wanted: each alias is looked at once.
        let mut aliases: Option<HashMap<String, &str>> = None;
        while let Some(name) = todo.pop() {
            let Some((name, file)) = self.files.get_key_value(name) else { continue };
            if !found.insert(name) {
                continue;
            }
            todo.extend(file.needs.iter().map(String::as_str));
            for wanted in self.soft.get(name).into_iter().flatten() {
                // What is wanted may be a module, or an alias of one.
                if self.files.contains_key(wanted) {
                    todo.push(wanted);
                    continue;
                }
                let aliases = aliases.get_or_insert_with(|| {
                    let pairs = self.aliases.iter().rev();
                    pairs.map(|(pattern, name)| (pattern.replace('-', "_"), name.as_str())).collect()
                });
                todo.extend(aliases.get(wanted.as_str()));
            }
        }
        found.into_iter().map(str::to_string).collect()
    }
}

/// Whether `name` fits a pattern with `*`, `?` and sets in brackets.
#[expect(clippy::indexing_slicing, reason = "both places are compared with the lengths before they are used")]
pub(crate) fn matches(pattern: &str, name: &str) -> bool {
    let (pattern, name) = (pattern.as_bytes(), name.as_bytes());
    let (mut p, mut n) = (0, 0);
    // Where the last star was, and how much it had taken.
    let mut star: Option<(usize, usize)> = None;
    while n < name.len() {
        match pattern.get(p) {
            Some(b'*') => {
                star = Some((p, n));
                p += 1;
                continue;
            }
            Some(b'[') => {
                if let Some((end, true)) = set(&pattern[p..], name[n]) {
                    p += end;
                    n += 1;
                    continue;
                }
            }
            Some(b'?') => {
                p += 1;
                n += 1;
                continue;
            }
            Some(byte) if *byte == name[n] => {
                p += 1;
                n += 1;
                continue;
            }
            _ => {}
        }
        match star {
            Some((at, taken)) => {
                star = Some((at, taken + 1));
                p = at + 1;
                n = taken + 1;
            }
            None => return false,
        }
    }
    pattern[p..].iter().all(|byte| *byte == b'*')
}

/// The length of the set that `pattern` begins with, and whether `byte` is in it.
#[expect(clippy::indexing_slicing, reason = "both places are compared with the lengths before they are used")]
fn set(pattern: &[u8], byte: u8) -> Option<(usize, bool)> {
    let end = pattern.iter().position(|byte| *byte == b']')?;
    let mut inside = &pattern[1..end];
    let mut found = false;
    loop {
        inside = match inside {
            [from, b'-', to, rest @ ..] => {
                found |= (*from..=*to).contains(&byte);
                rest
            }
            [one, rest @ ..] => {
                found |= *one == byte;
                rest
            }
            [] => return Some((end + 1, found)),
        };
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn modules() -> Modules {
        let mut modules = Modules::default();
        modules.take_dependencies(
            "kernel/a/virtio_scsi.ko: kernel/b/virtio.ko kernel/b/virtio_ring.ko.xz\nkernel/b/virtio.ko: kernel/b/virtio_ring.ko.xz\nkernel/b/virtio_ring.ko.xz:\nkernel/c/tide-crc.ko:\nkernel/c/loop.ko: kernel/c/loop.ko\n",
        );
        modules.take_aliases("# a list\nalias virtio:d00000008v* virtio_scsi\nalias crypto-tide tide_crc\n");
        modules.take_soft("softdep virtio_scsi pre: crypto-tide post: nowhere\n");
        modules.builtin.insert("sd_mod".into());
        modules.take_builtin_aliases("nvme.alias=pci:v*d*sv*sd*bc01sc08i02*\0nvme.license=GPL\0");
        modules
    }

    #[test]
    fn drivers_and_what_they_need() {
        let modules = modules();
        let driver = |name, known| modules.driver(name, known);
        assert_eq!(driver("virtio:d00000008v00001AF4", "x"), Some(Driver::Module("virtio_scsi".into())));
        assert_eq!(driver("pci:v1d2sv3sd4bc01sc08i02", "x"), Some(Driver::Builtin("nvme".into())));
        assert_eq!(driver("scsi:t-0x00", "sd_mod"), Some(Driver::Builtin("sd_mod".into())));
        assert_eq!(driver("scsi:t-0x00", "x"), None);
        assert_eq!(modules.closure("virtio_scsi"), ["tide_crc", "virtio", "virtio_ring", "virtio_scsi"]);
        assert_eq!(modules.closure("loop"), ["loop"]);
    }

    #[test]
    fn patterns() {
        assert!(matches("pci:v00001AF4d*sv*sd*bc*sc*i*", "pci:v00001AF4d00001048sv00001AF4sd00001100bc01sc00i00"));
        assert!(
            matches("a*b*c", "axxbyyc")
                && !matches("a*b*c", "axxbyy")
                && matches("[0-3x]?", "2z")
                && matches("x[ab]", "xb")
        );
        assert!(!matches("[0-3]", "4") && !matches("[0-3", "1") && matches("*", "") && !matches("", "x"));
    }
}
