//! What lies beneath machines and stands otherwise than it was meant: networks, volumes, arrays. One cause, one line.

use super::Need;
use crate::places::networks::fronts::{day, state};
use std::{
    collections::{BTreeMap, BTreeSet},
    sync::Arc,
};
use zastrugi_core::{
    estate::{
        Amiss, Array, ArrayCondition, Cause, Cluster, DiskState, Drift, Estate, Front, Host,
        Machine, MachineState, MemberState, Network, Outage, Outages, SharedDisk, Standing,
        Validity, Volume, Why, WireFault,
    },
    ids::{BalancerId, SiteId},
    moment::Moment,
    shared::{Heals, troubles},
    units::Bytes,
};

/// Networks that stand otherwise on some hosts: what hosts have otherwise, a line for each network; what a switch has
/// otherwise, a line for each cause there.
pub(super) fn networks(estate: &Estate, site: Option<u64>) -> Vec<Need> {
    let here = |c: &&Arc<Cluster>| site.is_none_or(|s| c.site.0 == s);
    let mut all = Vec::new();
    let mut wires: BTreeMap<Wire, Felt> = BTreeMap::new();
    for cluster in estate.clusters.values().filter(here) {
        for network in estate
            .networks_of(cluster.id)
            .into_iter()
            .filter(|n| n.ready)
        {
            let mut drift = Vec::new();
            for host in estate.hosts_in(cluster.id).filter(|h| h.reports()) {
                match network.standing(estate, host) {
                    Standing::Wire(fault) => {
                        let felt = wires.entry(Wire::of(&fault)).or_default();
                        felt.hosts.insert(host.name.clone());
                        felt.networks.insert((network.name.clone(), network.id.0));
                    }
                    standing if standing.bad() => drift.push((host, standing)),
                    _ => {}
                }
            }
            all.extend(drifting(network, &drift));
        }
    }
    all.extend(wires.into_iter().map(|(wire, felt)| felt.line(&wire)));
    all
}

fn drifting(network: &Network, drift: &[(&Arc<Host>, Standing)]) -> Option<Need> {
    let (host, standing) = drift.first()?;
    let text = match drift.len() {
        1 => format!("{} on {}: {}.", network.name, host.name, standing.words()),
        n => format!("{} differs on {n} hosts.", network.name),
    };
    Some(Need {
        glyph: "down",
        text,
        since: None,
        link: format!("/sheet/heal-network?ids={}", network.id.0),
        link_words: "Mend it",
        detail: "drift: not as it was meant to be".into(),
    })
}

/// One thing that is amiss at a switch: a VLAN that it lacks, on whichever ports; or something of one port.
#[derive(PartialEq, Eq, PartialOrd, Ord)]
struct Wire {
    switch: String,
    port: Option<String>,
    what: Amiss,
}

impl Wire {
    fn of(fault: &WireFault) -> Wire {
        let (port, what) = match fault.what {
            Amiss::NoVlan(_) => (None, fault.what),
            // The networks differ in what they need; the port has what it has.
            Amiss::Mtu { has, .. } => (Some(fault.port.clone()), Amiss::Mtu { has, needs: 0 }),
            Amiss::Down => (Some(fault.port.clone()), fault.what),
        };
        let switch = fault.switch.clone();
        Wire { switch, port, what }
    }
}

/// Who feels it.
#[derive(Default)]
struct Felt {
    hosts: BTreeSet<String>,
    networks: BTreeSet<(String, u64)>,
}

impl Felt {
    fn line(self, wire: &Wire) -> Need {
        let switch = &wire.switch;
        let text = match (&wire.port, wire.what) {
            (Some(port), Amiss::Mtu { has, .. }) => {
                format!("{switch} port {port} carries at most {has} bytes: too few.")
            }
            (Some(port), what) => format!("{switch} port {port} {what}."),
            (None, what) => format!(
                "{switch} {what} to {}.",
                count(self.hosts.len(), "host", "hosts")
            ),
        };
        let names: Vec<_> = self
            .networks
            .iter()
            .map(|(name, _)| name.as_str())
            .collect();
        let hosts: Vec<_> = self.hosts.iter().take(4).map(String::as_str).collect();
        let more = if self.hosts.len() > 4 { ", …" } else { "" };
        let first = self.networks.first().map_or(0, |(_, id)| *id);
        Need {
            glyph: "mind",
            text,
            since: None,
            link: format!("/networks/{first}"),
            link_words: "Look at it",
            detail: format!("felt by {} on {}{more}", names.join(", "), hosts.join(", ")),
        }
    }
}

