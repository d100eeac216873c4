//! Driver media of every kind: the same files are the same drivers, however they are packed; and what is wrong with one is told.

use std::{
    fs,
    io::{Cursor, Write},
    path::{Path, PathBuf},
    process::Command,
    sync::Arc,
};

use reformis_disk::{Storage, budget::Budget, source::MemoryStorage};
use reformis_guest::nt::drivers::{Library, Medium, Offer};
use reformis_standin::driver;

use crate::common::{has, run};

fn offers(medium: Medium) -> Vec<Offer> {
    let library = Library::read(vec![medium], &Budget::whole()).unwrap();
    assert_eq!(library.unread, []);
    library.offers()
}

fn at(path: &Path) -> Vec<Offer> {
    offers(Medium::open(path, &Budget::whole()).unwrap())
}

fn of(bytes: Vec<u8>) -> Result<Medium, String> {
    let storage: Arc<dyn Storage> = Arc::new(MemoryStorage::new("medium", bytes));
    Medium::of_storage(storage, &Budget::whole()).map_err(|error| error.to_string())
}

/// The files in a folder.
fn folder(place: &Path) -> PathBuf {
    let root = place.join("medium");
    for (path, bytes) in driver::medium() {
        let whole = root.join(path);
        fs::create_dir_all(whole.parent().unwrap()).unwrap();
        fs::write(whole, bytes).unwrap();
    }
    root
}

/// A cabinet whose folders are packed so.
fn cabinet(kinds: &[cab::CompressionType], separator: &str) -> Vec<u8> {
    let mut builder = cab::CabinetBuilder::new();
    let files = driver::medium();
    for (index, kind) in kinds.iter().enumerate() {
        let folder = builder.add_folder(*kind);
        for (path, _) in files.iter().skip(index).step_by(kinds.len()) {
            folder.add_file(path.replace('/', separator));
        }
    }
    let mut writer = builder.build(Cursor::new(Vec::new())).unwrap();
    while let Some(mut file) = writer.next_file().unwrap() {
        let name = file.file_name().replace('\\', "/");
        let (_, bytes) = files.iter().find(|(path, _)| *path == name).unwrap();
        file.write_all(bytes).unwrap();
    }
    writer.finish().unwrap().into_inner()
}

#[test]
fn a_folder_and_a_cabinet_offer_the_same() {
    let place = tempfile::tempdir().unwrap();
    let expected = at(&folder(place.path()));
    assert_eq!(expected.len(), 16);
    for kinds in [&[cab::CompressionType::None][..], &[cab::CompressionType::MsZip, cab::CompressionType::None]] {
        for separator in ["/", "\\"] {
            let medium = of(cabinet(kinds, separator)).unwrap();
            assert_eq!(medium.kind(), Medium::CABINET);
            assert_eq!(offers(medium), expected);
        }
    }
    // A link in a folder may lead anywhere: it is passed over.
    std::os::unix::fs::symlink("/etc", place.path().join("medium/link")).unwrap();
    assert_eq!(at(&place.path().join("medium")), expected);
}

#[test]
fn an_archive_offers_the_same() {
    if !has(&["7zz", "tar"]) {
        return;
    }
    let place = tempfile::tempdir().unwrap();
    let root = folder(place.path());
    let expected = at(&root);
    run(Command::new("7zz").args(["a", "-tzip", "../m.zip", "."]).current_dir(&root));
    run(Command::new("tar").args(["-cf", "../m.tar", "."]).current_dir(&root));
    for name in ["m.zip", "m.tar"] {
        let found = at(&place.path().join(name));
        let plain: Vec<Offer> =
            found.into_iter().map(|offer| Offer { inf: offer.inf.trim_start_matches("./").into(), ..offer }).collect();
        let signed = |offers: &[Offer]| offers.iter().map(|offer| offer.signature.is_some()).collect::<Vec<_>>();
        assert_eq!(signed(&plain), signed(&expected), "{name}");
        assert_eq!(
            plain.iter().map(|offer| (&offer.inf, &offer.devices)).collect::<Vec<_>>(),
            expected.iter().map(|offer| (&offer.inf, &offer.devices)).collect::<Vec<_>>()
        );
    }
}

