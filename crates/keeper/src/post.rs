//! The guard of one cluster at its post: what is seen goes in, what it orders is carried out, what it tells is written. All
//! that is decided is decided in [`zastrugi_core::guard`].

use crate::{Book, Posts, Written, now, posts::Say};
use imbl::OrdMap;
use std::{
    sync::Arc,
    time::{Duration, Instant},
};
use tokio::{
    sync::mpsc,
    time::{MissedTickBehavior, error::Elapsed, interval, sleep, timeout},
};
use zastrugi_core::{
    availability::Rests,
    estate::{Cluster, Estate, Failure, Host},
    guard::{Guard, Input, Note, Order, Plan, Power, Refusal, Stamp, Times, Told},
    ids::{ClusterId, FailureId, HostId, MachineId, VolumeId},
    moment::{Moment, Span},
    runs::Fault,
    view::View,
};
use zastrugi_drivers::{GuardedStart, Turn};

/// How long a plan that changed waits for what else changes.
const GATHER: Duration = Duration::from_millis(100);
/// A note that could not be written is tried again so often.
const TRIES: u32 = 5;

/// One guard, and what it needs to act.
#[derive(Clone)]
pub struct Post<B> {
    pub book: B,
    pub cluster: ClusterId,
    pub times: Times,
    pub posts: Posts,
    /// Its own clock: it only ever goes on.
    pub began: Instant,
}

impl<B: Book> Post<B> {
    /// Stands guard until the cluster is gone, or this is dropped.
    pub async fn stand(self) {
        let (say, mut told) = mpsc::unbounded_channel();
        let (note, notes) = mpsc::unbounded_channel();
        self.posts.put(self.cluster, say.clone());
        let writing = tokio::spawn(self.clone().write(notes, say.clone()));
        let _ends_with_it = AbortOnDrop(writing);
        let mut guard = Guard::new(self.times, self.clock());
        let mut tick = interval(Duration::from_millis((self.times.silent.0 / 15).max(20)));
        tick.set_missed_tick_behavior(MissedTickBehavior::Delay);
        let mut revisions = self.book.changed();
        let mut planned: Option<Instant> = None;
        let mut rests: Option<(Rests, OrdMap<FailureId, Arc<Failure>>)> = None;
        loop {
            if planned
                .is_none_or(|at| at.elapsed() >= GATHER && revisions.has_changed().unwrap_or(false))
            {
                planned = Some(Instant::now());
                revisions.mark_unchanged();
                let view = self.book.view();
                let Some(cluster) = view.estate.clusters.get(&self.cluster) else {
                    return;
                };
                // Most of what happens in an estate changes nothing for this cluster.
                let now_rests = (Rests::of(&view, cluster), view.estate.failures.clone());
                let same = rests.as_ref().is_some_and(|(r, failures)| {
                    r.same(&now_rests.0) && failures.ptr_eq(&now_rests.1)
                });
                if !same {
                    let plan = self.plan(&view, cluster);
                    self.advance(&mut guard, Input::Plan(Box::new(plan)), &say, &note);
                    rests = Some(now_rests);
                }
            }
            tokio::select! {
                input = told.recv() => {
                    let Some(input) = input else { return };
                    self.advance(&mut guard, input, &say, &note);
                }
                _ = revisions.changed() => {
                    // Looked at above, once enough has come together.
                    revisions.mark_changed();
                    sleep(GATHER).await;
                }
                _ = tick.tick() => {
                    self.advance(&mut guard, Input::Tick, &say, &note);
                }
            }
        }
    }

    fn clock(&self) -> Moment {
        Moment(i64::try_from(self.began.elapsed().as_millis()).unwrap_or(i64::MAX))
    }
    /// A moment of the guard's clock, as people read it.
    fn by_the_wall(&self, at: Moment) -> Moment {
        now().before(self.clock().since(at))
    }

    fn plan(&self, view: &View, cluster: &Cluster) -> Plan {
        let stamp = Stamp(self.book.epoch().number, view.estate.revision.0);
        Plan::of(view, cluster, stamp, now())
    }

