//! Orders: rows that say what a device must do, taken by whoever is free, with a lease and a token.

use crate::{
    StoreError,
    cell::{from_db, to_db},
    limit::within,
};
use sqlx::{PgPool, Row};
use uuid::Uuid;
use zastrugi_core::{ids::RunId, moment::Span, road::Urgency};

#[derive(Debug, Clone, PartialEq, Eq)]
pub struct NewOrder {
    pub run: RunId,
    pub step: usize,
    pub attempt: u32,
    pub after: Span,
    pub device: String,
    pub urgency: Urgency,
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
}

#[derive(Debug, Clone)]
pub struct Orders {
    pool: PgPool,
}

impl Orders {
    pub fn new(pool: PgPool) -> Self {
        Self { pool }
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
        let taken = sqlx::query(
            "with free as (
                 select d.device, $3 - coalesce(b.n, 0) as room
                 from (select distinct device from orders
                       where run_at <= now() and (leased_until is null or leased_until < now())) d
                 left join unnest($4::text[], $5::int[]) as b (device, n) on b.device = d.device
                 where not exists (select 1 from head where held is not null)),
             due as (
                 select o.* from free cross join lateral (
                     select run, step, sent, urgency, run_at from orders o
                     where o.device = free.device and run_at <= now()
                       and (leased_until is null or leased_until < now())
                     order by urgency, run_at limit greatest(free.room, 0) for update skip locked) o
                 order by o.urgency, o.run_at limit $1)
             update orders o set token = gen_random_uuid(), leased_until = now() + make_interval(secs => $2), sent = true
             from due where o.run = due.run and o.step = due.step
             returning o.run, o.step, o.attempt, o.token, o.device, due.sent",
        )
        .bind(most)
        .bind(lease.0 as f64 / 1000.0)
        .bind(i32::try_from(each).unwrap_or(i32::MAX))
        .bind(under_way.iter().map(|b| b.0.as_str()).collect::<Vec<_>>())
        .bind(under_way.iter().map(|b| b.1).collect::<Vec<_>>())
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

    /// Gives an order back, to be looked at again after `pause`, with how far it is said to be.
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
            "update orders set token = null, leased_until = null, run_at = now() + make_interval(secs => $4), said = $5
             where run = $1 and step = $2 and token = $3",
        )
        .bind(to_db(order.run.0))
        .bind(i32::try_from(order.step).unwrap_or(i32::MAX))
        .bind(order.token)
        .bind(pause.0 as f64 / 1000.0)
        .bind(said)
        .execute(&self.pool)
        .await?;
        Ok(())
    }

    /// How long until the next order is due; none when there is none.
    ///
    /// # Errors
    /// [`StoreError::Unavailable`] when the database does not answer.
    pub async fn next_due(&self) -> Result<Option<Span>, StoreError> {
        let seconds: Option<f64> = sqlx::query_scalar(
            "select greatest(extract(epoch from min(greatest(run_at, coalesce(leased_until, run_at))) - now()), 0)::float8
             from orders",
        )
        .fetch_one(&self.pool)
        .await?;
        Ok(seconds.map(|s| Span(zastrugi_core::units::round(s * 1000.0))))
    }
}
