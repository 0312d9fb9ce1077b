//! What is done at hosts.

use super::Event;
use crate::{
    estate::Estate,
    moment::Span,
    road::{Left, Premise, Urgency, Work},
    runs::{Lock, Object},
    view::View,
    finding::{Finding, Rule},
    ids::{HostId, SecretRef},
};
use serde::{Deserialize, Serialize};

#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, strum::VariantNames)]
#[strum(serialize_all = "snake_case")]
#[serde(rename_all = "snake_case")]
pub enum Step {
    Claim { host: HostId, password: SecretRef },
    Leave { host: HostId },
    Release { host: HostId },
}

impl Work for Step {
    type Event = Event;

    fn group(&self) -> &'static str {
        match self {
            Step::Claim { .. } => "claim, swap the password for a key",
            Step::Leave { .. } => "leave the cluster",
            Step::Release { .. } => "give up the host",
        }
    }

    fn usual(&self) -> Span {
        match self {
            Step::Claim { .. } => Span::secs(2),
            Step::Leave { .. } | Step::Release { .. } => Span::secs(1),
        }
    }

    fn pause(&self) -> Span {
        Span::millis(300)
    }

    fn goes_on(&self) -> bool {
        false
    }

    fn device(&self, _estate: &Estate) -> Option<Object> {
        Some(Object::Host(self.host()))
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
        match self {
            Step::Claim { host, .. } | Step::Leave { host } => Premise::exist(view, &[Object::Host(*host)]),
            Step::Release { host } => empty(view, *host),
        }
    }

    fn record(&self) -> Option<Event> {
        None
    }

    fn undo(&self, _estate: &Estate, _left: Left) -> Option<Event> {
        match self {
            Step::Claim { host, .. } => Some(Event::Released { host: *host }),
            Step::Leave { .. } | Step::Release { .. } => None,
        }
    }
}

impl Step {
    /// The host that it is done at.
    pub fn host(&self) -> HostId {
        match self {
            Step::Claim { host, .. } | Step::Leave { host } | Step::Release { host } => *host,
        }
    }
}

/// A host that is given up has no machines.
fn empty(view: &View, host: HostId) -> Premise {
    let here: Vec<_> = view.estate.machines_on(host).map(|m| m.name.clone()).collect();
    if here.is_empty() {
        return Premise::exist(view, &[Object::Host(host)]);
    }
    let text = format!("{} machines are on it now: {}.", here.len(), here.join(", "));
    Finding::stop(Rule::State, host.to_string(), text).into()
}
