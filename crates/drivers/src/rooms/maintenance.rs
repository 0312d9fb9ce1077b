//! A host that is emptied, or put back, passes through other rooms.

use crate::{Drivers, Outcome, Turn};
use zastrugi_core::{estate::Estate, rooms::maintenance::Step, runs::Fault};

impl Drivers {
    pub(crate) async fn at_maintenance(
        &self,
        estate: &Estate,
        step: &Step,
        turn: Turn<'_>,
    ) -> Result<Outcome, Fault> {
        match step {
            Step::Host(step) => self.at_host(estate, step, turn).await,
            Step::Move(step) => self.at_move(estate, step, turn).await,
            Step::Machine(step) => self.at_machine(estate, step, turn).await,
        }
    }

    /// A move that nobody wants any more is taken back; of the rest it is looked how it ended.
    pub(crate) async fn give_up_maintenance(
        &self,
        estate: &Estate,
        step: &Step,
        turn: Turn<'_>,
    ) -> Result<Outcome, Fault> {
        match step {
            Step::Move(step) => self.give_up_move(estate, step, turn).await,
            Step::Host(_) | Step::Machine(_) => self.at_maintenance(estate, step, turn).await,
        }
    }
}
