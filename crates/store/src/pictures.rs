//! Pictures of screens that were kept: the newest few of each machine.

use crate::{
    StoreError,
    cell::{moment_of, time_of, to_db},
};
use sqlx::{PgPool, Row};
use time::OffsetDateTime;
use uuid::Uuid;
use zastrugi_core::{ids::MachineId, moment::Moment};

/// Marks of pictures begin so that a step took as evidence.
pub const EVIDENCE: &str = "evidence/";

#[derive(Debug, Clone)]
pub struct Pictures {
    pool: PgPool,
}

/// A kept picture, without its bytes.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Picture {
    pub id: Uuid,
    pub machine: MachineId,
    /// Which one of which host, such as `SN-0042/1234`.
    pub mark: String,
    pub at: Moment,
    pub why: String,
}

impl Pictures {
    /// Of each machine so many are kept.
    pub const KEPT: i64 = 5;

    pub fn new(pool: PgPool) -> Self {
        Self { pool }
    }

    /// Whether the picture of this mark is kept already.
    ///
    /// # Errors
    /// [`StoreError::Unavailable`] when the database does not answer.
    pub async fn has(&self, mark: &str) -> Result<bool, StoreError> {
        let row = sqlx::query("select exists (select from picture where mark = $1) as there")
            .bind(mark)
            .fetch_one(&self.pool)
            .await?;
        Ok(row.try_get("there")?)
    }

    /// The one of this mark.
    ///
    /// # Errors
    /// [`StoreError::Unavailable`] when the database does not answer.
    pub async fn marked(&self, mark: &str) -> Result<Option<Uuid>, StoreError> {
        let row = sqlx::query("select id from picture where mark = $1")
            .bind(mark)
            .fetch_optional(&self.pool)
            .await?;
        Ok(row.map(|r| r.try_get("id")).transpose()?)
    }

    /// Evidence that nobody names any more goes. What was kept within a day may be about to be named.
    ///
    /// # Errors
    /// [`StoreError::Unavailable`] when the database does not answer.
    pub async fn forget_evidence(&self, named: &[Uuid]) -> Result<u64, StoreError> {
        let done = sqlx::query(
            "delete from picture where mark like $1 and id <> all($2) and at < now() - interval '1 day'",
        )
        .bind(format!("{EVIDENCE}%"))
        .bind(named)
        .execute(&self.pool)
        .await?;
        Ok(done.rows_affected())
    }

    /// Keeps it, and lets the oldest of its machine go. False when it was there already.
    ///
    /// # Errors
    /// [`StoreError::Unavailable`] when the database does not answer.
    pub async fn keep(&self, picture: &Picture, png: &[u8]) -> Result<bool, StoreError> {
        let mut tx = self.pool.begin().await?;
        let made = sqlx::query(
            "insert into picture (id, machine, mark, at, why, png) values ($1, $2, $3, $4, $5, $6)
             on conflict (mark) do nothing",
        )
        .bind(picture.id)
        .bind(to_db(picture.machine.0))
        .bind(&picture.mark)
        .bind(time_of(picture.at))
        .bind(&picture.why)
        .bind(png)
        .execute(&mut *tx)
        .await?;
        sqlx::query(
            "delete from picture where machine = $1 and id not in
             (select id from picture where machine = $1 order by at desc, id limit $2)",
        )
        .bind(to_db(picture.machine.0))
        .bind(Self::KEPT)
        .execute(&mut *tx)
        .await?;
        tx.commit().await?;
        Ok(made.rows_affected() == 1)
    }

    /// The newest one of a machine.
    ///
    /// # Errors
    /// [`StoreError::Unavailable`] when the database does not answer.
    pub async fn newest(&self, machine: MachineId) -> Result<Option<Picture>, StoreError> {
        let row = sqlx::query(
            "select id, mark, at, why from picture where machine = $1 order by at desc, id limit 1",
        )
        .bind(to_db(machine.0))
        .fetch_optional(&self.pool)
        .await?;
        let read = |row: sqlx::postgres::PgRow| {
            Ok(Picture {
                id: row.try_get("id")?,
                machine,
                mark: row.try_get("mark")?,
                at: moment_of(row.try_get::<OffsetDateTime, _>("at")?),
                why: row.try_get("why")?,
            })
        };
        row.map(read).transpose()
    }

    /// The PNG file.
    ///
    /// # Errors
    /// [`StoreError::Unavailable`] when the database does not answer.
    pub async fn bytes(&self, id: Uuid) -> Result<Option<Vec<u8>>, StoreError> {
        let row = sqlx::query("select png from picture where id = $1")
            .bind(id)
            .fetch_optional(&self.pool)
            .await?;
        Ok(row.map(|r| r.try_get("png")).transpose()?)
    }
}
