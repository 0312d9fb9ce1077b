//! What is asked of a device that is known not to answer can't be done: it is a *stop*, whatever room asks it.

use super::{PlannedStep, Work};
use crate::{
    estate::{ArrayCondition, Condition, Host},
    finding::{Finding, Rule},
    runs::Object,
    view::View,
};
use std::collections::BTreeMap;

/// One *stop* for each device that is silent, unless something that was found says so already.
pub(super) fn silent<S: Work>(
    view: &View,
    steps: &[PlannedStep<S>],
    found: &[Finding],
) -> Vec<Finding> {
    let mut asked: BTreeMap<Object, (usize, &str)> = BTreeMap::new();
    for planned in steps {
        if let Some(device) = planned.step.device(&view.estate) {
            asked.entry(device).or_insert((0, &planned.title)).0 += 1;
        }
    }
    let stops = asked.into_iter().filter_map(|(device, (steps, first))| {
        let (name, why, remedy) = unreachable(view, device)?;
        let because = match steps {
            1 => format!("it is asked to: {first}"),
            n => format!("it is asked {n} times, first to: {first}"),
        };
        let stop = Finding::stop(Rule::HostOpen, name, format!("{why}."));
        Some(stop.because(because).remedy(remedy))
    });
    let known = |f: &Finding| {
        let said = found.iter().filter(|known| known.stops());
        said.clone()
            .any(|known| known.subject == f.subject && known.rule == f.rule)
    };
    stops.filter(|f| !known(f)).collect()
}

/// A device that doesn't answer: its name, why, and what can be done.
fn unreachable(view: &View, device: Object) -> Option<(String, String, String)> {
    let estate = &view.estate;
    match device {
        Object::Host(id) => {
            let host = estate.hosts.get(&id)?;
            Some((host.name.clone(), host.out_of_reach()?, remedy(host)))
        }
        Object::Array(id) => {
            let array = estate.arrays.get(&id)?;
            let ArrayCondition::Lost { why, .. } = &array.condition else {
                return None;
            };
            let text = format!(
                "{} does not answer: {}",
                array.name,
                why.trim_end_matches('.')
            );
            let remedy = "Look at its controllers; this can be done once one of them answers.";
            Some((array.name.clone(), text, remedy.to_owned()))
        }
        Object::Balancer(id) => {
            let balancer = estate.balancers.get(&id).filter(|b| b.known)?;
            let why = balancer.access.silent.as_ref()?;
            let text = format!(
                "{} does not answer: {}",
                balancer.name,
                why.trim_end_matches('.')
            );
            let remedy = "Look at its management address; what it balances goes on meanwhile.";
            Some((balancer.name.clone(), text, remedy.to_owned()))
        }
        Object::Controller(_)
        | Object::Template(_)
        | Object::FirstBoot(_)
        | Object::SparePool(_)
        | Object::Schedule(_)
        | Object::Pledge(_)
        | Object::Store(_)
        | Object::Job(_)
        | Object::Pair(_)
        | Object::Plan(_)
        | Object::Cluster(_)
        | Object::Machine(_)
        | Object::Volume(_)
        | Object::Network(_)
        | Object::Switch(_)
        | Object::Front(_)
        | Object::Image(_) => None,
    }
}

/// What can be done about a host that can't be told anything.
pub(super) fn remedy(host: &Host) -> String {
    let name = &host.name;
    match (&host.condition, &host.bmc) {
        (Condition::Off { .. }, _) => {
            format!("Switch {name} on first, or start its machines on other hosts.")
        }
        (Condition::ShutOut { .. }, _) => {
            format!(
                "Its machines can be started on other hosts. Switch {name} off and on by its controller or by hand, and give its volumes back."
            )
        }
        (Condition::Hangs { .. }, _) => format!(
            "Its machines run on. Restart the agent of {name} on its console; if that does not help, stop its machines from inside and restart it."
        ),
        (_, Some(_)) => format!(
            "Switch {name} off by its controller (its page, Power); once it is proved off, its machines can be started on other hosts."
        ),
        (_, None) => format!(
            "{name} has no controller. Switch it off by hand and declare it off (its page, Power); then its machines can be started on other hosts."
        ),
    }
}
