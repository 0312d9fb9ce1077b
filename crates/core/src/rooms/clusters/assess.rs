//! Making a cluster of claimed hosts.

use super::{CreateCluster, Draft, Event, Step, between};
use crate::{
    estate::{Cluster, ClusterKind, Host, PsabiLevel, Volume},
    evidence::{Answer, CLOCKS_APART_MS, Probe, SeenVolume},
    finding::{Finding, Rule},
    ids::{ClusterId, VolumeId},
    limits,
    moment::Moment,
    view::View,
};
use std::{
    collections::{BTreeMap, BTreeSet},
    sync::Arc,
};

pub const MOST_HOSTS: usize = 64;

pub(super) fn create(draft: &mut Draft<'_>, ask: &CreateCluster) {
    check_name(draft, ask);
    let mut once = BTreeSet::new();
    let hosts: Vec<Arc<Host>> = ask
        .hosts
        .iter()
        .filter(|id| once.insert(**id))
        .filter_map(|id| draft.host(*id))
        .cloned()
        .collect();
    if hosts.is_empty() {
        return draft.found(
            Finding::stop(Rule::Nothing, "hosts", "Choose the hosts of the cluster.").at("hosts"),
        );
    }
    let seen = shared_volume(draft, ask, &hosts);
    of_hosts(draft, ask, &hosts, seen.as_ref());
}

/// A cluster of these hosts, whatever is known of volumes: the checks, and the steps.
pub fn of_hosts(draft: &mut Draft<'_>, ask: &CreateCluster, hosts: &[Arc<Host>], seen: Option<&SeenVolume>) {
    for host in hosts {
        let found = member_checks(draft.view, draft.now, host);
        draft.found_all(found);
    }
    check_sites(draft, ask.kind, hosts);
    let level = check_cpus(draft, ask, hosts);
    check_software(draft, hosts);
    add_steps(draft, ask, hosts, level, seen);
}

pub fn check_name(draft: &mut Draft<'_>, ask: &CreateCluster) {
    let name = ask.name.trim();
    draft.title = format!("Create cluster {name}");
    let problem = if name.is_empty() {
        Some("A name is missing.".to_owned())
    } else if let Err(words) = limits::GROUP.check(name.chars().count()) {
        Some(words)
    } else {
        draft
            .estate()
            .cluster_named(name)
            .map(|c| format!("There is a cluster {} already.", c.name))
    };
    draft.found_all(problem.map(|text| Finding::stop(Rule::Name, "name", text).at("name")));
}

/// What is looked at of every host that becomes a member, of whatever cluster.
pub fn member_checks(view: &View, now: Moment, host: &Host) -> Vec<Finding> {
    let name = &host.name;
    let mut found = Vec::new();
    if let Some(cluster) = host.cluster.and_then(|c| view.estate.clusters.get(&c)) {
        let text = format!("{name} is in {} already.", cluster.name);
        found.push(Finding::stop(Rule::Owner, name, text).at("hosts"));
    }
    if !host.accepts_work() {
        let text = format!("{name} does not answer.");
        found.push(Finding::stop(Rule::HostOpen, name, text).at("hosts"));
    }
    found.push(clock(view, now, host));
    found.push(bmc(view, now, host));
    found
}

fn clock(view: &View, now: Moment, host: &Host) -> Finding {
    let name = &host.name;
    match view.evidence.fresh(&Probe::Clock(host.id), now) {
        Some(Answer::Clock { offset_ms }) if offset_ms.abs() <= CLOCKS_APART_MS => {
            Finding::clear(Rule::Clock, name, format!("The clock of {name} is right."))
                .because(format!("{offset_ms} ms off"))
        }
        Some(Answer::Clock { offset_ms }) => Finding::mind(
            Rule::Clock,
            name,
            format!("The clock of {name} is {offset_ms} ms off."),
        )
        .because(format!("at most {CLOCKS_APART_MS} ms between any two"))
        .remedy("Give all hosts the same time source.")
        .at("hosts"),
        Some(Answer::Silent { why }) => Finding::unchecked(
            Rule::Clock,
            name,
            format!("The clock of {name} can't be read: {why}."),
        ),
        _ => Finding::unchecked(
            Rule::Clock,
            name,
            format!("The clock of {name} was not read yet; the run reads it first."),
        ),
    }
}

fn bmc(view: &View, now: Moment, host: &Host) -> Finding {
    let name = &host.name;
    if host.bmc.is_none() {
        let text = format!("{name} has no management controller; it can't be fenced.");
        return Finding::mind(Rule::Bmc, name, text).at("hosts");
    }
    match view.evidence.fresh(&Probe::Bmc(host.id), now) {
        Some(Answer::Bmc { serial, power }) if *serial == host.hardware.serial => Finding::clear(
            Rule::Bmc,
            name,
            format!("The management controller of {name} answers."),
        )
        .because(format!("serial {serial}, power {power}")),
        Some(Answer::Bmc { serial, .. }) => {
            let text = format!("The management controller given for {name} is another machine's.");
            Finding::stop(Rule::Bmc, name, text)
                .because(format!("it says serial {serial}, the host says {}", host.hardware.serial))
                .remedy("Correct the controller's address on the host, hand the host back and claim it again.")
                .at("hosts")
        }
        Some(Answer::Silent { why }) => Finding::mind(
            Rule::Bmc,
            name,
            format!("The management controller of {name} does not answer: {why}."),
        )
        .at("hosts"),
        _ => Finding::unchecked(
            Rule::Bmc,
            name,
            format!(
                "The management controller of {name} was not asked yet; the run asks it first."
            ),
        ),
    }
}

