//! What a guard's notes mean for the estate: events of the failure that they are about, and of the host.

use crate::{
    availability::{foretold, model},
    estate::{Failure, FailureStage, Host, Machine, MachineState, Restarted, Wanted},
    guard::{Line, Note, Proof, Told},
    ids::{ClusterId, FailureId, HostId, MachineId, RunId},
    moment::{Moment, Span},
    road::{Input, turn},
    rooms::{Event, Plans, World, absorb_all, hosts, machines, recovery},
    runs::{Fault, FaultKind, Object},
    view::View,
};
use std::{collections::BTreeSet, sync::Arc};

/// The events of what a guard told just now.
pub fn retell(
    view: &View,
    plans: &Plans,
    cluster: ClusterId,
    told: &Told,
    now: Moment,
) -> Vec<Event> {
    match told {
        Told::Note(note) => recount(view, plans, cluster, note, now),
        Told::Switching { host } => switching(view, *host, now),
    }
}

/// The events of a line of a keeper's journal, taken in afterwards: when it happened, and whom it took down then. `serves`: whether
/// a host was heard since; told of such a one, it is a story and no more.
pub fn read_line(
    view: &View,
    plans: &Plans,
    cluster: ClusterId,
    line: &Line,
    serves: &dyn Fn(&Host) -> bool,
) -> Vec<Event> {
    match &line.told {
        Told::Note(note) => told(view, plans, cluster, (note, Some((line, serves))), line.at),
        Told::Switching { host } => switching(view, *host, line.at),
    }
}

/// Whether what is told can't be so any more: the host was heard while it was on its way.
pub fn is_stale(view: &View, told: &Told) -> bool {
    let answers = |h: &HostId| view.estate.hosts.get(h).is_some_and(|h| h.reports());
    matches!(told, Told::Note(Note::Fenced { host, .. }) if answers(host))
}

/// What goes into a line beside what is told: the machines on the host that it is of, and how long their way back is foretold to take.
pub fn taken_down(view: &View, cluster: ClusterId, told: &Told) -> (Vec<MachineId>, Option<Span>) {
    let host = match told {
        Told::Note(note) => about(note),
        Told::Switching { .. } => return (vec![], None),
    };
    let lack = match told {
        Told::Note(Note::Lacks { lack, .. }) => Some(*lack),
        _ => None,
    };
    let on = view.estate.machines_on(host).filter(|m| !m.is_off());
    let on = on.filter(|m| lack.is_none() || view.estate.lacks(m) == lack);
    let opens = matches!(told, Told::Note(Note::CutOff { .. } | Note::Judged { .. }));
    let cluster = view.estate.clusters.get(&cluster).filter(|_| opens);
    let span = cluster.and_then(|c| foretold(&model(view, c).0, host));
    (on.map(|m| m.id).collect(), span)
}

fn switching(view: &View, host: HostId, at: Moment) -> Vec<Event> {
    let failure = view.estate.failure_of(host);
    let event = failure.map(|f| recovery::Event::Switching { failure: f.id, at });
    event.map(Event::Recovery).into_iter().collect()
}

/// The events of a note, in order: the failure opens with the first one that is worth it.
pub fn recount(
    view: &View,
    plans: &Plans,
    cluster: ClusterId,
    note: &Note,
    now: Moment,
) -> Vec<Event> {
    told(view, plans, cluster, (note, None), now)
}

/// A line that is taken in, and whether a host serves again.
type Late<'a> = (&'a Line, &'a dyn Fn(&Host) -> bool);

