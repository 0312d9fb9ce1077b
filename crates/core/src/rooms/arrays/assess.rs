//! What stands in the way of changing an array's access, of giving it up, and of deleting what is left on it.

use super::{Access, Draft, Step};
use crate::{
    endpoint::{Endpoint, Password},
    estate::{Array, Controller, LeftLun},
    evidence::{Answer, Probe},
    finding::{Finding, Rule},
    ids::{ArrayId, SecretRef},
    limits,
};
use std::sync::Arc;

pub(super) fn array(draft: &mut Draft<'_>, id: ArrayId) -> Option<Arc<Array>> {
    let found = draft.estate().arrays.get(&id).cloned();
    if found.is_none() {
        draft.found(Finding::stop(Rule::Exists, "array", "This array is gone."));
    }
    found
}

pub(super) fn change(draft: &mut Draft<'_>, ask: &Access) {
    "Change an array's access".clone_into(&mut draft.title);
    let Some(array) = array(draft, ask.array) else {
        return;
    };
    draft.title = format!("Change how {} is reached", array.name);
    let stop = |rule, field: &str, text: String| Finding::stop(rule, field, text).at(field);
    if ask.controllers.is_empty() {
        let text = "Type the management address of each of its controllers.".to_owned();
        draft.found(stop(Rule::Nothing, "addresses", text));
    }
    if let Err(words) = limits::CONTROLLERS.check(ask.controllers.len()) {
        draft.found(stop(Rule::Count, "addresses", words));
    }
    let user = ask.user.trim();
    if user.is_empty() {
        draft.found(stop(Rule::Name, "user", "A user name is missing.".into()));
    }
    let kept = ask.password == Password::Missing;
    if kept && user != array.user {
        let text = format!("Type the password of {user}: the one that is kept is that of {}.", array.user);
        draft.found(stop(Rule::Password, "password", text));
    }
    for at in &ask.controllers {
        greeting(draft, &array, at);
    }
    let same = ask.controllers.len() == array.controllers.len()
        && ask.controllers.iter().zip(&array.controllers).all(|(new, old)| {
            *new.address == *old.address && *new.pin == *old.pin
        });
    if same && kept && user == array.user {
        let text = format!("{} is reached like that already.", array.name);
        return draft.found(Finding::stop(Rule::Nothing, &array.name, text));
    }
    let key = match ask.password {
        Password::Kept(secret) => Some(secret),
        Password::Typed => Some(SecretRef(uuid::Uuid::nil())),
        Password::Missing => array.key,
    };
    let controllers = ask.controllers.iter().map(|at| Controller {
        address: at.address.to_string(),
        pin: at.pin.to_string(),
        silent: None,
    });
    let step = Step::Try {
        array: array.id,
        controllers: controllers.collect(),
        user: user.to_owned(),
        key,
    };
    let text = format!("Until {} has let Zastrugi in the new way, the old one stays.", array.name);
    draft.found(Finding::clear(Rule::Password, &array.name, text));
    let title = format!("Sign in on {} and read it", array.name);
    draft.step(step, title, &[], Some("password"));
}

/// The array itself must answer at each address; whether it is the same one, its serial number tells.
fn greeting(draft: &mut Draft<'_>, array: &Array, at: &Endpoint) {
    let address = &at.address;
    let other = draft.estate().array_at(address).filter(|a| a.id != array.id);
    if let Some(other) = other {
        let text = format!("{address} belongs to {}.", other.name);
        return draft.found(Finding::stop(Rule::Owner, address, text).at("addresses"));
    }
    let probe = Probe::ArrayGreeting(address.to_string());
    let known = array.controllers.iter().any(|c| c.address == **address && c.pin == *at.pin);
    draft.manager(&probe, at, known, "addresses");
}

