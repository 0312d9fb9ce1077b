//! Every use of the database has a time limit of its own: a connection may go silent without ever ending.

use crate::StoreError;
use std::{future::Future, time::Duration};

/// Longer than any statement may take by the server's own limits.
pub(crate) const PATIENCE: Duration = Duration::from_secs(8);

/// # Errors
/// Those of the work; [`StoreError::Unavailable`] when it takes too long.
pub(crate) async fn within<T>(
    work: impl Future<Output = Result<T, StoreError>>,
) -> Result<T, StoreError> {
    match tokio::time::timeout(PATIENCE, work).await {
        Ok(done) => done,
        Err(_) => Err(StoreError::Unavailable(sqlx::Error::PoolTimedOut)),
    }
}
