//! Stores and backups: what stops making one, what a copy is said to take, and what copies in stores are worth for promises.

use crate::pledges::{HOUR, NOW, fixture, hourly};
use std::sync::Arc;
use uuid::Uuid;
use zastrugi_core::{
    endpoint::{Endpoint, Password},
    estate::{
        Away, Bucket, Clauses, Consistent, Estate, Fact, Lies, Machine, Series, Store, StoredPoint,
        Taker,
    },
    evidence::{Answer, Probe},
    ids::{MachineId, SecretRef, SeriesId, SiteId, StoreId},
    moment::{Moment, Span},
    pledges::{Promise, Promises, Sort, Standing},
    rooms::{
        Assessment, Event, Proposal, Step, assess,
        backups::{self, BackUp},
        carrying,
        snapshots::{self, Quiet},
        stores::{self, MakeStore},
    },
    testkit::{Folding, Small, read},
    units::Bytes,
};

pub(crate) const STORE: StoreId = StoreId(760);
const HILLTOP: SiteId = SiteId(990);

pub(crate) fn assessed(small: &Small, ask: &Proposal) -> Assessment {
    assess(&small.view, &small.permits, ask, NOW)
}

pub(crate) fn store(site: SiteId) -> Store {
    Store {
        id: STORE,
        name: "breakwater".into(),
        site,
        uuid: Uuid::from_u128(1),
        lies: Lies::Bucket(Bucket {
            address: "10.20.0.90:9443".into(),
            pin: "ab".repeat(32),
            region: "us-east-1".into(),
            name: "points".into(),
            folder: String::new(),
            access: "zastrugi".into(),
            secret: Some(SecretRef(Uuid::from_u128(2))),
        }),
        key: Some(SecretRef(Uuid::from_u128(3))),
        ready: true,
        lock: None,
        taken_out: None,
        swept: None,
    }
}

pub(crate) fn point(age: Span, consistent: Consistent, size: Bytes) -> StoredPoint {
    StoredPoint {
        session: Uuid::from_u128(u128::from(age.0)),
        taken: NOW.before(age),
        consistent,
        size,
        read: Bytes::gib(2),
        stored: Bytes::gib(1),
        took: Span::secs(20),
        job: None,
        locked: None,
        ends: None,
        whole: None,
        group: None,
        equal: None,
        proof: None,
    }
}

pub(crate) fn size(small: &Small) -> Bytes {
    small.view.estate.machines[&MachineId(7)]
        .disks
        .iter()
        .map(|d| d.size)
        .sum()
}

fn series(e: &Estate, points: Vec<StoredPoint>) -> Series {
    let m = &e.machines[&MachineId(7)];
    Series {
        id: SeriesId(761),
        store: STORE,
        machine: m.uuid,
        name: m.name.clone(),
        points,
    }
}

pub(crate) fn with(clauses: Clauses, site: SiteId, points: Vec<StoredPoint>) -> Small {
    let mut small = fixture(clauses);
    small.alter(|e| {
        e.put(Fact::Store(Arc::new(store(site))));
        e.put(Fact::Series(Arc::new(series(e, points))));
    });
    small
}

fn stands(small: &Small, sort: Sort) -> Standing {
    let estate = &small.view.estate;
    let promise = Promise::of(estate, &estate.machines[&MachineId(7)], NOW).unwrap();
    promise.of_sort(sort).unwrap().standing
}

fn holds(standing: Standing) -> bool {
    match standing {
        Standing::Kept | Standing::AtRisk => true,
        Standing::Unchecked | Standing::Broken => false,
    }
}

