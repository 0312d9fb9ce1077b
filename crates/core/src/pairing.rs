//! Whether a pair carries: each end looked at from the other, by what was tried, and every finding with the side that it is about
//! (rules, section 17). What was not tried is *unchecked*.

use crate::{
    estate::{Cluster, End, Estate, Host, NetRole, Pair, Road, Way},
    evidence::{Answer, Probe},
    finding::{Finding, Rule, Severity},
    ids::{ClusterId, HostId},
    moment::{Moment, Span},
    view::View,
};
use std::{collections::BTreeSet, sync::Arc};

/// So many hosts carry at each end, that one may be out of service.
pub const LEAST: usize = 2;
/// Clocks may be so far apart: points are told by them.
const APART: Span = Span::secs(2);

/// What is asked to know it: every carrier tries every one of the other end.
pub fn probes(estate: &Estate, ends: &[End; 2]) -> Vec<Probe> {
    let hosts = |end: &End| -> Vec<HostId> { end.carriers(estate).map(|h| h.id).collect() };
    let (a, b) = (hosts(&ends[0]), hosts(&ends[1]));
    let clocks = a.iter().chain(&b).map(|h| Probe::Clock(*h));
    let out = a.iter().flat_map(|from| b.iter().map(|to| (*from, *to)));
    let both = out.flat_map(|(from, to)| [(from, to), (to, from)]);
    let tried = both.map(|(from, to)| Probe::RoundTrip { from, to });
    clocks.chain(tried).collect()
}

/// All that is found of it, both ways.
pub fn look(view: &View, pair: &Pair, now: Moment) -> Vec<Finding> {
    let estate = &view.estate;
    let mut found = Vec::new();
    for (end, field) in pair.ends.iter().zip(["a_carriers", "b_carriers"]) {
        found.extend(carriers(estate, end).into_iter().map(|f| f.at(field)));
        found.extend(on_network(estate, end));
    }
    for way in pair.ways() {
        let Some((from, to)) = pair.end(way.from).zip(pair.other(way.from)) else {
            continue;
        };
        found.push(reached(view, from, to, now));
        found.extend(unmapped(estate, from, to));
        found.extend(parity(estate, from, to, |_| true));
    }
    found.extend(frames(estate, &pair.ends));
    found.push(clocks(view, &pair.ends, now));
    found
}

/// The longest round trip that was measured one way, in microseconds; none: not all were.
pub fn round_trip(view: &View, way: Way, now: Moment) -> Option<u64> {
    let road = view.estate.road(way)?;
    let mut most = None;
    for from in road.from.carriers(&view.estate) {
        for to in road.to.carriers(&view.estate) {
            let (from, to) = (from.id, to.id);
            match view.evidence.fresh(&Probe::RoundTrip { from, to }, now) {
                Some(Answer::RoundTrip { micros }) => most = most.max(Some(*micros)),
                _ => return None,
            }
        }
    }
    most
}

/// `0.4 ms`
pub fn millis(micros: u64) -> String {
    let tenths = (micros + 50) / 100;
    format!("{}.{} ms", tenths / 10, tenths % 10)
}

fn carriers(estate: &Estate, end: &End) -> Vec<Finding> {
    let site = end.site_name(estate);
    let all: Vec<&Arc<Host>> = end.carriers(estate).collect();
    let out: Vec<String> = all.iter().filter_map(|h| h.out_of_reach()).collect();
    let able = all.iter().filter(|h| h.accepts_work()).count();
    let gone = end.carriers.len() - all.len();
    let mut found = Vec::new();
    if gone > 0 {
        let text = format!("{gone} of the hosts that carried at {site} were handed back.");
        found.push(Finding::mind(Rule::Exists, &site, text));
    }
    let because = out.join("; ");
    found.push(match able {
        0 => {
            let text = format!("No host carries at {site} now: nothing leaves there or arrives.");
            Finding::stop(Rule::HostOpen, &site, text).because(because)
        }
        n if n < LEAST => {
            let text = format!("One host alone carries at {site}: when it is out of service, nothing leaves there or arrives.");
            Finding::mind(Rule::HostOpen, &site, text).because(because)
        }
        n if n < all.len() => {
            let text = format!("{} of the hosts that carry at {site} are out of service.", all.len() - n);
            Finding::mind(Rule::HostOpen, &site, text).because(because)
        }
        n => Finding::clear(Rule::HostOpen, &site, format!("{n} hosts carry at {site}.")),
    });
    found
}

