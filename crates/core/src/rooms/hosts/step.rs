//! What is done at hosts.

use super::Event;
use crate::{
    estate::{Condition, Estate, FailureStage, FencingTest},
    moment::{Moment, Span},
    road::{Left, Length, Premise, Urgency, Work},
    runs::{Lock, Object},
    view::View,
    finding::{Finding, Rule},
    ids::{HostId, SecretRef},
};
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;
use uuid::Uuid;

#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, strum::VariantNames)]
#[strum(serialize_all = "snake_case")]
#[serde(rename_all = "snake_case")]
pub enum Step {
    Claim { host: HostId, password: SecretRef },
    Leave { host: HostId },
    Release { host: HostId },
    /// Given up without being told: it is off.
    Forget { host: HostId },
    /// By its controller, and read twice.
    PowerOff { host: HostId },
    /// The same, to see whether it works; what came of it is kept.
    TestOff { host: HostId, at: Moment },
    /// By its controller.
    PowerOn { host: HostId },
    AwaitAgent { host: HostId, limit: Span },
    /// Looks that nothing is left on a host in maintenance, and says so.
    Vacate { host: HostId },
    /// Machines may be put there again.
    Serve { host: HostId },
    /// The host says that its manager gives it no orders any more; nothing is changed.
    HearSilence { host: HostId, password: SecretRef, former: String },
    /// It changes its owner, and what runs on it runs on; `former`: the installation that it may be taken from.
    Take { host: HostId, password: SecretRef, former: String },
    /// Whether what ran when it was read ran on since; `up`: how long each had been on then.
    CompareUptimes { host: HostId, read: Moment, up: BTreeMap<Uuid, Span> },
}

impl Work for Step {
    type Event = Event;

    fn group(&self) -> &'static str {
        match self {
            Step::Claim { .. } => "claim, swap the password for a key",
            Step::Leave { .. } => "leave the cluster",
            Step::Release { .. } | Step::Forget { .. } => "give up the host",
            Step::PowerOff { .. } => "switch off, prove it",
            Step::TestOff { .. } => "switch off, prove it, keep what came of it",
            Step::PowerOn { .. } => "switch on",
            Step::AwaitAgent { .. } => "host answers",
            Step::Vacate { .. } => "host is empty",
            Step::Serve { .. } => "back in service",
            Step::HearSilence { .. } => "its manager is silent",
            Step::Take { .. } => "change its owner",
            Step::CompareUptimes { .. } => "compare uptimes",
        }
    }

    fn length(&self) -> Length {
        match self {
            Step::Claim { .. } | Step::Take { .. } => Length::Call(Span::secs(2)),
            Step::Leave { .. }
            | Step::Release { .. }
            | Step::Forget { .. }
            | Step::PowerOn { .. }
            | Step::Vacate { .. }
            | Step::HearSilence { .. }
            | Step::CompareUptimes { .. }
            | Step::Serve { .. } => Length::Call(Span::secs(1)),
            Step::PowerOff { .. } | Step::TestOff { .. } => Length::Wait(Span::secs(5)),
            Step::AwaitAgent { .. } => Length::Wait(Span::mins(3)),
        }
    }

    fn pause(&self) -> Span {
        Span::millis(300)
    }

    fn goes_on(&self) -> bool {
        false
    }

    fn device(&self, _estate: &Estate) -> Option<Object> {
        match self {
            Step::Claim { host, .. }
            | Step::Leave { host }
            | Step::Release { host }
            | Step::HearSilence { host, .. }
            | Step::Take { host, .. }
            | Step::CompareUptimes { host, .. } => Some(Object::Host(*host)),
            Step::PowerOff { host }
            | Step::TestOff { host, .. }
            | Step::PowerOn { host }
            | Step::AwaitAgent { host, .. } => {
                Some(Object::Controller(*host))
            }
            Step::Forget { .. } | Step::Vacate { .. } | Step::Serve { .. } => None,
        }
    }

    fn urgency(&self) -> Urgency {
        match self {
            Step::PowerOff { .. } | Step::TestOff { .. } | Step::PowerOn { .. } => Urgency::Availability,
            Step::Claim { .. }
            | Step::Leave { .. }
            | Step::Release { .. }
            | Step::Forget { .. }
            | Step::HearSilence { .. }
            | Step::Take { .. }
            | Step::CompareUptimes { .. }
            | Step::AwaitAgent { .. } => Urgency::Ordinary,
            Step::Vacate { .. } | Step::Serve { .. } => Urgency::Maintenance,
        }
    }

    fn about(&self) -> Vec<Object> {
        vec![Object::Host(self.host())]
    }

    fn locks(&self) -> Vec<Lock> {
        vec![Lock::exclusive(Object::Host(self.host()))]
    }

    fn premise(&self, view: &View) -> Premise {
        match self {
            Step::Claim { host, .. }
            | Step::HearSilence { host, .. }
            | Step::Take { host, .. }
            | Step::CompareUptimes { host, .. }
            | Step::Leave { host }
            | Step::AwaitAgent { host, .. } => Premise::exist(view, &[Object::Host(*host)]),
            Step::PowerOn { host } => Premise::exist(view, &[Object::Host(*host)]).and(|| not_being_fenced(view, *host)),
            Step::PowerOff { host } => expendable(view, *host),
            Step::TestOff { host, .. } => empty(view, *host),
            Step::Release { host } | Step::Vacate { host } => empty(view, *host),
            Step::Serve { host } => Premise::exist(view, &[Object::Host(*host)]),
            Step::Forget { host } => empty(view, *host).and(|| still_off(view, *host)),
        }
    }

    fn record(&self) -> Option<Event> {
        match self {
            Step::Forget { host } => Some(Event::Released { host: *host }),
            Step::Vacate { host } => Some(Event::Emptied { host: *host }),
            Step::Serve { host } => Some(Event::InService { host: *host }),
            Step::Claim { .. }
            | Step::HearSilence { .. }
            | Step::Take { .. }
            | Step::CompareUptimes { .. }
            | Step::Leave { .. }
            | Step::Release { .. }
            | Step::PowerOff { .. }
            | Step::TestOff { .. }
            | Step::PowerOn { .. }
            | Step::AwaitAgent { .. } => None,
        }
    }

    fn undo(&self, _estate: &Estate, left: Left) -> Option<Event> {
        match self {
            // It was told, and did not: that is what the test was for.
            Step::TestOff { host, at } => {
                let Left::Undone { said: Some(said) } = left else {
                    return None;
                };
                let said = said.trim_end_matches('.').to_owned();
                let (at, worked) = (*at, false);
                let test = FencingTest { at, worked, said };
                Some(Event::FencingTested { host: *host, test })
            }
            Step::Claim { host, .. } => Some(Event::Released { host: *host }),
            // It stays with whoever had it.
            Step::Take { host, .. } => Some(Event::NotTaken { host: *host }),
            Step::HearSilence { .. }
            | Step::CompareUptimes { .. }
            | Step::Leave { .. }
            | Step::Release { .. }
            | Step::Forget { .. }
            | Step::PowerOff { .. }
            | Step::PowerOn { .. }
            | Step::AwaitAgent { .. }
            | Step::Vacate { .. }
            | Step::Serve { .. } => None,
        }
    }
}