/// If this fails, a copy that is too old, too small or torn counts as kept, or a good one counts for nothing.
#[test]
fn a_copy_counts_by_its_own_instant_if_it_is_of_everything() {
    let any = || hourly(Taker::Any);
    let all = size(&fixture(any()));
    let of = |clauses: Clauses, point: StoredPoint| {
        stands(&with(clauses, HILLTOP, vec![point]), Sort::Point)
    };
    let aged = |age, how| point(age, how, all);
    let young = Span::mins(20);
    let found = of(any(), aged(young, Consistent::Crash));
    assert_eq!(found, Standing::AtRisk, "nothing makes the next");
    assert!(!holds(of(any(), aged(HOUR, Consistent::Crash))), "too old");
    let small = point(young, Consistent::Crash, all.less(Bytes(1)));
    assert!(!holds(of(any(), small)), "a disk is not in it");
    let other = of(hourly(Taker::Snapshot), aged(young, Consistent::Quiet));
    assert_eq!(other, Standing::Broken, "another taker is asked for");
    let quiet = || {
        let mut clauses = any();
        clauses.point.as_mut().unwrap().quiet = true;
        clauses
    };
    assert!(!holds(of(quiet(), aged(young, Consistent::Crash))));
    assert!(holds(of(quiet(), aged(young, Consistent::Quiet))));
}

/// If this fails, a copy at the machine's own site is believed to be elsewhere.
#[test]
fn elsewhere_is_not_where_the_machine_is() {
    let remote = |site| Clauses {
        remote: Some(Away { site, age: HOUR }),
        kept: Some(Span::days(2)),
        ..Clauses::default()
    };
    let all = size(&fixture(remote(None)));
    let young = || vec![point(Span::mins(5), Consistent::Crash, all)];
    for (site, lies, expected) in [
        (None, HILLTOP, Standing::AtRisk),
        (Some(HILLTOP), HILLTOP, Standing::AtRisk),
        (None, SiteId(900), Standing::Broken),
        (Some(SiteId(900)), HILLTOP, Standing::Broken),
    ] {
        let small = with(remote(site), lies, young());
        let found = stands(&small, Sort::Remote);
        assert_eq!(
            holds(found),
            holds(expected),
            "{site:?} {lies:?}: {found:?}"
        );
        assert_eq!(stands(&small, Sort::Kept), Standing::Kept);
    }
}

/// If this fails, the list says that a promise is broken though a copy was just made, until something else happens.
#[test]
fn keeping_up_notices_a_copy_and_a_store_that_goes() {
    let small = with(hourly(Taker::Any), HILLTOP, vec![]);
    let before = Promises::all(&small.view.estate, NOW);
    let kept = |p: &Promises| p.iter().filter(|b| holds(b.standing())).count();
    assert_eq!(kept(&before), 0);
    let mut estate = (*small.view.estate).clone();
    let copied = series(
        &estate,
        vec![point(Span::mins(1), Consistent::Crash, size(&small))],
    );
    estate.put(Fact::Series(Arc::new(copied)));
    let estate = Arc::new(estate);
    let then = before.then(&estate, NOW);
    assert_eq!(kept(&then), 1);
    let mut without = (*estate).clone();
    without.remove(zastrugi_core::estate::Kind::Store, STORE.0);
    let without = Arc::new(without);
    assert_eq!(kept(&then.then(&without, NOW)), 0);
}

fn back_up(store: Option<StoreId>) -> Proposal {
    Proposal::Backups(backups::Ask::Now(BackUp {
        machines: vec![MachineId(7), MachineId(8)],
        store,
        quiet: Quiet::IfPossible,
        keep: None,
    }))
}

