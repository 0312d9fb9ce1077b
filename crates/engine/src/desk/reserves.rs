//! The reserve of every cluster, computed once for a revision: the Field, the top bar and the clusters all show it.

use super::Desk;
use std::{
    collections::BTreeMap,
    sync::{Arc, PoisonError},
};
use zastrugi_core::{
    assess::{Reserve, reserve},
    ids::{ClusterId, Revision},
    placement::Ledger,
};

/// By cluster; none where fewer than two hosts answer.
pub type Reserves = Arc<BTreeMap<ClusterId, Option<Reserve>>>;

/// What was computed last, and when it was true.
pub(super) type Cached = (Revision, Reserves);

impl Desk {
    pub fn reserves(&self) -> Reserves {
        let view = self.look();
        let revision = view.estate.revision;
        let cached = self
            .reserves
            .lock()
            .unwrap_or_else(PoisonError::into_inner)
            .clone();
        if let Some((at, reserves)) = cached
            && at == revision
        {
            return reserves;
        }
        let of = |id: &ClusterId| {
            let hosts = view.estate.hosts_in(*id).cloned();
            reserve(&Ledger::of(&view, hosts, &Default::default()))
        };
        let fresh: Reserves = Arc::new(
            view.estate
                .clusters
                .keys()
                .map(|id| (*id, of(id)))
                .collect(),
        );
        *self.reserves.lock().unwrap_or_else(PoisonError::into_inner) =
            Some((revision, fresh.clone()));
        fresh
    }
}
