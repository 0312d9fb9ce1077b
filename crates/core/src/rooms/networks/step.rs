//! What is done at switches, and on hosts for a network.

use super::{Event, correct};
use crate::{
    estate::Estate,
    finding::Finding,
    moment::{Moment, Span},
    road::{Given, Left, Length, Premise, Typed, Urgency, Work},
    runs::{Lock, Object},
    view::View,
    ids::{HostId, NetworkId, SwitchId},
};
use serde::{Deserialize, Serialize};

#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, strum::VariantNames)]
#[strum(serialize_all = "snake_case")]
#[serde(rename_all = "snake_case")]
pub enum Step {
    /// Sign in on the switch and read its ports.
    ReadSwitch { switch: SwitchId },
    Set { network: NetworkId, host: HostId },
    Drop { network: NetworkId, host: HostId },
    /// A packet of its whole MTU gets from one host to the other.
    Try {
        network: NetworkId,
        host: HostId,
        to: HostId,
    },
    /// Whoever should lead out of it answers the host.
    Gateway { network: NetworkId, host: HostId },
    /// No device: every host has it.
    Ready { network: NetworkId },
    /// No device: nobody has it any more.
    Gone { network: NetworkId },
}

impl Work for Step {
    type Event = Event;

    fn group(&self) -> &'static str {
        match self {
            Step::ReadSwitch { .. } => "sign in, read the ports",
            Step::Set { .. } => "set it up on the uplinks",
            Step::Drop { .. } => "take it off the uplinks",
            Step::Try { .. } => "try it from host to host",
            Step::Gateway { .. } => "ask its gateway",
            Step::Ready { .. } => "open the network",
            Step::Gone { .. } => "forget the network",
        }
    }

    fn length(&self) -> Length {
        match self {
            Step::ReadSwitch { .. } | Step::Set { .. } | Step::Drop { .. } | Step::Try { .. } | Step::Gateway { .. } => Length::Call(Span::secs(1)),
            Step::Ready { .. } | Step::Gone { .. } => Length::Computed(Span(0)),
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
            Step::ReadSwitch { switch } => Some(Object::Switch(*switch)),
            Step::Set { host, .. } | Step::Drop { host, .. } | Step::Try { host, .. } | Step::Gateway { host, .. } => Some(Object::Host(*host)),
            Step::Ready { .. } | Step::Gone { .. } => None,
        }
    }

    fn urgency(&self) -> Urgency {
        Urgency::Ordinary
    }

    fn about(&self) -> Vec<Object> {
        match self {
            Step::ReadSwitch { switch } => vec![Object::Switch(*switch)],
            Step::Set { network, host } | Step::Drop { network, host } | Step::Gateway { network, host } => {
                vec![Object::Network(*network), Object::Host(*host)]
            }
            Step::Try { network, host, to } => {
                vec![Object::Network(*network), Object::Host(*host), Object::Host(*to)]
            }
            Step::Ready { network } | Step::Gone { network } => vec![Object::Network(*network)],
        }
    }

    fn locks(&self) -> Vec<Lock> {
        match self {
            Step::ReadSwitch { switch } => vec![Lock::exclusive(Object::Switch(*switch))],
            Step::Set { network, host } | Step::Drop { network, host } | Step::Gateway { network, host } => vec![
                Lock::shared(Object::Network(*network)),
                Lock::shared(Object::Host(*host)),
            ],
            Step::Try { network, host, to } => vec![
                Lock::shared(Object::Network(*network)),
                Lock::shared(Object::Host(*host)),
                Lock::shared(Object::Host(*to)),
            ],
            Step::Ready { network } | Step::Gone { network } => {
                vec![Lock::exclusive(Object::Network(*network))]
            }
        }
    }

    fn premise(&self, view: &View) -> Premise {
        Premise::exist(view, &self.about())
    }

    fn record(&self) -> Option<Event> {
        match self {
            Step::Ready { network } => Some(Event::Ready { network: *network }),
            Step::Gone { network } => Some(Event::Gone {
                network: *network,
                removed: true,
            }),
            Step::ReadSwitch { .. } | Step::Set { .. } | Step::Drop { .. } | Step::Try { .. } | Step::Gateway { .. } => None,
        }
    }

    fn undo(&self, estate: &Estate, _left: Left) -> Option<Event> {
        match self {
            Step::ReadSwitch { switch } => {
                let unknown = estate.switches.get(switch).filter(|s| !s.known);
                unknown.map(|_| Event::SwitchDropped { switch: *switch })
            }
            Step::Ready { network } => {
                let name = estate.networks.get(network).map(|n| n.name.as_str());
                let mut hosts = estate.hosts.values();
                let there = hosts.any(|h| name.is_some_and(|n| h.networks.contains_key(n)));
                Some(if there {
                    Event::Ready { network: *network }
                } else {
                    Event::Gone {
                        network: *network,
                        removed: false,
                    }
                })
            }
            Step::Set { .. } | Step::Drop { .. } | Step::Try { .. } | Step::Gateway { .. } | Step::Gone { .. } => None,
        }
    }

    fn given(&self, estate: &Estate) -> Vec<Given> {
        match self {
            Step::Set { network, .. } | Step::Try { network, .. } | Step::Gateway { network, .. } => correct::given(estate, *network),
            Step::ReadSwitch { .. } | Step::Drop { .. } | Step::Ready { .. } | Step::Gone { .. } => vec![],
        }
    }

    fn correct(&self, view: &View, now: Moment, typed: &Typed) -> Result<Event, Vec<Finding>> {
        match self {
            Step::Set { network, .. } | Step::Try { network, .. } | Step::Gateway { network, .. } => correct::correct(view, now, *network, typed),
            Step::ReadSwitch { .. } | Step::Drop { .. } | Step::Ready { .. } | Step::Gone { .. } => Err(vec![]),
        }
    }

    fn rests_on(&self, correction: &Event) -> bool {
        match (self, correction) {
            (Step::Set { network, .. } | Step::Try { network, .. } | Step::Gateway { network, .. }, Event::Corrected { network: other, .. }) => network == other,
            _ => false,
        }
    }
}
