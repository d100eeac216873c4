//! What is proposed, and what a brief keeps of it.

use reformis_machine::{Firmware, MachineFile, Site};
use reformis_move::{
    Severity,
    brief::{self, FirmwareKind, Mac, NewGuest, Size},
    prepare::Order,
    propose::Choices,
};

use crate::common::{BERTHS, Place, codes, disk};

/// Names of all destinations of ours.
pub(crate) fn destinations() -> Vec<String> {
    Site::default().destinations().unwrap().into_iter().map(|destination| destination.name).collect()
}

#[test]
fn every_destination_gets_a_brief_that_reads_back_and_is_planned_alike() {
    let place = Place::berths();
    assert_eq!(destinations().len(), 7);
    for destination in destinations() {
        let draft = place.draft(&destination);
        let text = brief::write(&draft.brief, &draft.notes);
        assert_eq!(brief::read(&text, "a brief").unwrap(), draft.brief, "{text}");
        let again = place.draft_as(&Order::Brief(Box::new(draft.brief.clone()), place.path(""))).unwrap();
        assert_eq!(again.brief, draft.brief);
        // What only the one who proposes tells is missing there.
        assert!(codes(&again).is_subset(&codes(&draft)), "{destination}: {:?}", codes(&again));
        let blockers = |draft: &reformis_move::draft::Draft| {
            let blockers = draft.findings.iter().filter(|finding| finding.severity() == Severity::Blocker);
            blockers.map(reformis_move::Finding::code).collect::<Vec<_>>()
        };
        assert_eq!(blockers(&again), blockers(&draft), "{destination}");
        for part in ["machine", "disks", "adapters"] {
            assert!(draft.summary.iter().any(|row| row.part == part), "{destination}: {part}");
        }
    }
}

#[test]
fn what_a_person_chose_is_in_the_brief_and_what_was_not_chosen_comes_from_the_machine() {
    let place = Place::berths();
    let plain = place.draft("vmx-host").brief;
    assert_eq!((&*plain.machine.name, plain.machine.sockets * plain.machine.cores), ("berths", 2));
    assert_eq!((plain.machine.memory, plain.machine.starts_with()), (Size(1 << 30), Firmware::Bios));
    assert_eq!(plain.adapters[0].mac, Mac::Keep);

    let choices = Choices {
        cloud: None,
        then: None,
        store: Some("estuary:moves".into()),
        name: Some("berths-2".into()),
        memory: Some(3 << 30),
        sockets: Some(1),
        cores: Some(4),
        firmware: Some(FirmwareKind::Uefi),
        network: Some("pier".parse().unwrap()),
        mac: Some(Mac::Fresh),
        shape: Some("vmdk/full".parse().unwrap()),
        machine_file: Some(MachineFile::Vmx),
        guest: NewGuest { host_name: Some("berths-2".into()), ..NewGuest::default() },
        keep_unknown: true,
    };
    let draft = place.draft_as(&place.order("vmx-host", &choices)).unwrap();
    let chosen = draft.brief;
    assert_eq!((&*chosen.machine.name, chosen.machine.memory), ("berths-2", Size(3 << 30)));
    assert_eq!((chosen.machine.sockets, chosen.machine.cores), (1, 4));
    assert_eq!(chosen.machine.firmware, FirmwareKind::Uefi);
    assert_eq!(chosen.adapters[0].network.as_deref(), Some("pier"));
    assert_eq!((&chosen.adapters[0].mac, chosen.disks[0].shape.to_string().as_str()), (&Mac::Fresh, "vmdk/full"));
    assert_eq!((chosen.journey.machine_file, chosen.journey.keep_unknown), (MachineFile::Vmx, true));
    assert_eq!(chosen.journey.store.as_deref(), Some("estuary:moves"));
    assert_eq!(chosen.guest.host_name.as_deref(), Some("berths-2"));
    // A BIOS disk that UEFI is to start: said before anything is written.
    let found: Vec<&str> = draft.findings.iter().map(reformis_move::Finding::code).collect();
    assert!(found.contains(&"firmware-mismatch"), "{found:?}");
}

/// A system that asks for a module gets an empty one, where the machine starts with UEFI.
#[test]
fn a_system_that_asks_for_a_trusted_platform_module_gets_one() {
    let metadata = "<metadata><libosinfo:libosinfo xmlns:libosinfo=\"http://libosinfo.org/xmlns/libvirt/domain/1.0\">\
                    <libosinfo:os id=\"http://microsoft.com/win/11\"/></libosinfo:libosinfo></metadata>";
    let choices = Choices { firmware: Some(FirmwareKind::Uefi), ..Choices::default() };
    let place = Place::described(&BERTHS.replace("<memory", &format!("{metadata}<memory")), &disk());
    let uefi = place.draft_as(&place.order("virtio-host", &choices)).unwrap();
    assert_eq!(uefi.brief.machine.tpm.map(reformis_machine::Tpm::name), Some("2.0"));
    assert!(uefi.notes["machine.tpm"].contains("asks for one"));
    assert_eq!(place.draft("virtio-host").brief.machine.tpm, None, "a BIOS has none of that version");
    assert_eq!(Place::berths().draft("virtio-host").brief.machine.tpm, None);
}

#[test]
fn a_site_maps_networks_and_names_become_what_a_destination_allows() {
    let mut place = Place::described(&BERTHS.replace(">berths<", ">Berths of the Sound<"), &disk());
    place.site = Site::parse("reformis.toml", "[networks]\nquay = \"pier\"\n").unwrap();
    let draft = place.draft("virtio-cloud");
    assert_eq!(draft.brief.adapters[0].network.as_deref(), Some("pier"));
    assert!(
        draft.brief.machine.name.chars().all(|c| c.is_ascii_lowercase() || c == '-'),
        "{}",
        draft.brief.machine.name
    );
    assert!(codes(&draft).contains("name-changed"), "{:?}", codes(&draft));
    assert!(!codes(&draft).contains("network-unmapped"));
    place.site = Site::default();
    assert!(codes(&place.draft("virtio-cloud")).contains("network-unmapped"));
}
