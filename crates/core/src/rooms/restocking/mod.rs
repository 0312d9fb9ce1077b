//! A pool is brought to what it shall be: spares that are missing are made, old ones and those that were given back thrown away.
//! Composed: its steps are those of machines; that something was due is told of the pool.

mod ask;
mod assess;

pub use ask::Ask;

super::composed::composed! {
    urgency: crate::road::Urgency::Ordinary;
    Machine machines,
    ;
    Pool spares,
}

type Draft<'a> = crate::road::Draft<'a, Step>;
