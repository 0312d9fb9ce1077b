//! The checks before machines are handed out and given back.

use super::{Draft, Event};
use crate::{
    finding::{Finding, Rule},
    ids::{MachineId, SparePoolId},
    limits,
    spares::{Stand, ready},
};

pub(super) fn out(draft: &mut Draft<'_>, id: SparePoolId, count: u32, to: &str) {
    "Hand out machines".clone_into(&mut draft.title);
    let Some(pool) = draft.estate().spare_pools.get(&id).cloned() else {
        return draft.found(Finding::stop(Rule::Exists, "pool", "The pool is gone.").at("pool"));
    };
    let (name, to) = (&pool.name, to.trim());
    let stop = |rule, field: &str, text: String| Finding::stop(rule, name, text).at(field);
    if to.is_empty() {
        draft.found(stop(Rule::Name, "to", "Say who gets it.".into()));
    } else if let Err(words) = limits::GROUP.check(to.chars().count()) {
        draft.found(stop(Rule::Name, "to", words));
    }
    if count == 0 {
        return draft.found(stop(Rule::Count, "count", "At least one.".into()));
    }
    let wanted = usize::try_from(count).unwrap_or(usize::MAX);
    let given = ready(draft.estate(), &pool, wanted);
    draft.title = match given.as_slice() {
        [one] => format!("Hand {} out to {to}", one.name),
        many => format!("Hand {} machines of {name} out to {to}", many.len()),
    };
    if given.len() < wanted {
        let coming = Stand::of(draft.estate(), &pool).coming.len();
        let soon = if coming > 0 { format!("; {coming} more are being made") } else { String::new() };
        let text = format!("{} spares of {name} are ready{soon}.", given.len());
        return draft.found(stop(Rule::Count, "count", text).remedy("Ask for fewer, or wait until more are ready."));
    }
    let names: Vec<&str> = given.iter().map(|m| m.name.as_str()).collect();
    let addresses = given.iter().flat_map(|m| m.nics.iter().flat_map(|n| n.addresses.iter().map(ToString::to_string)));
    let addresses: Vec<String> = addresses.collect();
    let at = if addresses.is_empty() { String::new() } else { format!(", at {}", addresses.join(", ")) };
    draft.found(Finding::clear(Rule::State, name, format!("{to} gets {}{at}. It runs already.", names.join(", "))));
    let text = format!("{name} makes as many new spares as it may.");
    draft.found(Finding::clear(Rule::Count, name, text));
    for machine in given {
        let (machine, at) = (machine.id, draft.now);
        draft.intend(Event::HandedOut { pool: id, machine, to: to.to_owned(), at });
    }
}

pub(super) fn back(draft: &mut Draft<'_>, machines: &[MachineId]) {
    "Give machines back".clone_into(&mut draft.title);
    let named = draft.machines(machines);
    if named.is_empty() {
        return draft.found(Finding::stop(Rule::Nothing, "machines", "No machine is selected.").at("machines"));
    }
    draft.title = match named.as_slice() {
        [one] => format!("Give {} back", one.name),
        many => format!("Give {} machines back", many.len()),
    };
    for machine in named {
        let name = &machine.name;
        let stop = |text: String| Finding::stop(Rule::State, name, text).at("machines");
        match machine.of_pool.as_deref() {
            None => draft.found(stop(format!("{name} is of no pool."))),
            Some(of) if of.back => draft.found(stop(format!("{name} was given back already."))),
            Some(of) if of.held.is_none() => draft.found(stop(format!("{name} was handed out to nobody."))),
            Some(of) => {
                let whom = of.held.as_ref().map_or("", |h| h.by.as_str());
                let text = format!("{name} is thrown away, with everything that {whom} left on it. There is no way back.");
                draft.found(Finding::mind(Rule::Deleted, name, text).at("machines"));
                draft.intend(Event::GivenBack { pool: of.pool, machine: machine.id });
            }
        }
    }
}
