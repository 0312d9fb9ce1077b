//! Managers that stand by at another site, on a database that follows this one: who they are, how far they are, and the key
//! that seals secrets, wrapped for each of them with a secret that only it has.

use crate::{
    Pool, StoreError,
    cell::{from_db, moment_of},
    limit::within,
};
use chacha20poly1305::{
    KeyInit, XChaCha20Poly1305, XNonce,
    aead::{Aead, Payload},
};
use sqlx::{Connection, Row, postgres::PgConnection};
use std::time::Duration;
use time::OffsetDateTime;
use uuid::Uuid;
use zastrugi_core::moment::Moment;
use zeroize::Zeroizing;

/// Who stands by, as the manager's database sees it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct StandBy {
    pub id: Uuid,
    pub name: String,
    /// The replication slot that keeps for it what it has not had yet.
    pub slot: String,
    pub link: Link,
    /// Bytes of the log that it has not said to have.
    pub behind: u64,
}

/// Whether a database follows.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Link {
    Follows,
    /// It is away; what is written meanwhile is kept for it.
    Away,
    /// It was away for longer than is kept: it must be copied anew.
    Lost,
    /// It was invited, and has not come yet.
    Expected,
}

/// What a database that follows has received.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub struct Reception {
    /// The database that it follows sends now; none: this role may not see it.
    pub receives: Option<bool>,
    /// When the manager last wrote that it is there.
    pub beat: Option<Moment>,
}

/// What only a stand-by has, as it stands in its key file.
#[derive(Clone)]
pub struct StandByKey {
    pub id: Uuid,
    pub secret: Zeroizing<[u8; 32]>,
}

/// Why a stand-by has no key to open secrets with.
#[derive(Debug, thiserror::Error)]
pub enum WrapError {
    #[error(transparent)]
    Store(#[from] StoreError),
    #[error("the manager's database does not know this stand-by any more: invite it again")]
    Unknown,
    #[error("this key file is not the one for which the key was wrapped")]
    OtherSecret,
}

impl StandByKey {
    pub fn draw() -> Self {
        StandByKey {
            id: Uuid::new_v4(),
            secret: Zeroizing::new(rand::random()),
        }
    }

    fn cipher(&self) -> XChaCha20Poly1305 {
        XChaCha20Poly1305::new((&*self.secret).into())
    }

    /// Bound to the row in which it stands.
    fn place(&self) -> Vec<u8> {
        [b"zastrugi stand-by ", self.id.as_bytes().as_slice()].concat()
    }

    /// (nonce, wrapped).
    fn wrap(&self, key: &[u8; 32]) -> Result<([u8; 24], Vec<u8>), WrapError> {
        let nonce: [u8; 24] = rand::random();
        let payload = Payload {
            msg: key,
            aad: &self.place(),
        };
        let wrapped = self.cipher().encrypt(&XNonce::from(nonce), payload);
        Ok((nonce, wrapped.map_err(|_| WrapError::OtherSecret)?))
    }

    fn unwrap(&self, nonce: [u8; 24], wrapped: &[u8]) -> Result<[u8; 32], WrapError> {
        let payload = Payload {
            msg: wrapped,
            aad: &self.place(),
        };
        let key = self.cipher().decrypt(&XNonce::from(nonce), payload);
        let key = Zeroizing::new(key.map_err(|_| WrapError::OtherSecret)?);
        key.as_slice()
            .try_into()
            .map_err(|_| WrapError::OtherSecret)
    }
}

#[derive(Debug, Clone)]
pub struct StandBys {
    pool: Pool,
}

impl StandBys {
    pub fn new(pool: Pool) -> Self {
        StandBys { pool }
    }

    /// Writes down who will stand by, and wraps `key` for it; whoever stood by under that name does so no more.
    ///
    /// # Errors
    /// [`WrapError`] when it could not be written.
    pub async fn invite(
        &self,
        name: &str,
        slot: &str,
        stand_by: &StandByKey,
        key: &[u8; 32],
    ) -> Result<(), WrapError> {
        let (nonce, wrapped) = stand_by.wrap(key)?;
        let written = within(async {
            let mut tx = self.pool.begin().await?;
            sqlx::query("delete from stand_by where name = $1")
                .bind(name)
                .execute(&mut *tx)
                .await?;
            sqlx::query(
                "insert into stand_by (id, name, slot, nonce, wrapped) values ($1, $2, $3, $4, $5)",
            )
            .bind(stand_by.id)
            .bind(name)
            .bind(slot)
            .bind(&nonce[..])
            .bind(wrapped)
            .execute(&mut *tx)
            .await?;
            tx.commit().await?;
            Ok(())
        });
        Ok(written.await?)
    }

    /// The key that seals secrets, for whoever it was wrapped for.
    ///
    /// # Errors
    /// [`WrapError`] when it is not there, or wrapped for another.
    pub async fn key(&self, stand_by: &StandByKey) -> Result<[u8; 32], WrapError> {
        let row = within(async {
            let row = sqlx::query("select nonce, wrapped from stand_by where id = $1")
                .bind(stand_by.id)
                .fetch_optional(&self.pool)
                .await?;
            row.map(|r| Ok::<_, StoreError>((r.try_get("nonce")?, r.try_get("wrapped")?)))
                .transpose()
        });
        let (nonce, wrapped): (Vec<u8>, Vec<u8>) = row.await?.ok_or(WrapError::Unknown)?;
        let nonce = nonce.try_into().map_err(|_| WrapError::OtherSecret)?;
        stand_by.unwrap(nonce, &wrapped)
    }

