//! Stores that lock what is written to them: what nobody can take away is never counted as going, and nobody is promised otherwise.

use crate::{
    backups::{STORE, assessed, greeted, make, size},
    jobs::{JOB, due, keep, kinds, made, small},
    pledges::{HOUR, NOW, fixture, hourly},
};
use std::sync::Arc;
use uuid::Uuid;
use zastrugi_core::{
    endpoint::Password,
    estate::{Fact, PointAt, Series, Store, StoredPoint, Taker},
    finding::Severity,
    ids::{MachineId, SeriesId},
    moment::Span,
    rooms::{
        Assessment, Proposal, Step,
        stores::{self, Ask},
    },
    testkit::Small,
    units::Bytes,
};

const AGES: [Span; 4] = [Span::days(4), Span::days(3), Span::days(2), Span::days(1)];

/// The points of machine 7, changed.
fn change(small: &mut Small, change: impl Fn(usize, &mut StoredPoint)) {
    small.alter(|e| {
        let mut s = Series::clone(&e.series[&SeriesId(761)]);
        let all = s.points.iter_mut().enumerate();
        all.for_each(|(n, p)| change(n, p));
        e.put(Fact::Series(Arc::new(s)));
    });
}

fn locks(small: &mut Small, span: Span) {
    small.alter(|e| {
        let mut s = Store::clone(&e.stores[&STORE]);
        s.lock = Some(span);
        e.put(Fact::Store(Arc::new(s)));
    });
}

fn stops(said: &Assessment) -> Vec<&str> {
    let all = said.findings().iter().filter(|f| f.stops());
    all.map(|f| f.field.as_deref().unwrap_or_default())
        .collect()
}

/// If this fails, a run is begun every time that can take nothing away, or points whose lock is over stay for good.
#[test]
fn what_is_locked_is_not_let_go_by_a_job_until_it_is_not() {
    let mut small = small("last 1", &AGES);
    // Of the three that are not kept: one is free, one was locked until a moment ago, one is still.
    change(&mut small, |n, p| {
        p.locked = match n {
            0 => None,
            1 => Some(NOW),
            _ => Some(NOW.plus(HOUR)),
        };
    });
    let expired = |at| {
        let estate = &small.view.estate;
        let gone = estate.expired(&estate.jobs[&JOB], at);
        gone.iter()
            .map(|(_, p)| NOW.since(p.taken))
            .collect::<Vec<_>>()
    };
    assert_eq!(expired(NOW), AGES[..2]);
    assert_eq!(expired(NOW.plus(HOUR)), AGES[..3]);
    change(&mut small, |_, p| p.locked = Some(NOW.plus(HOUR)));
    assert_eq!(
        kinds(&due(&small, false)),
        ["mark", "copy", "release", "sweep"]
    );
}

/// If this fails, somebody confirms with a typed name what can't be done, or the time is over of what can't go.
#[test]
fn what_is_locked_is_let_go_by_nobody() {
    let mut small = small("last 9", &AGES);
    change(&mut small, |n, p| {
        p.ends = Some(NOW);
        p.locked = (n > 1).then_some(NOW.plus(HOUR));
    });
    let machine = small.view.estate.machines[&MachineId(7)].clone();
    let at = |age: Span| PointAt {
        store: STORE,
        machine: machine.uuid,
        session: Uuid::from_u128(u128::from(age.0)),
    };
    let go = |ages: &[Span], typed: &str| {
        let points = ages.iter().map(|a| at(*a)).collect();
        let typed = typed.into();
        assessed(&small, &Proposal::Stores(Ask::LetGo { points, typed }))
    };
    assert_eq!(stops(&go(&AGES[..1], &machine.name)), Vec::<&str>::new());
    let refused = go(&AGES[3..], &machine.name);
    assert_eq!(stops(&refused), ["point"]);
    assert!(
        refused
            .findings()
            .iter()
            .any(|f| f.text.contains("is locked until"))
    );
    assert_eq!(stops(&go(&AGES[1..], "3")), ["point"]);
    let over = assessed(&small, &Proposal::Stores(Ask::Over { store: STORE }));
    let steps: Vec<&Step> = over.steps().iter().map(|s| &s.step).collect();
    let [Step::Stores(stores::Step::Expire { points, .. }), _] = steps.as_slice() else {
        panic!("{steps:?}");
    };
    let ages: Vec<Span> = points.iter().map(|p| NOW.since(p.taken)).collect();
    assert_eq!(ages, AGES[..2]);
}

/// If this fails, somebody makes a store for which less room is foretold than it can't give back.
#[test]
fn what_is_locked_is_foretold_as_staying() {
    let mib = |n: u64| Bytes(n << 20);
    let all = size(&fixture(hourly(Taker::Any)));
    let mut small = small("last 2", &[HOUR.plus(HOUR), HOUR]);
    // A MiB an hour, packed to nothing less.
    change(&mut small, |_, p| (p.read, p.stored) = (mib(1), mib(1)));
    let told = |small: &Small| {
        let said = assessed(small, &keep(|k| k.keeps = "last 2".into()));
        let text = said
            .findings()
            .iter()
            .find(|f| f.text.contains("after a month"));
        text.unwrap().text.clone()
    };
    let month = |bytes: Bytes| format!("lie {bytes} at most after a month");
    let plus = |n: u64| Bytes(all.0 + mib(n).0);
    assert!(told(&small).contains(&month(plus(2))), "{}", told(&small));
    // For ten days, and half as long again for what points to come rely on: 360 hourly copies.
    locks(&mut small, Span::days(10));
    assert!(told(&small).contains(&month(plus(360))), "{}", told(&small));
    let said = assessed(&small, &keep(|_| {}));
    assert!(
        said.findings().iter().any(
            |f| f.severity == Severity::Mind && f.text.contains("each point stays for 10 days")
        )
    );
    // 30 days of hourly points are kept anyhow, more than are locked: each is counted once.
    let kept = assessed(&small, &keep(|k| k.keeps = "last 600".into()));
    let text = kept
        .findings()
        .iter()
        .find(|f| f.text.contains("after a month"));
    assert!(text.unwrap().text.contains(&month(plus(600))), "{text:?}");
}

/// If this fails, a store is made that locks for another time than was typed, or for none.
#[test]
fn for_how_long_a_store_locks_is_said_at_its_field() {
    let mut small = fixture(hourly(Taker::Any));
    greeted(&mut small);
    for odd in ["0", "-1", "a week", "1.5", "3651", "99999999999999999999"] {
        let said = assessed(&small, &make(|a| a.lock = odd.into()));
        assert_eq!(stops(&said), ["lock"], "{odd}");
    }
    let said = assessed(
        &small,
        &make(|a| {
            a.lock = "30".into();
            a.key = Password::Typed;
        }),
    );
    assert_eq!(stops(&said), ["lock"], "one that is there says so itself");
    let said = assessed(&small, &make(|a| a.lock = " 30 ".into()));
    assert_eq!(stops(&said), Vec::<&str>::new());
    let minds = said
        .findings()
        .iter()
        .filter(|f| f.field.as_deref() == Some("lock"));
    assert_eq!(minds.filter(|f| f.severity == Severity::Mind).count(), 1);
    small.begin(said.accept().unwrap());
    let made = small.view.estate.stores.values().next().unwrap();
    assert_eq!(made.lock, Some(Span::days(30)));
}

/// Of what is in the tests' points nothing is locked, else they prove nothing.
#[test]
fn points_are_not_locked_by_themselves() {
    let point = made(HOUR, Bytes::gib(1));
    assert!(!point.is_locked(NOW));
}
