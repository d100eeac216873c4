//! Whether a guest will boot, in one line above the chain of boot evidence.

use std::fmt;

use reformis_guest::{Evidence, Link, State};
use serde::{Deserialize, Serialize};

use crate::record::Chain;

/// Whether a guest will boot.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Boots {
    /// It will.
    Yes,
    /// It will not.
    No,
    /// That cannot be told.
    Unknown,
}

/// One line that says whether a guest will boot, and what decides that.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Verdict {
    /// Where: the name of a destination, or words for the hardware that it has now.
    pub on: String,
    /// Whether it will.
    pub boots: Boots,
    /// Number of edits that this takes, or took.
    pub edits: usize,
    /// Why not, or why that cannot be told.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub why: Option<String>,
}

impl Verdict {
    /// The verdict on a guest whose systems have `chains`; the first is the one that counts. `otherwise` is why nothing can be
    /// told where there are none.
    pub(crate) fn of(on: &str, chains: &[Chain], edits: usize, otherwise: Option<String>) -> Self {
        let verdict = |boots, why| Self { on: on.into(), boots, edits, why };
        let Some(chain) = chains.first().filter(|chain| !chain.links.is_empty()) else {
            let why = otherwise.unwrap_or_else(|| "no system was found whose boot chain can be read".into());
            return verdict(Boots::Unknown, Some(why));
        };
        let needed = || needed(&chain.links);
        let told = |link: &Evidence| format!("{} of {}: {}", link.link.name(), link.about, link.seen);
        if let Some(link) = needed().find(|link| link.state == State::Broken) {
            return verdict(Boots::No, Some(told(link)));
        }
        match needed().find(|link| link.state == State::Unknown) {
            Some(link) => verdict(Boots::Unknown, Some(told(link))),
            None => verdict(Boots::Yes, None),
        }
    }
}

/// The links without which a system does not come up: up to its kernel, and what its first kernel needs.
fn needed(links: &[Evidence]) -> impl Iterator<Item = &Evidence> {
    let always = [Link::Firmware, Link::Partition, Link::Loader];
    let once = [Link::Kernel, Link::Driver, Link::Root];
    let first = move |link: &Evidence| {
        once.contains(&link.link)
            && links.iter().find(|other| other.link == link.link).is_some_and(|other| std::ptr::eq(other, link))
    };
    links.iter().filter(move |link| always.contains(&link.link) || first(link))
}

impl fmt::Display for Verdict {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "Boots on {}: ", self.on)?;
        match (self.boots, self.edits) {
            (Boots::Yes, 0) => f.write_str("yes")?,
            (Boots::Yes, 1) => f.write_str("yes, with 1 edit")?,
            (Boots::Yes, edits) => write!(f, "yes, with {edits} edits")?,
            (Boots::No, _) => f.write_str("no")?,
            (Boots::Unknown, _) => f.write_str("not known")?,
        }
        match &self.why {
            Some(why) => write!(f, ": {why}"),
            None => Ok(()),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn link(link: Link, about: &str, state: State) -> Evidence {
        Evidence { link, about: about.into(), state, seen: "as seen".into(), edit: None }
    }

    #[test]
    fn the_first_kernel_and_what_comes_before_it_decide() {
        let sound = vec![
            link(Link::Firmware, "BIOS", State::Holds),
            link(Link::Partition, "root", State::Holds),
            link(Link::Loader, "entries", State::Holds),
            link(Link::Kernel, "6.1", State::Holds),
            link(Link::Driver, "ahci, 6.1", State::Mended),
            link(Link::Kernel, "5.10", State::Broken),
            link(Link::Driver, "ahci, 5.10", State::Broken),
            link(Link::Root, "root=", State::Mended),
            link(Link::Root, "/srv in fstab", State::Unknown),
            link(Link::Adapters, "eth0", State::Broken),
        ];
        let verdict = |links: Vec<Evidence>, edits| {
            Verdict::of("virtio-host", &[Chain { system: "x".into(), links }], edits, None).to_string()
        };
        assert_eq!(verdict(sound.clone(), 4), "Boots on virtio-host: yes, with 4 edits");
        assert_eq!(verdict(sound.clone(), 1), "Boots on virtio-host: yes, with 1 edit");
        assert_eq!(verdict(sound.clone(), 0), "Boots on virtio-host: yes");
        for (place, state, line) in [
            (0, State::Broken, "no: firmware of BIOS: as seen"),
            (4, State::Broken, "no: driver of ahci, 6.1: as seen"),
            (2, State::Unknown, "not known: loader of entries: as seen"),
            (7, State::Unknown, "not known: root of root=: as seen"),
        ] {
            let mut links = sound.clone();
            links[place].state = state;
            assert_eq!(verdict(links, 2), format!("Boots on virtio-host: {line}"));
        }
        let none = Verdict::of("virtio-host", &[], 0, Some("XFS is not read".into())).to_string();
        assert_eq!(none, "Boots on virtio-host: not known: XFS is not read");
    }
}
