use std::{
    fs::{self, File},
    io::Write,
    os::unix::fs::{FileExt, MetadataExt, PermissionsExt, symlink},
};

use super::*;

fn names(folder: &Path) -> Vec<String> {
    let mut names: Vec<_> =
        fs::read_dir(folder).unwrap().map(|e| e.unwrap().file_name().to_string_lossy().into_owned()).collect();
    names.sort();
    names
}

fn stage(target: &Path, force: bool, bytes: &[u8]) -> Result<StagedFile> {
    let staged = StagedFile::create(target, force, Access::ANYBODY)?;
    staged.file()?.write_all(bytes).unwrap();
    Ok(staged)
}

fn is_in_the_way<T>(result: &Result<T>, why: &str) -> bool {
    matches!(result, Err(Error::InTheWay { what, .. }) if what.contains(why))
}

#[test]
fn what_is_dropped_leaves_nothing_and_what_is_committed_is_whole() {
    let place = tempfile::tempdir().unwrap();
    let target = place.path().join("a/b/landing");
    let fill = |staged: &StagedFolder, bytes: &[u8]| {
        write_into(staged.inside(), "mark", bytes, Access::ANYBODY).unwrap();
    };
    let staged = StagedFolder::create(&target, false, "mark", false).unwrap();
    fill(&staged, b"1");
    assert_eq!(
        fs::metadata(staged.inside().path()).unwrap().mode() & 0o777,
        0o700,
        "nobody looks in before it is whole"
    );
    drop(staged);
    assert_eq!(fs::read_dir(place.path()).unwrap().count(), 0);

    let staged = StagedFolder::create(&target, false, "mark", false).unwrap();
    fill(&staged, b"1");
    assert!(!target.exists());
    staged.commit().unwrap();
    assert_eq!(fs::read(target.join("mark")).unwrap(), b"1");
    assert_eq!(names(target.parent().unwrap()), ["landing"]);
    fs::create_dir(place.path().join("plain")).unwrap();
    let plain = fs::metadata(place.path().join("plain")).unwrap().mode();
    assert_eq!(fs::metadata(&target).unwrap().mode(), plain, "then it is as open as any new folder");

    fs::set_permissions(&target, fs::Permissions::from_mode(0o750)).unwrap();
    fs::set_permissions(target.join("mark"), fs::Permissions::from_mode(0o640)).unwrap();
    assert!(StagedFolder::create(&target, false, "mark", false).is_err());
    let staged = StagedFolder::create(&target, true, "mark", false).unwrap();
    fill(&staged, b"2");
    staged.commit().unwrap();
    assert_eq!(fs::read(target.join("mark")).unwrap(), b"2");
    assert_eq!(fs::metadata(&target).unwrap().mode() & 0o777, 0o750, "the mode of what was replaced is kept");
    assert_eq!(fs::metadata(target.join("mark")).unwrap().mode() & 0o777, 0o640);
    assert_eq!(names(target.parent().unwrap()), ["landing"]);
    assert!(matches!(StagedFolder::create(&target, true, "other", false), Err(Error::NotALanding { .. })));
}

#[test]
fn a_living_run_keeps_others_away_and_a_dead_one_does_not() {
    let place = tempfile::tempdir().unwrap();
    let target = place.path().join("disk.img");
    let living = stage(&target, false, b"x").unwrap();
    let busy = |error| matches!(error, Some(Error::Disk(reformis_disk::Error::Busy { .. })));
    assert!(busy(stage(&target, false, b"y").err()));
    drop(living);
    let living = StagedFolder::create(&place.path().join("l"), false, "mark", false).unwrap();
    assert!(busy(StagedFolder::create(&place.path().join("l"), false, "mark", false).err()));
    drop(living);
    // What a killed run leaves: the file, and no lock.
    fs::write(place.path().join(".disk.img.reformis-partial"), b"half").unwrap();
    stage(&target, false, b"x").unwrap().commit().unwrap();
    assert_eq!(fs::read(&target).unwrap(), b"x");

    fs::create_dir(place.path().join(".l.reformis-partial")).unwrap();
    fs::write(place.path().join(".l.reformis-partial/half"), b"half").unwrap();
    let staged = StagedFolder::create(&place.path().join("l"), false, "mark", false).unwrap();
    assert!(staged.had_stale());
    assert!(names(staged.inside().path()).is_empty());
}

