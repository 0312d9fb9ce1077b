//! A run's move beside all the others: locks, premises, records, undoing. Pure; called inside the head lock.

use super::{Fault, FaultKind, Input, Order, Phase, Run};
use crate::{
    estate::Estate,
    event::Event,
    finding::Finding,
    ids::{Revision, RunId},
    moment::Moment,
    placement::{Ask, Ledger, obstacles},
    plan::{Lock, Step},
    view::View,
};
use std::collections::{BTreeSet, VecDeque};

/// Tells `run` something and answers everything that follows from it, also for runs that waited for it.
/// The events must be absorbed in this order.
pub fn turn(view: &View, run: RunId, input: Input, now: Moment) -> Vec<Event> {
    let mut table = Table {
        view,
        fork: (*view.estate).clone(),
        events: Vec::new(),
        now,
    };
    let mut waiting = VecDeque::from([(run, input)]);
    while let Some((id, input)) = waiting.pop_front() {
        table.step(id, input, &mut waiting);
    }
    table.events
}

struct Table<'a> {
    view: &'a View,
    fork: Estate,
    events: Vec<Event>,
    now: Moment,
}

impl Table<'_> {
    fn record(&mut self, event: Event) {
        self.fork.absorb(&event);
        self.events.push(event);
    }

    fn step(&mut self, id: RunId, input: Input, waiting: &mut VecDeque<(RunId, Input)>) {
        let (Some(before), Some(plan)) = (
            self.fork.runs.get(&id).cloned(),
            self.fork.plans.get(&id).cloned(),
        ) else {
            return;
        };
        let mut run = Run::clone(&before);
        let orders = run.advance(&plan, input, self.now);
        let closing = orders.contains(&Order::Close);
        if closing {
            for event in undo(&self.fork, &plan.steps, &run) {
                self.record(event);
            }
        }
        let told: Vec<String> = orders
            .iter()
            .filter_map(|o| {
                if let Order::Tell(text) = o {
                    Some(text.clone())
                } else {
                    None
                }
            })
            .collect();
        if run != *before {
            self.record(Event::RunMoved {
                run: Box::new(run),
                what: told.join("; "),
            });
        }
        for order in orders {
            match order {
                Order::Want { step } => {
                    let answer = self.grant(id, &plan.steps[step].step, step);
                    waiting.push_back((id, answer));
                }
                Order::Perform {
                    step,
                    attempt,
                    after,
                } => match recorded(&plan.steps[step].step) {
                    Some(event) => {
                        self.record(event);
                        let said = String::new();
                        waiting.push_back((id, Input::Succeeded { step, said }));
                    }
                    None => self.record(Event::Ordered {
                        run: id,
                        step,
                        attempt,
                        after_ms: after.0,
                    }),
                },
                Order::Freed | Order::Close => {
                    waiting.extend(self.queued().map(|other| (other, Input::Recheck)))
                }
                Order::Tell(_) => {}
            }
        }
    }

    /// Runs with queued steps, the longest waiting first.
    fn queued(&self) -> impl Iterator<Item = RunId> + use<> {
        let mut all: Vec<(Revision, RunId)> = self
            .fork
            .runs
            .values()
            .flat_map(|run| {
                run.steps.iter().filter_map(|s| match s.phase {
                    Phase::Queued { since, .. } => Some((since, run.id)),
                    _ => None,
                })
            })
            .collect();
        all.sort_unstable();
        all.dedup_by_key(|(_, run)| *run);
        all.into_iter().map(|(_, run)| run)
    }

    /// All locks or none; never past somebody who has waited longer.
    fn grant(&self, id: RunId, what: &Step, step: usize) -> Input {
        let wanted = what.locks();
        let own = self
            .fork
            .runs
            .get(&id)
            .and_then(|r| r.steps.get(step))
            .map(|s| s.phase);
        let my_turn = match own {
            Some(Phase::Queued { since, .. }) => (since, id, step),
            _ => (self.fork.revision, id, step),
        };
        let holder = self.fork.runs.values().find_map(|run| {
            let plan = self.fork.plans.get(&run.id)?;
            run.steps.iter().enumerate().find_map(|(i, s)| {
                let ahead = match s.phase {
                    Phase::Running => true,
                    Phase::Queued { since, .. } => (since, run.id, i) < my_turn,
                    _ => false,
                };
                let clash = ahead
                    && (run.id, i) != (id, step)
                    && clashes(&wanted, &plan.steps[i].step.locks());
                clash.then_some(run.id)
            })
        });
        if let Some(behind) = holder {
            return Input::Refused {
                step,
                behind,
                since: self.fork.revision,
            };
        }
        match premise(&self.view.with(self.fork.clone()), what) {
            Some(finding) => Input::Barred {
                step,
                fault: broken_premise(finding),
            },
            None => Input::Granted {
                step,
                fence: Revision(self.fork.revision.0 + 1),
            },
        }
    }
}

