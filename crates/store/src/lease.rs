//! The leader's lease: one process watches devices at a time.

use crate::{
    StoreError,
    cell::{from_db, to_db},
    limit::within,
};
use sqlx::PgPool;
use uuid::Uuid;
use zastrugi_core::moment::Span;

#[derive(Debug, Clone)]
pub struct Leases {
    pool: PgPool,
}

/// A lease that was had, with its term.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Held {
    pub holder: Uuid,
    pub term: u64,
}

impl Leases {
    pub fn new(pool: PgPool) -> Self {
        Self { pool }
    }

    /// Takes or renews the leader's lease. Taking it over begins a new term.
    ///
    /// # Errors
    /// [`StoreError::Unavailable`] when the database does not answer.
    pub async fn lead(&self, holder: Uuid, length: Span) -> Result<Option<Held>, StoreError> {
        let renewed = sqlx::query_scalar(
            "insert into lease (name, holder, term, expires)
             values ('leader', $1, 1, now() + make_interval(secs => $2))
             on conflict (name) do update
             set holder = $1, expires = excluded.expires,
                 term = lease.term + case when lease.holder = $1 then 0 else 1 end
             where lease.holder = $1 or lease.expires < now()
             returning term",
        )
        .bind(holder)
        .bind(length.0 as f64 / 1000.0)
        .fetch_optional(&self.pool);
        let term: Option<i64> = within(async { Ok(renewed.await?) }).await?;
        Ok(term.map(|term| Held {
            holder,
            term: from_db(term),
        }))
    }

    /// Lets go, so that another process needn't wait.
    ///
    /// # Errors
    /// [`StoreError::Unavailable`] when the database does not answer.
    pub async fn resign(&self, held: Held) -> Result<(), StoreError> {
        sqlx::query(
            "update lease set expires = now() where name = 'leader' and holder = $1 and term = $2",
        )
        .bind(held.holder)
        .bind(to_db(held.term))
        .execute(&self.pool)
        .await?;
        Ok(())
    }
}
