//! Marks that nobody needs any more: a host keeps few, and one that goes for their sake may be what another copy rests on.

use crate::{Drivers, Turn, perform::stamp};
use std::collections::BTreeSet;
use uuid::Uuid;
use zastrugi_core::estate::{CopyPlace, Estate, Host, Machine};

/// The mark before the one that the next copy to a place rests on, unless another place rests on it.
fn idle(estate: &Estate, machine: &Machine, at: CopyPlace) -> Option<Uuid> {
    let mut needed = BTreeSet::new();
    let mut before = None;
    for there in estate.elsewhere(machine) {
        let mut newest = there.points.iter().rev();
        needed.extend(newest.next().map(|p| p.session));
        if there.at == at {
            before = newest.next().map(|p| p.session);
        }
    }
    before.filter(|session| !needed.contains(session))
}

impl Drivers {
    /// Where its host does not answer, the mark goes when there are too many.
    pub(crate) async fn release_mark(
        &self,
        estate: &Estate,
        (machine, host): (&Machine, &Host),
        at: CopyPlace,
        turn: Turn<'_>,
    ) {
        let Some(mark) = idle(estate, machine, at) else {
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
