//! Whether the new adapters have a driver, and what becomes of the settings of the old ones.

use crate::{
    evidence::{Evidence, Link, State, hardware::Hardware},
    refit::edit,
    system::nt::{ADAPTERS_SCRIPTS, BEFORE, FIRST_START_FOLDER, Nt},
};

/// The links of the adapters.
pub(super) fn links(system: &Nt, hardware: &Hardware) -> Vec<Evidence> {
    let mut chain: Vec<Evidence> = Vec::new();
    let target = system.target();
    for adapter in &hardware.adapters {
        let about = format!("{} driver", adapter.model);
        let (false, Some(need)) = (chain.iter().any(|known| known.about == about), adapter.drivers.last()) else {
            continue;
        };
        let link = |state, seen: String| Evidence::new(Link::Adapters, about.clone(), state, seen);
        let staged = || target.as_ref().and_then(|target| system.staged(&need.device, target));
        chain.push(match system.drives(&need.device, &need.services, system.now) {
            Ok(true) => link(State::Holds, "the system has one".into()),
            Ok(false) => match staged() {
                Some(path) => link(State::Holds, format!("the first start installs {path}")),
                None => {
                    let seen = format!("the system has no driver for {}", need.device);
                    link(State::Broken, seen).mended_by(edit::DRIVERS)
                }
            },
            Err(error) => link(State::Unknown, error.to_string()),
        });
    }
    // What an earlier edit took from the old adapters, the first start gives to the new ones.
    let paths = ADAPTERS_SCRIPTS.map(|name| format!("{FIRST_START_FOLDER}/{name}"));
    let scripts = paths.map(|path| (system.tree.text(&path).unwrap_or_default(), path));
    for adapter in system.facts.settings.adapters.iter().filter(|adapter| adapter.is_hardware()) {
        let Some(name) = adapter.name.strip_suffix(BEFORE) else { continue };
        let gives = format!("newname=\"{}\"", name.replace('%', "%%"));
        if let Some((_, path)) = scripts.iter().find(|(text, _)| text.contains(&gives)) {
            let seen = format!("{path} gives its settings to the new adapter");
            chain.push(Evidence::new(Link::Adapters, name, State::Holds, seen));
        }
    }
    for adapter in system.facts.settings.adapters.iter().filter(|adapter| adapter.is_hardware() && adapter.is_static())
    {
        let link = |state, seen: String| Evidence::new(Link::Adapters, adapter.name.clone(), state, seen);
        let own = adapter.addresses.join(", ");
        chain.push(match hardware.unchanged {
            true => link(State::Holds, format!("{own} on {}", adapter.device.as_deref().unwrap_or("its device"))),
            false => {
                link(State::Broken, format!("{own} is on a device that will not be there")).mended_by(edit::ADAPTERS)
            }
        });
    }
    chain
}
