//! Machines go on at the other site, stage by stage, as the plan says.

use super::{Draft, Event, Step};
use crate::{
    estate::{AnyPoint, Arrived, Between, Crossed, Machine, Passed, Pen, RecoveryPlan, Road, Way},
    crossing::Crossing,
    finding::{Finding, Rule},
    ids::{HostId, MachineId},
    moment::{Moment, Span},
    road::{self, Tale},
    rooms::{
        answers,
        machines::{self, PowerAct},
        passages::{self, Laid, Marks, Up},
        replicas::{self, Member, Settle},
    },
    view::View,
};
use std::{collections::BTreeMap, sync::Arc};
use uuid::Uuid;

/// One that goes on there.
#[derive(Debug, Clone)]
pub(super) struct Arriving {
    pub stage: usize,
    pub machine: Arc<Machine>,
    pub replica: Arc<Machine>,
    /// What its body at the other side is called then.
    pub behind: String,
    /// What it goes on from, and of which instant that is, as far as it is known.
    pub point: Uuid,
    pub taken: Moment,
    /// It is powered on; else it stays off.
    pub starts: bool,
    /// A host there that reaches its disks.
    pub via: HostId,
    /// The step after which its replica holds that point.
    pub ready: Option<usize>,
}

/// How it will be once all are over.
pub(super) fn afterwards(draft: &Draft<'_>, all: &[Arriving], road: Road<'_>) -> View {
    let mut estate = (*draft.view.estate).clone();
    let way = Crossed { pair: road.pair.id, from: road.from.site, at: draft.now };
    for goes in all {
        let event = replicas::Event::Crossed { machine: goes.machine.id, replica: goes.replica.id, way, behind: goes.behind.clone(), forced: false };
        event.absorb(&mut Pen::on(&mut estate));
    }
    draft.view.with(estate)
}

/// Where each of those that were on will be on, by machine.
pub(super) fn placed(draft: &mut Draft<'_>, all: &[Arriving], then: &View, say: fn(Finding) -> Finding) -> BTreeMap<MachineId, HostId> {
    let on: Vec<MachineId> = all.iter().filter(|a| a.starts).map(|a| a.machine.id).collect();
    if on.is_empty() {
        return BTreeMap::new();
    }
    let mut part: road::Draft<'_, machines::Step> = draft.beside(then);
    machines::power(&mut part, &on, PowerAct::On { host: None });
    let hosts = part.planned().filter_map(crate::rooms::proving::started).collect();
    // Nobody knows yet what their hosts will say of them; that there is room is what is asked.
    let title = std::mem::take(&mut draft.title);
    part.forget_steps();
    part.forget_intents();
    draft.take_in(part, &[], say, (Step::Machine, Event::Machine));
    draft.title = title;
    hosts
}

/// All at once: from here on it is the other site's. `forced`: whatever became of the originals.
pub(super) fn over(draft: &mut Draft<'_>, all: &[Arriving], road: Road<'_>, (after, forced): (&[usize], bool)) -> usize {
    let member = |a: &Arriving| Member { machine: a.machine.id, replica: a.replica.id, behind: a.behind.clone(), point: a.point };
    let after: Vec<usize> = after.iter().copied().chain(all.iter().filter_map(|a| a.ready)).collect();
    let step = replicas::Step::Over {
        way: Way { pair: road.pair.id, from: road.from.site },
        members: all.iter().map(member).collect(),
        forced,
    };
    let site = road.to.site_name(draft.estate());
    draft.step(Step::Replica(step), format!("From here on they are at {site}"), &after, None)
}

/// What its new host is told, before it is powered on.
fn settled(goes: &Arriving, (via, starts): (HostId, Option<HostId>)) -> replicas::Step {
    let m = &goes.machine;
    replicas::Step::Settle(Box::new(Settle {
        machine: m.id,
        via,
        name: m.name.clone(),
        vcpus: m.vcpus,
        vcpus_max: m.vcpus_max,
        memory: m.memory,
        addresses: m.nics.iter().map(|n| n.addresses.clone()).collect(),
        mark: Some(goes.point),
        starts,
    }))
}

/// What the host is told that still has what it was: its size, its number by then, and its name by then.
pub(super) fn left_behind(draft: &mut Draft<'_>, (m, id, name): (&Machine, MachineId, &str), via: HostId, after: &[usize]) -> usize {
    let settle = replicas::Step::Settle(Box::new(Settle {
        machine: id,
        via,
        name: name.to_owned(),
        vcpus: m.vcpus,
        vcpus_max: m.vcpus_max,
        memory: m.memory,
        addresses: vec![vec![]; m.nics.len()],
        mark: None,
        starts: None,
    }));
    draft.step(Step::Replica(settle), format!("Tell its host that it is {name} now"), after, None)
}

