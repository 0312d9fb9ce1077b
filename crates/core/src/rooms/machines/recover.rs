//! Deleted machines come back: as they were and off, or on at a chosen host, with other networks where theirs are gone.

use super::{Back, Draft, Step};
use crate::{
    estate::{Machine, NetRole, Nic},
    finding::{Finding, Rule},
    ids::{ClusterId, HostId, MachineId},
    moment::Span,
    placement::{Ledger, choose_all},
};
use std::{
    collections::{BTreeMap, BTreeSet},
    sync::Arc,
};

/// How long a guest may take until its agent answers.
const BOOT_LIMIT: Span = Span::mins(5);

pub(super) fn recover(draft: &mut Draft<'_>, machines: &[MachineId], how: &Back) {
    if machines.is_empty() {
        draft.found(Finding::stop(Rule::Nothing, "machines", "No machine is selected."));
    }
    let named = draft.machines(machines);
    draft.title = match named.as_slice() {
        [one] => format!("Bring back {}", one.name),
        many => format!("Bring back {} machines", many.len()),
    };
    let may_come: Vec<_> = named.iter().filter_map(|m| may(draft, m)).collect();
    let all: Vec<Machine> = may_come.iter().map(|m| back(draft, m, how, named.len())).collect();
    let places = if how.start { places(draft, &all, how.host) } else { BTreeMap::new() };
    for machine in all {
        let name = machine.name.clone();
        let place = places.get(&machine.id).copied();
        if how.start && place.is_none() {
            continue;
        }
        let Some(via) = draft.via(&machine) else { continue };
        let text = match place.and_then(|h| draft.estate().hosts.get(&h)) {
            None => format!("{name} comes back, off."),
            Some(host) => format!("{name} comes back, and is powered on at {}.", host.name),
        };
        draft.found(Finding::clear(Rule::State, &name, text));
        let was = draft.estate().machines.get(&machine.id).map(|m| m.nics.clone());
        let step = Step::Recover {
            machine: machine.id,
            via,
            start: place,
            cards: Some(machine.nics.clone()).filter(|now| was.as_ref() != Some(now)),
        };
        let there = draft.step(step, format!("Bring back {name}"), &[], Some("machines"));
        if let Some(host) = place {
            let start = Step::Start { machine: machine.id, host };
            let on = draft.step(start, format!("Power on {name}"), &[there], Some("host"));
            let wait = Step::AwaitGuest {
                machine: machine.id,
                limit: BOOT_LIMIT,
                installs: false,
            };
            draft.step(wait, format!("Wait until {name} answers"), &[on], None);
        }
    }
}

fn may(draft: &mut Draft<'_>, m: &Arc<Machine>) -> Option<Arc<Machine>> {
    if m.deleted.is_some() {
        return Some(m.clone());
    }
    let text = format!("{} was not deleted.", m.name);
    draft.found(Finding::stop(Rule::State, &m.name, text).at("machines"));
    None
}

/// The machine as it comes back; cards whose network is gone are said.
fn back(draft: &mut Draft<'_>, m: &Machine, how: &Back, of: usize) -> Machine {
    let mut machine = m.clone();
    machine.deleted = None;
    let name = &m.name;
    if of > 1 && how.networks.iter().any(Option::is_some) {
        let text = "Networks are chosen for one machine at a time.";
        draft.found(Finding::stop(Rule::Subnet, name, text).at("networks"));
        return machine;
    }
    for (n, nic) in (1usize..).zip(&mut machine.nics) {
        let Some(wish) = how.networks.get(n - 1).copied().flatten() else {
            lost(draft, name, n, nic);
            continue;
        };
        if nic.network == Some(wish) {
            continue;
        }
        let found = draft.estate().networks.get(&wish).cloned();
        let stop = |text: String| Finding::stop(Rule::Subnet, name, text).at("networks");
        let Some(network) = found.filter(|f| f.ready && f.role == NetRole::Guest && Some(f.cluster) == m.cluster) else {
            draft.found(stop(format!("Card {n}: this is no network of its cluster's guests.")));
            continue;
        };
        let had: Vec<String> = nic.addresses.iter().map(ToString::to_string).collect();
        let lost = match had.as_slice() {
            [] => String::new(),
            all => format!(" and has {} no more", all.join(", ")),
        };
        let text = format!("Card {n} of {name} is on {} from now on{lost}; its guest gets its address there by hand or by DHCP.", network.name);
        draft.found(Finding::mind(Rule::Address, name, text).at("networks"));
        nic.network = Some(wish);
        nic.addresses.clear();
    }
    machine
}

fn lost(draft: &mut Draft<'_>, name: &str, n: usize, nic: &mut Nic) {
    if nic.network.is_some_and(|id| !draft.estate().networks.contains_key(&id)) {
        let text = format!("The network of card {n} of {name} is gone: choose another, or it comes back without one.");
        draft.found(Finding::mind(Rule::Subnet, name, text).at("networks"));
        nic.network = None;
        nic.addresses.clear();
    }
}

/// A host for each, of its own cluster; who finds none is said.
fn places(draft: &mut Draft<'_>, machines: &[Machine], only: Option<HostId>) -> BTreeMap<MachineId, HostId> {
    let mut by_cluster: BTreeMap<ClusterId, Vec<Machine>> = BTreeMap::new();
    for machine in machines {
        match machine.cluster {
            Some(cluster) => by_cluster.entry(cluster).or_default().push(machine.clone()),
            None => {
                let text = format!("{} is in no cluster; it comes back off.", machine.name);
                draft.found(Finding::stop(Rule::State, &machine.name, text).at("start"));
            }
        }
    }
    let mut found = BTreeMap::new();
    for (cluster, machines) in by_cluster {
        let Some(cluster) = draft.estate().clusters.get(&cluster).cloned() else { continue };
        let hosts: Vec<_> = draft.estate().hosts_in(cluster.id).cloned().collect();
        let before = Ledger::of(draft.view, hosts, &BTreeSet::new());
        let mut after = before.clone();
        for (machine, answer) in machines.iter().zip(choose_all(draft.view, &mut after, &cluster, &machines, only)) {
            match answer {
                Ok(placed) => {
                    draft.placed(machine, &placed.choice);
                    found.insert(machine.id, placed.choice.host);
                }
                Err(why) => {
                    let text = format!("{}: no host can take it now.", machine.name);
                    let stop = Finding::stop(Rule::Placement, &machine.name, text).because(why.evidence(draft.estate()));
                    draft.found(stop.at(if only.is_some() { "host" } else { "start" }));
                }
            }
        }
        draft.filled(&before, &after);
    }
    found
}
