//! Orders: rows that say what a device must do, taken by whoever is free, with a lease and a token.

use crate::{
    StoreError,
    cell::{from_db, to_db},
    limit::within,
};
use sqlx::{PgPool, Row};
use uuid::Uuid;
use zastrugi_core::{
    ids::{RunId, SiteId},
    moment::Span,
    road::Urgency,
};

#[derive(Debug, Clone, PartialEq, Eq)]
pub struct NewOrder {
    pub run: RunId,
    pub step: usize,
    pub attempt: u32,
    pub after: Span,
    pub device: String,
    pub urgency: Urgency,
    /// Sites at which a process of its own may carry it.
    pub carried_at: Vec<SiteId>,
}

#[derive(Debug, Clone, PartialEq, Eq)]
pub struct TakenOrder {
    pub run: RunId,
    pub step: usize,
    pub attempt: u32,
    /// Shown again when the result is written; a later taker has another.
    pub token: Uuid,
    pub device: String,
    /// Somebody took it before: the device may have been told.
    pub sent: bool,
    /// How many other processes carry something from or to the same sites.
    pub beside: u32,
}

/// Orders as one process may take them.
#[derive(Debug, Clone)]
pub struct Orders {
    pool: PgPool,
    process: Uuid,
    /// It takes nothing but what is carried at these sites; none: all that nobody carries who does nothing else.
    sites: Option<Vec<i64>>,
}

/// A carrier that was not heard for so long is gone, in seconds.
const GONE: f64 = 10.0;
/// Whoever carries an order and looks at it in time keeps it, in seconds beyond its next look.
const KEPT: f64 = 20.0;

