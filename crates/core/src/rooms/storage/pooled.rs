//! A volume of the hosts' own disks: every host lends its free ones, and everything has copies in different fault domains.

use super::{
    ConnectVolume, Draft, Event, Step,
    assess::mount,
    connect::{check_name, cluster_of, hosts_of},
};
use crate::{
    estate::{Cluster, DiskState, Host, LocalDisk, Pooled, Share, Volume},
    finding::{Finding, Rule},
    ids::{HostId, VolumeId},
    moment::Span,
    pooled::{PLAN, domains, keeps, reckoned, usable},
    units::Bytes,
};
use std::{
    collections::{BTreeMap, BTreeSet},
    sync::Arc,
};

/// How long a host that is away may be waited for.
const WAITS: std::ops::RangeInclusive<u64> = 1..=240;

fn free(host: &Host) -> impl Iterator<Item = &LocalDisk> {
    host.disks.iter().filter(|d| d.state == DiskState::Free)
}

fn raw(host: &Host) -> Bytes {
    host.free_disks()
}

/// Whether nobody knows its disks yet: it never reported, and its controller told of none.
fn unknown(host: &Host) -> bool {
    host.seen == (0, 0) && host.disks.is_empty()
}

pub(super) fn make(draft: &mut Draft<'_>, ask: &ConnectVolume, copies: u8, wait: Span) {
    let name = ask.name.trim();
    draft.title = format!("Make volume {name} of the hosts' own disks");
    check_name(draft, name);
    let Some(cluster) = cluster_of(draft, ask.cluster) else { return };
    let hosts = hosts_of(draft, &cluster, ask);
    if !(2..=3).contains(&copies) {
        let text = "Choose two copies of everything, or three.";
        return draft.found(Finding::stop(Rule::Pool, "copies", text).at("copies"));
    }
    if !WAITS.contains(&(wait.0 / 60_000)) {
        let text = format!("A host that is away is waited for between {} and {} minutes.", WAITS.start(), WAITS.end());
        draft.found(Finding::stop(Rule::Pool, "wait", text).at("wait"));
    }
    let domain = domains(draft.estate(), &cluster, &hosts, copies);
    lends(draft, &cluster, &hosts, &domain, copies);
    let [first, others @ ..] = hosts.as_slice() else { return };
    let id = VolumeId(draft.number());
    let raws: Vec<Bytes> = hosts.iter().map(|h| raw(h)).collect();
    draft.intend(Event::VolumePlanned(Box::new(Volume {
        id,
        uid: String::new(),
        name: name.to_owned(),
        cluster: Some(cluster.id),
        capacity: usable(&raws, copies),
        used: Bytes::ZERO,
        backing: None,
        pooled: Some(Box::new(Pooled::new(copies, wait))),
        made: true,
        intended: ask.hosts.clone(),
        ready: false,
        qualities: BTreeSet::new(),
        note: String::new(),
        unattached: Default::default(),
        strays: Default::default(),
        shared: Default::default(),
    })));
    let lend = |draft: &mut Draft<'_>, host: &Host, after: &[usize]| {
        let step = lend_step(id, host, &domain);
        draft.step(step, format!("{} lends its free disks", host.name), after, Some("hosts"))
    };
    let begun = lend(draft, first, &[]);
    let lent: Vec<usize> = [begun].into_iter().chain(others.iter().map(|h| lend(draft, h, &[begun]))).collect();
    let prepare = Step::Prepare {
        volume: id,
        host: first.id,
        over: None,
    };
    let prepared = draft.step(prepare, format!("Format it, by {}", first.name), &lent, Some("copies"));
    let mounted: Vec<usize> = hosts.iter().map(|host| mount(draft, id, host, &[prepared])).collect();
    draft.step(Step::VolumeReady { volume: id }, format!("{name} is connected"), &mounted, None);
}

fn lend_step(volume: VolumeId, host: &Host, domains: &BTreeMap<HostId, String>) -> Step {
    Step::Lend {
        volume,
        host: host.id,
        domain: domains.get(&host.id).unwrap_or(&host.name).clone(),
    }
}

