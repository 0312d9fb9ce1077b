//! Appending to the journal, and building the estate from it.

use crate::{
    StoreError,
    cell::{from_db, time_of, to_db},
    orders::NewOrder,
};
use serde_json::Value;
use sqlx::{PgPool, Postgres, Row, Transaction, postgres::PgRow};
use uuid::Uuid;
use zastrugi_core::{
    estate::{Change, Estate, Fact, Kind, Touched},
    event::Told,
    ids::{Revision, RunId},
    moment::Moment,
    permits::Who,
};

/// The channel on which a new revision is announced.
pub(crate) const CHANNEL: &str = "zastrugi_revision";

#[derive(Debug, Clone)]
pub struct Journal {
    pool: PgPool,
}

/// An event as it goes into the Logbook.
#[derive(Debug, Clone)]
pub struct EventLine {
    pub at: Moment,
    pub who: Who,
    pub run: Option<RunId>,
    pub told: Told,
}

impl Journal {
    pub fn new(pool: PgPool) -> Self {
        Self { pool }
    }
    pub fn pool(&self) -> &PgPool {
        &self.pool
    }

    /// The whole estate at the head, read in one snapshot.
    ///
    /// # Errors
    /// [`StoreError`] when the database or a stored body can't be read.
    pub async fn load(&self) -> Result<Estate, StoreError> {
        let mut tx = self.pool.begin().await?;
        sqlx::query("set transaction isolation level repeatable read, read only")
            .execute(&mut *tx)
            .await?;
        let revision = head(&mut tx, "select revision from head").await?;
        let rows =
            sqlx::query("select kind, id, version, body from fact where until is null and live")
                .fetch_all(&mut *tx)
                .await?;
        tx.commit().await?;
        let facts = rows.iter().map(read_fact).collect::<Result<Vec<_>, _>>()?;
        Ok(Estate::from_facts(revision, facts))
    }

    /// The estate as it was at `revision`. Closed runs and plans are not part of it.
    ///
    /// # Errors
    /// [`StoreError`] when the database or a stored body can't be read.
    pub async fn load_at(&self, revision: Revision) -> Result<Estate, StoreError> {
        let rows = sqlx::query(
            "select kind, id, version, body from fact
             where since <= $1 and (until is null or until > $1) and kind not in ('run', 'plan', 'meta')",
        )
        .bind(to_db(revision.0))
        .fetch_all(&self.pool)
        .await?;
        let facts = rows.iter().map(read_fact).collect::<Result<Vec<_>, _>>()?;
        Ok(Estate::from_facts(revision, facts))
    }

    /// # Errors
    /// [`StoreError::Unavailable`] when the database does not answer.
    pub async fn head(&self) -> Result<Revision, StoreError> {
        let n: i64 = sqlx::query_scalar("select revision from head")
            .fetch_one(&self.pool)
            .await?;
        Ok(Revision(from_db(n)))
    }

    /// What changed after `since`, for a process that is behind.
    ///
    /// # Errors
    /// [`StoreError`] when the database or a stored body can't be read.
    pub async fn changed_since(&self, since: Revision) -> Result<(Revision, Change), StoreError> {
        let mut tx = self.pool.begin().await?;
        sqlx::query("set transaction isolation level repeatable read, read only")
            .execute(&mut *tx)
            .await?;
        let revision = head(&mut tx, "select revision from head").await?;
        let change = changes(&mut tx, since).await?;
        tx.commit().await?;
        Ok((revision, change))
    }

    /// Takes the head lock. Facts are read in later statements only: lock and catch-up in one would lose events.
    ///
    /// # Errors
    /// [`StoreError::Unavailable`] when the lock isn't had in time.
    pub async fn begin(&self) -> Result<Batch, StoreError> {
        let mut tx = self.pool.begin().await?;
        let head = head(&mut tx, "select revision from head for update").await?;
        Ok(Batch { tx, head })
    }