    fn advance(
        &self,
        guard: &mut Guard,
        input: Input,
        say: &Say,
        note: &mpsc::UnboundedSender<Note>,
    ) {
        let orders = guard.advance(input, self.clock());
        // What a person holds stands still, also here.
        if !self.book.may_act() {
            return;
        }
        for order in orders {
            match order {
                Order::Record(told) => drop(note.send(self.on_the_wall(told))),
                Order::ReadPower { host, ask } => {
                    self.spawn(say, move |post, say| post.read(host, ask, say))
                }
                Order::Withdraw { host, ask } => {
                    self.spawn(say, move |post, say| post.withdraw(host, ask, say))
                }
                Order::Tell {
                    host,
                    volume,
                    number,
                } => self.spawn(say, move |post, _| post.tell(host, volume, number)),
                Order::SwitchOff { host } => {
                    self.spawn(say, move |post, say| post.switch_off(host, say))
                }
                Order::Reset {
                    machine,
                    host,
                    boot,
                    generation,
                } => {
                    let order = guarded(machine, host, boot, generation + 1, vec![]);
                    self.spawn(say, move |post, say| post.reset(order, say));
                }
                Order::End {
                    machine,
                    host,
                    boot,
                    generation,
                } => {
                    let order = guarded(machine, host, boot, generation, vec![]);
                    self.spawn(say, move |post, say| post.end(order, say));
                }
                Order::Start {
                    machine,
                    host,
                    boot,
                    generation,
                    fenced,
                } => {
                    let order = guarded(machine, host, boot, generation, fenced);
                    self.spawn(say, move |post, say| post.start(order, say));
                }
            }
        }
    }

    fn on_the_wall(&self, note: Note) -> Note {
        match note {
            Note::CutOff { host, since } => Note::CutOff {
                host,
                since: self.by_the_wall(since),
            },
            Note::Judged {
                host,
                since,
                evidence,
                act,
            } => Note::Judged {
                host,
                since: self.by_the_wall(since),
                evidence,
                act,
            },
            Note::Lacks {
                host,
                since,
                lack,
                evidence,
            } => Note::Lacks {
                host,
                since: self.by_the_wall(since),
                lack,
                evidence,
            },
            other => other,
        }
    }

    fn spawn<F>(&self, say: &Say, call: impl FnOnce(Post<B>, Say) -> F)
    where
        F: Future<Output = ()> + Send + 'static,
    {
        tokio::spawn(call(self.clone(), say.clone()));
    }

    fn host(&self, host: HostId) -> Option<Arc<Host>> {
        self.book.view().estate.hosts.get(&host).cloned()
    }

    async fn read(self, host: HostId, ask: u64, say: Say) {
        let Some(found) = self.host(host) else { return };
        let limit = Duration::from_millis(self.times.controller.0);
        let read = timeout(limit, self.book.drivers().read_power(&found)).await;
        let said = read.unwrap_or_else(|_| Power::Silent {
            why: "no answer in time".into(),
        });
        drop(say.send(Input::Power { host, ask, said }));
    }

    /// That it is told is written before it is told.
    async fn switch_off(self, host: HostId, say: Say) {
        let Some(found) = self.host(host) else { return };
        let told = Told::Switching { host };
        let written = self.book.write(self.cluster, told).await == Written::Yes;
        let refused = match written {
            false => Some("that could not be written down first".to_owned()),
            true => {
                let told = self.book.drivers().switch_off(&found).await;
                told.err().map(|fault| fault.said)
            }
        };
        drop(say.send(Input::Switched { host, refused }));
    }

    async fn withdraw(self, host: HostId, ask: u64, say: Say) {
        let estate = self.book.view().estate;
        let Some(found) = estate.hosts.get(&host) else {
            return;
        };
        let (installation, epoch) = (&self.book.drivers().installation().id, self.book.epoch());
        let key = format!("{installation}.{epoch}.guard.{host}.{ask}");
        let called = self.book.drivers().shut_out(&estate, found, &key);
        let told = timeout(self.limit(), called).await;
        let refused = match told {
            Ok(Ok(())) => None,
            Ok(Err(fault)) => Some(fault.said.trim_end_matches('.').to_owned()),
            Err(_) => Some("they gave no answer in time".to_owned()),
        };
        tracing::info!(%host, ?refused, "a host's storage is taken away");
        drop(say.send(Input::Withdrawn { host, ask, refused }));
    }

    /// Whether it worked is read where the host answers: beside its lease.
    async fn tell(self, host: HostId, volume: VolumeId, number: u64) {
        let estate = self.book.view().estate;
        let Some(found) = estate.hosts.get(&host) else {
            return;
        };
        let drivers = self.book.drivers();
        let called = drivers.tell_by_lease(&estate, found, volume, number);
        let told = timeout(self.limit(), called).await;
        let ok = matches!(told, Ok(Ok(())));
        tracing::info!(%host, number, ok, "a host is told through its lease to end what it runs");
    }

    async fn start(self, order: GuardedStart, say: Say) {
        let (machine, host) = (order.machine, order.host);
        let result = self.guarded(&order, false).await;
        drop(say.send(Input::Started {
            machine,
            host,
            result,
        }));
    }

