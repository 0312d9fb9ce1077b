//! What a keeper knows: what the manager gave it, what the journal tells since, and what hosts report; and where it writes.

use crate::{Book, Quorum, Written, now, seat::Lease};
use std::{
    collections::BTreeMap,
    sync::{Arc, Mutex, MutexGuard, PoisonError},
    time::Instant,
};
use tokio::sync::watch;
use zastrugi_core::{
    epoch::Epoch,
    estate::{Condition, Host},
    guard::{Line, Told},
    ids::{ClusterId, HostId, MachineId, Revision, VolumeId},
    loads::HostLoad,
    moment::Span,
    observe::{HostReport, compare},
    papers::{Papers, absorbed},
    recounting::{is_stale, read_line, taken_down},
    rooms::{Event, Plans, hosts},
    runs::{Fault, FaultKind, GUEST_ANSWERS},
    view::View,
};
use zastrugi_drivers::{Drivers, agent::Sample};

#[derive(Clone)]
pub(crate) struct Ledger(Arc<Inner>);

struct Inner {
    drivers: Drivers,
    state: Mutex<State>,
    changed: watch::Sender<Revision>,
    lease: Mutex<Option<(Lease, Arc<Quorum>)>>,
    /// Had by whoever adds a line.
    adding: tokio::sync::Mutex<()>,
}

struct State {
    papers: Papers,
    view: View,
    /// Of the journal, as far as it was read or written.
    lines: Vec<Line>,
    last: u64,
    reports: BTreeMap<HostId, HostReport>,
    heard: BTreeMap<HostId, Instant>,
}

impl Ledger {
    /// # Errors
    /// Words, when the papers were made by a newer version.
    pub(crate) fn new(drivers: Drivers, papers: Papers) -> Result<Ledger, String> {
        let view = papers.view(&[]).map_err(|e| e.to_string())?;
        Ok(Ledger(Arc::new(Inner {
            drivers,
            state: Mutex::new(State {
                papers,
                view,
                lines: vec![],
                last: 0,
                reports: BTreeMap::new(),
                heard: BTreeMap::new(),
            }),
            changed: watch::Sender::new(Revision(0)),
            lease: Mutex::new(None),
            adding: tokio::sync::Mutex::new(()),
        })))
    }

    fn state(&self) -> MutexGuard<'_, State> {
        self.0.state.lock().unwrap_or_else(PoisonError::into_inner)
    }
    fn ring(&self) {
        self.0.changed.send_modify(|n| n.0 += 1);
    }
    /// The cluster, and the volume on which its keepers agree.
    pub(crate) fn place(&self) -> (ClusterId, VolumeId) {
        let state = self.state();
        (state.papers.cluster, state.papers.volume)
    }

    /// Newer papers: what the journal and the hosts told since is told again upon them.
    pub(crate) fn take(&self, papers: Papers) -> Result<(), String> {
        let mut state = self.state();
        if papers.stamp() < state.papers.stamp() {
            return Ok(());
        }
        state.papers = papers;
        state.rebuild()?;
        drop(state);
        self.ring();
        Ok(())
    }

    /// The journal as it stands when this one begins to decide.
    pub(crate) fn read(&self, lines: Vec<Line>, last: u64) -> Result<(), String> {
        let mut state = self.state();
        state.last = last;
        state.lines = lines;
        state.rebuild()?;
        drop(state);
        self.ring();
        Ok(())
    }

    /// With what it may write from now on.
    pub(crate) fn sits(&self, lease: Option<(Lease, Arc<Quorum>)>) {
        *self.0.lease.lock().unwrap_or_else(PoisonError::into_inner) = lease;
    }
    fn lease(&self) -> Option<(Lease, Arc<Quorum>)> {
        let lease = self.0.lease.lock().unwrap_or_else(PoisonError::into_inner);
        lease.clone().filter(|(l, _)| Instant::now() < l.until)
    }

    pub(crate) fn hears(&self, host: HostId, report: &HostReport, sample: &Sample) {
        let mut state = self.state();
        state.heard.insert(host, Instant::now());
        state.reports.insert(host, report.clone());
        let events = compare(&state.view, host, report, now());
        state.load(host, sample);
        let changes = !events.is_empty();
        if changes {
            state.view = absorbed(&state.view, &events);
        }
        drop(state);
        if changes {
            self.ring();
        }
    }

    pub(crate) fn misses(&self, host: HostId, fault: &Fault) {
        let mut state = self.state();
        let condition = state
            .view
            .estate
            .hosts
            .get(&host)
            .map(|h| h.condition.clone());
        if !matches!(condition, Some(Condition::Steady | Condition::Hangs { .. })) {
            return;
        }
        let (since, why) = (now(), fault.said.trim_end_matches('.').to_owned());
        let condition = match fault.kind {
            FaultKind::Stranger => Condition::Stranger {
                since,
                pin: String::new(),
            },
            _ => Condition::Lost { since, why },
        };
        let event = Event::Hosts(hosts::Event::Condition { host, condition });
        state.view = absorbed(&state.view, &[event]);
        drop(state);
        self.ring();
    }

    /// A line that stands in the journal now.
    fn adds(&self, cluster: ClusterId, line: Line) {
        let mut state = self.state();
        let events = read_line(
            &state.view,
            &Plans::default(),
            cluster,
            &line,
            &Host::reports,
        );
        state.view = absorbed(&state.view, &events);
        state.last = line.index;
        state.lines.push(line);
        drop(state);
        self.ring();
    }

    /// The answer was lost, or another attempt of the same was written: what stands in the journal counts.
    async fn look_up(&self, quorum: &Quorum, cluster: ClusterId, line: &Line) -> Written {
        let mut written = Written::No;
        let last = line.index - 1;
        for there in quorum.journal(last).await.unwrap_or_default() {
            if there.told == line.told {
                written = Written::Yes;
            }
            self.adds(cluster, there);
        }
        written
    }

    /// How many hosts were heard within so long.
    pub(crate) fn heard(&self, within: std::time::Duration) -> u64 {
        let state = self.state();
        let lately = state.heard.values().filter(|at| at.elapsed() < within);
        lately.count() as u64
    }
}

