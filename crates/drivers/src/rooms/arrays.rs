//! Steps at arrays that are connected: another way in, reach taken away, what was ours deleted.

use crate::{Drivers, Outcome, Turn, perform::done};
use zastrugi_core::{
    estate::{Array, Estate},
    rooms::{
        Event,
        arrays::{self, Step},
    },
    runs::{Fault, FaultKind},
};

fn gone() -> Fault {
    Fault::new(FaultKind::Premise, "The array is gone.", "Cancel the run.")
}

impl Drivers {
    pub(crate) async fn at_arrays(
        &self,
        estate: &Estate,
        step: &Step,
        turn: Turn<'_>,
    ) -> Result<Outcome, Fault> {
        let held = estate.arrays.get(&step.array()).ok_or_else(gone)?;
        match step {
            Step::Try {
                array,
                controllers,
                user,
                key,
            } => {
                let fresh = Array {
                    controllers: controllers.clone(),
                    user: user.clone(),
                    key: *key,
                    ..Array::clone(held)
                };
                let password = self.password_of(&fresh).await?;
                // The same serial number, or it is another array.
                let seen = self
                    .keeper(&fresh, &password, turn.key)
                    .seen(estate, turn.now)
                    .await?;
                let access = Event::Arrays(arrays::Event::Access {
                    array: *array,
                    controllers: controllers.clone(),
                    user: user.clone(),
                    key: *key,
                });
                let events = std::iter::once(access).chain(seen).collect();
                Ok(done(events, "it let us in"))
            }
            Step::Withdraw {
                array,
                lun,
                initiator,
            } => {
                let password = self.password_of(held).await?;
                let keeper = self.keeper(held, &password, turn.key);
                keeper.withdraw(lun, initiator).await?;
                let withdrawn = Event::Arrays(arrays::Event::Withdrawn {
                    array: *array,
                    lun: lun.clone(),
                    initiator: initiator.clone(),
                });
                Ok(done(vec![withdrawn], initiator.clone()))
            }
            Step::Delete { array, lun, uid } => {
                let password = self.password_of(held).await?;
                let keeper = self.keeper(held, &password, turn.key);
                let said = keeper.delete(lun, uid).await?;
                let deleted = Event::Arrays(arrays::Event::Deleted {
                    array: *array,
                    lun: lun.clone(),
                });
                Ok(done(vec![deleted], said))
            }
            Step::SetBack {
                array,
                volume,
                snaps,
            } => {
                let of = estate.volumes.get(volume).ok_or_else(gone)?;
                let password = self.password_of(held).await?;
                let keeper = self.keeper(held, &password, turn.key);
                let class = keeper.take_snapshots(&of.uid, snaps).await?;
                let back = Event::Arrays(arrays::Event::SetBack {
                    array: *array,
                    volume: *volume,
                    snaps: snaps.clone(),
                    at: turn.now,
                });
                Ok(done(vec![back], format!("its class {class} says so now")))
            }
            Step::Forget { .. } => Err(gone()),
        }
    }
}
