//! A machine that is given more than its host has room for, while it runs: it is moved to one that has, and then grows there.
//! Composed: its steps are those of moving and of edits.

mod ask;
mod assess;

pub use ask::{Ask, Grow};

super::composed::composed! {
    urgency: crate::road::Urgency::Ordinary;
    Move moving,
    Edit edits,
}

type Draft<'a> = crate::road::Draft<'a, Step>;
