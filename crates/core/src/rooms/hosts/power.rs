//! A host's power by its controller, and its death on a person's word.

use super::{Draft, Event, HostPower, Step};
use crate::{
    estate::{Condition, FailureStage, Host, Machine},
    evidence::{Answer, Probe},
    finding::{Finding, Rule},
    ids::HostId,
    moment::Span,
    pooled,
    text::Line,
};
use std::sync::Arc;

/// How long a host may take from its power to its agent.
pub(super) const COMES_UP: Span = Span::mins(15);

pub(crate) fn power(draft: &mut Draft<'_>, host: HostId, act: HostPower) {
    "Power of a host".clone_into(&mut draft.title);
    let Some(host) = draft.host(host).cloned() else {
        return;
    };
    let name = &host.name;
    draft.title = match act {
        HostPower::Off => format!("Switch {name} off"),
        HostPower::On => format!("Switch {name} on"),
        HostPower::Restart => format!("Switch {name} off and on again"),
    };
    let Some(power) = controller(draft, &host) else {
        return;
    };
    if act == HostPower::On {
        if power == "On" {
            let text = format!("The controller of {name} says that it is on already.");
            draft.found(Finding::stop(Rule::State, name, text).at("act"));
        }
        return come_up(draft, &host, &[]);
    }
    goes_down(draft, &host, &power);
    if host.reports() {
        draft.found_all(pooled::risks(draft.estate(), &[host.id].into(), "act"));
    }
    let title = format!("Switch {name} off and prove it");
    let off = draft.step(Step::PowerOff { host: host.id }, title, &[], Some("act"));
    if act == HostPower::Restart {
        come_up(draft, &host, &[off]);
    }
}

fn come_up(draft: &mut Draft<'_>, host: &Host, after: &[usize]) {
    let (id, name) = (host.id, &host.name);
    let open = draft.estate().failure_of(id);
    if open.is_some_and(|f| matches!(f.stage, FailureStage::Judged(_))) {
        let text = format!("{name} is being proved off; switched on in the middle of that, it could run what is started elsewhere.");
        let stop = Finding::stop(Rule::State, name, text).at("act");
        draft.found(stop.remedy("Wait until it is proved; its story says when."));
    }
    let on = draft.step(Step::PowerOn { host: id }, format!("Switch {name} on"), after, Some("act"));
    let wait = Step::AwaitAgent {
        host: id,
        limit: COMES_UP,
    };
    draft.step(wait, format!("Wait until {name} answers"), &[on], None);
}

/// The power state that the host's controller says; a *stop* where it can't be had.
pub(super) fn controller(draft: &mut Draft<'_>, host: &Host) -> Option<String> {
    let name = &host.name;
    let by_hand = format!("Switch {name} off by hand, then declare it off here.");
    if host.bmc.as_ref().is_none_or(|b| b.key.is_none()) {
        let text = format!("{name} has no controller that Zastrugi knows.");
        draft.found(Finding::stop(Rule::Bmc, name, text).at("act").remedy(by_hand));
        return None;
    }
    let answer = draft.view.evidence.fresh(&Probe::Bmc(host.id), draft.now);
    match answer {
        Some(Answer::Bmc { serial, .. }) if *serial != host.hardware.serial => {
            let text = format!("The controller at the address of {name}'s is another host's.");
            let because = format!("it shows the serial {serial}; {name} has {}", host.hardware.serial);
            let stop = Finding::stop(Rule::Identity, name, text).because(because).at("act");
            draft.found(stop.remedy("Nothing is switched by it. Look at the cabling and the address of the controller."));
            None
        }
        Some(Answer::Bmc { power, .. }) => {
            let text = format!("The controller of {name} answers and says that the host is {}.", power.to_lowercase());
            draft.found(Finding::clear(Rule::Bmc, name, text));
            Some(power.clone())
        }
        Some(Answer::Silent { why }) => {
            let text = format!("The controller of {name} does not answer: {why}.");
            draft.found(Finding::stop(Rule::Bmc, name, text).at("act").remedy(by_hand));
            None
        }
        _ => {
            let text = format!("The controller of {name} was not asked lately.");
            let stop = Finding::stop(Rule::Bmc, name, text).at("act");
            draft.found(stop.remedy("Open this sheet again; it asks."));
            None
        }
    }
}