/// What of a site has failed beneath volumes, then what is only drift; and the machines that are halted for other reasons.
pub(super) fn storage(estate: &Estate, outages: &Outages, site: Option<u64>) -> Vec<Need> {
    let at = |s: SiteId| site.is_none_or(|site| s.0 == site);
    let mut all = Vec::new();
    for array in estate.arrays.values().filter(|a| at(a.site)) {
        all.extend(outages.of_array(array.id).map(|o| felt(estate, array, o)));
        all.extend(silent(array, outages));
    }
    all.extend(drift(estate, outages, &at));
    all.extend(copies(estate, &at));
    all.extend(paused(estate, outages, &at));
    all
}

/// Fronts that nobody serves, or not all who should.
pub(super) fn fronts(estate: &Estate, site: Option<u64>) -> Vec<Need> {
    let line = |f: &Arc<Front>| {
        let (glyph, words) = state(estate, f);
        let fails = f
            .seen
            .iter()
            .flatten()
            .filter_map(|(at, s)| match &s.state {
                MemberState::Fails(why) if s.admitted => Some(format!("{at}: {why}")),
                MemberState::Fails(_)
                | MemberState::Serves
                | MemberState::Drains
                | MemberState::Out => None,
            });
        let fails: Vec<String> = fails.take(4).collect();
        let alone = fails.is_empty() && glyph == "mind";
        (matches!(glyph, "down" | "mind" | "unknown") && !alone).then(|| Need {
            glyph: if glyph == "unknown" { "mind" } else { glyph },
            text: format!("Front {}: {words}.", f.name),
            since: None,
            link: format!("/fronts/{}", f.id.0),
            link_words: "Look at it",
            detail: fails.join("; "),
        })
    };
    fronts_at(estate, site).filter_map(line).collect()
}

fn fronts_at(estate: &Estate, site: Option<u64>) -> impl Iterator<Item = &Arc<Front>> {
    let here = move |id: &BalancerId| {
        let balancer = estate.balancers.get(id);
        balancer.is_some_and(|b| site.is_none_or(|s| b.site.0 == s))
    };
    estate.fronts.values().filter(move |f| here(&f.balancer))
}

/// Certificates that fronts show and that clients will soon refuse, or do.
pub(super) fn certificates(estate: &Estate, site: Option<u64>, now: Moment) -> Vec<Need> {
    let line = |f: &Arc<Front>| {
        let shown = &f.certificate.as_ref()?.shown;
        let on = day(shown.until);
        let (glyph, words) = match shown.standing(now) {
            Validity::Good => return None,
            Validity::Ending => ("mind", format!("runs out on {on}")),
            Validity::Over => ("down", format!("ran out on {on}")),
            Validity::Early => ("down", format!("is valid from {} only", day(shown.from))),
        };
        Some(Need {
            glyph,
            text: format!("The certificate of front {} {words}.", f.name),
            since: None,
            link: format!("/sheet/front?ids={}", f.id.0),
            link_words: "Renew it",
            detail: format!("for {}", shown.names.join(", ")),
        })
    };
    fronts_at(estate, site).filter_map(line).collect()
}

/// Volumes of the hosts' own disks that lack copies, and disks that died.
fn copies(estate: &Estate, at: &dyn Fn(SiteId) -> bool) -> Vec<Need> {
    let here = |v: &Volume| {
        v.cluster
            .and_then(|c| estate.clusters.get(&c))
            .is_none_or(|c| at(c.site))
    };
    let lacks = estate.volumes.values().filter(|v| here(v)).filter_map(|v| {
        let pooled = v.pooled.as_deref()?;
        let away: Vec<&str> = pooled
            .members
            .iter()
            .filter(|(_, s)| s.away)
            .filter_map(|(h, _)| Some(estate.hosts.get(h)?.name.as_str()))
            .collect();
        Some(Need {
            glyph: if pooled.health.lost > Bytes::ZERO {
                "down"
            } else {
                "mind"
            },
            text: format!("{}: {}.", v.name, pooled.trouble()?),
            since: None,
            link: format!("/storage/volumes/{}", v.id.0),
            link_words: "Look at it",
            detail: if away.is_empty() {
                "all of its hosts are there".into()
            } else {
                format!("away: {}", away.join(", "))
            },
        })
    });
    let dead = estate
        .hosts
        .values()
        .filter(|h| at(h.site))
        .filter_map(|h| {
            let dead: Vec<&str> = h
                .disks
                .iter()
                .filter(|d| d.state == DiskState::Dead)
                .map(|d| d.name.as_str())
                .collect();
            (!dead.is_empty()).then(|| Need {
                glyph: "mind",
                text: format!(
                    "{} of {} {} dead.",
                    dead.join(", "),
                    h.name,
                    if dead.len() == 1 { "is" } else { "are" }
                ),
                since: None,
                link: format!("/hosts/{}", h.id.0),
                link_words: "Look at it",
                detail: "an empty disk in its place can be lent again".into(),
            })
        });
    lacks.chain(dead).collect()
}

