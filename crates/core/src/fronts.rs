//! Which machines stand behind a service front, which of them should get connections, and what is otherwise than it should be.

use crate::{
    estate::{Estate, Front, Machine, MachineState, Seen, Wanted},
    finding::{Finding, Rule},
    runs::{Object, Runs},
    view::View,
};
use std::{
    collections::BTreeMap,
    net::{IpAddr, SocketAddr},
    sync::Arc,
};

/// A machine behind a front.
#[derive(Debug, Clone, PartialEq)]
pub struct Member {
    pub machine: Arc<Machine>,
    pub at: SocketAddr,
    /// It runs, and shall.
    pub admitted: bool,
}

impl Member {
    /// What the balancer calls it.
    pub fn key(&self) -> String {
        self.at.to_string()
    }
}

/// The address by which a front's balancer reaches a machine: of its network, else its first; of the same family.
pub fn address(front: &Front, machine: &Machine) -> Option<IpAddr> {
    let fits = |a: &&IpAddr| a.is_ipv4() == front.address.is_ipv4();
    let near = machine
        .nics
        .iter()
        .filter(|n| n.network == Some(front.network));
    let mut all = near
        .chain(machine.nics.iter())
        .flat_map(|n| &n.addresses)
        .filter(fits);
    all.next().copied()
}

/// Machines that carry its label, in the cluster of its network, by name; also those without an address.
pub fn labelled<'a>(estate: &'a Estate, front: &Front) -> Vec<&'a Arc<Machine>> {
    let cluster = estate.networks.get(&front.network).map(|n| n.cluster);
    let mut all: Vec<_> = estate
        .machines_labelled(&front.label)
        .filter(|m| m.cluster == cluster && m.deleted.is_none())
        .collect();
    all.sort_by(|a, b| a.name.cmp(&b.name));
    all
}

pub fn members(estate: &Estate, front: &Front) -> Vec<Member> {
    let member = |machine: &Arc<Machine>| {
        let at = SocketAddr::new(address(front, machine)?, front.serves);
        let runs = matches!(
            machine.state,
            MachineState::Running { .. } | MachineState::Starting(_) | MachineState::Paused(_)
        );
        Some(Member {
            machine: machine.clone(),
            at,
            admitted: runs && machine.wanted == Wanted::On,
        })
    };
    labelled(estate, front)
        .into_iter()
        .filter_map(member)
        .collect()
}

/// Fronts that a machine stands behind.
pub fn of_machine<'a>(estate: &'a Estate, machine: &Machine) -> Vec<(&'a Arc<Front>, SocketAddr)> {
    let words: Vec<String> = machine.label_words().collect();
    let carries = |f: &Front| words.iter().any(|w| **w == *f.label);
    let here = |f: &Front| estate.networks.get(&f.network).map(|n| n.cluster) == machine.cluster;
    let fronts = estate
        .fronts
        .values()
        .filter(|f| f.ready && carries(f) && here(f));
    fronts
        .filter_map(|f| Some((f, SocketAddr::new(address(f, machine)?, f.serves))))
        .collect()
}

/// Whether the balancer should be told of its members: what it has is otherwise, apart from machines that a run is at.
pub fn is_due(view: &View, front: &Front) -> bool {
    differs(&view.estate, &view.runs, front)
}

fn differs(estate: &Estate, runs: &Runs, front: &Front) -> bool {
    let Some(seen) = &front.seen else {
        return front.ready;
    };
    let wanted: BTreeMap<String, Member> = members(estate, front)
        .into_iter()
        .map(|m| (m.key(), m))
        .collect();
    let gone = seen.keys().any(|at| !wanted.contains_key(at));
    let otherwise = |(at, member): (&String, &Member)| {
        let held = runs.holds(Object::Machine(member.machine.id));
        !held
            && seen
                .get(at)
                .is_none_or(|s: &Seen| s.admitted != member.admitted)
    };
    front.ready && (gone || wanted.iter().any(otherwise))
}

/// What a stop or a move means to whoever comes by the fronts of a machine; none where it stands behind none.
pub fn leaves(estate: &Estate, machine: &Machine) -> Option<Finding> {
    let fronts = of_machine(estate, machine);
    let (first, _) = fronts.first()?;
    let names: Vec<&str> = fronts.iter().map(|(f, _)| f.name.as_str()).collect();
    let others = members(estate, first)
        .iter()
        .filter(|m| m.machine.id != machine.id && m.admitted)
        .count();
    let rest = match others {
        0 => "nobody else serves it then".to_owned(),
        1 => "one other member serves on".to_owned(),
        n => format!("{n} others serve on"),
    };
    let text = format!(
        "{} is taken out of {} first, and its open connections may end; {rest}.",
        machine.name,
        names.join(", ")
    );
    Some(match others {
        0 => Finding::mind(Rule::Label, &first.name, text),
        _ => Finding::clear(Rule::Label, &first.name, text),
    })
}