/// Whether this process may take an order `o`; its number and its sites are the two parameters.
macro_rules! ours {
    ($process:literal, $sites:literal, $gone:literal) => {
        concat!(
            "(o.carrier is null or o.carrier = ",
            $process,
            " or o.carried_until < now())
             and case when ",
            $sites,
            "::bigint[] is null
                 then cardinality(o.carried_at) = 0 or not exists (
                     select 1 from carrier c
                     where c.at > now() - make_interval(secs => ",
            $gone,
            ") and c.sites && o.carried_at)
                 else o.carried_at && ",
            $sites,
            "::bigint[] end"
        )
    };
}

impl Orders {
    pub fn new(pool: PgPool) -> Self {
        Self {
            pool,
            process: Uuid::new_v4(),
            sites: None,
        }
    }

    /// The same process, which carries at these sites and does nothing else.
    #[must_use]
    pub fn carrying(self, sites: &[SiteId]) -> Self {
        let sites = sites.iter().map(|s| to_db(s.0)).collect();
        Self {
            sites: Some(sites),
            ..self
        }
    }

    pub fn process(&self) -> Uuid {
        self.process
    }

    /// Takes up to `most` due orders for `lease`, counted on the database's clock: of each device at most `each`, less those
    /// that are `under_way` there already, the most urgent first.
    ///
    /// # Errors
    /// [`StoreError::Unavailable`] when the database does not answer.
    pub async fn take(
        &self,
        most: i64,
        each: usize,
        under_way: &[(String, i32)],
        lease: Span,
    ) -> Result<Vec<TakenOrder>, StoreError> {
        let taken = sqlx::query(concat!(
            "with free as (
                 select d.device, $3 - coalesce(b.n, 0) as room
                 from (select distinct device from orders o
                       where run_at <= now() and (leased_until is null or leased_until < now()) and ",
            ours!("$6", "$7", "$8"),
            ") d
                 left join unnest($4::text[], $5::int[]) as b (device, n) on b.device = d.device
                 where not exists (select 1 from head where held is not null)),
             due as (
                 select o.* from free cross join lateral (
                     select run, step, sent, urgency, run_at from orders o
                     where o.device = free.device and run_at <= now()
                       and (leased_until is null or leased_until < now()) and ",
            ours!("$6", "$7", "$8"),
            "
                     order by urgency, run_at limit greatest(free.room, 0) for update skip locked) o
                 order by o.urgency, o.run_at limit $1)
             update orders o set token = gen_random_uuid(), leased_until = now() + make_interval(secs => $2), sent = true
             from due where o.run = due.run and o.step = due.step
             returning o.run, o.step, o.attempt, o.token, o.device, due.sent,
                 case when cardinality(o.carried_at) = 0 then 0 else (
                     select count(distinct c.carrier) from orders c
                     where c.carrier <> $6 and c.carried_until > now() and c.carried_at && o.carried_at) end as beside",
        ))
        .bind(most)
        .bind(lease.0 as f64 / 1000.0)
        .bind(i32::try_from(each).unwrap_or(i32::MAX))
        .bind(under_way.iter().map(|b| b.0.as_str()).collect::<Vec<_>>())
        .bind(under_way.iter().map(|b| b.1).collect::<Vec<_>>())
        .bind(self.process)
        .bind(self.sites.as_deref())
        .bind(GONE)
        .fetch_all(&self.pool);
        let rows = within(async { Ok(taken.await?) }).await?;
        rows.iter()
            .map(|row| {
                Ok(TakenOrder {
                    run: RunId(from_db(row.try_get("run")?)),
                    step: usize::try_from(row.try_get::<i32, _>("step")?).unwrap_or(0),
                    attempt: u32::try_from(row.try_get::<i32, _>("attempt")?).unwrap_or(1),
                    token: row.try_get("token")?,
                    device: row.try_get("device")?,
                    sent: row.try_get("sent")?,
                    beside: u32::try_from(row.try_get::<i64, _>("beside")?).unwrap_or(0),
                })
            })
            .collect()
    }

    /// Gives an order back unperformed, as if it had never been taken, to be taken after `pause`.
    ///
    /// # Errors
    /// [`StoreError::Unavailable`] when the database does not answer.
    pub async fn put_back(&self, order: &TakenOrder, pause: Span) -> Result<(), StoreError> {
        within(async {
            sqlx::query("update orders set sent = $4 where run = $1 and step = $2 and token = $3")
                .bind(to_db(order.run.0))
                .bind(i32::try_from(order.step).unwrap_or(i32::MAX))
                .bind(order.token)
                .bind(order.sent)
                .execute(&self.pool)
                .await?;
            Ok(())
        })
        .await?;
        self.give_back(order, pause, "").await
    }

    /// Gives an order back, to be looked at again after `pause`, with how far it is said to be. What is carried stays with this process.
    ///
    /// # Errors
    /// [`StoreError::Unavailable`] when the database does not answer.
    pub async fn give_back(
        &self,
        order: &TakenOrder,
        pause: Span,
        said: &str,
    ) -> Result<(), StoreError> {
        sqlx::query(
            "update orders set token = null, leased_until = null, run_at = now() + make_interval(secs => $4), said = $5,
                 carrier = case when cardinality(carried_at) > 0 then $6 end,
                 carried_until = now() + make_interval(secs => $4 + $7)
             where run = $1 and step = $2 and token = $3",
        )
        .bind(to_db(order.run.0))
        .bind(i32::try_from(order.step).unwrap_or(i32::MAX))
        .bind(order.token)
        .bind(pause.0 as f64 / 1000.0)
        .bind(said)
        .bind(self.process)
        .bind(KEPT)
        .execute(&self.pool)
        .await?;
        Ok(())
    }

    /// How long until the next order is due; none when there is none.
    ///
    /// # Errors
    /// [`StoreError::Unavailable`] when the database does not answer.
    pub async fn next_due(&self) -> Result<Option<Span>, StoreError> {
        let seconds: Option<f64> = sqlx::query_scalar(concat!(
            "select greatest(extract(epoch from min(greatest(run_at, coalesce(leased_until, run_at))) - now()), 0)::float8
             from orders o where ",
            ours!("$1", "$2", "$3"),
        ))
        .bind(self.process)
        .bind(self.sites.as_deref())
        .bind(GONE)
        .fetch_one(&self.pool)
        .await?;
        Ok(seconds.map(|s| Span(zastrugi_core::units::round(s * 1000.0))))
    }
}

/// A process that carries and does nothing else.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Carrier {
    pub name: String,
    pub sites: Vec<SiteId>,
}

/// Those that are there.
#[derive(Debug, Clone)]
pub struct Carriers {
    pool: PgPool,
}

impl Carriers {
    pub fn new(pool: PgPool) -> Self {
        Carriers { pool }
    }

    /// Says that a process is there; those that are long gone leave.
    ///
    /// # Errors
    /// [`StoreError::Unavailable`] when the database does not answer.
    pub async fn beat(&self, process: Uuid, carrier: &Carrier) -> Result<(), StoreError> {
        let sites: Vec<i64> = carrier.sites.iter().map(|s| to_db(s.0)).collect();
        within(async {
            sqlx::query(
                "insert into carrier (process, name, sites) values ($1, $2, $3)
                 on conflict (process) do update set at = now(), name = $2, sites = $3",
            )
            .bind(process)
            .bind(&carrier.name)
            .bind(sites)
            .execute(&self.pool)
            .await?;
            sqlx::query("delete from carrier where at < now() - interval '1 day'")
                .execute(&self.pool)
                .await?;
            Ok(())
        })
        .await
    }

    /// It carries no more.
    ///
    /// # Errors
    /// [`StoreError::Unavailable`] when the database does not answer.
    pub async fn leave(&self, process: Uuid) -> Result<(), StoreError> {
        let gone = sqlx::query("delete from carrier where process = $1").bind(process);
        within(async {
            gone.execute(&self.pool).await?;
            Ok(())
        })
        .await
    }

    /// Those that were heard lately, by name.
    ///
    /// # Errors
    /// [`StoreError::Unavailable`] when the database does not answer.
    pub async fn there(&self) -> Result<Vec<Carrier>, StoreError> {
        let found = sqlx::query(
            "select name, sites from carrier where at > now() - make_interval(secs => $1) order by name",
        )
        .bind(GONE)
        .fetch_all(&self.pool);
        let rows = within(async { Ok(found.await?) }).await?;
        let read = |row: &sqlx::postgres::PgRow| -> Result<Carrier, StoreError> {
            let sites: Vec<i64> = row.try_get("sites")?;
            Ok(Carrier {
                name: row.try_get("name")?,
                sites: sites.into_iter().map(|s| SiteId(from_db(s))).collect(),
            })
        };
        rows.iter().map(read).collect()
    }
}