/// What came of trying from one end to the other.
#[derive(Default)]
struct Tried {
    /// From, to, why not.
    failed: Vec<(HostId, HostId, String)>,
    reached: Vec<(HostId, HostId)>,
    slowest: u64,
    untried: usize,
}

fn tried(view: &View, from: &End, to: &End, now: Moment) -> Tried {
    let estate = &view.estate;
    let mut tried = Tried::default();
    for a in from.carriers(estate) {
        for b in to.carriers(estate) {
            let probe = Probe::RoundTrip {
                from: a.id,
                to: b.id,
            };
            match view.evidence.fresh(&probe, now) {
                Some(Answer::RoundTrip { micros }) => {
                    tried.reached.push((a.id, b.id));
                    tried.slowest = tried.slowest.max(*micros);
                }
                Some(Answer::Silent { why } | Answer::Refused { why }) => {
                    tried.failed.push((a.id, b.id, why.clone()));
                }
                _ => tried.untried += 1,
            }
        }
    }
    tried
}

fn reached(view: &View, from: &End, to: &End, now: Moment) -> Finding {
    let estate = &view.estate;
    let (here, there) = (from.site_name(estate), to.site_name(estate));
    let way = format!("{here} to {there}");
    let one_way = tried(view, from, to, now);
    if one_way.untried > 0 && one_way.failed.is_empty() {
        let text = format!("Whether hosts at {here} reach those at {there} was not tried.");
        return Finding::unchecked(Rule::Reachable, way, text);
    }
    if one_way.failed.is_empty() {
        let text = format!(
            "Every host that carries at {here} reaches every one at {there}, in {} at most.",
            millis(one_way.slowest)
        );
        return Finding::clear(Rule::Reachable, way, text);
    }
    let back = tried(view, to, from, now);
    let name = |id: &HostId| {
        estate
            .hosts
            .get(id)
            .map_or_else(|| id.to_string(), |h| h.name.clone())
    };
    let because = one_way
        .failed
        .iter()
        .map(|(a, b, why)| format!("{} to {}: {}", name(a), name(b), why.trim_end_matches('.')));
    let because = because.collect::<Vec<_>>().join("; ");
    // Who never gets out, and who is never reached.
    let out = one_sided(&one_way, |(a, _)| *a);
    let into = one_sided(&one_way, |(_, b)| *b);
    let names = |all: &BTreeSet<HostId>| all.iter().map(name).collect::<Vec<_>>().join(", ");
    let (text, side) = match (one_way.reached.is_empty(), out.is_empty(), into.is_empty()) {
        (true, _, _) if !back.reached.is_empty() => (
            format!(
                "No host at {here} reaches one at {there}, while these reach {here}: {there} lets nothing in, or {here} nothing out."
            ),
            there.clone(),
        ),
        (true, _, _) => (
            format!("No host at {here} reaches one at {there}."),
            way.clone(),
        ),
        (false, _, false) => (
            format!(
                "{} at {there} can't be reached from {here}, though others there can: look at what lets connections in at {there}.",
                names(&into)
            ),
            there.clone(),
        ),
        (false, false, true) => (
            format!(
                "{} at {here} reaches nothing at {there}, though others do: look at what lets connections out at {here}.",
                names(&out)
            ),
            here.clone(),
        ),
        (false, true, true) => (
            format!(
                "{} of {} ways from {here} to {there} are closed.",
                one_way.failed.len(),
                one_way.failed.len() + one_way.reached.len()
            ),
            way.clone(),
        ),
    };
    match one_way.reached.is_empty() {
        true => Finding::stop(Rule::Reachable, side, text).because(because),
        false => Finding::mind(Rule::Reachable, side, text).because(because),
    }
}

