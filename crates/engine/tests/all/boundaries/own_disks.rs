//! The part of the tour in which hosts lend their own disks.

use super::Tour;
use crate::{lab::eventually, pools};
use zastrugi_core::rooms::{Proposal, hosts::HostPower, storage};

impl Tour<'_> {
    /// A volume of the hosts' own disks is made; one host is away and made up for, comes back, and all get their disks back.
    pub(super) async fn own_disks(&mut self) {
        let lab = self.lab;
        pools::disks_known(lab).await;
        self.go(pools::own(lab, "own", 240)).await;
        let volume = lab.volume_named("own").id;
        let host = lab.estate().host_named("h2").unwrap().id;
        self.switch(host, HostPower::Off).await;
        let away = || lab.volume_named("own").pooled.as_ref().unwrap().members[&host].away;
        eventually("h2 is away", away).await;
        self.go(Proposal::Storage(storage::Ask::GoOnWithout {
            volume,
            host,
        }))
        .await;
        self.switch(host, HostPower::On).await;
        for ask in [
            storage::Ask::HealVolume { volume },
            storage::Ask::GiveVolume { volume },
        ] {
            let ask = Proposal::Storage(ask);
            self.free(&ask).await;
            self.go(ask).await;
        }
    }
}
