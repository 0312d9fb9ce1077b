//! What steps about machines rest on, looked at again at their turn.

use super::Step;
use crate::{
    estate::{Machine, MachineState, Wanted},
    ids::HostId,
    road::Premise,
    runs::Object,
    view::View,
};

pub(super) fn of(step: &Step, view: &View) -> Premise {
    let id = step.machine();
    let host = step.host().map(Object::Host);
    if let Some(reached) = reached(step, view) {
        return Premise::Reached(reached);
    }
    Premise::exist(view, host.as_slice()).and(|| match step {
        // What stays off needs no room.
        Step::Create { .. } | Step::Copy { .. } if stays_off(view, step) => Premise::live(view, id),
        Step::Create { via: host, .. } | Step::Copy { via: host, .. } | Step::Start { host, .. } => {
            Premise::live(view, id).and(|| Premise::fits(view, id, *host))
        }
        Step::Recover { .. } | Step::Purge { .. } => {
            Premise::exist(view, &[Object::Machine(id)])
        }
        Step::AwaitGuest { .. }
        | Step::AskStop { .. }
        | Step::AwaitOff { .. }
        | Step::Off { .. }
        | Step::Delete { .. } => Premise::live(view, id),
    })
}

fn stays_off(view: &View, step: &Step) -> bool {
    let machine = view.estate.machines.get(&step.machine());
    machine.is_some_and(|m| m.wanted == Wanted::Off)
}

/// Whether somebody else has brought about what the step is for.
fn reached(step: &Step, view: &View) -> Option<String> {
    let Some(machine) = view.estate.machines.get(&step.machine()) else {
        let purged = matches!(step, Step::Purge { .. });
        return purged.then(|| "It is gone already.".to_owned());
    };
    let so = match step {
        Step::Start { host, .. } => runs_on(machine, *host),
        Step::AskStop { .. } | Step::AwaitOff { .. } | Step::Off { .. } => {
            machine.state == MachineState::Off
        }
        Step::Delete { .. } => machine.deleted.is_some(),
        Step::Recover { .. } => machine.deleted.is_none(),
        Step::Create { .. } | Step::Copy { .. } | Step::AwaitGuest { .. } | Step::Purge { .. } => false,
    };
    so.then(|| "It was so already.".to_owned())
}

fn runs_on(machine: &Machine, host: HostId) -> bool {
    machine.host == Some(host) && matches!(machine.state, MachineState::Running { .. })
}
