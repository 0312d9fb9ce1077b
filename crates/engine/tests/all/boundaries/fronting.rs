//! The part of the tour in which machines serve behind a load balancer.

use super::Tour;
use crate::fronts;
use zastrugi_core::rooms::{Proposal, fronts::Ask, networks};

impl Tour<'_> {
    /// A load balancer is connected, a front made and removed, and the balancer forgotten.
    pub(super) async fn fronting(&mut self) {
        let lab = self.lab;
        self.go(fronts::network(lab)).await;
        self.go(fronts::balancer(lab).await).await;
        self.go(fronts::front(lab, |_| {})).await;
        let (front, balancer) = {
            let estate = lab.estate();
            (
                *estate.fronts.keys().next().unwrap(),
                *estate.balancers.keys().next().unwrap(),
            )
        };
        self.go(Proposal::Fronts(Ask::Remove { front })).await;
        self.go(Proposal::Fronts(Ask::Forget { balancer })).await;
        let network = lab
            .estate()
            .networks
            .values()
            .find(|n| n.name == "wharf")
            .unwrap()
            .id;
        let remove = networks::Ask::Remove {
            network,
            typed: "".into(),
        };
        self.go(Proposal::Networks(remove)).await;
    }
}
