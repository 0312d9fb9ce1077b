//! The list of rooms. Everything that can be wished, done and told is in one of them; here are only the enums over all
//! rooms and the matches that delegate. A new room is its folder and one line in `rooms!`.

// Inside a room every variant is answered for by name: a new one doesn't compile until somebody decides.
#![deny(clippy::wildcard_enum_match_arm)]

mod composed;
mod stepless;
mod stored;
pub mod upgrade;

pub use stored::{FactRow, Record, STEPS, closed_run};

use crate::{
    endpoint::Password,
    estate::{Estate, Pen, Site},
    finding::Finding,
    ids::SiteId,
    moment::{Moment, Span},
    permits::{Act, Permits},
    road::{self, Ask, Entry, Given, Left, Length, Premise, RunEvent, Tale, Typed, Urgency, Work},
    runs::{Lock, Object},
    view::View,
};
use serde::{Deserialize, Serialize};
use std::collections::BTreeSet;

/// Rooms with proposals, steps and events; then those of which there is only something to tell.
macro_rules! rooms {
    ($($Room:ident $room:ident),* ; $($Told:ident $told:ident),* $(,)?) => {
        $(pub mod $room;)*
        $(pub mod $told;)*

        /// What somebody wishes, unchecked.
        #[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
        #[serde(rename_all = "snake_case")]
        pub enum Proposal {
            $($Room($room::Ask)),*
        }

        /// What a device must do.
        #[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
        #[serde(rename_all = "snake_case")]
        pub enum Step {
            $($Room($room::Step)),*
        }

        /// What happened.
        #[derive(Debug, Clone, PartialEq)]
        pub enum Event {
            $($Room($room::Event),)*
            $($Told($told::Event),)*
            /// Of a run; changes what lies beside the estate.
            Work(RunEvent<Proposal, Step>),
        }

        $(
            impl From<$room::Ask> for Proposal {
                fn from(ask: $room::Ask) -> Self {
                    Proposal::$Room(ask)
                }
            }
            impl From<$room::Step> for Step {
                fn from(step: $room::Step) -> Self {
                    Step::$Room(step)
                }
            }
            impl From<$room::Event> for Event {
                fn from(event: $room::Event) -> Self {
                    Event::$Room(event)
                }
            }
        )*
        $(
            impl From<$told::Event> for Event {
                fn from(event: $told::Event) -> Self {
                    Event::$Told(event)
                }
            }
        )*

        /// Computes the consequences of `ask` in the state of `view`, for somebody with `permits`.
        pub fn assess(view: &View, permits: &Permits, ask: &Proposal, now: Moment) -> Assessment {
            match ask {
                $(Proposal::$Room(ask) => road::assess(view, permits, ask, now).of()),*
            }
        }

        impl Step {
            /// Every kind of step, by the names that are stored: of which room, and which there.
            pub fn kinds() -> impl Iterator<Item = (&'static str, &'static str)> {
                use strum::VariantNames as _;
                let rooms: Vec<(&str, &[&str])> =
                    vec![$((stringify!($room), $room::Step::VARIANTS)),*];
                rooms.into_iter().flat_map(|(room, kinds)| kinds.iter().map(move |kind| (room, *kind)))
            }
        }

        impl Proposal {
            /// What somebody must be allowed to do, for every target of it; all of them.
            pub fn acts(&self) -> BTreeSet<Act> {
                match self {
                    $(Proposal::$Room(ask) => ask.acts()),*
                }
            }
            /// Where a password that was typed shall be replaced by where it is kept.
            pub fn password(&mut self) -> Option<&mut Password> {
                match self {
                    $(Proposal::$Room(ask) => ask.password()),*
                }
            }
            /// The same of a key that was typed beside it.
            pub fn key(&mut self) -> Option<&mut Password> {
                match self {
                    $(Proposal::$Room(ask) => ask.key()),*
                }
            }
        }

        impl Work for Step {
            type Event = Event;

            fn group(&self) -> &'static str {
                match self {
                    $(Step::$Room(step) => step.group()),*
                }
            }
            fn length(&self) -> Length {
                match self {
                    $(Step::$Room(step) => step.length()),*
                }
            }
            fn may_be_left(&self) -> bool {
                match self {
                    $(Step::$Room(step) => step.may_be_left()),*
                }
            }
            fn pause(&self) -> Span {
                match self {
                    $(Step::$Room(step) => step.pause()),*
                }
            }
            fn carried_at(&self, estate: &Estate) -> Vec<SiteId> {
                match self {
                    $(Step::$Room(step) => step.carried_at(estate)),*
                }
            }
            fn goes_on(&self) -> bool {
                match self {
                    $(Step::$Room(step) => step.goes_on()),*
                }
            }
            fn device(&self, estate: &Estate) -> Option<Object> {
                match self {
                    $(Step::$Room(step) => step.device(estate)),*
                }
            }
            fn urgency(&self) -> Urgency {
                match self {
                    $(Step::$Room(step) => step.urgency()),*
                }
            }
            fn about(&self) -> Vec<Object> {
                match self {
                    $(Step::$Room(step) => step.about()),*
                }
            }
            fn locks(&self) -> Vec<Lock> {
                match self {
                    $(Step::$Room(step) => step.locks()),*
                }
            }
            fn premise(&self, view: &View) -> Premise {
                match self {
                    $(Step::$Room(step) => step.premise(view)),*
                }
            }
            fn record(&self) -> Option<Event> {
                match self {
                    $(Step::$Room(step) => step.record().map(Event::from)),*
                }
            }
            fn undo(&self, estate: &Estate, left: Left) -> Option<Event> {
                match self {
                    $(Step::$Room(step) => step.undo(estate, left).map(Event::from)),*
                }
            }
            fn given(&self, estate: &Estate) -> Vec<Given> {
                match self {
                    $(Step::$Room(step) => step.given(estate)),*
                }
            }
            fn correct(&self, view: &View, now: Moment, typed: &Typed) -> Result<Event, Vec<Finding>> {
                match self {
                    $(Step::$Room(step) => step.correct(view, now, typed).map(Event::from)),*
                }
            }
            fn rests_on(&self, correction: &Event) -> bool {
                $(if let (Step::$Room(step), Event::$Room(event)) = (self, correction) {
                    return step.rests_on(event);
                })*
                false
            }
        }

        impl Tale for Event {
            fn absorb(&self, pen: &mut Pen<'_>) {
                match self {
                    $(Event::$Room(event) => event.absorb(pen),)*
                    $(Event::$Told(event) => event.absorb(pen),)*
                    // Runs lie beside the estate: see `absorb`.
                    Event::Work(_) => {}
                }
            }
            fn tell(&self, estate: &Estate) -> Option<Entry> {
                match self {
                    $(Event::$Room(event) => event.tell(estate),)*
                    $(Event::$Told(event) => event.tell(estate),)*
                    Event::Work(event) => event.tell(),
                }
            }
            fn is_sighting(&self) -> bool {
                match self {
                    $(Event::$Room(event) => event.is_sighting(),)*
                    $(Event::$Told(event) => event.is_sighting(),)*
                    Event::Work(_) => false,
                }
            }
        }
    };
}

