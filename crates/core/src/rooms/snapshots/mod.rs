//! Snapshots of machines: taken, gone back to, deleted, with what each costs known before.

mod ask;
mod back;
mod event;
mod forget;
mod keep;
mod step;
mod take;

pub use ask::{Ask, Back, Forget, Keep, Quiet, Take, Which};
pub use event::Event;
pub(crate) use forget::forget;
pub(crate) use take::{able, take};
pub use step::{Member, Step};

use crate::{
    estate::Machine,
    evidence::{Answer, Probe},
    layers::Chain,
    moment::Moment,
    view::View,
};

/// The layers of a machine's disks as its host told of them lately.
pub fn layers<'a>(view: &'a View, machine: &Machine, now: Moment) -> Option<&'a Chain> {
    match view.evidence.fresh(&Probe::Layers(machine.id), now) {
        Some(Answer::Layers(chain)) if machine.snapshots.are_of(chain) => Some(&**chain),
        _ => None,
    }
}

type Draft<'a> = crate::road::Draft<'a, Step>;
