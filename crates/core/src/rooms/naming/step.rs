//! What is done at name servers.

use super::Event;
use crate::{
    estate::{Dns, Estate},
    ids::{ClusterId, HostId, MachineId},
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
    /// A name is entered in the zone, read, and taken out again.
    Try { cluster: ClusterId, dns: Dns },
    /// What is due for the machine's name when its turn comes.
    Bring { cluster: ClusterId, machine: MachineId },
    /// What was entered for it is taken out, where its cluster has its names until now.
    Withdraw { cluster: ClusterId, machine: MachineId },
    /// The same of a host: its name leads to its own address.
    BringHost { cluster: ClusterId, host: HostId },
    WithdrawHost { cluster: ClusterId, host: HostId },
    /// From the host: whether it is told the names of its cluster's hosts, forward and back, as they were entered.
    AskFrom { cluster: ClusterId, host: HostId },
    /// No device: from now on names stand there.
    Keep {
        cluster: ClusterId,
        dns: Option<Dns>,
        left: bool,
    },
}

impl Step {
    /// The cluster whose names they are.
    pub fn cluster(&self) -> ClusterId {
        match self {
            Step::Try { cluster, .. }
            | Step::Bring { cluster, .. }
            | Step::Withdraw { cluster, .. }
            | Step::BringHost { cluster, .. }
            | Step::WithdrawHost { cluster, .. }
            | Step::AskFrom { cluster, .. }
            | Step::Keep { cluster, .. } => *cluster,
        }
    }
}

impl Work for Step {
    type Event = Event;

    fn group(&self) -> &'static str {
        match self {
            Step::Try { .. } => "try a name in the zone",
            Step::Bring { .. } | Step::BringHost { .. } => "bring names in line",
            Step::Withdraw { .. } | Step::WithdrawHost { .. } => "take the name out",
            Step::AskFrom { .. } => "ask for names from the host",
            Step::Keep { .. } => "names stand there from now on",
        }
    }

    fn length(&self) -> Length {
        match self {
            Step::Try { .. } | Step::Bring { .. } | Step::Withdraw { .. } | Step::BringHost { .. } | Step::WithdrawHost { .. } | Step::AskFrom { .. } => Length::Call(Span::millis(300)),
            Step::Keep { .. } => Length::Computed(Span(0)),
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
            Step::Try { cluster, .. }
            | Step::Bring { cluster, .. }
            | Step::Withdraw { cluster, .. }
            | Step::BringHost { cluster, .. }
            | Step::WithdrawHost { cluster, .. } => Some(Object::Cluster(*cluster)),
            Step::AskFrom { host, .. } => Some(Object::Host(*host)),
            Step::Keep { .. } => None,
        }
    }

    fn urgency(&self) -> Urgency {
        Urgency::Ordinary
    }

    fn about(&self) -> Vec<Object> {
        match self {
            Step::Try { cluster, .. } | Step::Keep { cluster, .. } => vec![Object::Cluster(*cluster)],
            Step::Bring { machine, .. } | Step::Withdraw { machine, .. } => vec![Object::Machine(*machine)],
            Step::BringHost { host, .. } | Step::WithdrawHost { host, .. } | Step::AskFrom { host, .. } => vec![Object::Host(*host)],
        }
    }

    /// A name follows its machine and holds nothing of it up.
    fn locks(&self) -> Vec<Lock> {
        match self {
            Step::Keep { cluster, .. } => vec![Lock::exclusive(Object::Cluster(*cluster))],
            Step::Try { cluster, .. } => vec![Lock::shared(Object::Cluster(*cluster))],
            Step::Bring { .. } | Step::Withdraw { .. } | Step::BringHost { .. } | Step::WithdrawHost { .. } | Step::AskFrom { .. } => vec![],
        }
    }

    fn premise(&self, view: &View) -> Premise {
        Premise::exist(view, &[Object::Cluster(self.cluster())])
    }

    fn record(&self) -> Option<Event> {
        match self {
            Step::Keep { cluster, dns, left } => Some(Event::Kept {
                cluster: *cluster,
                dns: dns.clone(),
                left: *left,
            }),
            Step::Try { .. } | Step::Bring { .. } | Step::Withdraw { .. } | Step::BringHost { .. } | Step::WithdrawHost { .. } | Step::AskFrom { .. } => None,
        }
    }

    fn undo(&self, _estate: &Estate, _left: Left) -> Option<Event> {
        match self {
            Step::Try { .. } | Step::Bring { .. } | Step::Withdraw { .. } | Step::BringHost { .. } | Step::WithdrawHost { .. } | Step::AskFrom { .. } | Step::Keep { .. } => None,
        }
    }
}