pub(super) fn remove(draft: &mut Draft<'_>, id: ArrayId) {
    "Remove an array".clone_into(&mut draft.title);
    let Some(array) = array(draft, id) else {
        return;
    };
    let name = &array.name;
    draft.title = format!("Remove {name}");
    let volumes: Vec<_> = draft.estate().volumes_on(id).map(|(v, _)| v.name.clone()).collect();
    if !volumes.is_empty() {
        let text = match volumes.len() {
            1 => format!("A volume lies on {name}."),
            n => format!("{n} volumes lie on {name}."),
        };
        let stop = Finding::stop(Rule::State, name, text).because(volumes.join(", "));
        return draft.found(stop.remedy("Hand them back first."));
    }
    let ours: Vec<_> = array.left.iter().filter(|l| l.ours).map(|l| l.name.clone()).collect();
    if !ours.is_empty() {
        let text = format!("What was ours stays on {name}, and can't be deleted from here any more.");
        draft.found(Finding::mind(Rule::Storage, name, text).because(ours.join(", ")));
    }
    let text = format!("Nothing is changed on {name}; Zastrugi forgets its address and its password.");
    draft.found(Finding::clear(Rule::Storage, name, text));
    draft.step(Step::Forget { array: id }, format!("{name} is forgotten"), &[], None);
}

fn left(draft: &mut Draft<'_>, id: ArrayId, lun: &str) -> Option<(Arc<Array>, LeftLun)> {
    let array = array(draft, id)?;
    let found = array.left.iter().find(|l| l.lun == lun).cloned();
    if found.is_none() {
        let text = format!("{} has no such LUN that was ours.", array.name);
        draft.found(Finding::stop(Rule::Exists, "lun", text));
    }
    Some((array, found?))
}

pub(super) fn withdraw(draft: &mut Draft<'_>, id: ArrayId, lun: &str) {
    "Take reach away".clone_into(&mut draft.title);
    let Some((array, left)) = left(draft, id, lun) else {
        return;
    };
    draft.title = format!("Take away the reach of {} on {}", left.name, array.name);
    if left.reach.is_empty() {
        let text = format!("No host of ours reaches {}.", left.name);
        return draft.found(Finding::stop(Rule::Nothing, &left.name, text));
    }
    for initiator in &left.reach {
        let step = Step::Withdraw {
            array: id,
            lun: lun.to_owned(),
            initiator: initiator.clone(),
        };
        let hosts = &draft.estate().hosts;
        let host = hosts.values().find(|h| h.initiator == *initiator);
        let who = host.map_or(initiator.as_str(), |h| h.name.as_str());
        draft.step(step, format!("{who} can't reach {} any more", left.name), &[], None);
    }
}

pub(super) fn delete(draft: &mut Draft<'_>, id: ArrayId, lun: &str, typed: &str) {
    "Delete a LUN".clone_into(&mut draft.title);
    let Some((array, left)) = left(draft, id, lun) else {
        return;
    };
    let name = &left.name;
    draft.title = format!("Delete {name} on {}", array.name);
    if !left.ours {
        let text = format!("{name} was on {} before, and is not ours to delete.", array.name);
        return draft.found(Finding::stop(Rule::Owner, name, text));
    }
    if typed.trim() != name {
        let text = format!("Type {name}: what is on it is gone for good.");
        draft.found(Finding::stop(Rule::Name, name, text).at("typed"));
    }
    draft.found(unused(draft, &array, &left));
    let step = Step::Delete {
        array: id,
        lun: lun.to_owned(),
        uid: left.uid.clone(),
    };
    draft.step(step, format!("Delete {name} on {}", array.name), &[], Some("typed"));
}

/// Nobody reaches it, and it is the one that was ours. The step looks again.
fn unused(draft: &Draft<'_>, array: &Array, left: &LeftLun) -> Finding {
    let name = &left.name;
    let stop = |text: String| Finding::stop(Rule::Owner, name, text);
    match draft.view.evidence.fresh(&Probe::Luns(array.id), draft.now) {
        Some(Answer::Luns { luns }) => match luns.iter().find(|l| l.id == left.lun) {
            None => stop(format!("{} has no {name} any more.", array.name)),
            Some(seen) if seen.uid != left.uid => {
                stop(format!("What {} calls {name} now is another LUN.", array.name))
            }
            Some(seen) if !seen.initiators.is_empty() => {
                let text = format!("{name} is reached by somebody; it may be in use.");
                stop(text).because(seen.initiators.join(", ")).remedy("Take that reach away on the array first, if nobody uses it.")
            }
            // Who had it in between is not told; how much is on it is.
            Some(seen) => {
                let text = format!("Nobody reaches {name}; {} are written on it.", seen.used);
                Finding::mind(Rule::Owner, name, text).at("typed")
            }
        },
        Some(Answer::Silent { why }) => stop(format!("{} does not say who reaches {name}: {why}.", array.name)),
        _ => Finding::unchecked(Rule::Owner, name, format!("Who reaches {name} is looked at before it is deleted.")),
    }
}
