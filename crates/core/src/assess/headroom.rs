//! The reserve of a cluster, for now the plain bound: the always-kept memory of the fullest host must find room on the
//! others together. It does not look at single machines, so it can promise more than would really fit; it says so.

use crate::{
    estate::Cluster,
    finding::{Finding, Rule},
    placement::{Ledger, Row},
    units::Bytes,
    view::View,
};
use std::collections::BTreeSet;

/// The plain bound for the failure of the fullest host.
#[derive(Debug, Clone, PartialEq)]
pub struct Reserve {
    /// The host that holds most.
    pub fullest: String,
    pub holds: Bytes,
    /// What is free on all the others together.
    pub free_elsewhere: Bytes,
    /// How much each host may hold, reserve included, if all were equally full and one may fail; by installed memory.
    pub line: f64,
}

impl Reserve {
    pub fn holds_up(&self) -> bool {
        self.free_elsewhere >= self.holds
    }
    /// What would be left, or is missing, after the fullest host failed.
    pub fn spare(&self) -> Bytes {
        self.free_elsewhere.less(self.holds)
    }
    pub fn short(&self) -> Bytes {
        self.holds.less(self.free_elsewhere)
    }
}

/// The reserve of the cluster whose hosts are in `ledger`; none for fewer than two hosts that accept work.
pub fn reserve(ledger: &Ledger) -> Option<Reserve> {
    let rows: Vec<&Row> = ledger
        .rows()
        .filter(|row| row.host.accepts_work())
        .collect();
    if rows.len() < 2 {
        return None;
    }
    let fullest = rows
        .iter()
        .max_by_key(|row| (row.held, std::cmp::Reverse(row.host.name.clone())))?;
    let free_elsewhere = rows
        .iter()
        .filter(|r| r.host.id != fullest.host.id)
        .map(|r| r.free())
        .sum();
    let usable: Bytes = rows.iter().map(|r| r.host.usable()).sum();
    let installed: Bytes = rows.iter().map(|r| r.host.hardware.memory).sum();
    let largest = rows.iter().map(|r| r.host.usable()).max()?;
    let reserves = installed.less(usable);
    let line = (usable.less(largest) + reserves).share_of(installed);
    Some(Reserve {
        fullest: fullest.host.name.clone(),
        holds: fullest.held,
        free_elsewhere,
        line,
    })
}

/// Says what a change does to the reserve: *stop* where the cluster enforces it, else *mind*.
pub(super) fn finding(view: &View, cluster: &Cluster, after: &Ledger) -> Option<Finding> {
    if cluster.demand.failures == 0 {
        return None;
    }
    let now = reserve(&Ledger::of(
        view,
        view.estate.hosts_in(cluster.id).cloned(),
        &BTreeSet::new(),
    ));
    let name = &cluster.name;
    let basis =
        "plain bound: the fullest host's always-kept memory against what is free on the others";
    let Some(then) = reserve(after) else {
        let text =
            format!("{name} has fewer than two hosts that answer; it survives no host failure.");
        return Some(Finding::mind(Rule::Headroom, name, text).because(basis));
    };
    let was = now.map_or(String::new(), |r| {
        if r.holds_up() {
            format!(", {} before", r.spare())
        } else {
            String::new()
        }
    });
    if then.holds_up() {
        let text = format!(
            "{name} keeps room for one host failure with {} to spare{was}.",
            then.spare()
        );
        return Some(
            Finding::clear(Rule::Headroom, name, text)
                .because(format!("tightest case: {} fails; {basis}", then.fullest)),
        );
    }
    let text = format!(
        "If {} fails, {} find no room on the other hosts.",
        then.fullest,
        then.short()
    );
    let finding = if cluster.demand.enforced {
        Finding::stop(Rule::Headroom, name, text)
    } else {
        Finding::mind(Rule::Headroom, name, text)
    };
    Some(
        finding
            .because(basis)
            .at("memory")
            .remedy("Make the machines smaller, fewer, or add a host."),
    )
}
