//! Ground: a folder held open, of which it is known who may put names there. Whatever is *ours* (a state, ledgers, journals, logs, what a
//! lent guest wrote, sockets, the site's file) is opened through one: a file is ours because of who could have put it there, never because
//! of its name.

use std::{
    ffi::OsStr,
    fs::File,
    io,
    os::{fd::OwnedFd, unix::fs::MetadataExt},
    path::{Path, PathBuf},
    sync::Arc,
};

use rustix::{
    fs::{AtFlags, FileType, Mode, OFlags, Stat, fstat},
    io::Errno,
};

use crate::error::{Error, Result};

/// A folder that nobody may write to but us and the system's administrator.
#[derive(Debug, Clone)]
pub struct Ground {
    folder: Arc<OwnedFd>,
    path: PathBuf,
}

/// Flags of everything that is opened: no link is followed, no terminal is taken, no pipe is waited for, and nothing is handed to programs.
const PLAIN: OFlags = OFlags::CLOEXEC.union(OFlags::NOCTTY).union(OFlags::NOFOLLOW).union(OFlags::NONBLOCK);

impl Ground {
    /// The folder at `path`, which is made for us alone where it is not there.
    ///
    /// # Errors
    /// [`Error::NotOurs`]: what lies there is no folder, is another user's, or may be written to by others. What the system says.
    pub fn make(path: &Path) -> Result<Self> {
        match rustix::fs::mkdir(path, Mode::RWXU) {
            Ok(()) | Err(Errno::EXIST) => Self::open(path),
            Err(errno) => Err(io_error("making", path, errno)),
        }
    }

    /// The folder at `path`.
    ///
    /// # Errors
    /// As those of [`Ground::make`].
    pub fn open(path: &Path) -> Result<Self> {
        let folder = rustix::fs::open(path, PLAIN | OFlags::DIRECTORY | OFlags::RDONLY, Mode::empty());
        let folder = folder.map_err(|errno| match errno {
            Errno::LOOP | Errno::NOTDIR => not_ours(path, "it is no folder, or a link to one"),
            errno => io_error("opening", path, errno),
        })?;
        let stat = fstat(&folder).map_err(|errno| io_error("looking at", path, errno))?;
        check(&stat, path, FileType::Directory)?;
        Ok(Self { folder: Arc::new(folder), path: path.into() })
    }

    /// The path by which it was opened.
    pub fn path(&self) -> &Path {
        &self.path
    }

    /// The whole path of `name` in it, as long as the folder is still the one at that path: for a library that opens files by their paths.
    ///
    /// # Errors
    /// [`Error::NotOurs`]: another folder has its place now. What the system says.
    pub fn whole_path_of(&self, name: &str) -> Result<PathBuf> {
        let whole = self.path.canonicalize().map_err(Error::io("finding", self.shown(), None))?;
        let there = whole.metadata().map_err(Error::io("looking at", self.shown(), None))?;
        let own = fstat(&*self.folder).map_err(|errno| io_error("looking at", &self.path, errno))?;
        match (there.dev(), there.ino()) == (own.st_dev, own.st_ino) {
            true => Ok(whole.join(name)),
            false => Err(not_ours(&self.path, "another folder has taken its place")),
        }
    }

    /// Makes the file `name`, for us alone, where it is not there.
    ///
    /// # Errors
    /// What the system says; that it is there is none.
    pub fn create(&self, name: &str) -> Result<()> {
        let flags = PLAIN | OFlags::RDWR | OFlags::CREATE | OFlags::EXCL;
        match rustix::fs::openat(&*self.folder, name, flags, Mode::from_raw_mode(0o600)) {
            Ok(_) | Err(Errno::EXIST) => Ok(()),
            Err(errno) => Err(io_error("making", &self.path.join(name), errno)),
        }
    }

