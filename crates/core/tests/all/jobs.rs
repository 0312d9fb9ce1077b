//! Jobs: when they are due, what stays, what they take, and what a run of one does.

use crate::{
    backups::{STORE, assessed, point, size, with},
    pledges::{HOUR, NOW, fixture, hourly, on},
};
use proptest::prelude::*;
use std::{collections::BTreeSet, sync::Arc};
use uuid::Uuid;
use zastrugi_core::{
    caps::Cap,
    estate::{Consistent, Fact, Goal, Job, Machine, Series, Store, StoredPoint, Taker},
    expression::Expression,
    finding::Rule,
    ids::{JobId, MachineId, SeriesId, SiteId, StoreId},
    moment::{Moment, Span},
    pledges::{Promise, Sort, Standing},
    recurrence::Recurrence,
    retention::Keeps,
    rooms::{
        Assessment, Proposal, Step, assess,
        backups::{self, JobRun},
        carrying,
        jobs::{self, Due, Keep, lay},
        stores,
    },
    testkit::Small,
    units::{Bytes, Rate},
};

pub(crate) const JOB: JobId = JobId(77);

/// 2026-03-29 is the day on which Europe/Oslo puts its clocks forward, 2026-10-25 that on which it puts them back.
pub(crate) fn utc(text: &str) -> Moment {
    let (date, time) = text.split_once(' ').unwrap();
    let n = |t: &str, sep: char| {
        t.split(sep)
            .map(|p| p.parse::<i64>().unwrap())
            .collect::<Vec<_>>()
    };
    let (d, t) = (n(date, '-'), n(time, ':'));
    // Days from civil (Hinnant).
    let y = if d[1] <= 2 { d[0] - 1 } else { d[0] };
    let era = y.div_euclid(400);
    let yoe = y - era * 400;
    let doy = (153 * ((d[1] + 9) % 12) + 2) / 5 + d[2] - 1;
    let days = era * 146_097 + yoe * 365 + yoe / 4 - yoe / 100 + doy - 719_468;
    Moment(((days * 24 + t[0]) * 60 + t[1]) * 60_000)
}

fn rule(rule: &str, zone: &str, begins: &str) -> Recurrence {
    Recurrence::read(rule, zone, utc(begins)).unwrap()
}

fn stamps(of: &Recurrence, after: &str, most: u16) -> Vec<String> {
    of.after(utc(after), most)
        .iter()
        .map(|m| m.stamp())
        .collect()
}

/// If this fails, a nightly job comes an hour early or late for half of the year, twice in one night, or not at all in another.
#[test]
fn a_local_time_stays_what_it_is_when_clocks_change() {
    let nightly = rule(
        "FREQ=DAILY;BYHOUR=2;BYMINUTE=30",
        "Europe/Oslo",
        "2026-03-27 00:00",
    );
    assert_eq!(
        stamps(&nightly, "2026-03-27 00:00", 4),
        // 02:30 is not there on the 29th: it is read with the offset before the gap (RFC 5545, 3.3.5), which is 03:30.
        [
            "2026-03-27 01:30",
            "2026-03-28 01:30",
            "2026-03-29 01:30",
            "2026-03-30 00:30"
        ]
    );
    let back = rule(
        "FREQ=DAILY;BYHOUR=2;BYMINUTE=30",
        "Europe/Oslo",
        "2026-10-24 00:00",
    );
    assert_eq!(
        stamps(&back, "2026-10-24 00:00", 3),
        // 02:30 is there twice on the 25th: the first counts.
        ["2026-10-24 00:30", "2026-10-25 00:30", "2026-10-26 01:30"]
    );
    let hourly = rule("FREQ=HOURLY;BYMINUTE=0", "Europe/Oslo", "2026-10-24 23:00");
    assert_eq!(
        stamps(&hourly, "2026-10-24 23:30", 4),
        [
            "2026-10-25 00:00",
            "2026-10-25 01:00",
            "2026-10-25 02:00",
            "2026-10-25 03:00"
        ],
        "an hour is an hour"
    );
}

