//! A host that joins passes through other rooms.

use crate::{Drivers, Outcome, Turn};
use zastrugi_core::{estate::Estate, rooms::joining::Step, runs::Fault};

impl Drivers {
    pub(crate) async fn at_joining(
        &self,
        estate: &Estate,
        step: &Step,
        turn: Turn<'_>,
    ) -> Result<Outcome, Fault> {
        match step {
            Step::Host(step) => self.at_host(estate, step, turn).await,
            Step::Cluster(step) => self.at_cluster(estate, step, turn).await,
            Step::Storage(step) => self.at_storage(estate, step, turn).await,
            Step::Network(step) => self.at_network(estate, step, turn).await,
            Step::Name(step) => self.at_naming(estate, step).await,
        }
    }
}