/// What a step without a device writes down.
fn recorded(step: &Step) -> Option<Event> {
    Some(match step {
        Step::ClusterReady { cluster } => Event::ClusterReady { cluster: *cluster },
        Step::VolumeReady { volume } => Event::VolumeReady { volume: *volume },
        Step::VolumeGone { volume } => Event::VolumeGone {
            volume: *volume,
            handed_back: true,
        },
        Step::NetworkReady { network } => Event::NetworkReady { network: *network },
        Step::NetworkGone { network } => Event::NetworkGone {
            network: *network,
            removed: true,
        },
        _ => return None,
    })
}

fn clashes(a: &[Lock], b: &[Lock]) -> bool {
    a.iter().any(|x| b.iter().any(|y| x.clashes(y)))
}

fn broken_premise(finding: Finding) -> Fault {
    Fault {
        kind: FaultKind::Premise,
        said: finding.text,
        field: finding.field,
        remedy: finding
            .remedy
            .unwrap_or_else(|| "Nothing was done in this step. Retry, or cancel the run.".into()),
    }
}

/// What a step about a machine rests on: it is there, not deleted, and fits where it goes.
fn machine_premise(view: &View, step: &Step) -> Option<Finding> {
    use crate::finding::Rule;
    let estate = &view.estate;
    let id = step.machine()?;
    let Some(machine) = estate.machines.get(&id) else {
        let what = id.to_string();
        let words = format!("{what} is gone.");
        return Some(Finding::stop(Rule::Exists, what, words));
    };
    let wants_live = !matches!(step, Step::Recover { .. } | Step::Purge { .. });
    if machine.deleted.is_some() && wants_live {
        return Some(Finding::stop(
            Rule::Deleted,
            &machine.name,
            format!("{} was deleted.", machine.name),
        ));
    }
    if let (
        Step::Create { via: host, .. } | Step::Start { host, .. } | Step::Move { to: host, .. },
        Some(cluster),
    ) = (step, machine.cluster.and_then(|c| estate.clusters.get(&c)))
    {
        let ledger = Ledger::of(view, estate.hosts.get(host).cloned(), &BTreeSet::from([id]));
        let row = ledger.row(*host)?;
        let found = obstacles(Ask {
            machine,
            row,
            cluster: Some(cluster),
            estate,
        });
        return found
            .iter()
            .find(|o| o.stops())
            .map(|o| o.finding(&machine.name, &row.host.name));
    }
    None
}

