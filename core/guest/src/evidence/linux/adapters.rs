//! Whether adapters come up under the names that their configuration has.

use super::super::{Evidence, Link, State, hardware::Hardware};
use crate::{formats::modules::Modules, refit::edit, system::linux::Linux};

/// The links of the adapters.
pub(super) fn adapters(system: &Linux, hardware: &Hardware, modules: Option<&Modules>) -> Vec<Evidence> {
    let mut chain = Vec::new();
    let mut models: Vec<&str> = Vec::new();
    for adapter in &hardware.adapters {
        if models.contains(&adapter.model.as_str()) {
            continue;
        }
        models.push(&adapter.model);
        if let Some(modules) = modules {
            let lost = adapter.needs.iter().find(|need| modules.driver(&need.device, &need.module).is_none());
            let about = format!("{} driver", adapter.model);
            chain.push(match lost {
                None => Evidence::new(Link::Adapters, about, State::Holds, "a module of the kernel, or part of it"),
                Some(need) => {
                    let seen = format!("no module of this kernel drives {} ({})", need.device, need.module);
                    Evidence::new(Link::Adapters, about, State::Broken, seen)
                }
            });
        }
    }
    let mut told: Vec<&str> = Vec::new();
    for used in &system.network {
        if told.contains(&used.name.as_str()) {
            continue;
        }
        told.push(&used.name);
        let link = |state, seen: String| Evidence::new(Link::Adapters, used.name.clone(), state, seen);
        let known = used
            .mac
            .as_ref()
            .is_some_and(|mac| hardware.adapters.iter().any(|adapter| adapter.after.as_ref() == Some(mac)));
        let goes_by = used.by_mac || crate::system::linux::network::pinned(&system.tree, &used.name).is_some();
        if let Some(path) = used.path.as_ref().filter(|_| !hardware.unchanged) {
            let seen = format!("{}: goes by the card at {path}, which is elsewhere there", used.file);
            chain.push(link(State::Broken, seen).mended_by(edit::ADAPTER_NAMES));
            continue;
        }
        chain.push(match (&used.mac, goes_by) {
            (Some(mac), true) if known => link(State::Holds, format!("{}: the adapter with {mac}", used.file)),
            _ if hardware.unchanged => link(State::Holds, format!("{}: goes by its name", used.file)),
            (Some(mac), true) => {
                link(State::Broken, format!("{}: goes by {mac}, which no adapter has there", used.file))
                    .mended_by(edit::ADAPTER_NAMES)
            }
            _ => link(State::Broken, format!("{}: goes by a name that the new adapter may not get", used.file))
                .mended_by(edit::ADAPTER_NAMES),
        });
    }
    if system.network.is_empty() && !hardware.adapters.is_empty() {
        let seen = "no configuration names an adapter: what is configured goes for all of them, or nothing is";
        chain.push(Evidence::new(Link::Adapters, "configuration", State::Unknown, seen));
    }
    chain
}
