//! How a job copies beyond where to and when: hours, order, what is left out, what is read again, what stays beside machines.

use crate::{
    backups::{STORE, assessed},
    jobs::{JOB, after, due, job, keep, kinds, small, utc},
    pledges::{HOUR, NOW, on},
};
use proptest::prelude::*;
use std::sync::Arc;
use uuid::Uuid;
use zastrugi_core::{
    caps::Cap,
    estate::{Disk, Fact, Habits, Job, Often, Order, Series, StoredPoint, Whole},
    ids::{MachineId, SeriesId},
    moment::{Moment, Span},
    recurrence::instant,
    rooms::{
        Assessment, Proposal, Step, backups, carrying,
        jobs::{Due, How, lay},
        snapshots,
    },
    testkit::Small,
    units::{Bytes, Rate},
};

fn with(small: &mut Small, how: Habits) {
    let job = Job {
        how,
        ..job("last 9")
    };
    small.alter(|e| e.put(Fact::Job(Arc::new(job))));
}

/// The copies of a run: whose, only which disks, whether all is read, and how long the point is wanted.
fn copies(said: &Assessment) -> Vec<(MachineId, Vec<Uuid>, bool, Option<Moment>)> {
    let copy = |s: &Step| match s {
        Step::Backups(backups::Step::Carry(carrying::Step::Copy {
            machine,
            only,
            whole,
            ends,
            ..
        })) => Some((*machine, only.clone(), *whole, *ends)),
        _ => None,
    };
    said.steps().iter().filter_map(|s| copy(&s.step)).collect()
}

/// If this fails, a copy begins while people work, or what was due then is never made up for.
#[test]
fn what_is_due_while_it_rests_begins_when_it_may() {
    let cap = Cap::read_with_rests("nothing; Mo-Su 22:00-06:00 all", "UTC").unwrap();
    let job = Job {
        next: Some(utc("2026-11-30 15:00")),
        how: Habits {
            cap,
            ..Habits::default()
        },
        ..job("last 2")
    };
    assert!(!job.is_due(utc("2026-11-30 14:00")), "not yet");
    assert!(!job.is_due(utc("2026-11-30 21:59")), "it rests");
    assert!(job.is_due(utc("2026-11-30 22:00")));
    let small = small("last 2", &[HOUR]);
    let said = assessed(
        &small,
        &keep(|k| k.how.cap = "nothing; Mo 00:00-01:00 1 MiB/s".into()),
    );
    let text = said
        .findings()
        .iter()
        .find(|f| f.field.as_deref() == Some("cap"))
        .unwrap();
    assert!(text.text.contains("it rests"), "{}", text.text);
}

/// If this fails, the first of many machines is always the same, and the last one's promise is broken every night.
#[test]
fn whose_last_copy_is_the_oldest_comes_first() {
    let mut small = small("last 9", &[HOUR]);
    on(&mut small, 8, |m| {
        drop(m.labels.insert("env".into(), "prod".into()));
        m.tier = 1;
    });
    let order = |small: &mut Small, order| {
        with(
            small,
            Habits {
                order,
                ..Habits::default()
            },
        );
        copies(&due(small, true))
            .into_iter()
            .map(|c| c.0.0)
            .collect::<Vec<_>>()
    };
    assert_eq!(order(&mut small, Order::Number), [7, 8]);
    assert_eq!(
        order(&mut small, Order::Longest),
        [8, 7],
        "8 has no copy at all"
    );
    on(&mut small, 7, |m| m.tier = 4);
    assert_eq!(order(&mut small, Order::Tier), [8, 7]);
}

/// If this fails, a disk that nobody wants is copied again and again, or one that somebody needs is not.
#[test]
fn disks_that_nothing_is_promised_of_are_left_out_where_it_is_said() {
    let mut small = small("last 9", &[HOUR]);
    on(&mut small, 7, |m| {
        m.disks[0].key = Uuid::from_u128(1);
        let scratch = Disk {
            key: Uuid::from_u128(2),
            size: Bytes::gib(500),
            ..m.disks[0]
        };
        m.disks.push(scratch);
        m.pledge(|p| p.except = [Uuid::from_u128(2)].into());
    });
    with(&mut small, Habits::default());
    assert_eq!(
        copies(&due(&small, true))[0].1,
        Vec::<Uuid>::new(),
        "all of them"
    );
    with(
        &mut small,
        Habits {
            leaves_out: true,
            ..Habits::default()
        },
    );
    assert_eq!(copies(&due(&small, true))[0].1, [Uuid::from_u128(1)]);
    on(&mut small, 7, |m| m.pledge(|p| p.except.clear()));
    assert_eq!(copies(&due(&small, true))[0].1, Vec::<Uuid>::new());
}