    /// All that stand by.
    ///
    /// # Errors
    /// [`StoreError::Unavailable`] when the database does not answer.
    pub async fn all(&self) -> Result<Vec<StandBy>, StoreError> {
        within(async {
            let rows = sqlx::query(
                "select b.id, b.name, b.slot, s.active, s.wal_status,
                     pg_wal_lsn_diff(pg_current_wal_lsn(), s.restart_lsn)::bigint as behind
                 from stand_by b left join pg_replication_slots s on s.slot_name = b.slot order by b.name",
            )
            .fetch_all(&self.pool)
            .await?;
            rows.iter()
                .map(|row| {
                    let active: Option<bool> = row.try_get("active")?;
                    let kept: Option<String> = row.try_get("wal_status")?;
                    let behind: Option<i64> = row.try_get("behind")?;
                    let link = match (active, kept.as_deref()) {
                        (None, _) => Link::Expected,
                        (_, Some("lost")) => Link::Lost,
                        (Some(true), _) => Link::Follows,
                        (Some(false), _) => Link::Away,
                    };
                    Ok(StandBy {
                        id: row.try_get("id")?,
                        name: row.try_get("name")?,
                        slot: row.try_get("slot")?,
                        link,
                        behind: from_db(behind.unwrap_or(0).max(0)),
                    })
                })
                .collect()
        })
        .await
    }
}

/// Whether the database follows another, and takes no writes.
///
/// # Errors
/// [`StoreError::Unavailable`] when it does not answer.
pub async fn follows(pool: &Pool) -> Result<bool, StoreError> {
    within(async {
        let follows = sqlx::query_scalar("select pg_is_in_recovery()");
        Ok(follows.fetch_one(pool).await?)
    })
    .await
}

/// What a database that follows has received.
///
/// # Errors
/// [`StoreError::Unavailable`] when it does not answer.
pub async fn reception(pool: &Pool) -> Result<Reception, StoreError> {
    within(async {
        let row = sqlx::query(
            "select case when exists (select 1 from pg_stat_wal_receiver where status is null and pid is not null)
                     then null else exists (select 1 from pg_stat_wal_receiver where status = 'streaming') end as receives,
                 (select max(at) from pulse) as beat",
        )
        .fetch_one(pool)
        .await?;
        let beat: Option<OffsetDateTime> = row.try_get("beat")?;
        Ok(Reception {
            receives: row.try_get("receives")?,
            beat: beat.map(moment_of),
        })
    })
    .await
}

/// The newest change of the tables that a database has, and the newest that this program knows.
///
/// # Errors
/// [`StoreError::Unavailable`] when the database does not answer.
pub async fn schema(pool: &Pool) -> Result<(i64, i64), StoreError> {
    let has: Option<i64> = within(async {
        let newest = sqlx::query_scalar("select max(version) from _sqlx_migrations where success");
        Ok(newest.fetch_one(pool).await?)
    })
    .await?;
    let known = crate::MIGRATOR.iter().map(|m| m.version).max();
    Ok((has.unwrap_or(0), known.unwrap_or(0)))
}

/// How long a promotion may take.
const PROMOTION: Duration = Duration::from_secs(60);

/// Makes a database that follows one that leads. Comes back at once where it leads already.
///
/// # Errors
/// [`StoreError::NotWritten`] with the database's words when it does not become one in time.
pub async fn promote(pool: &Pool) -> Result<(), StoreError> {
    if !follows(pool).await? {
        return Ok(());
    }
    // It takes longer than a statement usually may.
    let patient = (*pool.connect_options())
        .clone()
        .options([("statement_timeout", "70s")]);
    let promoted = async {
        let mut connection = PgConnection::connect_with(&patient).await?;
        let promoted: bool = sqlx::query_scalar("select pg_promote(true, 60)")
            .fetch_one(&mut connection)
            .await?;
        connection.close().await?;
        Ok::<_, sqlx::Error>(promoted)
    };
    let not =
        |why: String| StoreError::NotWritten(format!("The database here was not promoted: {why}."));
    match tokio::time::timeout(PROMOTION + Duration::from_secs(5), promoted).await {
        Ok(Ok(true)) => Ok(()),
        Ok(Ok(false)) | Err(_) => Err(not("it did not come up within a minute".into())),
        Ok(Err(sqlx::Error::Database(words))) => Err(not(words.message().to_owned())),
        Ok(Err(error)) => Err(error.into()),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// If this fails, whoever reads the database, or another stand-by, has the key that seals all secrets.
    #[test]
    fn a_key_is_unwrapped_by_the_one_that_it_was_wrapped_for() {
        let (ours, key) = (StandByKey::draw(), rand::random());
        let (nonce, wrapped) = ours.wrap(&key).unwrap();
        assert_eq!(ours.unwrap(nonce, &wrapped).unwrap(), key);
        assert!(!wrapped.windows(8).any(|w| key.windows(8).any(|k| k == w)));
        let other = StandByKey {
            id: ours.id,
            ..StandByKey::draw()
        };
        assert!(matches!(
            other.unwrap(nonce, &wrapped),
            Err(WrapError::OtherSecret)
        ));
        // Moved into another's row it opens nothing.
        let moved = StandByKey {
            id: Uuid::new_v4(),
            ..ours.clone()
        };
        assert!(matches!(
            moved.unwrap(nonce, &wrapped),
            Err(WrapError::OtherSecret)
        ));
        let mut touched = wrapped;
        touched[3] ^= 1;
        assert!(matches!(
            ours.unwrap(nonce, &touched),
            Err(WrapError::OtherSecret)
        ));
    }
}
