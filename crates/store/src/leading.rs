//! Making a database ready to be followed by another, by whoever administers its server.

use crate::{StoreError, connect};
use sqlx::{PgPool, Row};

/// What an installation needs of its server.
#[derive(Debug, Clone, Copy)]
pub struct Wanted<'a> {
    /// The role with which the manager writes.
    pub manager: &'a str,
    /// The role with which the copy follows, and its password: letters and digits.
    pub role: &'a str,
    pub password: &'a str,
    /// The slot that keeps for it what it has not had yet: small letters, digits, underscores.
    pub slot: &'a str,
}

/// What a copy must know of the server that it follows.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Ready {
    /// Settings of which a copy needs as much as the server has.
    pub settings: Vec<(String, String)>,
    /// What was changed at the server, and what a person has to do there yet.
    pub notes: Vec<String>,
}

/// A copy does not start with less of these (PostgreSQL, *Hot Standby*, 27.4.3).
const AS_MUCH: &str = "select name, setting from pg_settings where name in ('max_connections', 'max_worker_processes',
     'max_wal_senders', 'max_prepared_transactions', 'max_locks_per_transaction') order by name";
/// What is kept for a copy that is away, where nobody said how much: then it is copied anew, and no disk is filled.
const KEPT: &str = "8GB";

/// Makes the server behind `admin` ready: a role to follow by, what the manager's role needs to promote a copy and to see
/// who follows, and an end to what is kept for a copy that is away. Safe to repeat.
///
/// # Errors
/// [`StoreError`] with words, also where the server is set so that nobody can follow it.
pub async fn prepare(admin: &str, wanted: Wanted<'_>) -> Result<Ready, StoreError> {
    let pool = connect(admin, 1).await?;
    let ready = prepared(&pool, wanted).await;
    pool.close().await;
    ready
}

async fn prepared(pool: &PgPool, wanted: Wanted<'_>) -> Result<Ready, StoreError> {
    can_be_followed(pool).await?;
    free_the_slot(pool, wanted.slot).await?;
    let Wanted {
        manager,
        role,
        password,
        ..
    } = wanted;
    let quoted = |name: &str| format!("\"{}\"", name.replace('"', "\"\""));
    let (manager, role) = (quoted(manager), quoted(role));
    let there: bool =
        sqlx::query_scalar("select exists (select 1 from pg_roles where rolname = $1)")
            .bind(wanted.role)
            .fetch_one(pool)
            .await?;
    let verb = if there { "alter" } else { "create" };
    for change in [
        format!("{verb} role {role} login replication password '{password}'"),
        format!("grant execute on function pg_promote(boolean, integer) to {manager}"),
        format!("grant pg_read_all_stats to {manager}"),
    ] {
        sqlx::query(sqlx::AssertSqlSafe(change))
            .execute(pool)
            .await
            .map_err(told)?;
    }
    let mut notes = vec![];
    if setting(pool, "max_slot_wal_keep_size").await? == "-1" {
        let limit = format!("alter system set max_slot_wal_keep_size = '{KEPT}'");
        sqlx::query(sqlx::AssertSqlSafe(limit))
            .execute(pool)
            .await?;
        sqlx::query("select pg_reload_conf()").execute(pool).await?;
        notes.push(format!(
            "At most {KEPT} of its log are kept for a stand-by that is away (max_slot_wal_keep_size)."
        ));
    }
    let lets: bool = sqlx::query_scalar(
        "select exists (select 1 from pg_hba_file_rules where type like 'host%' and 'replication' = any (database)
             and address not in ('127.0.0.1', '::1'))",
    )
    .fetch_one(pool)
    .await?;
    if !lets {
        notes.push(format!(
            "Its pg_hba.conf lets nobody follow from elsewhere: add “hostssl replication {} ADDRESS/32 scram-sha-256” with the \
             stand-by's address, and reload it.",
            wanted.role
        ));
    }
    let rows = sqlx::query(AS_MUCH).fetch_all(pool).await?;
    let settings = rows.iter().map(|r| Ok((r.try_get(0)?, r.try_get(1)?)));
    Ok(Ready {
        settings: settings.collect::<Result<_, sqlx::Error>>()?,
        notes,
    })
}

fn told(error: sqlx::Error) -> StoreError {
    match error {
        sqlx::Error::Database(words) => StoreError::NotWritten(format!(
            "The server did not take it: {}. Give the address of somebody who administers it with --admin-database.",
            words.message()
        )),
        other => other.into(),
    }
}

async fn setting(pool: &PgPool, name: &str) -> Result<String, StoreError> {
    let value = sqlx::query_scalar("select setting from pg_settings where name = $1");
    Ok(value.bind(name).fetch_one(pool).await?)
}

async fn can_be_followed(pool: &PgPool) -> Result<(), StoreError> {
    let not = |words: String| Err(StoreError::NotWritten(words));
    let level = setting(pool, "wal_level").await?;
    if !["replica", "logical"].contains(&level.as_str()) {
        return not(format!(
            "The server writes too little into its log (wal_level is {level}): set it to replica, and restart it."
        ));
    }
    for name in ["max_wal_senders", "max_replication_slots"] {
        if setting(pool, name).await? == "0" {
            return not(format!(
                "Nobody can follow this server: {name} is 0. Raise it, and restart it."
            ));
        }
    }
    let follows: bool = sqlx::query_scalar("select pg_is_in_recovery()")
        .fetch_one(pool)
        .await?;
    match follows {
        true => {
            not("This database follows another itself: invite at the manager that leads.".into())
        }
        false => Ok(()),
    }
}

/// Of an earlier stand-by of that name nothing more is kept.
async fn free_the_slot(pool: &PgPool, slot: &str) -> Result<(), StoreError> {
    let active: Option<bool> =
        sqlx::query_scalar("select active from pg_replication_slots where slot_name = $1")
            .bind(slot)
            .fetch_optional(pool)
            .await?;
    match active {
        None => Ok(()),
        Some(true) => Err(StoreError::NotWritten(format!(
            "A stand-by of that name follows now, by the slot {slot}: stop its database first, or choose another name."
        ))),
        Some(false) => {
            sqlx::query("select pg_drop_replication_slot($1)")
                .bind(slot)
                .execute(pool)
                .await?;
            Ok(())
        }
    }
}
