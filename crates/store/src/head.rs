//! The head: the newest revision, the history that it belongs to, and whether orders are held.

use crate::{
    StoreError,
    cell::{from_db, to_db},
};
use sqlx::{PgPool, Postgres, Row, Transaction, postgres::PgRow};
use uuid::Uuid;
use zastrugi_core::{epoch::Epoch, ids::Revision};

#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Head {
    pub revision: Revision,
    pub epoch: Epoch,
    /// The history from which this one came, where it is not the first.
    pub parent: Option<Uuid>,
    /// The revision that the past of this history had reached here when it began.
    pub began: Revision,
    /// Why no orders are given until a person releases them.
    pub held: Option<String>,
    /// Why nothing is begun by itself until a person lets it go; what people ask for is done.
    pub automation: Option<String>,
}

fn read(row: &PgRow) -> Result<Head, StoreError> {
    Ok(Head {
        revision: Revision(from_db(row.try_get("revision")?)),
        epoch: Epoch {
            number: from_db(row.try_get("epoch")?),
            history: row.try_get("history")?,
        },
        parent: row.try_get("parent")?,
        began: Revision(from_db(row.try_get("began")?)),
        held: row.try_get("held")?,
        automation: row.try_get("automation")?,
    })
}

pub(crate) async fn look(pool: &PgPool) -> Result<Head, StoreError> {
    read(&sqlx::query("select * from head").fetch_one(pool).await?)
}

pub(crate) async fn see(tx: &mut Transaction<'_, Postgres>) -> Result<Head, StoreError> {
    read(
        &sqlx::query("select * from head")
            .fetch_one(&mut **tx)
            .await?,
    )
}

/// Takes the head lock.
pub(crate) async fn lock(tx: &mut Transaction<'_, Postgres>) -> Result<Head, StoreError> {
    let row = sqlx::query("select * from head for update")
        .fetch_one(&mut **tx)
        .await?;
    read(&row)
}

/// Holds all orders. The first reason stays: what follows from it is no news.
///
/// # Errors
/// [`StoreError::Unavailable`] when the database does not answer.
pub(crate) async fn hold(pool: &PgPool, why: &str) -> Result<(), StoreError> {
    sqlx::query("update head set held = $1 where held is null")
        .bind(why)
        .execute(pool)
        .await?;
    Ok(())
}

/// The database's timeline: another one after each promotion.
const TIMELINE: &str =
    "('x' || lpad(left(pg_walfile_name(pg_current_wal_lsn()), 8), 16, '0'))::bit(64)::bigint";

/// Begins a new history above `seen`; orders are given again when this is committed. `automation`: why nothing is begun by
/// itself in it, until a person says so.
pub(crate) async fn begin_history(
    tx: &mut Transaction<'_, Postgres>,
    seen: u64,
    automation: Option<&str>,
) -> Result<Epoch, StoreError> {
    let begin = format!(
        "update head set parent = history, history = $1, epoch = greatest(epoch, $2) + 1, held = null,
             began = revision, automation = $3, timeline = {TIMELINE}
         returning *"
    );
    let row = sqlx::query(sqlx::AssertSqlSafe(begin))
        .bind(Uuid::new_v4())
        .bind(to_db(seen))
        .bind(automation)
        .fetch_one(&mut **tx)
        .await?;
    Ok(read(&row)?.epoch)
}

/// What is begun by itself is begun again.
pub(crate) async fn let_go(tx: &mut Transaction<'_, Postgres>) -> Result<(), StoreError> {
    sqlx::query("update head set automation = null")
        .execute(&mut **tx)
        .await?;
    Ok(())
}

/// Notes the timeline the first time; holds all orders where the database was promoted since, and no history was begun for
/// it: the database that it followed may give orders in this one.
///
/// # Errors
/// [`StoreError::Unavailable`] when the database does not answer.
pub(crate) async fn check_timeline(pool: &PgPool) -> Result<(), StoreError> {
    let note = format!("update head set timeline = {TIMELINE} where timeline is null");
    sqlx::query(sqlx::AssertSqlSafe(note)).execute(pool).await?;
    let other = format!("select timeline <> {TIMELINE} from head");
    let other: bool = sqlx::query_scalar(sqlx::AssertSqlSafe(other))
        .fetch_one(pool)
        .await?;
    match other {
        true => {
            let why = "The database was promoted, or recovered to a point in time, and no history was begun for it: another \
                       may give orders in this one.";
            hold(pool, why).await
        }
        false => Ok(()),
    }
}
