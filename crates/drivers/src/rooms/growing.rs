//! A machine that is moved and then given more passes through other rooms.

use crate::{Drivers, Outcome, Turn};
use zastrugi_core::{estate::Estate, rooms::growing::Step, runs::Fault};

impl Drivers {
    pub(crate) async fn at_growing(
        &self,
        estate: &Estate,
        step: &Step,
        turn: Turn<'_>,
    ) -> Result<Outcome, Fault> {
        match step {
            Step::Move(step) => self.at_move(estate, step, turn).await,
            Step::Edit(step) => self.at_edit(estate, step, turn).await,
        }
    }

    /// A move that nobody wants any more is taken back; of the rest it is looked how it ended.
    pub(crate) async fn give_up_growing(
        &self,
        estate: &Estate,
        step: &Step,
        turn: Turn<'_>,
    ) -> Result<Outcome, Fault> {
        match step {
            Step::Move(step) => self.give_up_move(estate, step, turn).await,
            Step::Edit(_) => self.at_growing(estate, step, turn).await,
        }
    }
}
