//! Stored facts of an earlier form are brought to the form of now before anything else is done.

use crate::{
    StoreError,
    cell::{from_db, to_db},
};
use serde_json::Value;
use sqlx::{PgPool, Row};
use zastrugi_core::{
    estate::UpgradeError,
    rooms::{Record, upgrade},
};

/// Runs at a time; each such piece is a transaction of its own, so that one that is killed half-way goes on.
const AT_ONCE: i64 = 200;

/// # Errors
/// [`StoreError`] when the database or a stored body can't be read or written.
pub(crate) async fn bring_up(pool: &PgPool) -> Result<(), StoreError> {
    while piece(pool).await? > 0 {}
    Ok(())
}

/// Brings some runs or plans up to date; answers how many.
async fn piece(pool: &PgPool) -> Result<usize, StoreError> {
    let mut tx = pool.begin().await?;
    let rows = sqlx::query(
        "select kind, id, since, live, body from fact
         where kind in ('run', 'plan') and version < $1 and until is null limit $2 for update",
    )
    .bind(Record::RUNS)
    .bind(AT_ONCE)
    .fetch_all(&mut *tx)
    .await?;
    for row in &rows {
        let (kind, id): (String, i64) = (row.try_get("kind")?, row.try_get("id")?);
        let (since, live): (i64, bool) = (row.try_get("since")?, row.try_get("live")?);
        let body: Value = row.try_get("body")?;
        let wrong = |source| UpgradeError::Body {
            kind: "run",
            id: from_db(id),
            source,
        };
        let records = if kind == "plan" {
            let body = upgrade::plan(body);
            vec![Record::read("plan", from_db(id), Record::RUNS, body)?]
        } else {
            upgrade::run(body).map_err(wrong)?
        };
        sqlx::query("delete from fact where kind = $1 and id = $2 and until is null")
            .bind(&kind)
            .bind(id)
            .execute(&mut *tx)
            .await?;
        for record in records {
            let row = record.row(live)?;
            sqlx::query(
                "insert into fact (kind, id, since, version, live, body) values ($1, $2, $3, $4, $5, $6)",
            )
            .bind(row.kind)
            .bind(to_db(row.id))
            .bind(since)
            .bind(row.version)
            .bind(live)
            .bind(row.body)
            .execute(&mut *tx)
            .await?;
        }
    }
    tx.commit().await?;
    Ok(rows.len())
}