/// Those that are in failures alone.
fn one_sided(tried: &Tried, of: impl Fn((&HostId, &HostId)) -> HostId) -> BTreeSet<HostId> {
    let good: BTreeSet<HostId> = tried.reached.iter().map(|(a, b)| of((a, b))).collect();
    let bad = tried.failed.iter().map(|(a, b, _)| of((a, b)));
    bad.filter(|id| !good.contains(id)).collect()
}

/// The network that it is said to go over, at each of its hosts.
fn on_network(estate: &Estate, end: &End) -> Option<Finding> {
    let id = end.network?;
    let site = end.site_name(estate);
    let Some(network) = estate.networks.get(&id) else {
        let text = format!("The network that replication at {site} was to go over is gone.");
        return Some(Finding::mind(Rule::Exists, site, text));
    };
    let bad: Vec<String> = end
        .carriers(estate)
        .map(|h| (h, network.standing(estate, h)))
        .filter(|(_, s)| s.bad())
        .map(|(h, s)| format!("{}: {}", h.name, s.words()))
        .collect();
    let name = &network.name;
    Some(match bad.is_empty() {
        true => Finding::clear(
            Rule::Uplink,
            &site,
            format!("All hosts that carry at {site} have {name}."),
        ),
        false => Finding::mind(
            Rule::Uplink,
            &site,
            format!("Not all hosts that carry at {site} have {name} as it should be."),
        )
        .because(bad.join("; ")),
    })
}

fn frames(estate: &Estate, ends: &[End; 2]) -> Option<Finding> {
    let of = |end: &End| estate.networks.get(&end.network?);
    let (a, b) = (of(&ends[0])?, of(&ends[1])?);
    let [here, there] = [0, 1].map(|n| ends[n].site_name(estate));
    (a.mtu != b.mtu).then(|| {
        let (small, at) = if a.mtu < b.mtu { (a.mtu, here) } else { (b.mtu, there) };
        let text = format!("Networks for replication have {} bytes at one end and {} at the other; {at} takes {small} only.", a.mtu, b.mtu);
        Finding::mind(Rule::Mtu, at, text)
    })
}

fn clocks(view: &View, ends: &[End; 2], now: Moment) -> Finding {
    let all = ends.iter().flat_map(|e| e.carriers(&view.estate));
    let all: Vec<&Arc<Host>> = all.collect();
    let read = all
        .iter()
        .filter_map(|h| match view.evidence.fresh(&Probe::Clock(h.id), now) {
            Some(Answer::Clock { offset_ms }) => Some((*offset_ms, h)),
            _ => None,
        });
    let read: Vec<_> = read.collect();
    let ends = read
        .iter()
        .min_by_key(|(o, _)| *o)
        .zip(read.iter().max_by_key(|(o, _)| *o));
    match ends {
        Some((low, high)) if read.len() == all.len() => {
            let apart = Span(high.0.abs_diff(low.0));
            let text = format!(
                "Clocks of {} and {} are {apart} apart.",
                low.1.name, high.1.name
            );
            match apart > APART {
                true => Finding::mind(Rule::Clock, "clocks", text)
                    .remedy("Points are told by them: let both sites ask the same time source."),
                false => Finding::clear(
                    Rule::Clock,
                    "clocks",
                    format!("Clocks of all of them are less than {APART} apart."),
                ),
            }
        }
        _ => Finding::unchecked(
            Rule::Clock,
            "clocks",
            "How far their clocks are apart was not read of all of them.",
        ),
    }
}

/// Clusters at a site, by name.
fn clusters<'a>(estate: &'a Estate, end: &End) -> Vec<&'a Arc<Cluster>> {
    let site = end.site;
    let mut all: Vec<_> = estate
        .clusters
        .values()
        .filter(|c| c.site == site && c.ready)
        .collect();
    all.sort_by(|a, b| a.name.cmp(&b.name));
    all
}