    /// Removes what is past keeping: earlier states of entities and batches after `history` days, events after `events`
    /// days. Current states are never touched.
    ///
    /// # Errors
    /// [`StoreError::Unavailable`] when the database does not answer.
    pub async fn tend(&self, history: i32, events: i32) -> Result<(), StoreError> {
        sqlx::query(
            "delete from fact where until <=
                 (select max(revision) from batch where at < now() - make_interval(days => $1))",
        )
        .bind(history)
        .execute(&self.pool)
        .await?;
        // The newest batch past keeping stays: it says up to where history reaches.
        sqlx::query(
            "delete from batch where revision <
                 (select max(revision) from batch where at < now() - make_interval(days => $1))",
        )
        .bind(history)
        .execute(&self.pool)
        .await?;
        sqlx::query("delete from event where at < now() - make_interval(days => $1)")
            .bind(events)
            .execute(&self.pool)
            .await?;
        Ok(())
    }

    /// Whether a batch whose COMMIT wasn't answered was written, and at which revision.
    ///
    /// # Errors
    /// [`StoreError::Unavailable`] when the database does not answer.
    pub async fn was_written(&self, batch: Uuid) -> Result<Option<Revision>, StoreError> {
        let found: Option<i64> = sqlx::query_scalar("select revision from batch where id = $1")
            .bind(batch)
            .fetch_optional(&self.pool)
            .await?;
        Ok(found.map(|n| Revision(from_db(n))))
    }
}

async fn head(
    tx: &mut Transaction<'_, Postgres>,
    query: &'static str,
) -> Result<Revision, StoreError> {
    let n: i64 = sqlx::query_scalar(query).fetch_one(&mut **tx).await?;
    Ok(Revision(from_db(n)))
}

async fn changes(
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
        let fact = read_fact(row)?;
        let gone = row.try_get::<Option<i64>, _>("until")?.is_some();
        change.touched.insert(
            (fact.kind(), fact.id()),
            if gone {
                Touched::Gone
            } else {
                Touched::Put(fact)
            },
        );
    }
    Ok(change)
}

fn read_fact(row: &PgRow) -> Result<Fact, StoreError> {
    let (kind, id, version, body): (String, i64, i32, Value) = (
        row.try_get("kind")?,
        row.try_get("id")?,
        row.try_get("version")?,
        row.try_get("body")?,
    );
    Ok(Fact::read(&kind, from_db(id), version, body)?)
}

/// An append under way: the head is locked until it is committed or dropped.
pub struct Batch {
    tx: Transaction<'static, Postgres>,
    head: Revision,
}

impl Batch {
    /// The revision before this batch.
    pub fn head(&self) -> Revision {
        self.head
    }
    /// # Errors
    /// [`StoreError`] when the database or a stored body can't be read.
    pub async fn changed_since(&mut self, since: Revision) -> Result<Change, StoreError> {
        changes(&mut self.tx, since).await
    }

    /// Whether this order is still ours; locks it until the end of the batch.
    ///
    /// # Errors
    /// [`StoreError::Unavailable`] when the database does not answer.
    pub async fn holds(
        &mut self,
        run: RunId,
        step: usize,
        token: Uuid,
    ) -> Result<bool, StoreError> {
        let found: Option<i32> = sqlx::query_scalar(
            "select 1 from orders where run = $1 and step = $2 and token = $3 for update",
        )
        .bind(to_db(run.0))
        .bind(i32::try_from(step).unwrap_or(i32::MAX))
        .bind(token)
        .fetch_optional(&mut *self.tx)
        .await?;
        Ok(found.is_some())
    }

    /// Whether the holder of the leader's lease in this term still is it.
    ///
    /// # Errors
    /// [`StoreError::Unavailable`] when the database does not answer.
    pub async fn leads(&mut self, holder: Uuid, term: u64) -> Result<bool, StoreError> {
        let found: Option<i32> = sqlx::query_scalar(
            "select 1 from lease where name = 'leader' and holder = $1 and term = $2 and expires > now()",
        )
        .bind(holder)
        .bind(to_db(term))
        .fetch_optional(&mut *self.tx)
        .await?;
        Ok(found.is_some())
    }

