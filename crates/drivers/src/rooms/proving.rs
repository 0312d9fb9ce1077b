//! A recovery point that is proven passes through other rooms.

use crate::{Drivers, Outcome, Turn};
use zastrugi_core::{estate::Estate, rooms::proving::Step, runs::Fault};

impl Drivers {
    pub(crate) async fn at_proving(
        &self,
        estate: &Estate,
        step: &Step,
        turn: Turn<'_>,
    ) -> Result<Outcome, Fault> {
        match step {
            Step::Machine(step) => self.at_machine(estate, step, turn).await,
            Step::Try(step) => self.at_answers(estate, step, turn).await,
        }
    }

    pub(crate) async fn give_up_proving(
        &self,
        estate: &Estate,
        step: &Step,
        turn: Turn<'_>,
    ) -> Result<Outcome, Fault> {
        match step {
            Step::Machine(step) => self.give_up_machine(estate, step, turn).await,
            Step::Try(step) => self.at_answers(estate, step, turn).await,
        }
    }
}
