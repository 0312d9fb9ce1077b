//! The steps of a join are steps of other rooms.

use super::Event;
use crate::{
    estate::Estate,
    moment::Span,
    road::{Left, Length, Premise, Urgency, Work},
    rooms::{clusters, networks, storage},
    runs::{Lock, Object},
    view::View,
};
use serde::{Deserialize, Serialize};

#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, strum::VariantNames)]
#[strum(serialize_all = "snake_case")]
#[serde(rename_all = "snake_case")]
pub enum Step {
    Cluster(clusters::Step),
    Storage(storage::Step),
    Network(networks::Step),
}

impl Work for Step {
    type Event = Event;

    fn group(&self) -> &'static str {
        match self {
            Step::Cluster(step) => step.group(),
            Step::Storage(step) => step.group(),
            Step::Network(step) => step.group(),
        }
    }

    fn length(&self) -> Length {
        match self {
            Step::Cluster(step) => step.length(),
            Step::Storage(step) => step.length(),
            Step::Network(step) => step.length(),
        }
    }

    fn pause(&self) -> Span {
        match self {
            Step::Cluster(step) => step.pause(),
            Step::Storage(step) => step.pause(),
            Step::Network(step) => step.pause(),
        }
    }

    fn goes_on(&self) -> bool {
        match self {
            Step::Cluster(step) => step.goes_on(),
            Step::Storage(step) => step.goes_on(),
            Step::Network(step) => step.goes_on(),
        }
    }

    fn device(&self, estate: &Estate) -> Option<Object> {
        match self {
            Step::Cluster(step) => step.device(estate),
            Step::Storage(step) => step.device(estate),
            Step::Network(step) => step.device(estate),
        }
    }

    fn urgency(&self) -> Urgency {
        match self {
            Step::Cluster(step) => step.urgency(),
            Step::Storage(step) => step.urgency(),
            Step::Network(step) => step.urgency(),
        }
    }

    fn about(&self) -> Vec<Object> {
        match self {
            Step::Cluster(step) => step.about(),
            Step::Storage(step) => step.about(),
            Step::Network(step) => step.about(),
        }
    }

    fn locks(&self) -> Vec<Lock> {
        match self {
            Step::Cluster(step) => step.locks(),
            Step::Storage(step) => step.locks(),
            Step::Network(step) => step.locks(),
        }
    }

    fn premise(&self, view: &View) -> Premise {
        match self {
            Step::Cluster(step) => step.premise(view),
            Step::Storage(step) => step.premise(view),
            Step::Network(step) => step.premise(view),
        }
    }

    fn record(&self) -> Option<Event> {
        match self {
            Step::Cluster(step) => step.record().map(Event::Cluster),
            Step::Storage(step) => step.record().map(Event::Storage),
            Step::Network(step) => step.record().map(Event::Network),
        }
    }

    fn undo(&self, estate: &Estate, left: Left) -> Option<Event> {
        match self {
            Step::Cluster(step) => step.undo(estate, left).map(Event::Cluster),
            Step::Storage(step) => step.undo(estate, left).map(Event::Storage),
            Step::Network(step) => step.undo(estate, left).map(Event::Network),
        }
    }
}
