//! The state in a folder beside the fleet file: SQLite, with nothing to set up.

use std::{
    collections::BTreeMap,
    path::Path,
    sync::{Arc, Mutex, PoisonError, Weak},
    time::{Duration, SystemTime, UNIX_EPOCH},
};

use reformis_disk::{ground::Ground, text::printable};
use rusqlite::{Connection, ErrorCode, OpenFlags, TransactionBehavior, params_from_iter, types::ValueRef};

use super::database::{Database, Result, Row, Session, Trouble, Value};

/// The database in the folder of a state.
pub(super) const FILE: &str = "fleet.db";
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
    /// Opens the state in the folder at `path`; with `make`, it is made where there is none. It may name programs that are run, so that nobody
    /// else may write to the folder: SQLite takes a journal that lies beside its file for its own, whoever put it there.
    pub(super) fn open(path: &Path, make: bool) -> Result<Self> {
        if path.symlink_metadata().is_ok_and(|found| found.is_file()) {
            let shown = printable(&path.to_string_lossy());
            let what = format!("it is a file, as earlier versions had it; if it is yours, move it to '{shown}/{FILE}'");
            return Err(Trouble { what, again: false });
        }
        let ground = if make { Ground::make(path) } else { Ground::open(path) }.map_err(|error| failed(&error))?;
        // Held until it is known which file it is: nobody opens another connection to it meanwhile.
        let mut connections = CONNECTIONS.lock().unwrap_or_else(PoisonError::into_inner);
        if make {
            ground.create(FILE).map_err(|error| failed(&error))?;
        }
        let missing = || Trouble { what: "no fleet was run here yet".into(), again: false };
        let key = ground.identity(FILE).map_err(|error| failed(&error))?.ok_or_else(missing)?;
        if let Some(open) = connections.get(&key).and_then(Weak::upgrade) {
            return Ok(Self(open));
        }
        let flags =
            OpenFlags::SQLITE_OPEN_READ_WRITE | OpenFlags::SQLITE_OPEN_NOFOLLOW | OpenFlags::SQLITE_OPEN_NO_MUTEX;
        // SQLite follows no link in the whole path, and there may be honest ones above the folder.
        let connection =
            Connection::open_with_flags(ground.whole_path_of(FILE).map_err(|error| failed(&error))?, flags)?;
        // It was the folder that is held, and is still.
        ground.whole_path_of(FILE).map_err(|error| failed(&error))?;
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

fn failed(error: &reformis_disk::Error) -> Trouble {
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
        fs::create_dir(&other).unwrap();
        fs::hard_link(path.join(FILE), other.join(FILE)).unwrap();
        first
            .transact(&mut |session| {
                session.execute("CREATE TABLE tide (height BIGINT)", &[])?;
                assert!(is_locked(&path.join(FILE)));
                for path in [&path, &other] {
                    drop(Sqlite::open(path, true)?);
                    assert!(Sqlite::open(&folder.path().join("absent"), false).is_err());
                    assert!(is_locked(&path.join(FILE)), "somebody else could write now");
                }
                Ok(())
            })
            .unwrap();
        assert!(!is_locked(&path.join(FILE)));
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
        assert_eq!(fs::metadata(&path).unwrap().mode() & 0o777, 0o700);
        assert_eq!(fs::metadata(path.join(FILE)).unwrap().mode() & 0o777, 0o600);
        let why = |path: &Path| Sqlite::open(path, true).err().map(|trouble| trouble.what).unwrap_or_default();
        let link = folder.path().join("link.state");
        std::os::unix::fs::symlink(&path, &link).unwrap();
        assert!(why(&link).contains("no folder"), "{}", why(&link));
        fs::set_permissions(path.join(FILE), fs::Permissions::from_mode(0o622)).unwrap();
        assert!(why(&path).contains("others may write"), "{}", why(&path));
        fs::set_permissions(path.join(FILE), fs::Permissions::from_mode(0o600)).unwrap();
        fs::set_permissions(&path, fs::Permissions::from_mode(0o777)).unwrap();
        assert!(why(&path).contains("others may write"), "{}", why(&path));
        let old = folder.path().join("old.state");
        fs::write(&old, b"").unwrap();
        assert!(why(&old).contains("as earlier versions had it"), "{}", why(&old));
        assert!(Sqlite::open(&folder.path().join("none.state"), false).is_err());
    }
}
