//! The leader: it follows every device while its term holds, and appends what changed.

use super::{
    Duties, array, balancer, closing, ending, host,
    keeping::{Errands, clear_strays},
    leaving, naming,
    office::{Ears, Office},
    own, pairs, points,
    records::Shelves,
    restocking, scheduled, superseded, switch, tending,
    term::Term,
    withdrawing,
};
use crate::{
    scribe::Scribe,
    shared::{Shared, now},
};
use std::{
    collections::BTreeMap,
    sync::{Arc, Mutex, atomic::Ordering},
    time::Duration,
};
use tokio::{
    sync::watch,
    task::{AbortHandle, JoinSet},
    time::{Instant, sleep, sleep_until},
};
use zastrugi_core::{
    guard::Times,
    ids::{ArrayId, BalancerId, ClusterId, HostId, SwitchId},
    loads::HostLoad,
};
use zastrugi_keeper::{Post, Posts};
use zastrugi_store::{Held, Measurements};

/// How often it is looked whether there is somebody new to follow.
const LOOK: Duration = Duration::from_secs(2);

/// Samples that wait to be written.
pub(super) type Samples = Arc<Mutex<BTreeMap<HostId, HostLoad>>>;

pub(crate) async fn lead(
    shared: Arc<Shared>,
    scribe: Scribe,
    mut terms: watch::Receiver<Option<Term>>,
    duties: Duties,
) {
    let measurements = Measurements::new(shared.pool.clone());
    let mut reign: Option<Reign> = None;
    loop {
        let term = terms.borrow_and_update().filter(Term::holds);
        match term {
            Some(term) if reign.as_ref().is_none_or(|r| r.held != term.held) => {
                tracing::info!(term = term.held.term, "this process leads");
                reign = Some(Reign::new(term.held, &shared, &scribe, duties));
            }
            Some(_) => {}
            // Whoever was followed is let go at once.
            None => reign = None,
        }
        shared.leads.store(reign.is_some(), Ordering::Relaxed);
        match &mut reign {
            Some(reign) => reign.look_around(&shared, &scribe),
            None => follow(&shared, &measurements).await,
        }
        let ends = term.map_or_else(|| Instant::now() + LOOK, |t| t.until.into());
        let mut revisions = shared.revisions();
        tokio::select! {
            () = sleep(LOOK) => {}
            () = sleep_until(ends) => {}
            told = terms.changed() => if told.is_err() { return },
            // A host claimed a moment ago is followed at once.
            _ = revisions.changed(), if reign.is_some() => sleep(Duration::from_millis(200)).await,
        }
    }
}

/// A process that stands by never leads.
pub(crate) async fn read_loads(shared: Arc<Shared>) {
    let measurements = Measurements::new(shared.pool.clone());
    loop {
        follow(&shared, &measurements).await;
        sleep(LOOK).await;
    }
}

/// Processes that don't lead read loads from the table.
async fn follow(shared: &Shared, measurements: &Measurements) {
    if let Ok(samples) = measurements.latest().await {
        shared.loads.rcu(|loads| {
            let mut loads = (**loads).clone();
            samples
                .iter()
                .for_each(|(host, sample)| loads.take(*host, sample.clone()));
            loads
        });
        shared.loads_taken(now());
    }
}

struct Reign {
    held: Held,
    tasks: JoinSet<()>,
    followed: BTreeMap<HostId, (String, AbortHandle)>,
    arrays: BTreeMap<ArrayId, AbortHandle>,
    switches: BTreeMap<SwitchId, AbortHandle>,
    balancers: BTreeMap<BalancerId, AbortHandle>,
    samples: Samples,
    guard: Option<Times>,
    /// Who guards each cluster, and whether it has keepers.
    guards: BTreeMap<ClusterId, (bool, AbortHandle)>,
    office: Office,
    shelves: Shelves,
    posts: Posts,
}

impl Reign {
    fn new(held: Held, shared: &Arc<Shared>, scribe: &Scribe, duties: Duties) -> Self {
        let samples = Samples::default();
        let mut tasks = JoinSet::new();
        tasks.spawn(tending::tend(
            shared.clone(),
            scribe.clone(),
            samples.clone(),
        ));
        let office = Office {
            shared: shared.clone(),
            scribe: scribe.clone(),
            held,
            ears: Ears::new(),
        };
        if duties.guard.is_some() {
            tasks.spawn(closing::close(office.clone()));
            tasks.spawn(clear_strays(office.clone()));
            tasks.spawn(leaving::move_away(office.clone()));
        }
        tasks.spawn(withdrawing::withdraw(office.clone()));
        tasks.spawn(ending::forget(office.clone()));
        tasks.spawn(naming::follow(office.clone()));
        tasks.spawn(restocking::follow(office.clone()));
        tasks.spawn(scheduled::take(office.clone()));
        tasks.spawn(superseded::lay(office.clone()));
        tasks.spawn(points::take(office.clone()));
        tasks.spawn(pairs::look(office.clone()));
        tasks.spawn(balancer::follow(office.clone()));
        let own = duties.own.or_else(own::by_firmware);
        tasks.spawn(own::know(office.clone(), own));
        Reign {
            office,
            shelves: Shelves::default(),
            held,
            tasks,
            followed: BTreeMap::new(),
            arrays: BTreeMap::new(),
            switches: BTreeMap::new(),
            balancers: BTreeMap::new(),
            samples,
            guard: duties.guard,
            guards: BTreeMap::new(),
            posts: Posts::default(),
        }
    }

