//! A job's run: what it does not keep goes, then whoever it is about is brought up to date at the other site.

use super::{
    Draft, Event, Step,
    place::{self, Free, Place},
};
use crate::{
    copying::Line,
    estate::{Estate, Job, Machine, Road, Way},
    finding::{Finding, Rule},
    ids::{HostId, JobId, MachineId, VolumeId, draw_uuid},
    layers,
    moment::Span,
    rooms::{
        backups::{self, Mark, Marked, Still},
        carrying, replicas,
        snapshots,
    },
    units::Bytes,
};
use std::{collections::BTreeMap, sync::Arc};
use uuid::Uuid;

/// So many go over at the same time: they share the line.
const AT_ONCE: usize = 4;
/// Of so few machines each is told of; of more what they are together.
const EACH: usize = 8;

pub(super) fn job(draft: &mut Draft<'_>, id: JobId, by_hand: bool) {
    "Replicate by a job".clone_into(&mut draft.title);
    let Some(job) = draft.estate().jobs.get(&id).cloned() else {
        return draft.found(Finding::stop(Rule::Exists, "job", "The job is gone.").at("job"));
    };
    draft.title = format!("Replicate what job {} is about", job.name);
    let Some(way) = job.to.way() else {
        return draft.found(Finding::stop(Rule::State, &job.name, "This job backs up into a store.").at("job"));
    };
    let estate = draft.estate();
    let Some(road) = estate.road(way) else {
        return draft.found(Finding::stop(Rule::Exists, &job.name, "Its pair is gone.").at("job"));
    };
    if !backups::begins(draft, &job, by_hand, Event::Job) {
        return;
    }
    expire(draft, &job);
    let all = backups::able(draft, &job);
    let over: Vec<MachineId> = all.iter().copied().filter(|id| is_over(draft.estate(), *id, way)).collect();
    let here: Vec<MachineId> = all.into_iter().filter(|id| !over.contains(id)).collect();
    one_way(draft, &job, road, &here);
    if let Some(back) = draft.estate().road(Way { from: road.to.site, ..way }).filter(|_| !over.is_empty()) {
        one_way(draft, &job, back, &over);
    }
}

/// Whether what it does goes the other way: its machine is at the other site now.
fn is_over(estate: &Estate, id: MachineId, way: Way) -> bool {
    let machine = estate.machines.get(&id);
    machine.and_then(|m| estate.goes(m, way)).is_some_and(|goes| goes != way)
}

fn one_way(draft: &mut Draft<'_>, job: &Job, road: Road<'_>, machines: &[MachineId]) {
    if machines.is_empty() {
        return;
    }
    let still = Still::of(job, &road.pair.name);
    let marks = backups::marks(draft, machines, still, Step::Snap);
    replicated(draft, job, road, marks);
}

/// What is known of one before.
pub(super) struct Going {
    machine: Arc<Machine>,
    pub(super) bytes: Bytes,
    first: bool,
    known: bool,
    /// All of it is compared.
    whole: bool,
}

fn replicated(draft: &mut Draft<'_>, job: &Job, road: Road<'_>, marks: Vec<Marked<Step>>) {
    let line = Line::over(draft.estate(), road);
    let (mut free, mut all, mut said) = (Free::new(), Vec::<Vec<usize>>::new(), Said::default());
    let each = marks.iter().map(|m| m.marks.len()).sum::<usize>() <= EACH;
    for marked in marks {
        let Some(places) = places(draft, (job, road), &marked, &mut free) else { continue };
        let made: Vec<usize> = places.iter().flat_map(|(_, place, _)| place.made.clone()).collect();
        let title = marked.title(draft.estate());
        let step = draft.step(marked.step, title, &made, Some("job"));
        let turn = all.len().checked_sub(AT_ONCE).and_then(|at| all.get(at)).cloned();
        draft.takes_turn(step, &turn.unwrap_or_default());
        for (going, place, mark) in places {
            lacks(draft, road, &going.machine, each);
            said.add(draft, &going, road, &line, each);
            let mut steps = vec![step];
            steps.extend(one(draft, (job, road, &line), (going, place, mark), (step, marked.group)));
            all.push(steps);
        }
    }
    said.told(draft, road, &line);
}

