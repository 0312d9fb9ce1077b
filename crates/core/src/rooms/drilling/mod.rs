//! A recovery plan is carried out beside production: copies of what the other site has are booted there, stage by stage, in networks
//! that nobody else hears, asked, measured, and removed for good. Composed: its steps are those of machines, questions and passages.

mod ask;
mod copies;
mod drill;

pub use ask::{Ask, Drill};

super::composed::composed! {
    urgency: crate::road::Urgency::Ordinary, leaves: true;
    Machine machines,
    Try answers,
    Passage passages,
}

type Draft<'a> = crate::road::Draft<'a, Step>;

impl From<crate::rooms::proving::Step> for Step {
    fn from(step: crate::rooms::proving::Step) -> Step {
        use crate::rooms::proving::Step as Proven;
        match step {
            Proven::Machine(step) => Step::Machine(step),
            Proven::Try(step) => Step::Try(step),
        }
    }
}

impl From<crate::rooms::proving::Event> for Event {
    fn from(event: crate::rooms::proving::Event) -> Event {
        use crate::rooms::proving::Event as Proven;
        match event {
            Proven::Machine(event) => Event::Machine(event),
            Proven::Try(event) => Event::Try(event),
        }
    }
}
