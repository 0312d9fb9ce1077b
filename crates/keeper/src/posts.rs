//! Where the guard of each cluster is told what was seen.

use crate::Book;
use std::{
    collections::BTreeMap,
    sync::{Arc, Mutex, PoisonError},
};
use tokio::sync::mpsc;
use zastrugi_core::{
    estate::{MachineState, Path, Reach},
    guard::{Input, Running},
    ids::{ClusterId, HostId, VolumeId},
    observe::HostReport,
};
use zastrugi_drivers::agent::Sample;

pub(crate) type Say = mpsc::UnboundedSender<Input>;

#[derive(Debug, Clone, Default)]
pub struct Posts(Arc<Mutex<BTreeMap<ClusterId, Say>>>);

impl Posts {
    pub(crate) fn put(&self, cluster: ClusterId, say: Say) {
        let mut all = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        all.insert(cluster, say);
    }
    fn of(&self, cluster: ClusterId) -> Option<Say> {
        let all = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        all.get(&cluster).cloned()
    }

    /// Passes on what a report says to a guard.
    pub fn heard<B: Book>(&self, book: &B, host: HostId, report: &HostReport, sample: &Sample) {
        let view = book.view();
        let estate = &view.estate;
        let cluster = estate.hosts.get(&host).and_then(|h| h.cluster);
        let Some((cluster, say)) = cluster.and_then(|c| Some((c, self.of(c)?))) else {
            return;
        };
        let mounts = report.volumes.iter().filter_map(|seen| {
            let volume = estate.volume_with_uid(&seen.uid)?;
            Some((volume.id, seen.paths.clone()))
        });
        let mounts: BTreeMap<VolumeId, Vec<Path>> = mounts.collect();
        let running = report.machines.iter().filter_map(|m| {
            let known = estate.machine_with_uuid(&m.uuid)?;
            let machine = known.id;
            // One that its host halts doesn't hang.
            let halted = matches!(m.state, MachineState::Paused(_));
            let changes = known.arriving.is_some() || book.busy(machine);
            let reach = Reach {
                mounts: &mounts,
                uplinks: &report.uplinks,
                networks: &report.networks,
            };
            let answers = matches!(m.state, MachineState::Running { .. });
            Some(Running {
                machine,
                generation: m.generation,
                answers,
                pulse: sample.pulses.get(&m.uuid).copied(),
                held: changes || halted,
                lacks: reach.lacks(estate, known).filter(|_| !changes),
            })
        });
        drop(say.send(Input::Heard {
            host,
            boot: report.boot,
            watchdog: sample.watchdog,
            running: running.collect(),
        }));
        let hosts: BTreeMap<&str, HostId> = estate
            .hosts_in(cluster)
            .map(|h| (h.hardware.serial.as_str(), h.id))
            .collect();
        for (uid, leases) in &sample.leases {
            let Some(volume) = estate.volume_with_uid(uid) else {
                continue;
            };
            let known = leases
                .iter()
                .filter_map(|(serial, n)| Some((*hosts.get(serial.as_str())?, *n)));
            drop(say.send(Input::Leases {
                volume: volume.id,
                leases: known.collect(),
            }));
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::{Written, book::Book};
    use std::collections::BTreeSet;
    use tokio::sync::watch;
    use zastrugi_core::{
        epoch::Epoch,
        guard::{Pulse, Told},
        ids::{MachineId, Revision},
        moment::Span,
        rooms::Event,
        testkit::{large, read, reported},
        units::{Bytes, Mhz},
        view::View,
    };
    use zastrugi_drivers::Drivers;

    #[derive(Clone)]
    struct Still {
        view: View,
        busy: BTreeSet<MachineId>,
    }

    impl Book for Still {
        fn view(&self) -> View {
            self.view.clone()
        }
        fn changed(&self) -> watch::Receiver<Revision> {
            watch::channel(Revision(0)).1
        }
        fn epoch(&self) -> Epoch {
            unreachable!("nothing is ordered")
        }
        fn drivers(&self) -> &Drivers {
            unreachable!("nothing is ordered")
        }
        fn busy(&self, machine: MachineId) -> bool {
            self.busy.contains(&machine)
        }
        fn may_act(&self) -> bool {
            false
        }
        fn booted(&self, _took: Span) {}
        async fn write(&self, _cluster: ClusterId, _told: Told) -> Written {
            Written::No
        }
        async fn saw(&self, _seen: Event) {}
    }

    /// If this fails, a guest that its host halts, or that a run moves, is restarted as if it hung.
    #[test]
    fn what_is_halted_or_changed_by_a_run_is_not_judged_by_its_pulse() {
        let small = read(&large(3, 64));
        let estate = &small.view.estate;
        let machines: Vec<_> = estate.machines.values().take(3).cloned().collect();
        let host = estate.hosts.values().next().unwrap();
        let cluster = host.cluster.unwrap();
        let book = Still {
            view: small.view.clone(),
            busy: [machines[1].id].into(),
        };
        let posts = Posts::default();
        let (say, mut told) = mpsc::unbounded_channel();
        posts.put(cluster, say);
        let mut seen: Vec<_> = machines
            .iter()
            .map(|m| reported(m.uuid, &m.name, m.generation))
            .collect();
        seen[0].state = MachineState::Paused("no path to slab".into());
        let report = HostReport {
            disks: vec![],
            ended: Default::default(),
            boot: 1,
            seq: 1,
            obeyed: None,
            software: String::new(),
            watchdog: true,
            keepers: BTreeMap::new(),
            initiator: String::new(),
            uplinks: vec![],
            networks: BTreeMap::new(),
            machines: seen,
            volumes: vec![],
        };
        let sample = Sample {
            cpu: Mhz(0),
            active: Bytes(0),
            machines: vec![],
            screens: vec![],
            leases: BTreeMap::new(),
            pulses: machines
                .iter()
                .map(|m| (m.uuid, Pulse::default()))
                .collect(),
            watchdog: true,
        };
        posts.heard(&book, host.id, &report, &sample);
        let Ok(Input::Heard { running, .. }) = told.try_recv() else {
            panic!("nothing was passed on")
        };
        let held: Vec<bool> = running.iter().map(|r| r.held).collect();
        assert_eq!(held, [true, true, false]);
    }
}