/// If this fails, a mark is released before it is copied, or stays when it was.
#[test]
fn each_machine_is_marked_then_copied_then_released() {
    let small = with(hourly(Taker::Any), HILLTOP, vec![]);
    let said = assessed(&small, &back_up(Some(STORE)));
    let stops: Vec<_> = said.findings().iter().filter(|f| f.stops()).collect();
    assert!(stops.is_empty(), "{stops:?}");
    let steps = said.steps();
    let mut marks = vec![];
    for (n, planned) in steps.iter().enumerate() {
        match &planned.step {
            Step::Backups(backups::Step::Snap(snapshots::Step::Take {
                snapshot, ends, ..
            })) => {
                assert!(ends.is_some(), "one that is left behind goes by itself");
                marks.push((snapshot, n));
            }
            Step::Backups(backups::Step::Carry(carrying::Step::Copy { snapshot, .. })) => {
                let mark = marks.iter().find(|(m, _)| *m == snapshot).unwrap();
                assert!(planned.after.contains(&mark.1));
            }
            Step::Backups(backups::Step::Snap(snapshots::Step::Forget { snapshots, .. })) => {
                let before = &steps[planned.after[0]];
                let Step::Backups(backups::Step::Carry(carrying::Step::Copy { snapshot, .. })) =
                    &before.step
                else {
                    panic!("{:?}", before.step)
                };
                assert_eq!(snapshots.as_slice(), [*snapshot]);
            }
            other => panic!("{other:?}"),
        }
    }
    assert_eq!((marks.len(), steps.len()), (2, 6));
    let none = assessed(&small, &back_up(None));
    assert!(
        none.findings()
            .iter()
            .any(|f| f.stops() && f.text.contains("Choose the store"))
    );
}

/// If this fails, ten thousand marks hold room from the first minute on though four machines are copied at a time.
#[test]
fn a_mark_is_set_only_when_its_copy_can_begin() {
    let mut text = "cluster eider careless\nhost 1 512".to_owned();
    for n in 0..7 {
        text.push_str(&format!("\nmachine {} m{n} 8 on 1", 10 + n));
    }
    let mut small = read(&text);
    small.now = NOW;
    small.alter(|e| e.put(Fact::Store(Arc::new(store(HILLTOP)))));
    let said = assessed(
        &small,
        &Proposal::Backups(backups::Ask::Now(BackUp {
            machines: (10..17).map(MachineId).collect(),
            store: Some(STORE),
            quiet: Quiet::IfPossible,
            keep: None,
        })),
    );
    let steps = said.steps();
    assert_eq!(steps.len(), 21, "{:?}", said.findings());
    for (n, three) in steps.chunks(3).enumerate() {
        let expected: Vec<usize> = n
            .checked_sub(4)
            .map(|before| (before * 3..before * 3 + 3).collect())
            .unwrap_or_default();
        assert_eq!(three[0].turn, expected, "machine {n}");
        assert_eq!(
            three[0].after,
            Vec::<usize>::new(),
            "it needs nothing of theirs"
        );
        assert_eq!(
            (three[1].after.as_slice(), three[2].after.as_slice()),
            ([n * 3].as_slice(), [n * 3 + 1].as_slice())
        );
    }
}

/// If this fails, two runs that began at once leave two lists of one machine, or a copy into a store that is gone appears.
#[test]
fn what_is_brought_joins_what_is_there() {
    let mut small = with(
        hourly(Taker::Any),
        HILLTOP,
        vec![point(HOUR, Consistent::Crash, Bytes::gib(1))],
    );
    let m = Machine::clone(&small.view.estate.machines[&MachineId(7)]);
    let copied = |series: u64, age: Span| {
        Event::Carrying(carrying::Event::Copied {
            machine: m.id,
            uuid: m.uuid,
            name: m.name.clone(),
            store: STORE,
            series: SeriesId(series),
            point: Box::new(point(age, Consistent::Crash, Bytes::gib(1))),
            compared: false,
        })
    };
    small.alter(|e| {
        for (series, age) in [
            (900, Span::mins(1)),
            (901, Span::mins(2)),
            (901, Span::mins(2)),
        ] {
            e.absorb(&copied(series, age));
        }
    });
    let all: Vec<_> = small.view.estate.series.values().collect();
    let ages: Vec<Moment> = all[0].points.iter().map(|p| p.taken).collect();
    let expected = [HOUR, Span::mins(2), Span::mins(1)].map(|age| NOW.before(age));
    assert_eq!((all.len(), ages.as_slice()), (1, expected.as_slice()));
    small.alter(|e| {
        let gone = Event::Stores(stores::Event::Forgotten {
            store: STORE,
            series: vec![SeriesId(761)],
        });
        e.absorb(&gone);
        e.absorb(&copied(902, Span::mins(1)));
    });
    assert_eq!(
        (
            small.view.estate.series.len(),
            small.view.estate.stores.len()
        ),
        (0, 0)
    );
}

