//! The machines of a plan, each with what is of it at the other site.

use super::{PROOFS, listed};
use crate::{
    estate::{AnyPoint, Machine, RecoveryPlan, Road},
    finding::{Finding, Rule},
    ids::HostId,
    moment::{Moment, Span},
    pledges::{Promise, Sort, Standing},
    view::View,
};
use std::sync::Arc;

/// A machine that is bound for the other site.
#[derive(Debug, Clone, PartialEq)]
pub struct Bound {
    pub machine: Arc<Machine>,
    /// What is of it there.
    pub replica: Option<Arc<Machine>>,
    /// The newest point of that, and of which instant it is.
    pub point: Option<(AnyPoint, Moment)>,
    /// Where there would be room for it.
    pub host: Option<HostId>,
    /// From its power-on until it answers, and whether that was measured of it.
    pub boots: Span,
    pub measured: bool,
    /// Whether a copy of it came up well, and when that was last tried.
    pub proven: Option<(bool, Moment)>,
}

/// What is so of several machines is said once.
#[derive(Default)]
struct Said<'a> {
    elsewhere: Vec<&'a str>,
    shared: Vec<&'a str>,
    without: Vec<&'a str>,
    empty: Vec<&'a str>,
    late: Vec<&'a str>,
    unproven: Vec<&'a str>,
    failed: Vec<&'a str>,
}

pub(super) fn all(
    view: &View,
    plan: &RecoveryPlan,
    road: Road<'_>,
    now: Moment,
    found: &mut Vec<Finding>,
) -> Vec<Vec<Bound>> {
    let estate = &view.estate;
    let members = estate.in_plan(plan);
    let mut said = Said::default();
    let gone = plan.stages.iter().flat_map(|s| &s.named);
    let gone = gone
        .filter(|id| estate.machines.get(*id).is_none_or(|m| m.deleted.is_some()))
        .count();
    if gone > 0 {
        let text = format!("{gone} machines that are named in it are gone or deleted.");
        found.push(
            Finding::stop(Rule::Exists, &plan.name, text)
                .remedy("Take them out of the plan, or bring them back."),
        );
    }
    if members.iter().all(Vec::is_empty) {
        found.push(
            Finding::stop(Rule::Nothing, &plan.name, "Nobody is in it now.")
                .remedy("Name machines, or labels that machines have."),
        );
    }
    for (stage, own) in plan.stages.iter().zip(&members) {
        if own.is_empty() && !members.iter().all(Vec::is_empty) {
            found.push(Finding::mind(
                Rule::Nothing,
                &stage.name,
                format!("Nobody is in stage {} now.", stage.name),
            ));
        }
    }
    let stages = members.into_iter().map(|own| {
        own.into_iter()
            .map(|m| bound(view, m, road, now, &mut said))
            .collect()
    });
    let stages: Vec<Vec<Bound>> = stages.collect();
    found.extend(said.findings(road, view));
    found.extend(age(&stages, road, view, now));
    stages
}

fn bound<'a>(
    view: &View,
    machine: &'a Arc<Machine>,
    road: Road<'_>,
    now: Moment,
    said: &mut Said<'a>,
) -> Bound {
    let estate = &view.estate;
    let name = machine.name.as_str();
    let replica = estate.replica_over(road.pair.id, machine.uuid).cloned();
    let point = replica.as_ref().and_then(|r| {
        let newest = r.replicated().next_back()?;
        let at = AnyPoint::Replicated {
            replica: r.id,
            session: newest.session,
        };
        Some((at, newest.taken))
    });
    let proofs = replica
        .iter()
        .flat_map(|r| r.replicated())
        .filter_map(|p| p.proof.as_ref());
    let proven = proofs.max_by_key(|p| p.at).map(|p| (p.is_good(), p.at));
    if estate.site_of(machine) != Some(road.from.site) {
        said.elsewhere.push(name);
    } else if machine.is_node() {
        said.shared.push(name);
    } else if replica.is_none() {
        said.without.push(name);
    } else if point.is_none() {
        said.empty.push(name);
    } else {
        match proven {
            None => said.unproven.push(name),
            Some((false, _)) => said.failed.push(name),
            Some((true, _)) => {}
        }
    }
    let promise = Promise::of(estate, machine, now);
    let late = promise.as_ref().and_then(|p| p.of_sort(Sort::Remote));
    if late.is_some_and(|j| j.standing == Standing::Broken) {
        said.late.push(name);
    }
    let (boots, measured) = super::boots(view, replica.as_deref());
    Bound {
        machine: machine.clone(),
        replica,
        point,
        host: None,
        boots,
        measured,
        proven,
    }
}

