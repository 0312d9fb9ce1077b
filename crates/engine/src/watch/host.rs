//! One host, followed: its reports become events and loads, its silence becomes a condition.

use super::{
    leader::Samples,
    screens::{Hand, Screens},
};
use crate::{
    scribe::{Decision, Guard, Scribe},
    shared::{Shared, now},
};
use std::{
    sync::{Arc, PoisonError},
    time::Duration,
};
use tokio::time::sleep;
use zastrugi_core::{
    estate::Condition,
    event::Event,
    ids::HostId,
    loads::HostLoad,
    observe::{HostReport, compare},
    permits::Who,
    run::{Fault, FaultKind},
};
use zastrugi_drivers::agent::Sample;
use zastrugi_store::Held;

/// Failures in a row before a host counts as lost.
const PATIENCE: u32 = 3;

pub(super) struct Eye {
    pub(super) shared: Arc<Shared>,
    pub(super) scribe: Scribe,
    pub(super) held: Held,
    pub(super) samples: Samples,
    pub(super) host: HostId,
}

impl Eye {
    pub(super) async fn follow(self) {
        let mut failures = 0;
        loop {
            let fault = self.watch(&mut failures).await;
            failures += 1;
            if failures >= PATIENCE || fault.kind == FaultKind::Stranger {
                self.note_silence(fault).await;
            }
            sleep(Duration::from_millis(u64::from(failures.min(6)) * 500)).await;
        }
    }

    /// Reads reports until something goes wrong.
    async fn watch(&self, failures: &mut u32) -> Fault {
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
                    let kept = std::mem::take(&mut sample.screens);
                    self.take(sample);
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

    /// Appends only if something differs; decided again inside the head lock.
    async fn compare(&self, report: HostReport) {
        if compare(&self.shared.estate(), self.host, &report, now()).is_empty() {
            return;
        }
        let host = self.host;
        let decide = move |view: &zastrugi_core::view::View, at| {
            let events = compare(&view.estate, host, &report, at);
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
        let host = self.host;
        let decide = move |view: &zastrugi_core::view::View, at| {
            let held = view.estate.hosts.get(&host).map(|h| h.condition.clone());
            let condition = match fault.kind {
                FaultKind::Stranger => Condition::Stranger {
                    since: at,
                    pin: String::new(),
                },
                _ => Condition::Lost {
                    since: at,
                    why: fault.said.trim_end_matches('.').to_owned(),
                },
            };
            let same = matches!(
                (&held, &condition),
                (Some(Condition::Lost { .. }), Condition::Lost { .. })
                    | (Some(Condition::Stranger { .. }), _)
                    | (Some(Condition::Claiming), _)
                    | (None, _)
            );
            let events = if same {
                vec![]
            } else {
                vec![Event::HostCondition { host, condition }]
            };
            Ok(Decision {
                events,
                ..Decision::nothing(Who::itself())
            })
        };
        if let Err(refusal) = self.scribe.append(Guard::Leader(self.held), decide).await {
            tracing::debug!(?refusal, %host, "a silence was not written");
        }
    }
}
