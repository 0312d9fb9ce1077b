//! Machines on a volume that is made for them pass through other rooms.

use crate::{Drivers, Outcome, Turn};
use zastrugi_core::{estate::Estate, rooms::providing::Step, runs::Fault};

impl Drivers {
    pub(crate) async fn at_providing(
        &self,
        estate: &Estate,
        step: &Step,
        turn: Turn<'_>,
    ) -> Result<Outcome, Fault> {
        match step {
            Step::Storage(step) => self.at_storage(estate, step, turn).await,
            Step::Machine(step) => self.at_machine(estate, step, turn).await,
        }
    }

    /// A copy that nobody wants any more is taken back; of the rest it is looked how it ended.
    pub(crate) async fn give_up_providing(
        &self,
        estate: &Estate,
        step: &Step,
        turn: Turn<'_>,
    ) -> Result<Outcome, Fault> {
        match step {
            Step::Machine(step) => self.give_up_machine(estate, step, turn).await,
            Step::Storage(_) => self.at_providing(estate, step, turn).await,
        }
    }
}
