//! The copies of a drill: each of the newest point that the other site has, on networks that nobody else hears.

use super::{Draft, Step};
use crate::{
    crossing::{self, Bound},
    estate::{AnyPoint, Cluster, Estate, Network, RecoveryPlan, Road},
    finding::{Finding, Rule},
    ids::{ClusterId, HostId, MachineId, NetworkId},
    road,
    rooms::{
        answers, machines,
        passages::Up,
        proving::{self, Copied, Had, started},
    },
    view::View,
};
use std::{
    collections::{BTreeMap, BTreeSet},
    sync::Arc,
};

/// What cards are on in a drill: what the plan says, else a network that ends at each host, else nothing.
pub(super) struct Apart<'a> {
    plan: &'a RecoveryPlan,
    alone: BTreeMap<ClusterId, Arc<Network>>,
}

impl<'a> Apart<'a> {
    pub(super) fn of(estate: &Estate, plan: &'a RecoveryPlan, (clusters, road): (&BTreeSet<ClusterId>, Road<'_>)) -> Apart<'a> {
        let ends = |id: &ClusterId| {
            let mut all = estate.networks.values();
            let ends = |n: &&Arc<Network>| n.cluster == *id && n.ready && n.is_isolated() && n.subnets.is_empty();
            // Copies have the addresses of their originals: whoever is on it would meet them.
            let found = all.find(|n| ends(n) && crossing::heard(estate, n, road).is_none())?;
            Some((*id, found.clone()))
        };
        Apart { plan, alone: clusters.iter().filter_map(ends).collect() }
    }

    fn card(&self, cluster: ClusterId, network: Option<NetworkId>) -> Option<NetworkId> {
        let said = network.and_then(|n| self.plan.drills.get(&n)).copied();
        said.or_else(|| self.alone.get(&cluster).map(|n| n.id))
    }

    /// What is said of it: who hears whom.
    pub(super) fn told(&self, draft: &mut Draft<'_>, road: Road<'_>, bound: &[&Bound]) {
        let estate = draft.estate();
        let here = self.plan.drills.iter().filter(|(of, _)| estate.site_of_network(**of) == Some(road.to.site));
        for stands in here.map(|(_, stands)| stands).collect::<BTreeSet<_>>() {
            let Some(network) = estate.networks.get(stands) else { continue };
            if crossing::heard(estate, network, road).is_none() {
                let text = format!("Nobody of production is on {}, and no gateway leads out of it.", network.name);
                draft.found(Finding::clear(Rule::Vlan, &network.name, text));
            }
        }
        let unsaid: BTreeSet<NetworkId> = bound
            .iter()
            .filter_map(|b| b.replica.as_ref())
            .flat_map(|r| r.nics.iter().filter_map(|n| n.network))
            .filter(|n| !self.plan.drills.contains_key(n))
            .collect();
        let names: Vec<&str> = unsaid.iter().filter_map(|id| estate.networks.get(id)).map(|n| n.name.as_str()).collect();
        if names.is_empty() {
            return;
        }
        let of = crossing::listed(&names);
        let text = match self.alone.values().next() {
            Some(network) => format!("Nothing stands for {of}: cards of it are on {}, which ends at each host; copies on different hosts do not hear each other.", network.name),
            None => format!("Nothing stands for {of}: cards of it are on no network, and copies do not hear each other by it."),
        };
        let remedy = "Make a network for drills with a VLAN of its own and no gateway, and name it in the plan.";
        draft.found(Finding::mind(Rule::Vlan, names[0], text).remedy(remedy));
    }
}

/// What is needed to plan one copy after the other.
pub(super) struct Making<'a> {
    pub apart: Apart<'a>,
    pub plan: &'a RecoveryPlan,
    /// As it will be once those before are there.
    pub estate: Estate,
    /// The last copy at each host: one after the other has the whole rate.
    pub copying: BTreeMap<HostId, usize>,
    pub note: String,
}

/// A copy that is planned to be made: what is left of its steps powers it on and asks it.
pub(super) struct Made {
    machine: MachineId,
    copy: MachineId,
    name: String,
    host: HostId,
    pub(super) copied: usize,
    rest: Vec<Step>,
}