/// If this fails, what silently differs in a store is never found, or everything is read each time.
#[test]
fn all_is_read_again_as_often_as_it_is_said() {
    let mut small = small("last 9", &[HOUR]);
    let so_far = |small: &mut Small, whole: Option<Whole>| {
        small.alter(|e| {
            let mut s = Series::clone(&e.series[&SeriesId(761)]);
            s.points.iter_mut().for_each(|p| p.whole = whole);
            e.put(Fact::Series(Arc::new(s)));
        });
    };
    let whole = |small: &mut Small, often: Option<Often>| {
        with(
            small,
            Habits {
                whole: often,
                ..Habits::default()
            },
        );
        copies(&due(small, true))[0].2
    };
    so_far(
        &mut small,
        Some(Whole {
            at: NOW.before(Span::days(6)),
            since: 8,
        }),
    );
    assert!(!whole(&mut small, None));
    assert!(!whole(&mut small, Some(Often::Copies(10))));
    assert!(whole(&mut small, Some(Often::Copies(9))));
    assert!(!whole(&mut small, Some(Often::Days(7))));
    assert!(whole(&mut small, Some(Often::Days(6))));
    so_far(&mut small, None);
    assert!(
        whole(&mut small, Some(Often::Days(60))),
        "nobody knows when it was"
    );
}

proptest! {
    /// If this fails, a copy of everything is due too early or too late, whatever became of older points.
    #[test]
    fn of_so_many_copies_one_reads_everything(n in 1u16..9, copies in 1usize..40) {
        let mut last: Option<StoredPoint> = None;
        for count in 0..copies {
            let due = last.as_ref().is_none_or(|l| Often::Copies(n).is_due(l, NOW));
            prop_assert_eq!(due, count % usize::from(n) == 0, "copy {} of every {}", count, n);
            let whole = Whole::of(NOW, due, last.as_ref());
            let point = crate::backups::point(HOUR, zastrugi_core::estate::Consistent::Quiet, Bytes::gib(1));
            last = Some(StoredPoint { whole, ..point });
        }
    }

    #[test]
    fn how_often_is_read_as_it_is_written(n in 1u16.., days in any::<bool>()) {
        let often = if days { Often::Days(n) } else { Often::Copies(n) };
        prop_assert_eq!(often.to_string().parse(), Ok(often));
    }

    /// If this fails, the picture of the week shows a run in hours in which the job rests, or one job waits for another that rests.
    #[test]
    fn nothing_is_laid_into_hours_of_nothing(
        all in proptest::collection::vec((0u64..300, 0u16..1440, 120u16..1300, proptest::collection::btree_set(0i64..6_000, 0..12)), 0..5)
    ) {
        let due: Vec<Due> = all.iter().enumerate().map(|(n, (bytes, from, long, at))| {
            let clock = |m: u16| format!("{:02}:{:02}", m / 60, m % 60);
            let text = format!("nothing; Mo-Su {}-{} all", clock(*from), clock((from + long) % 1440));
            Due {
                job: zastrugi_core::ids::JobId(n as u64),
                to: zastrugi_core::estate::Goal::Store(STORE),
                bytes: Bytes(*bytes * 60),
                rate: Rate(1),
                cap: Cap::read_with_rests(&text, "UTC").unwrap(),
                at: at.iter().map(|m| Moment(m * 60_000)).collect(),
            }
        }).collect();
        let laid = lay(&due);
        prop_assert_eq!(laid.len(), due.iter().map(|d| d.at.len()).sum::<usize>());
        for one in &laid {
            let own = due.iter().find(|d| d.job == one.job).unwrap();
            if let Some((begins, ends)) = one.runs {
                prop_assert!(begins >= one.due && own.cap.is_open(begins));
                // Minute by minute it is let through what it brings.
                let open = (begins.0 / 60_000..ends.0.div_euclid(60_000) + 1).filter(|m| own.cap.is_open(Moment(m * 60_000)));
                prop_assert!(open.count() as u64 >= own.bytes.0 / 60);
            }
        }
        if let Some(first) = laid.first() {
            let soonest = due.iter().flat_map(|d| d.at.iter().map(|at| d.cap.opens(*at).unwrap())).min();
            prop_assert_eq!(first.runs.map(|r| r.0), soonest);
        }
    }
}