rooms! {
    Hosts hosts,
    Clusters clusters,
    Machines machines,
    Moving moving,
    Storage storage,
    Arrays arrays,
    Images images,
    Networks networks,
    Edits edits,
    Qualities qualities,
    Joining joining,
    Maintenance maintenance,
    Keepers keepers,
    Installing installing,
    Building building,
    Leaving leaving,
    Taking taking,
    Naming naming,
    Fronts fronts,
    Snapshots snapshots,
    Stores stores,
    Carrying carrying,
    Backups backups,
    Restoring restoring,
    Answers answers,
    Proving proving,
    Hardware hardware,
    Sharing sharing,
    Growing growing,
    Providing providing,
    Spares spares,
    Restocking restocking,
    Schedules schedules,
    Scheduled scheduled,
    Pledges pledges,
    Jobs jobs,
    Pairs pairs,
    Plans plans,
    Passages passages,
    Drilling drilling,
    Handover handover,
    Replicas replicas,
    Replicating replicating,
    Refreshing refreshing,
    Records records,
    ConsoleLocks console_locks,
    Templates templates,
    FirstBoot first_boot,
    Packages packages;
    Sites sites,
    Consoles consoles,
    People people,
    Recovery recovery,
}

pub type Assessment = road::Assessment<Proposal, Step>;
pub type AcceptedPlan = road::AcceptedPlan<Proposal, Step>;
pub type Plan = road::Plan<Proposal, Step>;
pub type PlannedStep = road::PlannedStep<Step>;
pub type Plans = road::Plans<Proposal, Step>;
pub type World = road::World<Proposal, Step>;
pub type Change = road::Change<Proposal, Step>;

impl From<RunEvent<Proposal, Step>> for Event {
    fn from(event: RunEvent<Proposal, Step>) -> Self {
        Event::Work(event)
    }
}

impl From<Site> for Event {
    fn from(site: Site) -> Self {
        Event::Sites(sites::Event::Added(site))
    }
}

/// Folds one event in and says what it touched. Events about things that are gone touch nothing.
pub fn absorb(world: &mut World, event: &Event) -> Change {
    if let Event::Work(event) = event {
        world.absorb_run(event)
    } else {
        world.absorb(event)
    }
}

/// Folds several events in.
pub fn absorb_all<'a>(world: &mut World, events: impl IntoIterator<Item = &'a Event>) -> Change {
    let mut change = Change::default();
    for event in events {
        change.merge(absorb(world, event));
    }
    change
}

impl Proposal {
    /// Whether `permits` allow all of it.
    pub fn allowed(&self, permits: &Permits) -> bool {
        self.acts().into_iter().all(|act| permits.allow(act))
    }
}
