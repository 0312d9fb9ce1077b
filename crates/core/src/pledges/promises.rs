//! The promises of all machines, kept up with the estate: only what a change can touch is judged again.

use super::{Demand, Sort, Standing, demands, judge::Case};
use crate::{
    estate::{Array, Estate, Goal, Machine, Pledge, Volume},
    ids::{ArrayId, MachineId, PledgeId, SiteId},
    moment::Moment,
};
use imbl::{OrdMap, OrdSet, ordmap::DiffItem};
use std::{
    collections::{BTreeMap, BTreeSet},
    sync::Arc,
};

/// What machines of the same pledges are promised: the same for all of them.
#[derive(Debug, PartialEq)]
struct Given {
    pledges: Vec<(PledgeId, String)>,
    demands: Vec<(Demand, Vec<String>)>,
}

/// How what one machine is promised stands, without words: [`Promise::of`] says why.
#[derive(Debug, Clone)]
pub struct Brief {
    pub machine: MachineId,
    given: Arc<Given>,
    /// As of the demands.
    verdicts: Vec<Short>,
}

#[derive(Debug, Clone, Copy, PartialEq)]
struct Short {
    standing: Standing,
    since: Option<Moment>,
    until: Option<Moment>,
    cause: Option<ArrayId>,
}

impl Brief {
    fn of(estate: &Estate, machine: &Machine, given: Arc<Given>, now: Moment) -> Brief {
        let case = Case::of(estate, machine, now, false);
        let short = |(demand, _): &(Demand, Vec<String>)| {
            let verdict = case.judge(demand);
            Short {
                standing: verdict.standing,
                since: verdict.since,
                until: verdict.until,
                cause: verdict.cause,
            }
        };
        Brief {
            machine: machine.id,
            verdicts: given.demands.iter().map(short).collect(),
            given,
        }
    }
    fn all(&self) -> impl Iterator<Item = (&(Demand, Vec<String>), &Short)> {
        self.given.demands.iter().zip(&self.verdicts)
    }
    /// The worst of all.
    pub fn standing(&self) -> Standing {
        let all = self.verdicts.iter().map(|v| v.standing);
        all.max().unwrap_or(Standing::Kept)
    }
    /// The worst of one sort; none: nothing of it is promised.
    pub fn of_sort(&self, sort: Sort) -> Option<Standing> {
        let all = self.all().filter(|((d, _), _)| d.sort() == sort);
        all.map(|(_, v)| v.standing).max()
    }
    /// The worst of what one pledge asks.
    pub fn by(&self, pledge: &str) -> Standing {
        let all = self
            .all()
            .filter(|((_, by), _)| by.iter().any(|p| p == pledge));
        all.map(|(_, v)| v.standing).max().unwrap_or(Standing::Kept)
    }
    pub fn pledges(&self) -> &[(PledgeId, String)] {
        &self.given.pledges
    }
    pub fn has(&self, pledge: PledgeId) -> bool {
        self.given.pledges.iter().any(|(id, _)| *id == pledge)
    }
    /// Clause by clause: how it stands, since when it is broken, and the array that this rests on.
    pub fn clauses(
        &self,
    ) -> impl Iterator<Item = (Sort, Standing, Option<Moment>, Option<ArrayId>)> {
        self.all()
            .map(|((d, _), v)| (d.sort(), v.standing, v.since, v.cause))
    }
    fn until(&self) -> Option<Moment> {
        self.verdicts.iter().filter_map(|v| v.until).min()
    }
}

#[derive(Debug, Clone, Default)]
pub struct Promises {
    /// As of this estate.
    estate: Arc<Estate>,
    of: OrdMap<MachineId, Arc<Brief>>,
    /// When which may stand otherwise though nothing happens.
    ends: OrdSet<(Moment, MachineId)>,
    given: BTreeMap<Vec<PledgeId>, Arc<Given>>,
}

impl Promises {
    /// All of them, judged. O(machines × pledges).
    pub fn all(estate: &Arc<Estate>, now: Moment) -> Promises {
        Promises::among(estate, estate.machines.keys().copied(), now)
    }

    /// Those of some machines.
    pub fn among(
        estate: &Arc<Estate>,
        machines: impl IntoIterator<Item = MachineId>,
        now: Moment,
    ) -> Promises {
        let mut promises = Promises {
            estate: estate.clone(),
            ..Promises::default()
        };
        if !estate.pledges.is_empty() {
            machines.into_iter().for_each(|id| promises.judge(id, now));
        }
        promises
    }

    /// Nothing of it can stand otherwise.
    pub fn is_as_of(&self, estate: &Arc<Estate>, now: Moment) -> bool {
        let due = self.ends.get_min().is_some_and(|(at, _)| *at <= now);
        Arc::ptr_eq(&self.estate, estate) && !due
    }

    /// As of a later estate: those that what differs can touch, and those whose time has come. O(differences).
    #[must_use]
    pub fn then(&self, estate: &Arc<Estate>, now: Moment) -> Promises {
        let Some(touched) = touched(&self.estate, estate) else {
            return Promises::all(estate, now);
        };
        let mut next = Promises {
            estate: estate.clone(),
            ..self.clone()
        };
        let due: Vec<MachineId> = self
            .ends
            .iter()
            .take_while(|(at, _)| *at <= now)
            .map(|(_, id)| *id)
            .collect();
        for id in touched.into_iter().chain(due) {
            next.judge(id, now);
        }
        next
    }

    /// What these pledges ask together, worked out once.
    fn given(&mut self, pledges: &[&Arc<Pledge>]) -> Arc<Given> {
        let ids: Vec<PledgeId> = pledges.iter().map(|p| p.id).collect();
        let fresh = || {
            Arc::new(Given {
                pledges: pledges.iter().map(|p| (p.id, p.name.clone())).collect(),
                demands: demands(pledges),
            })
        };
        self.given.entry(ids).or_insert_with(fresh).clone()
    }