/// `is` or `are`, and so on.
fn by_count(names: &[&str], one: &str, many: &str) -> String {
    let word = if names.len() == 1 { one } else { many };
    format!("{} {word}", listed(names))
}

impl Said<'_> {
    fn findings(&self, road: Road<'_>, view: &View) -> Vec<Finding> {
        let site = road.to.site_name(&view.estate);
        let (from, pair) = (road.from.site_name(&view.estate), &road.pair.name);
        let mut found = Vec::new();
        let mut add = |names: &[&str],
                       (subject, rule): (&str, Rule),
                       stops: bool,
                       text: String,
                       remedy: &str| {
            if names.is_empty() {
                return;
            }
            let made = if stops { Finding::stop } else { Finding::mind };
            found.push(made(rule, subject, text).remedy(remedy));
        };
        let said = by_count(&self.elsewhere, "is not", "are not");
        add(
            &self.elsewhere,
            ("places", Rule::Place),
            true,
            format!("{said} at {from}, from where this plan brings machines."),
            "Take them out of the plan, or move them back.",
        );
        let said = by_count(
            &self.shared,
            "shares disks with another machine",
            "share disks with other machines",
        );
        add(
            &self.shared,
            ("disks", Rule::Disk),
            true,
            format!("{said}: no copy of them is made."),
            "Take them out of the plan; what they hold must be replicated by what runs in them.",
        );
        let said = by_count(&self.without, "has", "have");
        add(
            &self.without,
            ("replicas", Rule::Content),
            true,
            format!("{said} no replica at {site}."),
            &format!("Let a job replicate them over {pair}, and wait for its first run."),
        );
        let said = by_count(&self.empty, "has a replica, but", "have replicas, but");
        add(
            &self.empty,
            ("replicas", Rule::Content),
            true,
            format!("{said} nothing was brought over yet."),
            "Wait until the first copy is over.",
        );
        let said = by_count(
            &self.late,
            "is copied later than is",
            "are copied later than is",
        );
        add(
            &self.late,
            ("points", Rule::Content),
            false,
            format!("{said} promised."),
            "Look at the job that replicates them, and at the line.",
        );
        let said = by_count(&self.failed, "did not come up well", "did not come up well");
        add(
            &self.failed,
            (PROOFS, Rule::Guest),
            false,
            format!("{said} when a copy of what is at {site} was last booted."),
            "Look at the proof of its point; mend the machine, and prove it again.",
        );
        let said = by_count(&self.unproven, "was", "were");
        add(
            &self.unproven,
            (PROOFS, Rule::Guest),
            false,
            format!("{said} never proven: nobody knows whether what is at {site} comes up."),
            "Drill the plan.",
        );
        found
    }
}

/// What would be lost now.
fn age(stages: &[Vec<Bound>], road: Road<'_>, view: &View, now: Moment) -> Option<Finding> {
    let all = stages.iter().flatten();
    let (oldest, name) = all
        .filter_map(|b| Some((b.point.as_ref()?.1, &b.machine.name)))
        .min()?;
    let site = road.to.site_name(&view.estate);
    let text = format!(
        "What {site} has is {} old at most: so much would be lost if {} were gone now.",
        now.since(oldest),
        road.from.site_name(&view.estate)
    );
    Some(
        Finding::clear(Rule::Content, "points", text).because(format!(
            "oldest of the newest: {name} as of {} UTC",
            oldest.stamp()
        )),
    )
}
