//! The state beside a model of it: whatever workers say in whatever order.

use std::collections::{BTreeMap, BTreeSet};

use proptest::prelude::*;

use super::*;

/// What is said to the state.
#[derive(Debug, Clone)]
enum Word {
    Claim,
    Land(usize),
    Fail(usize, bool),
    Stop(usize),
    Renew(usize),
    Expire,
    Hold(usize),
    /// A person opens the gate.
    Go,
    /// A machine that landed answers, or does not.
    Answer(usize, bool),
    /// Who asks is outside of the hours in which moves begin.
    Early,
}

fn word() -> impl Strategy<Value = Word> {
    prop_oneof![
        4 => Just(Word::Claim),
        2 => (0..8usize).prop_map(Word::Land),
        2 => (0..8usize, any::<bool>()).prop_map(|(which, again)| Word::Fail(which, again)),
        1 => (0..8usize).prop_map(Word::Stop),
        1 => (0..8usize).prop_map(Word::Renew),
        1 => Just(Word::Expire),
        1 => (0..8usize).prop_map(Word::Hold),
        1 => Just(Word::Go),
        2 => (0..8usize, any::<bool>()).prop_map(|(which, answers)| Word::Answer(which, answers)),
        1 => Just(Word::Early),
    ]
}

/// A fleet of a few machines in two groups, each after some of those before it.
fn made(after: &[Vec<bool>], teams: &[bool], most: u32, gate: &str, early: &[bool]) -> String {
    let mut text = format!(
        "[limits]\nat-once = {most}\n[[group]]\nname = \"one\"\n[[group]]\nname = \"two\"\nafter = \"{gate}\"\n"
    );
    for (place, waits) in after.iter().enumerate() {
        let others = (0..place).filter(|other| waits[*other] && (!teams[*other] || teams[place]));
        let others: Vec<String> = others.map(|other| format!("\"m{other}\"")).collect();
        let group = if teams[place] { "two" } else { "one" };
        let ahead = if early[place] { "ahead = \"early\"\n" } else { "" };
        let more =
            format!("group = \"{group}\"\nconfirm = {{ tcp = \"h:1\" }}\n{ahead}after = [{}]", others.join(", "));
        text += &rows(&[(&format!("m{place}"), &more)]);
    }
    text
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 48, ..ProptestConfig::default() })]

    /// Whatever workers say in whatever order: a machine has one holder, begins after what it comes after, its group and its limits, lands
    /// once, and nobody but its holder says so.
    #[test]
    fn nothing_lands_twice_and_nothing_begins_too_early(
        after in prop::collection::vec(prop::collection::vec(any::<bool>(), 8), 1..8),
        teams in prop::collection::vec(any::<bool>(), 8),
        most in 1..4u32,
        gate in prop_oneof![Just("landed"), Just("confirmed"), Just("go")],
        early in prop::collection::vec(any::<bool>(), 8),
        words in prop::collection::vec(word(), 1..60),
    ) {
        let (_folder, state) = fresh();
        let fleet = fleet(&made(&after, &teams, most, gate, &early));
        state.sync(&fleet, &[], None, &worker()).unwrap();
        let mut leases: Vec<Lease> = Vec::new();
        let mut holders: BTreeMap<String, u64> = BTreeMap::new();
        let mut landings: BTreeSet<String> = BTreeSet::new();
        let (mut answers, mut passes): (BTreeSet<String>, BTreeSet<String>) = Default::default();
        let mut is_open = gate == "landed";
        let place = |name: &str| name[1..].parse::<usize>().unwrap();
        for word in words {
            let lease = |which: usize| leases.get(which % leases.len().max(1)).cloned();
            let is_holder = |lease: &Lease| holders.get(&lease.name) == Some(&lease.fence);
            match word {
                Word::Early => match state.claim(&Claim { moves: false, ..claim_by(&worker()) }).unwrap() {
                    Claimed::Machine(lease) => {
                        prop_assert!(lease.only_ahead && early[place(&lease.name)] && passes.insert(lease.name.clone()));
                        prop_assert!(!holders.contains_key(&lease.name) && holders.len() < most as usize);
                        holders.insert(lease.name.clone(), lease.fence);
                        leases.push(*lease);
                    }
                    other => prop_assert!(!matches!(other, Claimed::Gate(_)), "{other:?}"),
                },
                Word::Claim => if let Claimed::Machine(lease) = claim(&state) {
                    if lease.only_ahead {
                        prop_assert!(early[place(&lease.name)] && passes.insert(lease.name.clone()));
                        prop_assert!(!holders.contains_key(&lease.name) && holders.len() < most as usize);
                        holders.insert(lease.name.clone(), lease.fence);
                        leases.push(*lease);
                        continue;
                    }
                    if lease.spec.row.group.as_deref() == Some("two") && !is_open {
                        let first: Vec<_> = (0..after.len()).filter(|place| !teams[*place]).map(|place| format!("m{place}")).collect();
                        prop_assert!(gate == "confirmed" && first.iter().all(|name| answers.contains(name)), "the gate was shut");
                    }
                    prop_assert!(!landings.contains(&lease.name), "{} had landed", lease.name);
                    prop_assert!(!holders.contains_key(&lease.name), "{} is held", lease.name);
                    prop_assert!(holders.len() < most as usize);
                    prop_assert!(lease.spec.row.after.iter().all(|other| landings.contains(other)));
                    if lease.spec.row.group.as_deref() == Some("two") {
                        let before = state.machines("night").unwrap().into_iter().filter(|machine| machine.group == "one");
                        prop_assert!(before.into_iter().all(|machine| !matches!(machine.state, Stand::Waiting | Stand::Running)));
                    }
                    holders.insert(lease.name.clone(), lease.fence);
                    leases.push(*lease);
                },
                Word::Go => {
                    state.open_gate("night", "two").unwrap();
                    is_open = true;
                }
                Word::Answer(which, does) => {
                    let name = format!("m{}", which % after.len());
                    state.answered("night", &name, &format!("{{\"answers\":{does}}}")).unwrap();
                    if landings.contains(&name) {
                        if does { answers.insert(name); } else { answers.remove(&name); }
                    }
                }
                Word::Land(which) => if let Some(lease) = lease(which).filter(|lease| lease.only_ahead) {
                    let is_holder = is_holder(&lease);
                    let pressed = state.end(&lease, &Ended::Near { bytes: 1 }).unwrap();
                    if is_holder {
                        prop_assert_eq!(pressed, Pressed::Noted);
                        holders.remove(&lease.name);
                    }
                } else if let Some(lease) = lease(which) {
                    let is_holder = is_holder(&lease);
                    prop_assert_eq!(state.may_land(&lease, LEASE).unwrap(), is_holder);
                    let pressed = state.end(&lease, &landed()).unwrap();
                    if is_holder {
                        prop_assert_eq!(pressed, Pressed::Noted);
                        prop_assert!(landings.insert(lease.name.clone()));
                        holders.remove(&lease.name);
                    }
                },
                Word::Fail(which, again) => if let Some(lease) = lease(which) {
                    let is_holder = is_holder(&lease);
                    let pressed = state.end(&lease, &failed(again.then_some(Duration::ZERO))).unwrap();
                    if is_holder {
                        prop_assert_ne!(pressed, Pressed::Lost);
                        holders.remove(&lease.name);
                        if lease.only_ahead { passes.remove(&lease.name); }
                    }
                },
                Word::Stop(which) => if let Some(lease) = lease(which) {
                    if is_holder(&lease) {
                        holders.remove(&lease.name);
                        if lease.only_ahead { passes.remove(&lease.name); }
                    }
                    state.end(&lease, &Ended::Stopped).unwrap();
                },
                Word::Renew(which) => if let Some(lease) = lease(which) {
                    let beat = Beat { name: lease.name.clone(), fence: lease.fence, ..Beat::default() };
                    prop_assert_eq!(state.renew("night", &[beat], LEASE).unwrap().is_empty(), is_holder(&lease));
                },
                Word::Expire => {
                    state.change(|session| session.execute("UPDATE reformis_machine SET lease_until = 1 WHERE state = 'running'", &[])).unwrap();
                    for name in holders.keys().filter(|name| leases.iter().any(|lease| lease.only_ahead && holders.get(&lease.name) == Some(&lease.fence) && lease.name == **name)) {
                        passes.remove(name);
                    }
                    holders.clear();
                    // Whoever asks next finds them.
                    if let Claimed::Machine(lease) = claim(&state) {
                        if lease.only_ahead { passes.insert(lease.name.clone()); }
                        holders.insert(lease.name.clone(), lease.fence);
                        leases.push(*lease);
                    }
                }
                Word::Hold(which) => drop(state.hold_back("night", &format!("m{}", which % after.len())).unwrap()),
            }
            let stands = stands(&state);
            let running: BTreeSet<&str> = stands.iter().filter(|(_, stand)| *stand == Stand::Running).map(|(name, _)| name.as_str()).collect();
            prop_assert_eq!(running, holders.keys().map(String::as_str).collect::<BTreeSet<_>>());
            let done: BTreeSet<String> = stands.into_iter().filter(|(_, stand)| *stand == Stand::Landed).map(|(name, _)| name).collect();
            prop_assert_eq!(&done, &landings);
        }
    }
}
