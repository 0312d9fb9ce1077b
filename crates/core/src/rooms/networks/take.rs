//! A network that the hosts of a cluster have already: from now on it shall be so.

use super::{Draft, Event, Step};
use crate::{
    estate::{HostNet, NetRole, Network},
    ids::{ClusterId, NetworkId},
};

/// Nothing is set up: where a host has it otherwise it stands under *Needs you*.
pub fn take(draft: &mut Draft<'_>, cluster: ClusterId, (name, role, net): (&str, NetRole, &HostNet)) {
    let id = NetworkId(draft.number());
    draft.intend(Event::Planned(Box::new(Network {
        id,
        name: name.to_owned(),
        cluster,
        role,
        vlan: net.vlan,
        mtu: net.mtu,
        subnets: vec![],
        uplinks: net.uplinks.clone(),
        reserved: Default::default(),
        released: Default::default(),
        ready: false,
        note: String::new(),
    })));
    draft.step(Step::Ready { network: id }, format!("{name} is ours"), &[], None);
}