/// If this fails, a rule that nobody meant is taken, or the words do not say what is wrong.
#[test]
fn rules_that_are_none_are_refused_in_words() {
    for (rule, zone, words) in [
        ("", "UTC", "is no recurrence rule"),
        ("every day", "UTC", "is no recurrence rule"),
        ("FREQ=DAILY", "Mars/Olympus", "There is no time zone"),
        ("FREQ=SECONDLY", "UTC", "not taken"),
        ("FREQ=MINUTELY;INTERVAL=90;BYHOUR=9", "UTC", "not taken"),
        ("FREQ=NEVER", "UTC", "can't be read"),
        (
            "FREQ=DAILY\nRDATE:20260101T000000Z",
            "UTC",
            "is no recurrence rule",
        ),
        ("FREQ=YEARLY;BYMONTH=2;BYMONTHDAY=30", "UTC", "never occurs"),
    ] {
        let why = Recurrence::read(rule, zone, NOW).unwrap_err();
        assert!(why.contains(words), "{rule}: {why}");
    }
    assert_eq!(
        rule("RRULE:freq=daily", "UTC", "2026-01-01 10:00").rule,
        "FREQ=DAILY"
    );
}

/// What stays, told again: a point stays if some kind of period has it as its first one, and fewer than so many such periods follow.
fn stays(points: &[Moment], keeps: &Keeps, place: usize) -> bool {
    let day = 86_400_000;
    // Days from 1970-01-01, a Thursday: weeks begin on Mondays.
    let of = |period: u8, at: Moment| match period {
        0 => at.0.div_euclid(3_600_000),
        1 => at.0.div_euclid(day),
        _ => (at.0.div_euclid(day) + 3).div_euclid(7),
    };
    let last = place + usize::from(keeps.last) >= points.len() || place + 1 == points.len();
    let kinds = [(0, keeps.hours), (1, keeps.days), (2, keeps.weeks)];
    last || kinds.into_iter().any(|(period, count)| {
        let own = of(period, points[place]);
        let first = points[..place].iter().all(|p| of(period, *p) != own);
        let later: BTreeSet<i64> = points[place..]
            .iter()
            .map(|p| of(period, *p))
            .filter(|p| *p != own)
            .collect();
        first && later.len() < usize::from(count)
    })
}

