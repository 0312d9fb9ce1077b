//! The part of the tour in which hosts leave and come back.

use super::Tour;
use crate::lab::eventually;
use zastrugi_core::rooms::{
    Proposal, hosts, joining, keepers, leaving,
    machines::PowerAct,
    maintenance::{self, Afterwards, Empty, Return},
};

impl Tour<'_> {
    /// A host leaves for good with what runs on it, once while the others have room, once while they have none.
    pub(super) async fn leaves(&mut self) {
        let lab = self.lab;
        for stop in [false, true] {
            let here = lab.estate().machines[&self.machine()].host.unwrap();
            let estate = lab.estate();
            let other = estate.hosts.keys().find(|h| **h != here);
            let other = *other.unwrap();
            let cluster = *lab.estate().clusters.keys().next().unwrap();
            // One that stays must be able to keep what it kept.
            let hosts = if stop { vec![] } else { vec![here] };
            let place = keepers::Place { cluster, hosts };
            self.go(Proposal::Keepers(keepers::Ask::Place(place))).await;
            if stop {
                let ask = Proposal::Maintenance(maintenance::Ask::Empty(Empty {
                    hosts: vec![other],
                    reason: "fans".into(),
                    lasts: None,
                    slow: false,
                    force: false,
                    wire: false,
                    stop: false,
                    then: Afterwards::StaysOn,
                }));
                self.free(&ask).await;
                self.go(ask).await;
            }
            self.all_named().await;
            let name = lab.estate().hosts[&here].name.clone();
            let ask = Proposal::Leaving(leaving::Ask::Leave(leaving::Leave {
                hosts: vec![here],
                slow: false,
                force: false,
                wire: false,
                stop,
            }));
            self.free(&ask).await;
            self.go(ask).await;
            assert!(lab.estate().host_named(&name).is_none());
            self.again(&name, true).await;
            if stop {
                let ask = Proposal::Maintenance(maintenance::Ask::Return(Return {
                    hosts: vec![other],
                    bring: false,
                }));
                self.free(&ask).await;
                self.go(ask).await;
                self.power(PowerAct::On { host: None }).await;
            }
        }
    }

    /// A host that is handed back is claimed again and joins its cluster as it is now.
    pub(super) async fn returns(&mut self) {
        let lab = self.lab;
        let host = lab.estate().host_named("h2").unwrap().id;
        self.go(Proposal::Hosts(hosts::Ask::HandBack { hosts: vec![host] }))
            .await;
        self.again("h2", false).await;
    }

    /// It is claimed and joins: in one run, or in two.
    async fn again(&mut self, name: &str, at_once: bool) {
        let lab = self.lab;
        let mut claim = lab.claim().await;
        if let Proposal::Hosts(hosts::Ask::Claim(claim)) = &mut claim {
            claim
                .targets
                .retain(|t| lab.estate().host_at(&t.address).is_none());
        }
        let cluster = *lab.estate().clusters.keys().next().unwrap();
        match claim {
            Proposal::Hosts(hosts::Ask::Claim(claim)) if at_once => {
                let ask = joining::Ask::Welcome { claim, cluster };
                self.go(Proposal::Joining(ask)).await;
            }
            claim => {
                self.go(claim).await;
                let host = lab.estate().host_named(name).unwrap().id;
                lab.desk.inspect(&[host]).await;
                let ask = Proposal::Joining(joining::Ask::Join {
                    cluster: Some(cluster),
                    hosts: vec![host],
                });
                eventually("it tells of its uplinks", || {
                    lab.estate().hosts[&host].uplinks.len() == 2
                })
                .await;
                self.go(ask).await;
            }
        }
        let host = lab.estate().host_named(name).unwrap().id;
        eventually("it has what the others have", || {
            let estate = lab.estate();
            let network = estate.networks.values().next().unwrap();
            let fine = !network.standing(&estate, &estate.hosts[&host]).drifts();
            fine && lab.volume_named("quay").drift(&estate).is_empty()
        })
        .await;
    }
}