fn count(n: usize, one: &str, many: &str) -> String {
    format!("{n} {}", if n == 1 { one } else { many })
}

/// One cause with what follows from it.
fn felt(estate: &Estate, array: &Array, outage: &Outage) -> Need {
    let volumes = count(outage.volumes.len(), "volume", "volumes");
    let name = &array.name;
    let text = match &outage.cause {
        Cause::Array(_) => format!("{name} is lost: no host reaches it, {volumes} out of reach."),
        Cause::Cut(host, _) => {
            let host = estate.hosts.get(host).map_or("A host", |h| h.name.as_str());
            format!("{host} does not reach {name}: {volumes} out of reach there.")
        }
        Cause::Portal(_, portal) => {
            format!("No host reaches portal {portal} of {name}: fewer paths to {volumes}.")
        }
    };
    let halted = match outage.paused.len() {
        0 => None,
        n => Some(format!(
            "{} until it is back",
            count(n, "machine is halted", "machines are halted")
        )),
    };
    // The words of the device itself, where it has some.
    let words = match &array.condition {
        ArrayCondition::Lost { why, .. } => Some(why.clone()),
        ArrayCondition::Connecting | ArrayCondition::Steady => {
            array.silent().find_map(|c| c.silent.clone())
        }
    };
    let words = words.unwrap_or_else(|| "its management answers".into());
    let detail: Vec<_> = halted.into_iter().chain([words]).collect();
    let down = !matches!(outage.cause, Cause::Portal(..));
    Need {
        glyph: if down { "down" } else { "mind" },
        text,
        since: None,
        link: format!("/storage/arrays/{}", array.id.0),
        link_words: "Look at it",
        detail: detail.join("; "),
    }
}

/// An array whose management is silent while hosts reach its volumes; else that says more.
fn silent(array: &Array, outages: &Outages) -> Option<Need> {
    let lost = outages
        .of_array(array.id)
        .any(|o| matches!(o.cause, Cause::Array(_)));
    let words: Vec<_> = array.silent().filter_map(|c| c.silent.clone()).collect();
    let (glyph, text) = match &array.condition {
        _ if lost => return None,
        ArrayCondition::Lost { .. } => (
            "mind",
            format!(
                "The management of {} does not answer; hosts reach its volumes.",
                array.name
            ),
        ),
        _ if words.is_empty() => return None,
        _ => ("mind", format!("A controller of {} is silent.", array.name)),
    };
    Some(Need {
        glyph,
        text,
        since: None,
        link: format!("/storage/arrays/{}", array.id.0),
        link_words: "Look at it",
        detail: words.join("; "),
    })
}

/// Volumes that some hosts miss for a reason of their own: bringing them back can mend that.
fn drift(estate: &Estate, outages: &Outages, at: &dyn Fn(SiteId) -> bool) -> Vec<Need> {
    let here = |c: &Arc<Cluster>| at(c.site);
    let ready = estate.volumes.values().filter(|v| v.ready);
    let ours = ready.filter(|v| {
        v.cluster
            .and_then(|c| estate.clusters.get(&c))
            .is_none_or(here)
    });
    let line = |v: &Arc<Volume>| {
        let drift = outages.mendable(estate, v);
        let first = drift.first()?;
        let text = match (drift.len(), first.misses()) {
            (1, true) => format!("{} does not mount {}.", first.host.name, v.name),
            (1, false) => format!(
                "{} has {} of {} paths to {}.",
                first.host.name, first.up, first.of, v.name
            ),
            (n, _) => format!("{n} hosts miss paths to {}.", v.name),
        };
        Some(Need {
            glyph: if drift.iter().any(Drift::misses) {
                "down"
            } else {
                "mind"
            },
            text,
            since: None,
            link: format!("/sheet/heal-volume?ids={}", v.id.0),
            link_words: "Bring it back",
            detail: "drift: not as it was meant to be".into(),
        })
    };
    ours.filter_map(line).collect()
}

