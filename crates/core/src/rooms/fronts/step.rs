//! What is done at load balancers.

use super::Event;
use crate::{
    estate::Estate,
    ids::{BalancerId, FrontId},
    moment::Span,
    road::{Left, Length, Premise, Urgency, Work},
    runs::{Lock, Object},
    view::View,
};
use serde::{Deserialize, Serialize};

#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, strum::VariantNames)]
#[strum(serialize_all = "snake_case")]
#[serde(rename_all = "snake_case")]
pub enum Step {
    /// Show the token, read what it is.
    ReadBalancer { balancer: BalancerId },
    /// The front as it shall be when its turn comes, with its members.
    Set { front: FrontId },
    Drop { front: FrontId },
    /// No device: it serves.
    Ready { front: FrontId },
    /// No device: nobody has it any more.
    Gone { front: FrontId },
    /// No device: it is known here no more.
    Forget { balancer: BalancerId },
}

impl Work for Step {
    type Event = Event;

    fn group(&self) -> &'static str {
        match self {
            Step::ReadBalancer { .. } => "show the token, read what it is",
            Step::Set { .. } => "set the front and its members",
            Step::Drop { .. } => "take the front away",
            Step::Ready { .. } => "open the front",
            Step::Gone { .. } => "forget the front",
            Step::Forget { .. } => "forget the balancer",
        }
    }

    fn length(&self) -> Length {
        match self {
            Step::ReadBalancer { .. } | Step::Set { .. } | Step::Drop { .. } => Length::Call(Span::secs(1)),
            Step::Ready { .. } | Step::Gone { .. } | Step::Forget { .. } => Length::Computed(Span(0)),
        }
    }

    fn pause(&self) -> Span {
        Span::millis(300)
    }

    fn goes_on(&self) -> bool {
        false
    }

    fn device(&self, estate: &Estate) -> Option<Object> {
        match self {
            Step::ReadBalancer { balancer } => Some(Object::Balancer(*balancer)),
            Step::Set { front } | Step::Drop { front } => estate.fronts.get(front).map(|f| Object::Balancer(f.balancer)),
            Step::Ready { .. } | Step::Gone { .. } | Step::Forget { .. } => None,
        }
    }

    fn urgency(&self) -> Urgency {
        Urgency::Ordinary
    }

    fn about(&self) -> Vec<Object> {
        match self {
            Step::ReadBalancer { balancer } | Step::Forget { balancer } => vec![Object::Balancer(*balancer)],
            Step::Set { front } | Step::Drop { front } | Step::Ready { front } | Step::Gone { front } => vec![Object::Front(*front)],
        }
    }

    fn locks(&self) -> Vec<Lock> {
        self.about().into_iter().map(Lock::exclusive).collect()
    }

    fn premise(&self, view: &View) -> Premise {
        Premise::exist(view, &self.about())
    }

    fn record(&self) -> Option<Event> {
        match self {
            Step::Ready { front } => Some(Event::Ready { front: *front }),
            Step::Gone { front } => Some(Event::Gone { front: *front, removed: true }),
            Step::Forget { balancer } => Some(Event::Dropped { balancer: *balancer }),
            Step::ReadBalancer { .. } | Step::Set { .. } | Step::Drop { .. } => None,
        }
    }

    fn undo(&self, estate: &Estate, _left: Left) -> Option<Event> {
        match self {
            Step::ReadBalancer { balancer } => {
                let unknown = estate.balancers.get(balancer).filter(|b| !b.known);
                unknown.map(|_| Event::Dropped { balancer: *balancer })
            }
            // What its balancer has already stays, and is shown.
            Step::Ready { front } => {
                let there = estate.fronts.get(front).is_some_and(|f| f.seen.is_some());
                Some(match there {
                    true => Event::Ready { front: *front },
                    false => Event::Gone { front: *front, removed: false },
                })
            }
            Step::Set { .. } | Step::Drop { .. } | Step::Gone { .. } | Step::Forget { .. } => None,
        }
    }
}