pub(crate) fn make(change: impl FnOnce(&mut MakeStore)) -> Proposal {
    let mut ask = MakeStore {
        lock: "".into(),
        name: "breakwater".into(),
        site: "Hilltop".into(),
        target: Endpoint {
            address: "10.20.0.90:9443".into(),
            pin: "ab".repeat(32).into(),
        },
        region: "us-east-1".into(),
        bucket: "points".into(),
        folder: "".into(),
        access: "zastrugi".into(),
        secret: Password::Typed,
        export: "".into(),
        key: Password::Missing,
    };
    change(&mut ask);
    Proposal::Stores(stores::Ask::Make(ask))
}

/// The server of the store that [`make`] asks for shows its certificate.
pub(crate) fn greeted(small: &mut Small) {
    let answer = Answer::Manager {
        name: "A server".into(),
        pin: "ab".repeat(32),
    };
    let mut book = (*small.view.evidence).clone();
    book.put(Probe::StoreGreeting("10.20.0.90:9443".into()), answer, NOW);
    small.view.evidence = Arc::new(book);
}

/// If this fails, a store is begun that can't be made, or the words stand beside another field.
#[test]
fn what_is_missing_or_odd_is_said_at_its_field() {
    let mut small = fixture(hourly(Taker::Any));
    greeted(&mut small);
    let stops = |ask: Proposal| {
        let said = assessed(&small, &ask);
        let stops = said.findings().iter().filter(|f| f.stops());
        stops.filter_map(|f| f.field.clone()).collect::<Vec<_>>()
    };
    assert_eq!(stops(make(|_| {})), Vec::<String>::new());
    assert_eq!(stops(make(|a| a.name = "".into())), ["name"]);
    assert_eq!(stops(make(|a| a.secret = Password::Missing)), ["password"]);
    assert_eq!(stops(make(|a| a.access = " ".into())), ["access"]);
    for odd in ["ab", "Points", "a_b_c", "x/../y"] {
        assert_eq!(stops(make(|a| a.bucket = odd.into())), ["bucket"], "{odd}");
    }
    for odd in ["../elsewhere", "a/./b", "a?b"] {
        assert_eq!(stops(make(|a| a.folder = odd.into())), ["folder"], "{odd}");
    }
    assert_eq!(
        stops(make(|a| a.target.pin = "cd".repeat(32).into())),
        ["address"]
    );
    assert_eq!(stops(make(|a| a.target.address = "".into())), ["address"]);
    small.alter(|e| e.put(Fact::Store(Arc::new(store(HILLTOP)))));
    let said = assessed(&small, &make(|a| a.name = "other".into()));
    assert!(
        said.findings()
            .iter()
            .any(|f| f.stops() && f.text.contains("breakwater is there already"))
    );
}

/// If this fails, somebody forgets a store whose key nobody has, and was not told.
#[test]
fn forgetting_a_store_says_what_can_still_be_opened() {
    for (taken_out, words) in [
        (None, "nobody can open it any more"),
        (Some(NOW), "opens with the key that was taken out"),
    ] {
        let mut small = with(
            hourly(Taker::Any),
            HILLTOP,
            vec![point(HOUR, Consistent::Crash, Bytes::gib(1))],
        );
        small.alter(|e| {
            e.put(Fact::Store(Arc::new(Store {
                taken_out,
                ..store(HILLTOP)
            })))
        });
        let forget = |typed: &str| {
            Proposal::Stores(stores::Ask::Forget {
                store: STORE,
                typed: typed.into(),
            })
        };
        let said = assessed(&small, &forget("breakwater"));
        assert!(!said.findings().iter().any(|f| f.stops()));
        assert!(
            said.findings().iter().any(|f| f.text.contains(words)),
            "{words}"
        );
        assert!(
            assessed(&small, &forget("x"))
                .findings()
                .iter()
                .any(|f| f.stops())
        );
    }
}
