//! Whether the disk's controller is driven from the first step on, and whether anything stands between it and the disk.

use crate::{
    error::Result,
    evidence::{
        Evidence, Link, State,
        hardware::{DriverNeed, Hardware},
    },
    refit::edit,
    system::{
        Guest,
        nt::{
            Nt,
            drivers::{Target, device_ids},
            filters, hives,
            start::{Driven, Start},
        },
    },
};

/// The links of the drivers.
pub(super) fn links(guest: &Guest, system: &Nt, hardware: &Hardware) -> Vec<Evidence> {
    let unknown = |seen: String| vec![Evidence::new(Link::Driver, "the disk's controller", State::Unknown, seen)];
    let Some(target) = system.target() else { return unknown("its version or its processor is not known".into()) };
    let path = hives::path("SYSTEM");
    let found = hives::open(&system.tree, &path, system.now).and_then(|hive| {
        let start = system.start(&hive, &target)?;
        looked(guest, system, hardware, &start, &target)
    });
    match found {
        Ok(links) => links,
        Err(error) => unknown(error.to_string()),
    }
}

fn looked(guest: &Guest, system: &Nt, hardware: &Hardware, start: &Start<'_>, _: &Target) -> Result<Vec<Evidence>> {
    let device = guest.volumes.get(system.root).and_then(|volume| volume.device.as_ref());
    let mut chain: Vec<Evidence> = Vec::new();
    for disk in device.map(crate::bench::Device::disks).unwrap_or_default() {
        let Some(place) = hardware.place(disk) else { continue };
        if chain.iter().any(|known| known.about == place.controller) {
            continue;
        }
        chain.push(controller(start, &place.controller, &place.drivers)?);
    }
    let mut seen = Vec::new();
    for set in &start.sets {
        for (key, service) in filters::of_disks(start.hive, set)? {
            match start.filter_fault(set, &service)? {
                Some(fault) => {
                    let link = Evidence::new(
                        Link::Driver,
                        format!("filter {service}"),
                        State::Broken,
                        format!("{key}: {fault}"),
                    );
                    chain.push(link);
                }
                None => seen.push(service),
            }
        }
    }
    if !seen.is_empty() && chain.iter().all(|link| !link.about.starts_with("filter")) {
        seen.sort();
        seen.dedup();
        chain.push(Evidence::new(Link::Driver, "filters of disks", State::Holds, format!("{} start", seen.join(", "))));
    }
    Ok(chain)
}

/// The link of a controller: what is worst of all that has to be driven for it.
fn controller(start: &Start<'_>, name: &str, needs: &[DriverNeed]) -> Result<Evidence> {
    let link = |state, seen: String| Evidence::new(Link::Driver, name, state, seen);
    if needs.is_empty() {
        return Ok(link(State::Unknown, "the destination does not say what it takes".into()));
    }
    let (mut holds, mut perhaps) = (Vec::new(), None);
    for need in needs {
        match start.driven(&device_ids(&need.device), &need.services)? {
            Driven::Yes(seen) => holds.push(seen),
            Driven::Perhaps(seen) => perhaps = Some(seen),
            Driven::No(seen, _) => return Ok(link(State::Broken, seen).mended_by(edit::DRIVERS)),
        }
    }
    Ok(match perhaps {
        Some(seen) => link(State::Unknown, seen),
        None => link(State::Holds, holds.join("; ")),
    })
}