    /// Opens the plain file `name` to write behind its end; it is made for us alone where it is not there.
    ///
    /// # Errors
    /// [`Error::NotOurs`]: it is no plain file, has a second name, is another user's, or may be written to by others. What the system says.
    pub fn append(&self, name: impl AsRef<OsStr>) -> Result<File> {
        append_at(&self.folder, name.as_ref(), &self.path.join(name.as_ref()))
    }

    /// What has the name; a link is not followed. None where nothing has it.
    ///
    /// # Errors
    /// What the system says.
    pub fn stat(&self, name: &str) -> Result<Option<Stat>> {
        match rustix::fs::statat(&*self.folder, name, AtFlags::SYMLINK_NOFOLLOW) {
            Ok(stat) => Ok(Some(stat)),
            Err(Errno::NOENT) => Ok(None),
            Err(errno) => Err(io_error("looking at", &self.path.join(name), errno)),
        }
    }

    /// Device and inode of the plain file `name`, which has to be ours, too; none where it is not there.
    ///
    /// # Errors
    /// As those of [`Ground::append`].
    pub fn identity(&self, name: &str) -> Result<Option<(u64, u64)>> {
        let Some(stat) = self.stat(name)? else { return Ok(None) };
        check(&stat, &self.path.join(name), FileType::RegularFile)?;
        Ok(Some((stat.st_dev, stat.st_ino)))
    }

    fn shown(&self) -> String {
        self.path.to_string_lossy().into_owned()
    }
}

/// Opens the plain file at `path` to write behind its end, wherever that is: a link is not followed, a pipe is not waited for, and a file that
/// is not ours is not written to.
///
/// # Errors
/// As those of [`Ground::append`].
pub fn append(path: &Path) -> Result<File> {
    append_at(rustix::fs::CWD, path.as_os_str(), path)
}

fn append_at(folder: impl std::os::fd::AsFd, name: &OsStr, path: &Path) -> Result<File> {
    let flags = PLAIN | OFlags::APPEND | OFlags::CREATE | OFlags::WRONLY;
    let file = rustix::fs::openat(folder, name, flags, Mode::from_raw_mode(0o600));
    let file = file.map_err(|errno| match errno {
        Errno::LOOP => not_ours(path, "it is a symbolic link"),
        // A pipe that nobody reads; a folder.
        Errno::NXIO | Errno::ISDIR => not_ours(path, "it is no plain file"),
        errno => io_error("opening", path, errno),
    })?;
    let stat = fstat(&file).map_err(|errno| io_error("looking at", path, errno))?;
    check(&stat, path, FileType::RegularFile)?;
    if stat.st_nlink != 1 {
        return Err(not_ours(path, "it has another name besides"));
    }
    Ok(file.into())
}

/// Opens the plain file at `path` for reading, if only we or the system's administrator can have written it and put it there: it and every
/// folder above it are ours or the administrator's, and nobody else may write to it or put another one in its place.
///
/// # Errors
/// [`Error::NotOurs`], which says what is not so; what the system says.
pub fn trusted(path: &Path) -> Result<File> {
    let whole = path.canonicalize().map_err(Error::io("opening", path.to_string_lossy(), None))?;
    let file = open_plain(path)?;
    let stat = fstat(&file).map_err(|errno| io_error("looking at", path, errno))?;
    check_trusted(&stat, path)?;
    // The folder that holds it: a new file there could have its name tomorrow. Above it, a folder in which nobody renames what is another's
    // (S_ISVTX) will do.
    for (depth, folder) in whole.ancestors().skip(1).enumerate() {
        let stat = rustix::fs::stat(folder).map_err(|errno| io_error("looking at", folder, errno))?;
        let is_sticky = depth > 0 && stat.st_mode & Mode::SVTX.bits() != 0;
        if !is_trusted_owner(&stat) {
            return Err(not_ours(path, "a folder above it belongs to another user"));
        }
        if others_may_write(&stat) && !is_sticky {
            return Err(not_ours(path, "others may write to a folder above it"));
        }
    }
    // Looked up anew behind all that, it is still the one that was opened.
    let again = rustix::fs::stat(&whole).map_err(|errno| io_error("looking at", path, errno))?;
    match (again.st_dev, again.st_ino) == (stat.st_dev, stat.st_ino) {
        true => Ok(file),
        false => Err(not_ours(path, "another file has taken its place")),
    }
}