    async fn reset(self, order: GuardedStart, say: Say) {
        let machine = order.machine;
        let result = self.guarded(&order, true).await;
        drop(say.send(Input::WasReset { machine, result }));
    }

    async fn end(self, order: GuardedStart, say: Say) {
        let (machine, host) = (order.machine, order.host);
        let estate = self.book.view().estate;
        // What was refused may be obeyed later: each try is asked anew.
        let key = format!("{}.end.{}", self.key_of(&order), now().0);
        let turn = self.turn(&key, &estate);
        let called = self.book.drivers().end_guarded(&estate, &order, turn);
        let result = answer(timeout(self.limit(), called).await);
        tracing::info!(%machine, %host, ok = result.is_ok(), "a machine without its volume is ended");
        drop(say.send(Input::Ended {
            machine,
            host,
            result,
        }));
    }

    fn key_of(&self, order: &GuardedStart) -> String {
        let (epoch, installation) = (self.book.epoch(), &self.book.drivers().installation().id);
        format!(
            "{installation}.{epoch}.guard.{}.{}.{}.{}",
            order.machine, order.host, order.boot, order.generation
        )
    }
    fn turn<'k>(&self, key: &'k str, estate: &Estate) -> Turn<'k> {
        Turn {
            key,
            epoch: self.book.epoch(),
            fence: estate.revision,
            waited: Span(0),
            now: now(),
            beside: 0,
        }
    }
    fn limit(&self) -> Duration {
        Duration::from_millis(self.times.answer.0 / 2)
    }

    /// Carries out a start, or a restart, and writes what is seen of it.
    async fn guarded(&self, order: &GuardedStart, again: bool) -> Result<u64, Refusal> {
        let estate = self.book.view().estate;
        let key = self.key_of(order);
        let turn = self.turn(&key, &estate);
        let drivers = self.book.drivers();
        let called = timeout(self.limit(), async {
            match again {
                true => drivers.reset_guarded(&estate, order, turn).await,
                false => drivers.start_guarded(&estate, order, turn).await,
            }
        });
        let result = match answer(called.await) {
            Ok((generation, seen)) => {
                self.book.saw(seen).await;
                Ok(generation)
            }
            Err(refusal) => Err(refusal),
        };
        tracing::info!(machine = %order.machine, host = %order.host, again, ok = result.is_ok(), "a guard's start");
        result
    }

    /// Notes are written in their order, each until it is or can't be.
    async fn write(self, mut notes: mpsc::UnboundedReceiver<Note>, say: Say) {
        while let Some(note) = notes.recv().await {
            let awaited = match &note {
                Note::Judged { host, .. } => Some((*host, false)),
                Note::Fenced { host, .. } => Some((*host, true)),
                _ => None,
            };
            tracing::info!(?note, cluster = %self.cluster, "a guard's note");
            if let Note::Up { took, .. } = note {
                self.book.booted(took);
            }
            let mut written = Written::No;
            for _ in 0..TRIES {
                let told = Told::Note(note.clone());
                written = self.book.write(self.cluster, told).await;
                if written != Written::No {
                    break;
                }
                sleep(Duration::from_millis(500)).await;
            }
            let written = written == Written::Yes;
            // What was not written is asked for again, if it is still so then.
            if let (Note::Hangs { machine, .. }, true) = (&note, written) {
                drop(say.send(Input::GuestRecorded { machine: *machine }));
            }
            if let (Note::Lacks { host, lack, .. }, true) = (&note, written) {
                let (host, lack) = (*host, *lack);
                drop(say.send(Input::LackRecorded { host, lack }));
            }
            if let Some((host, fenced)) = awaited.filter(|_| written) {
                drop(say.send(Input::Recorded { host, fenced }));
            }
        }
    }
}

fn guarded(
    machine: MachineId,
    host: HostId,
    boot: u64,
    generation: u64,
    fenced: Vec<(HostId, u64)>,
) -> GuardedStart {
    GuardedStart {
        machine,
        host,
        boot,
        generation,
        fenced,
    }
}

/// A host's answer, or why there is none; what nobody knows the outcome of stays open.
fn answer<T>(called: Result<Result<T, Fault>, Elapsed>) -> Result<T, Refusal> {
    match called {
        Ok(Ok(answer)) => Ok(answer),
        Ok(Err(fault)) => Err(Refusal {
            open: fault.leaves_open() || fault.passing(),
            said: fault.said,
        }),
        Err(_) => Err(Refusal {
            said: "it gave no answer in time".into(),
            open: true,
        }),
    }
}

struct AbortOnDrop(tokio::task::JoinHandle<()>);

impl Drop for AbortOnDrop {
    fn drop(&mut self) {
        self.0.abort();
    }
}
