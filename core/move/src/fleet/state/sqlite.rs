//! The state in a file beside the fleet file: SQLite, with nothing to set up.

use std::{
    collections::BTreeMap,
    path::Path,
    sync::{Arc, Mutex, PoisonError, Weak},
    time::{Duration, SystemTime, UNIX_EPOCH},
};

use rusqlite::{Connection, ErrorCode, OpenFlags, TransactionBehavior, params_from_iter, types::ValueRef};
use rustix::{
    fs::{FileType, Mode, OFlags},
    io::Errno,
};

use super::database::{Database, Result, Row, Session, Trouble, Value};

/// How long a statement waits for another process.
const PATIENCE: Duration = Duration::from_secs(60);

pub(super) struct Sqlite(Arc<Mutex<Connection>>);

impl From<rusqlite::Error> for Trouble {
    fn from(error: rusqlite::Error) -> Self {
        let again = matches!(error.sqlite_error_code(), Some(ErrorCode::DatabaseBusy | ErrorCode::DatabaseLocked));
        Self { what: error.to_string(), again }
    }
}

impl rusqlite::ToSql for Value {
    fn to_sql(&self) -> rusqlite::Result<rusqlite::types::ToSqlOutput<'_>> {
        Ok(match self {
            Self::Null => rusqlite::types::Null.to_sql()?,
            Self::Int(number) => number.to_sql()?,
            Self::Text(text) => text.to_sql()?,
        })
    }
}

/// The connections of this process, each by the device and inode of its file.
///
/// POSIX gives a process's locks on a file up as soon as *any* descriptor of that file is closed in it (POSIX.1-2017, `fcntl`), whoever
/// opened it: SQLite's locks, too. So the file is never opened beside SQLite (a descriptor that only names it, `O_PATH`, has no locks to
/// lose), and everybody here who asks for it shares one connection.
static CONNECTIONS: Mutex<Connections> = Mutex::new(BTreeMap::new());

type Connections = BTreeMap<(u64, u64), Weak<Mutex<Connection>>>;

impl Sqlite {
    /// Opens the file at `path`; with `make`, one is made where there is none. It may name programs that are run, so that it is nobody
    /// else's, and no link.
    pub(super) fn open(path: &Path, make: bool) -> Result<Self> {
        // Held until it is known which file it is: nobody opens another connection to it meanwhile.
        let mut connections = CONNECTIONS.lock().unwrap_or_else(PoisonError::into_inner);
        let key = match (identity(path), make) {
            (Err(Errno::NOENT), true) => {
                // A new file, on which nobody has a lock yet.
                let flags = OFlags::NOFOLLOW | OFlags::RDWR | OFlags::CLOEXEC | OFlags::CREATE | OFlags::EXCL;
                match rustix::fs::open(path, flags, Mode::from_raw_mode(0o600)) {
                    Ok(file) => drop(file),
                    // Another process was faster.
                    Err(Errno::EXIST) => {}
                    Err(errno) => return Err(failed(&std::io::Error::from(errno))),
                }
                identity(path)
            }
            (found, _) => found,
        };
        let key = key.map_err(|errno| failed(&std::io::Error::from(errno)))??;
        if let Some(open) = connections.get(&key).and_then(Weak::upgrade) {
            return Ok(Self(open));
        }
        let flags =
            OpenFlags::SQLITE_OPEN_READ_WRITE | OpenFlags::SQLITE_OPEN_NOFOLLOW | OpenFlags::SQLITE_OPEN_NO_MUTEX;
        // SQLite follows no link in the whole path, and there may be honest ones above the file.
        let folder = crate::staging::parent(path).canonicalize().map_err(|error| failed(&error))?;
        let connection = Connection::open_with_flags(folder.join(path.file_name().unwrap_or_default()), flags)?;
        connection.busy_timeout(PATIENCE)?;
        // What was told to the person must be true after a power cut, too.
        connection.pragma_update(None, "synchronous", "FULL")?;
        connection.pragma_update(None, "trusted_schema", "OFF")?;
        let open = Arc::new(Mutex::new(connection));
        connections.retain(|_, other| other.strong_count() > 0);
        connections.insert(key, Arc::downgrade(&open));
        Ok(Self(open))
    }
}

impl Sqlite {
    fn run(&self, behavior: TransactionBehavior, work: &mut dyn FnMut(&mut dyn Session) -> Result<()>) -> Result<()> {
        let mut connection = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        let transaction = connection.transaction_with_behavior(behavior)?;
        // Dropped, it is rolled back.
        work(&mut Inside(&transaction))?;
        Ok(transaction.commit()?)
    }
}

