//! What a change does to the headroom of the clusters that it touches: *stop* where the cluster enforces what it demands,
//! else *mind*; with the tightest row, before and after.

use crate::{
    availability::{Answer, Row},
    estate::{Cluster, Estate, Fact},
    event::Event,
    finding::{Finding, Rule},
    ids::{ClusterId, HostId},
    proposal::{Set, Target},
    view::View,
};
use std::{collections::BTreeSet, sync::Arc};

/// What a change does to a cluster's headroom, in words.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Outlook {
    pub cluster: String,
    pub before: String,
    pub after: String,
    /// The row that comes nearest to failing afterwards.
    pub tightest: String,
}

/// An outlook and perhaps a finding for each cluster that the intents touch and that demands something. `leaving` are hosts that are handed back.
pub(super) fn findings(
    view: &View,
    intents: &[Event],
    leaving: &BTreeSet<HostId>,
) -> Vec<(Outlook, Option<Finding>)> {
    let touched = touched(&view.estate, intents, leaving);
    if touched.is_empty() {
        return vec![];
    }
    let after = view.with(after(&view.estate, intents, leaving));
    touched
        .into_iter()
        .filter_map(|id| {
            let was = view.estate.clusters.get(&id)?;
            let then = after.estate.clusters.get(&id)?;
            let (before, now) = (Answer::of(view, was), Answer::of(&after, then));
            let outlook = Outlook {
                cluster: then.name.clone(),
                before: before.sentence(),
                after: now.sentence(),
                tightest: now
                    .matrix
                    .tightest()
                    .map_or_else(String::new, |row| tight(&now, row)),
            };
            Some((outlook, finding(&before, &now, then)))
        })
        .collect()
}

/// The clusters whose machines or hosts are somewhere else, larger, or under other rules afterwards.
fn touched(estate: &Estate, intents: &[Event], leaving: &BTreeSet<HostId>) -> BTreeSet<ClusterId> {
    let machine = |id| estate.machines.get(&id).and_then(|m| m.cluster);
    let of = |event: &Event| match event {
        Event::MachinePlanned(m) => m.host.and(m.cluster),
        Event::MachineWanted {
            machine: m,
            host: Some(_),
            ..
        }
        | Event::MachineMoving {
            machine: m,
            to: Some(_),
        } => machine(*m),
        Event::Edited {
            target: Target::Machine(m),
            sets,
        } if sets.iter().any(counts) => machine(*m),
        Event::Edited {
            target: Target::Cluster(c),
            sets,
        } if sets.iter().any(counts) => Some(*c),
        // Rules may pin machines by the labels of hosts.
        Event::Edited {
            target: Target::Host(h),
            sets,
        } if sets.iter().any(counts) => estate.hosts.get(h).and_then(|h| h.cluster),
        _ => None,
    };
    let by_event = intents.iter().filter_map(of);
    let by_host = leaving.iter().filter_map(|h| estate.hosts.get(h)?.cluster);
    by_event.chain(by_host).collect()
}

/// Whether an edit can change who restarts where.
fn counts(set: &Set) -> bool {
    matches!(
        set,
        Set::Tier(_)
            | Set::VCpus(_)
            | Set::Memory(_)
            | Set::Restarts(_)
            | Set::After(_)
            | Set::Rules(_)
            | Set::Kind(_)
            | Set::Demand(_)
            | Set::Label { .. }
            | Set::Unlabel { .. }
    )
}

/// The estate once the change is through: what is on its way has arrived, who leaves is gone.
fn after(estate: &Estate, intents: &[Event], leaving: &BTreeSet<HostId>) -> Estate {
    let mut fork = estate.clone();
    fork.absorb_all(intents);
    for event in intents {
        if let Event::MachineMoving {
            machine,
            to: Some(to),
        } = event
            && let Some(machine) = fork.machines.get(machine)
        {
            let mut there = (**machine).clone();
            (there.host, there.arriving) = (Some(*to), None);
            fork.put(Fact::Machine(Arc::new(there)));
        }
    }
    for id in leaving {
        let cluster = fork.hosts.get(id).and_then(|h| h.cluster);
        if let Some(cluster) = cluster.and_then(|c| fork.clusters.get(&c)) {
            let mut less = (**cluster).clone();
            less.hosts.remove(id);
            fork.put(Fact::Cluster(Arc::new(less)));
        }
    }
    fork
}

fn finding(before: &Answer, after: &Answer, cluster: &Cluster) -> Option<Finding> {
    if cluster.demand.failures == 0 {
        return None;
    }
    let name = &cluster.name;
    let said = format!("{name} {}.", after.sentence());
    let was = format!("before: {}", before.sentence());
    if after.meets(cluster) {
        let tightest = after.matrix.tightest().map(|row| tight(after, row));
        let evidence = tightest.into_iter().chain([was]).collect::<Vec<_>>();
        return Some(Finding::clear(Rule::Headroom, name, said).because(evidence.join("; ")));
    }
    // What was so before and gets no worse is worth a thought; nobody could mend it otherwise.
    let worse = before.meets(cluster) || after.left_over() > before.left_over();
    let text = match after.matrix.tightest() {
        Some(row) if !row.passes() => {
            let first = row.failure.not_restarted.first();
            let who = first.map_or("a machine", |l| {
                after.table.machines[l.machine].name.as_str()
            });
            let more = row.failure.not_restarted.len().saturating_sub(1);
            let others = match more {
                0 => String::new(),
                1 => " and one more".into(),
                n => format!(" and {n} more"),
            };
            let still = if worse { "" } else { " still" };
            format!(
                "If {} fails, {who}{others} would{still} not restart.",
                row.domain.words()
            )
        }
        _ => said,
    };
    let finding = if cluster.demand.enforced && worse {
        Finding::stop(Rule::Headroom, name, text)
    } else {
        Finding::mind(Rule::Headroom, name, text)
    };
    let why = after
        .matrix
        .tightest()
        .map_or_else(String::new, |row| row.failure.proof.clone());
    Some(
        finding
            .because(format!("{why}; {was}"))
            .at("memory")
            .remedy("Make the machines smaller, fewer, or add a host."),
    )
}

/// `tightest if h3 fails: its machines need 83 % of the memory that is free elsewhere`
fn tight(answer: &Answer, row: &Row) -> String {
    let percent = row.failure.tightest.1 * 100.0;
    format!(
        "tightest if {} fails: its machines need {percent:.0} % of the {} that is free elsewhere",
        row.domain.words(),
        answer.matrix.limit_words()
    )
}