/// Machines that are halted, a line for each reason that no outage is.
fn paused(estate: &Estate, outages: &Outages, at: &dyn Fn(SiteId) -> bool) -> Vec<Need> {
    let mut by_reason: BTreeMap<&str, Vec<&Arc<Machine>>> = BTreeMap::new();
    for machine in estate.machines_paused() {
        let cluster = machine.cluster.and_then(|c| estate.clusters.get(&c));
        let here = cluster.is_none_or(|c| at(c.site));
        if !here || outages.halts(machine.id) || estate.unknown(machine).is_some() {
            continue;
        }
        if let MachineState::Paused(why) = &machine.state {
            by_reason.entry(why).or_default().push(machine);
        }
    }
    let line = |(why, machines): (&str, Vec<&Arc<Machine>>)| {
        let (text, link) = match machines.as_slice() {
            [one] => (
                format!("{} is halted: {why}.", one.name),
                format!("/machines/{}", one.id.0),
            ),
            all => (
                format!("{} machines are halted: {why}.", all.len()),
                "/machines?state=mind".into(),
            ),
        };
        let names: Vec<_> = machines.iter().take(4).map(|m| m.name.as_str()).collect();
        Need {
            glyph: "down",
            text,
            since: None,
            link,
            link_words: "Look",
            detail: if machines.len() > 1 {
                names.join(", ")
            } else {
                String::new()
            },
        }
    };
    by_reason.into_iter().map(line).collect()
}

/// Disks that several machines have and that stand otherwise at some of them, a line for each disk.
pub(super) fn shared(estate: &Estate, site: Option<u64>) -> Vec<Need> {
    let here = |v: &Volume| {
        let cluster = v.cluster.and_then(|c| estate.clusters.get(&c));
        cluster.is_none_or(|c| site.is_none_or(|s| c.site.0 == s))
    };
    let volumes = estate.volumes.values().filter(|v| here(v));
    let line = |(key, disk): (&uuid::Uuid, &SharedDisk)| {
        let found = troubles(estate, *key, disk);
        let first = found.first()?;
        let who = estate
            .machines
            .get(&first.machine)
            .map_or("one machine", |m| m.name.as_str());
        let more = match found.len() {
            1 => String::new(),
            2 => ", and one thing more".to_owned(),
            n => format!(", and {} things more", n - 1),
        };
        Some(Need {
            glyph: "mind",
            text: format!("Shared disk {}: {who}: {}{more}.", disk.name, first.words),
            since: None,
            link: format!("/storage/shared/{key}"),
            link_words: "Look at it",
            detail: match first.heals {
                Heals::Giving => "can be healed for all of them at once".into(),
                Heals::Moving => "one of them is moved".into(),
                Heals::Guest => "its guest's cluster software is silent".into(),
            },
        })
    };
    volumes
        .flat_map(|v| &v.shared.disks)
        .filter_map(line)
        .collect()
}

/// Records on volumes that no machine is held for, a line for each volume.
pub(super) fn records(estate: &Estate, site: Option<u64>) -> Vec<Need> {
    let here = |v: &Volume| {
        let cluster = v.cluster.and_then(|c| estate.clusters.get(&c));
        cluster.is_none_or(|c| site.is_none_or(|s| c.site.0 == s))
    };
    let line = |volume: &Arc<Volume>| {
        let all: Vec<_> = volume.strays(estate).collect();
        let (_, first, why) = all.first()?;
        let more = volume.strays.more;
        let text = match (all.len() + more, why) {
            (1, Why::Unknown) => format!(
                "On {} lies a record that nobody knows: {}.",
                volume.name, first.name
            ),
            (1, Why::Twice(m)) => format!("On {} lies a second record of {}.", volume.name, m.name),
            (n, _) => format!("On {} lie {n} records that are no machine's.", volume.name),
        };
        Some(Need {
            glyph: "mind",
            text,
            since: None,
            link: format!("/storage/volumes/{}#records", volume.id.0),
            link_words: "Settle",
            detail: String::new(),
        })
    };
    estate
        .volumes
        .values()
        .filter(|v| here(v))
        .filter_map(line)
        .collect()
}