fn told(
    view: &View,
    plans: &Plans,
    cluster: ClusterId,
    (note, late): (&Note, Option<Late<'_>>),
    now: Moment,
) -> Vec<Event> {
    let line = late.map(|(line, _)| line);
    if matches!(note, Note::Hangs { .. } | Note::Revived { .. }) {
        return vec![Event::Recovery(recovery::Event::Guest(note.clone()))];
    }
    let estate = &view.estate;
    let host = about(note);
    let mut events = Vec::new();
    let mut open = estate.failure_of(host);
    // It came back, and failed again: that is another story, with whoever is on it now.
    let opens = matches!(
        note,
        Note::CutOff { .. } | Note::Lacks { .. } | Note::Judged { .. }
    );
    if let Some(old) = open.filter(|f| opens && f.stage == FailureStage::Fenced) {
        events.push(Event::Recovery(recovery::Event::Over {
            failure: old.id,
            at: now,
            why: "it came back and failed again".into(),
        }));
        open = None;
    }
    let open = open.or_else(|| told_late(view, host, note, now));
    let open = open.map(|f| f.id);
    let failure = match open {
        Some(id) => id,
        // Nothing is told of what was never opened.
        None if matches!(note, Note::Back { .. }) => return events,
        None => {
            let Some(begun) = begin(view, cluster, (note, line), now) else {
                return events;
            };
            let id = begun.id;
            events.push(Event::Recovery(recovery::Event::Began(Box::new(begun))));
            id
        }
    };
    let noted = recovery::Event::Noted {
        failure,
        at: now,
        note: note.clone(),
    };
    events.push(Event::Recovery(noted));
    if let Note::Unsure { machine, .. } = note {
        let machine = *machine;
        events.push(Event::Machines(machines::Event::Unsure { machine }));
    }
    // Told afterwards of a host that serves again, it is a story and no more.
    let answers =
        late.is_some_and(|(_, serves)| estate.hosts.get(&host).is_some_and(|h| serves(h)));
    if let Note::Fenced { proof, .. } = note
        && !answers
    {
        let (at, words) = (now, proof.words().to_owned());
        events.extend(match proof {
            // It has power, and nobody took anything from it: its machines alone are gone.
            Proof::Lease => fallen(view, host, at),
            Proof::Storage => vec![Event::Hosts(hosts::Event::ShutOut {
                host,
                at,
                proof: words,
            })],
            Proof::Controller | Proof::Watchdog | Proof::Person => {
                vec![Event::Hosts(hosts::Event::Off {
                    host,
                    at,
                    proof: words,
                })]
            }
        });
        let told = preempt(view, plans, host, &events, now);
        events.extend(told);
    }
    events
}

/// All that a host ran is off, and shall be on.
fn fallen(view: &View, host: HostId, at: Moment) -> Vec<Event> {
    let on = view.estate.machines_on(host).filter(|m| !m.is_off());
    let fell = on.map(|m| machines::Event::Fell {
        machine: m.id,
        host,
        at,
    });
    fell.map(Event::Machines).collect()
}

/// The failure that a machine's note still belongs to, although it was closed a moment ago.
fn told_late<'a>(
    view: &'a View,
    host: HostId,
    note: &Note,
    now: Moment,
) -> Option<&'a Arc<Failure>> {
    let machine = note.machine()?;
    let mut all = view
        .estate
        .failures
        .values()
        .rev()
        .filter(|f| f.host == host);
    all.find(|f| {
        let lately = f.ended.is_some_and(|at| now.since(at) < SAID);
        lately && f.machines.iter().any(|m| m.machine == machine)
    })
}

/// The host that a note is about: for a machine, the one that it fell from.
fn about(note: &Note) -> HostId {
    match note {
        Note::CutOff { host, .. }
        | Note::Lacks { host, .. }
        | Note::Judged { host, .. }
        | Note::Fenced { host, .. }
        | Note::Said { host, .. }
        | Note::Waits { host, .. }
        | Note::Doubted { host, .. }
        | Note::Hangs { host, .. }
        | Note::Revived { host, .. }
        | Note::Back { host } => *host,
        Note::Starts { from, .. }
        | Note::Up { from, .. }
        | Note::NotStarted { from, .. }
        | Note::Ended { from, .. }
        | Note::Unsure { from, .. }
        | Note::Left { from, .. } => *from,
    }
}

fn begin(
    view: &View,
    cluster: ClusterId,
    (note, line): (&Note, Option<&Line>),
    now: Moment,
) -> Option<Failure> {
    let estate = &view.estate;
    let host = about(note);
    let found = estate.hosts.get(&host)?;
    let on = estate.machines_on(host).filter(|m| !m.is_off());
    let fallen = estate.machines_fallen_from(host);
    // The first of them may have been started already.
    let named = note.machine().and_then(|m| estate.machines.get(&m));
    let were = line
        .iter()
        .flat_map(|l| &l.on)
        .filter_map(|m| estate.machines.get(m));
    let mut machines: Vec<_> = on.chain(fallen).chain(named).chain(were).collect();
    if let (Note::Lacks { lack, .. }, None) = (note, line) {
        machines.retain(|m| estate.lacks(m) == Some(*lack));
    }
    machines.sort_by_key(|m| (m.tier, m.name.clone(), m.id));
    machines.dedup_by_key(|m| m.id);
    let since = match note {
        Note::CutOff { since, .. } | Note::Lacks { since, .. } | Note::Judged { since, .. } => {
            *since
        }
        Note::Fenced { .. }
        | Note::Said { .. }
        | Note::Waits { .. }
        | Note::Doubted { .. }
        | Note::Back { .. }
        | Note::Starts { .. }
        | Note::Up { .. }
        | Note::NotStarted { .. }
        | Note::Hangs { .. }
        | Note::Revived { .. }
        | Note::Ended { .. }
        | Note::Unsure { .. }
        | Note::Left { .. } => machines
            .iter()
            .filter_map(|m| m.fell.as_ref())
            .map(|f| f.at)
            .min()
            .unwrap_or(now),
    };
    let restarted = machines.iter().map(|m| Restarted {
        machine: m.id,
        name: m.name.clone(),
        tier: m.tier,
        to: None,
        started: None,
        up: None,
        why: stays(m.restarts, m.wanted),
    });
    let table = estate.clusters.get(&cluster).map(|c| model(view, c).0);
    Some(Failure {
        id: FailureId(estate.next.max(1)),
        cluster,
        host,
        name: found.name.clone(),
        since,
        // It came back by itself, without what ran on it.
        stage: match note {
            Note::Lacks { .. } => FailureStage::Ails,
            _ => FailureStage::Fenced,
        },
        lines: vec![],
        machines: restarted.collect(),
        foretold: match line {
            _ if matches!(note, Note::Lacks { .. }) => None,
            Some(line) => line.foretold,
            None => table.and_then(|t| foretold(&t, host)),
        },
        ailed: matches!(note, Note::Lacks { .. }),
        switched: None,
        fenced: None,
        on_word: false,
        ended: None,
    })
}