#[test]
fn an_optical_medium_offers_the_same_by_whoevers_names() {
    if !has(&["xorriso", "genisoimage"]) {
        return;
    }
    let place = tempfile::tempdir().unwrap();
    let root = folder(place.path());
    let image = place.path().join("m.iso");
    let made = |tool: &str, args: &[&str]| {
        fs::remove_file(&image).ok();
        let start: &[&str] = if tool == "xorriso" { &["-as", "mkisofs"] } else { &[] };
        run(Command::new(tool).args(start).args(["-quiet", "-V", "TIDE"]).args(args).arg("-o").arg(&image).arg(&root));
    };
    let expected = at(&root);
    // A path so deep that a folder on it is moved elsewhere, and a name that goes on in another area.
    let deep = "a/b/c/d/e/f/g/h/i";
    fs::create_dir_all(root.join(deep)).unwrap();
    let (long, bytes) = ("x".repeat(200), fs::read(root.join("tidenet/2k22/amd64/tidenet.inf")).unwrap());
    fs::write(root.join(deep).join(format!("{long}.inf")), bytes).unwrap();
    let with_deep = at(&root);
    for args in [&["-r"][..], &["-J", "-joliet-long", "-r"]] {
        for tool in ["xorriso", "genisoimage"] {
            made(tool, args);
            let found = at(&image);
            let paths = |offers: &[Offer]| offers.iter().map(|offer| offer.inf.clone()).collect::<Vec<_>>();
            assert_eq!(paths(&found), paths(&with_deep), "{tool} {args:?}");
            assert_eq!(found, with_deep);
        }
    }
    fs::remove_dir_all(root.join("a")).unwrap();
    // The one always writes Rock Ridge, the other only where it is asked to.
    made("genisoimage", &["-J", "-joliet-long"]);
    assert_eq!(at(&image), expected, "Joliet alone");
    made("genisoimage", &["-J", "-joliet-long", "-r", "-udf"]);
    let medium = Medium::open(&image, &Budget::whole()).unwrap();
    assert!(medium.has_udf() && medium.has_drivers());
    made("genisoimage", &[]);
    let plain = at(&image);
    assert_eq!(plain.len(), expected.len());
    assert!(plain[0].inf.ends_with("/AMD64/TIDEBALL.INF"), "{}", plain[0].inf);

    // Cut short anywhere, or with a folder that is its own: an error, or fewer files, and an end.
    made("xorriso", &["-r"]);
    let bytes = fs::read(&image).unwrap();
    for len in (0..bytes.len()).step_by(1531) {
        if let Ok(medium) = of(bytes[..len].to_vec()) {
            Library::read(vec![medium], &Budget::whole()).unwrap();
        }
    }
    let root_at = u32::from_le_bytes(bytes[16 * 2048 + 158..][..4].try_into().unwrap());
    let mut looped = bytes.clone();
    let folder = root_at as usize * 2048;
    // Behind the entries of the folder itself and of the one above it.
    let first = folder + usize::from(bytes[folder]);
    let child = first + usize::from(bytes[first]);
    looped[child + 2..child + 6].copy_from_slice(&root_at.to_le_bytes());
    assert!(of(looped).err().unwrap().contains("lies below itself"));
}

#[test]
fn what_is_no_medium_is_told() {
    assert!(of(vec![7; 4096]).err().unwrap().contains("it is no driver medium"));
    let mut udf = vec![0; 20 * 2048];
    udf[16 * 2048 + 1..][..5].copy_from_slice(b"BEA01");
    udf[17 * 2048 + 1..][..5].copy_from_slice(b"NSR03");
    assert!(of(udf).err().unwrap().contains("a medium of UDF alone; copy its files into a folder"));
    let mut broken = cabinet(&[cab::CompressionType::MsZip], "\\");
    let middle = broken.len() / 2;
    broken[middle..].fill(0x55);
    let library = Library::read(vec![of(broken).unwrap()], &Budget::whole()).unwrap();
    assert!(!library.unread.is_empty());
    // Files that say that they lie where nothing is: found by the fuzzer, in the library that unpacks.
    let whole = cabinet(&[cab::CompressionType::MsZip], "\\");
    let files_at = u32::from_le_bytes(whole[16..20].try_into().unwrap()) as usize;
    for (at, value) in [(files_at + 4, 0x7fff_ffff_u32), (files_at, u32::MAX), (files_at + 8, 7), (40, 0)] {
        let mut moved = whole.clone();
        moved[at..at + 4].copy_from_slice(&value.to_le_bytes());
        let error = of(moved).err().unwrap();
        assert!(error.contains("outside of its folder"), "{error}");
    }
    let mut several = whole;
    several[30] = 2;
    assert!(of(several).err().unwrap().contains("one of several cabinets"));
    let all = cabinet(&[cab::CompressionType::None], "/");
    for len in (0..all.len()).step_by(97) {
        if let Ok(medium) = of(all[..len].to_vec()) {
            Library::read(vec![medium], &Budget::whole()).unwrap();
        }
    }
    // What it takes is counted.
    let storage: Arc<dyn Storage> = Arc::new(MemoryStorage::new("medium", all));
    let small = Budget::new(8 << 10);
    let library = Medium::of_storage(storage, &small).and_then(|medium| Library::read(vec![medium], &small));
    assert!(library.err().unwrap().to_string().contains("memory"));
}
