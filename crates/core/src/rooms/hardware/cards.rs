//! The checks before network cards of a machine change: all of them are written in one step.

use super::{Card, CardWish, Draft, Step};
use crate::{
    estate::{Machine, NetRole, Nic},
    finding::{Finding, Rule},
    fronts,
    ids::{HostId, NetworkId},
};

pub(super) fn change(draft: &mut Draft<'_>, machine: &Machine, then: &mut Machine, wishes: &[CardWish], via: HostId) {
    for wish in wishes {
        one(draft, machine, then, wish);
    }
    if then.nics == machine.nics {
        return;
    }
    let cards = then.nics.iter().map(|n| Card {
        mac: n.mac.clone(),
        network: n.network,
    });
    let step = Step::Cards {
        machine: machine.id,
        via,
        cards: cards.collect(),
    };
    draft.step(step, format!("Write the cards of {}", machine.name), &[], Some("cards"));
}

fn one(draft: &mut Draft<'_>, machine: &Machine, then: &mut Machine, wish: &CardWish) {
    let name = &machine.name;
    match wish {
        CardWish::Add { network } => {
            if let Some(on) = named(draft, machine, *network) {
                let mac = free_mac(draft, then);
                let text = format!("{name} has one more card, {mac}, {on}; its guest is told its addresses by hand or by DHCP.");
                draft.found(Finding::clear(Rule::Address, name, text));
                then.nics.push(Nic {
                    mac,
                    network: *network,
                    addresses: vec![],
                });
            }
        }
        CardWish::To { mac, network } => {
            let Some(on) = named(draft, machine, *network) else { return };
            let Some(nic) = then.nics.iter_mut().find(|n| n.mac == *mac) else {
                return draft.found(no_card(name, mac));
            };
            if nic.network == *network {
                return;
            }
            nic.network = *network;
            let had = std::mem::take(&mut nic.addresses);
            let text = format!("Card {mac} of {name} is {on} at once.");
            draft.found(Finding::clear(Rule::Address, name, text));
            lost(draft, machine, &had.iter().map(ToString::to_string).collect::<Vec<_>>());
        }
        CardWish::Out { mac } => {
            let Some(nic) = then.nics.iter().find(|n| n.mac == *mac) else {
                return draft.found(no_card(name, mac));
            };
            let had: Vec<String> = nic.addresses.iter().map(ToString::to_string).collect();
            then.nics.retain(|n| n.mac != *mac);
            let text = format!("{name} loses card {mac}.");
            draft.found(Finding::mind(Rule::Address, name, text).at("cards"));
            lost(draft, machine, &had);
        }
    }
}

fn no_card(name: &str, mac: &str) -> Finding {
    let text = format!("{name} has no card {mac} any more.");
    Finding::stop(Rule::Exists, name, text).at("cards")
}

/// Nobody reaches it by these addresses any more.
fn lost(draft: &mut Draft<'_>, machine: &Machine, addresses: &[String]) {
    let name = &machine.name;
    if addresses.is_empty() {
        return;
    }
    let text = format!("{name} has {} no more; within its guest it must be given others.", addresses.join(", "));
    draft.found(Finding::mind(Rule::Address, name, text).at("cards"));
    let all = fronts::of_machine(draft.estate(), machine).into_iter();
    let behind: Vec<String> = all
        .filter(|(_, at)| addresses.contains(&at.ip().to_string()))
        .map(|(front, _)| front.name.clone())
        .collect();
    if !behind.is_empty() {
        let text = format!("It stands behind {} with such an address and leaves it.", behind.join(", "));
        draft.found(Finding::mind(Rule::Guest, name, text).at("cards"));
    }
}

/// `on Quay guests`, where machines of its cluster can have a card there.
fn named(draft: &mut Draft<'_>, machine: &Machine, network: Option<NetworkId>) -> Option<String> {
    let Some(id) = network else {
        return Some("on no network of ours".into());
    };
    let found = draft.estate().networks.get(&id);
    let fine = found.filter(|n| n.ready && n.role == NetRole::Guest && Some(n.cluster) == machine.cluster);
    if let Some(network) = fine {
        return Some(format!("on {}", network.name));
    }
    let text = match found {
        Some(n) => format!("{} is no network for guests of its cluster.", n.name),
        None => "The network is gone.".to_owned(),
    };
    draft.found(Finding::stop(Rule::Address, &machine.name, text).at("cards"));
    None
}

/// One that nobody in the estate has, nor the machine by now.
fn free_mac(draft: &Draft<'_>, then: &Machine) -> String {
    let from = draft.run().0.wrapping_mul(31);
    let all = (0u64..).map(|try_| draft.view.macs.draw(from.wrapping_add(try_)));
    let taken = |mac: &String| draft.estate().machine_with_mac(mac).is_some() || then.nics.iter().any(|n| n.mac == *mac);
    all.into_iter().find(|mac| !taken(mac)).unwrap_or_default()
}