/// What is lost by it.
fn goes_down(draft: &mut Draft<'_>, host: &Host, power: &str) {
    let name = &host.name;
    let on: Vec<Arc<Machine>> = on(draft, host);
    let names: Vec<&str> = on.iter().map(|m| m.name.as_str()).collect();
    match (on.len(), host.accepts_work()) {
        (0, true) => {
            let text = format!("No machine is on {name}. It answers, and is down until somebody switches it on.");
            draft.found(Finding::mind(Rule::State, name, text));
        }
        (0, false) => {
            let text = format!("As far as is known, no machine is on {name}.");
            draft.found(Finding::clear(Rule::State, name, text));
        }
        (n, true) => {
            let text = format!("{name} answers, and {n} machines are on it.");
            let stop = Finding::stop(Rule::State, name, text).because(names.join(", "));
            draft.found(stop.at("act").remedy("Move them away, or stop them, first."));
        }
        (n, false) if power == "Off" => {
            let text = format!("{n} machines were on {name}; with the proof they are known to be off and can be started elsewhere.");
            draft.found(Finding::mind(Rule::State, name, text).because(names.join(", ")));
        }
        (n, false) => {
            let text = format!("{n} machines may still run on {name}: it has power. They are cut off, and can be started elsewhere then.");
            draft.found(Finding::mind(Rule::State, name, text).because(names.join(", ")));
            on.iter().for_each(|m| draft.interrupts(m));
        }
    }
}

fn on(draft: &Draft<'_>, host: &Host) -> Vec<Arc<Machine>> {
    let all = draft.estate().machines_on(host.id);
    all.filter(|m| !m.is_off()).cloned().collect()
}

pub(super) fn declare(draft: &mut Draft<'_>, host: HostId, typed: &Line) {
    "Declare a host off".clone_into(&mut draft.title);
    let Some(host) = draft.host(host).cloned() else {
        return;
    };
    let name = &host.name;
    draft.title = format!("Declare {name} off");
    if host.silent_since().is_none() {
        let words = match host.condition {
            Condition::Off { .. } => "is off already",
            Condition::ShutOut { .. } => "is shut out of its storage already: its machines can be started elsewhere",
            Condition::Hangs { .. } => "reports: it is not off",
            Condition::Claiming | Condition::Steady | Condition::Lost { .. } | Condition::Stranger { .. } => "answers: it is not off",
        };
        let text = format!("{name} {words}.");
        return draft.found(Finding::stop(Rule::State, name, text).at("act"));
    }
    if let Some(Answer::Bmc { power, serial }) = draft.view.evidence.fresh(&Probe::Bmc(host.id), draft.now)
        && *serial == host.hardware.serial
        && power != "Off"
    {
        let text = format!("The controller of {name} answers and says that the host is {}.", power.to_lowercase());
        let stop = Finding::stop(Rule::Bmc, name, text).at("act");
        draft.found(stop.remedy("Switch it off by the controller instead: that is proof, and needs nobody's word."));
    }
    let n = on(draft, &host).len();
    let text = format!(
        "You vouch that {name} is off. If it is not, two hosts may write to the same disks of {n} machines, and destroy them."
    );
    draft.found(Finding::mind(Rule::State, name, text).because("nothing has proved it"));
    if typed.as_str() != name {
        let text = format!("Type {name} to confirm.");
        draft.found(Finding::stop(Rule::Protected, name, text).at("typed"));
    }
    draft.intend(Event::Off {
        host: host.id,
        at: draft.now,
        proof: "a person declared so".into(),
    });
}
