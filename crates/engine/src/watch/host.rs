//! One host, followed: its reports become events and loads, its silence becomes a condition.

use super::{
    leader::Samples,
    office::Office,
    records::Shelves,
    screens::{Hand, Screens},
};
use crate::{
    scribe::{Decision, Guard, Scribe, Sight},
    shared::{Shared, now},
};
use std::{
    sync::{Arc, PoisonError},
    time::Duration,
};
use tokio::{
    sync::watch,
    time::{sleep, timeout},
};
use zastrugi_core::rooms::hosts;
use zastrugi_core::{
    epoch::Obeyed,
    estate::Condition,
    ids::HostId,
    loads::HostLoad,
    moment::Moment,
    observe::{HostReport, compare},
    permits::Who,
    rooms::Event,
    runs::{Fault, FaultKind},
};
use zastrugi_drivers::agent::Sample;
use zastrugi_keeper::Posts;
use zastrugi_store::{Held, Journal};

/// Failures in a row before a host counts as lost.
const PATIENCE: u32 = 3;
/// How often a host is asked whether it answers, and how soon again when it did not.
const CALLS: Duration = Duration::from_secs(5);
const AGAIN: Duration = Duration::from_secs(1);

pub(super) struct Eye {
    pub(super) shared: Arc<Shared>,
    pub(super) scribe: Scribe,
    pub(super) held: Held,
    pub(super) samples: Samples,
    pub(super) posts: Posts,
    pub(super) office: Office,
    pub(super) shelves: Shelves,
    pub(super) host: HostId,
}

impl Eye {
    pub(super) async fn follow(self) {
        let (obeys, known) = watch::channel(None);
        tokio::join!(
            self.follow_reports(&obeys),
            self.follow_calls(),
            self.follow_history(known)
        );
    }

    /// A host whose reports come may still answer nothing that it is asked: it is asked something now and then.
    async fn follow_calls(&self) {
        let mut failures = 0;
        loop {
            sleep(if failures == 0 { CALLS } else { AGAIN }).await;
            let Some(host) = self.shared.estate().hosts.get(&self.host).cloned() else {
                return;
            };
            // Without reports its silence is judged by those.
            let hangs = matches!(host.condition, Condition::Hangs { .. });
            if !hangs && !host.accepts_work() {
                continue;
            }
            match self.shared.drivers.ping(&host).await {
                Ok(()) => {
                    failures = 0;
                    if hangs {
                        self.note_answers().await;
                    }
                }
                // Our own database says nothing about the host.
                Err(fault) if fault.kind == FaultKind::Ours => {}
                Err(fault) => {
                    failures += 1;
                    if failures >= PATIENCE && !hangs {
                        self.note_hangs(fault).await;
                    }
                }
            }
        }
    }

    async fn note_answers(&self) {
        let host = self.host;
        self.note(move |held, _| {
            let hangs = matches!(held, Condition::Hangs { .. });
            hangs.then_some(Condition::Steady)
        })
        .await;
        tracing::info!(%host, "it answers again");
    }

    async fn note_hangs(&self, fault: Fault) {
        let why = fault.said.trim_end_matches('.').to_owned();
        self.note(move |held, since| {
            let why = why.clone();
            (*held == Condition::Steady).then_some(Condition::Hangs { since, why })
        })
        .await;
    }