/// What a stage has to know of the whole.
pub(super) struct Staging<'a> {
    pub plan: &'a RecoveryPlan,
    pub crossing: &'a Crossing,
    pub laid: Laid<fn(passages::Step) -> Step>,
    /// Stages that come before those of the plan.
    pub first: usize,
    pub hosts: &'a BTreeMap<MachineId, HostId>,
    pub marks: Marks,
    pub up: Vec<Up>,
}

impl Staging<'_> {
    /// A stage of the plan: the step after which the next may begin, and what is known of it from the beginning.
    pub(super) fn stage(&mut self, draft: &mut Draft<'_>, n: usize, all: &[Arriving], gate: &[usize]) -> (usize, Passed) {
        let (stage, of, at) = (&self.plan.stages[n], self.laid.of, self.first + n);
        let open = (passages::Step::Open { of, stage: at }, format!("Stage {} begins", stage.name));
        let open = self.laid.step(draft, open, gate);
        let own: Vec<&Arriving> = all.iter().filter(|a| a.stage == n).collect();
        let (mut last, mut copies, mut turn) = (vec![open], Vec::new(), open);
        for goes in &own {
            match self.started(draft, goes, turn, stage.limit) {
                Ok(up) => {
                    last.push(up.asked);
                    copies.push((goes.machine.id, goes.machine.name.clone()));
                    turn = if stage.in_turn { up.asked } else { turn };
                    self.up.push(up);
                }
                Err(settled) => last.push(settled),
            }
        }
        let (mut last, mut then) = self.judged(draft, (at, n), &copies, &last);
        for what in &stage.then {
            let mark = self.marks.one();
            let (step, words) = self.laid.between(draft, (what, stage.limit), mark, &self.up, &last);
            if step.is_none() {
                let text = format!("It stays off, so this is not done: {}.", words.words);
                draft.found(Finding::mind(Rule::Guest, &stage.name, text));
            }
            last = step.map_or(last, |step| vec![step]);
            then.push(words);
        }
        let close = (passages::Step::Close { of, stage: at, copies }, format!("Stage {} is over", stage.name));
        let close = self.laid.step(draft, close, &last);
        let machines = own.iter().map(|goes| awaited(goes));
        let passed = passages::expected(&self.crossing.stages[n], machines.collect(), vec![], then);
        (close, passed)
    }

    /// Powered on and asked; of one that stays off only its host is told, by the step that is answered.
    fn started(&self, draft: &mut Draft<'_>, goes: &Arriving, after: usize, limit: Span) -> Result<Up, usize> {
        let (id, name) = (goes.machine.id, &goes.machine.name);
        let host = self.hosts.get(&id).copied();
        let settle = settled(goes, (host.unwrap_or(goes.via), host));
        let settle = draft.step(Step::Replica(settle), format!("Tell its host there what {name} is"), &[after], None);
        let Some(host) = host else { return Err(settle) };
        let start = draft.step(Step::Machine(machines::Step::Start { machine: id, host }), format!("Power {name} on"), &[settle], None);
        let ask = answers::Step::Try {
            machine: id,
            host,
            point: Some(point(goes)),
            limit,
            must: goes.machine.must.clone(),
            with: vec![],
        };
        let asked = draft.step(Step::Try(ask), format!("Ask {name}"), &[start], None);
        Ok(Up { machine: id, runs: id, name: name.clone(), host, start, asked })
    }

    /// The next stage does not begin by itself while one of this is not well.
    fn judged(&mut self, draft: &mut Draft<'_>, (at, n): (usize, usize), copies: &[(MachineId, String)], after: &[usize]) -> (Vec<usize>, Vec<Between>) {
        if copies.is_empty() {
            return (after.to_vec(), vec![]);
        }
        let (of, mark) = (self.laid.of, self.marks.one());
        let name = &self.plan.stages[n].name;
        let judge = passages::Step::Judge { of, stage: at, mark, copies: copies.to_vec() };
        let judge = self.laid.step(draft, (judge, format!("See whether all of {name} are well")), after);
        let mend = passages::Step::Mend { of, stage: at, mark, copies: copies.to_vec() };
        let mend = self.laid.step(draft, (mend, format!("All of {name} are well, or somebody says that it may go on")), &[judge]);
        let text = format!("not all of {name} are well; go on as it is");
        let holds = Between { holds: true, ..passages::expects(mark, text, true) };
        (vec![mend], vec![holds])
    }
}

/// What it goes on from: it holds that itself by then.
fn point(goes: &Arriving) -> AnyPoint {
    AnyPoint::Replicated { replica: goes.machine.id, session: goes.point }
}

fn awaited(goes: &Arriving) -> Arrived {
    let arrived = passages::awaited(goes.machine.id, &goes.machine.name, (point(goes), goes.taken));
    match goes.starts {
        true => arrived,
        false => Arrived { good: Some(true), said: "it was off, and stays off".into(), ..arrived },
    }
}
