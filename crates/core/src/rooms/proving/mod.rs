//! A recovery point is proven: a machine is made of it, alone, powered on, asked, and removed for good, whatever came of it.
//! Composed: its steps are those of machines, and the question.

mod ask;
mod assess;
mod clear;
mod copies;

pub use ask::{Ask, ProvePoint};
pub(crate) use copies::{Copied, Had, gone, name, started};

super::composed::composed! {
    urgency: crate::road::Urgency::Ordinary;
    Machine machines,
    Try answers,
}

type Draft<'a> = crate::road::Draft<'a, Step>;
