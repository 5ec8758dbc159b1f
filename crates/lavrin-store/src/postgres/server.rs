//! The line to a server: some connections that are kept, driven by a thread of their own, so that whoever asks may be in the middle of
//! other work; and the one connection on which a transaction is open.

use super::address::{Address, Surroundings, said};
use super::tls::connector;
use crate::StoreFault;
use crate::fault::{DatabaseFault, StoreResult};
use deadpool_postgres::{Hook, HookError, Manager, ManagerConfig, Object, Pool, PoolError, RecyclingMethod};
use futures_executor::block_on;
use futures_util::StreamExt as _;
use lavrin_keys::text::printable;
use std::cell::{Ref, RefCell};
use std::ops::Deref;
use std::path::PathBuf;
use std::time::Duration;
use tokio::runtime::{Builder, Runtime};
use tokio_postgres::error::SqlState;
use tokio_postgres::types::ToSql;
use tokio_postgres::{AsyncMessage, Client, Error, Row};
use tokio_postgres_rustls::MakeRustlsConnect;

/// One for a transaction, one beside it, one that holds locks, and two for what is read at the same time.
const CONNECTIONS: usize = 5;

/// What holds on every connection: names mean what they mean here, a commit is on disk, nobody waits for ever, and a plan that was made
/// while a table was empty is not kept when it is full.
const SETTINGS: &str = "SET search_path = pg_catalog; SET plan_cache_mode = force_custom_plan; SET synchronous_commit = on; SET lock_timeout = '20s';
    SET idle_in_transaction_session_timeout = '300s'; SET client_min_messages = error; SET bytea_output = hex";

/// Held by everybody who writes, in a shared way, and by whoever prunes alone.
pub(super) const PRUNING: i64 = 0x4c56_524e_0001;

/// The values of a statement.
pub(super) type Values<'a> = &'a [&'a (dyn ToSql + Sync)];

/// A server.
pub(super) struct PostgresServer {
    place: String,
    pool: Pool,
    config: tokio_postgres::Config,
    tls: MakeRustlsConnect,
    /// Drives the connections; only taken away when this ends.
    runtime: Option<Runtime>,
    /// The connection with the open transaction.
    open: RefCell<Option<Object>>,
    /// The connection that holds locks for longer than a transaction.
    holding: RefCell<Option<Object>>,
}

impl std::fmt::Debug for PostgresServer {
    /// Its settings may hold a password.
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("PostgresServer").field("place", &self.place).finish_non_exhaustive()
    }
}

impl PostgresServer {
    /// At this address; nobody is spoken to yet.
    pub(super) fn at(url: &str) -> StoreResult<Self> {
        let variable = |name: &str| std::env::var(name).ok().filter(|value| !value.is_empty());
        let home = variable("HOME").map(PathBuf::from);
        let address = Address::of(url, &Surroundings { variable: &variable, home })?;
        let place = url.to_owned();
        let tls = connector(&address)?;
        let manager = ManagerConfig { recycling_method: RecyclingMethod::Fast };
        let config = address.config;
        let manager = Manager::from_config(config.clone(), tls.clone(), manager);
        let settle = Hook::async_fn(|client: &mut deadpool_postgres::ClientWrapper, _| {
            Box::pin(async move { client.batch_execute(SETTINGS).await.map_err(HookError::Backend) })
        });
        let other = |said: String| DatabaseFault::Other { place: place.clone(), said };
        let pool = Pool::builder(manager).max_size(CONNECTIONS).post_create(settle).build();
        let pool = pool.map_err(|error| other(error.to_string()))?;
        let runtime = Builder::new_multi_thread().worker_threads(1).thread_name("postgresql").enable_all().build();
        let runtime = runtime.map_err(|source| StoreFault { path: PathBuf::from(&place), source })?;
        Ok(Self {
            place,
            pool,
            config,
            tls,
            runtime: Some(runtime),
            open: RefCell::new(None),
            holding: RefCell::new(None),
        })
    }

    /// The address, for people.
    pub(super) fn place(&self) -> &str {
        &self.place
    }

    pub(super) fn begin(&self) -> StoreResult<()> {
        let own = self.connection()?;
        let begin = format!("BEGIN; SELECT pg_advisory_xact_lock_shared({PRUNING})");
        block_on(own.batch_execute(&begin)).map_err(|error| self.fault(&error))?;
        self.open.replace(Some(own));
        Ok(())
    }

    pub(super) fn commit(&self) -> StoreResult<()> {
        let Some(own) = self.open.take() else { return Ok(()) };
        // A transaction that failed is rolled back by COMMIT, which says so.
        match block_on(own.simple_query("COMMIT")) {
            Ok(_) => Ok(()),
            Err(error) => Err(self.fault(&error)),
        }
    }

    pub(super) fn roll_back(&self) {
        if let Some(own) = self.open.take()
            && block_on(own.batch_execute("ROLLBACK")).is_err()
        {
            // It is not given to anybody else.
            drop(Object::take(own));
        }
    }

    pub(super) fn has_begun(&self) -> bool {
        self.open.borrow().is_some()
    }

    /// The rows of a statement, within the open transaction if there is one.
    pub(super) fn rows(&self, sql: &str, values: Values<'_>) -> StoreResult<Vec<Row>> {
        let line = self.line()?;
        self.rows_on(&line, sql, values)
    }

    /// The rows of a statement that is done by itself, whatever is open.
    pub(super) fn rows_apart(&self, sql: &str, values: Values<'_>) -> StoreResult<Vec<Row>> {
        let own = self.connection()?;
        self.rows_on(&ServerLine::Own(Box::new(own)), sql, values)
    }

