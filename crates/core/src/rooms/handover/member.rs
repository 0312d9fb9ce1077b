//! Who goes over, with what of it is there, and everything that would keep it from arriving: found before the first machine is stopped.

use super::Draft;
use crate::{
    crossing::{Bound, Crossing, listed},
    estate::{Job, Machine, RecoveryPlan, Road, Way},
    finding::{Finding, Rule},
    ids::MachineId,
    layers::DEEPEST,
    runs::Object,
    rooms::{
        replicating::{self, Free, Once},
        snapshots::{self, Quiet, Take},
    },
};
use std::{collections::BTreeMap, sync::Arc};

/// A machine that goes over.
pub(super) struct Goes {
    pub stage: usize,
    pub machine: Arc<Machine>,
    pub replica: Arc<Machine>,
    pub job: Arc<Job>,
    pub once: Once,
    /// What its body at this side is called then.
    pub behind: String,
}

impl Goes {
    pub(super) fn was_on(&self) -> bool {
        !self.machine.is_off()
    }
}

/// What is so of several machines is said once.
#[derive(Default)]
struct Said<'a> {
    ours: Vec<&'a str>,
    jobless: Vec<&'a str>,
    busy: Vec<&'a str>,
    deep: Vec<&'a str>,
    disks: Vec<&'a str>,
    snapshots: Vec<&'a str>,
    off: Vec<&'a str>,
}

pub(super) fn all(draft: &mut Draft<'_>, plan: &RecoveryPlan, crossing: &Crossing, road: Road<'_>) -> Vec<Goes> {
    let mut free = Free::new();
    let mut said = Said::default();
    let mut all = Vec::new();
    let mut names: Vec<String> = Vec::new();
    let marked = unable(draft, crossing);
    for (n, ahead) in crossing.stages.iter().enumerate() {
        for bound in &ahead.machines {
            if let Some(why) = marked.get(&bound.machine.id) {
                draft.found(Finding::stop(Rule::State, &bound.machine.name, why.clone()));
                continue;
            }
            let Some((replica, job)) = held(draft, plan.way, bound, &mut said) else { continue };
            let once = {
                let mut part = draft.beside::<replicating::Step>(draft.view);
                let once = Once::of(&mut part, (&job, road), &bound.machine, &mut free);
                draft.found_all(part.findings().iter().filter(|f| f.stops()).cloned().collect::<Vec<_>>());
                once
            };
            match once {
                Ok(once) => {
                    let behind = behind(draft, &bound.machine, road, &names);
                    names.push(behind.clone());
                    all.push(Goes { stage: n, machine: bound.machine.clone(), replica, job, once, behind });
                }
                Err(why) => {
                    let name = &bound.machine.name;
                    draft.found(Finding::stop(Rule::Place, name, format!("{name} can't be brought up to date. {why}")));
                }
            }
        }
    }
    said.told(draft, road);
    all
}

/// Those of whom no state can be held fast now, with the reason.
fn unable(draft: &Draft<'_>, crossing: &Crossing) -> BTreeMap<MachineId, String> {
    let take = Take {
        machines: crossing.machines().map(|b| b.machine.id).collect(),
        name: "mark".into(),
        note: Default::default(),
        quiet: Quiet::IfPossible,
        memory: false,
        together: false,
        ends: None,
    };
    match take.machines.is_empty() {
        true => BTreeMap::new(),
        false => snapshots::able(draft, &take),
    }
}

/// What is there of it, and the job that brings it there.
fn held<'a>(draft: &Draft<'_>, way: Way, bound: &'a Bound, said: &mut Said<'a>) -> Option<(Arc<Machine>, Arc<Job>)> {
    let (machine, name) = (&bound.machine, bound.machine.name.as_str());
    let replica = bound.replica.clone()?;
    if machine.carries {
        said.ours.push(name);
        return None;
    }
    let by = draft.estate().replicated_by(machine, way.pair).filter(|(_, goes)| *goes == way);
    let Some((job, _)) = by else {
        said.jobless.push(name);
        return None;
    };
    let job = job.clone();
    if draft.view.runs.will_change(Object::Machine(replica.id)) {
        said.busy.push(name);
        return None;
    }
    // One before it stops, one after: found now, not when it is off.
    let marks = if machine.is_off() { 1 } else { 2 };
    if [machine, &replica].into_iter().any(|m| m.snapshots.depth() + marks >= DEEPEST) {
        said.deep.push(name);
        return None;
    }
    if replica.replica.as_ref().is_some_and(|r| machine.stays_behind(r).next().is_some()) {
        said.disks.push(name);
    }
    // What jobs hold fast for an hour is nobody's.
    if machine.snapshots.all.iter().any(|s| s.ends.is_none() && machine.kept_points().all(|p| p.session != s.uuid)) {
        said.snapshots.push(name);
    }
    if machine.is_off() {
        said.off.push(name);
    }
    Some((replica, job))
}

impl Said<'_> {
    fn told(self, draft: &mut Draft<'_>, road: Road<'_>) {
        let (from, to) = (road.from.site_name(draft.estate()), road.to.site_name(draft.estate()));
        let (stop, mind) = (true, false);
        let mut said = |names: &[&str], stops: bool, rule: Rule, text: String, remedy: &str| {
            if let Some(first) = names.first() {
                let text = format!("{}: {text}", listed(names));
                let found = if stops { Finding::stop(rule, *first, text) } else { Finding::mind(rule, *first, text) };
                draft.found(found.remedy(remedy));
            }
        };
        said(&self.ours, stop, Rule::Keepers, "this manager runs in it and can't carry itself over.".into(), "Take it out of the plan.");
        let text = format!("no job replicates it to {to}; nobody would bring back what it writes there.");
        said(&self.jobless, stop, Rule::Content, text, "Let a job of the pair be about it.");
        let text = format!("another run writes what {to} has of it now.");
        said(&self.busy, stop, Rule::Held, text, "Wait until that is over.");
        let text = format!("so many snapshots of it, or points at {to}, lie on each other that those which a move needs would not fit: no more than {DEEPEST} layers do.");
        said(&self.deep, stop, Rule::Disk, text, "Let its job keep fewer points and run once, or delete snapshots that nobody needs.");
        let text = format!("disks of which nothing is promised stay at {from}; it goes on without them.");
        said(&self.disks, mind, Rule::Disk, text, "Let its job copy all of its disks, if they are needed there.");
        let text = format!("snapshots that somebody took stay with what is left of it at {from}.");
        said(&self.snapshots, mind, Rule::Content, text, "Delete them first, if nobody needs them.");
        said(&self.off, mind, Rule::State, "off now; it goes over, and stays off.".into(), "Power it on first, if it shall be on there.");
    }
}

/// `ledger-quayside`, or with a number that is not taken.
pub(super) fn behind(draft: &Draft<'_>, machine: &Machine, road: Road<'_>, taken: &[String]) -> String {
    let estate = draft.estate();
    let free = |name: &String| estate.machine_named(name).is_none() && !taken.contains(name);
    replicating::names(machine, &road.from.site_name(estate)).find(free).unwrap_or_default()
}