#[test]
fn a_planted_link_is_not_followed() {
    let place = tempfile::tempdir().unwrap();
    let victim = place.path().join("victim");
    fs::write(&victim, b"precious").unwrap();
    symlink(&victim, place.path().join(".disk.img.reformis-partial")).unwrap();
    let staged = stage(&place.path().join("disk.img"), false, b"x");
    assert!(is_in_the_way(&staged, "symbolic link"));
    symlink(place.path(), place.path().join(".landing.reformis-partial")).unwrap();
    let staged = StagedFolder::create(&place.path().join("landing"), false, "mark", false);
    assert!(staged.is_err());
    // A second name of a file of ours, which another user can make where the system lets him.
    fs::hard_link(&victim, place.path().join(".other.img.reformis-partial")).unwrap();
    stage(&place.path().join("other.img"), false, b"x").unwrap().commit().unwrap();
    assert_eq!(fs::read(&victim).unwrap(), b"precious");
    let pipe = place.path().join(".third.img.reformis-partial");
    rustix::fs::mknodat(rustix::fs::CWD, &pipe, rustix::fs::FileType::Fifo, 0o600.into(), 0).unwrap();
    assert!(is_in_the_way(&stage(&place.path().join("third.img"), false, b"x"), "not what a run of ours leaves"));
}

#[test]
#[expect(clippy::print_stdout, reason = "a test that is skipped says so")]
fn what_another_user_left_is_not_taken_over() {
    if !rustix::process::geteuid().is_root() {
        println!("skipped: only root can give a file to another user");
        return;
    }
    let place = tempfile::tempdir().unwrap();
    let partial = place.path().join(".disk.img.reformis-partial");
    fs::write(&partial, b"theirs").unwrap();
    std::os::unix::fs::chown(&partial, Some(12345), None).unwrap();
    assert!(is_in_the_way(&stage(&place.path().join("disk.img"), false, b"x"), "another user"));
    assert_eq!(fs::read(&partial).unwrap(), b"theirs");
    let folder = place.path().join(".landing.reformis-partial");
    fs::create_dir(&folder).unwrap();
    std::os::unix::fs::chown(&folder, Some(12345), None).unwrap();
    assert!(is_in_the_way(&StagedFolder::create(&place.path().join("landing"), false, "m", false), "another user"));
}

#[test]
fn a_result_is_no_wider_than_its_source_and_keeps_what_it_replaces() {
    let place = tempfile::tempdir().unwrap();
    let at = |name: &str| place.path().join(name);
    let mode = |name: &str| fs::metadata(at(name)).unwrap().mode() & 0o777;
    fs::write(at("secret"), b"1").unwrap();
    fs::set_permissions(at("secret"), fs::Permissions::from_mode(0o600)).unwrap();
    write(&at("copy"), b"1", false, Access::of(&fs::metadata(at("secret")).unwrap())).unwrap();
    assert_eq!(mode("copy"), 0o600);
    fs::set_permissions(at("secret"), fs::Permissions::from_mode(0o644)).unwrap();
    write(&at("open"), b"1", false, Access::of(&fs::metadata(at("secret")).unwrap())).unwrap();
    assert_eq!(mode("open"), 0o644);

    let replaced = at("replaced");
    fs::write(&replaced, b"old").unwrap();
    fs::set_permissions(&replaced, fs::Permissions::from_mode(0o664)).unwrap();
    let file = File::open(&replaced).unwrap();
    let has_attributes =
        rustix::fs::fsetxattr(&file, "user.owner-note", b"harbour", rustix::fs::XattrFlags::empty()).is_ok();
    let root = rustix::process::geteuid().is_root();
    if root {
        std::os::unix::fs::chown(&replaced, Some(1234), Some(4321)).unwrap();
    }
    write(&replaced, b"new", true, Access::ANYBODY).unwrap();
    let metadata = fs::metadata(&replaced).unwrap();
    assert_eq!((fs::read(&replaced).unwrap().as_slice(), metadata.mode() & 0o777), (&b"new"[..], 0o664));
    if root {
        assert_eq!((metadata.uid(), metadata.gid()), (1234, 4321));
    }
    if has_attributes {
        let mut value = [0; 32];
        let len = rustix::fs::getxattr(&replaced, "user.owner-note", &mut value[..]).unwrap();
        assert_eq!(&value[..len], b"harbour");
    }
    assert_eq!(names(place.path()), ["copy", "open", "replaced", "secret"]);
}

