//! Settings of the installation: one JSON value a name.

use crate::{StoreError, journal::CHANNEL};
use serde::{Serialize, de::DeserializeOwned};
use sqlx::PgPool;

#[derive(Debug, Clone)]
pub struct Settings {
    pool: PgPool,
}

impl Settings {
    pub fn new(pool: PgPool) -> Self {
        Self { pool }
    }

    /// # Errors
    /// [`StoreError`] when the database or the stored value can't be read.
    pub async fn get<T: DeserializeOwned>(&self, name: &str) -> Result<Option<T>, StoreError> {
        let value: Option<serde_json::Value> =
            sqlx::query_scalar("select value from setting where name = $1")
                .bind(name)
                .fetch_optional(&self.pool)
                .await?;
        Ok(value.map(serde_json::from_value).transpose()?)
    }

    /// # Errors
    /// [`StoreError`] when the database does not answer.
    pub async fn set<T: Serialize>(&self, name: &str, value: &T) -> Result<(), StoreError> {
        let mut tx = self.pool.begin().await?;
        sqlx::query("insert into setting (name, value) values ($1, $2) on conflict (name) do update set value = $2")
            .bind(name)
            .bind(serde_json::to_value(value)?)
            .execute(&mut *tx)
            .await?;
        // Every process looks again, at once.
        sqlx::query("select pg_notify($1, 'settings')")
            .bind(CHANNEL)
            .execute(&mut *tx)
            .await?;
        tx.commit().await?;
        Ok(())
    }

    /// Sets it only if it isn't set yet, and answers what is set then.
    ///
    /// # Errors
    /// [`StoreError`] when the database does not answer.
    pub async fn keep<T: Serialize + DeserializeOwned>(
        &self,
        name: &str,
        value: &T,
    ) -> Result<T, StoreError> {
        sqlx::query("insert into setting (name, value) values ($1, $2) on conflict do nothing")
            .bind(name)
            .bind(serde_json::to_value(value)?)
            .execute(&self.pool)
            .await?;
        let kept: serde_json::Value =
            sqlx::query_scalar("select value from setting where name = $1")
                .bind(name)
                .fetch_one(&self.pool)
                .await?;
        Ok(serde_json::from_value(kept)?)
    }
}
