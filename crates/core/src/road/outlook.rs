//! What a change does to the headroom of the clusters that it touches: *stop* where the cluster enforces what it demands,
//! else *mind*; with the tightest row, before and after.

use super::Tale;
use crate::{
    availability::{Case, Survival},
    estate::{Change, Cluster, Estate, Fact, Machine, Pen, Touched, Wanted},
    finding::{Finding, Rule},
    ids::{ClusterId, HostId},
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

/// An outlook and perhaps a finding for each cluster that the intents touch and that demands something. `leaving` are hosts
/// that are handed back.
pub(super) fn findings<E: Tale>(
    view: &View,
    intents: &[E],
    leaving: &BTreeSet<HostId>,
) -> Vec<(Outlook, Option<Finding>)> {
    let mut fork = (*view.estate).clone();
    let mut pen = Pen::on(&mut fork);
    intents.iter().for_each(|event| event.absorb(&mut pen));
    let change = pen.done();
    let touched = touched(&view.estate, &change, leaving);
    if touched.is_empty() {
        return vec![];
    }
    settle(&mut fork, &change, leaving);
    let after = view.with(fork);
    touched
        .into_iter()
        .filter_map(|id| {
            let was = view.estate.clusters.get(&id)?;
            let then = after.estate.clusters.get(&id)?;
            let (before, now) = (Survival::of(view, was), Survival::of(&after, then));
            let outlook = Outlook {
                cluster: then.name.clone(),
                before: before.sentence_of(was),
                after: now.sentence_of(then),
                tightest: now
                    .weakest(then)
                    .map_or_else(String::new, |row| tight(&now, row)),
            };
            Some((outlook, finding(&before, &now, was, then)))
        })
        .collect()
}

/// The clusters whose machines or hosts are somewhere else, larger, or under other rules afterwards.
fn touched(estate: &Estate, change: &Change, leaving: &BTreeSet<HostId>) -> BTreeSet<ClusterId> {
    let of = |touched: &Touched| match touched {
        Touched::Put(Fact::Machine(m)) => {
            let was = estate.machines.get(&m.id);
            m.cluster.filter(|_| machine_counts(was.map(|m| &**m), m))
        }
        Touched::Put(Fact::Cluster(c)) => {
            let was = estate.clusters.get(&c.id)?;
            let counts = (&was.rules, was.kind, was.demand) != (&c.rules, c.kind, c.demand);
            counts.then_some(c.id)
        }
        // Rules may pin machines by the labels of hosts; one in maintenance takes none.
        Touched::Put(Fact::Host(h)) => {
            let was = estate.hosts.get(&h.id)?;
            let counts = was.labels != h.labels || was.takes_machines() != h.takes_machines();
            h.cluster.filter(|_| counts)
        }
        _ => None,
    };
    let by_fact = change.touched.values().filter_map(of);
    let by_host = leaving.iter().filter_map(|h| estate.hosts.get(h)?.cluster);
    by_fact.chain(by_host).collect()
}

/// Whether what is different of a machine can change who restarts where.
fn machine_counts(was: Option<&Machine>, is: &Machine) -> bool {
    let Some(was) = was else {
        return is.host.is_some();
    };
    let placed = is.host != was.host && is.host.is_some();
    let arrives = is.arriving != was.arriving && is.arriving.is_some();
    let size = (was.vcpus, was.memory, was.tier, was.restarts, was.after);
    placed
        || arrives
        || size != (is.vcpus, is.memory, is.tier, is.restarts, is.after)
        || was.labels != is.labels
        || (was.wanted != is.wanted && is.wanted == Wanted::On)
}

/// Once the change is through, what is on its way has arrived, and who leaves is gone.
fn settle(fork: &mut Estate, change: &Change, leaving: &BTreeSet<HostId>) {
    for touched in change.touched.values() {
        if let Touched::Put(Fact::Machine(m)) = touched
            && let Some(to) = m.arriving
        {
            let mut there = Machine::clone(m);
            (there.host, there.arriving) = (Some(to), None);
            fork.put(Fact::Machine(Arc::new(there)));
        }
    }
    for touched in change.touched.values() {
        if let Touched::Put(Fact::Volume(planned)) = touched
            && !planned.ready
        {
            fork.connect(planned);
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
}

fn finding(
    before: &Survival,
    after: &Survival,
    held: &Cluster,
    cluster: &Cluster,
) -> Option<Finding> {
    if !cluster.demand.asks() {
        return None;
    }
    let name = &cluster.name;
    let said = format!("{name} {}.", after.sentence_of(cluster));
    let was = format!("before: {}", before.sentence_of(held));
    if after.meets(cluster) {
        let tightest = after.weakest(cluster).map(|row| tight(after, row));
        let evidence = tightest.into_iter().chain([was]).collect::<Vec<_>>();
        return Some(Finding::clear(Rule::Headroom, name, said).because(evidence.join("; ")));
    }
    // What was so before and gets no worse is worth a thought; nobody could mend it otherwise.
    let worse = before.meets(cluster) || after.left_over(cluster) > before.left_over(held);
    let text = match after.weakest(cluster) {
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
                "If {} fails, {who}{others} would{still} find no place.",
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
        .weakest(cluster)
        .map_or_else(String::new, |row| row.failure.proof.clone());
    Some(
        finding
            .because(format!("{why}; {was}"))
            .at("memory")
            .remedy("Make the machines smaller, fewer, or add a host."),
    )
}

/// `tightest if h3 fails: its machines need 83 % of the memory that is free elsewhere`
fn tight(answer: &Survival, row: &Case) -> String {
    let percent = row.failure.tightest.1 * 100.0;
    format!(
        "tightest if {} fails: its machines need {percent:.0} % of the {} that is free elsewhere",
        row.domain.words(),
        answer.matrix.limit_words()
    )
}