/// What each host lends, whether the copies have domains enough, and what can be kept.
fn lends(draft: &mut Draft<'_>, cluster: &Cluster, hosts: &[Arc<Host>], domain: &BTreeMap<HostId, String>, copies: u8) {
    let stop = |text: String| Finding::stop(Rule::Pool, &cluster.name, text).at("copies");
    let later: Vec<&str> = hosts.iter().filter(|h| unknown(h)).map(|h| h.name.as_str()).collect();
    let lending: Vec<&Arc<Host>> = hosts.iter().filter(|h| unknown(h) || raw(h) > Bytes::ZERO).collect();
    let held: BTreeSet<&str> = lending.iter().filter_map(|h| Some(domain.get(&h.id)?.as_str())).collect();
    for host in hosts {
        disks_of(draft, host);
    }
    if held.len() < usize::from(copies) {
        let text = format!("{copies} copies need hosts with free disks in {copies} fault domains; there are {}.", held.len());
        return draft.found(stop(text).because(said(domain, hosts)).remedy("Take more hosts, put free disks into them, or ask for fewer copies."));
    }
    if lending.len() == usize::from(copies) {
        let text = format!("{} hosts lend disks for {copies} copies: when one fails, no other can take its copy until it is back.", lending.len());
        draft.found(Finding::mind(Rule::Pool, &cluster.name, text).at("copies").remedy("One more host would do."));
    }
    if !later.is_empty() {
        let text = format!("What disks {} have shows once they are installed; free ones are lent, others are left alone.", later.join(", "));
        return draft.found(Finding::unchecked(Rule::Pool, &cluster.name, text));
    }
    let foretold: Vec<&str> = lending.iter().filter(|h| h.seen == (0, 0)).map(|h| h.name.as_str()).collect();
    if !foretold.is_empty() {
        let text = format!("What {} will lend is reckoned from what their controllers say; free disks are lent, others are left alone.", foretold.join(", "));
        draft.found(Finding::unchecked(Rule::Disk, &cluster.name, text));
    }
    let raws: Vec<Bytes> = lending.iter().map(|h| raw(h)).collect();
    let plan = format!("plan for at most {PLAN} % of it, {}; {}", usable(&raws, copies).per_mille(PLAN * 10), said(domain, hosts));
    draft.found(Finding::clear(Rule::Pool, &cluster.name, reckoned(&raws, copies)).because(plan));
}

fn said(domain: &BTreeMap<HostId, String>, hosts: &[Arc<Host>]) -> String {
    let of = |h: &Arc<Host>| format!("{}: {}", h.name, domain.get(&h.id).map_or("", |d| d.as_str()));
    format!("fault domains: {}", hosts.iter().take(16).map(of).collect::<Vec<_>>().join(", "))
}

/// What is found on a host's disks that are not free.
fn disks_of(draft: &mut Draft<'_>, host: &Host) {
    if unknown(host) {
        return;
    }
    let name = &host.name;
    if raw(host) == Bytes::ZERO {
        let text = format!("{name} has no free disk; it lends nothing, and reads what the others keep.");
        draft.found(Finding::mind(Rule::Disk, name, text).at("hosts"));
    }
    let left = host.disks.iter().filter_map(|d| match &d.state {
        DiskState::Holds(what) => Some(format!("{}: {what}", d.name)),
        DiskState::Dead => Some(format!("{}: dead", d.name)),
        DiskState::Free | DiskState::Lent(_) => None,
    });
    let left: Vec<String> = left.collect();
    if !left.is_empty() {
        let text = match left.len() {
            1 => format!("A disk of {name} is not free and is left alone."),
            n => format!("{n} disks of {name} are not free and are left alone."),
        };
        draft.found(Finding::mind(Rule::Content, name, text).because(left.join(", ")).at("hosts"));
    }
}

/// Every free disk of the hosts that take part is lent.
pub(super) fn lend(draft: &mut Draft<'_>, id: VolumeId) {
    "Lend more disks".clone_into(&mut draft.title);
    let Some(v) = draft.volume(id).cloned() else { return };
    draft.title = format!("Lend more disks to {}", v.name);
    let Some((cluster, pooled)) = of_hosts(draft, &v) else { return };
    let hosts: Vec<Arc<Host>> = v.hosts(draft.estate()).into_iter().cloned().collect();
    let more: Vec<&Arc<Host>> = hosts.iter().filter(|h| h.accepts_work() && raw(h) > Bytes::ZERO).collect();
    if more.is_empty() {
        let text = format!("No host of {} that answers has a free disk.", cluster.name);
        return draft.found(Finding::stop(Rule::Nothing, &v.name, text).remedy("Put empty disks into its hosts, or take more hosts into the cluster."));
    }
    let domain = domains(draft.estate(), &cluster, &hosts, pooled.copies);
    let share = |h: &Arc<Host>| pooled.members.get(&h.id).map_or(Bytes::ZERO, |s: &Share| s.raw);
    let then: Vec<Bytes> = hosts.iter().map(|h| share(h) + raw(h)).collect();
    let text = format!("{} would have {} to use; today {}.", v.name, usable(&then, pooled.copies), v.capacity);
    draft.found(Finding::clear(Rule::Pool, &v.name, text));
    for host in more {
        let disks = free(host).map(|d| format!("{} {}", d.name, d.size)).collect::<Vec<_>>().join(", ");
        draft.step(lend_step(id, host, &domain), format!("{} lends {disks}", host.name), &[], None);
    }
}

