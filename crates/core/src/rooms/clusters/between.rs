//! How far apart the two sites of one cluster are: measured from host to host.

use super::Draft;
use crate::{
    estate::Host,
    evidence::{Answer, Probe},
    finding::{Finding, Rule},
    ids::HostId,
};
use std::{collections::BTreeMap, sync::Arc};

/// The longest round trip that storage on both sites bears (rules, section 29), in microseconds.
const LONGEST: u64 = 5_000;

/// The first host by name of each of two sites, in the order of their names; none where there are not two sites.
pub fn ends(hosts: &[Arc<Host>]) -> Option<[Arc<Host>; 2]> {
    let mut first: BTreeMap<_, &Arc<Host>> = BTreeMap::new();
    for host in hosts {
        let held = first.entry(host.site).or_insert(host);
        if host.name < held.name {
            *held = host;
        }
    }
    let mut ends: Vec<Arc<Host>> = first.into_values().cloned().collect();
    ends.sort_by(|a, b| a.name.cmp(&b.name));
    ends.try_into().ok()
}

/// What is asked to know it.
pub fn probe([from, to]: &[Arc<Host>; 2]) -> (HostId, HostId) {
    (from.id, to.id)
}

pub(super) fn check(draft: &mut Draft<'_>, hosts: &[Arc<Host>]) {
    let Some(ends) = ends(hosts) else { return };
    let (from, to) = probe(&ends);
    let [a, b] = [&ends[0].name, &ends[1].name];
    let finding = match draft.view.evidence.fresh(&Probe::RoundTrip { from, to }, draft.now) {
        Some(Answer::RoundTrip { micros }) => {
            let text = format!("A round trip from {a} to {b} takes {}.", words(*micros));
            let most = format!("storage on both sites bears {}", words(LONGEST));
            match *micros > LONGEST {
                true => Finding::stop(Rule::Reachable, "sites", text).at("hosts").because(most).remedy("Choose hosts that are nearer to each other, or make a cluster of one site."),
                false => Finding::clear(Rule::Reachable, "sites", text).because(most),
            }
        }
        Some(Answer::Silent { why }) => Finding::unchecked(Rule::Reachable, "sites", format!("How long a round trip from {a} to {b} takes can't be measured: {why}.")),
        _ => Finding::unchecked(Rule::Reachable, "sites", format!("How long a round trip from {a} to {b} takes was not measured; {} is the most that storage on both bears.", words(LONGEST))),
    };
    draft.found(finding);
}

/// What is said of a round trip between two sites, and whether storage on both bears it.
///
/// # Errors
/// Words where it is too long.
pub fn bears(micros: u64) -> Result<String, String> {
    let said = words(micros);
    match micros > LONGEST {
        true => Err(format!("takes {said}; storage on both sites bears {}", words(LONGEST))),
        false => Ok(said),
    }
}

/// `0.4 ms`, `12 ms`
fn words(micros: u64) -> String {
    match micros {
        0..9_950 => format!("{}.{} ms", (micros + 50) / 1000, (micros + 50) % 1000 / 100),
        _ => format!("{} ms", (micros + 500) / 1000),
    }
}

#[cfg(test)]
mod tests {
    #[test]
    fn a_round_trip_is_told_as_precisely_as_it_matters() {
        let all = [(0, "0.0 ms"), (449, "0.4 ms"), (5_000, "5.0 ms"), (9_949, "9.9 ms"), (9_950, "10 ms"), (12_499, "12 ms")];
        for (micros, said) in all {
            assert_eq!(super::words(micros), said);
        }
    }
}