fn check_sites(draft: &mut Draft<'_>, kind: ClusterKind, hosts: &[Arc<Host>]) {
    let sites: BTreeSet<_> = hosts.iter().map(|h| h.site).collect();
    if let Err(text) = kind.fits(hosts.len(), sites.len()) {
        draft.found(Finding::stop(Rule::State, "kind", text).at("kind"));
    }
    if kind == ClusterKind::TwoSites {
        let halves: BTreeSet<usize> = sites.iter().map(|s| hosts.iter().filter(|h| h.site == *s).count()).collect();
        if halves.len() > 1 {
            let text = "The two sites have different numbers of hosts; the smaller half must carry everything.";
            draft.found(Finding::mind(Rule::State, "kind", text).at("hosts"));
        }
        between::check(draft, hosts);
    }
    if kind != ClusterKind::TwoSites && sites.len() > 1 {
        let text = "The hosts are at different sites; this kind of cluster stands at one.";
        draft.found(Finding::stop(Rule::State, "sites", text).at("hosts"));
    }
    if hosts.len() == 1 {
        let text = "One host alone: when it fails, everything on it is down until it is back.";
        draft.found(Finding::mind(Rule::Headroom, "cluster", text).at("hosts"));
    }
    if hosts.len() > MOST_HOSTS {
        let text = format!("{} hosts; a cluster has at most {MOST_HOSTS}.", hosts.len());
        draft.found(Finding::stop(Rule::Count, "cluster", text).at("hosts"));
    }
}

fn check_cpus(draft: &mut Draft<'_>, ask: &CreateCluster, hosts: &[Arc<Host>]) -> PsabiLevel {
    let makers: BTreeSet<_> = hosts
        .iter()
        .map(|h| h.hardware.cpu.maker.as_str())
        .collect();
    if makers.len() > 1 {
        let who: Vec<_> = makers.into_iter().collect();
        let text =
            "The hosts have CPUs of different makers; a running machine can't move between them.";
        draft.found(
            Finding::stop(Rule::CpuMaker, "CPU maker", text)
                .because(who.join(", "))
                .at("hosts"),
        );
    }
    let lowest = hosts
        .iter()
        .map(|h| h.hardware.cpu.level)
        .min()
        .unwrap_or(PsabiLevel::V1);
    let level = ask.level.unwrap_or(lowest);
    let below: Vec<_> = hosts
        .iter()
        .filter(|h| h.hardware.cpu.level < level)
        .map(|h| h.name.clone())
        .collect();
    if below.is_empty() {
        let text = format!("All hosts have CPU level {level}.");
        draft.found(
            Finding::clear(Rule::CpuLevel, "CPU level", text)
                .because(format!("the lowest is {lowest}")),
        );
    } else {
        let text = format!("{} can't do CPU level {level}.", below.join(", "));
        draft.found(
            Finding::stop(Rule::CpuLevel, "CPU level", text)
                .at("level")
                .remedy(format!("Choose {lowest}, or leave these hosts out.")),
        );
    }
    level
}

fn check_software(draft: &mut Draft<'_>, hosts: &[Arc<Host>]) {
    let mut versions: BTreeMap<&str, Vec<&str>> = BTreeMap::new();
    for host in hosts {
        versions.entry(&host.software).or_default().push(&host.name);
    }
    if versions.len() > 1 {
        let evidence: Vec<_> = versions
            .iter()
            .map(|(v, hosts)| format!("{v}: {}", hosts.join(", ")))
            .collect();
        draft.found(
            Finding::mind(
                Rule::Software,
                "software",
                "The hosts have different software versions.",
            )
            .because(evidence.join(" · "))
            .at("hosts"),
        );
    } else {
        draft.found(Finding::clear(
            Rule::Software,
            "software",
            "All hosts have the same software.",
        ));
    }
}

