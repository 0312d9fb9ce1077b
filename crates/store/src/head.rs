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
    /// Why no orders are given until a person releases them.
    pub held: Option<String>,
}

fn read(row: &PgRow) -> Result<Head, StoreError> {
    Ok(Head {
        revision: Revision(from_db(row.try_get("revision")?)),
        epoch: Epoch {
            number: from_db(row.try_get("epoch")?),
            history: row.try_get("history")?,
        },
        held: row.try_get("held")?,
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

/// Begins a new history above `seen`; orders are given again when this is committed.
pub(crate) async fn begin_history(
    tx: &mut Transaction<'_, Postgres>,
    seen: u64,
) -> Result<Epoch, StoreError> {
    let row = sqlx::query(
        "update head set parent = history, history = $1, epoch = greatest(epoch, $2) + 1, held = null
         returning *",
    )
    .bind(Uuid::new_v4())
    .bind(to_db(seen))
    .fetch_one(&mut **tx)
    .await?;
    Ok(read(&row)?.epoch)
}