/// A host that is away is waited for no longer.
pub(super) fn go_on_without(draft: &mut Draft<'_>, id: VolumeId, gone: HostId) {
    "Go on without a host".clone_into(&mut draft.title);
    let (Some(v), Some(host)) = (draft.volume(id).cloned(), draft.host(gone).cloned()) else { return };
    let name = &host.name;
    draft.title = format!("{} goes on without {name}", v.name);
    let Some((_, pooled)) = of_hosts(draft, &v) else { return };
    let stop = |text: String| Finding::stop(Rule::Pool, &v.name, text);
    let Some(share) = pooled.members.get(&gone) else {
        return draft.found(stop(format!("{name} lends nothing to {}.", v.name)));
    };
    if !share.away {
        return draft.found(stop(format!("The disks of {name} can be read; there is nothing to make up for.")));
    }
    if pooled.health.lost > Bytes::ZERO {
        let text = format!("{} of {} are on hosts alone that are away.", pooled.health.lost, v.name);
        return draft.found(stop(text).remedy("Bring one of them back first."));
    }
    if let Some(why) = keeps(&v, &pooled, &[gone].into()) {
        return draft.found(stop(why).remedy("Bring it back, or take another host with free disks in first."));
    }
    let text = format!("{} that {name} held are copied anew at once; when it comes back, it takes part anew, with nothing on its disks.", share.held);
    draft.found(Finding::mind(Rule::Pool, &v.name, text));
    let Some(via) = v.hosts(draft.estate()).into_iter().find(|h| h.accepts_work() && h.id != gone).cloned() else {
        return draft.found(stop("No other host of it answers.".into()));
    };
    let step = Step::Expel { volume: id, host: via.id, gone };
    draft.step(step, format!("The others go on without {name}"), &[], None);
}

fn of_hosts(draft: &mut Draft<'_>, v: &Volume) -> Option<(Arc<Cluster>, Pooled)> {
    let cluster = v.cluster.and_then(|c| draft.estate().clusters.get(&c)).cloned();
    let found = cluster.zip(v.pooled.as_deref().cloned());
    if found.is_none() {
        let text = format!("{} does not lie on the hosts' own disks.", v.name);
        draft.found(Finding::stop(Rule::Pool, &v.name, text));
    }
    found
}

/// The same hosts lend again, and mount it again: for those that miss it. Answers the last step of each.
pub(super) fn heal(draft: &mut Draft<'_>, v: &Volume, host: &Host) -> usize {
    let cluster = v.cluster.and_then(|c| draft.estate().clusters.get(&c)).cloned();
    let hosts: Vec<Arc<Host>> = v.hosts(draft.estate()).into_iter().cloned().collect();
    let copies = v.pooled.as_ref().map_or(2, |p| p.copies);
    let domain = cluster.map_or_else(BTreeMap::new, |c| domains(draft.estate(), &c, &hosts, copies));
    draft.step(lend_step(v.id, host, &domain), format!("{} takes part in it", host.name), &[], Some("hosts"))
}

/// Everybody has their disks to themselves again, once nothing is on it.
pub(super) fn give_back(draft: &mut Draft<'_>, v: &Volume, after: &[usize]) -> Vec<usize> {
    let members = v.pooled.as_ref().map(|p| p.members.keys().copied().collect::<Vec<_>>()).unwrap_or_default();
    let hosts: Vec<Arc<Host>> = members.iter().filter_map(|h| draft.estate().hosts.get(h)).cloned().collect();
    for host in hosts.iter().filter(|h| !h.accepts_work()) {
        let text = format!("{} lends disks to {} and does not answer.", host.name, v.name);
        draft.found(Finding::stop(Rule::HostOpen, &host.name, text).at("hosts"));
    }
    let back = |host: &Arc<Host>| {
        let step = Step::GiveBack { volume: v.id, host: host.id };
        draft.step(step, format!("{} has its disks to itself again", host.name), after, None)
    };
    hosts.iter().map(back).collect()
}

/// The domain of a host that joins.
pub fn joins(draft: &crate::road::Draft<'_, impl crate::road::Work>, cluster: &Cluster, volume: &Volume, host: &Host) -> Step {
    let mut hosts: Vec<Arc<Host>> = volume.hosts(draft.estate()).into_iter().cloned().collect();
    if hosts.iter().all(|h| h.id != host.id) {
        hosts.push(Arc::new(host.clone()));
    }
    let copies = volume.pooled.as_ref().map_or(2, |p| p.copies);
    let domain = domains(draft.estate(), cluster, &hosts, copies);
    lend_step(volume.id, host, &domain)
}
