//! What the manager does for a cluster that has keepers: it gives them what it knows, takes in what they decided, and
//! decides itself where none of them does.

use super::office::Office;
use std::{
    collections::BTreeSet,
    sync::Arc,
    time::{Duration, Instant},
};
use tokio::{
    task::JoinHandle,
    time::{sleep, timeout_at},
};
use zastrugi_core::{
    availability::Rests,
    estate::{Cluster, Failure, Host, Keeping},
    guard::{Hears, Line, Note, Times, Told},
    ids::{ClusterId, FailureId, HostId, MachineId},
    papers::Papers,
    recounting::read_line,
    rooms::{Event, keepers},
    runs::Object,
    view::View,
};
use zastrugi_keeper::{Book as _, Good, Post, Posts, Quorum, Seat};

/// What changes nothing of who runs where is given so often at most.
const OTHER: Duration = Duration::from_mins(1);
/// Keepers have so many times their own patience before the manager decides for them.
const PATIENCE: u64 = 3;

pub(super) struct Errands {
    pub(super) office: Office,
    pub(super) cluster: ClusterId,
    pub(super) times: Times,
    pub(super) posts: Posts,
}

/// What was given, and to whom.
struct Gave {
    rests: Rests,
    failures: imbl::OrdMap<FailureId, Arc<Failure>>,
    busy: BTreeSet<MachineId>,
    at: Instant,
    /// Those who have it.
    to: BTreeSet<HostId>,
}

impl Errands {
    /// Goes on while the cluster has keepers. None of it waits for the other.
    pub(super) async fn run(self) {
        tokio::select! {
            () = self.keep_giving() => {}
            () = self.keep_reading() => {}
            () = self.fill_in() => {}
        }
    }

    fn pause(&self) -> Duration {
        Duration::from_millis((self.times.silent.0 / 15).max(20))
    }

    /// What is known now, and the volume on which they agree; none when there are no keepers any more.
    fn look(&self, good: &Good) -> Option<(View, Arc<Cluster>, Keeping, Option<Quorum>)> {
        let view = self.office.view();
        let cluster = view.estate.clusters.get(&self.cluster).cloned()?;
        let keeping = cluster.keeping.clone()?;
        let (place, drivers) = (
            (self.cluster, keeping.volume),
            self.office.drivers().clone(),
        );
        let limit = Duration::from_millis(self.times.silent.0 / 7);
        let quorum = Quorum::new(drivers, &view.estate, place, None, good, limit);
        Some((view, cluster, keeping, quorum))
    }

    async fn keep_giving(&self) {
        let (good, mut gave) = (Good::default(), None);
        while let Some((view, cluster, keeping, _)) = self.look(&good) {
            self.give(&view, &cluster, &keeping, &mut gave).await;
            sleep(self.pause()).await;
        }
    }

    async fn keep_reading(&self) {
        let good = Good::default();
        while let Some((_, _, keeping, quorum)) = self.look(&good) {
            if let Some(quorum) = quorum {
                self.take_in(&quorum, keeping.taken).await;
            }
            sleep(self.pause()).await;
        }
    }

    /// Decides where no keeper does.
    async fn fill_in(&self) {
        let good = Good::default();
        let me = self.office.drivers().installation().id.clone();
        let mut seat = Seat::new(me, self.times.silent, PATIENCE, None);
        let mut post: Option<AbortOnDrop> = None;
        let mut until: Option<Instant> = None;
        while let Some((view, cluster, keeping, quorum)) = self.look(&good) {
            let lease = match &quorum {
                Some(quorum) => {
                    let sitting = seat.sit(quorum, self.hears(&view));
                    match until {
                        // It stops when its time is over, however long the renewal takes.
                        Some(at) => timeout_at(at.into(), sitting).await.ok().flatten(),
                        None => sitting.await,
                    }
                }
                None => None,
            };
            until = lease.map(|l| l.until);
            let sits = until.is_some();
            match (sits, &post) {
                (true, None) => {
                    // What whoever decided before wrote is known first.
                    if let Some(quorum) = &quorum {
                        self.take_in(quorum, keeping.taken).await;
                    }
                    tracing::warn!(cluster = %cluster.name, "no keeper decides: the manager does");
                    post = Some(AbortOnDrop(tokio::spawn(self.post().stand())));
                }
                (true, Some(_)) => {}
                (false, _) => post = None,
            }
            sleep(self.pause() * 2).await;
        }
    }

    fn post(&self) -> Post<Office> {
        Post {
            book: self.office.clone(),
            cluster: self.cluster,
            times: self.times,
            posts: self.posts.clone(),
            began: Instant::now(),
        }
    }