    /// The run that a sheet's request has made already.
    ///
    /// # Errors
    /// [`StoreError::Unavailable`] when the database does not answer.
    pub async fn run_of(&mut self, request: Uuid) -> Result<Option<RunId>, StoreError> {
        let found: Option<i64> = sqlx::query_scalar("select run from request where id = $1")
            .bind(request)
            .fetch_optional(&mut *self.tx)
            .await?;
        Ok(found.map(|n| RunId(from_db(n))))
    }

    /// Writes everything of this batch at `revision`.
    ///
    /// # Errors
    /// [`StoreError`]; the batch must then be dropped.
    pub async fn write(
        &mut self,
        revision: Revision,
        change: &Change,
        events: &[EventLine],
        requests: &[(Uuid, RunId)],
    ) -> Result<(), StoreError> {
        self.write_facts(revision, change).await?;
        self.write_events(revision, events).await?;
        for (request, run) in requests {
            sqlx::query("insert into request (id, run) values ($1, $2)")
                .bind(request)
                .bind(to_db(run.0))
                .execute(&mut *self.tx)
                .await?;
        }
        Ok(())
    }

    /// Old orders of these steps go; new ones come.
    ///
    /// # Errors
    /// [`StoreError`]; the batch must then be dropped.
    pub async fn write_orders(
        &mut self,
        done: &[(RunId, usize)],
        new: &[NewOrder],
    ) -> Result<(), StoreError> {
        let small = |n: usize| i32::try_from(n).unwrap_or(i32::MAX);
        if !done.is_empty() {
            sqlx::query(
                "delete from orders o using unnest($1::bigint[], $2::int[]) as d (run, step)
                 where o.run = d.run and o.step = d.step",
            )
            .bind(done.iter().map(|d| to_db(d.0.0)).collect::<Vec<_>>())
            .bind(done.iter().map(|d| small(d.1)).collect::<Vec<_>>())
            .execute(&mut *self.tx)
            .await?;
        }
        if !new.is_empty() {
            sqlx::query(
                "insert into orders (run, step, attempt, run_at)
                 select run, step, attempt, now() + make_interval(secs => after / 1000.0)
                 from unnest($1::bigint[], $2::int[], $3::int[], $4::float8[]) as n (run, step, attempt, after)
                 on conflict (run, step) do update
                 set attempt = excluded.attempt, run_at = excluded.run_at, token = null, leased_until = null",
            )
            .bind(new.iter().map(|n| to_db(n.run.0)).collect::<Vec<_>>())
            .bind(new.iter().map(|n| small(n.step)).collect::<Vec<_>>())
            .bind(new.iter().map(|n| i32::try_from(n.attempt).unwrap_or(i32::MAX)).collect::<Vec<_>>())
            .bind(new.iter().map(|n| n.after.0 as f64).collect::<Vec<_>>())
            .execute(&mut *self.tx)
            .await?;
        }
        Ok(())
    }

    async fn write_facts(&mut self, revision: Revision, change: &Change) -> Result<(), StoreError> {
        let kinds: Vec<&str> = change.touched.keys().map(|(kind, _)| kind.word()).collect();
        let ids: Vec<i64> = change.touched.keys().map(|(_, id)| to_db(*id)).collect();
        let passing: Vec<&str> = Kind::ALL
            .into_iter()
            .filter(|k| !k.keeps_history())
            .map(Kind::word)
            .collect();
        sqlx::query(
            "delete from fact f using unnest($1::text[], $2::bigint[]) as t (kind, id)
             where f.kind = t.kind and f.id = t.id and f.until is null and f.kind = any($3)",
        )
        .bind(&kinds)
        .bind(&ids)
        .bind(&passing)
        .execute(&mut *self.tx)
        .await?;
        sqlx::query(
            "update fact f set until = $3 from unnest($1::text[], $2::bigint[]) as t (kind, id)
             where f.kind = t.kind and f.id = t.id and f.until is null",
        )
        .bind(&kinds)
        .bind(&ids)
        .bind(to_db(revision.0))
        .execute(&mut *self.tx)
        .await?;
        self.insert_facts(revision, change).await
    }

