//! A cluster that another manager runs becomes ours in one run, without a pause of any machine: everything is read first and
//! nothing is written; then each host changes its owner, and what it has is taken as it is (rules, section 30). Composed: its
//! steps are those of hosts, clusters, storage and networks.

mod ask;
mod assess;
mod plan;

pub use ask::{Ask, TakeOver};
pub use plan::{Kind, Line, Plan, Verdict, plan};

super::composed::composed! {
    urgency: crate::road::Urgency::Ordinary;
    Host hosts,
    Cluster clusters,
    Storage storage,
    Network networks,
}

type Draft<'a> = crate::road::Draft<'a, Step>;
