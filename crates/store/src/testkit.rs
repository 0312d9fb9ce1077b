//! For tests and benchmarks: a database of one's own, and an estate that was always there.

#![expect(
    clippy::unwrap_used,
    reason = "a test without its database fails loudly"
)]

mod server;

pub use server::Server;

use crate::{Journal, Pool};
use sqlx::Executor;
use uuid::Uuid;
use zastrugi_core::{
    estate::Estate,
    ids::Revision,
    rooms::{Change, Record},
};

fn beside(base: &str, name: &str) -> String {
    format!("{}/{name}", &base[..base.rfind('/').unwrap()])
}

/// The address of the database that a test was given.
pub fn url(pool: &Pool) -> String {
    let base = std::env::var("DATABASE_URL").unwrap();
    beside(&base, pool.connect_options().get_database().unwrap())
}

/// A database for a benchmark.
pub struct Scratch {
    pub url: String,
    name: String,
    server: Pool,
}

impl Scratch {
    pub async fn make() -> Scratch {
        let base = std::env::var("DATABASE_URL").unwrap();
        let server = Pool::connect(&base).await.unwrap();
        let name = format!("bench_{}", Uuid::new_v4().simple());
        let make = sqlx::AssertSqlSafe(format!("create database {name}"));
        server.execute(make).await.unwrap();
        Scratch {
            url: beside(&base, &name),
            name,
            server,
        }
    }
    pub async fn remove(self) {
        let drop = sqlx::AssertSqlSafe(format!("drop database {} with (force)", self.name));
        self.server.execute(drop).await.unwrap();
    }
}

/// Stores an estate as if it had always been there.
pub async fn keep(pool: &Pool, estate: &Estate) {
    crate::migrate(pool).await.unwrap();
    let mut change = Change::default();
    estate
        .facts()
        .for_each(|fact| change.take(Record::Entity(fact)));
    let mut batch = Journal::new(pool.clone()).begin().await.unwrap();
    batch.write(Revision(1), &change, &[], &[]).await.unwrap();
    batch.commit(Revision(1), Uuid::new_v4()).await.unwrap();
}

/// Resident memory of this process in MiB.
pub fn resident() -> u64 {
    let text = std::fs::read_to_string("/proc/self/status").unwrap_or_default();
    let line = text
        .lines()
        .find(|l| l.starts_with("VmRSS"))
        .unwrap_or_default();
    line.split_whitespace()
        .nth(1)
        .and_then(|k| k.parse::<u64>().ok())
        .unwrap_or(0)
        / 1024
}
