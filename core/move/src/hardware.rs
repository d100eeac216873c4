//! What a guest will find where it goes, as far as its systems have to know: made of the destination and of the brief.

use std::collections::BTreeMap;

use reformis_guest::{AdapterPlace, DiskPlace, DriverNeed, Hardware, HostRules, Need, OtherPlace};
use reformis_machine::{
    Adapter, AdapterModel, Clock, ControllerKind, Destination, Firmware, Mac, Machine, destination::Needs,
};

use crate::brief::Brief;

/// What guests need for devices, by their words.
pub(crate) type Table = BTreeMap<String, Needs>;

/// The target's disks in the order in which the guest counts them: by their places, where one kind of controller has all.
#[expect(clippy::indexing_slicing, reason = "the places are those of these disks, and a window of two has two")]
pub(crate) fn guests_order(before: &Machine, disks: usize) -> Vec<usize> {
    let mut order: Vec<usize> = (0..disks).collect();
    let devices = &before.disks;
    if devices.len() == disks && devices.windows(2).all(|pair| pair[0].controller == pair[1].controller) {
        order.sort_by_key(|&index| (devices[index].bus, devices[index].slot));
    }
    order
}

/// What disks on a controller are called by a Linux kernel.
fn prefix(controller: ControllerKind) -> &'static str {
    match controller {
        ControllerKind::VirtioBlk => "vd",
        ControllerKind::Nvme => "nvme",
        _ => "sd",
    }
}

fn needs(table: &Table, word: &str) -> Vec<Need> {
    let needs = table.get(word).cloned().unwrap_or_default();
    let pair = |(device, module)| Need { device, module };
    needs.devices.into_iter().zip(needs.modules).map(pair).collect()
}

/// What `destination` wants of the systems of its machines.
pub(crate) fn host_rules(destination: &Destination) -> HostRules {
    let rules = &destination.rules;
    HostRules {
        is_cloud: rules.cloud,
        serial_console: rules.serial_console.clone(),
        dhcp: rules.dhcp,
        remote_login: rules.remote_login,
        no_swap: rules.no_swap,
        data_sources: rules.data_sources.clone(),
    }
}

/// Devices of `destination` beside disks and adapters, as a Windows system identifies them.
pub(crate) fn others(destination: &Destination) -> Vec<String> {
    destination.guest.get("others").map(|others| others.ids.clone()).unwrap_or_default()
}

/// What a Windows system needs for a device.
fn drivers(table: &Table, word: &str) -> Vec<DriverNeed> {
    let needs = table.get(word).cloned().unwrap_or_default();
    let services = |names: String| names.split('|').map(Into::into).collect();
    let pair = |(names, device): (String, String)| DriverNeed { device, services: services(names) };
    needs.drivers.into_iter().zip(needs.ids).map(pair).collect()
}

/// A disk on a controller of `destination`, as its system will find it; there, the person may also put it on any other that
/// boots with `firmware`.
pub(crate) fn disk_place(controller: ControllerKind, destination: &Destination, firmware: Firmware) -> DiskPlace {
    let others = destination.controllers.iter().filter(|other| other.kind != controller && other.boots(firmware));
    let other = |kind: ControllerKind| OtherPlace {
        controller: kind.name().into(),
        prefix: prefix(kind).into(),
        needs: needs(&destination.guest, kind.name()),
        drivers: drivers(&destination.guest, kind.name()),
    };
    DiskPlace { others: others.map(|offer| other(offer.kind)).collect(), ..only_place(controller, &destination.guest) }
}

/// A disk on one controller and no other.
fn only_place(controller: ControllerKind, table: &Table) -> DiskPlace {
    DiskPlace {
        controller: controller.name().into(),
        prefix: prefix(controller).into(),
        needs: needs(table, controller.name()),
        drivers: drivers(table, controller.name()),
        others: Vec::new(),
        boot: None,
    }
}

/// An adapter of `destination`, as its system will find it.
pub(crate) fn adapter_place(model: AdapterModel, table: &Table, mac: Option<Mac>) -> AdapterPlace {
    let mac = mac.map(|mac| mac.to_string());
    let (needs, drivers) = (needs(table, model.name()), drivers(table, model.name()));
    AdapterPlace { model: model.name().into(), needs, drivers, before: mac.clone(), after: mac, name: None }
}

pub(crate) fn adapter_places(
    brief: &Brief,
    destination: &Destination,
    before: &Machine,
    after: &Machine,
) -> Vec<AdapterPlace> {
    let old = |name: &Option<String>| before.adapters.iter().find(|adapter| name.as_deref() == Some(&*adapter.name));
    brief
        .adapters
        .iter()
        .zip(&after.adapters)
        .map(|(new, landed)| {
            let was = old(&new.source).and_then(|adapter| adapter.mac);
            AdapterPlace {
                before: was.map(|mac| mac.to_string()),
                name: new.guest_name.clone(),
                ..adapter_place(new.model, &destination.guest, landed.mac)
            }
        })
        .collect()
}

/// The hardware of a machine as it is described, for a walk that changes nothing.
#[expect(clippy::indexing_slicing, reason = "the places are those of these disks, and a window of two has two")]
pub(crate) fn described_hardware(machine: &Machine, table: &Table, keeps_entries: bool) -> Hardware {
    let order = guests_order(machine, machine.disks.len());
    let adapter = |adapter: &Adapter| adapter_place(adapter.model, table, adapter.mac);
    Hardware {
        uefi: machine.firmware != Firmware::Bios,
        unchanged: false,
        keeps_entries,
        disks: order
            .into_iter()
            .map(|index| {
                let disk = &machine.disks[index];
                Some(DiskPlace { boot: disk.boot, ..only_place(disk.controller, table) })
            })
            .collect(),
        adapters: machine.adapters.iter().map(adapter).collect(),
        host: None,
        others: Vec::new(),
        agents: Vec::new(),
        rules: HostRules::default(),
        has_local_clock: Some(machine.clock == Clock::Local),
    }
}
