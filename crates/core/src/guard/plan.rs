//! What a guard is given in advance: whom it watches, what runs where, and the cluster as numbers, from which the places
//! of a failure follow by the same search as the failure matrix.

use super::Act;
use crate::{
    availability::{Table, model},
    estate::{Cluster, Condition, FailureStage, Host, Machine, Wanted},
    ids::{HostId, MachineId},
    moment::{Moment, Span},
    view::View,
};
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;

/// (number of the history, revision) at which a plan was made.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
pub struct Stamp(pub u64, pub u64);

#[derive(Debug, Clone, Default, PartialEq)]
pub struct Plan {
    pub stamp: Stamp,
    pub wards: BTreeMap<HostId, Ward>,
    /// The machines that shall be on and restart.
    pub charges: BTreeMap<MachineId, Charge>,
    pub table: Table,
    /// How long ago hosts were fenced on their controllers' word, for whoever takes over.
    pub on_word: Vec<Span>,
}

/// A host that is watched.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Ward {
    pub name: String,
    /// Pinned at the claim: a controller that shows another one is not believed.
    pub serial: String,
    /// Whether it has a controller that can be asked.
    pub controller: bool,
    /// Whether every volume that it may write to lies on an array that can be told to shut it out.
    pub storage: bool,
    /// It was proved off, or shut out of its storage, and nothing was heard of it since.
    pub off: bool,
    /// A verdict that was recorded by whoever watched before, and not carried to its end.
    pub judged: Option<Act>,
    /// How long ago its controller was last told to switch it off, where that was recorded.
    pub switched: Option<Span>,
}

/// A machine that shall run.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Charge {
    pub name: String,
    /// Where it runs, or ran.
    pub host: HostId,
    /// Of its run lease.
    pub generation: u64,
    /// It is known to be off: its host was fenced, or came back without it.
    pub fallen: bool,
    pub tier: u8,
    /// It boots once this machine answers.
    pub after: Option<MachineId>,
    /// Another site may have taken it over while this cluster was dark: then it starts only when somebody says that it wasn't.
    pub shared: bool,
    /// That was said of it already, and not denied since.
    pub unsure: bool,
    /// From its start until its guest answers, where somebody measured it.
    pub boots_in: Option<Span>,
}

impl Plan {
    /// What there is to guard in a cluster now; nothing in one that brings nothing back by itself.
    pub fn of(view: &View, cluster: &Cluster, stamp: Stamp, now: Moment) -> Plan {
        let (table, _) = model(view, cluster);
        let guarded = view
            .estate
            .hosts_in(cluster.id)
            .filter(|h| cluster.recovers && is_guarded(view, h));
        let wards: BTreeMap<HostId, Ward> = guarded.map(|h| (h.id, ward(view, h, now))).collect();
        let boots_in = table.boot;
        let charges = view.estate.machines_in(cluster.id).filter_map(|m| {
            let charge = charge(m, boots_in).filter(|_| cluster.recovers)?;
            Some((m.id, charge))
        });
        let lately = view
            .estate
            .failures
            .values()
            .filter(|f| f.cluster == cluster.id && f.on_word);
        let on_word = lately.filter_map(|f| Some(now.since(f.fenced?))).collect();
        Plan {
            stamp,
            wards,
            charges: charges.collect(),
            table,
            on_word,
        }
    }
}

/// A host that is being claimed isn't there yet, and a stranger's silence says nothing of ours. One that was emptied for
/// maintenance may go silent as somebody works on it: nothing is lost by that, and nobody switches it off meanwhile.
fn is_guarded(view: &View, host: &Host) -> bool {
    let holds = || view.estate.machines_on(host.id).any(|m| !m.is_off());
    if host.maintenance.is_some() && !holds() {
        return false;
    }
    match host.condition {
        Condition::Claiming | Condition::Stranger { .. } => false,
        Condition::Steady
        | Condition::Lost { .. }
        | Condition::Hangs { .. }
        | Condition::Off { .. }
        | Condition::ShutOut { .. } => true,
    }
}

fn ward(view: &View, host: &Host, now: Moment) -> Ward {
    let judged = view
        .estate
        .failure_of(host.id)
        .and_then(|f| match &f.stage {
            FailureStage::Judged(act) => Some(*act),
            FailureStage::CutOff
            | FailureStage::Ails
            | FailureStage::Waits(_)
            | FailureStage::Fenced
            | FailureStage::Over => None,
        });
    let failures = view.estate.failures.values().filter(|f| f.host == host.id);
    let switched = failures.filter_map(|f| f.switched).max();
    Ward {
        name: host.name.clone(),
        serial: host.hardware.serial.clone(),
        controller: host.bmc.as_ref().is_some_and(|b| b.key.is_some()),
        storage: view.estate.arrays_beneath(host).is_some(),
        off: host.condition.is_fenced(),
        judged,
        switched: switched.map(|at| now.since(at)),
    }
}

fn charge(machine: &Machine, boots_in: Option<Span>) -> Option<Charge> {
    if machine.wanted != Wanted::On || !machine.restarts || machine.deleted.is_some() {
        return None;
    }
    let fell = machine.fell.as_ref();
    Some(Charge {
        name: machine.name.clone(),
        host: fell.map(|f| f.host).or(machine.host)?,
        generation: machine.generation,
        fallen: fell.is_some(),
        // Whoever watches everything comes first, and waits for nobody.
        tier: if machine.carries { 0 } else { machine.tier },
        after: machine.after.filter(|_| !machine.carries),
        // No plan names a machine yet.
        shared: false,
        unsure: fell.is_some_and(|f| f.unsure),
        boots_in,
    })
}