/// What a step rests on, looked at again at its turn: things may have changed while it waited.
fn premise(view: &View, step: &Step) -> Option<Finding> {
    use crate::finding::Rule;
    let estate = &view.estate;
    let gone = |what: String| {
        Some(Finding::stop(
            Rule::Exists,
            what.clone(),
            format!("{what} is gone."),
        ))
    };
    if let Some(host) = step.host()
        && !estate.hosts.contains_key(&host)
    {
        return gone(host.to_string());
    }
    if let Some(volume) = step.volume()
        && !estate.volumes.contains_key(&volume)
    {
        return gone(volume.to_string());
    }
    if let Some(network) = step.network()
        && !estate.networks.contains_key(&network)
    {
        return gone(network.to_string());
    }
    if let Some(image) = step.image()
        && !estate.images.contains_key(&image)
    {
        return gone(image.to_string());
    }
    if let Step::DropImage { image } = step
        && let Some(user) = estate.machines_with(*image).first()
    {
        let text = format!("{} has it in its drive now.", user.name);
        return Some(Finding::stop(Rule::State, image.to_string(), text));
    }
    if let Some(array) = step.array()
        && !estate.arrays.contains_key(&array)
    {
        return gone(array.to_string());
    }
    if let Step::Disown { volume, .. } | Step::Unmount { volume, .. } = step {
        let on_it = estate.machines_with_disk_on(*volume).count();
        if on_it > 0 && matches!(step, Step::Disown { .. }) {
            let text = format!("{on_it} machines have disks on it now.");
            return Some(Finding::stop(Rule::State, volume.to_string(), text));
        }
    }
    if let Some(found) = machine_premise(view, step) {
        return Some(found);
    }
    if let Step::Release { host } = step {
        let here: Vec<_> = estate.machines_on(*host).map(|m| m.name.clone()).collect();
        if !here.is_empty() {
            let text = format!(
                "{} machines are on it now: {}.",
                here.len(),
                here.join(", ")
            );
            return Some(Finding::stop(Rule::State, host.to_string(), text));
        }
    }
    None
}

/// What was only held for steps that never happened is given back.
fn undo(estate: &Estate, steps: &[crate::plan::PlannedStep], run: &Run) -> Vec<Event> {
    let open = steps
        .iter()
        .zip(&run.steps)
        .filter(|(_, s)| s.phase != Phase::Done)
        .map(|(p, _)| &p.step);
    open.filter_map(|step| match step {
        Step::Create { machine, .. } => Some(Event::MachineDropped { machine: *machine }),
        Step::Claim { host, .. } => Some(Event::HostReleased { host: *host }),
        Step::ReadArray { array } => estate
            .arrays
            .get(array)
            .filter(|a| a.condition == crate::estate::ArrayCondition::Connecting)
            .map(|_| Event::ArrayDropped { array: *array }),
        Step::ReadSwitch { switch } => estate
            .switches
            .get(switch)
            .filter(|s| !s.known)
            .map(|_| Event::SwitchDropped { switch: *switch }),
        Step::NetworkReady { network } => {
            let name = estate.networks.get(network).map(|n| n.name.as_str());
            let there = estate
                .hosts
                .values()
                .any(|h| name.is_some_and(|n| h.networks.contains_key(n)));
            Some(if there {
                Event::NetworkReady { network: *network }
            } else {
                Event::NetworkGone {
                    network: *network,
                    removed: false,
                }
            })
        }
        // What some hosts mount already stays, and its drift is shown; what nobody has goes.
        Step::VolumeReady { volume } => {
            let mounted = estate.hosts.values().any(|h| h.mounts.contains_key(volume));
            Some(if mounted {
                Event::VolumeReady { volume: *volume }
            } else {
                Event::VolumeGone {
                    volume: *volume,
                    handed_back: false,
                }
            })
        }
        // Room that was never held; what arrived of a file stays until somebody removes it.
        Step::MakeImage { image } => Some(Event::ImageGone { image: *image }),
        Step::ClusterReady { cluster } => Some(match estate.hosts_in(*cluster).next() {
            None => Event::ClusterDropped { cluster: *cluster },
            Some(_) => Event::ClusterReady { cluster: *cluster },
        }),
        // It was meant to be off, and is on: from now on that is how it shall be.
        Step::AwaitOff { machine, .. } | Step::Off { machine } => {
            let machine = estate.machines.get(machine).filter(|m| !m.is_off())?;
            Some(Event::MachineWanted {
                machine: machine.id,
                wanted: crate::estate::Wanted::On,
                host: machine.host,
            })
        }
        Step::Move { machine, .. } => Some(Event::MachineMoving {
            machine: *machine,
            to: None,
        }),
        Step::Start { machine, .. } => {
            let machine = estate.machines.get(machine).filter(|m| m.is_off())?;
            Some(Event::MachineWanted {
                machine: machine.id,
                wanted: crate::estate::Wanted::Off,
                host: None,
            })
        }
        _ => None,
    })
    .collect()
}
