//! Rooms in which nothing is told to any device: they have no steps, and that is said once.

/// `Step`, of which there is none.
macro_rules! stepless {
    () => {
        use crate::{
            estate::Estate,
            moment::Span,
            road::{Left, Length, Premise, Urgency, Work},
            runs::{Lock, Object},
            view::View,
        };
        use serde::{Deserialize, Serialize};

        /// There is none.
        #[derive(Debug, Clone, PartialEq, Serialize, Deserialize, strum::VariantNames)]
        #[strum(serialize_all = "snake_case")]
        pub enum Step {}

        impl Work for Step {
            type Event = Event;

            fn group(&self) -> &'static str {
                match *self {}
            }

            fn length(&self) -> Length {
                match *self {}
            }

            fn pause(&self) -> Span {
                match *self {}
            }

            fn goes_on(&self) -> bool {
                match *self {}
            }

            fn device(&self, _estate: &Estate) -> Option<Object> {
                match *self {}
            }

            fn urgency(&self) -> Urgency {
                match *self {}
            }

            fn about(&self) -> Vec<Object> {
                match *self {}
            }

            fn locks(&self) -> Vec<Lock> {
                match *self {}
            }

            fn premise(&self, _view: &View) -> Premise {
                match *self {}
            }

            fn record(&self) -> Option<Event> {
                match *self {}
            }

            fn undo(&self, _estate: &Estate, _left: Left) -> Option<Event> {
                match *self {}
            }
        }
    };
}

pub(super) use stepless;
