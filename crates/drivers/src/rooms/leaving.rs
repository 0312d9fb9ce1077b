//! Hosts that leave: in the rooms that their steps belong to.

use crate::{Drivers, Outcome, Turn};
use zastrugi_core::{estate::Estate, rooms::leaving::Step, runs::Fault};

impl Drivers {
    pub(super) async fn at_leaving(
        &self,
        estate: &Estate,
        step: &Step,
        turn: Turn<'_>,
    ) -> Result<Outcome, Fault> {
        match step {
            Step::Host(step) => self.at_host(estate, step, turn).await,
            Step::Move(step) => self.at_move(estate, step, turn).await,
            Step::Machine(step) => self.at_machine(estate, step, turn).await,
            Step::Keeper(step) => self.at_keepers(estate, step, turn).await,
            Step::Storage(step) => self.at_storage(estate, step, turn).await,
            Step::Network(step) => self.at_network(estate, step, turn).await,
            Step::Cluster(step) => self.at_cluster(estate, step, turn).await,
            Step::Name(step) => self.at_naming(estate, step).await,
        }
    }

    pub(super) async fn give_up_leaving(
        &self,
        estate: &Estate,
        step: &Step,
        turn: Turn<'_>,
    ) -> Result<Outcome, Fault> {
        match step {
            Step::Move(step) => self.give_up_move(estate, step, turn).await,
            Step::Host(_)
            | Step::Machine(_)
            | Step::Keeper(_)
            | Step::Storage(_)
            | Step::Network(_)
            | Step::Name(_)
            | Step::Cluster(_) => self.at_leaving(estate, step, turn).await,
        }
    }
}