/// Device and inode of the file at `path`, which has to be one that nobody else may write to.
fn identity(path: &Path) -> std::result::Result<Result<(u64, u64)>, Errno> {
    let flags = OFlags::PATH | OFlags::NOFOLLOW | OFlags::CLOEXEC;
    let stat = rustix::fs::fstat(&rustix::fs::open(path, flags, Mode::empty())?)?;
    let is_ours = FileType::from_raw_mode(stat.st_mode) == FileType::RegularFile
        && stat.st_uid == rustix::process::geteuid().as_raw()
        && stat.st_mode & 0o022 == 0;
    let not_ours = Trouble { what: "it is not a plain file that you alone may write".into(), again: false };
    Ok(if is_ours { Ok((stat.st_dev, stat.st_ino)) } else { Err(not_ours) })
}

fn failed(error: &std::io::Error) -> Trouble {
    Trouble { what: error.to_string(), again: false }
}

struct Inside<'c>(&'c Connection);

impl Session for Inside<'_> {
    fn execute(&mut self, statement: &str, values: &[Value]) -> Result<u64> {
        let mut statement = self.0.prepare_cached(&statement.replace('$', "?"))?;
        Ok(statement.execute(params_from_iter(values))? as u64)
    }

    fn query(&mut self, statement: &str, values: &[Value]) -> Result<Vec<Row>> {
        let mut statement = self.0.prepare_cached(&statement.replace('$', "?"))?;
        let columns = statement.column_count();
        let mut found = statement.query(params_from_iter(values))?;
        let mut rows = Vec::new();
        while let Some(row) = found.next()? {
            let mut values = Vec::with_capacity(columns);
            for column in 0..columns {
                values.push(match row.get_ref(column)? {
                    ValueRef::Integer(number) => Value::Int(number),
                    ValueRef::Text(bytes) => Value::Text(String::from_utf8_lossy(bytes).into_owned()),
                    _ => Value::Null,
                });
            }
            rows.push(Row(values));
        }
        Ok(rows)
    }

    fn now(&mut self) -> Result<i64> {
        let since = SystemTime::now().duration_since(UNIX_EPOCH).unwrap_or_default();
        Ok(i64::try_from(since.as_millis()).unwrap_or(i64::MAX))
    }
}

impl Database for Sqlite {
    fn transact(&mut self, work: &mut dyn FnMut(&mut dyn Session) -> Result<()>) -> Result<()> {
        self.run(TransactionBehavior::Immediate, work)
    }

    fn look(&mut self, work: &mut dyn FnMut(&mut dyn Session) -> Result<()>) -> Result<()> {
        // One that begins by reading and then writes would be refused where another has written in between.
        self.transact(work)
    }

    fn read(&mut self, work: &mut dyn FnMut(&mut dyn Session) -> Result<()>) -> Result<()> {
        // Whoever looks on, however often, does not keep workers from renewing their leases.
        self.run(TransactionBehavior::Deferred, work)
    }
}

#[cfg(test)]
mod tests {
    use std::{fs, os::unix::fs::MetadataExt};

    use super::*;

    /// Whether the kernel knows of a lock of ours on the file at `path`.
    fn is_locked(path: &Path) -> bool {
        let inode = format!(":{}", fs::metadata(path).unwrap().ino());
        let own = std::process::id().to_string();
        fs::read_to_string("/proc/locks").unwrap().lines().any(|line| {
            let words: Vec<&str> = line.split_whitespace().collect();
            words.contains(&own.as_str()) && words.iter().any(|word| word.ends_with(&inode))
        })
    }

    #[test]
    fn locks_last_while_others_here_open_and_leave_the_same_file() {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("night.state");
        let mut first = Sqlite::open(&path, true).unwrap();
        // The same file by another name, too.
        let other = folder.path().join("other.state");
        fs::hard_link(&path, &other).unwrap();
        first
            .transact(&mut |session| {
                session.execute("CREATE TABLE tide (height BIGINT)", &[])?;
                assert!(is_locked(&path));
                for path in [&path, &other] {
                    drop(Sqlite::open(path, true)?);
                    assert!(Sqlite::open(&folder.path().join("absent"), false).is_err());
                    assert!(is_locked(path), "somebody else could write now");
                }
                Ok(())
            })
            .unwrap();
        assert!(!is_locked(&path));
        // Once nobody has it, it is let go, and opened anew.
        let open = Arc::downgrade(&first.0);
        drop(first);
        assert!(open.upgrade().is_none());
        drop(Sqlite::open(&path, false).unwrap());
    }

    #[test]
    fn what_is_not_ours_alone_is_refused() {
        use std::os::unix::fs::PermissionsExt;
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("night.state");
        drop(Sqlite::open(&path, true).unwrap());
        assert_eq!(fs::metadata(&path).unwrap().mode() & 0o777, 0o600);
        let link = folder.path().join("link.state");
        std::os::unix::fs::symlink(&path, &link).unwrap();
        assert!(Sqlite::open(&link, true).is_err());
        assert!(Sqlite::open(folder.path(), true).is_err());
        fs::set_permissions(&path, fs::Permissions::from_mode(0o620)).unwrap();
        assert!(Sqlite::open(&path, true).is_err());
    }
}
