//! Loads: one packed row for each host and sample, in partitions by day.

use crate::{
    StoreError,
    cell::{from_db, time_of, to_db},
};
use serde_json::Value;
use sqlx::{AssertSqlSafe, PgPool, Row};
use time::{Duration, OffsetDateTime};
use zastrugi_core::{
    ids::{HostId, MachineId, VolumeId},
    loads::{HostLoad, MachineLoad},
    units::{Bytes, Mhz},
};

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

    /// Notes how full volumes are; the last word of a day stands.
    ///
    /// # Errors
    /// [`StoreError`] when the database does not answer.
    pub async fn write_use(
        &self,
        day: time::Date,
        used: &[(VolumeId, Bytes)],
    ) -> Result<(), StoreError> {
        sqlx::query(
            "insert into volume_use (day, volume, used)
             select $1, volume, used from unnest($2::bigint[], $3::bigint[]) as u (volume, used)
             on conflict (volume, day) do update set used = excluded.used",
        )
        .bind(day)
        .bind(used.iter().map(|(v, _)| to_db(v.0)).collect::<Vec<_>>())
        .bind(used.iter().map(|(_, u)| to_db(u.0)).collect::<Vec<_>>())
        .execute(&self.pool)
        .await?;
        Ok(())
    }

    /// How full a volume was on each of the last 30 days that are known: (days since 1970, bytes), in time order.
    ///
    /// # Errors
    /// [`StoreError`] when the database does not answer.
    pub async fn use_of(&self, volume: VolumeId) -> Result<Vec<(f64, Bytes)>, StoreError> {
        let rows = sqlx::query(
            "select (day - date '1970-01-01')::float8 as day, used from volume_use
             where volume = $1 and day > current_date - 30 order by volume_use.day",
        )
        .bind(to_db(volume.0))
        .fetch_all(&self.pool)
        .await?;
        rows.iter()
            .map(|row| Ok((row.try_get("day")?, Bytes(from_db(row.try_get("used")?)))))
            .collect()
    }

    /// What the machines of these hosts typically use: the 95th percentile over the last 24 hours, one sample for each
    /// host and ten minutes. Only machines that were measured for nearly all of that time.
    ///
    /// # Errors
    /// [`StoreError`] when the database does not answer.
    pub async fn typical(
        &self,
        hosts: &[HostId],
    ) -> Result<Vec<(MachineId, MachineLoad)>, StoreError> {
        let rows = sqlx::query(
            "with sample as (
                 select distinct on (host, bin) at, body, date_bin('10 minutes', at, timestamptz '2000-01-01') as bin
                 from load where host = any($1) and at > now() - interval '24 hours'
                 order by host, bin, at
             ), used as (
                 select at, (m ->> 0)::bigint as machine, (m -> 1 ->> 'cpu')::bigint as cpu,
                        (m -> 1 ->> 'active')::bigint as active
                 from sample, jsonb_array_elements(body -> 'machines') as m
             )
             select machine, percentile_disc(0.95) within group (order by cpu) as cpu,
                    percentile_disc(0.95) within group (order by active) as active
             from used group by machine
             having min(at) < now() - interval '23 hours 30 minutes'",
        )
        .bind(hosts.iter().map(|h| to_db(h.0)).collect::<Vec<_>>())
        .fetch_all(&self.pool)
        .await?;
        rows.iter()
            .map(|row| {
                let load = MachineLoad {
                    cpu: Mhz(from_db(row.try_get("cpu")?)),
                    active: Bytes(from_db(row.try_get("active")?)),
                    writes: None,
                    disk: None,
                };
                Ok((MachineId(from_db(row.try_get("machine")?)), load))
            })
            .collect()
    }

    /// The hour of the day, in UTC, in which a machine wrote least to its disks over the last seven days, as this host measured it;
    /// none before there is a day of samples.
    ///
    /// # Errors
    /// [`StoreError`] when the database does not answer.
    pub async fn quiet_hour(
        &self,
        machine: MachineId,
        host: HostId,
    ) -> Result<Option<u8>, StoreError> {
        let row = sqlx::query(
            "with sample as (
                 select distinct on (host, bin) at, body, date_bin('10 minutes', at, timestamptz '2000-01-01') as bin
                 from load where host = $2 and at > now() - interval '7 days'
                 order by host, bin, at
             ), written as (
                 select extract(hour from at at time zone 'UTC')::int as hour,
                        (m -> 1 -> 'disk' ->> 'writes')::float8 as writes
                 from sample, jsonb_array_elements(body -> 'machines') as m
                 where (m ->> 0)::bigint = $1 and m -> 1 -> 'disk' is not null
             )
             select hour, count(*) over () as hours from written group by hour order by avg(writes), hour limit 1",
        )
        .bind(to_db(machine.0))
        .bind(to_db(host.0))
        .fetch_optional(&self.pool)
        .await?;
        let Some(row) = row else { return Ok(None) };
        let (hour, hours): (i32, i64) = (row.try_get("hour")?, row.try_get("hours")?);
        Ok(u8::try_from(hour).ok().filter(|_| hours == 24))
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