    fn judge(&mut self, id: MachineId, now: Moment) {
        if let Some(before) = self.of.remove(&id) {
            before.until().map(|at| self.ends.remove(&(at, id)));
        }
        let estate = self.estate.clone();
        let Some(machine) = estate.machines.get(&id) else {
            return;
        };
        let pledges: Vec<&Arc<Pledge>> = estate.pledges_of(machine).collect();
        if pledges.is_empty() {
            return;
        }
        let brief = Brief::of(&estate, machine, self.given(&pledges), now);
        brief.until().map(|at| self.ends.insert((at, id)));
        self.of.insert(id, Arc::new(brief));
    }

    pub fn get(&self, machine: MachineId) -> Option<&Arc<Brief>> {
        self.of.get(&machine)
    }
    /// Of machines that have a pledge, by number.
    pub fn iter(&self) -> impl Iterator<Item = &Arc<Brief>> {
        self.of.values()
    }
    pub fn count(&self, standing: Standing) -> usize {
        self.iter().filter(|p| p.standing() == standing).count()
    }
    pub fn len(&self) -> usize {
        self.of.len()
    }
    pub fn is_empty(&self) -> bool {
        self.of.is_empty()
    }
}

/// What of a volume promises rest on.
fn volume_differs(a: &Volume, b: &Volume) -> bool {
    a.qualities != b.qualities || a.backing != b.backing || a.pooled != b.pooled
}

fn array_differs(a: &Array, b: &Array) -> bool {
    a.served != b.served || a.condition != b.condition
}

/// By their names arrays say where they keep copies: one that comes, goes, moves or is renamed can touch what lies on any other.
fn places(estate: &Estate) -> impl Iterator<Item = (ArrayId, &str, SiteId)> {
    let arrays = estate.arrays.values();
    arrays.map(|a| (a.id, a.name.as_str(), a.site))
}

/// Both of what differs.
fn both<'a, K, V>(item: DiffItem<'a, 'a, K, V>) -> [&'a V; 2] {
    match item {
        DiffItem::Add(_, one) | DiffItem::Remove(_, one) => [one, one],
        DiffItem::Update {
            old: (_, was),
            new: (_, is),
        } => [was, is],
    }
}

/// Machines that are otherwise, and those of which something elsewhere is.
fn by_machines(old: &Estate, new: &Estate) -> BTreeSet<MachineId> {
    let mut all = BTreeSet::new();
    for item in old.machines.diff(&new.machines) {
        for machine in both(item) {
            all.insert(machine.id);
            // What a replica holds is its original's.
            let original = machine.replica.as_ref();
            let original = original.and_then(|r| new.machine_with_uuid(&r.of));
            all.extend(original.map(|m| m.id));
        }
    }
    for item in old.series.diff(&new.series) {
        for series in both(item) {
            all.extend(new.whose(&series.machine).map(|m| m.id));
        }
    }
    all
}

/// Those whose next copy a job makes, or that it proves.
fn by_jobs(old: &Estate, new: &Estate) -> BTreeSet<MachineId> {
    let mut all = BTreeSet::new();
    for item in old.jobs.diff(&new.jobs) {
        for job in both(item) {
            match job.to {
                Goal::Store(store) => {
                    let own = old.series_in(store).chain(new.series_in(store));
                    all.extend(own.filter_map(|s| Some(new.whose(&s.machine)?.id)));
                }
                Goal::Over(way) => {
                    let own = new.replicas_over(way.pair);
                    let own = own.filter_map(|m| m.replica.as_ref());
                    all.extend(own.filter_map(|r| Some(new.machine_with_uuid(&r.of)?.id)));
                }
            }
        }
    }
    all
}

/// The machines whose promises can stand otherwise in `new`; none: all of them.
fn touched(old: &Arc<Estate>, new: &Arc<Estate>) -> Option<BTreeSet<MachineId>> {
    if old.pledges != new.pledges
        || old.sites != new.sites
        || old.stores != new.stores
        || old.pairs != new.pairs
        || !places(old).eq(places(new))
    {
        return None;
    }
    if new.pledges.is_empty() || Arc::ptr_eq(old, new) {
        return Some(BTreeSet::new());
    }
    let mut all = by_machines(old, new);
    all.extend(by_jobs(old, new));
    let arrays: Vec<_> = new
        .arrays
        .values()
        .filter(|a| {
            old.arrays
                .get(&a.id)
                .is_none_or(|was| array_differs(was, a))
        })
        .map(|a| a.id)
        .collect();
    let volumes = new.volumes.values().filter(|v| {
        let beneath = v
            .backing
            .as_ref()
            .is_some_and(|b| arrays.contains(&b.array));
        beneath
            || old
                .volumes
                .get(&v.id)
                .is_none_or(|was| !Arc::ptr_eq(was, v) && volume_differs(was, v))
    });
    let gone = old
        .volumes
        .keys()
        .filter(|id| !new.volumes.contains_key(*id));
    for id in volumes.map(|v| &v.id).chain(gone) {
        all.extend(new.machines_with_disk_on(*id).map(|m| m.id));
    }
    for item in old.schedules.diff(&new.schedules) {
        let both = match item {
            DiffItem::Add(_, s) | DiffItem::Remove(_, s) => [s, s],
            DiffItem::Update {
                old: (_, was),
                new: (_, is),
            } => [was, is],
        };
        for schedule in both {
            all.extend(new.machines_labelled(&schedule.label).map(|m| m.id));
        }
    }
    Some(all)
}
