//! Reading the journal: everything now, as it was, and what changed since.

use crate::{
    StoreError,
    batch::Batch,
    cell::{from_db, to_db},
    head::{self, Head},
    limit::within,
};
use serde_json::Value;
use sqlx::{Executor, PgPool, Postgres, Row, Transaction, postgres::PgRow};
use uuid::Uuid;
use zastrugi_core::{
    estate::{Estate, Kind, Touched},
    ids::Revision,
    rooms::{Change, Record, World},
};

/// The channel on which a new revision is announced.
pub(crate) const CHANNEL: &str = "zastrugi_revision";
/// Reading everything and removing what is past keeping may take longer than a statement usually may.
const LONG: &str = "set local statement_timeout = '120s'";
/// Rows that are removed at a time, so that nobody waits for it.
const AT_ONCE: i64 = 5_000;

#[derive(Debug, Clone)]
pub struct Journal {
    pool: PgPool,
}

impl Journal {
    pub fn new(pool: PgPool) -> Self {
        Self { pool }
    }
    pub fn pool(&self) -> &PgPool {
        &self.pool
    }

    async fn snapshot(&self) -> Result<Transaction<'static, Postgres>, StoreError> {
        let mut tx = self.pool.begin().await?;
        tx.execute("set transaction isolation level repeatable read, read only")
            .await?;
        tx.execute(LONG).await?;
        Ok(tx)
    }

    /// Everything at the head, read in one snapshot.
    ///
    /// # Errors
    /// [`StoreError`] when the database or a stored body can't be read.
    pub async fn load(&self) -> Result<(Head, World), StoreError> {
        let mut tx = self.snapshot().await?;
        let head = head::see(&mut tx).await?;
        let rows =
            sqlx::query("select kind, id, version, body from fact where until is null and live")
                .fetch_all(&mut *tx)
                .await?;
        tx.commit().await?;
        let records = rows.iter().map(read_row).collect::<Result<Vec<_>, _>>()?;
        let world = World::from_records(head.revision, records);
        Ok((head, world))
    }

    /// The estate as it was at `revision`; runs are told by their events.
    ///
    /// # Errors
    /// [`StoreError`] when the database or a stored body can't be read.
    pub async fn load_at(&self, revision: Revision) -> Result<Estate, StoreError> {
        let mut tx = self.snapshot().await?;
        let rows = sqlx::query(
            "select kind, id, version, body from fact
             where since <= $1 and (until is null or until > $1) and kind not in ('run', 'plan', 'step', 'meta')",
        )
        .bind(to_db(revision.0))
        .fetch_all(&mut *tx)
        .await?;
        tx.commit().await?;
        let mut facts = Vec::with_capacity(rows.len());
        for row in &rows {
            if let Record::Entity(fact) = read_row(row)? {
                facts.push(fact);
            }
        }
        Ok(Estate::from_facts(revision, facts))
    }

    /// # Errors
    /// [`StoreError::Unavailable`] when the database does not answer.
    pub async fn head(&self) -> Result<Head, StoreError> {
        within(head::look(&self.pool)).await
    }

    /// What changed after `since`, for a process that is behind.
    ///
    /// # Errors
    /// [`StoreError`] when the database or a stored body can't be read.
    pub async fn changed_since(&self, since: Revision) -> Result<(Head, Change), StoreError> {
        within(async {
            let mut tx = self.snapshot().await?;
            let head = head::see(&mut tx).await?;
            let change = changes(&mut tx, since).await?;
            tx.commit().await?;
            Ok((head, change))
        })
        .await
    }

    /// Takes the head lock. Facts are read in later statements only: lock and catch-up in one would lose events.
    ///
    /// # Errors
    /// [`StoreError::Unavailable`] when the lock isn't had in time.
    pub async fn begin(&self) -> Result<Batch, StoreError> {
        within(async {
            let mut tx = self.pool.begin().await?;
            let head = head::lock(&mut tx).await?;
            Ok(Batch::new(tx, head))
        })
        .await
    }

    /// Holds all orders until a person releases them. The first reason stays.
    ///
    /// # Errors
    /// [`StoreError::Unavailable`] when the database does not answer.
    pub async fn hold(&self, why: &str) -> Result<(), StoreError> {
        within(head::hold(&self.pool, why)).await
    }

    /// Notes on which of its timelines the database is, the first time; holds all orders where it was promoted since without a
    /// new history.
    ///
    /// # Errors
    /// [`StoreError::Unavailable`] when the database does not answer.
    pub async fn check_timeline(&self) -> Result<(), StoreError> {
        within(head::check_timeline(&self.pool)).await
    }

    /// Removes what is past keeping, some at a time: earlier states of entities and batches after `history` days, events and
    /// closed runs after `events` days. Current states are never touched.
    ///
    /// # Errors
    /// [`StoreError::Unavailable`] when the database does not answer.
    pub async fn tend(&self, history: i32, events: i32) -> Result<(), StoreError> {
        let at: Option<i64> = sqlx::query_scalar(
            "select max(revision) from batch where at < now() - make_interval(days => $1)",
        )
        .bind(history)
        .fetch_one(&self.pool)
        .await?;
        let told: Option<i64> = sqlx::query_scalar(
            "select revision from event where at < now() - make_interval(days => $1) order by at desc limit 1",
        )
        .bind(events)
        .fetch_optional(&self.pool)
        .await?;
        if let Some(at) = at {
            self.prune("delete from fact where ctid = any(array(select ctid from fact where until <= $1 limit $2))", at).await?;
            // The newest batch past keeping stays: it says up to where history reaches.
            self.prune("delete from batch where ctid = any(array(select ctid from batch where revision < $1 limit $2))", at).await?;
        }
        if let Some(told) = told {
            self.prune(
                "delete from fact where ctid = any(array(
                 select ctid from fact where until is null and not live and since <= $1 limit $2))",
                told,
            )
            .await?;
            self.prune("delete from request where ctid = any(array(select r.ctid from request r where not exists (
                 select 1 from fact f where f.kind = 'run' and f.id = r.run and f.until is null) and $1 > 0 limit $2))", told).await?;
            self.prune("delete from event where ctid = any(array(select ctid from event where revision <= $1 limit $2))", told).await?;
        }
        Ok(())
    }

    /// Repeats a removal until it finds nothing more; between two, others have their turn.
    async fn prune(&self, delete: &'static str, at: i64) -> Result<(), StoreError> {
        loop {
            let gone = sqlx::query(delete)
                .bind(at)
                .bind(AT_ONCE)
                .execute(&self.pool)
                .await?
                .rows_affected();
            if gone < AT_ONCE as u64 {
                return Ok(());
            }
        }
    }

    /// Whether a batch whose COMMIT wasn't answered was written, and at which revision. Looked up under the head lock: until
    /// it is had, the batch may still be on its way.
    ///
    /// # Errors
    /// [`StoreError::Unavailable`] when the database does not answer.
    pub async fn was_written(&self, batch: Uuid) -> Result<Option<Revision>, StoreError> {
        within(async {
            let mut tx = self.pool.begin().await?;
            head::lock(&mut tx).await?;
            let found: Option<i64> = sqlx::query_scalar("select revision from batch where id = $1")
                .bind(batch)
                .fetch_optional(&mut *tx)
                .await?;
            Ok(found.map(|n| Revision(from_db(n))))
        })
        .await
    }
}

pub(crate) async fn changes(
    tx: &mut Transaction<'_, Postgres>,
    since: Revision,
) -> Result<Change, StoreError> {
    let rows = sqlx::query(
        "select distinct on (kind, id) kind, id, version, body, until from fact
         where since > $1 or until > $1 order by kind, id, since desc",
    )
    .bind(to_db(since.0))
    .fetch_all(&mut **tx)
    .await?;
    let mut change = Change::default();
    for row in &rows {
        let gone = row.try_get::<Option<i64>, _>("until")?.is_some();
        match read_row(row)? {
            Record::Entity(fact) if gone => {
                let key: (Kind, u64) = (fact.kind(), fact.id());
                change.estate.touched.insert(key, Touched::Gone);
            }
            record => change.take(record),
        }
    }
    Ok(change)
}

fn read_row(row: &PgRow) -> Result<Record, StoreError> {
    let (kind, id, version, body): (String, i64, i32, Value) = (
        row.try_get("kind")?,
        row.try_get("id")?,
        row.try_get("version")?,
        row.try_get("body")?,
    );
    Ok(Record::read(&kind, from_db(id), version, body)?)
}