fn stays(restarts: bool, wanted: Wanted) -> String {
    match (restarts, wanted) {
        (_, Wanted::Off) => "it shall be off".into(),
        (false, Wanted::On) => "nobody asked that it is started elsewhere".into(),
        (true, Wanted::On) => String::new(),
    }
}

/// What runs held of a host that is fenced, and of its machines, is taken over: they stop, say so, and can be gone on with.
fn preempt(view: &View, plans: &Plans, host: HostId, so_far: &[Event], now: Moment) -> Vec<Event> {
    let machines = view.estate.machines_on(host).map(|m| Object::Machine(m.id));
    let objects = machines.chain([Object::Host(host)]);
    let holders: BTreeSet<(RunId, usize)> = objects.flat_map(|o| view.runs.holders(o)).collect();
    let name = Object::Host(host).name(&view.estate);
    let fault = Fault::new(
        FaultKind::Premise,
        format!("{name} has failed; its machines are started elsewhere."),
        "Retry when they run again, or cancel the rest.",
    );
    let mut fork = World {
        estate: (*view.estate).clone(),
        runs: (*view.runs).clone(),
        plans: plans.clone(),
    };
    absorb_all(&mut fork, so_far);
    let mut events = Vec::new();
    for (run, step) in holders {
        let seen = View {
            runs: Arc::new(fork.runs.clone()),
            ..view.with(fork.estate.clone())
        };
        let fault = fault.clone();
        let told = turn(
            &seen,
            &fork.plans,
            run,
            Input::Preempted { step, fault },
            now,
        );
        absorb_all(&mut fork, &told);
        events.extend(told);
    }
    events
}

/// What is said of a machine that is up comes within this after it is.
const SAID: Span = Span::secs(20);

/// Whether a failure is over: what it took down runs, or shall be off.
pub fn is_over(view: &View, failure: &Failure, now: Moment) -> bool {
    match &failure.stage {
        FailureStage::Fenced => {}
        FailureStage::Over => return false,
        // Nothing of it lacks anything there any more.
        FailureStage::Ails => {
            let lacks =
                |m: &Arc<Machine>| m.host == Some(failure.host) && view.estate.lacks(m).is_some();
            let busy = |m: &Restarted| {
                let found = view.estate.machines.get(&m.machine);
                found.is_some_and(lacks) || view.runs.holds(Object::Machine(m.machine))
            };
            let mut all = failure.machines.iter();
            return failure.is_open() && all.all(|m| settled(view, m, now) && !busy(m));
        }
        // It is heard again, and whoever opened this is not there to say so.
        FailureStage::CutOff | FailureStage::Judged(_) | FailureStage::Waits(_) => {
            let host = view.estate.hosts.get(&failure.host);
            return failure.is_open() && host.is_none_or(|h| h.reports());
        }
    }
    failure.is_open() && failure.machines.iter().all(|m| settled(view, m, now))
}

fn settled(view: &View, one: &Restarted, now: Moment) -> bool {
    let Some(machine) = view.estate.machines.get(&one.machine) else {
        return true;
    };
    match (one.up, one.started) {
        (Some(_), _) => true,
        _ if machine.fell.is_some() => false,
        // Whoever started it may be about to say that it is up.
        (None, Some(at)) => machine.is_off() || now.since(at) >= SAID && !is_starting(machine),
        // What is said of its start is on its way.
        (None, None) => !is_starting(machine),
    }
}

fn is_starting(machine: &Machine) -> bool {
    matches!(machine.state, MachineState::Starting(_))
}
