//! A job's run: what it does not keep goes, then whoever it is about is brought up to date at the other site.

use super::{
    Draft, Event, Step,
    place::{self, Free, Place},
};
use crate::{
    copying::Line,
    estate::{Job, Machine, Road, Way},
    finding::{Finding, Rule},
    ids::{JobId, VolumeId, draw_uuid},
    layers,
    moment::Span,
    rooms::{
        backups::{self, Mark, Still},
        carrying, replicas,
        snapshots,
    },
    units::Bytes,
};
use std::{collections::BTreeMap, sync::Arc};

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
    if all.is_empty() {
        return;
    }
    let still = Still::of(&job, &road.pair.name);
    let marks = backups::marks(draft, &all, still, Step::Snap);
    replicated(draft, &job, road, marks);
}

/// What is known of one before.
struct Going {
    machine: Arc<Machine>,
    bytes: Bytes,
    first: bool,
    known: bool,
    /// All of it is compared.
    whole: bool,
}

fn replicated(draft: &mut Draft<'_>, job: &Job, road: Road<'_>, marks: Vec<Mark<Step>>) {
    let line = Line::over(draft.estate(), road);
    let (mut free, mut all, mut said) = (Free::new(), Vec::<Vec<usize>>::new(), Said::default());
    let each = marks.len() <= EACH;
    for mark in marks {
        let Some(machine) = draft.estate().machines.get(&mark.machine).cloned() else { continue };
        let going = going(draft, job, road, machine);
        let place = match place::of(draft, (job, road), &going.machine, going.bytes, &mut free) {
            Ok(place) => place,
            Err(why) => {
                let name = &going.machine.name;
                draft.found(Finding::mind(Rule::Place, name, format!("{name} is not replicated. {why}")));
                continue;
            }
        };
        lacks(draft, road, &going.machine, each);
        said.add(draft, &going, road, &line, each);
        let turn = all.len().checked_sub(AT_ONCE).and_then(|at| all.get(at)).cloned();
        let steps = one(draft, job, road, &line, (going, place, mark));
        draft.takes_turn(steps[0], &turn.unwrap_or_default());
        all.push(steps);
    }
    said.told(draft, road, &line);
}

/// What goes over for one, at most.
fn going(draft: &Draft<'_>, job: &Job, road: Road<'_>, machine: Arc<Machine>) -> Going {
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

/// Made where it is not there, marked, brought up to date, released: the numbers of these steps, the mark's first.
fn one(draft: &mut Draft<'_>, job: &Job, road: Road<'_>, line: &Line, (going, place, mark): (Going, Place, Mark<Step>)) -> Vec<usize> {
    let (machine, bytes) = (&going.machine, going.bytes);
    let (name, via, snapshot) = (&machine.name, mark.via, mark.snapshot);
    let marked = draft.step(mark.step, format!("Mark {name}"), &place.made, Some("job"));
    let number = draft.number();
    let follow = replicas::Step::Follow {
        machine: machine.id,
        via,
        snapshot,
        way: Way { pair: road.pair.id, from: road.from.site },
        replica: place.replica.id,
        to: place.to,
        volume: place.volume,
        delivery: draw_uuid(draft.run().0, number, draft.now.0.unsigned_abs()),
        disks: place.disks,
        bytes,
        time: line.time(bytes),
        job: Some(job.id),
        whole: going.whole,
    };
    let title = format!("Bring {} up to date", place.replica.name);
    let followed = draft.step(Step::Replica(follow), title, &[marked], Some("job"));
    if job.how.local.is_some() {
        return vec![marked, followed];
    }
    let forget = snapshots::Step::Forget {
        machine: machine.id,
        via,
        snapshots: vec![snapshot],
        bytes: Bytes::ZERO,
        time: Span::secs(10).plus(layers::STILL),
    };
    let released = draft.step(Step::Snap(forget), format!("Release the mark of {name}"), &[followed], None);
    vec![marked, followed, released]
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
        .expired_replicas(job)
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