#[test]
#[expect(clippy::print_stdout, reason = "a test that is skipped says so")]
fn an_access_control_list_is_kept() {
    let place = tempfile::tempdir().unwrap();
    let target = place.path().join("disk");
    fs::write(&target, b"old").unwrap();
    // Version 2 (acl(5), linux/posix_acl_xattr.h): the owner rw, user 4242 r, the group r, the mask r, others nothing.
    let entry =
        |tag: u16, bits: u16, id: u32| [&tag.to_le_bytes()[..], &bits.to_le_bytes(), &id.to_le_bytes()].concat();
    let list = [
        2u32.to_le_bytes().to_vec(),
        entry(1, 6, u32::MAX),
        entry(2, 4, 4242),
        entry(4, 4, u32::MAX),
        entry(16, 4, u32::MAX),
        entry(32, 0, u32::MAX),
    ]
    .concat();
    let name = "system.posix_acl_access";
    if rustix::fs::setxattr(&target, name, &list, rustix::fs::XattrFlags::empty()).is_err() {
        println!("skipped: this file system keeps no access control lists");
        return;
    }
    write(&target, b"new", true, Access::ANYBODY).unwrap();
    let mut value = [0; 256];
    let len = rustix::fs::getxattr(&target, name, &mut value[..]).unwrap();
    assert_eq!((fs::read(&target).unwrap().as_slice(), &value[..len]), (&b"new"[..], &list[..]));
}

#[test]
fn a_failed_commit_puts_back_what_was_replaced() {
    let place = tempfile::tempdir().unwrap();
    let at = |name: &str| place.path().join(name);
    for name in ["disk", "disk-1", "disk-2"] {
        fs::write(at(name), format!("old {name}")).unwrap();
    }
    let staged = stage(&at("disk"), true, b"new").unwrap();
    let mut make = staged.pieces();
    for name in ["disk-1", "disk-2", "disk-3"] {
        make(name).unwrap().write_all_at(b"new", 0).unwrap();
    }
    drop(make);
    // The last name is taken by something that is not replaced.
    fs::create_dir(at("disk-3")).unwrap();
    assert!(staged.commit().is_err());
    for name in ["disk", "disk-1", "disk-2"] {
        assert_eq!(fs::read_to_string(at(name)).unwrap(), format!("old {name}"));
    }
    assert_eq!(names(place.path()), ["disk", "disk-1", "disk-2", "disk-3"]);

    let mut staged = stage(&at("disk"), true, b"new").unwrap();
    staged.publish().unwrap();
    assert_eq!(fs::read(at("disk")).unwrap(), b"new");
    drop(staged);
    assert_eq!(fs::read_to_string(at("disk")).unwrap(), "old disk", "what was not kept is taken back");
}

