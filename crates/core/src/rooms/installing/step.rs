//! What is done to install a host.

use super::{Event, correct};
use crate::{
    estate::Estate,
    finding::Finding,
    ids::HostId,
    moment::{Moment, Span},
    road::{Given, Left, Length, Premise, Typed, Urgency, Work},
    runs::{Lock, Object},
    view::View,
};
use serde::{Deserialize, Serialize};

#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, strum::VariantNames)]
#[strum(serialize_all = "snake_case")]
#[serde(rename_all = "snake_case")]
pub enum Step {
    /// What it starts from and what it shall become is mounted for it, for its next start.
    Insert { host: HostId },
    /// It is started, and awaited until its agent answers.
    Install { host: HostId, limit: Span },
    /// Its agent's first password is replaced by a key, its controller's by one that it draws.
    TakeOver { host: HostId },
    /// Nothing is mounted for it any more, it starts from its own disks again, and is off unless it was found on.
    Withdraw { host: HostId },
}

/// How long an installation usually takes, where nobody has measured one.
pub(super) const USUAL: Span = Span::mins(3);
/// One that has not come up after so long won't.
pub(super) const LIMIT: Span = Span::mins(30);

impl Step {
    pub fn host(&self) -> HostId {
        match self {
            Step::Insert { host }
            | Step::Install { host, .. }
            | Step::TakeOver { host }
            | Step::Withdraw { host } => *host,
        }
    }
}

impl Work for Step {
    type Event = Event;

    fn group(&self) -> &'static str {
        match self {
            Step::Insert { .. } => "mount the installation",
            Step::Install { .. } => "install",
            Step::TakeOver { .. } => "take over, swap the passwords for keys",
            Step::Withdraw { .. } => "take out what was mounted",
        }
    }

    fn length(&self) -> Length {
        match self {
            Step::Insert { .. } => Length::Call(Span::secs(3)),
            Step::Install { .. } => Length::Wait(USUAL),
            Step::TakeOver { .. } => Length::Call(Span::secs(2)),
            Step::Withdraw { .. } => Length::Call(Span::secs(3)),
        }
    }

    fn pause(&self) -> Span {
        Span::secs(1)
    }

    fn goes_on(&self) -> bool {
        false
    }

    fn device(&self, _estate: &Estate) -> Option<Object> {
        match self {
            Step::Insert { host } | Step::Install { host, .. } | Step::Withdraw { host } => {
                Some(Object::Controller(*host))
            }
            Step::TakeOver { host } => Some(Object::Host(*host)),
        }
    }

    fn urgency(&self) -> Urgency {
        Urgency::Ordinary
    }

    fn about(&self) -> Vec<Object> {
        vec![Object::Host(self.host())]
    }

    fn locks(&self) -> Vec<Lock> {
        vec![Lock::exclusive(Object::Host(self.host()))]
    }

    fn premise(&self, view: &View) -> Premise {
        Premise::exist(view, &self.about())
    }

    fn record(&self) -> Option<Event> {
        None
    }

    fn undo(&self, _estate: &Estate, _left: Left) -> Option<Event> {
        Some(match self {
            Step::Withdraw { host } => Event::Withdrawn { host: *host, clean: false },
            Step::Insert { .. } | Step::Install { .. } | Step::TakeOver { .. } => Event::GivenUp { host: self.host() },
        })
    }

    fn given(&self, estate: &Estate) -> Vec<Given> {
        match self {
            Step::Insert { host } | Step::Install { host, .. } => correct::given(estate, *host),
            Step::TakeOver { .. } | Step::Withdraw { .. } => vec![],
        }
    }

    fn correct(&self, view: &View, now: Moment, typed: &Typed) -> Result<Event, Vec<Finding>> {
        correct::correct(view, now, self.host(), typed)
    }

    fn rests_on(&self, correction: &Event) -> bool {
        let Event::Corrected { host, .. } = correction else { return false };
        *host == self.host()
    }
}
