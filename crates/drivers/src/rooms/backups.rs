//! A machine that is backed up passes through other rooms.

use crate::{Drivers, Outcome, Turn};
use zastrugi_core::{estate::Estate, rooms::backups::Step, runs::Fault};

impl Drivers {
    pub(crate) async fn at_backup(
        &self,
        estate: &Estate,
        step: &Step,
        turn: Turn<'_>,
    ) -> Result<Outcome, Fault> {
        match step {
            Step::Snap(step) => self.at_snapshot(estate, step, turn).await,
            Step::Carry(step) => self.at_carrying(estate, step, turn).await,
            Step::Store(step) => self.at_store(estate, step, turn).await,
        }
    }

    pub(crate) async fn give_up_backup(
        &self,
        estate: &Estate,
        step: &Step,
        turn: Turn<'_>,
    ) -> Result<Outcome, Fault> {
        match step {
            Step::Snap(step) => self.give_up_snapshot(estate, step, turn).await,
            Step::Carry(step) => self.give_up_carrying(estate, step, turn).await,
            Step::Store(step) => self.give_up_store(estate, step, turn).await,
        }
    }
}
