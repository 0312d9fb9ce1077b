//! Snapshots by a schedule: when one is due, of whom, and what can be no schedule.

use crate::{put, worse};
use std::sync::Arc;
use zastrugi_core::{
    estate::{Estate, Fact, Machine, Mode, Schedule, SharedAs, Slot},
    finding::Severity,
    ids::{MachineId, ScheduleId},
    moment::{Moment, Span},
    rooms::{
        Assessment, Proposal, Step, scheduled,
        schedules::{Ask, Keep},
        snapshots,
    },
    testkit::{Small, read},
};

const ID: ScheduleId = ScheduleId(600);
const DAY: i64 = 86_400_000;

fn schedule() -> Schedule {
    Schedule {
        id: ID,
        name: "nightly".into(),
        label: "env=prod".into(),
        every: Span::days(1),
        keeps: Span::days(7),
        begins: Moment(22 * 3_600_000),
        last: None,
        paused: false,
    }
}

/// 7 and 8 have the label, 9 has not.
fn fixture() -> Small {
    let mut small = read(
        "cluster eider careless\nhost 1 512\nhost 2 512\nmachine 7 db 16 on 1\nmachine 8 web 16 off\nmachine 9 old 16 off",
    );
    for id in [7, 8] {
        on(&mut small, id, |m| {
            drop(m.labels.insert("env".into(), "prod".into()))
        });
    }
    small.alter(|e| e.put(Fact::Schedule(Arc::new(schedule()))));
    small
}

fn on(small: &mut Small, id: u64, change: impl FnOnce(&mut Machine)) {
    small.alter(|estate: &mut Estate| {
        let mut m = Machine::clone(&estate.machines[&MachineId(id)]);
        change(&mut m);
        estate.put(Fact::Machine(Arc::new(m)));
    });
}

/// If this fails, snapshots creep through the day, pile up after an outage, or are never taken again.
#[test]
fn one_is_due_at_its_hour_and_what_was_missed_is_taken_once() {
    let hour = 3_600_000;
    let mut s = schedule();
    assert_eq!(s.next(), Moment(22 * hour));
    assert!(!s.is_due(Moment(22 * hour - 1)) && s.is_due(Moment(22 * hour)));
    // Begun a little late: the next is at the same hour again.
    s.last = Some(Moment(22 * hour + 90_000));
    assert_eq!(s.next(), Moment(DAY + 22 * hour));
    // The manager was away for three days.
    let back = Moment(4 * DAY + 3 * hour);
    assert!(s.is_due(back));
    s.last = Some(back);
    assert_eq!(
        s.next(),
        Moment(4 * DAY + 22 * hour),
        "one, and then as before"
    );
    s.paused = true;
    assert!(!s.is_due(Moment(90 * DAY)));
    // It begins anew later than it was last begun.
    s.begins = Moment(9 * DAY);
    assert_eq!(s.next(), Moment(9 * DAY));
}

#[test]
fn a_snapshot_is_called_by_when_it_was_taken() {
    let s = schedule();
    for (ms, said) in [
        (0, "1970-01-01 00:00"),
        (951_782_400_000, "2000-02-29 00:00"),
        (1_795_996_799_000, "2026-11-29 23:59"),
        (4_102_444_800_000, "2100-01-01 00:00"),
    ] {
        assert_eq!(s.named(Moment(ms)), format!("nightly {said}"));
    }
}

fn take(small: &Small) -> Assessment {
    put(
        small,
        &Proposal::Scheduled(scheduled::Ask::Take { schedule: ID }),
    )
}

fn of(said: &Assessment) -> Vec<u64> {
    let all = said.steps().iter().filter_map(|p| match &p.step {
        Step::Scheduled(scheduled::Step::Snap(snapshots::Step::Take { machine, .. })) => {
            Some(machine.0)
        }
        _ => None,
    });
    all.collect()
}

/// If this fails, one machine that can have none keeps all others from theirs, or nobody reads that it had none.
#[test]
fn all_with_the_label_are_taken_and_who_can_have_none_is_named() {
    let mut small = fixture();
    let said = take(&small);
    assert!(!said.blocked(), "{:#?}", worse(&said));
    assert_eq!(of(&said), [7, 8]);
    let volume = small.view.estate.machines[&MachineId(7)].disks[0].volume;
    on(&mut small, 7, |m| {
        m.shares = vec![SharedAs {
            disk: uuid::Uuid::from_u128(1),
            volume,
            slot: Slot {
                controller: 1,
                unit: 0,
            },
            mode: Mode::Reservations,
        }];
    });
    let said = take(&small);
    assert!(!said.blocked(), "{:#?}", worse(&said));
    assert_eq!(of(&said), [8]);
    assert!(
        said.findings()
            .iter()
            .any(|f| f.severity == Severity::Mind && f.text.contains("None of db is taken")),
        "{:#?}",
        said.findings()
    );
    small.begin(said.accept().unwrap());
    let s = &small.view.estate.schedules[&ID];
    assert!(s.last.is_some(), "it was begun");
    on(&mut small, 8, |m| m.labels.clear());
    on(&mut small, 7, |m| m.labels.clear());
    assert!(take(&small).blocked(), "nobody has the label");
}

fn keep(small: &Small, change: impl FnOnce(&mut Keep)) -> Assessment {
    let mut ask = Keep {
        schedule: None,
        name: "hourly".into(),
        label: "env=prod".into(),
        every: Span::mins(60),
        keeps: Span::mins(720),
        at: None,
    };
    change(&mut ask);
    put(small, &Proposal::Schedules(Ask::Keep(ask)))
}

#[test]
fn what_can_be_no_schedule_is_refused_at_its_field() {
    let small = fixture();
    assert!(!keep(&small, |_| {}).blocked());
    let at = |change: &dyn Fn(&mut Keep)| {
        let said = keep(&small, |a| change(a));
        said.findings()
            .iter()
            .find(|f| f.severity == Severity::Stop)
            .and_then(|f| f.field.clone())
    };
    assert_eq!(at(&|a| a.name = "".into()).as_deref(), Some("name"));
    assert_eq!(at(&|a| a.name = "nightly".into()).as_deref(), Some("name"));
    assert_eq!(
        at(&|a| a.name = "n".repeat(60).into()).as_deref(),
        Some("name")
    );
    assert_eq!(at(&|a| a.label = " ".into()).as_deref(), Some("label"));
    assert_eq!(at(&|a| a.every = Span::mins(5)).as_deref(), Some("every"));
    assert_eq!(at(&|a| a.keeps = Span::mins(30)).as_deref(), Some("keeps"));
    assert_eq!(
        at(&|a| a.keeps = Span::mins(60 * 21)).as_deref(),
        Some("keeps"),
        "some layers are left to people"
    );
    assert_eq!(at(&|a| a.at = Some(1440)).as_deref(), Some("at"));
    let same = keep(&small, |a| {
        (a.schedule, a.name, a.every, a.keeps, a.at) = (
            Some(ID),
            "nightly".into(),
            Span::days(1),
            Span::days(7),
            Some(22 * 60),
        )
    });
    assert!(
        same.findings()
            .iter()
            .any(|f| f.text.contains("Nothing of the schedule is changed")),
        "{:#?}",
        same.findings()
    );
}
