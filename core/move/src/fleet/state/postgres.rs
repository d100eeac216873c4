//! The state in a PostgreSQL database, for workers on several machines.

use std::{collections::HashMap, sync::Arc, time::Duration};

use postgres::{
    Client, Config, NoTls, Statement, Transaction,
    config::{Host, SslMode},
    types::{IsNull, ToSql, Type, private::BytesMut},
};
use reformis_wire::{Secret, database::Access};
use tokio_postgres_rustls::MakeRustlsConnect;

use super::database::{Database, Result, Row, Session, Trouble, Value};

/// How long a connection may take.
const CONNECT: Duration = Duration::from_secs(20);
/// After this a connection on which nothing comes is tried, and given up a few tries later.
const KEEPALIVE: Duration = Duration::from_secs(15);
/// Statements that are kept ready.
const MOST_KNOWN: usize = 64;
/// The number by which our transactions wait for each other: "refo" in ASCII.
const LOCK: i64 = 0x7265_666f;

/// How the database is reached.
pub(super) struct Way {
    config: Config,
    tls: Option<Arc<reformis_wire::database::ClientConfig>>,
}

pub(super) struct Postgres {
    way: Way,
    client: Option<Client>,
    /// The statements that the server of this connection knows.
    known: HashMap<String, Statement>,
}

impl From<postgres::Error> for Trouble {
    fn from(error: postgres::Error) -> Self {
        // Class 40 of SQLSTATE: rolled back, for the sake of others. 57P0x: it shuts down, or starts. 53300: too many are connected.
        let state = error.code().map(|code| code.code().to_string());
        let again = state.as_ref().is_none_or(|state| {
            state.starts_with("40") || state.starts_with("08") || state.starts_with("57P0") || state == "53300"
        });
        let mut what = error.to_string();
        let mut below = std::error::Error::source(&error);
        while let Some(error) = below {
            what += &format!(": {error}");
            below = error.source();
        }
        Self { what, again }
    }
}

impl ToSql for Value {
    fn to_sql(
        &self,
        kind: &Type,
        out: &mut BytesMut,
    ) -> std::result::Result<IsNull, Box<dyn std::error::Error + Sync + Send>> {
        match self {
            Self::Null => Ok(IsNull::Yes),
            Self::Int(number) => number.to_sql(kind, out),
            Self::Text(text) => text.to_sql(kind, out),
        }
    }

    fn accepts(kind: &Type) -> bool {
        *kind == Type::INT8 || *kind == Type::TEXT
    }

    postgres::types::to_sql_checked!();
}

impl Way {
    /// That of `address`, `postgres://USER@HOST:PORT/DATABASE`, with the `access` that the site gives. Over a network there is TLS, unless
    /// the address says `sslmode=disable`; then no password is sent.
    pub(super) fn new(address: &str, access: &Access) -> Result<Self> {
        let wrong = |what: String| Trouble { what, again: false };
        let is_link = address.starts_with("postgres://") || address.starts_with("postgresql://");
        let parsed = address.parse().ok().filter(|_| is_link);
        let mut config: Config =
            parsed.ok_or_else(|| wrong("its address is not postgres://USER@HOST/DATABASE".into()))?;
        if config.get_password().is_some() {
            let what = "its address holds a password: give that in reformis.toml, from a file or the environment";
            return Err(wrong(what.into()));
        }
        // What is really connected to: an address counts more than the name beside it.
        let is_far = match config.get_hostaddrs() {
            [] => config.get_hosts().iter().any(|host| match host {
                Host::Unix(_) => false,
                Host::Tcp(name) => !matches!(name.as_str(), "localhost" | "127.0.0.1" | "::1"),
            }),
            addresses => addresses.iter().any(|address| !address.is_loopback()),
        };
        let is_off = config.get_ssl_mode() == SslMode::Disable;
        if is_far && is_off && access.password.is_some() {
            let what = "its address says sslmode=disable, and a password is not sent over a network in the clear";
            return Err(wrong(what.into()));
        }
        if is_far && !is_off {
            config.ssl_mode(SslMode::Require);
        }
        if let Some(password) = &access.password {
            config.password(Secret::expose(password));
        }
        config.application_name("reformis").connect_timeout(CONNECT).keepalives_idle(KEEPALIVE);
        config.keepalives_interval(KEEPALIVE / 3).keepalives_retries(3).tcp_user_timeout(KEEPALIVE * 2);
        let tls = (config.get_ssl_mode() != SslMode::Disable && !is_off).then(|| access.tls.clone());
        Ok(Self { config, tls })
    }

