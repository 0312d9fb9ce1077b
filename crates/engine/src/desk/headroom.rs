//! The headroom of every cluster: the Field, the top bar, clusters and sheets all show the same. Computed when somebody
//! asks, and anew only for clusters whose hosts or machines changed. Under a storm of events it is computed for at most a
//! third of the time: an answer is shown for twice as long as it took.

use super::Desk;
use std::{
    collections::BTreeMap,
    sync::{Arc, OnceLock, PoisonError},
    time::{Duration, Instant},
};
use zastrugi_core::{
    availability::{Raise, Rests, Survival, model},
    estate::Cluster,
    ids::{ClusterId, Revision},
    units::Bytes,
    view::View,
};

/// An answer is never older than this, however long it took.
const OLD: Duration = Duration::from_millis(700);

/// What is known of one cluster.
pub struct Headroom {
    pub answer: Survival,
    /// Whether it survives what it must.
    pub meets: bool,
    pub sentence: String,
    reserves: Bytes,
    installed: Bytes,
    line: OnceLock<Option<f64>>,
    whole: OnceLock<Arc<Survival>>,
    raise: OnceLock<Raise>,
    rests: Rests,
}

impl Headroom {
    fn new(view: &View, cluster: &Cluster, rests: Rests, answer: Survival) -> Headroom {
        let hosts: Vec<_> = view
            .estate
            .hosts_in(cluster.id)
            .filter(|h| h.accepts_work())
            .collect();
        let installed: Bytes = hosts.iter().map(|h| h.hardware.memory).sum();
        let usable: Bytes = hosts.iter().map(|h| h.usable()).sum();
        Headroom {
            meets: !cluster.demand.asks() || answer.meets(cluster),
            sentence: answer.sentence_of(cluster),
            reserves: installed.less(usable),
            installed,
            answer,
            line: OnceLock::new(),
            whole: OnceLock::new(),
            raise: OnceLock::new(),
            rests,
        }
    }
    /// How full the hosts may be on average so that any one may fail; computed when it is asked for first.
    pub fn line(&self) -> Option<f64> {
        *self
            .line
            .get_or_init(|| self.answer.line(self.reserves.0, self.installed.0))
    }
    /// With every pair of hosts; likewise.
    pub fn whole(&self) -> Arc<Survival> {
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

/// What was computed last, of which revision, and until when it is shown though there is a newer one.
pub(super) type Cached = (Revision, Instant, Headrooms);

impl Desk {
    /// The headroom of every cluster and the revision that it is of: the present one, or one of less than a second ago.
    pub fn headrooms(&self) -> (Revision, Headrooms) {
        let lock = || {
            self.headrooms
                .lock()
                .unwrap_or_else(PoisonError::into_inner)
        };
        let view = self.look();
        let cached = lock().clone();
        if let Some((revision, until, all)) = &cached
            && (*revision == view.estate.revision || Instant::now() < *until)
        {
            return (*revision, all.clone());
        }
        let known = cached.map(|c| c.2).unwrap_or_default();
        let began = Instant::now();
        let fresh: Headrooms = Arc::new(
            view.estate
                .clusters
                .values()
                .map(|c| (c.id, of(&view, c, known.get(&c.id))))
                .collect(),
        );
        let until = Instant::now() + (2 * began.elapsed()).min(OLD);
        *lock() = Some((view.estate.revision, until, fresh.clone()));
        (view.estate.revision, fresh)
    }
}

/// The known answer if nothing that it rests on has changed, or nothing that counts.
fn of(view: &View, cluster: &Arc<Cluster>, known: Option<&Arc<Headroom>>) -> Arc<Headroom> {
    let rests = Rests::of(view, cluster);
    if let Some(known) = known.filter(|k| k.rests.same(&rests)) {
        return known.clone();
    }
    let (table, volumes) = model(view, cluster);
    let equal = |k: &&Arc<Headroom>| {
        k.answer.table == table && k.answer.volumes == volumes && k.rests.same_cluster(cluster)
    };
    match known.filter(equal) {
        Some(known) => known.clone(),
        None => {
            let answer = Survival::from(table, volumes, cluster.demand.failures > 1);
            Arc::new(Headroom::new(view, cluster, rests, answer))
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use zastrugi_core::ids::MachineId;
    use zastrugi_core::{
        estate::Fact,
        ids::HostId,
        testkit::{Small, read},
    };

    const TWO: &str = "cluster eider\nhost 1 64\nhost 2 64\nhost 3 64
        machine 11 a 30 on 1 tier=1\nmachine 12 b 20 on 2\nmachine 13 c 10 on 3 apart=g
        cluster tern\nhost 4 64\nhost 5 64\nmachine 14 d 20 on 4";

    fn step(small: &mut Small, n: u64) {
        let id = MachineId(11 + n % 4);
        small.alter(|e| {
            let mut m = (*e.machines[&id]).clone();
            match n % 5 {
                0 => m.host = Some(HostId(1 + n % 3)),
                1 => m.tier = u8::try_from(1 + n % 4).unwrap(),
                2 => m.note = format!("{n}"),
                3 => m.memory.kept = Bytes::gib(5 + n % 40),
                _ => m.restarts = !m.restarts,
            }
            e.put(Fact::Machine(m.into()));
        });
    }

    #[test]
    fn what_is_kept_up_change_by_change_equals_what_is_computed_whole() {
        let mut small = read(TWO);
        let mut known: BTreeMap<ClusterId, Arc<Headroom>> = BTreeMap::new();
        let mut kept = 0;
        for n in 0..200 {
            step(&mut small, n * 7 + n / 5);
            let clusters: Vec<_> = small.view.estate.clusters.values().cloned().collect();
            for cluster in clusters {
                let before = known.get(&cluster.id).cloned();
                let now = of(&small.view, &cluster, before.as_ref());
                kept += usize::from(before.is_some_and(|b| Arc::ptr_eq(&b, &now)));
                let whole = Survival::of(&small.view, &cluster);
                assert_eq!(now.answer, whole, "after change {n} in {}", cluster.name);
                assert_eq!(now.sentence, whole.sentence());
                known.insert(cluster.id, now);
            }
        }
        assert!(
            kept > 200,
            "what did not change was not computed again: {kept}"
        );
    }
}
