//! The headroom of every cluster: the Field, the top bar, clusters and sheets all show the same. Computed when somebody
//! asks, at most twice a second, and anew only for clusters whose hosts or machines changed.

use super::Desk;
use std::{
    collections::BTreeMap,
    sync::{Arc, OnceLock, PoisonError},
    time::{Duration, Instant},
};
use zastrugi_core::{
    availability::{Answer, Raise, model},
    estate::Cluster,
    ids::{ClusterId, Revision},
    units::Bytes,
    view::View,
};

/// An answer may be so old while others are computed.
const OLD: Duration = Duration::from_millis(500);

/// What is known of one cluster.
pub struct Headroom {
    pub answer: Answer,
    /// Whether it survives what it must.
    pub meets: bool,
    pub sentence: String,
    reserves: Bytes,
    installed: Bytes,
    line: OnceLock<Option<f64>>,
    whole: OnceLock<Arc<Answer>>,
    raise: OnceLock<Raise>,
    cluster: Cluster,
}

impl Headroom {
    fn new(view: &View, cluster: &Cluster, answer: Answer) -> Headroom {
        let hosts: Vec<_> = view
            .estate
            .hosts_in(cluster.id)
            .filter(|h| h.accepts_work())
            .collect();
        let installed: Bytes = hosts.iter().map(|h| h.hardware.memory).sum();
        let usable: Bytes = hosts.iter().map(|h| h.usable()).sum();
        Headroom {
            meets: cluster.demand.failures == 0 || answer.meets(cluster),
            sentence: answer.sentence(),
            reserves: installed.less(usable),
            installed,
            answer,
            line: OnceLock::new(),
            whole: OnceLock::new(),
            raise: OnceLock::new(),
            cluster: cluster.clone(),
        }
    }
    /// How full the hosts may be on average so that any one may fail; computed when it is asked for first.
    pub fn line(&self) -> Option<f64> {
        *self
            .line
            .get_or_init(|| self.answer.line(self.reserves.0, self.installed.0))
    }
    /// With every pair of hosts; likewise.
    pub fn whole(&self) -> Arc<Answer> {
        self.whole
            .get_or_init(|| Arc::new(self.answer.clone().with_pairs()))
            .clone()
    }
    /// What would let it survive one more; likewise.
    pub fn raise(&self) -> &Raise {
        self.raise.get_or_init(|| self.whole().raise())
    }
}

/// By cluster.
pub type Headrooms = Arc<BTreeMap<ClusterId, Arc<Headroom>>>;

/// What was computed last, of which revision, and when.
pub(super) type Cached = (Revision, Instant, Headrooms);

impl Desk {
    /// The headroom of every cluster and the revision that it is of: the present one, or one of the last half second.
    pub fn headrooms(&self) -> (Revision, Headrooms) {
        let lock = || {
            self.headrooms
                .lock()
                .unwrap_or_else(PoisonError::into_inner)
        };
        let view = self.look();
        let cached = lock().clone();
        if let Some((revision, at, all)) = &cached
            && (*revision == view.estate.revision || at.elapsed() < OLD)
        {
            return (*revision, all.clone());
        }
        let known = cached.map(|c| c.2).unwrap_or_default();
        let fresh: Headrooms = Arc::new(
            view.estate
                .clusters
                .values()
                .map(|c| (c.id, of(&view, c, known.get(&c.id))))
                .collect(),
        );
        *lock() = Some((view.estate.revision, Instant::now(), fresh.clone()));
        (view.estate.revision, fresh)
    }
}

/// The known answer if nothing that it rests on has changed.
fn of(view: &View, cluster: &Arc<Cluster>, known: Option<&Arc<Headroom>>) -> Arc<Headroom> {
    let (table, volumes) = model(view, cluster);
    match known {
        Some(known)
            if known.answer.table == table
                && known.cluster == **cluster
                && known.answer.volumes == volumes =>
        {
            known.clone()
        }
        _ => {
            let answer = Answer::from(table, volumes, cluster.demand.failures > 1);
            Arc::new(Headroom::new(view, cluster, answer))
        }
    }
}
