//! A machine that is replicated passes through other rooms.

use crate::{Drivers, Outcome, Turn};
use zastrugi_core::{estate::Estate, rooms::replicating::Step, runs::Fault};

impl Drivers {
    pub(crate) async fn at_replicating(
        &self,
        estate: &Estate,
        step: &Step,
        turn: Turn<'_>,
    ) -> Result<Outcome, Fault> {
        match step {
            Step::Machine(step) => self.at_machine(estate, step, turn).await,
            Step::Snap(step) => self.at_snapshot(estate, step, turn).await,
            Step::Replica(step) => self.at_replica(estate, step, turn).await,
        }
    }

    pub(crate) async fn give_up_replicating(
        &self,
        estate: &Estate,
        step: &Step,
        turn: Turn<'_>,
    ) -> Result<Outcome, Fault> {
        match step {
            Step::Machine(step) => self.give_up_machine(estate, step, turn).await,
            Step::Snap(step) => self.give_up_snapshot(estate, step, turn).await,
            Step::Replica(step) => self.give_up_replica(estate, step, turn).await,
        }
    }
}
