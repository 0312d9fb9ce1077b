//! A whole cluster from bare hosts in one run: installed, joined, with networks, a volume and keepers (rules, sections 9 and
//! 29). Composed: its steps are those of the rooms that it passes through.

mod ask;
mod assess;
mod expand;

pub use ask::{Ask, Build};

super::composed::composed! {
    urgency: crate::road::Urgency::Ordinary;
    Bare installing,
    Cluster clusters,
    Network networks,
    Storage storage,
    Keeper keepers,
    Host hosts,
    Name naming,
}

type Draft<'a> = crate::road::Draft<'a, Step>;
