//! Whether the database takes writes: a disk that is full, or a write that hangs, is not seen by reading.

use crate::{Pool, StoreError, limit::within};
use uuid::Uuid;

#[derive(Debug, Clone)]
pub struct Pulse {
    pool: Pool,
    process: Uuid,
}

impl Pulse {
    pub fn new(pool: Pool) -> Self {
        Pulse {
            pool,
            process: Uuid::new_v4(),
        }
    }

    /// Writes, durably, that this process is there; those of processes that are long gone leave.
    ///
    /// # Errors
    /// [`StoreError`] when it could not be written in time.
    pub async fn beat(&self) -> Result<(), StoreError> {
        within(async {
            sqlx::query(
                "insert into pulse (process) values ($1) on conflict (process) do update set at = now()",
            )
            .bind(self.process)
            .execute(&self.pool)
            .await?;
            sqlx::query("delete from pulse where at < now() - interval '1 day'")
                .execute(&self.pool)
                .await?;
            Ok(())
        })
        .await
    }
}