/// Where each of those that stand still at once goes; none: one has no place, so that none of them is copied.
fn places(draft: &mut Draft<'_>, (job, road): (&Job, Road<'_>), marked: &Marked<Step>, free: &mut Free) -> Option<Vec<(Going, Place, Mark)>> {
    let machines: Vec<(Arc<Machine>, Mark)> = marked
        .marks
        .iter()
        .filter_map(|mark| Some((draft.estate().machines.get(&mark.machine)?.clone(), *mark)))
        .collect();
    let mut all = Vec::new();
    for (machine, mark) in machines {
        let going = going(draft, job, road, machine);
        match place::of(draft, (job, road), &going.machine, going.bytes, free) {
            Ok(place) => all.push((going, place, mark)),
            Err(why) => {
                let name = &going.machine.name;
                let with = if marked.marks.len() > 1 { ", nor is whoever shares its points" } else { "" };
                draft.found(Finding::mind(Rule::Place, name, format!("{name} is not replicated{with}. {why}")));
                return None;
            }
        }
    }
    Some(all)
}

/// What goes over for one, at most.
pub(super) fn going(draft: &Draft<'_>, job: &Job, road: Road<'_>, machine: Arc<Machine>) -> Going {
    let all: Bytes = job.disks(&machine).map(|d| d.size).sum();
    let held = carrying::held(draft, &machine).map(|held| held.min(all));
    let most = held.unwrap_or(all);
    let replica = draft.estate().replica_over(road.pair.id, machine.uuid);
    let Some(before) = replica.and_then(|r| r.follows()) else {
        return Going { machine, bytes: most, first: true, known: held.is_some(), whole: false };
    };
    if job.how.whole.is_some_and(|often| often.is_due(before, draft.now)) {
        return Going { machine, bytes: most, first: false, known: held.is_some(), whole: true };
    }
    let changed = carrying::changed(draft, &machine, draft.now.since(before.taken));
    let bytes = changed.map_or(most, |c| c.min(most));
    Going { machine, bytes, first: false, known: changed.is_some(), whole: false }
}

/// Networks that the other site has nothing for.
fn lacks(draft: &mut Draft<'_>, road: Road<'_>, machine: &Machine, each: bool) {
    let lost = road.lacks(machine);
    if lost.is_empty() || !each {
        return;
    }
    let estate = draft.estate();
    let names = lost.iter().filter_map(|n| estate.networks.get(n)).map(|n| n.name.as_str()).collect::<Vec<_>>().join(", ");
    let (name, site) = (&machine.name, road.to.site_name(estate));
    let text = format!("{name} is on {names}, for which the pair says nothing at {site}: its replica has no network in place of it.");
    draft.found(Finding::mind(Rule::Vlan, name, text));
}