/// Whether [`trusted`] would open the file at `path`.
///
/// # Errors
/// What the system says where it cannot be told.
pub fn is_trusted(path: &Path) -> Result<bool> {
    match trusted(path) {
        Ok(_) => Ok(true),
        Err(Error::NotOurs { .. }) => Ok(false),
        Err(error) => Err(error),
    }
}

/// Whether only we or the system's administrator can have written what is in the open file.
///
/// # Errors
/// What the system says.
pub fn is_own(file: &File, path: &Path) -> Result<bool> {
    let stat = fstat(file).map_err(|errno| io_error("looking at", path, errno))?;
    Ok(is_trusted_owner(&stat) && !others_may_write(&stat))
}

/// Opens the plain file at `path` for reading, whoever's it is; a pipe is not waited for.
///
/// # Errors
/// [`Error::NotOurs`] for what is no plain file; what the system says.
pub fn open_plain(path: &Path) -> Result<File> {
    let flags = OFlags::CLOEXEC | OFlags::NOCTTY | OFlags::NONBLOCK | OFlags::RDONLY;
    let file = rustix::fs::open(path, flags, Mode::empty()).map_err(|errno| io_error("opening", path, errno))?;
    let stat = fstat(&file).map_err(|errno| io_error("looking at", path, errno))?;
    match FileType::from_raw_mode(stat.st_mode) {
        FileType::RegularFile => Ok(file.into()),
        _ => Err(not_ours(path, "it is no plain file")),
    }
}

/// Reads the plain file at `path`, at most `most` bytes of text.
///
/// # Errors
/// As those of [`open_plain`]; that it is longer, or no text.
pub fn read_text(file: File, path: &Path, most: u64) -> Result<String> {
    let mut text = String::new();
    let read = io::Read::read_to_string(&mut io::Read::take(file, most.saturating_add(1)), &mut text);
    let read = read.map_err(Error::io("reading", path.to_string_lossy(), None))?;
    match read as u64 > most {
        true => Err(Error::damaged(&path.to_string_lossy(), most, format!("it has more than {most} bytes"))),
        false => Ok(text),
    }
}

/// Whether what `stat` is of is ours, of the kind that is meant, and nobody else may write to it.
fn check(stat: &Stat, path: &Path, kind: FileType) -> Result<()> {
    if FileType::from_raw_mode(stat.st_mode) != kind {
        let what = if kind == FileType::Directory { "it is no folder" } else { "it is no plain file" };
        return Err(not_ours(path, what));
    }
    if stat.st_uid != rustix::process::geteuid().as_raw() {
        return Err(not_ours(path, "it belongs to another user"));
    }
    match others_may_write(stat) {
        true => Err(not_ours(path, "others may write to it")),
        false => Ok(()),
    }
}

fn check_trusted(stat: &Stat, path: &Path) -> Result<()> {
    if !is_trusted_owner(stat) {
        return Err(not_ours(path, "it belongs to another user"));
    }
    match others_may_write(stat) {
        true => Err(not_ours(path, "others may write to it")),
        false => Ok(()),
    }
}

/// Whether only we or the system's administrator own it.
fn is_trusted_owner(stat: &Stat) -> bool {
    stat.st_uid == 0 || stat.st_uid == rustix::process::geteuid().as_raw()
}

/// Whether anybody but its owner may write to it. A group counts unless it is its owner's own: many systems give each user one.
fn others_may_write(stat: &Stat) -> bool {
    stat.st_mode & 0o002 != 0 || stat.st_mode & 0o020 != 0 && !is_own_group(stat.st_uid, stat.st_gid)
}

