//! Loads: one packed row for each host and sample, in partitions by day.

use crate::{
    StoreError,
    cell::{from_db, time_of, to_db},
};
use serde_json::Value;
use sqlx::{AssertSqlSafe, PgPool, Row};
use time::{Duration, OffsetDateTime};
use zastrugi_core::{ids::HostId, loads::HostLoad};

#[derive(Debug, Clone)]
pub struct Measurements {
    pool: PgPool,
}

impl Measurements {
    /// Samples are kept this long.
    pub const KEPT_DAYS: i64 = 30;

    pub fn new(pool: PgPool) -> Self {
        Self { pool }
    }

    /// # Errors
    /// [`StoreError`] when the database does not answer.
    pub async fn write(&self, samples: &[(HostId, HostLoad)]) -> Result<(), StoreError> {
        let bodies = samples
            .iter()
            .map(|(_, s)| serde_json::to_value(s))
            .collect::<Result<Vec<Value>, _>>()?;
        sqlx::query(
            "insert into load (at, host, body)
             select at, host, body from unnest($1::timestamptz[], $2::bigint[], $3::jsonb[]) as l (at, host, body)",
        )
        .bind(samples.iter().map(|(_, s)| time_of(s.at)).collect::<Vec<_>>())
        .bind(samples.iter().map(|(h, _)| to_db(h.0)).collect::<Vec<_>>())
        .bind(bodies)
        .execute(&self.pool)
        .await?;
        Ok(())
    }

    /// The newest sample of each host of the last minutes, for processes that don't watch themselves.
    ///
    /// # Errors
    /// [`StoreError`] when the database or a stored body can't be read.
    pub async fn latest(&self) -> Result<Vec<(HostId, HostLoad)>, StoreError> {
        let rows = sqlx::query(
            "select distinct on (host) host, body from load
             where at > now() - interval '5 minutes' order by host, at desc",
        )
        .fetch_all(&self.pool)
        .await?;
        rows.iter()
            .map(|row| {
                let body: Value = row.try_get("body")?;
                Ok((
                    HostId(from_db(row.try_get("host")?)),
                    serde_json::from_value(body)?,
                ))
            })
            .collect()
    }

    /// Makes the partitions of today and tomorrow, and drops those past keeping.
    ///
    /// # Errors
    /// [`StoreError`] when the database does not answer.
    pub async fn tend(&self, now: OffsetDateTime) -> Result<(), StoreError> {
        for day in [now.date(), (now + Duration::DAY).date()] {
            let next = day.next_day().unwrap_or(day);
            let name = format!("load_{}", day.to_string().replace('-', "_"));
            let sql = format!(
                "create table if not exists {name} partition of load for values from ('{day}') to ('{next}')"
            );
            // The name is made of a date alone. A day that already has rows in the default partition stays there.
            if let Err(error) = sqlx::query(AssertSqlSafe(sql)).execute(&self.pool).await {
                tracing::debug!(%error, "no partition for {day}");
            }
        }
        let old: Vec<String> = sqlx::query_scalar(
            "select c.relname::text from pg_inherits i join pg_class c on c.oid = i.inhrelid
             where i.inhparent = 'load'::regclass and c.relname like 'load\\_2%' and c.relname < $1",
        )
        .bind(format!("load_{}", (now - Duration::days(Self::KEPT_DAYS)).date().to_string().replace('-', "_")))
        .fetch_all(&self.pool)
        .await?;
        for name in old {
            sqlx::query(AssertSqlSafe(format!("drop table {name}")))
                .execute(&self.pool)
                .await?;
        }
        Ok(())
    }
}
