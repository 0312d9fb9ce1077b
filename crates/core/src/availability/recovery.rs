//! How long a recovery takes: detection, fencing, and boots in order (rules, section 4).

use super::{
    fail::{Effort, fail},
    table::Table,
};
use crate::{ids::HostId, moment::Span};
use std::collections::BTreeMap;

/// An agent that is silent for so long is lost.
const DETECTION: Span = Span::secs(15);
/// From power-on until the guest answers, where nobody measured it.
pub const BOOT: Span = Span::secs(60);
/// Boots at once on a host.
const AT_ONCE: usize = 4;

/// List scheduling: tier by tier, four boots at once on each host; a machine that waits for another boots after it.
/// The slowest proof among the hosts that fail counts; where one takes a person, nobody knows when, and it counts as none.
pub(super) fn time(table: &Table, failed: &[usize], restarted: &[(usize, usize)]) -> Span {
    if restarted.is_empty() {
        return Span(0);
    }
    let mut order: Vec<_> = restarted.to_vec();
    order.sort_by_key(|(m, _)| {
        (
            table.machines[*m].tier,
            std::cmp::Reverse(table.machines[*m].kept),
            *m,
        )
    });
    let mut lanes: BTreeMap<usize, Vec<Span>> = BTreeMap::new();
    let mut up: BTreeMap<usize, Span> = BTreeMap::new();
    let (mut tier_began, mut tier) = (Span(0), 0);
    let mut end = Span(0);
    // Who waits for a machine of the same tier comes behind it.
    order.sort_by_key(|(m, _)| (table.machines[*m].tier, depth(table, *m)));
    for (machine, host) in order {
        let m = &table.machines[machine];
        if m.tier != tier {
            (tier_began, tier) = (end, m.tier);
        }
        let lanes = lanes.entry(host).or_insert_with(|| vec![Span(0); AT_ONCE]);
        let Some(lane) = lanes.iter_mut().min() else {
            continue;
        };
        let waits = m
            .after
            .and_then(|a| up.get(&a))
            .copied()
            .unwrap_or_default();
        let begins = (*lane).max(tier_began).max(waits);
        *lane = begins.plus(table.boot.unwrap_or(BOOT));
        up.insert(machine, *lane);
        end = end.max(*lane);
    }
    let fencing = failed.iter().filter_map(|h| table.hosts[*h].fencing).max();
    DETECTION.plus(fencing.unwrap_or_default()).plus(end)
}

/// From a host's failure until the last of its machines that restart answers, as the failure matrix has it.
pub fn foretold(table: &Table, host: HostId) -> Option<Span> {
    let at = table.hosts.iter().position(|h| h.id == Some(host))?;
    let failure = fail(table, &[at], Effort::QUICK);
    Some(time(table, &[at], &failure.restarted))
}

/// How many machines it waits for, one after the other.
fn depth(table: &Table, machine: usize) -> usize {
    let mut depth = 0;
    let mut at = machine;
    while let Some(next) = table.machines[at].after {
        depth += 1;
        at = next;
        if depth > table.machines.len() {
            break;
        }
    }
    depth
}
