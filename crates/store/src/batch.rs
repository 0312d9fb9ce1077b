//! Appending to the journal: one transaction that holds the head.

use crate::{
    StoreError,
    cell::{from_db, time_of, to_db},
    head::{self, Head},
    journal::{CHANNEL, changes},
    limit::{PATIENCE, within},
    orders::NewOrder,
};
use serde_json::Value;
use sqlx::{Postgres, Transaction};
use std::collections::BTreeSet;
use uuid::Uuid;
use zastrugi_core::{
    epoch::Epoch,
    ids::{PersonId, Revision, RunId, SiteId},
    moment::Moment,
    permits::{Role, Who},
    road::Entry,
    rooms::{Change, FactRow, STEPS},
};

/// A line of the Logbook.
#[derive(Debug, Clone)]
pub struct EventLine {
    pub at: Moment,
    pub who: Who,
    pub run: Option<RunId>,
    pub entry: Entry,
}

const INSERT: &str = "insert into fact (kind, id, since, version, live, body)
     select kind, id, $4, version, live, body
     from unnest($1::text[], $2::bigint[], $3::jsonb[], $5::int[], $6::bool[]) as f (kind, id, body, version, live)";

/// Of what keeps no history there is one row.
const REPLACE: &str = "insert into fact (kind, id, since, version, live, body)
     select kind, id, $4, version, live, body
     from unnest($1::text[], $2::bigint[], $3::jsonb[], $5::int[], $6::bool[]) as f (kind, id, body, version, live)
     on conflict (kind, id) where until is null do update
     set since = excluded.since, version = excluded.version, live = excluded.live, body = excluded.body";

/// An append under way: the head is locked until it is committed or dropped.
pub struct Batch {
    tx: Transaction<'static, Postgres>,
    head: Head,
}

impl Batch {
    pub(crate) fn new(tx: Transaction<'static, Postgres>, head: Head) -> Self {
        Batch { tx, head }
    }
    /// The head before this batch.
    pub fn head(&self) -> &Head {
        &self.head
    }

    /// Begins a new history above `seen`, the highest number that a device has shown, and drops the orders of the old one.
    /// `automation`: why nothing is begun by itself in it, until a person says so.
    ///
    /// # Errors
    /// [`StoreError`]; the batch must then be dropped.
    pub async fn begin_history(
        &mut self,
        seen: u64,
        automation: Option<&str>,
    ) -> Result<Epoch, StoreError> {
        sqlx::query("delete from orders")
            .execute(&mut *self.tx)
            .await?;
        head::begin_history(&mut self.tx, seen, automation).await
    }
    /// Whoever led did so in another database: nobody waits until it lets go.
    ///
    /// # Errors
    /// [`StoreError`]; the batch must then be dropped.
    pub async fn end_leases(&mut self) -> Result<(), StoreError> {
        sqlx::query("update lease set expires = now() - interval '1 second'")
            .execute(&mut *self.tx)
            .await?;
        Ok(())
    }
    /// What is begun by itself is begun again.
    ///
    /// # Errors
    /// [`StoreError`]; the batch must then be dropped.
    pub async fn let_go(&mut self) -> Result<(), StoreError> {
        head::let_go(&mut self.tx).await
    }
    /// # Errors
    /// [`StoreError`] when the database or a stored body can't be read.
    pub async fn changed_since(&mut self, since: Revision) -> Result<Change, StoreError> {
        changes(&mut self.tx, since).await
    }