    async fn insert_facts(
        &mut self,
        revision: Revision,
        change: &Change,
    ) -> Result<(), StoreError> {
        let facts: Vec<&Fact> = change
            .touched
            .values()
            .filter_map(|t| {
                if let Touched::Put(fact) = t {
                    Some(fact)
                } else {
                    None
                }
            })
            .collect();
        let bodies = facts
            .iter()
            .map(|f| f.body())
            .collect::<Result<Vec<Value>, _>>()?;
        let closed: Vec<i64> = facts
            .iter()
            .filter(|f| !f.live())
            .map(|f| to_db(f.id()))
            .collect();
        sqlx::query(
            "insert into fact (kind, id, since, version, live, body)
             select kind, id, $4, $5, live, body
             from unnest($1::text[], $2::bigint[], $3::jsonb[], $6::bool[]) as f (kind, id, body, live)",
        )
        .bind(facts.iter().map(|f| f.kind().word()).collect::<Vec<_>>())
        .bind(facts.iter().map(|f| to_db(f.id())).collect::<Vec<_>>())
        .bind(bodies)
        .bind(to_db(revision.0))
        .bind(Fact::VERSION)
        .bind(facts.iter().map(|f| f.live()).collect::<Vec<_>>())
        .execute(&mut *self.tx)
        .await?;
        if !closed.is_empty() {
            sqlx::query("update fact set live = false where kind = 'plan' and id = any($1)")
                .bind(closed)
                .execute(&mut *self.tx)
                .await?;
        }
        Ok(())
    }

    async fn write_events(
        &mut self,
        revision: Revision,
        events: &[EventLine],
    ) -> Result<(), StoreError> {
        if events.is_empty() {
            return Ok(());
        }
        let numbers: Vec<i32> = (0..).take(events.len()).collect();
        let about: Vec<Value> = events.iter().map(|e| e.told.about.clone().into()).collect();
        sqlx::query(
            "insert into event (revision, n, at, who, person, run, kind, text, about)
             select $1, n, at, who, person, run, kind, text, array(select jsonb_array_elements_text(about))
             from unnest($2::int[], $3::timestamptz[], $4::text[], $5::bigint[], $6::bigint[], $7::text[], $8::text[],
                         $9::jsonb[]) as e (n, at, who, person, run, kind, text, about)",
        )
        .bind(to_db(revision.0))
        .bind(numbers)
        .bind(events.iter().map(|e| time_of(e.at)).collect::<Vec<_>>())
        .bind(events.iter().map(|e| e.who.name.clone()).collect::<Vec<_>>())
        .bind(events.iter().map(|e| e.who.person.map(|p| to_db(p.0))).collect::<Vec<_>>())
        .bind(events.iter().map(|e| e.run.map(|r| to_db(r.0))).collect::<Vec<_>>())
        .bind(events.iter().map(|e| e.told.kind.clone()).collect::<Vec<_>>())
        .bind(events.iter().map(|e| e.told.text.clone()).collect::<Vec<_>>())
        .bind(about)
        .execute(&mut *self.tx)
        .await?;
        Ok(())
    }

    /// Makes it durable and tells the other processes.
    ///
    /// # Errors
    /// [`StoreError::Unknown`] when the answer to COMMIT is lost: ask [`Journal::was_written`].
    pub async fn commit(mut self, revision: Revision, batch: Uuid) -> Result<(), StoreError> {
        sqlx::query("insert into batch (id, revision) values ($1, $2)")
            .bind(batch)
            .bind(to_db(revision.0))
            .execute(&mut *self.tx)
            .await?;
        sqlx::query("update head set revision = $1")
            .bind(to_db(revision.0))
            .execute(&mut *self.tx)
            .await?;
        sqlx::query("select pg_notify($1, $2)")
            .bind(CHANNEL)
            .bind(revision.0.to_string())
            .execute(&mut *self.tx)
            .await?;
        self.tx.commit().await.map_err(StoreError::Unknown)
    }
}
