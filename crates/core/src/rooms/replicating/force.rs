//! The checks before a replica is started beside whatever became of its original (rules, section 18).

use super::{Draft, Event, Force, Step};
use crate::{
    estate::{Machine, Pen},
    rooms::{
        machines::{self, PowerAct},
        replicas,
    },
};

pub(super) fn start(draft: &mut Draft<'_>, ask: &Force) {
    "Start a replica".clone_into(&mut draft.title);
    let Some((machine, _)) = replicas::freed(draft, ask.machine, &ask.typed) else { return };
    let freed = replicas::Event::Freed {
        machine: machine.id,
        name: machine.name.clone(),
    };
    draft.intend(Event::Replica(freed));
    // It is powered on as what it is then.
    let mut view = draft.view.clone();
    let mut estate = (*view.estate).clone();
    let mut pen = Pen::on(&mut estate);
    pen.machine(machine.id, |m: &mut Machine| m.replica = None);
    drop(pen.done());
    view.estate = estate.into();
    let mut part = draft.beside::<machines::Step>(&view);
    machines::power(&mut part, &[machine.id], PowerAct::On { host: ask.host });
    draft.take_in(part, &[], |f| f, (Step::Machine, Event::Machine));
    draft.title = format!("Start replica {}", machine.name);
}