/// If this fails, what was to stay beside a machine goes at once, or stays for ever.
#[test]
fn what_was_copied_stays_beside_the_machine_where_it_is_said() {
    let mut small = small("last 9", &[HOUR]);
    with(
        &mut small,
        Habits {
            local: Some(Span::mins(240)),
            ..Habits::default()
        },
    );
    let said = due(&small, true);
    assert_eq!(kinds(&said)[..2], ["mark", "copy"]);
    assert!(!kinds(&said).contains(&"release"), "{:?}", kinds(&said));
    let take = said.steps().iter().find_map(|s| match &s.step {
        Step::Backups(backups::Step::Snap(snapshots::Step::Take { name, ends, .. })) => {
            Some((name.clone(), *ends))
        }
        _ => None,
    });
    let (name, ends) = take.unwrap();
    assert!(name.starts_with("nightly "), "{name}");
    assert_eq!(ends, Some(NOW.plus(Span::mins(240))));
    // A mark whose copy rests over a week is there when it goes on.
    let ends = |small: &mut Small, cap: &str| {
        let cap = Cap::read_with_rests(cap, "UTC").unwrap();
        with(
            small,
            Habits {
                cap,
                ..Habits::default()
            },
        );
        let said = due(small, true);
        said.steps()
            .iter()
            .find_map(|s| match &s.step {
                Step::Backups(backups::Step::Snap(snapshots::Step::Take { ends, .. })) => *ends,
                _ => None,
            })
            .unwrap()
    };
    assert_eq!(ends(&mut small, ""), NOW.plus(Span::days(3)));
    assert!(ends(&mut small, "nothing; Su all") > NOW.plus(Span::days(7)));
    let many = assessed(&small, &keep(|k| k.how.local = Some(Span::days(3))));
    let stop = many.findings().iter().find(|f| f.stops()).unwrap();
    assert_eq!(
        stop.field.as_deref(),
        Some("local"),
        "72 states of an hourly job"
    );
}

/// If this fails, a copy that is wanted once is made at another time, again and again, or stays for ever.
#[test]
fn once_it_is_made_at_its_time_and_goes_after_a_while() {
    let at = instant("2026-12-05 22:00", "Europe/Oslo").unwrap();
    assert_eq!(at, utc("2026-12-05 21:00"));
    assert!(
        instant("2026-03-29 02:30", "Europe/Oslo")
            .unwrap_err()
            .contains("skipped")
    );
    assert!(instant("tomorrow", "UTC").unwrap_err().contains("no date"));
    let mut small = small("last 9", &[HOUR]);
    let wanted = Some(Span::days(7));
    let at = Moment((NOW.0 / 60_000 + 2 * 1440) * 60_000);
    let ask = keep(|k| {
        k.job = Some(JOB);
        k.rule = "FREQ=DAILY;COUNT=1".into();
        k.begins = Some(at);
        k.how = How {
            wanted,
            ..How::default()
        };
    });
    let said = assessed(&small, &ask);
    assert!(
        !said.findings().iter().any(|f| f.stops()),
        "{:?}",
        said.findings()
    );
    let now = after(&mut small, said);
    assert_eq!(now.next, Some(at));
    small.now = at;
    let said = zastrugi_core::rooms::assess(
        &small.view,
        &small.permits,
        &Proposal::Backups(backups::Ask::Job(backups::JobRun {
            job: JOB,
            by_hand: false,
        })),
        small.now,
    );
    assert_eq!(copies(&said)[0].3, Some(small.now.plus(Span::days(7))));
    let over = after(&mut small, said);
    assert_eq!(over.next, None, "never again");
}

/// If this fails, a job with a long name, or one into a store with a long name, copies nothing.
#[test]
fn a_mark_is_never_called_too_long() {
    let mut small = small("last 9", &[HOUR]);
    let long = "n".repeat(zastrugi_core::limits::NAME.most);
    small.alter(|e| {
        let mut store = zastrugi_core::estate::Store::clone(&e.stores[&STORE]);
        store.name.clone_from(&long);
        e.put(Fact::Store(Arc::new(store)));
    });
    for local in [None, Some(Span::mins(240))] {
        let how = Habits {
            local,
            ..Habits::default()
        };
        let job = Job {
            how,
            name: long.clone(),
            ..job("last 9")
        };
        small.alter(|e| e.put(Fact::Job(Arc::new(job))));
        let said = due(&small, true);
        assert!(
            !said.findings().iter().any(|f| f.stops()),
            "{:?}",
            said.findings()
        );
        assert!(kinds(&said).contains(&"copy"));
    }
}