/// The step that brings a replica to what its original holds at a mark.
pub(super) fn follow(
    draft: &mut Draft<'_>,
    (job, road, line): (&Job, Road<'_>, &Line),
    (machine, place): (&Machine, &Place),
    (via, snapshot): (HostId, Uuid),
    (bytes, whole, group): (Bytes, bool, Option<Uuid>),
) -> replicas::Step {
    let number = draft.number();
    replicas::Step::Follow {
        machine: machine.id,
        via,
        snapshot,
        way: Way { pair: road.pair.id, from: road.from.site },
        replica: place.replica.id,
        to: place.to,
        volume: place.volume,
        delivery: draw_uuid(draft.run().0, number, draft.now.0.unsigned_abs()),
        disks: place.disks.clone(),
        bytes,
        time: line.time(bytes),
        job: Some(job.id),
        whole,
        group,
    }
}

/// Brought up to date once it stands still, and released: the numbers of these steps.
fn one(
    draft: &mut Draft<'_>,
    (job, road, line): (&Job, Road<'_>, &Line),
    (going, place, mark): (Going, Place, Mark),
    (marked, group): (usize, Option<Uuid>),
) -> Vec<usize> {
    let (machine, bytes) = (&going.machine, going.bytes);
    let (name, via, snapshot) = (&machine.name, mark.via, mark.snapshot);
    let follow = follow(draft, (job, road, line), (machine, &place), (via, snapshot), (bytes, going.whole, group));
    let title = format!("Bring {} up to date", place.replica.name);
    let followed = draft.step(Step::Replica(follow), title, &[marked], Some("job"));
    if job.how.local.is_some() {
        return vec![followed];
    }
    let forget = snapshots::Step::Forget {
        machine: machine.id,
        via,
        snapshots: vec![snapshot],
        bytes: Bytes::ZERO,
        time: Span::secs(10).plus(layers::STILL),
    };
    let released = draft.step(Step::Snap(forget), format!("Release the mark of {name}"), &[followed], None);
    vec![followed, released]
}

/// What is alike for many is told as one.
#[derive(Default)]
struct Said {
    machines: usize,
    first: usize,
    unknown: usize,
    bytes: Bytes,
}

impl Said {
    fn add(&mut self, draft: &mut Draft<'_>, going: &Going, road: Road<'_>, line: &Line, each: bool) {
        self.machines += 1;
        self.first += usize::from(going.first);
        self.unknown += usize::from(!going.known);
        self.bytes += going.bytes;
        if !each {
            return;
        }
        let (name, bytes, site) = (&going.machine.name, going.bytes, road.to.site_name(draft.estate()));
        let text = match (going.first, going.known) {
            (false, _) if going.whole => format!("All of {name} is read at both sides and compared, {bytes} at most; only what differs goes over."),
            (true, true) => format!("The first copy of {name} at {site} is of everything that its disks hold: {bytes}."),
            (true, false) => format!("The first copy of {name} at {site} is of everything: {bytes} at most, how much of that holds something nobody told."),
            (false, true) => format!("{name}: what changed since the last point goes over, {bytes} at most."),
            (false, false) => format!("{name}: what changed since the last point goes over; how much that is its host says when it begins."),
        };
        draft.found(Finding::clear(Rule::Content, name, text).because(line.because(bytes)));
    }

    fn told(self, draft: &mut Draft<'_>, road: Road<'_>, line: &Line) {
        if self.machines == 0 {
            return;
        }
        let site = road.to.site_name(draft.estate());
        if self.machines > EACH {
            let next = self.machines - self.first;
            let text = format!("{} first copies at {site}, and what changed on {next} others: {} at most go over.", self.first, self.bytes);
            let finding = Finding::clear(Rule::Content, "machines", text).because(line.because(self.bytes));
            draft.found(match self.unknown {
                0 => finding,
                some => finding.remedy(format!("Of {some} nobody told how much they hold; they are counted whole.")),
            });
        }
        let text = format!("Each state is held fast until it is at {site}. Replicas stay off, with hardware addresses of their own. Nobody knows that one comes up before a copy of it did.");
        draft.found(Finding::clear(Rule::Content, "machines", text));
    }
}

/// Points that are not kept any more, as they are known now.
fn expire(draft: &mut Draft<'_>, job: &Job) {
    let gone: Vec<(Arc<Machine>, Vec<uuid::Uuid>)> = draft
        .estate()
        .expired_replicas(job, draft.now)
        .into_iter()
        .map(|(m, points)| (m.clone(), points.iter().map(|p| p.session).collect()))
        .collect();
    let count: usize = gone.iter().map(|(_, p)| p.len()).sum();
    if count == 0 {
        return;
    }
    let text = format!("{count} points of {} replicas are not kept any more ({}); they go.", gone.len(), job.keeps);
    draft.found(Finding::clear(Rule::Deleted, &job.name, text));
    let mut last: BTreeMap<Option<VolumeId>, usize> = BTreeMap::new();
    for (replica, snapshots) in gone {
        let mut part = draft.beside::<snapshots::Step>(draft.view);
        let forget = snapshots::Forget {
            machines: vec![replica.id],
            which: snapshots::Which::These(snapshots),
        };
        snapshots::forget(&mut part, &forget);
        if part.is_stopped() {
            let why = part.findings().iter().find(|f| f.stops()).map(|f| f.text.clone()).unwrap_or_default();
            let name = &replica.name;
            draft.found(Finding::mind(Rule::Deleted, name, format!("Points of {name} stay for now. {why}")));
            continue;
        }
        part.leave_out(|f| f.stops());
        let home = replica.disks.first().map(|d| d.volume);
        let waits: Vec<usize> = last.get(&home).copied().into_iter().collect();
        let steps = draft.take_in(part, &[], |f| f, (Step::Snap, Event::Snap));
        for step in steps {
            draft.takes_turn(step, &waits);
            last.insert(home, step);
        }
    }
}
