//! Whether a host can be fenced, tried: its controller is told to switch it off, what it says is read twice, and it comes up
//! again. Only on a host that runs nothing, or one that is off.

use super::{
    Draft, Step,
    power::{COMES_UP, controller},
};
use crate::{
    estate::{Condition, Host},
    finding::{Finding, Offer, Rule},
    ids::HostId,
};
use std::sync::Arc;

pub(super) fn fencing(draft: &mut Draft<'_>, hosts: &[HostId]) {
    "Test fencing".clone_into(&mut draft.title);
    if hosts.is_empty() {
        let text = "No host is selected.";
        return draft.found(Finding::stop(Rule::Nothing, "hosts", text).at("hosts"));
    }
    let chosen = draft.chosen(hosts).into_iter();
    let named: Vec<Arc<Host>> = chosen.filter_map(|id| draft.host(id)).cloned().collect();
    draft.title = match named.as_slice() {
        [one] => format!("Test the fencing of {}", one.name),
        many => format!("Test the fencing of {} hosts", many.len()),
    };
    // One after the other: while one is down, the others have room for what fails meanwhile.
    let mut last: Vec<usize> = Vec::new();
    for host in &named {
        if runs_nothing(draft, host) && controller(draft, host).is_some() {
            last = vec![one(draft, host, &last)];
        }
    }
}

/// The steps of one host that is new and runs nothing, whatever is known of its controller yet.
pub fn proves(draft: &mut Draft<'_>, host: &Host) {
    one(draft, host, &[]);
}

fn one(draft: &mut Draft<'_>, host: &Host, after: &[usize]) -> usize {
    let (id, name) = (host.id, &host.name);
    let test = Step::TestOff {
        host: id,
        at: draft.now,
    };
    if matches!(host.condition, Condition::Off { .. }) {
        let text = format!("{name} is off and stays so: it is read twice whether its controller says so, with its serial.");
        draft.found(Finding::clear(Rule::Bmc, name, text));
        return draft.step(test, format!("Read that {name} is off"), after, Some("hosts"));
    }
    let text = format!("{name} is switched off, proved off, and switched on again; it is down meanwhile.");
    draft.found(Finding::mind(Rule::Bmc, name, text).at("hosts"));
    let off = draft.step(test, format!("Switch {name} off and prove it"), after, Some("hosts"));
    let on = draft.step(Step::PowerOn { host: id }, format!("Switch {name} on"), &[off], None);
    let wait = Step::AwaitAgent {
        host: id,
        limit: COMES_UP,
    };
    draft.step(wait, format!("Wait until {name} answers"), &[on], None)
}

/// Whether nothing is lost by it; else a *stop* with what would make it so.
fn runs_nothing(draft: &mut Draft<'_>, host: &Host) -> bool {
    let name = &host.name;
    let on: Vec<_> = draft.estate().machines_on(host.id).filter(|m| !m.is_off()).collect();
    if let Some(why) = host.out_of_reach().filter(|_| !matches!(host.condition, Condition::Off { .. })) {
        let stop = Finding::stop(Rule::State, name, format!("{why}: what it runs is not known.")).at("hosts");
        draft.found(stop.remedy("Test it when it answers, or once it is off."));
        return false;
    }
    if on.is_empty() {
        return true;
    }
    let many = if on.len() == 1 { "1 machine is".to_owned() } else { format!("{} machines are", on.len()) };
    let names: Vec<&str> = on.iter().map(|m| m.name.as_str()).collect();
    let stop = Finding::stop(Rule::State, name, format!("{many} on {name}, and would be cut off.")).at("hosts");
    let stop = stop.because(names.join(", ")).remedy("Take it out of service first; it is emptied then.");
    draft.found(stop.offering([Offer::Empty(host.id)]));
    false
}