/// The volume that every chosen host sees. Without evidence from every host there is none to choose.
fn shared_volume(
    draft: &mut Draft<'_>,
    ask: &CreateCluster,
    hosts: &[Arc<Host>],
) -> Option<SeenVolume> {
    let mut seen_by: BTreeMap<String, (SeenVolume, usize)> = BTreeMap::new();
    let mut blind = Vec::new();
    for host in hosts {
        match draft.view.evidence.fresh(&Probe::Sight(host.id), draft.now) {
            Some(Answer::Sight { volumes }) => {
                for volume in volumes {
                    seen_by
                        .entry(volume.uid.clone())
                        .or_insert_with(|| (volume.clone(), 0))
                        .1 += 1;
                }
            }
            _ => blind.push(host.name.clone()),
        }
    }
    if !blind.is_empty() {
        let text = format!("{} did not say which volumes they see.", blind.join(", "));
        draft.found(
            Finding::stop(Rule::Storage, "volume", text)
                .at("volume")
                .remedy("Look at these hosts; they must answer."),
        );
        return None;
    }
    let taken = |uid: &str| draft.estate().volume_with_uid(uid).is_some();
    let fits = |(volume, n): &(SeenVolume, usize)| *n == hosts.len() && !taken(&volume.uid);
    let chosen = match &ask.volume {
        Some(uid) => seen_by.get(uid.as_str()).cloned(),
        None => seen_by.values().find(|v| fits(v)).cloned(),
    };
    let finding = match &chosen {
        None if ask.volume.is_some() => Finding::stop(
            Rule::Storage,
            "volume",
            "None of these hosts sees the chosen volume any more.",
        ),
        None => Finding::mind(
            Rule::Storage,
            "volume",
            "No free volume is seen by all of these hosts; machines need one.",
        )
        .remedy("Connect one to the whole cluster afterwards, under Storage."),
        Some((volume, n)) if *n < hosts.len() => Finding::stop(
            Rule::Storage,
            &volume.name,
            format!("Only {n} of {} hosts see {}.", hosts.len(), volume.name),
        )
        .remedy("Connect it to the others too."),
        Some((volume, _)) if taken(&volume.uid) => Finding::stop(
            Rule::Storage,
            &volume.name,
            format!("{} belongs to another cluster.", volume.name),
        ),
        Some((volume, _)) => {
            let free = volume.capacity.less(volume.used);
            Finding::clear(
                Rule::Storage,
                &volume.name,
                format!("All hosts see {}: {free} free.", volume.name),
            )
        }
    };
    let fine = !finding.stops();
    draft.found(finding.at("volume"));
    chosen.filter(|_| fine).map(|(volume, _)| volume)
}

/// One of the two ends looks how far the other is.
fn check(draft: &mut Draft<'_>, host: &Host, ends: Option<&[Arc<Host>; 2]>) -> usize {
    let near = ends.map(|[other, _]| other);
    let step = Step::Verify {
        host: host.id,
        near: near.map(|h| h.id),
    };
    let title = match near {
        Some(other) => format!("Check clock and controller of {}, and how far {} is", host.name, other.name),
        None => format!("Check clock and controller of {}", host.name),
    };
    draft.step(step, title, &[], Some("hosts"))
}

fn add_steps(
    draft: &mut Draft<'_>,
    ask: &CreateCluster,
    hosts: &[Arc<Host>],
    level: PsabiLevel,
    seen: Option<&SeenVolume>,
) {
    let id = ClusterId(draft.number());
    let volume = VolumeId(draft.number());
    let name = ask.name.trim().to_owned();
    draft.intend(Event::Added {
        cluster: Box::new(Cluster {
            id,
            name: name.clone(),
            site: hosts[0].site,
            hosts: BTreeSet::new(),
            cpu_maker: hosts[0].hardware.cpu.maker.clone(),
            cpu_level: level,
            demand: ask.demand,
            kind: ask.kind,
            rules: vec![],
            recovers: true,
            keeping: None,
            time: ask.time.clone(),
            dns: None,
            ready: false,
            note: String::new(),
        }),
        volume: seen.map(|seen| {
            Box::new(Volume {
                id: volume,
                uid: seen.uid.clone(),
                name: seen.name.clone(),
                cluster: Some(id),
                capacity: seen.capacity,
                used: seen.used,
                backing: None,
                pooled: None,
                made: false,
                intended: None,
                ready: true,
                qualities: Default::default(),
                note: String::new(),
                unattached: Default::default(),
                strays: Default::default(),
                shared: Default::default(),
            })
        }),
    });
    let ends = between::ends(hosts).filter(|_| ask.kind == ClusterKind::TwoSites);
    let far = ends.as_ref().map(|[_, b]| b.id);
    let checked: Vec<usize> = hosts.iter().map(|host| check(draft, host, ends.as_ref().filter(|[_, b]| b.id == host.id))).collect();
    // Nobody joins before it is known how far the sites are apart.
    let apart = hosts.iter().position(|h| Some(h.id) == far).map(|n| checked[n]);
    let joined: Vec<usize> = hosts
        .iter()
        .zip(&checked)
        .map(|(host, checked)| {
            let join = Step::Join {
                host: host.id,
                cluster: id,
                volume: seen.map(|seen| seen.uid.clone()),
            };
            let after: Vec<usize> = [*checked].into_iter().chain(apart.filter(|a| a != checked)).collect();
            draft.step(join, format!("{} joins {name}", host.name), &after, Some("volume"))
        })
        .collect();
    draft.step(
        Step::Ready { cluster: id },
        format!("{name} is ready"),
        &joined,
        None,
    );
}