impl Step {
    /// The host that it is done at.
    pub fn host(&self) -> HostId {
        match self {
            Step::Claim { host, .. }
            | Step::Leave { host }
            | Step::Release { host }
            | Step::Forget { host }
            | Step::PowerOff { host }
            | Step::TestOff { host, .. }
            | Step::PowerOn { host }
            | Step::AwaitAgent { host, .. }
            | Step::Vacate { host }
            | Step::HearSilence { host, .. }
            | Step::Take { host, .. }
            | Step::CompareUptimes { host, .. }
            | Step::Serve { host } => *host,
        }
    }
}

/// A host that is given up, or was emptied, has no machines.
fn empty(view: &View, host: HostId) -> Premise {
    let here: Vec<_> = view.estate.machines_on(host).map(|m| m.name.clone()).collect();
    if here.is_empty() {
        return Premise::exist(view, &[Object::Host(host)]);
    }
    let text = format!("{} machines are on it now: {}.", here.len(), here.join(", "));
    Finding::stop(Rule::State, host.to_string(), text).into()
}

/// Nobody pulls the plug of a host that answers and runs machines.
fn expendable(view: &View, host: HostId) -> Premise {
    let found = view.estate.hosts.get(&host);
    if found.is_some_and(|h| h.accepts_work()) {
        return empty(view, host);
    }
    Premise::exist(view, &[Object::Host(host)])
}

/// Nobody switches on what is being proved off.
fn not_being_fenced(view: &View, host: HostId) -> Premise {
    let open = view.estate.failure_of(host);
    if !open.is_some_and(|f| matches!(f.stage, FailureStage::Judged(_))) {
        return Premise::Holds;
    }
    let text = "It is being proved off; switched on in the middle of that, it could run what is started elsewhere.";
    Finding::stop(Rule::State, host.to_string(), text).into()
}

fn still_off(view: &View, host: HostId) -> Premise {
    let found = view.estate.hosts.get(&host);
    let untold = |c: &Condition| c.is_fenced() || matches!(c, Condition::Stranger { .. });
    if found.is_some_and(|h| untold(&h.condition)) {
        return Premise::Holds;
    }
    let text = "It answers again; hand it back anew, so that it is told.";
    Finding::stop(Rule::State, host.to_string(), text).into()
}
