//! What is done at a store before anything lies in it.

use super::Event;
use crate::{
    estate::Estate,
    ids::StoreId,
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
    /// A key is drawn and kept before anything is sealed with it.
    Key { store: StoreId },
    Make { store: StoreId },
}

impl Step {
    pub fn store(&self) -> StoreId {
        match self {
            Step::Key { store } | Step::Make { store } => *store,
        }
    }
}

impl Work for Step {
    type Event = Event;

    fn group(&self) -> &'static str {
        match self {
            Step::Key { .. } => "make a key",
            Step::Make { .. } => "make a store",
        }
    }

    fn length(&self) -> Length {
        Length::Call(Span::secs(1))
    }

    fn pause(&self) -> Span {
        Span::millis(300)
    }

    fn goes_on(&self) -> bool {
        false
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
        vec![Lock::exclusive(Object::Store(self.store()))]
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
            (Step::Key { .. } | Step::Make { .. }, Left::Undone { .. } | Left::Open { .. }) => {
                (!made).then_some(Event::Dropped { store })
            }
        }
    }
}
