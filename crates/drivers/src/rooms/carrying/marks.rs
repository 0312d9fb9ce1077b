//! Marks that nobody needs any more: a host keeps few, and one that goes for their sake may be what another copy rests on.

use crate::{Drivers, Turn, perform::stamp};
use zastrugi_core::estate::{CopyPlace, Estate, Host, Machine};

impl Drivers {
    /// Where its host does not answer, the mark goes when there are too many.
    pub(crate) async fn release_mark(
        &self,
        estate: &Estate,
        (machine, host): (&Machine, &Host),
        at: CopyPlace,
        turn: Turn<'_>,
    ) {
        let Some(mark) = estate.idle_mark(machine, at) else {
            return;
        };
        if let Ok(key) = self.key_of(host).await
            && let Err(why) = self
                .agent(host, &key)
                .release_mark(stamp(turn), &machine.uuid, &mark)
                .await
        {
            tracing::debug!(host = %host.name, said = %why.said, "an old mark stays");
        }
    }
}
