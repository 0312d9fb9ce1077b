//! Processes at sites that carry bytes of copies and do nothing else.

use super::Desk;
use zastrugi_core::ids::SiteId;
use zastrugi_store::{Carriers, StoreError};

impl Desk {
    /// Those that are there: what each is called, and at which sites it carries.
    ///
    /// # Errors
    /// [`StoreError`] when the database does not answer.
    pub async fn carriers(&self) -> Result<Vec<(String, Vec<SiteId>)>, StoreError> {
        let all = Carriers::new(self.shared.pool.clone()).there().await?;
        Ok(all.into_iter().map(|c| (c.name, c.sites)).collect())
    }
}