    fn look_around(&mut self, shared: &Arc<Shared>, scribe: &Scribe) {
        while self.tasks.try_join_next().is_some() {}
        self.guard_clusters();
        self.follow_hosts(shared, scribe);
        self.follow_arrays(shared, scribe);
        self.follow_switches(shared, scribe);
        self.follow_balancers(shared, scribe);
    }

    /// A guard for each cluster; for one that has keepers, whoever does the manager's part.
    fn guard_clusters(&mut self) {
        let Some(times) = self.guard else { return };
        let estate = self.office.shared.estate();
        let keeps = |id: &ClusterId| estate.clusters.get(id).map(|c| c.keeping.is_some());
        self.guards.retain(|id, (kept, task)| {
            let same = keeps(id) == Some(*kept);
            if !same {
                task.abort();
            }
            same && !task.is_finished()
        });
        for (id, cluster) in &estate.clusters {
            if self.guards.contains_key(id) {
                continue;
            }
            let (office, posts) = (self.office.clone(), self.posts.clone());
            let kept = cluster.keeping.is_some();
            let task = if kept {
                let errands = Errands {
                    office,
                    cluster: *id,
                    times,
                    posts,
                };
                self.tasks.spawn(errands.run())
            } else {
                let post = Post {
                    book: office,
                    cluster: *id,
                    times,
                    posts,
                    began: std::time::Instant::now(),
                };
                self.tasks.spawn(post.stand())
            };
            self.guards.insert(*id, (kept, task));
        }
    }

    /// A task for each array and filer.
    fn follow_arrays(&mut self, shared: &Arc<Shared>, scribe: &Scribe) {
        let estate = shared.estate();
        self.arrays
            .retain(|id, task| estate.arrays.contains_key(id) && !task.is_finished());
        for id in estate.arrays.keys() {
            if !self.arrays.contains_key(id) {
                let eye = array::ArrayEye {
                    shared: shared.clone(),
                    scribe: scribe.clone(),
                    held: self.held,
                    array: *id,
                };
                self.arrays.insert(*id, self.tasks.spawn(eye.follow()));
            }
        }
    }

    /// A task for each switch.
    fn follow_switches(&mut self, shared: &Arc<Shared>, scribe: &Scribe) {
        let estate = shared.estate();
        self.switches
            .retain(|id, task| estate.switches.contains_key(id) && !task.is_finished());
        for id in estate.switches.keys() {
            if !self.switches.contains_key(id) {
                let eye = switch::SwitchEye {
                    shared: shared.clone(),
                    scribe: scribe.clone(),
                    held: self.held,
                    switch: *id,
                };
                self.switches.insert(*id, self.tasks.spawn(eye.follow()));
            }
        }
    }

    /// A task for each load balancer.
    fn follow_balancers(&mut self, shared: &Arc<Shared>, scribe: &Scribe) {
        let estate = shared.estate();
        self.balancers
            .retain(|id, task| estate.balancers.contains_key(id) && !task.is_finished());
        for id in estate.balancers.keys() {
            if !self.balancers.contains_key(id) {
                let eye = balancer::BalancerEye {
                    shared: shared.clone(),
                    scribe: scribe.clone(),
                    held: self.held,
                    balancer: *id,
                };
                self.balancers.insert(*id, self.tasks.spawn(eye.follow()));
            }
        }
    }

    /// A task for each claimed host, by the certificate and key that it was claimed with.
    fn follow_hosts(&mut self, shared: &Arc<Shared>, scribe: &Scribe) {
        let estate = shared.estate();
        let by_access = |h: &zastrugi_core::estate::Host| format!("{:?}", h.access);
        self.followed.retain(|id, (access, task)| {
            let same = estate
                .hosts
                .get(id)
                .is_some_and(|h| by_access(h) == *access);
            if !same {
                task.abort();
            }
            same && !task.is_finished()
        });
        for host in estate.hosts.values().filter(|h| h.access.key.is_some()) {
            if !self.followed.contains_key(&host.id) {
                let eye = host::Eye {
                    shared: shared.clone(),
                    scribe: scribe.clone(),
                    held: self.held,
                    samples: self.samples.clone(),
                    posts: self.posts.clone(),
                    office: self.office.clone(),
                    shelves: self.shelves.clone(),
                    host: host.id,
                };
                let task = self.tasks.spawn(eye.follow());
                self.followed.insert(host.id, (by_access(host), task));
            }
        }
    }
}
