//! Hosts that fail, and machines that nobody but a person can set right.

use super::{Need, joined};
use std::{collections::BTreeMap, sync::Arc};
use zastrugi_core::{
    estate::{Condition, Estate, Failure, FailureStage, Host, Machine},
    ids::HostId,
    view::View,
};

pub(super) fn hosts(estate: &Estate, site: Option<u64>) -> Vec<Need> {
    let here = estate
        .hosts
        .values()
        .filter(|h| site.is_none_or(|s| h.site.0 == s));
    here.filter_map(|host| {
        let name = &host.name;
        // Whoever works on a host that is empty knows that it is silent.
        if host.maintenance.as_ref().is_some_and(|m| m.empty) {
            return None;
        }
        if let Some(failure) = estate.failure_of(host.id) {
            return of_failure(failure);
        }
        let count = estate.machines_on(host.id).filter(|m| !m.is_off()).count();
        let (since, text, detail) = match &host.condition {
            Condition::Lost { since, why } => {
                let text = match count {
                    0 => format!("{name} does not answer"),
                    1 => format!("{name} does not answer; what the machine on it does is unknown"),
                    n => {
                        format!("{name} does not answer; what the {n} machines on it do is unknown")
                    }
                };
                (since, text, why.clone())
            }
            Condition::Hangs { since, why } => (
                since,
                format!("{name} reports, and answers nothing that it is asked"),
                format!("{why}; what runs on it runs on"),
            ),
            Condition::Stranger { since, .. } => (
                since,
                format!("{name} shows another certificate than the pinned one"),
                "No orders go there until you decide.".to_owned(),
            ),
            Condition::ShutOut { since, proof } => (
                since,
                format!("{name} is shut out of its storage"),
                format!("{proof}; switch it off and on, then give its volumes back"),
            ),
            Condition::Off { .. } | Condition::Claiming | Condition::Steady => return None,
        };
        Some(Need {
            glyph: "down",
            text,
            since: Some(*since),
            link: format!("/hosts/{}", host.id.0),
            link_words: "Look at it",
            detail,
        })
    })
    .collect()
}

/// Hosts that were taken out of service and not emptied, while no run is at it.
pub(super) fn half_emptied(view: &View, site: Option<u64>) -> Vec<Need> {
    let estate = &view.estate;
    let here = |h: &&Arc<Host>| site.is_none_or(|s| h.site.0 == s);
    let line = |host: &Arc<Host>| {
        let maintenance = host.maintenance.as_ref().filter(|m| !m.empty)?;
        let left = estate.machines_on(host.id).filter(|m| !m.is_off()).count();
        if left == 0 || view.runs.get(maintenance.run).is_some() {
            return None;
        }
        let machines = if left == 1 {
            "machine is"
        } else {
            "machines are"
        };
        Some(Need {
            glyph: "mind",
            text: format!(
                "{} is in maintenance, and {left} {machines} still on it",
                host.name
            ),
            since: Some(maintenance.since),
            link: format!("/hosts/{}", host.id.0),
            link_words: "Look at it",
            detail: "nothing is put there; what is on it goes on".into(),
        })
    };
    estate
        .hosts
        .values()
        .filter(here)
        .filter_map(line)
        .collect()
}

/// Keepers that should run on a host that is heard, and don't.
pub(super) fn missing_keepers(view: &View, site: Option<u64>) -> Vec<Need> {
    let estate = &view.estate;
    let lines = estate.clusters.values().flat_map(|cluster| {
        let named = cluster.keeping.iter().flat_map(|k| &k.hosts);
        let hosts = named.filter_map(|id| estate.hosts.get(id));
        hosts
            .filter(|h| site.is_none_or(|s| h.site.0 == s))
            .filter(|h| h.accepts_work() && !h.keepers.contains_key(&cluster.id))
            .map(|h| Need {
                glyph: "mind",
                text: format!("The keeper of {} on {} does not run", cluster.name, h.name),
                since: None,
                link: format!("/clusters/{}", cluster.id.0),
                link_words: "Look at it",
                detail: "the others go on; its host starts it again, or place another".into(),
            })
    });
    lines.collect()
}