/// What at the one end has nothing at the other.
fn unmapped(estate: &Estate, from: &End, to: &End) -> Vec<Finding> {
    let (here, there) = (from.site_name(estate), to.site_name(estate));
    let lost: Vec<&str> = clusters(estate, from)
        .into_iter()
        .filter(|c| !to.clusters.contains_key(&c.id))
        .map(|c| c.name.as_str())
        .collect();
    let mut found = Vec::new();
    if !lost.is_empty() {
        let text = format!(
            "Nothing at {there} is said for {} at {here}: its machines are not replicated.",
            lost.join(", ")
        );
        found.push(Finding::mind(Rule::Place, &there, text).at("clusters"));
    }
    let wanted = clusters(estate, from)
        .into_iter()
        .filter(|c| to.clusters.contains_key(&c.id));
    let networks = wanted.flat_map(|c| estate.networks_of(c.id));
    let guest = networks.filter(|n| n.ready && n.role == NetRole::Guest && !n.is_isolated());
    let lost = guest
        .filter(|n| !to.networks.contains_key(&n.id))
        .map(|n| n.name.as_str());
    let mut lost: Vec<&str> = lost.collect();
    lost.sort_unstable();
    if !lost.is_empty() {
        let text = format!(
            "{there} has nothing for {} of {here}: cards on it are on no network there.",
            lost.join(", ")
        );
        found.push(Finding::mind(Rule::Vlan, &there, text).at("networks"));
    }
    found
}

/// Whether what runs at the one end, in clusters that are concerned, can run at the other.
pub(crate) fn parity(
    estate: &Estate,
    from: &End,
    to: &End,
    concerns: impl Fn(ClusterId) -> bool,
) -> Vec<Finding> {
    let (here, there) = (from.site_name(estate), to.site_name(estate));
    let mut found = Vec::new();
    for (own, other) in to.clusters.iter().filter(|(own, _)| concerns(**own)) {
        let Some((own, other)) = estate.clusters.get(own).zip(estate.clusters.get(other)) else {
            continue;
        };
        let mind = |rule, text: String| Finding::mind(rule, &there, text);
        if own.cpu_maker != other.cpu_maker {
            found.push(mind(
                Rule::CpuMaker,
                format!(
                    "Processors of {} at {there} are of another maker than those of {} at {here}.",
                    other.name, own.name
                ),
            ));
        } else if other.cpu_level < own.cpu_level {
            let text = format!(
                "{} at {there} offers less to its guests than {} at {here}: what was started there may not run.",
                other.name, own.name
            );
            found.push(mind(Rule::CpuLevel, text).because(format!(
                "{} and {}",
                other.cpu_level.word(),
                own.cpu_level.word()
            )));
        }
        let versions = |c: &Cluster| -> BTreeSet<(Vec<u32>, String)> {
            estate
                .hosts_in(c.id)
                .map(|h| (numbers(&h.software), h.software.clone()))
                .collect()
        };
        let (newest, oldest) = (versions(own), versions(other));
        if let Some((newest, oldest)) = newest.last().zip(oldest.first()).filter(|(n, o)| n.0 > o.0)
        {
            let text = format!(
                "Hosts of {} at {there} run {}, older than {} on {} at {here}.",
                other.name, oldest.1, newest.1, own.name
            );
            found.push(mind(Rule::Software, text));
        }
    }
    if found.is_empty() && to.clusters.keys().any(|own| concerns(*own)) {
        found.push(Finding::clear(
            Rule::Software,
            &there,
            format!(
                "What runs at {here} finds processors at {there} that offer as much, and software that is not older."
            ),
        ));
    }
    found
}

/// The numbers in a version, for comparing two.
fn numbers(version: &str) -> Vec<u32> {
    let parts = version.split(|c: char| !c.is_ascii_digit());
    parts.filter_map(|p| p.parse().ok()).collect()
}

/// What is wrong with a pair in one sentence; none: nothing is, as far as it was tried.
pub fn trouble(view: &View, pair: &Pair, now: Moment) -> Option<Finding> {
    let found = look(view, pair, now);
    let worst = found.iter().find(|f| f.stops());
    let reach = |f: &&Finding| f.rule == Rule::Reachable && f.severity == Severity::Mind;
    worst.or_else(|| found.iter().find(reach)).cloned()
}

impl Road<'_> {
    /// The carriers at the far end that can take what comes to this volume now, by number.
    pub fn takers(&self, estate: &Estate, volume: crate::ids::VolumeId) -> Vec<HostId> {
        let able = self
            .to
            .carriers(estate)
            .filter(|h| h.accepts_work() && h.paths_up(volume) > 0);
        able.map(|h| h.id).collect()
    }
}
