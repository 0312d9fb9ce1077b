//! What is done to place keepers.

use super::Event;
use crate::{
    estate::Estate,
    ids::{ClusterId, HostId, VolumeId},
    moment::Span,
    road::{Left, Length, Premise, Urgency, Work},
    runs::{Lock, Object},
    view::View,
};
use serde::{Deserialize, Serialize};
use std::collections::BTreeSet;

#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, strum::VariantNames)]
#[strum(serialize_all = "snake_case")]
#[serde(rename_all = "snake_case")]
pub enum Step {
    /// A host gets what a keeper needs, sealed, and runs it.
    Give {
        cluster: ClusterId,
        host: HostId,
        volume: VolumeId,
    },
    /// It is written on the volume whose keepers may decide: nobody else's do from then on.
    Name {
        cluster: ClusterId,
        volume: VolumeId,
        hosts: BTreeSet<HostId>,
    },
    /// A host forgets what it was given.
    Take { cluster: ClusterId, host: HostId },
}

impl Work for Step {
    type Event = Event;

    fn group(&self) -> &'static str {
        match self {
            Step::Give { .. } => "run a keeper",
            Step::Name { .. } => "write who may decide",
            Step::Take { .. } => "take a keeper away",
        }
    }

    fn length(&self) -> Length {
        match self {
            Step::Give { .. } | Step::Name { .. } | Step::Take { .. } => Length::Call(Span::secs(1)),
        }
    }

    fn pause(&self) -> Span {
        Span::millis(300)
    }

    fn goes_on(&self) -> bool {
        false
    }

    fn device(&self, _estate: &Estate) -> Option<Object> {
        Some(match self {
            Step::Give { host, .. } | Step::Take { host, .. } => Object::Host(*host),
            Step::Name { volume, .. } => Object::Volume(*volume),
        })
    }

    fn urgency(&self) -> Urgency {
        Urgency::Ordinary
    }

    fn about(&self) -> Vec<Object> {
        match self {
            Step::Give { cluster, host, .. } | Step::Take { cluster, host } => {
                vec![Object::Host(*host), Object::Cluster(*cluster)]
            }
            Step::Name { cluster, volume, .. } => vec![Object::Cluster(*cluster), Object::Volume(*volume)],
        }
    }

    fn locks(&self) -> Vec<Lock> {
        match self {
            Step::Give { cluster, host, .. } | Step::Take { cluster, host } => vec![
                Lock::shared(Object::Host(*host)),
                Lock::shared(Object::Cluster(*cluster)),
            ],
            Step::Name { cluster, volume, .. } => vec![
                Lock::exclusive(Object::Cluster(*cluster)),
                Lock::shared(Object::Volume(*volume)),
            ],
        }
    }

    fn premise(&self, view: &View) -> Premise {
        Premise::exist(view, &self.about())
    }

    fn record(&self) -> Option<Event> {
        None
    }

    fn undo(&self, _estate: &Estate, _left: Left) -> Option<Event> {
        None
    }
}