proptest! {
    /// If this fails, a point goes that should stay, or none ever goes. Held against the rule told another way.
    #[test]
    fn the_first_of_each_period_stays(
        gaps in proptest::collection::vec(1i64..200, 0..60),
        last in 0u16..4, hours in 0u16..5, days in 0u16..5, weeks in 0u16..4,
    ) {
        let keeps = Keeps { last, hours, days, weeks, ..Keeps::default() };
        let mut at = utc("2026-02-20 03:07");
        let points: Vec<Moment> = gaps.iter().map(|g| { at = at.plus(Span::mins(g.unsigned_abs() * 7)); at }).collect();
        let found = keeps.stay(&points, "UTC");
        let expected: BTreeSet<usize> = (0..points.len()).filter(|n| stays(&points, &keeps, *n)).collect();
        prop_assert_eq!(&found, &expected);
        prop_assert!(found.len() <= usize::try_from(keeps.most()).unwrap() + 1);
    }

    /// If this fails, what somebody typed comes back as something else.
    #[test]
    fn what_stays_is_read_as_it_is_written(last in 0u16..9, hours in 0u16..99, days in 0u16..99, weeks in 0u16..99, months in 0u16..99, years in 1u16..9) {
        let keeps = Keeps { last, hours, days, weeks, months, years };
        prop_assert_eq!(keeps.to_string().parse::<Keeps>(), Ok(keeps));
    }

    /// If this fails, the picture of a week shows two copies at once on one line, one before it is due, or one of a job that still goes on.
    #[test]
    fn runs_on_one_line_come_one_after_the_other(
        all in proptest::collection::vec((0u64..3, 0u64..200, proptest::collection::btree_set(0i64..500, 0..12)), 0..5)
    ) {
        let due: Vec<Due> = all.iter().enumerate().map(|(n, (store, takes, at))| Due {
            job: JobId(n as u64),
            to: Goal::Store(StoreId(*store)),
            bytes: Bytes(*takes * 60),
            rate: Rate(1),
            cap: Cap::default(),
            at: at.iter().map(|m| Moment(m * 60_000)).collect(),
        }).collect();
        let laid = lay(&due);
        prop_assert_eq!(laid.len(), due.iter().map(|d| d.at.len()).sum::<usize>());
        let store = |job: JobId| due.iter().find(|d| d.job == job).unwrap().to;
        for (n, one) in laid.iter().enumerate() {
            let before = || laid[..n].iter().filter_map(|l| Some((l, l.runs?)));
            let own = before().filter(|(l, _)| l.job == one.job).map(|(_, r)| r.1).max();
            match one.runs {
                None => prop_assert!(own.is_some_and(|end| end > one.due)),
                Some((begins, _)) => {
                    let line = before().filter(|(l, _)| store(l.job) == store(one.job)).map(|(_, r)| r.1).max();
                    let expected = line.map_or(one.due, |end| end.max(one.due));
                    prop_assert_eq!(begins, expected);
                    prop_assert!(own.is_none_or(|end| end <= one.due));
                }
            }
        }
    }
}

/// If this fails, words about what stays mean something else than they say.
#[test]
fn odd_words_about_what_stays_are_refused() {
    for odd in [
        "",
        "0 days",
        "7",
        "seven days",
        "7 days, 3 days",
        "7 fortnights",
        "7 days each",
        "9999 days",
    ] {
        assert!(odd.parse::<Keeps>().is_err(), "{odd}");
    }
    let keeps: Keeps = "Last 3, 1 week,4 MONTHS".parse().unwrap();
    assert_eq!(keeps.to_string(), "last 3, 1 week, 4 months");
}

pub(crate) fn job(keeps: &str) -> Job {
    Job {
        id: JOB,
        name: "nightly".into(),
        who: Expression::read("env=prod").unwrap(),
        to: Goal::Store(STORE),
        when: Recurrence::read("FREQ=HOURLY;BYMINUTE=0", "UTC", NOW.before(Span::days(9))).unwrap(),
        keeps: keeps.parse().unwrap(),
        quiet: true,
        proves: None,
        how: Default::default(),
        paused: false,
        next: Some(NOW),
        last: None,
    }
}

pub(crate) fn made(age: Span, size: Bytes) -> StoredPoint {
    StoredPoint {
        job: Some(JOB),
        equal: None,
        proof: None,
        ..point(age, Consistent::Quiet, size)
    }
}

/// Machine 7 is in the job and has points of it so old.
pub(crate) fn small(keeps: &str, ages: &[Span]) -> Small {
    let all = size(&fixture(hourly(Taker::Any)));
    let points = ages.iter().map(|a| made(*a, all)).collect();
    let mut small = with(hourly(Taker::Any), SiteId(990), points);
    small.alter(|e| e.put(Fact::Job(Arc::new(job(keeps)))));
    small
}

pub(crate) fn due(small: &Small, by_hand: bool) -> Assessment {
    assessed(
        small,
        &Proposal::Backups(backups::Ask::Job(JobRun { job: JOB, by_hand })),
    )
}

