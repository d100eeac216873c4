//! The edit `console`: the boot manager and the system answer on the serial port that the new host shows.

use super::Edits;
use crate::{
    error::Result,
    fs::tree::Tree,
    refit::work::Changes,
    system::nt::{PLACES, boot_store, candidates, hives},
};

/// What is said where the rule names no speed, in bits a second.
const SPEED: u64 = 115_200;

/// A serial port as a loader counts them.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
struct Port {
    /// From 1 on.
    number: u64,
    /// Bits a second.
    speed: u64,
}

impl Port {
    /// The port that a kernel's word means, `ttyS0,115200n8`; only those of the machine's own hardware count here.
    fn of(word: &str) -> Option<Self> {
        let (device, speed) = word.split_once(',').unwrap_or((word, ""));
        let number: u64 = device.strip_prefix("ttyS")?.parse().ok().filter(|number| *number < 4)?;
        let digits = speed.split(|c: char| !c.is_ascii_digit()).next().unwrap_or_default();
        Some(Self { number: number + 1, speed: digits.parse().unwrap_or(SPEED) })
    }
}

impl Edits<'_, '_> {
    pub(crate) fn console(&mut self) -> Changes {
        let port = self.work.hardware.rules.serial_console.as_deref().and_then(Port::of);
        let Some(port) = port.filter(|_| self.work.is_first) else { return Ok(Vec::new()) };
        let now = self.work.now;
        let store = |tree: &Tree| PLACES.into_iter().find(|path| tree.exists(path));
        if let Some(path) = store(&self.system.tree) {
            return answering(&mut self.system.tree, path, port, now);
        }
        for index in candidates(&self.work.guest.volumes) {
            if index == self.system.root {
                continue;
            }
            let Some(mut tree) = self.work.guest.volume_tree(index, now)? else { continue };
            if let Some(path) = store(&tree) {
                return answering(&mut tree, path, port, now);
            }
        }
        Ok(Vec::new())
    }
}

/// Lets the loader and the system that it starts by itself answer on `port`, in the store at `path`.
fn answering(tree: &mut Tree, path: &str, port: Port, now: i64) -> Result<Vec<String>> {
    let mut hive = hives::open(tree, path, now)?;
    if !boot_store::answer_on(&mut hive, port.number, port.speed)? {
        return Ok(Vec::new());
    }
    let changed = hives::write(tree, path, &mut hive)?;
    let sentence = || format!("{path}: the loader and the system answer on COM{} at {} bit/s", port.number, port.speed);
    Ok((!changed.is_empty()).then(sentence).into_iter().collect())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn ports_are_those_of_the_hardware() {
        for (word, expected) in [
            ("ttyS0,115200n8", Some((1, 115_200))),
            ("ttyS1,9600", Some((2, 9600))),
            ("ttyS0", Some((1, SPEED))),
            ("ttyS9", None),
            ("hvc0", None),
            ("tty0", None),
        ] {
            assert_eq!(Port::of(word).map(|port| (port.number, port.speed)), expected, "{word}");
        }
    }
}