impl State {
    fn rebuild(&mut self) -> Result<(), String> {
        let loads = self.view.loads.clone();
        let mut view = self.papers.view(&self.lines).map_err(|e| e.to_string())?;
        let typical = std::mem::take(&mut Arc::make_mut(&mut view.loads).typical);
        view.loads = loads;
        Arc::make_mut(&mut view.loads).typical = typical;
        for (host, report) in &self.reports {
            let events = compare(&view, *host, report, now());
            view = absorbed(&view, &events);
        }
        self.view = view;
        Ok(())
    }

    fn load(&mut self, host: HostId, sample: &Sample) {
        let estate = self.view.estate.clone();
        let machines = sample.machines.iter();
        let machines =
            machines.filter_map(|(uuid, load)| Some((estate.machine_with_uuid(uuid)?.id, *load)));
        let load = HostLoad {
            at: now(),
            cpu: sample.cpu,
            active: sample.active,
            machines: machines.collect(),
        };
        Arc::make_mut(&mut self.view.loads).take(host, load);
    }
}

impl Book for Ledger {
    fn view(&self) -> View {
        self.state().view.clone()
    }
    fn changed(&self) -> watch::Receiver<Revision> {
        self.0.changed.subscribe()
    }
    fn epoch(&self) -> Epoch {
        self.state().papers.epoch
    }
    fn drivers(&self) -> &Drivers {
        &self.0.drivers
    }
    fn busy(&self, machine: MachineId) -> bool {
        self.state().papers.busy.contains(&machine)
    }
    fn may_act(&self) -> bool {
        self.lease().is_some()
    }
    fn booted(&self, took: Span) {
        let mut state = self.state();
        Arc::make_mut(&mut state.view.pace).note(GUEST_ANSWERS.0, GUEST_ANSWERS.1, took);
    }

    async fn write(&self, cluster: ClusterId, told: Told) -> Written {
        let _turn = self.0.adding.lock().await;
        let Some((lease, quorum)) = self.lease() else {
            return Written::No;
        };
        let line = {
            let state = self.state();
            if is_stale(&state.view, &told) {
                return Written::Stale;
            }
            let (on, foretold) = taken_down(&state.view, cluster, &told);
            Line {
                index: state.last + 1,
                at: now(),
                on,
                foretold,
                told,
            }
        };
        if let Err(fault) = quorum.add(&lease.held, &line).await {
            tracing::warn!(said = fault.said, "whether a line was written is looked up");
            return self.look_up(&quorum, cluster, &line).await;
        }
        self.adds(cluster, line);
        Written::Yes
    }

    async fn saw(&self, seen: Event) {
        let mut state = self.state();
        state.view = absorbed(&state.view, &[seen]);
        drop(state);
        self.ring();
    }
}
