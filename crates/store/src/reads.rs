//! What pages read besides the estate in memory: runs and events.

use crate::{
    StoreError,
    cell::{from_db, moment_of, to_db},
};
use serde_json::Value;
use sqlx::{PgPool, Row};
use std::sync::Arc;
use time::OffsetDateTime;
use zastrugi_core::{
    ids::RunId,
    moment::Moment,
    rooms::{Plan, Record, STEPS, closed_run},
    runs::{Progress, Run},
};

#[derive(Debug, Clone)]
pub struct Reads {
    pool: PgPool,
}

#[derive(Debug, Clone, PartialEq, Eq)]
pub struct EventRow {
    pub revision: u64,
    pub n: i32,
    pub at: Moment,
    pub who: String,
    pub run: Option<RunId>,
    pub kind: String,
    pub text: String,
    /// Identifiers of what it is about, such as `machine-7`.
    pub about: Vec<String>,
}

/// Which events; empty strings don't limit.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct EventFilter {
    pub text: String,
    pub kind: String,
    pub who: String,
    /// An identifier such as `machine-7`.
    pub about: String,
    /// From here on, and before there.
    pub from: Option<Moment>,
    pub until: Option<Moment>,
    /// Only those before (revision, n).
    pub before: Option<(u64, i32)>,
}

/// Later than everything: the year 9999, in milliseconds since 1970.
const FAR: i64 = 253_402_300_799_000;

/// Which runs are looked for; what is empty doesn't matter.
#[derive(Debug, Clone, Default)]
pub struct RunFilter {
    /// A part of what it does.
    pub text: String,
    /// As it is stored.
    pub state: String,
    pub who: String,
}

impl Reads {
    pub fn new(pool: PgPool) -> Self {
        Self { pool }
    }

    /// The newest runs before `before` that the filter leaves.
    ///
    /// # Errors
    /// [`StoreError`] when the database or a stored body can't be read.
    pub async fn runs(
        &self,
        filter: &RunFilter,
        before: Option<RunId>,
        most: i64,
    ) -> Result<Vec<Arc<Run>>, StoreError> {
        let rows = sqlx::query(
            "select kind, id, version, body from fact
             where kind = 'run' and until is null and id < $1
               and ($3 = '' or position(lower($3) in lower(body->>'title')) > 0)
               and ($4 = '' or body->>'state' = $4) and ($5 = '' or body->'by'->>'name' = $5)
             order by id desc limit $2",
        )
        .bind(before.map_or(i64::MAX, |r| to_db(r.0)))
        .bind(most)
        .bind(&filter.text)
        .bind(&filter.state)
        .bind(&filter.who)
        .fetch_all(&self.pool)
        .await?;
        let mut runs = Vec::with_capacity(rows.len());
        for row in &rows {
            let body: Value = row.try_get("body")?;
            if let Record::Run(run) = Record::read(
                "run",
                from_db(row.try_get("id")?),
                row.try_get("version")?,
                body,
            )? {
                runs.push(run);
            }
        }
        Ok(runs)
    }

    /// A closed run with its plan and steps.
    ///
    /// # Errors
    /// [`StoreError`] when the database or a stored body can't be read.
    pub async fn run(&self, id: RunId) -> Result<Option<(Arc<Run>, Arc<Plan>)>, StoreError> {
        let rows = sqlx::query(
            "select kind, id, version, body from fact where until is null
             and (kind in ('run', 'plan') and id = $1 or kind = 'step' and id >= $2 and id < $3)",
        )
        .bind(to_db(id.0))
        .bind(to_db(id.0 * STEPS))
        .bind(to_db((id.0 + 1) * STEPS))
        .fetch_all(&self.pool)
        .await?;
        let (mut run, mut plan, mut steps) = (None, None, Vec::new());
        for row in &rows {
            let kind: String = row.try_get("kind")?;
            let number = from_db(row.try_get("id")?);
            match Record::read(&kind, number, row.try_get("version")?, row.try_get("body")?)? {
                Record::Run(r) => run = Some(Run::clone(&r)),
                Record::Plan(p) => plan = Some(p),
                Record::Step(_, n, state) => steps.push((n, *state)),
                Record::Entity(_) => {}
            }
        }
        Ok(run.map(|r| Arc::new(closed_run(r, steps))).zip(plan))
    }

    /// How far steps under way say they are; at most so many as a page can show.
    ///
    /// # Errors
    /// [`StoreError::Unavailable`] when the database does not answer.
    pub async fn progress(&self) -> Result<Progress, StoreError> {
        let rows = sqlx::query("select run, step, said from orders where said <> '' limit 2000")
            .fetch_all(&self.pool)
            .await?;
        rows.iter()
            .map(|row| {
                let run = RunId(from_db(row.try_get("run")?));
                let step: i32 = row.try_get("step")?;
                let key = (run, usize::try_from(step).unwrap_or(0));
                Ok((key, row.try_get::<String, _>("said")?))
            })
            .collect()
    }

    /// Events, newest first.
    ///
    /// # Errors
    /// [`StoreError::Unavailable`] when the database does not answer.
    pub async fn events(
        &self,
        filter: &EventFilter,
        most: i64,
    ) -> Result<Vec<EventRow>, StoreError> {
        let (revision, n) = filter
            .before
            .map_or((i64::MAX, i32::MAX), |(r, n)| (to_db(r), n));
        let rows = sqlx::query(
            "select revision, n, at, who, run, kind, text, about from event
             where ($1 = '' or text ilike '%' || replace(replace(replace($1, '\\', '\\\\'), '%', '\\%'), '_', '\\_') || '%')
               and ($2 = '' or kind = $2) and ($3 = '' or who = $3)
               and ($4 = '' or about @> array[$4]) and (revision, n) < ($5, $6)
               and at >= to_timestamp($8::float8 / 1000) and at < to_timestamp($9::float8 / 1000)
             order by revision desc, n desc limit $7",
        )
        .bind(&filter.text)
        .bind(&filter.kind)
        .bind(&filter.who)
        .bind(&filter.about)
        .bind(revision)
        .bind(n)
        .bind(most)
        .bind(filter.from.map_or(0, |m| m.0))
        .bind(filter.until.map_or(FAR, |m| m.0))
        .fetch_all(&self.pool)
        .await?;
        rows.iter()
            .map(|row| {
                Ok(EventRow {
                    revision: from_db(row.try_get("revision")?),
                    n: row.try_get("n")?,
                    at: moment_of(row.try_get::<OffsetDateTime, _>("at")?),
                    who: row.try_get("who")?,
                    run: row
                        .try_get::<Option<i64>, _>("run")?
                        .map(|r| RunId(from_db(r))),
                    kind: row.try_get("kind")?,
                    text: row.try_get("text")?,
                    about: row.try_get("about")?,
                })
            })
            .collect()
    }
}
