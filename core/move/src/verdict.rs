//! Whether a guest will boot, in one line above the chain of boot evidence.

use std::fmt;

use reformis_guest::{Evidence, State};
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

/// The links without which the default start does not come up: all of them have to hold.
fn needed(links: &[Evidence]) -> impl Iterator<Item = &Evidence> {
    links.iter().filter(|link| link.needed)
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
    use proptest::prelude::*;

    use reformis_guest::Link;

    use super::*;

    fn link(link: Link, about: &str, state: State, needed: bool) -> Evidence {
        Evidence { link, about: about.into(), state, seen: "as seen".into(), edit: None, needed }
    }

    fn verdict(links: Vec<Evidence>, edits: usize) -> Verdict {
        Verdict::of("virtio-host", &[Chain { system: "x".into(), links }], edits, None)
    }

    proptest! {
        /// Each link that is needed decides, wherever it stands, and no other one.
        #[test]
        fn the_verdict_is_the_conjunction_of_what_is_needed(
            states in prop::collection::vec((0..4_usize, 0..7_usize, any::<bool>()), 1..12),
        ) {
            const STATES: [State; 4] = [State::Holds, State::Mended, State::Broken, State::Unknown];
            const LINKS: [Link; 7] =
                [Link::Firmware, Link::Partition, Link::Loader, Link::Kernel, Link::Driver, Link::Root, Link::Adapters];
            let links: Vec<Evidence> =
                states.iter().map(|(state, kind, needed)| link(LINKS[*kind], "it", STATES[*state], *needed)).collect();
            let has = |state: State| links.iter().any(|link| link.needed && link.state == state);
            let wanted = match (has(State::Broken), has(State::Unknown)) {
                (true, _) => Boots::No,
                (false, true) => Boots::Unknown,
                (false, false) => Boots::Yes,
            };
            prop_assert_eq!(verdict(links.clone(), 0).boots, wanted);
            // The order in which they stand changes nothing.
            prop_assert_eq!(verdict(links.into_iter().rev().collect(), 0).boots, wanted);
        }
    }

    #[test]
    fn a_verdict_is_one_line() {
        let sound =
            vec![link(Link::Firmware, "BIOS", State::Holds, true), link(Link::Root, "/srv", State::Broken, false)];
        assert_eq!(verdict(sound.clone(), 4).to_string(), "Boots on virtio-host: yes, with 4 edits");
        assert_eq!(verdict(sound.clone(), 1).to_string(), "Boots on virtio-host: yes, with 1 edit");
        assert_eq!(verdict(sound.clone(), 0).to_string(), "Boots on virtio-host: yes");
        for (state, line) in
            [(State::Broken, "no: firmware of BIOS: as seen"), (State::Unknown, "not known: firmware of BIOS: as seen")]
        {
            let mut links = sound.clone();
            links[0].state = state;
            assert_eq!(verdict(links, 2).to_string(), format!("Boots on virtio-host: {line}"));
        }
        let none = Verdict::of("virtio-host", &[], 0, Some("XFS is not read".into())).to_string();
        assert_eq!(none, "Boots on virtio-host: not known: XFS is not read");
    }
}