    /// The rows of a statement on the connection that is kept until this ends.
    pub(super) fn rows_holding(&self, sql: &str, values: Values<'_>) -> StoreResult<Vec<Row>> {
        let is_lost = self.holding.borrow().as_ref().is_none_or(|own| own.is_closed());
        if is_lost {
            self.holding.replace(Some(self.connection()?));
        }
        let holding = self.holding.borrow();
        let Some(own) = holding.as_ref() else { return Ok(Vec::new()) };
        block_on(own.query(sql, values)).map_err(|error| self.fault(&error))
    }

    /// Waits until somebody says something on a channel, or that long.
    pub(super) fn listen(&self, channel: &str, time: Duration) -> StoreResult<()> {
        let (config, tls, listen) = (self.config.clone(), self.tls.clone(), format!("LISTEN {channel}"));
        let runtime = self.runtime.as_ref().expect("it is there until the end");
        let heard = block_on(runtime.spawn(async move {
            let (client, mut connection) = config.connect(tls).await?;
            let spoken = async move {
                let speak = client.batch_execute(&listen);
                speak.await.map(|()| client)
            };
            let mut messages = futures_util::stream::poll_fn(move |context| connection.poll_message(context));
            let told = async move {
                while let Some(message) = messages.next().await {
                    if matches!(message?, AsyncMessage::Notification(_)) {
                        return Ok(());
                    }
                }
                Ok(())
            };
            let both = async { futures_util::future::try_join(told, spoken).await.map(drop) };
            tokio::time::timeout(time, both).await.unwrap_or(Ok(()))
        }));
        match heard {
            Ok(heard) => heard.map_err(|error: Error| self.fault(&error)),
            Err(error) => Err(DatabaseFault::Away { place: self.place.clone(), said: error.to_string() }),
        }
    }

    /// Several statements without values.
    pub(super) fn batch(&self, sql: &str) -> StoreResult<()> {
        let line = self.line()?;
        block_on(line.batch_execute(sql)).map_err(|error| self.fault(&error))
    }

    fn rows_on(&self, line: &ServerLine<'_>, sql: &str, values: Values<'_>) -> StoreResult<Vec<Row>> {
        let asked = block_on(async {
            let statement = line.object().prepare_cached(sql).await?;
            line.query(&statement, values).await
        });
        asked.map_err(|error| self.fault(&error))
    }

    fn line(&self) -> StoreResult<ServerLine<'_>> {
        match Ref::filter_map(self.open.borrow(), Option::as_ref) {
            Ok(open) => Ok(ServerLine::Open(open)),
            Err(_) => Ok(ServerLine::Own(Box::new(self.connection()?))),
        }
    }

    /// A connection that nobody else uses.
    pub(super) fn connection(&self) -> StoreResult<Object> {
        let pool = self.pool.clone();
        let runtime = self.runtime.as_ref().expect("it is there until the end");
        // Connections are made on the thread that drives them.
        let got = block_on(runtime.spawn(async move { pool.get().await }));
        let away = |said: String| DatabaseFault::Away { place: self.place.clone(), said };
        match got {
            Ok(Ok(own)) => Ok(own),
            Ok(Err(PoolError::Backend(error) | PoolError::PostCreateHook(HookError::Backend(error)))) => {
                Err(self.fault(&error))
            }
            Ok(Err(error)) => Err(away(error.to_string())),
            Err(error) => Err(away(error.to_string())),
        }
    }

    /// What an error means.
    pub(super) fn fault(&self, error: &Error) -> DatabaseFault {
        let (place, said) = (self.place.clone(), printable(said(error).as_bytes()));
        let Some(db) = error.as_db_error() else {
            return if error.is_closed() || is_of_the_line(error) {
                DatabaseFault::Away { place, said }
            } else {
                DatabaseFault::Other { place, said }
            };
        };
        let said = printable(db.message().as_bytes());
        match db.code() {
            code if code.code().starts_with("08") || code.code().starts_with("57P") => {
                DatabaseFault::Away { place, said }
            }
            &SqlState::TOO_MANY_CONNECTIONS => DatabaseFault::Away { place, said },
            code if code.code().starts_with("28") => DatabaseFault::Refused { place, said },
            &SqlState::INSUFFICIENT_PRIVILEGE | &SqlState::INVALID_CATALOG_NAME => {
                DatabaseFault::Refused { place, said }
            }
            &SqlState::LOCK_NOT_AVAILABLE => DatabaseFault::Busy { place },
            &SqlState::CHECK_VIOLATION => DatabaseFault::Damaged { place, said },
            _ => DatabaseFault::Other { place, said },
        }
    }
}

/// Whether it tells of the line and not of what was said over it.
fn is_of_the_line(error: &Error) -> bool {
    let mut source = std::error::Error::source(error);
    while let Some(error) = source {
        if error.is::<std::io::Error>() {
            return true;
        }
        source = error.source();
    }
    // It has no cause of its own where nobody answered at all.
    error.to_string().contains("error connecting") || error.to_string().contains("timed out")
}

/// A connection to speak on.
enum ServerLine<'a> {
    Open(Ref<'a, Object>),
    Own(Box<Object>),
}

impl ServerLine<'_> {
    fn object(&self) -> &Object {
        match self {
            Self::Open(open) => open,
            Self::Own(own) => own,
        }
    }
}

impl Deref for ServerLine<'_> {
    type Target = Client;

    fn deref(&self) -> &Client {
        self.object()
    }
}

impl Drop for PostgresServer {
    fn drop(&mut self) {
        self.open.take();
        self.holding.take();
        self.pool.close();
        // Whoever ends may be in the middle of other work, which must not wait.
        if let Some(runtime) = self.runtime.take() {
            runtime.shutdown_background();
        }
    }
}