#[test]
fn pieces_replace_nothing_without_force_but_what_a_killed_run_named() {
    let place = tempfile::tempdir().unwrap();
    let at = |name: &str| place.path().join(name);
    fs::write(at(".disk.reformis-partial"), b"left by a killed run").unwrap();
    fs::write(at("disk-1"), b"precious").unwrap();
    let staged = stage(&at("disk"), false, b"new").unwrap();
    assert!(matches!(staged.pieces()("disk-1"), Err(reformis_disk::Error::Exists { .. })));
    drop(staged);
    assert_eq!(fs::read(at("disk-1")).unwrap(), b"precious");

    // Killed after the first piece had its name: both names are there, of one file.
    fs::write(at("disk-2"), b"left by a killed run").unwrap();
    fs::hard_link(at("disk-2"), at(".disk-2.reformis-partial")).unwrap();
    let staged = stage(&at("disk"), false, b"new").unwrap();
    staged.pieces()("disk-2").unwrap().write_all_at(b"new", 0).unwrap();
    staged.commit().unwrap();
    assert_eq!(fs::read(at("disk-2")).unwrap(), b"new");
    assert_eq!(names(place.path()), ["disk", "disk-1", "disk-2"]);
}

#[test]
fn names_are_of_the_folder_that_was_opened() {
    let place = tempfile::tempdir().unwrap();
    let at = |name: &str| place.path().join(name);
    fs::create_dir(at("shared")).unwrap();
    fs::create_dir(at("elsewhere")).unwrap();
    let staged = stage(&at("shared/disk"), false, b"new").unwrap();
    // Someone puts another folder in its place.
    fs::rename(at("shared"), at("moved")).unwrap();
    symlink(at("elsewhere"), at("shared")).unwrap();
    staged.commit().unwrap();
    assert_eq!(names(&at("moved")), ["disk"]);
    assert!(names(&at("elsewhere")).is_empty());
}

/// A run that was killed when all had their names left a whole result: nobody takes it for a half-made one, and what is hidden of it goes.
#[test]
fn a_result_that_was_named_whole_stays_whole() {
    let place = tempfile::tempdir().unwrap();
    let at = |name: &str| place.path().join(name);
    for left in
        [&["disk.vmdk", "disk-s001.vmdk", "disk-s002.vmdk"][..], &["disk.vmdk", "disk-s002.vmdk"], &["disk.vmdk"]]
    {
        for name in ["disk.vmdk", "disk-s001.vmdk", "disk-s002.vmdk", "other.vmdk"] {
            fs::write(at(name), format!("whole {name}")).unwrap();
        }
        for name in left.iter().chain(&["other.vmdk"]) {
            fs::hard_link(at(name), at(&format!(".{name}.reformis-partial"))).unwrap();
        }
        assert!(stage(&at("disk.vmdk"), false, b"new").is_err());
        assert_eq!(
            names(place.path()),
            [".other.vmdk.reformis-partial", "disk-s001.vmdk", "disk-s002.vmdk", "disk.vmdk", "other.vmdk"]
        );
        assert_eq!(fs::read_to_string(at("disk.vmdk")).unwrap(), "whole disk.vmdk");
        fs::remove_file(at(".other.vmdk.reformis-partial")).unwrap();
    }
}

/// What a run leaves that is killed in the middle of an exchange that takes a third name stops nobody, and what was to be replaced is not lost.
#[test]
fn a_third_name_is_settled() {
    let place = tempfile::tempdir().unwrap();
    let at = |name: &str| place.path().join(name);
    let aside = ".disk.reformis-partial-replaced";
    // Killed behind the first step: nothing has the name.
    fs::write(at(aside), b"old").unwrap();
    fs::write(at(".disk.reformis-partial"), b"half").unwrap();
    assert!(write(&at("disk"), b"new", false, Access::ANYBODY).is_err());
    assert_eq!(fs::read(at("disk")).unwrap(), b"old");
    write(&at("disk"), b"new", true, Access::ANYBODY).unwrap();
    assert_eq!(
        (fs::read(at("disk")).unwrap().as_slice(), names(place.path())),
        (&b"new"[..], vec!["disk".to_string()])
    );
    // Behind the second one: the new one has it.
    fs::write(at(aside), b"old").unwrap();
    assert!(write(&at("disk"), b"newer", false, Access::ANYBODY).is_err());
    assert_eq!(
        (fs::read(at("disk")).unwrap().as_slice(), names(place.path())),
        (&b"new"[..], vec!["disk".to_string()])
    );
}
