//! Orders: rows that say what a device must do, taken by whoever is free, with a lease and a token.

use crate::{
    StoreError,
    cell::{from_db, to_db},
};
use sqlx::{PgPool, Row};
use uuid::Uuid;
use zastrugi_core::{ids::RunId, moment::Span};

#[derive(Debug, Clone, PartialEq, Eq)]
pub struct NewOrder {
    pub run: RunId,
    pub step: usize,
    pub attempt: u32,
    pub after: Span,
}

#[derive(Debug, Clone, PartialEq, Eq)]
pub struct TakenOrder {
    pub run: RunId,
    pub step: usize,
    pub attempt: u32,
    /// Shown again when the result is written; a later taker has another.
    pub token: Uuid,
}

#[derive(Debug, Clone)]
pub struct Orders {
    pool: PgPool,
}

impl Orders {
    pub fn new(pool: PgPool) -> Self {
        Self { pool }
    }

    /// Takes up to `most` due orders for `lease`, counted on the database's clock.
    ///
    /// # Errors
    /// [`StoreError::Unavailable`] when the database does not answer.
    pub async fn take(&self, most: i64, lease: Span) -> Result<Vec<TakenOrder>, StoreError> {
        let rows = sqlx::query(
            "update orders o set token = gen_random_uuid(), leased_until = now() + make_interval(secs => $2)
             from (select run, step from orders
                   where run_at <= now() and (leased_until is null or leased_until < now())
                   order by run_at limit $1 for update skip locked) due
             where o.run = due.run and o.step = due.step
             returning o.run, o.step, o.attempt, o.token",
        )
        .bind(most)
        .bind(lease.0 as f64 / 1000.0)
        .fetch_all(&self.pool)
        .await?;
        rows.iter()
            .map(|row| {
                Ok(TakenOrder {
                    run: RunId(from_db(row.try_get("run")?)),
                    step: usize::try_from(row.try_get::<i32, _>("step")?).unwrap_or(0),
                    attempt: u32::try_from(row.try_get::<i32, _>("attempt")?).unwrap_or(1),
                    token: row.try_get("token")?,
                })
            })
            .collect()
    }

    /// Gives an order back unperformed, to be taken after `pause`.
    ///
    /// # Errors
    /// [`StoreError::Unavailable`] when the database does not answer.
    pub async fn give_back(&self, order: &TakenOrder, pause: Span) -> Result<(), StoreError> {
        sqlx::query(
            "update orders set token = null, leased_until = null, run_at = now() + make_interval(secs => $4)
             where run = $1 and step = $2 and token = $3",
        )
        .bind(to_db(order.run.0))
        .bind(i32::try_from(order.step).unwrap_or(i32::MAX))
        .bind(order.token)
        .bind(pause.0 as f64 / 1000.0)
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
