//! A cluster from bare hosts: in the rooms that its steps belong to.

use crate::{Drivers, Outcome, Turn};
use zastrugi_core::{estate::Estate, rooms::building::Step, runs::Fault};

impl Drivers {
    pub(super) async fn at_building(
        &self,
        estate: &Estate,
        step: &Step,
        turn: Turn<'_>,
    ) -> Result<Outcome, Fault> {
        match step {
            Step::Bare(step) => self.at_installing(estate, step, turn).await,
            Step::Cluster(step) => self.at_cluster(estate, step, turn).await,
            Step::Network(step) => self.at_network(estate, step, turn).await,
            Step::Storage(step) => self.at_storage(estate, step, turn).await,
            Step::Keeper(step) => self.at_keepers(estate, step, turn).await,
            Step::Host(step) => self.at_host(estate, step, turn).await,
            Step::Name(step) => self.at_naming(estate, step).await,
        }
    }
}