impl Making<'_> {
    /// Copies of these, each once the one before at the same host is made.
    pub(super) fn all(&mut self, draft: &mut Draft<'_>, bound: &[Bound], stage: usize) -> Vec<Made> {
        bound.iter().filter_map(|b| self.one(draft, b, stage)).collect()
    }

    /// None: it can't be made, which is said.
    fn one(&mut self, draft: &mut Draft<'_>, bound: &Bound, stage: usize) -> Option<Made> {
        let (at, _) = bound.point?;
        let had = Had::of(draft.view, at, draft.now).map_err(|why| draft.found(why)).ok()?;
        let cluster = bound.replica.as_ref()?.cluster?;
        let view = draft.view.with(self.estate.clone());
        let wanted = Copied {
            at,
            name: proving::name(&view.estate, "drill", &bound.machine.name),
            note: &self.note,
            cards: had.cards.iter().map(|n| self.apart.card(cluster, *n)).collect(),
            had: &had,
            cluster,
            host: None,
            limit: self.plan.stages[stage].limit,
            must: &bound.machine.must,
            with: vec![],
        };
        let mut part = wanted.made(draft, &view);
        part.in_estate(&mut self.estate);
        let steps: Vec<machines::Step> = part.planned().cloned().collect();
        part.forget_steps();
        let (asked, marked) = (wanted.asked(), wanted.marked());
        let name = wanted.name.clone();
        draft.take_in(part, &[], |f| f, (Step::Machine, move |e| marked(e).into()));
        let (copy, host) = steps.iter().find_map(started)?;
        let (mut copied, mut rest) = (None, Vec::new());
        for step in steps {
            if let machines::Step::Copy { via, .. } = step {
                let after: Vec<usize> = self.copying.get(&via).copied().into_iter().collect();
                let n = draft.step(Step::Machine(step), format!("Copy {} as {name}", bound.machine.name), &after, None);
                self.copying.insert(via, n);
                copied = Some(n);
            } else {
                rest.push(Step::from(asked(step)));
            }
        }
        Some(Made {
            machine: bound.machine.id,
            copy,
            name,
            host,
            copied: copied?,
            rest,
        })
    }
}

impl Made {
    /// Powered on once `gate` is done, and asked.
    pub(super) fn booted(self, draft: &mut Draft<'_>, gate: usize) -> Option<Up> {
        let mut before = vec![gate, self.copied];
        let (mut start, mut asks) = (None, None);
        for step in self.rest {
            let asked = matches!(step, Step::Try(answers::Step::Try { .. }));
            let title = match asked {
                true => format!("Ask {}", self.name),
                false => format!("Power {} on", self.name),
            };
            let n = draft.step(step, title, &before, None);
            *(if asked { &mut asks } else { &mut start }) = Some(n);
            before = vec![n];
        }
        Some(Up {
            machine: self.machine,
            runs: self.copy,
            name: self.name,
            host: self.host,
            start: start?,
            asked: asks?,
        })
    }
}

/// All copies are off and gone once all of `after` is done.
pub(super) fn gone(draft: &mut Draft<'_>, copies: &[Up], after: &[usize]) -> Vec<usize> {
    let view: View = draft.view.clone();
    let mut last = Vec::new();
    for copy in copies {
        let mut part: road::Draft<'_, proving::Step> = draft.beside(&view);
        proving::gone(&mut part, copy.runs, copy.host, &[]);
        let steps = draft.take_in(part, after, |f| f, (Step::from, |e: proving::Event| e.into()));
        last.extend(steps.last());
    }
    last
}

/// The clusters that copies would be on.
pub(super) fn clusters(bound: &[&Bound]) -> BTreeSet<ClusterId> {
    bound.iter().filter_map(|b| b.replica.as_ref()?.cluster).collect()
}

/// What is read for all of them.
pub(super) fn bytes(draft: &mut Draft<'_>, bound: &[&Bound], clusters: &[&Arc<Cluster>]) {
    use crate::copying::Source;
    let points = bound.iter().filter_map(|b| b.point);
    let all: Vec<_> = points.filter_map(|(at, _): (AnyPoint, _)| Source::from(at).resolve(draft.view, draft.now).ok()).collect();
    let bytes: crate::units::Bytes = all.iter().map(|o| o.bytes).sum();
    let names: Vec<&str> = clusters.iter().map(|c| c.name.as_str()).collect();
    let at = names.join(", ");
    let unknown = all.iter().filter(|o| !o.known).count();
    draft.found(match unknown {
        0 => Finding::clear(Rule::Disk, &at, format!("{bytes} are copied at its site; nothing of it goes over the line.")),
        n => Finding::unchecked(Rule::Disk, &at, format!("At most {bytes} are copied at its site: how much {n} of them hold was not told. Nothing of it goes over the line.")),
    });
}
