//! News: whenever another process may have appended.

use crate::{Pool, StoreError, journal::CHANNEL};
use sqlx::postgres::PgListener;
use std::time::Duration;

/// What may have changed.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Heard {
    Head,
    Settings,
}

/// Hears the database's notifications. Behind them stands a poll, because a notification can be lost.
pub struct News(PgListener);

impl News {
    /// Begins to listen.
    ///
    /// # Errors
    /// [`StoreError::Unavailable`] when the database doesn't answer.
    pub async fn listen(pool: &Pool) -> Result<News, StoreError> {
        let mut listener = PgListener::connect_with(pool).await?;
        listener.listen(CHANNEL).await?;
        Ok(News(listener))
    }

    /// Waits for a notification, at most `patience`; after either, look at what is heard of.
    ///
    /// # Errors
    /// [`StoreError::Unavailable`] when the connection ended; listen again, and look.
    pub async fn next(&mut self, patience: Duration) -> Result<Heard, StoreError> {
        match tokio::time::timeout(patience, self.0.try_recv()).await {
            Ok(heard) => {
                // None: the connection was lost and is made again by itself; something may have been missed.
                let heard = heard?;
                Ok(match heard {
                    Some(heard) if heard.payload() == "settings" => Heard::Settings,
                    _ => Heard::Head,
                })
            }
            Err(_) => Ok(Heard::Head),
        }
    }
}
