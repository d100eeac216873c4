//! What there is to say of a fleet, in a few words.

use reformis_move::{
    fleet::{Counts, Doubt, Fleet, Machine, Spec, Stand},
    verdict::Boots,
};

use crate::{
    output::{FAINT, paint, width, wrapped},
    progress::duration,
};

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

/// What a group waits for whose gate is shut.
pub(super) fn gate(group: &str, answers: bool, silent: &[String]) -> String {
    let who = match silent {
        [] => String::new(),
        [one] => format!(" ({one} does not yet)"),
        several if several.len() > 5 => format!(" ({}, … do not yet)", several[..5].join(", ")),
        several => format!(" ({} do not yet)", several.join(", ")),
    };
    let when = if answers { format!("when those before it answer{who}, or ") } else { String::new() };
    format!("The group {group} begins {when}when a person says so: `reformis fleet go` and its name.")
}

/// An estimate of a time.
pub(super) fn about(seconds: f64) -> String {
    if seconds < 1.0 { "less than 1 s".into() } else { format!("about {}", duration(seconds)) }
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
    let takes = machine.left_seconds.filter(|seconds| *seconds >= 1.0).map(about);
    match machine.state {
        Stand::Running => {
            let parts = [of_stage(), takes.map(|left| format!("{left} left"))];
            parts.into_iter().flatten().collect::<Vec<_>>().join(", ")
        }
        Stand::Waiting if machine.first_pass.is_some() => "its first pass is made".into(),
        Stand::Waiting if machine.tries == 0 && machine.reason.is_none() => {
            takes.map_or(String::new(), |time| format!("takes {time}"))
        }
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