pub(crate) fn kinds(said: &Assessment) -> Vec<&'static str> {
    use backups::Step as S;
    let kind = |s: &Step| match s {
        Step::Backups(S::Snap(zastrugi_core::rooms::snapshots::Step::Take { .. })) => "mark",
        Step::Backups(S::Carry(carrying::Step::Copy { job, .. })) if *job == Some(JOB) => "copy",
        Step::Backups(S::Snap(_)) => "release",
        Step::Backups(S::Store(stores::Step::Expire { .. })) => "expire",
        Step::Backups(S::Store(stores::Step::Sweep { .. })) => "sweep",
        other => panic!("{other:?}"),
    };
    said.steps().iter().map(|s| kind(&s.step)).collect()
}

/// If this fails, a run of a job copies nobody, lets go what it keeps, takes away what somebody made by hand, or leaves a machine with nothing.
#[test]
fn a_run_copies_whoever_has_the_label_and_lets_go_what_is_not_kept() {
    let days = |n| Span::days(n);
    let mut small = small("last 2", &[days(4), days(3), days(2), days(1)]);
    let said = due(&small, false);
    assert!(
        !said.findings().iter().any(|f| f.stops()),
        "{:?}",
        said.findings()
    );
    assert_eq!(kinds(&said), ["mark", "copy", "release", "expire", "sweep"]);
    let Step::Backups(backups::Step::Store(stores::Step::Expire { points, .. })) =
        &said.steps()[3].step
    else {
        panic!("{:?}", said.steps());
    };
    let gone: BTreeSet<Moment> = points.iter().map(|p| p.taken).collect();
    assert_eq!(gone, [days(4), days(3)].map(|a| NOW.before(a)).into());
    small.alter(|e| {
        let mut s = Series::clone(&e.series[&SeriesId(761)]);
        s.points.iter_mut().for_each(|p| p.job = None);
        e.put(Fact::Series(Arc::new(s)));
        let mut st = Store::clone(&e.stores[&STORE]);
        st.swept = Some(NOW.before(HOUR));
        e.put(Fact::Store(Arc::new(st)));
    });
    assert_eq!(
        kinds(&due(&small, false)),
        ["mark", "copy", "release"],
        "by hand they stay; swept lately"
    );
    on(&mut small, 7, |m| drop(m.labels.remove("env")));
    let said = due(&small, false);
    assert_eq!(kinds(&said), Vec::<&str>::new());
    assert!(
        !said.findings().iter().any(|f| f.stops()),
        "it is not tried again every minute"
    );
}

pub(crate) fn after(small: &mut Small, said: Assessment) -> Job {
    small.begin(said.accept().unwrap());
    Job::clone(&small.view.estate.jobs[&JOB])
}

/// If this fails, a job is begun twice for one time, or what somebody begins by hand moves what is due.
#[test]
fn what_is_due_next_is_kept_by_hand_and_moved_on_when_it_was_due() {
    let mut small = small("last 2", &[]);
    let said = due(&small, true);
    let now = after(&mut small, said);
    assert_eq!((now.next, now.last), (Some(NOW), Some(NOW)));
    let said = due(&small, false);
    let now = after(&mut small, said);
    let next = now.next.unwrap();
    assert!(next > NOW && next.since(NOW) <= HOUR, "{}", next.stamp());
    assert!(!now.is_due(NOW));
}

pub(crate) fn keep(change: impl FnOnce(&mut Keep)) -> Proposal {
    let mut ask = Keep {
        job: None,
        name: "hourly".into(),
        who: "env=prod".into(),
        to: Some(Goal::Store(STORE)),
        rule: "FREQ=HOURLY;BYMINUTE=0".into(),
        zone: "UTC".into(),
        keeps: "7 days".into(),
        quiet: true,
        proves: None,
        begins: None,
        how: Default::default(),
    };
    change(&mut ask);
    Proposal::Jobs(jobs::Ask::Keep(ask))
}