    fn hears(&self, view: &View) -> Hears {
        let all: Vec<&Arc<Host>> = view.estate.hosts_in(self.cluster).collect();
        Hears {
            of: all.len() as u64,
            hosts: all.iter().filter(|h| h.reports()).count() as u64,
        }
    }

    /// What keepers decided is told here too, with the times at which it happened.
    async fn take_in(&self, quorum: &Quorum, taken: u64) {
        let lines = match quorum.journal(taken).await {
            Ok(lines) => lines,
            Err(fault) => {
                tracing::debug!(said = fault.said, "the keepers' journal can't be read");
                return;
            }
        };
        for line in lines {
            tracing::info!(?line, cluster = %self.cluster, "a line of the keepers' journal");
            if !self.take_line(line).await {
                return;
            }
        }
    }

    async fn take_line(&self, line: Line) -> bool {
        let cluster = self.cluster;
        // Whether a host that was fenced serves again is known once this process would have heard it.
        if self.office.ears.are_new() {
            return false;
        }
        let ears = self.office.ears.clone();
        let fresh = Papers::taken(&self.office.view(), cluster) < line.index;
        let took = match line.told {
            Told::Note(Note::Up { took, .. }) => Some(took).filter(|_| fresh),
            Told::Note(_) | Told::Switching { .. } => None,
        };
        let written = self
            .office
            .append(move |sight| {
                let serves = |h: &Host| h.reports() && ears.hears(h.id);
                let last = line.index;
                if Papers::taken(sight.view, cluster) >= last {
                    return vec![];
                }
                let mut events = read_line(sight.view, sight.plans, cluster, &line, &serves);
                events.push(Event::Keepers(keepers::Event::TookIn { cluster, last }));
                events
            })
            .await;
        // How long machines boot here is learnt from these too.
        if let Some(took) = took.filter(|_| written) {
            self.office.booted(took);
        }
        written
    }

    /// Whoever runs a keeper gets what is known, when it changed; and whoever did not take it, again.
    async fn give(
        &self,
        view: &View,
        cluster: &Arc<Cluster>,
        keeping: &Keeping,
        gave: &mut Option<Gave>,
    ) {
        let rests = Rests::of(view, cluster);
        let machines = view.estate.machines_in(self.cluster).map(|m| m.id);
        let busy: BTreeSet<MachineId> = machines
            .filter(|m| view.runs.holds(Object::Machine(*m)))
            .collect();
        let news = gave.as_ref().is_none_or(|g| {
            let other = !g.rests.same(&rests) && g.at.elapsed() >= OTHER;
            let places = !g.rests.same_places(&rests) || g.busy != busy;
            other || places || !g.failures.ptr_eq(&view.estate.failures)
        });
        if news {
            *gave = Some(Gave {
                rests,
                failures: view.estate.failures.clone(),
                busy,
                at: Instant::now(),
                to: BTreeSet::new(),
            });
        }
        let Some(gave) = gave else { return };
        let lack = keeping.hosts.iter().filter(|h| !gave.to.contains(h));
        let lack: Vec<Arc<Host>> = lack
            .filter_map(|h| {
                view.estate
                    .hosts
                    .get(h)
                    .filter(|h| h.accepts_work())
                    .cloned()
            })
            .collect();
        let epoch = self.office.epoch();
        let told = lack.iter().map(|host| async move {
            let papers = Papers::of(view, self.cluster, epoch, keeping.volume)?;
            Some((
                host.id,
                self.office.drivers().give_keeper(view, host, papers).await,
            ))
        });
        for (host, told) in futures::future::join_all(told).await.into_iter().flatten() {
            match told {
                Ok(()) => drop(gave.to.insert(host)),
                Err(fault) => {
                    tracing::debug!(%host, said = fault.said, "a keeper did not get what is new")
                }
            }
        }
    }
}

/// Keepers that a host still runs for a cluster that doesn't name it are taken away.
pub(super) async fn clear_strays(office: Office) {
    loop {
        sleep(Duration::from_secs(5)).await;
        let view = office.view();
        for host in view.estate.hosts.values().filter(|h| h.accepts_work()) {
            for cluster in host.keepers.keys() {
                let found = view.estate.clusters.get(cluster);
                let named = found
                    .and_then(|c| c.keeping.as_ref())
                    .is_some_and(|k| k.hosts.contains(&host.id));
                if named {
                    continue;
                }
                let at = (office.epoch(), view.estate.revision);
                let told = office
                    .drivers()
                    .take_keeper(host, *cluster, at.0, at.1)
                    .await;
                tracing::info!(host = host.name, %cluster, ok = told.is_ok(), "a keeper that nobody names is taken away");
            }
        }
    }
}

struct AbortOnDrop(JoinHandle<()>);

impl Drop for AbortOnDrop {
    fn drop(&mut self) {
        self.0.abort();
    }
}