    /// The tokens of those of these orders that are still theirs; locks the orders until the end of the batch.
    ///
    /// # Errors
    /// [`StoreError::Unavailable`] when the database does not answer.
    pub async fn held_of(
        &mut self,
        orders: &[(RunId, usize, Uuid)],
    ) -> Result<BTreeSet<Uuid>, StoreError> {
        let runs: Vec<i64> = orders.iter().map(|o| to_db(o.0.0)).collect();
        let steps = orders.iter().map(|o| i32::try_from(o.1));
        let steps: Vec<i32> = steps.map(|n| n.unwrap_or(i32::MAX)).collect();
        let tokens: Vec<Uuid> = orders.iter().map(|o| o.2).collect();
        let held: Vec<Uuid> = sqlx::query_scalar(
            "select o.token from unnest($1::bigint[], $2::int[], $3::uuid[]) as a (run, step, token)
             join orders o on o.run = a.run and o.step = a.step and o.token = a.token
             for update of o",
        )
        .bind(runs)
        .bind(steps)
        .bind(tokens)
        .fetch_all(&mut *self.tx)
        .await?;
        Ok(held.into_iter().collect())
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

    /// The role of a person as it is now; none for one who may not sign in any more.
    ///
    /// # Errors
    /// [`StoreError::Unavailable`] when the database does not answer.
    pub async fn role_of(&mut self, person: PersonId) -> Result<Option<Role>, StoreError> {
        let found: Option<String> =
            sqlx::query_scalar("select role from person where id = $1 and active for share")
                .bind(to_db(person.0))
                .fetch_optional(&mut *self.tx)
                .await?;
        Ok(found.and_then(|role| role.parse().ok()))
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
        // One that is ordered again keeps its row, and with it that the device may have been told.
        let again = |d: &&(RunId, usize)| new.iter().any(|n| (n.run, n.step) == **d);
        let done: Vec<_> = done.iter().filter(|d| !again(d)).collect();
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
                "insert into orders (run, step, attempt, run_at, device, urgency, carried_at)
                 select run, step, attempt, now() + make_interval(secs => after / 1000.0), device, urgency,
                     string_to_array(carried, ',')::bigint[]
                 from unnest($1::bigint[], $2::int[], $3::int[], $4::float8[], $5::text[], $6::smallint[], $7::text[])
                      as n (run, step, attempt, after, device, urgency, carried)
                 on conflict (run, step) do update
                 set attempt = excluded.attempt, run_at = excluded.run_at, token = null, leased_until = null",
            )
            .bind(new.iter().map(|n| to_db(n.run.0)).collect::<Vec<_>>())
            .bind(new.iter().map(|n| small(n.step)).collect::<Vec<_>>())
            .bind(new.iter().map(|n| i32::try_from(n.attempt).unwrap_or(i32::MAX)).collect::<Vec<_>>())
            .bind(new.iter().map(|n| n.after.0 as f64).collect::<Vec<_>>())
            .bind(new.iter().map(|n| n.device.as_str()).collect::<Vec<_>>())
            .bind(new.iter().map(|n| n.urgency as i16).collect::<Vec<_>>())
            .bind(new.iter().map(|n| listed(&n.carried_at)).collect::<Vec<_>>())
            .execute(&mut *self.tx)
            .await?;
        }
        Ok(())
    }

    async fn write_facts(&mut self, revision: Revision, change: &Change) -> Result<(), StoreError> {
        let (kept, passing): (Vec<FactRow>, Vec<FactRow>) = change
            .rows()?
            .into_iter()
            .partition(|row| row.keeps_history);
        if !kept.is_empty() {
            self.end_facts(revision, &kept).await?;
            self.insert_facts(INSERT, revision, kept).await?;
        }
        if !passing.is_empty() {
            self.insert_facts(REPLACE, revision, passing).await?;
        }
        for run in change.closed() {
            self.put_away(run).await?;
        }
        Ok(())
    }

    /// What was so until now.
    async fn end_facts(&mut self, revision: Revision, rows: &[FactRow]) -> Result<(), StoreError> {
        sqlx::query(
            "update fact f set until = $3 from unnest($1::text[], $2::bigint[]) as t (kind, id)
             where f.kind = t.kind and f.id = t.id and f.until is null",
        )
        .bind(rows.iter().map(|r| r.kind).collect::<Vec<_>>())
        .bind(rows.iter().map(|r| to_db(r.id)).collect::<Vec<_>>())
        .bind(to_db(revision.0))
        .execute(&mut *self.tx)
        .await?;
        Ok(())
    }

    async fn insert_facts(
        &mut self,
        how: &'static str,
        revision: Revision,
        mut rows: Vec<FactRow>,
    ) -> Result<(), StoreError> {
        rows.retain(|r| r.body.is_some());
        let bodies: Vec<Value> = rows.iter_mut().filter_map(|r| r.body.take()).collect();
        sqlx::query(how)
            .bind(rows.iter().map(|r| r.kind).collect::<Vec<_>>())
            .bind(rows.iter().map(|r| to_db(r.id)).collect::<Vec<_>>())
            .bind(bodies)
            .bind(to_db(revision.0))
            .bind(rows.iter().map(|r| r.version).collect::<Vec<_>>())
            .bind(rows.iter().map(|r| r.live).collect::<Vec<_>>())
            .execute(&mut *self.tx)
            .await?;
        Ok(())
    }

    /// A closed run is no longer loaded, nor are its plan and steps.
    async fn put_away(&mut self, run: RunId) -> Result<(), StoreError> {
        sqlx::query(
            "update fact set live = false where until is null and live
             and (kind = 'plan' and id = $1 or kind = 'step' and id >= $2 and id < $3)",
        )
        .bind(to_db(run.0))
        .bind(to_db(run.0 * STEPS))
        .bind(to_db((run.0 + 1) * STEPS))
        .execute(&mut *self.tx)
        .await?;
        sqlx::query("delete from orders where run = $1")
            .bind(to_db(run.0))
            .execute(&mut *self.tx)
            .await?;
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
        let about: Vec<Value> = events
            .iter()
            .map(|e| e.entry.about.clone().into())
            .collect();
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
        .bind(events.iter().map(|e| e.entry.kind.clone()).collect::<Vec<_>>())
        .bind(events.iter().map(|e| e.entry.text.clone()).collect::<Vec<_>>())
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
        within(self.announce(revision, batch)).await?;
        // Nobody knows what became of a COMMIT that gets no answer in time.
        match tokio::time::timeout(PATIENCE, self.tx.commit()).await {
            Ok(done) => done.map_err(StoreError::Unknown),
            Err(_) => Err(StoreError::Unknown(sqlx::Error::PoolTimedOut)),
        }
    }

    async fn announce(&mut self, revision: Revision, batch: Uuid) -> Result<(), StoreError> {
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
        Ok(())
    }
}

/// Sites with commas between them: a row has any number of them.
fn listed(sites: &[SiteId]) -> String {
    let sites = sites.iter().map(|s| s.0.to_string());
    sites.collect::<Vec<_>>().join(",")
}
