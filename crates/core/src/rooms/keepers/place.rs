//! The checks of placing keepers, and the steps: it is written on the volume who may decide, then new ones get what they need,
//! and others are let go.

use super::{Draft, Place, Step, WANTED, choose::same, quorum};
use crate::{
    estate::{Cluster, ClusterKind, Host, Volume},
    finding::{Finding, Rule},
    ids::HostId,
};
use std::{collections::BTreeSet, sync::Arc};

pub(super) fn place(draft: &mut Draft<'_>, ask: &Place) {
    "Keepers".clone_into(&mut draft.title);
    let Some(cluster) = draft.estate().clusters.get(&ask.cluster).cloned() else {
        let text = "This cluster is gone.";
        return draft.found(Finding::stop(Rule::Exists, "cluster", text));
    };
    draft.title = format!("Keepers of {}", cluster.name);
    let chosen = draft.chosen(&ask.hosts).into_iter();
    let hosts: Vec<Arc<Host>> = chosen.filter_map(|id| draft.host(id)).cloned().collect();
    let had = cluster.keeping.as_ref().map(|k| k.hosts.clone()).unwrap_or_default();
    let wanted: BTreeSet<HostId> = hosts.iter().map(|h| h.id).collect();
    if wanted == had {
        let text = if had.is_empty() { "Choose the hosts on which they shall run." } else { "They are on these hosts already." };
        return draft.found(Finding::stop(Rule::Nothing, "hosts", text).at("hosts"));
    }
    let volume = quorum(draft.estate(), &cluster).and_then(|id| draft.estate().volumes.get(&id)).cloned();
    let Some(volume) = volume else {
        let text = format!("No host of {} mounts a volume; keepers agree on one.", cluster.name);
        return draft.found(Finding::stop(Rule::Keepers, &cluster.name, text).remedy("Connect a volume first."));
    };
    number(draft, &cluster, &volume, hosts.len());
    for host in &hosts {
        let found = serves(&cluster, &volume, host, had.contains(&host.id));
        draft.found(found);
    }
    apart(draft, &hosts);
    sites(draft, &cluster, &hosts);
    steps(draft, &cluster, &volume, &hosts, &had);
}

fn number(draft: &mut Draft<'_>, cluster: &Cluster, volume: &Volume, n: usize) {
    let name = &cluster.name;
    let finding = match n {
        0 => {
            let text = format!("Nobody but the manager brings the machines of {name} back then: while it or its database is down, nothing restarts.");
            Finding::mind(Rule::Keepers, name, text)
        }
        1 => {
            let text = format!("One keeper: when its host fails, nobody but the manager brings back what ran in {name}.");
            Finding::mind(Rule::Keepers, name, text).remedy("Choose three.")
        }
        n if n < WANTED => {
            let text = format!("{n} keepers: one may fail.");
            Finding::mind(Rule::Keepers, name, text).remedy("Choose three.")
        }
        n => {
            let text = format!("{n} keepers; any one of them is enough. They agree on {}.", volume.name);
            Finding::clear(Rule::Keepers, name, text)
        }
    };
    draft.found(finding.at("hosts"));
}

fn serves(cluster: &Cluster, volume: &Volume, host: &Host, had: bool) -> Finding {
    let name = &host.name;
    let stop = |text: String| Finding::stop(Rule::Keepers, name, text).at("hosts");
    if !host.accepts_work() && !had {
        let why = host.out_of_reach().unwrap_or_else(|| format!("{name} is being claimed"));
        return stop(format!("{why}.")).remedy("Choose another host.");
    }
    if host.maintenance.is_some() && !had {
        return stop(format!("{name} is in maintenance.")).remedy("Choose another host, or put it back in service.");
    }
    if host.cluster != Some(cluster.id) {
        let of = if host.cluster.is_some() { "of another cluster" } else { "in no cluster" };
        let text = format!("{name} is {of}: it decides only by what the hosts of {} tell it over the network.", cluster.name);
        return Finding::clear(Rule::Keepers, name, text);
    }
    if host.paths_up(volume.id) == 0 {
        return stop(format!("{name} does not reach {}, on which they agree.", volume.name)).remedy("Choose another host.");
    }
    let text = format!("{name} reaches {} by {} paths.", volume.name, host.paths_up(volume.id));
    Finding::clear(Rule::Keepers, name, text)
}

/// What takes all of them at once.
fn apart(draft: &mut Draft<'_>, hosts: &[Arc<Host>]) {
    let [first, rest @ ..] = hosts else { return };
    if rest.is_empty() {
        return;
    }
    for domain in Host::DOMAINS {
        if rest.iter().all(|h| same(first, h, domain)) {
            let place = first.labels.get(domain).cloned().unwrap_or_default();
            let text = format!("All of them are in the {domain} {place}: they fail together.");
            draft.found(Finding::mind(Rule::Keepers, domain, text).at("hosts"));
        }
    }
}

/// A cluster at two sites goes on when either is lost: so must one that decides.
fn sites(draft: &mut Draft<'_>, cluster: &Cluster, hosts: &[Arc<Host>]) {
    let [first, rest @ ..] = hosts else { return };
    if cluster.kind == ClusterKind::TwoSites && rest.iter().all(|h| h.site == first.site) {
        let site = draft.estate().sites.get(&first.site).map_or_else(String::new, |s| s.name.clone());
        let text = format!("All of them are at {site}: when it is lost, nobody but the manager brings back what ran there.");
        draft.found(Finding::mind(Rule::Keepers, "sites", text).at("hosts").remedy("Choose one at each site, and one at a third."));
    }
}

fn steps(draft: &mut Draft<'_>, cluster: &Cluster, volume: &Volume, hosts: &[Arc<Host>], had: &BTreeSet<HostId>) {
    let step = Step::Name {
        cluster: cluster.id,
        volume: volume.id,
        hosts: hosts.iter().map(|h| h.id).collect(),
    };
    let named = draft.step(step, format!("Write on {} who may decide", volume.name), &[], None);
    for host in hosts.iter().filter(|h| !had.contains(&h.id)) {
        let step = Step::Give {
            cluster: cluster.id,
            host: host.id,
            volume: volume.id,
        };
        draft.step(step, format!("{} runs a keeper of {}", host.name, cluster.name), &[named], Some("hosts"));
    }
    let wanted: BTreeSet<HostId> = hosts.iter().map(|h| h.id).collect();
    let gone = had.iter().filter(|id| !wanted.contains(id));
    let gone: Vec<Arc<Host>> = gone.filter_map(|id| draft.estate().hosts.get(id)).cloned().collect();
    for host in gone {
        if !host.accepts_work() {
            let text = format!("{} does not answer; its keeper may not decide any more, and is taken away when it is back.", host.name);
            draft.found(Finding::mind(Rule::Keepers, &host.name, text));
            continue;
        }
        let step = Step::Take {
            cluster: cluster.id,
            host: host.id,
        };
        draft.step(step, format!("{} runs no keeper of {} any more", host.name, cluster.name), &[named], None);
    }
}