    fn connect(&self) -> Result<Client> {
        let mut client = match &self.tls {
            Some(tls) => self.config.connect(MakeRustlsConnect::new(tls.as_ref().clone())),
            None => self.config.connect(NoTls),
        }?;
        // A worker that stands still in the middle of a transaction must not keep all others waiting.
        client.batch_execute(
            "SET idle_in_transaction_session_timeout = '30s'; SET statement_timeout = '60s'; SET lock_timeout = '45s'",
        )?;
        Ok(client)
    }
}

impl Postgres {
    /// Opens the database.
    pub(super) fn open(way: Way) -> Result<Self> {
        let client = Some(way.connect()?);
        Ok(Self { way, client, known: HashMap::new() })
    }

    fn run(&mut self, locks: bool, work: &mut dyn FnMut(&mut dyn Session) -> Result<()>) -> Result<()> {
        let done = self.try_once(locks, work);
        // Whatever went wrong, the next try begins with a connection that is sound.
        if done.as_ref().is_err_and(|trouble| trouble.again) {
            self.client = None;
        }
        done
    }

    fn try_once(&mut self, locks: bool, work: &mut dyn FnMut(&mut dyn Session) -> Result<()>) -> Result<()> {
        let client = match self.client.take().filter(|client| !client.is_closed()) {
            Some(client) => self.client.insert(client),
            None => {
                self.known.clear();
                self.client.insert(self.way.connect()?)
            }
        };
        let mut transaction = client.transaction()?;
        if locks {
            transaction.execute("SELECT pg_advisory_xact_lock($1)", &[&LOCK])?;
        }
        // Dropped, it is rolled back.
        work(&mut Inside { transaction: &mut transaction, known: &mut self.known })?;
        Ok(transaction.commit()?)
    }
}

struct Inside<'c, 't> {
    transaction: &'c mut Transaction<'t>,
    known: &'c mut HashMap<String, Statement>,
}

impl Inside<'_, '_> {
    /// The statement, which is read and planned once for each connection.
    fn prepared(&mut self, text: &str) -> Result<Statement> {
        if let Some(statement) = self.known.get(text) {
            return Ok(statement.clone());
        }
        let statement = self.transaction.prepare(text)?;
        // There are few, but for those whose text grows with what they put in.
        if self.known.len() < MOST_KNOWN {
            self.known.insert(text.into(), statement.clone());
        }
        Ok(statement)
    }
}

impl Session for Inside<'_, '_> {
    fn execute(&mut self, statement: &str, values: &[Value]) -> Result<u64> {
        let values: Vec<&(dyn ToSql + Sync)> = values.iter().map(|value| value as _).collect();
        let statement = self.prepared(statement)?;
        Ok(self.transaction.execute(&statement, &values)?)
    }

    fn query(&mut self, statement: &str, values: &[Value]) -> Result<Vec<Row>> {
        let values: Vec<&(dyn ToSql + Sync)> = values.iter().map(|value| value as _).collect();
        let mut rows = Vec::new();
        let statement = self.prepared(statement)?;
        for row in self.transaction.query(&statement, &values)? {
            let mut read = Vec::with_capacity(row.len());
            for (place, column) in row.columns().iter().enumerate() {
                read.push(match *column.type_() {
                    Type::TEXT => row.try_get::<_, Option<String>>(place)?.map_or(Value::Null, Value::Text),
                    _ => row.try_get::<_, Option<i64>>(place)?.map_or(Value::Null, Value::Int),
                });
            }
            rows.push(Row(read));
        }
        Ok(rows)
    }

    fn now(&mut self) -> Result<i64> {
        let rows = self.query("SELECT CAST(extract(epoch FROM clock_timestamp()) * 1000 AS BIGINT)", &[])?;
        Ok(rows.first().and_then(|row| row.int(0)).unwrap_or(0))
    }
}

impl Database for Postgres {
    fn transact(&mut self, work: &mut dyn FnMut(&mut dyn Session) -> Result<()>) -> Result<()> {
        self.run(true, work)
    }

    fn look(&mut self, work: &mut dyn FnMut(&mut dyn Session) -> Result<()>) -> Result<()> {
        self.run(false, work)
    }
}
