//! A recovery plan is carried out in earnest: its machines go on at the other site, and what they were is their replicas. Composed: its
//! steps are those of machines, snapshots, replicas, questions and passages.

mod ask;
mod arrive;
mod bring;
mod chosen;
mod failover;
mod member;
mod promised;
mod shift;

pub use ask::{Ask, Failover, Shift, Which};

super::composed::composed! {
    urgency: crate::road::Urgency::Ordinary, leaves: true;
    Machine machines,
    Snap snapshots,
    Replica replicas,
    Try answers,
    Passage passages,
    ;
    Job jobs,
}

type Draft<'a> = crate::road::Draft<'a, Step>;
