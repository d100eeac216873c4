//! The state in a file beside the fleet file: SQLite, with nothing to set up.

use std::{
    os::unix::fs::MetadataExt,
    path::Path,
    time::{Duration, SystemTime, UNIX_EPOCH},
};

use rusqlite::{Connection, ErrorCode, OpenFlags, TransactionBehavior, params_from_iter, types::ValueRef};
use rustix::fs::{Mode, OFlags};

use super::database::{Database, Result, Row, Session, Trouble, Value};

/// How long a statement waits for another process.
const PATIENCE: Duration = Duration::from_secs(60);

pub(super) struct Sqlite(Connection);

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

impl Sqlite {
    /// Opens the file at `path`; with `make`, one is made where there is none. It may name programs that are run, so that it is nobody
    /// else's, and no link.
    pub(super) fn open(path: &Path, make: bool) -> Result<Self> {
        let failed = |what: String| Trouble { what, again: false };
        let made = if make { OFlags::CREATE } else { OFlags::empty() };
        let flags = OFlags::NOFOLLOW | OFlags::RDWR | OFlags::CLOEXEC | made;
        let file = rustix::fs::open(path, flags, Mode::from_raw_mode(0o600)).map(std::fs::File::from);
        let file = file.map_err(|error| failed(std::io::Error::from(error).to_string()))?;
        let metadata = file.metadata().map_err(|error| failed(error.to_string()))?;
        if !metadata.is_file() || metadata.uid() != rustix::process::geteuid().as_raw() || metadata.mode() & 0o022 != 0
        {
            return Err(failed("it is not a plain file that you alone may write".into()));
        }
        drop(file);
        let flags =
            OpenFlags::SQLITE_OPEN_READ_WRITE | OpenFlags::SQLITE_OPEN_NOFOLLOW | OpenFlags::SQLITE_OPEN_NO_MUTEX;
        // SQLite follows no link in the whole path, and there may be honest ones above the file.
        let folder = crate::staging::parent(path).canonicalize().map_err(|error| failed(error.to_string()))?;
        let connection = Connection::open_with_flags(folder.join(path.file_name().unwrap_or_default()), flags)?;
        connection.busy_timeout(PATIENCE)?;
        // What was told to the person must be true after a power cut, too.
        connection.pragma_update(None, "synchronous", "FULL")?;
        connection.pragma_update(None, "trusted_schema", "OFF")?;
        Ok(Self(connection))
    }
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
        let transaction = self.0.transaction_with_behavior(TransactionBehavior::Immediate)?;
        // Dropped, it is rolled back.
        work(&mut Inside(&transaction))?;
        Ok(transaction.commit()?)
    }

    fn look(&mut self, work: &mut dyn FnMut(&mut dyn Session) -> Result<()>) -> Result<()> {
        // One that begins by reading and then writes would be refused where another has written in between.
        self.transact(work)
    }
}
