//! Recovery points that come back to machines: what movers, snapshots and power do.

use crate::{Drivers, Outcome, Turn};
use zastrugi_core::{estate::Estate, rooms::restoring::Step, runs::Fault};

impl Drivers {
    pub(crate) async fn at_restoring(
        &self,
        estate: &Estate,
        step: &Step,
        turn: Turn<'_>,
    ) -> Result<Outcome, Fault> {
        match step {
            Step::Carry(step) => self.at_carrying(estate, step, turn).await,
            Step::Snap(step) => self.at_snapshot(estate, step, turn).await,
            Step::Power(step) => self.at_machine(estate, step, turn).await,
        }
    }

    pub(crate) async fn give_up_restoring(
        &self,
        estate: &Estate,
        step: &Step,
        turn: Turn<'_>,
    ) -> Result<Outcome, Fault> {
        match step {
            Step::Carry(step) => self.give_up_carrying(estate, step, turn).await,
            Step::Snap(step) => self.give_up_snapshot(estate, step, turn).await,
            Step::Power(step) => self.give_up_machine(estate, step, turn).await,
        }
    }
}
