//! The promises of all machines, as pages show them: judged once, then kept up with what changes.

use super::Desk;
use std::sync::{Arc, PoisonError};
use zastrugi_core::pledges::Promises;

impl Desk {
    /// As of the present estate and moment. What is told of ages is as of when each was judged: whoever shows one judges it anew.
    pub fn promises(&self) -> Arc<Promises> {
        let (estate, now) = (self.look().estate, self.now());
        let mut kept = self.promises.lock().unwrap_or_else(PoisonError::into_inner);
        if !kept.is_as_of(&estate, now) {
            *kept = Arc::new(kept.then(&estate, now));
        }
        kept.clone()
    }
}