    /// Writes another condition, if there is one, decided inside the head lock.
    async fn note<F>(&self, becomes: F)
    where
        F: Fn(&Condition, Moment) -> Option<Condition> + Send + Sync + 'static,
    {
        let host = self.host;
        let decide = move |sight: Sight<'_>| {
            let held = sight.view.estate.hosts.get(&host);
            let condition = held.and_then(|h| becomes(&h.condition, sight.at));
            let event = |condition| Event::Hosts(hosts::Event::Condition { host, condition });
            Ok(Decision {
                events: condition.map(event).into_iter().collect(),
                ..Decision::nothing(Who::itself())
            })
        };
        if let Err(refusal) = self.scribe.append(Guard::Leader(self.held), decide).await {
            tracing::debug!(?refusal, %host, "a condition was not written");
        }
    }

    async fn follow_reports(&self, obeys: &watch::Sender<Option<Obeyed>>) {
        let mut failures = 0;
        loop {
            let fault = self.watch(&mut failures, obeys).await;
            // Our own database says nothing about the host.
            failures += u32::from(fault.kind != FaultKind::Ours);
            if failures >= PATIENCE || fault.kind == FaultKind::Stranger {
                self.note_silence(fault).await;
            }
            sleep(Duration::from_millis(u64::from(failures.min(6)) * 500)).await;
        }
    }

    /// Reads reports until something goes wrong.
    async fn watch(&self, failures: &mut u32, obeys: &watch::Sender<Option<Obeyed>>) -> Fault {
        let Some(host) = self.shared.estate().hosts.get(&self.host).cloned() else {
            return Fault::new(FaultKind::Premise, "handed back", "");
        };
        let mut watch = match self.shared.drivers.watch(&host).await {
            Ok(watch) => watch,
            Err(fault) => return fault,
        };
        let mut screens = Screens::default();
        loop {
            match watch.report().await {
                Ok((report, mut sample)) => {
                    *failures = 0;
                    self.office.ears.hear(self.host);
                    self.posts.heard(&self.office, self.host, &report, &sample);
                    let kept = std::mem::take(&mut sample.screens);
                    self.take(sample);
                    self.check_history(&report).await;
                    obeys
                        .send_if_modified(|o| std::mem::replace(o, report.obeyed) != report.obeyed);
                    self.shelves.look(&self.office, self.host, &report);
                    self.compare(report).await;
                    screens.take(&self.hand(), kept).await;
                }
                Err(fault) => return fault,
            }
        }
    }

    fn hand(&self) -> Hand<'_> {
        Hand {
            shared: &self.shared,
            scribe: &self.scribe,
            held: self.held,
            host: self.host,
        }
    }

    /// A device that knows more than our database: it was restored, or is a copy. Then nothing is ordered until a person
    /// has looked.
    async fn check_history(&self, report: &HostReport) {
        let Some(obeyed) = report.obeyed else { return };
        self.shared.saw(obeyed.epoch);
        let ours = self.shared.snapshot().head.clone();
        if ours.held.is_some() || obeyed.ahead_of(ours.epoch, ours.revision).is_none() {
            return;
        }
        // This process may only be behind another of ours.
        let journal = Journal::new(self.shared.pool.clone());
        let Ok(head) = journal.head().await else {
            return;
        };
        let Some(why) = obeyed.ahead_of(head.epoch, head.revision) else {
            return;
        };
        let estate = self.shared.estate();
        let name = estate
            .hosts
            .get(&self.host)
            .map_or("A host", |h| h.name.as_str());
        tracing::error!(%why, host = name, "orders are held");
        if let Err(error) = journal.hold(&format!("{name} is ahead: {why}.")).await {
            tracing::warn!(%error, "orders could not be held");
        }
    }

    /// Whoever obeys a history that is older than ours still obeys whoever gives orders in that one: it meets ours, at once.
    /// Apart from its reports, for one that hangs is heard all the same.
    async fn follow_history(&self, mut known: watch::Receiver<Option<Obeyed>>) {
        loop {
            let obeyed = *known.borrow_and_update();
            if let Some(obeyed) = obeyed.filter(|o| self.is_older(o)) {
                self.introduce(obeyed).await;
            }
            // A history that begins is no news of the host: it is looked at again.
            if let Ok(Err(_)) = timeout(CALLS, known.changed()).await {
                return;
            }
        }
    }

    fn is_older(&self, obeyed: &Obeyed) -> bool {
        let head = &self.shared.snapshot().head;
        head.held.is_none() && obeyed.epoch.number < head.epoch.number
    }

    /// Lets a host meet our history, so that it refuses the older ones; notes whether it was told more than we know.
    async fn introduce(&self, obeyed: Obeyed) {
        let head = self.shared.snapshot().head.clone();
        let Some(host) = self.shared.estate().hosts.get(&self.host).cloned() else {
            return;
        };
        if let Err(fault) = self.shared.drivers.meet(&host, head.epoch).await {
            tracing::debug!(?fault, host = %host.name, "it did not meet this history yet");
            return;
        }
        let met = hosts::Event::Met {
            host: host.id,
            history: head.epoch.number,
            obeyed: obeyed.fence,
            known: (head.parent == Some(obeyed.epoch.history)).then_some(head.began),
        };
        let decide = move |_: Sight<'_>| {
            Ok(Decision {
                events: vec![Event::Hosts(met.clone())],
                ..Decision::nothing(Who::itself())
            })
        };
        if let Err(refusal) = self.scribe.append(Guard::Leader(self.held), decide).await {
            tracing::debug!(?refusal, host = %host.name, "that it met this history was not written");
        }
    }

    /// Appends only if something differs; decided again inside the head lock.
    async fn compare(&self, report: HostReport) {
        if compare(&self.shared.view(), self.host, &report, now()).is_empty() {
            return;
        }
        let host = self.host;
        let decide = move |sight: Sight<'_>| {
            let (view, at) = (sight.view, sight.at);
            let events = compare(view, host, &report, at);
            Ok(Decision {
                events,
                ..Decision::nothing(Who::itself())
            })
        };
        if let Err(refusal) = self.scribe.append(Guard::Leader(self.held), decide).await {
            tracing::debug!(?refusal, host = %self.host, "an observation was not written");
        }
    }

    fn take(&self, sample: Sample) {
        let estate = self.shared.estate();
        let machines = sample
            .machines
            .into_iter()
            .filter_map(|(uuid, load)| estate.machine_with_uuid(&uuid).map(|m| (m.id, load)))
            .collect();
        let load = HostLoad {
            at: now(),
            cpu: sample.cpu,
            active: sample.active,
            machines,
        };
        self.shared.loads.rcu(|loads| {
            let mut loads = (**loads).clone();
            loads.take(self.host, load.clone());
            loads
        });
        self.shared.loads_taken(load.at);
        self.samples
            .lock()
            .unwrap_or_else(PoisonError::into_inner)
            .insert(self.host, load);
    }

    async fn note_silence(&self, fault: Fault) {
        self.note(move |held, since| {
            let condition = match fault.kind {
                FaultKind::Stranger => Condition::Stranger {
                    since,
                    pin: String::new(),
                },
                _ => Condition::Lost {
                    since,
                    why: fault.said.trim_end_matches('.').to_owned(),
                },
            };
            let same = matches!(
                (held, &condition),
                // One that was proved off is silent, of course.
                (
                    Condition::Lost { .. } | Condition::Off { .. } | Condition::ShutOut { .. },
                    Condition::Lost { .. }
                ) | (Condition::Stranger { .. } | Condition::Claiming, _)
            );
            (!same).then_some(condition)
        })
        .await;
    }
}
