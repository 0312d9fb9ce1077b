//! What is done to make a cluster.

use super::Event;
use crate::{
    estate::Estate,
    moment::Span,
    road::{Left, Length, Premise, Urgency, Work},
    runs::{Lock, Object},
    view::View,
    ids::{ClusterId, HostId},
};
use serde::{Deserialize, Serialize};

#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, strum::VariantNames)]
#[strum(serialize_all = "snake_case")]
#[serde(rename_all = "snake_case")]
pub enum Step {
    /// Reads clock and management controller.
    Verify { host: HostId },
    Join {
        host: HostId,
        cluster: ClusterId,
        /// A volume to mount on the way.
        volume: Option<String>,
    },
    /// No device: the cluster is complete.
    Ready { cluster: ClusterId },
}

impl Work for Step {
    type Event = Event;

    fn group(&self) -> &'static str {
        match self {
            Step::Verify { .. } => "check clock and controller",
            Step::Join {
                volume: Some(_), ..
            } => "mount the volume, join",
            Step::Join { volume: None, .. } => "join",
            Step::Ready { .. } => "open the cluster",
        }
    }

    fn length(&self) -> Length {
        match self {
            Step::Verify { .. } => Length::Call(Span::secs(1)),
            Step::Join { .. } => Length::Call(Span::secs(2)),
            Step::Ready { .. } => Length::Computed(Span(0)),
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
            Step::Verify { host } | Step::Join { host, .. } => Some(Object::Host(*host)),
            Step::Ready { .. } => None,
        }
    }

    fn urgency(&self) -> Urgency {
        Urgency::Ordinary
    }

    fn about(&self) -> Vec<Object> {
        match self {
            Step::Verify { host } => vec![Object::Host(*host)],
            Step::Join { host, cluster, .. } => vec![Object::Host(*host), Object::Cluster(*cluster)],
            Step::Ready { cluster } => vec![Object::Cluster(*cluster)],
        }
    }

    fn locks(&self) -> Vec<Lock> {
        match self {
            Step::Verify { host } => vec![Lock::shared(Object::Host(*host))],
            Step::Join { host, cluster, .. } => vec![
                Lock::exclusive(Object::Host(*host)),
                Lock::shared(Object::Cluster(*cluster)),
            ],
            Step::Ready { cluster } => vec![Lock::exclusive(Object::Cluster(*cluster))],
        }
    }

    fn premise(&self, view: &View) -> Premise {
        Premise::exist(view, &self.about())
    }

    fn record(&self) -> Option<Event> {
        match self {
            Step::Ready { cluster } => Some(Event::Ready { cluster: *cluster }),
            Step::Verify { .. } | Step::Join { .. } => None,
        }
    }

    fn undo(&self, estate: &Estate, _left: Left) -> Option<Event> {
        match self {
            Step::Ready { cluster } => Some(match estate.hosts_in(*cluster).next() {
                None => Event::Dropped { cluster: *cluster },
                Some(_) => Event::Ready { cluster: *cluster },
            }),
            Step::Verify { .. } | Step::Join { .. } => None,
        }
    }
}
