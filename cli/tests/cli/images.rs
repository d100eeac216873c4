//! Moves into an image service, as a person makes them: a stand-in that fails, and the real one.

use std::{fs, os::unix::fs::PermissionsExt};

use reformis_standin::{
    content::Content,
    servers::{Glance, is_installed},
    shelf::{self, Shelf},
};

use crate::{
    clouds::{KEY, TOKEN, carry},
    support::Place,
};

/// An image service: a disk goes there in one stream, and what breaks is begun anew from the source; a token lets us in.
#[test]
fn an_image_service_gets_images_with_their_properties() {
    let shelf = Shelf::start(Some(TOKEN)).unwrap();
    let place = Place::new();
    let at = shelf.link();
    let site = format!(
        "[cloud.shelf]\nkind = \"image-service\"\nat = \"{at}\"\n[link.\"{at}\"]\nheaders = {{ X-Auth-Token = {{ file = \"token\" }} }}\n"
    );
    place.write("reformis.toml", site.as_bytes());
    place.write("token", b"wrong\n");
    fs::set_permissions(place.path("token"), fs::Permissions::from_mode(0o600)).unwrap();
    let denied = place.run(&["hosts", "shelf"]).expect(1).err;
    assert!(denied.contains("look at the token"), "{denied}");
    place.write("token", format!("{TOKEN}\n").as_bytes());
    let mut disk = vec![0; 12 << 20];
    Content::empty(12 << 20).with(0, 300_000, 1).with(5 << 20, 900_000, 2).read_at(0, &mut disk);
    place.write("ledger.raw", &disk);
    let words = |dest: &'static str, shape: &'static str, name: &'static str, more: &[&'static str]| {
        let mut words = carry(dest, &["--shape", shape, "--name", name]);
        (words[5], words[7]) = (name, "shelf");
        words.extend(more);
        words
    };
    shelf.go_wrong(shelf::Faults { cut: Some((6 << 20, 1)), bent: 1 });
    let ran = place.run(&words("nvme-cloud", "raw/thin", "ledger", &["--then", "image"])).expect(0);
    assert!(ran.out.contains("5a170000-"), "{}", ran.out);
    let images = shelf.images();
    assert_eq!(
        images.len(),
        1,
        "what broke is given up: {images:?}",
        images = images.iter().map(|i| &i.0).collect::<Vec<_>>()
    );
    assert!(images[0].1 == disk);
    let values = &images[0].0;
    for (name, value) in
        [("name", "ledger"), ("disk_format", "raw"), ("hw_firmware_type", "bios"), ("status", "active")]
    {
        assert_eq!(values[name], value, "{name}");
    }
    assert_eq!((&values["min_ram"], &values["min_disk"]), (&512.into(), &1.into()));
    place.run(&["prove", "ledger/ledger/receipt.json"]).expect(0);
    // What is not written in one direction is made here first, and goes the same way.
    let ran = place.run(&words("virtio-cloud", "qcow2/thin", "books", &["--then", "image"])).expect(0);
    assert!(ran.err.contains("is made in the landing's folder first"), "{}", ran.err);
    let books = shelf.images().into_iter().find(|(values, _)| values["name"] == "books").unwrap();
    assert_eq!((&books.0["hw_scsi_model"], &books.0["hw_vif_model"]), (&"virtio-scsi".into(), &"virtio".into()));
    place.run(&["prove", "books/books/receipt.json"]).expect(0);
    assert!(place.run(&["survey", "shelf:books/books-0.qcow2"]).expect(0).out.contains("qcow2/thin"));
    // What it would refuse, it says first.
    for (dest, shape, name, more, told) in [
        ("nvme-cloud", "raw/thin", "ledger", &["--then", "image"][..], "there is an image 'ledger'"),
        ("nvme-cloud", "raw/thin", "other", &[], "no instances"),
        ("virtio-cloud", "raw/thin", "other", &["--then", "image"], "does not unpack gzip"),
    ] {
        let mut words = words(dest, shape, name, more);
        words.push("--force");
        let refused = place.run(&words).expect(3).err;
        assert!(refused.split_whitespace().collect::<Vec<_>>().join(" ").contains(told), "{refused}");
    }
    // What is left without its data is listed and given up.
    shelf.go_wrong(shelf::Faults { cut: Some((1 << 20, 3)), bent: 0 });
    let broken = place.run(&words("nvme-cloud", "raw/thin", "tides", &["--then", "image"])).expect(1).err;
    assert!(broken.contains("begins anew each time"), "{broken}");
    assert!(place.run(&["hosts", "shelf"]).expect(0).out.contains("3 of its images are ours"));
    place.run(&["hosts", "shelf", "--clean"]).expect(0);
    assert_eq!(shelf.images().len(), 2);
    place.run(&words("nvme-cloud", "raw/thin", "tides", &["--then", "image", "--resume"])).expect(0);
    assert_eq!(shelf.images().len(), 3);
    for line in shelf.log() {
        assert!(line.contains("x-auth-token") && !line.contains(KEY), "{line}");
    }
    assert!(!format!("{}{}{}", ran.out, ran.err, broken).contains(TOKEN));
}

/// The real one, with a database of its own.
#[test]
#[ignore = "needs an image service: part of the slower checks"]
fn a_real_image_service_takes_what_we_send() {
    assert!(is_installed("glance-api"), "Debian's glance-api");
    let place = Place::new();
    let glance = Glance::start(&place.path("glance")).unwrap();
    place.write(
        "reformis.toml",
        format!("[cloud.shelf]\nkind = \"image-service\"\nat = \"{}\"\n", glance.link()).as_bytes(),
    );
    let mut disk = vec![0; 40 << 20];
    Content::empty(40 << 20).with(0, 300_000, 1).with(5 << 20, 9_000_000, 2).read_at(0, &mut disk);
    place.write("ledger.raw", &disk);
    for (dest, shape, name) in [
        ("nvme-cloud", "raw/thin", "ledger"),
        ("nvme-cloud", "vmdk/stream", "tides"),
        ("virtio-cloud", "qcow2/thin", "books"),
        ("vmbus-cloud", "vhd/full", "berths"),
    ] {
        let mut words = carry(dest, &["--shape", shape, "--name", name, "--then", "image"]);
        (words[5], words[7]) = (name, "shelf");
        place.run(&words).expect(0);
        place.run(&["prove", &format!("{name}/{name}/receipt.json")]).expect(0);
        let file = format!("shelf:{name}/{name}-0.{}", shape.split('/').next().unwrap());
        place.run(&["recast", &file, &format!("{name}-back.raw"), "--as", "raw/thin"]).expect(0);
        let back = fs::read(place.path(&format!("{name}-back.raw"))).unwrap();
        assert!(back[..disk.len()] == disk && back[disk.len()..].iter().all(|byte| *byte == 0), "{name}");
    }
    assert!(place.run(&["hosts", "shelf"]).expect(0).out.contains("4 of its images are ours"));
}
