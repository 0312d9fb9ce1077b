//! The snapshots of a schedule, once they are due. Composed: its steps are those of snapshots; that it was begun is told of the schedule.

mod ask;
mod assess;

pub use ask::Ask;

super::composed::composed! {
    urgency: crate::road::Urgency::Ordinary;
    Snap snapshots,
    ;
    Schedule schedules,
}

type Draft<'a> = crate::road::Draft<'a, Step>;