/// Whether the group `gid` is the one that the user `uid` has for itself: of the same name, its first one, and with nobody else in it
/// (passwd(5), group(5)). What another directory of users knows is not asked: there, it is not.
fn is_own_group(uid: u32, gid: u32) -> bool {
    let users = std::fs::read_to_string("/etc/passwd").unwrap_or_default();
    let groups = std::fs::read_to_string("/etc/group").unwrap_or_default();
    own_group(&users, &groups, uid, gid)
}

fn own_group(users: &str, groups: &str, uid: u32, gid: u32) -> bool {
    let number = |text: Option<&str>| text.and_then(|text| text.parse::<u32>().ok());
    let mut owner = None;
    for line in users.lines() {
        let fields: Vec<&str> = line.split(':').collect();
        if number(fields.get(3).copied()) != Some(gid) {
            continue;
        }
        match number(fields.get(2).copied()) == Some(uid) {
            true => owner = fields.first().copied(),
            // Somebody else's first group, too.
            false => return false,
        }
    }
    let Some(owner) = owner else { return false };
    let mut found = false;
    for line in groups.lines() {
        let fields: Vec<&str> = line.split(':').collect();
        if number(fields.get(2).copied()) != Some(gid) {
            continue;
        }
        let members = fields.get(3).copied().unwrap_or_default().split(',').filter(|name| !name.is_empty());
        if fields.first().copied() != Some(owner) || members.into_iter().any(|name| name != owner) {
            return false;
        }
        found = true;
    }
    found
}

fn not_ours(path: &Path, what: &'static str) -> Error {
    Error::NotOurs { path: path.to_string_lossy().into_owned(), what }
}

fn io_error(action: &'static str, path: &Path, errno: Errno) -> Error {
    Error::io(action, path.to_string_lossy(), None)(errno.into())
}

#[cfg(test)]
mod tests {
    use std::{
        fs,
        os::unix::fs::{PermissionsExt, symlink},
    };

    use super::*;

    fn mode(path: &Path, mode: u32) {
        fs::set_permissions(path, fs::Permissions::from_mode(mode)).unwrap();
    }

    fn why<T>(result: Result<T>) -> String {
        result.err().unwrap().to_string()
    }

    #[test]
    fn a_folder_is_made_for_us_alone_or_is_ours() {
        let above = tempfile::tempdir().unwrap();
        let path = above.path().join("night.state");
        let ground = Ground::make(&path).unwrap();
        assert_eq!(path.metadata().unwrap().mode() & 0o777, 0o700);
        ground.create("fleet.db").unwrap();
        ground.create("fleet.db").unwrap();
        assert!(ground.identity("fleet.db").unwrap().is_some() && ground.identity("none").unwrap().is_none());
        assert!(ground.whole_path_of("fleet.db").unwrap().ends_with("night.state/fleet.db"));
        // Another one in its place is noticed.
        fs::rename(&path, above.path().join("away")).unwrap();
        fs::create_dir(&path).unwrap();
        assert!(why(ground.whole_path_of("fleet.db")).contains("has taken its place"));
        mode(&path, 0o777);
        assert!(why(Ground::make(&path)).contains("others may write to it"));
        fs::remove_dir(&path).unwrap();
        fs::write(&path, b"").unwrap();
        assert!(why(Ground::make(&path)).contains("no folder"));
        fs::remove_file(&path).unwrap();
        symlink(above.path().join("away"), &path).unwrap();
        assert!(why(Ground::make(&path)).contains("no folder"));
    }

