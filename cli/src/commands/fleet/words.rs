//! What there is to say of a fleet, in a few words.

use reformis_move::{
    fleet::{Counts, Doubt, Fleet, Machine, Pace, Spec, Stand, night::seconds_left},
    verdict::Boots,
};

use crate::output::{FAINT, paint, width, wrapped};

/// Whether a machine boots, in a few words.
pub(crate) fn boots(boots: Boots) -> &'static str {
    match boots {
        Boots::Yes => "yes",
        Boots::No => "no",
        Boots::Unknown => "not known",
    }
}

/// How many stand how, on one line.
pub(crate) fn line(counts: &Counts) -> String {
    let all = [
        (counts.landed, "landed"),
        (counts.running, "running"),
        (counts.waiting, "waiting"),
        (counts.failed, "failed"),
        (counts.skipped, "skipped"),
        (counts.held, "held back"),
        (counts.undone, "undone"),
    ];
    let parts = all.iter().filter(|(count, _)| *count > 0).map(|(count, word)| format!("{count} {word}"));
    let machines = if counts.machines == 1 { "1 machine".into() } else { format!("{} machines", counts.machines) };
    format!("{machines}: {}", parts.collect::<Vec<_>>().join(", "))
}

/// Seconds that are left of the night, about, with `at_once` machines at the same time.
pub(crate) fn left(machines: &[Machine], pace: &Pace, at_once: usize) -> Option<f64> {
    let open = machines.iter().filter(|machine| matches!(machine.state, Stand::Running | Stand::Waiting));
    let (mut bytes, mut unknown) = (0u64, 0);
    for machine in open {
        match machine.size.or(machine.total.filter(|total| *total > 0)) {
            Some(size) => bytes = bytes.saturating_add(size.saturating_sub(machine.done.unwrap_or(0))),
            None => unknown += 1,
        }
    }
    seconds_left(pace, bytes, unknown, at_once).filter(|seconds| *seconds > 0.0)
}

/// What there is to say of a machine, in a few words.
pub(crate) fn what(machine: &Machine) -> String {
    let of_stage = || {
        let stage = machine.stage.clone()?;
        let (done, total) = (machine.done.unwrap_or(0), machine.total.unwrap_or(0));
        Some(match done.saturating_mul(100).checked_div(total) {
            Some(percent) => format!("{stage}, {percent} %"),
            None => stage,
        })
    };
    match machine.state {
        Stand::Running => of_stage().unwrap_or_default(),
        Stand::Waiting if machine.tries > 0 => {
            format!("tried {} times: {}", machine.tries, machine.reason.clone().unwrap_or_default())
        }
        Stand::Landed => match &machine.answer {
            Some(answer) if answer["answers"] == true => "answers".into(),
            Some(answer) => format!("does not answer: {}", answer["what"].as_str().unwrap_or_default()),
            None => machine.reason.clone().unwrap_or_default(),
        },
        _ => machine.reason.clone().unwrap_or_default(),
    }
}

/// Each doubt beside the name of its machine.
pub(super) fn doubted(fleet: &Fleet, doubts: Vec<Vec<Doubt>>) -> Vec<(String, Doubt)> {
    let of = |(spec, doubts): (&Spec, Vec<Doubt>)| {
        let name = spec.row.name.clone();
        doubts.into_iter().map(move |doubt| (name.clone(), doubt)).collect::<Vec<_>>()
    };
    fleet.machines.iter().zip(doubts).flat_map(of).collect()
}

/// What does not fit, of each machine.
pub(super) fn doubts(doubted: &[(String, Doubt)]) -> String {
    let mut text = String::new();
    for (name, doubt) in doubted {
        let lines = wrapped(&format!("{name}: {} [{}]", doubt.sentence(), doubt.code()), width() - 4);
        text += &format!("{}\n  {}\n", lines.join("\n  "), paint(FAINT, doubt.remedy()));
    }
    text
}
