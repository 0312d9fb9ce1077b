//! A store swept by a mover: it may take long, and nobody waits for it.

use super::movers::{Carried, Look, Whither, over};
use crate::{
    Drivers, Outcome, Turn,
    perform::{done, premise},
    rooms::stores::{fault, store_of},
};
use std::collections::BTreeSet;
use uuid::Uuid;
use zastrugi_core::{
    estate::Estate,
    ids::StoreId,
    rooms::{Event, stores},
    runs::Fault,
    units::Bytes,
};

/// Sessions that somebody may still go on with: their states are still held fast somewhere.
fn live(estate: &Estate) -> BTreeSet<Uuid> {
    let machines = estate.machines.values();
    let all = machines.flat_map(|m| m.snapshots.all.iter().map(|s| s.uuid));
    all.collect()
}

impl Drivers {
    pub(crate) async fn sweep_store(
        &self,
        estate: &Estate,
        store: StoreId,
        turn: Turn<'_>,
    ) -> Result<Outcome, Fault> {
        match self.movers.look(turn.key) {
            Look::Goes(_) => {
                let said = "it is looked what points need".into();
                return Ok(Outcome::NotYet { said });
            }
            Look::Over(task) => {
                let Carried::Swept(swept) = over(task).await? else {
                    return Err(premise("Nothing was swept."));
                };
                let event = stores::Event::Swept {
                    store,
                    at: turn.now,
                    gone: swept.gone,
                    freed: Bytes(swept.freed),
                    condemned: swept.condemned,
                };
                let locked = match swept.locked {
                    0 => String::new(),
                    n => format!("; {n} that nothing needs are locked"),
                };
                let said = format!(
                    "{} chunks went, {}; {} go next if nothing needs them then{locked}",
                    swept.gone,
                    Bytes(swept.freed),
                    swept.condemned
                );
                return Ok(done(vec![Event::Stores(event)], said));
            }
            Look::None => {}
        }
        let of = store_of(estate, store)?;
        let (opened, name, live) = (self.open_store(of).await?, of.name.clone(), live(estate));
        let number = turn.now.0.unsigned_abs();
        self.movers
            .begin(turn.key, Whither::OutOfStore, |_| async move {
                let swept = opened.sweep(&live, number).await;
                let swept = swept.map_err(|why| fault(&name, &why))?;
                Ok(Carried::Swept(swept))
            });
        Ok(Outcome::NotYet {
            said: "it is swept".into(),
        })
    }

    /// What it did so far is done; the next sweep goes on.
    pub(crate) async fn give_up_sweeping(&self, turn: Turn<'_>) -> Outcome {
        self.movers.end(turn.key).await;
        Outcome::NotYet {
            said: "the next sweep goes on".into(),
        }
    }
}