    #[test]
    fn a_log_is_a_plain_file_of_ours() {
        let above = tempfile::tempdir().unwrap();
        let ground = Ground::make(&above.path().join("logs")).unwrap();
        let victim = above.path().join("victim");
        fs::write(&victim, b"as it was").unwrap();
        let at = |name: &str| ground.path().join(name);
        symlink(&victim, at("link")).unwrap();
        fs::hard_link(&victim, at("second")).unwrap();
        rustix::fs::mknodat(rustix::fs::CWD, at("pipe"), FileType::Fifo, Mode::RWXU, 0).unwrap();
        fs::create_dir(at("folder")).unwrap();
        fs::write(at("open"), b"").unwrap();
        mode(&at("open"), 0o666);
        for (name, what) in [
            ("link", "symbolic link"),
            ("second", "another name"),
            ("pipe", "no plain file"),
            ("folder", "no plain file"),
            ("open", "others may write"),
        ] {
            assert!(why(ground.append(name)).contains(what), "{name}");
            assert!(why(append(&at(name))).contains(what), "{name}");
        }
        assert_eq!(fs::read(&victim).unwrap(), b"as it was");
        for text in ["a", "b"] {
            io::Write::write_all(&mut ground.append("plain").unwrap(), text.as_bytes()).unwrap();
        }
        assert_eq!(fs::read(at("plain")).unwrap(), b"ab");
    }

    #[test]
    fn a_file_is_trusted_for_who_could_have_put_it_there() {
        let above = tempfile::tempdir().unwrap();
        let (folder, file) = (above.path().join("site"), above.path().join("site/reformis.toml"));
        fs::create_dir(&folder).unwrap();
        fs::write(&file, b"x").unwrap();
        mode(&folder, 0o755);
        mode(&file, 0o644);
        let mut read = String::new();
        io::Read::read_to_string(&mut trusted(&file).unwrap(), &mut read).unwrap();
        assert_eq!(read, "x");
        for (of_folder, of_file, is_fine) in
            [(0o755, 0o666, false), (0o777, 0o644, false), (0o1777, 0o644, false), (0o700, 0o600, true)]
        {
            mode(&folder, of_folder);
            mode(&file, of_file);
            assert_eq!(is_trusted(&file).unwrap(), is_fine, "{of_folder:o} {of_file:o}");
        }
        // Further up, others may write where they may rename nothing of ours.
        mode(above.path(), 0o1777);
        assert!(is_trusted(&file).unwrap());
        mode(above.path(), 0o777);
        assert!(why(trusted(&file)).contains("a folder above it"));
        mode(above.path(), 0o700);
        rustix::fs::mknodat(rustix::fs::CWD, folder.join("pipe"), FileType::Fifo, Mode::RWXU, 0).unwrap();
        assert!(why(trusted(&folder.join("pipe"))).contains("no plain file"));
    }

    #[test]
    fn a_users_own_group_is_no_other() {
        let users = "root:x:0:0::/root:/bin/sh\nkeeper:x:1000:1000::/home/keeper:/bin/sh\nclerk:x:1001:1001::/:\nguest:x:1002:50::/:\n";
        let groups = "root:x:0:\nkeeper:x:1000:\nclerk:x:1001:keeper\nstaff:x:50:\n";
        let own = |uid, gid| own_group(users, groups, uid, gid);
        assert!(own(1000, 1000) && own(0, 0));
        assert!(!own(1001, 1001), "somebody else is in it");
        assert!(!own(1002, 50), "it is called otherwise");
        assert!(!own(1000, 0) && !own(7, 7));
        assert!(!own_group("", "", 0, 0));
    }

    proptest::proptest! {
        /// Lines of any kind: nobody's group is taken for a user's own unless a line of each file says so.
        #[test]
        fn strange_lists_of_users_make_no_friend(users in "[a-c:0-3\n]{0,60}", groups in "[a-c:0-3,\n]{0,60}", uid in 0..4u32, gid in 0..4u32) {
            if own_group(&users, &groups, uid, gid) {
                let number = |text: &&str| text.parse::<u32>().ok();
                let name = users.lines().find(|line| {
                    let fields: Vec<&str> = line.split(':').collect();
                    fields.get(2).and_then(number) == Some(uid) && fields.get(3).and_then(number) == Some(gid)
                }).and_then(|line| line.split(':').next());
                proptest::prop_assert!(name.is_some());
                let has_line = groups.lines().any(|line| line.split(':').next() == name);
                proptest::prop_assert!(has_line);
            }
        }
    }
}
