//! A claimed host joins a cluster that is there: with its volumes and its networks, in one run. Composed: its steps are those of
//! clusters, storage, networks and names.

mod ask;
mod assess;

pub use ask::Ask;

super::composed::composed! {
    urgency: crate::road::Urgency::Ordinary;
    Host hosts,
    Cluster clusters,
    Storage storage,
    Network networks,
    Name naming,
}

type Draft<'a> = crate::road::Draft<'a, Step>;
