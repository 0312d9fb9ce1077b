//! The checks before consoles get a password, or lose it.

use super::{Draft, Event};
use crate::{
    endpoint::Password,
    finding::{Finding, Rule},
    ids::{MachineId, SecretRef},
};

pub(super) fn lock(draft: &mut Draft<'_>, machines: &[MachineId], password: Password, open: bool) {
    "Password of a console".clone_into(&mut draft.title);
    let named = draft.machines(machines);
    if named.is_empty() {
        return draft.found(Finding::stop(Rule::Nothing, "machines", "No machine is selected.").at("machines"));
    }
    let what = match named.as_slice() {
        [one] => format!("the console of {}", one.name),
        many => format!("the consoles of {} machines", many.len()),
    };
    draft.title = if open { format!("Take the password from {what}") } else { format!("Give {what} a password") };
    let stop = |text: &str| Finding::stop(Rule::Password, "password", text).at("password");
    let secret = match password {
        Password::Missing if !open => return draft.found(stop("Type the password.")),
        Password::Missing => None,
        _ if open => return draft.found(stop("A password is typed, and that there shall be none: one of them.")),
        Password::Typed => Some(SecretRef(uuid::Uuid::nil())),
        Password::Kept(secret) => Some(secret),
    };
    if open && named.iter().all(|m| m.console_lock.is_none()) {
        let text = format!("There is no password on {what}.");
        return draft.found(Finding::stop(Rule::Nothing, "machines", text).at("machines"));
    }
    draft.found(match secret {
        Some(_) => {
            let text = format!(
                "Whoever opens {what} or the screen must know it, whatever their role, each time; who may change machines can \
                 change it, and that is recorded. What is open now stays open, and pictures kept of crashes stay where they are."
            );
            Finding::mind(Rule::Password, "console", text).remedy("Only its hash is kept: who forgets it gives another one here.")
        }
        None => Finding::mind(Rule::Password, "console", format!("Whoever may look opens {what} again without one.")),
    });
    for machine in named {
        draft.intend(Event::Locked { machine: machine.id, password: secret });
    }
}
