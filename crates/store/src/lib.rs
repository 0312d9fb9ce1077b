//! The store: the only SQL. Facts, events and orders ([`Journal`]), what pages read ([`Reads`]), belongings
//! ([`People`], [`Settings`], [`Pictures`], [`StandBys`]), sealed secrets ([`Vault`]) and measurements ([`Measurements`]).
//!
//! Queries are checked when they run, and each of them runs in this crate's tests against a real PostgreSQL.

mod batch;
mod cell;
mod head;
mod journal;
mod leading;
mod lease;
mod limit;
mod measurements;
mod news;
mod orders;
mod people;
mod pictures;
mod pulse;
mod reads;
mod settings;
mod stand_by;
#[cfg(feature = "testkit")]
pub mod testkit;
mod upgrade;
mod vault;

pub use batch::{Batch, EventLine};
pub use head::Head;
pub use journal::Journal;
pub use leading::{Ready, Wanted, prepare};
pub use lease::{Held, Leases};
pub use measurements::Measurements;
pub use news::{Heard, News};
pub use orders::{Carrier, Carriers, NewOrder, Orders, TakenOrder};
pub use people::{People, Person, SessionRow};
pub use pictures::{EVIDENCE, Picture, Pictures};
pub use pulse::Pulse;
pub use reads::{EventFilter, EventRow, Reads, RunFilter};
pub use settings::Settings;
pub use stand_by::{
    Link, Reception, StandBy, StandByKey, StandBys, WrapError, follows, promote, reception, schema,
};
pub use vault::{Vault, VaultError};

use sqlx::{
    PgPool,
    postgres::{PgConnectOptions, PgPoolOptions},
};
use std::{str::FromStr, time::Duration};

/// Connections to the database. Others hold them only to make this crate's parts.
pub type Pool = PgPool;

/// All migrations, in order.
pub static MIGRATOR: sqlx::migrate::Migrator = sqlx::migrate!();

/// Why the store did not do it.
#[derive(Debug, thiserror::Error)]
pub enum StoreError {
    /// Nothing was written; try again.
    #[error("the database does not answer")]
    Unavailable(#[source] sqlx::Error),
    /// Whether it was written is not known.
    #[error("the database went away while it was writing")]
    Unknown(#[source] sqlx::Error),
    #[error("something with this {0} is there already")]
    Taken(String),
    /// The journal is not the one that it was.
    #[error("the database was restored or begun anew; look again")]
    Replaced,
    /// The database says that this can't be stored, whoever tries; its words are for the log.
    #[error("the database can't store this")]
    Refused(String),
    /// It was not written, for this reason.
    #[error("{0}")]
    NotWritten(String),
    #[error(transparent)]
    Upgrade(#[from] zastrugi_core::estate::UpgradeError),
    #[error("a stored body can't be written or read: {0}")]
    Body(#[from] serde_json::Error),
    #[error("the database can't be brought up to date: {0}")]
    Migrate(#[from] sqlx::migrate::MigrateError),
}

impl StoreError {
    /// With the database's own words, for the log: they are not for pages.
    pub fn detail(&self) -> String {
        match self {
            StoreError::Unavailable(source) | StoreError::Unknown(source) => {
                format!("{self}: {source}")
            }
            StoreError::Refused(why) => format!("{self}: {why}"),
            other => other.to_string(),
        }
    }
    /// This machine gave no thread or no timer.
    pub fn of_io(error: std::io::Error) -> Self {
        StoreError::Unavailable(sqlx::Error::Io(error))
    }
}

impl From<sqlx::Error> for StoreError {
    fn from(error: sqlx::Error) -> Self {
        match error.as_database_error() {
            Some(db) if db.is_unique_violation() => {
                StoreError::Taken(taken(db.constraint().unwrap_or_default()))
            }
            // Classes 22 and 23 of SQLSTATE: the data itself is at fault.
            Some(db)
                if db
                    .code()
                    .is_some_and(|c| c.starts_with("22") || c.starts_with("23")) =>
            {
                StoreError::Refused(db.message().to_owned())
            }
            _ => StoreError::Unavailable(error),
        }
    }
}

/// What a unique index is of, in words.
fn taken(index: &str) -> String {
    const TOLD: &[&str] = &[
        "machine_name",
        "machine_uuid",
        "host_name",
        "host_address",
        "cluster_name",
        "volume_uid",
        "person_name",
        "image_name",
        "image_uuid",
    ];
    match TOLD.contains(&index) {
        true => index.replace('_', " "),
        false => "value".into(),
    }
}

fn options(url: &str, most: u32) -> Result<(PgPoolOptions, PgConnectOptions), StoreError> {
    let options = PgConnectOptions::from_str(url)?.options([
        ("lock_timeout", "2s"),
        ("statement_timeout", "2s"),
        ("idle_in_transaction_session_timeout", "5s"),
    ]);
    let pool = PgPoolOptions::new()
        .max_connections(most)
        .acquire_timeout(Duration::from_secs(5));
    Ok((pool, options))
}

/// Opens a pool with the time limits that every statement has.
///
/// # Errors
/// [`StoreError::Unavailable`] when the address can't be read or nobody answers.
pub async fn connect(url: &str, most: u32) -> Result<PgPool, StoreError> {
    let (pool, options) = options(url, most)?;
    Ok(pool.connect_with(options).await?)
}

/// Does something with the number of the server's process that serves a connection, while it does: for a demo that breaks its
/// database.
///
/// # Errors
/// [`StoreError::Unavailable`] when the database can't be reached.
pub async fn with_process_behind<T>(
    url: &str,
    act: impl FnOnce(i32) -> T,
) -> Result<T, StoreError> {
    let pool = connect(url, 1).await?;
    let mut connection = pool.acquire().await?;
    let pid = sqlx::query_scalar("select pg_backend_pid()");
    Ok(act(pid.fetch_one(&mut *connection).await?))
}

/// The same, connecting when it is first used, on whatever runtime that is.
///
/// # Errors
/// [`StoreError::Unavailable`] when the address can't be read.
pub fn connect_lazily(url: &str, most: u32) -> Result<PgPool, StoreError> {
    let (pool, options) = options(url, most)?;
    Ok(pool.connect_lazy_with(options))
}

/// Brings the tables up to date.
///
/// # Errors
/// [`StoreError::Migrate`] when a migration fails.
pub async fn migrate(pool: &PgPool) -> Result<(), StoreError> {
    // Changing tables and facts may take longer than a statement usually may.
    let patient = (*pool.connect_options()).clone().options([
        ("statement_timeout", "10min"),
        ("idle_in_transaction_session_timeout", "0"),
    ]);
    let pool = &PgPoolOptions::new()
        .max_connections(1)
        .connect_with(patient)
        .await?;
    MIGRATOR.run(pool).await?;
    let brought = upgrade::bring_up(pool).await;
    pool.close().await;
    brought
}