/// If this fails, a job is kept that can't be carried out, or the words stand beside another field.
#[test]
fn what_is_wrong_with_a_job_is_said_at_its_field() {
    let small = small("last 2", &[HOUR]);
    let stops = |ask: Proposal| {
        let said = assessed(&small, &ask);
        let all = said.findings().iter().filter(|f| f.stops());
        all.filter_map(|f| f.field.clone()).collect::<Vec<_>>()
    };
    assert_eq!(stops(keep(|_| {})), Vec::<String>::new());
    assert_eq!(stops(keep(|k| k.name = "".into())), ["name"]);
    assert_eq!(stops(keep(|k| k.name = "nightly".into())), ["name"]);
    assert_eq!(stops(keep(|k| k.who = "env=".into())), ["who"]);
    assert_eq!(stops(keep(|k| k.to = None)), ["store"]);
    assert_eq!(stops(keep(|k| k.rule = "now and then".into())), ["rule"]);
    assert_eq!(
        stops(keep(|k| k.rule = "FREQ=MINUTELY;INTERVAL=5".into())),
        ["rule"]
    );
    assert_eq!(stops(keep(|k| k.keeps = "some".into())), ["keeps"]);
    // Nothing at the site of the store could boot a copy.
    assert_eq!(stops(keep(|k| k.proves = Some(Span::days(7)))), ["proves"]);
    let said = assessed(&small, &keep(|k| k.who = "env=none".into()));
    assert!(
        said.findings()
            .iter()
            .any(|f| f.rule == Rule::Label && !f.stops())
    );
}

/// If this fails, somebody changes what stays and is not told that points go.
#[test]
fn keeping_less_says_how_many_points_go() {
    let days = |n| Span::days(n);
    let small = small("30 days", &[days(4), days(3), days(2), days(1)]);
    let less = keep(|k| {
        k.job = Some(JOB);
        k.name = "nightly".into();
        k.keeps = "last 1".into();
    });
    let said = assessed(&small, &less);
    assert!(
        said.findings()
            .iter()
            .any(|f| f.text.contains("3 of its points are not kept")),
        "{:?}",
        said.findings()
    );
}

/// If this fails, a promise is said to be kept though nothing renews it in time, or at risk though something does.
#[test]
fn a_promise_rests_on_the_next_run_of_a_job() {
    let stands = |small: &Small, sort| {
        let estate = &small.view.estate;
        let promise = Promise::of(estate, &estate.machines[&MachineId(7)], NOW).unwrap();
        promise.of_sort(sort).unwrap().standing
    };
    let mut small = small("7 days", &[Span::mins(20)]);
    let change = |small: &mut Small, change: &dyn Fn(&mut Job)| {
        small.alter(|e| {
            let mut j = Job::clone(&e.jobs[&JOB]);
            change(&mut j);
            e.put(Fact::Job(Arc::new(j)));
        });
    };
    change(&mut small, &|j| j.next = Some(NOW.plus(Span::mins(10))));
    assert_eq!(stands(&small, Sort::Point), Standing::Kept);
    change(&mut small, &|j| j.next = Some(NOW.plus(Span::mins(50))));
    assert_eq!(
        stands(&small, Sort::Point),
        Standing::AtRisk,
        "after it is too old"
    );
    change(&mut small, &|j| {
        j.next = Some(NOW.plus(Span::mins(10)));
        j.paused = true;
    });
    assert_eq!(stands(&small, Sort::Point), Standing::AtRisk);
    let kept = |span| {
        let clauses = zastrugi_core::estate::Clauses {
            kept: Some(span),
            ..Default::default()
        };
        let all = size(&fixture(hourly(Taker::Any)));
        let mut small = with(clauses, SiteId(990), vec![made(Span::mins(20), all)]);
        small.alter(|e| e.put(Fact::Job(Arc::new(job("7 days")))));
        stands(&small, Sort::Kept)
    };
    assert_eq!(kept(Span::days(7)), Standing::Kept);
    assert_ne!(
        kept(Span::days(8)),
        Standing::Kept,
        "the job keeps them for less"
    );
}

