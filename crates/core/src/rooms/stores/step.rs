//! What is done at a store: before anything lies in it, and when something goes.

use super::Event;
use crate::{
    estate::Estate,
    ids::{JobId, SeriesId, StoreId},
    moment::{Moment, Span},
    road::{Left, Length, Premise, Urgency, Work},
    runs::{Lock, Object},
    view::View,
};
use serde::{Deserialize, Serialize};
use uuid::Uuid;

#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, strum::VariantNames)]
#[strum(serialize_all = "snake_case")]
#[serde(rename_all = "snake_case")]
pub enum Step {
    /// A key is drawn and kept before anything is sealed with it.
    Key { store: StoreId },
    Make { store: StoreId },
    /// Points that nobody keeps.
    Expire { store: StoreId, points: Vec<Expired> },
    /// One that is there already is opened with the key that is kept for it.
    Open { store: StoreId },
    /// Which points are in it.
    Read {
        store: StoreId,
        #[serde(default, skip_serializing_if = "Option::is_none")]
        job: Option<JobId>,
    },
    /// What no point needs goes, once nobody can rely on it any more.
    Sweep { store: StoreId },
}

/// A point that goes.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
pub struct Expired {
    pub series: SeriesId,
    /// The machine's own identity.
    pub machine: Uuid,
    pub session: Uuid,
    pub taken: Moment,
}

impl Step {
    pub fn store(&self) -> StoreId {
        match self {
            Step::Key { store } | Step::Make { store } | Step::Sweep { store } | Step::Open { store } => *store,
            Step::Expire { store, .. } | Step::Read { store, .. } => *store,
        }
    }
}

impl Work for Step {
    type Event = Event;

    fn group(&self) -> &'static str {
        match self {
            Step::Key { .. } => "make a key",
            Step::Make { .. } => "make a store",
            Step::Expire { .. } => "let points go",
            Step::Sweep { .. } => "sweep a store",
            Step::Open { .. } => "open a store",
            Step::Read { .. } => "look through a store",
        }
    }

    fn length(&self) -> Length {
        match self {
            Step::Key { .. } | Step::Make { .. } | Step::Expire { .. } | Step::Open { .. } => Length::Call(Span::secs(1)),
            Step::Sweep { .. } | Step::Read { .. } => Length::Wait(Span::secs(10)),
        }
    }

    fn pause(&self) -> Span {
        Span::millis(300)
    }

    fn goes_on(&self) -> bool {
        // A mover sweeps by itself until it is told to stop.
        matches!(self, Step::Sweep { .. } | Step::Read { .. })
    }

    fn device(&self, _estate: &Estate) -> Option<Object> {
        None
    }

    fn urgency(&self) -> Urgency {
        Urgency::Ordinary
    }

    fn about(&self) -> Vec<Object> {
        vec![Object::Store(self.store())]
    }

    fn locks(&self) -> Vec<Lock> {
        let store = Object::Store(self.store());
        match self {
            Step::Key { .. } | Step::Make { .. } | Step::Open { .. } => vec![Lock::exclusive(store)],
            // Whoever copies goes on meanwhile.
            Step::Expire { .. } | Step::Sweep { .. } | Step::Read { .. } => vec![Lock::shared(store)],
        }
    }

    fn premise(&self, view: &View) -> Premise {
        Premise::exist(view, &[Object::Store(self.store())])
    }

    fn record(&self) -> Option<Event> {
        None
    }

    fn undo(&self, estate: &Estate, left: Left) -> Option<Event> {
        let store = self.store();
        let made = estate.stores.get(&store).is_some_and(|s| s.ready);
        match (self, left) {
            // One of which nobody knows whether it is there stays listed, until somebody forgets it.
            (Step::Make { .. }, Left::Open { .. }) => None,
            (Step::Expire { .. } | Step::Sweep { .. } | Step::Read { .. }, Left::Undone { .. } | Left::Open { .. }) => None,
            (Step::Key { .. } | Step::Make { .. } | Step::Open { .. }, Left::Undone { .. } | Left::Open { .. }) => {
                (!made).then_some(Event::Dropped { store })
            }
        }
    }
}