/// Of a failure that goes its way by itself nobody needs to know; of one that doesn't, why.
fn of_failure(failure: &Failure) -> Option<Need> {
    let name = &failure.name;
    let (glyph, text, detail) = match &failure.stage {
        FailureStage::Waits(why) => (
            "down",
            format!("{name} has failed, and nothing is started elsewhere until you act"),
            why.clone(),
        ),
        FailureStage::CutOff => (
            "mind",
            format!("{name} is cut off"),
            "its agent is not heard, its lease is renewed: its machines go on".to_owned(),
        ),
        FailureStage::Ails
        | FailureStage::Judged(_)
        | FailureStage::Fenced
        | FailureStage::Over => return None,
    };
    Some(Need {
        glyph,
        text,
        since: Some(failure.since),
        link: format!("/logbook/failures/{}", failure.id.0),
        link_words: "Its story",
        detail,
    })
}

/// Whether whoever guards its cluster brings it back, as far as is known.
fn comes_back(estate: &Estate, machine: &Machine, host: HostId) -> bool {
    let guarded = machine
        .cluster
        .and_then(|c| estate.clusters.get(&c))
        .is_some_and(|c| c.recovers);
    let failure = estate
        .failure_of(host)
        .filter(|_| guarded && machine.restarts);
    let row = failure.and_then(|f| f.machines.iter().find(|m| m.machine == machine.id));
    row.is_some_and(|m| m.why.is_empty())
}

/// Machines that went down with their hosts and should be on, a line for each host.
pub(super) fn fallen(estate: &Estate, site: Option<u64>) -> Vec<Need> {
    let mut by_host: BTreeMap<HostId, Vec<&Arc<Machine>>> = BTreeMap::new();
    for machine in estate.machines_fallen() {
        let cluster = machine.cluster.and_then(|c| estate.clusters.get(&c));
        let here = site.is_none_or(|s| cluster.is_some_and(|c| c.site.0 == s));
        let fell = machine.fell.as_ref().filter(|_| here);
        if let Some(fell) = fell.filter(|f| !comes_back(estate, machine, f.host)) {
            by_host.entry(fell.host).or_default().push(machine);
        }
    }
    let line = |(host, machines): (HostId, Vec<&Arc<Machine>>)| {
        let host = estate.hosts.get(&host);
        let host = host.map_or("a host that was given up", |h| h.name.as_str());
        let since = machines
            .iter()
            .filter_map(|m| m.fell.as_ref())
            .map(|f| f.at)
            .min();
        let text = match machines.as_slice() {
            [one] => format!("{}, which was on {host}, is off", one.name),
            all => format!("{} machines of {host} are off", all.len()),
        };
        let names: Vec<_> = machines.iter().take(4).map(|m| m.name.as_str()).collect();
        let more = if machines.len() > 4 { ", …" } else { "" };
        let ids = joined(machines.iter().map(|m| m.id.0));
        Need {
            glyph: "down",
            text,
            since,
            link: format!("/sheet/power?act=on&ids={ids}"),
            link_words: if machines.len() == 1 {
                "Start it"
            } else {
                "Start them"
            },
            detail: format!("they should be on: {}{more}", names.join(", ")),
        }
    };
    by_host.into_iter().map(line).collect()
}

/// Machines that were found under a name that another has: nobody but a person knows which is which.
pub(super) fn renamed(estate: &Estate, site: Option<u64>) -> Option<Need> {
    let here = |m: &&Arc<Machine>| {
        let cluster = m.cluster.and_then(|c| estate.clusters.get(&c));
        site.is_none_or(|s| cluster.is_some_and(|c| c.site.0 == s))
    };
    let mut found = estate.machines_renamed().filter(here);
    let first = found.next()?;
    let was = first.found_as.as_deref().unwrap_or_default();
    let text = match found.count() {
        0 => format!(
            "{} was found under the name {was}, which another machine has.",
            first.name
        ),
        n => format!(
            "{} machines were found under names that others have.",
            n + 1
        ),
    };
    Some(Need {
        glyph: "mind",
        text,
        since: None,
        link: format!("/sheet/edit-machines?ids={}", first.id.0),
        link_words: "Give it a name",
        detail: format!(
            "on its volume it was {was}; here it is called {}",
            first.name
        ),
    })
}