/// If this fails, a store is forgotten that jobs copy into, and they fail from then on.
#[test]
fn a_store_is_not_forgotten_while_jobs_copy_into_it() {
    let small = small("last 2", &[]);
    let said = assessed(
        &small,
        &Proposal::Stores(stores::Ask::Forget {
            store: STORE,
            typed: "breakwater".into(),
        }),
    );
    assert!(
        said.findings()
            .iter()
            .any(|f| f.stops() && f.text.contains("nightly"))
    );
    let m = Machine::clone(&small.view.estate.machines[&MachineId(7)]);
    assert!(job("last 1").covers(&m));
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(24))]

    /// If this fails, a clock that was ahead for a moment keeps a job from running until its time comes again, years later; or one time of
    /// it has two runs.
    #[test]
    fn a_clock_that_jumps_leaves_no_hour_without_its_run(
        jumps in proptest::collection::vec((0u64..160, prop_oneof![Just(0i64), -9_000i64..9_000]), 1..4)
    ) {
        let mut small = small("last 2", &[]);
        let mut now = small.now;
        // Counted from when it was last put right: within the hour it runs, or, where it was put back by less than that, within two:
        // no time of it is run twice.
        let mut quiet;
        for (minutes, jump) in jumps {
            // Before it begins it has no times.
            now = Moment(now.0 + jump * 60_000).max(NOW.before(Span::days(8)));
            quiet = Span(0);
            for _ in 0..minutes {
                now = now.plus(Span::mins(1));
                quiet = Span(quiet.0 + 60_000);
                small.now = now;
                let job = Job::clone(&small.view.estate.jobs[&JOB]);
                if job.is_due(now) {
                    let said = assess(&small.view, &small.permits, &Proposal::Backups(backups::Ask::Job(JobRun { job: JOB, by_hand: false })), now);
                    let then = after(&mut small, said);
                    prop_assert_eq!(then.last, Some(now));
                    prop_assert!(!then.is_due(now), "it is due again at once");
                    prop_assert!(then.next.unwrap() > now && then.next.unwrap().since(now) <= HOUR);
                    quiet = Span(0);
                    // It is over.
                    small.view.runs = Default::default();
                }
                prop_assert!(quiet <= Span::mins(131), "no run for {}", quiet);
            }
        }
    }
}

/// If this fails, points that a clock took which was ahead push out those that are younger in truth, or are taken for fresh copies.
#[test]
fn points_of_a_clock_that_was_ahead_stay_and_stand_for_nothing() {
    let hours = |n: u64| Span::mins(60 * n);
    let mut small = small("last 2", &[hours(3), hours(2), hours(1)]);
    let ahead = NOW.plus(Span::days(3650));
    small.alter(|e| {
        let mut s = Series::clone(&e.series[&SeriesId(761)]);
        for n in 0..2u64 {
            let mut p = s.points[0].clone();
            (p.taken, p.session) = (ahead.plus(Span(n)), Uuid::from_u128(0xfeed + u128::from(n)));
            s.points.push(p);
        }
        e.put(Fact::Series(Arc::new(s)));
    });
    let estate = &small.view.estate;
    let gone = estate.expired(&estate.jobs[&JOB], NOW);
    let ages: Vec<Span> = gone.iter().map(|(_, p)| NOW.since(p.taken)).collect();
    assert_eq!(ages, [hours(3)], "the two youngest that are known stay");
    // When their time comes they are points like others.
    let gone = estate.expired(&estate.jobs[&JOB], ahead.plus(hours(1)));
    assert_eq!(gone.len(), 3);
    let promise = Promise::of(estate, &estate.machines[&MachineId(7)], NOW).unwrap();
    let known = promise
        .judged
        .iter()
        .flat_map(|j| &j.evidence)
        .filter_map(|e| e.at);
    assert!(
        known.into_iter().all(|at| at <= NOW),
        "a point of the future is evidence"
    );
}
