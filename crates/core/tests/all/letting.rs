//! Recovery points that are let go: by somebody, or because the time is over for which somebody wanted them.

use crate::{
    backups::{STORE, assessed, point, size, with},
    pledges::{HOUR, NOW, hourly, on},
};
use uuid::Uuid;
use zastrugi_core::{
    estate::{Came, Clauses, Consistent, PointAt, Proof, StoredPoint, Taker},
    ids::{MachineId, SiteId},
    moment::Span,
    pledges::{Promise, Sort, Standing},
    rooms::{
        Assessment, Proposal, Step, backups, carrying,
        snapshots::Quiet,
        stores::{self, Ask},
    },
    testkit::Small,
};

const AGES: [Span; 3] = [Span::days(3), Span::days(2), Span::days(1)];

/// Machine 7 with a point of each age, changed.
fn small(clauses: Clauses, change: impl Fn(usize, &mut StoredPoint)) -> Small {
    let all = size(&with(hourly(Taker::Any), SiteId(990), vec![]));
    let points = AGES.iter().enumerate().map(|(n, age)| {
        let mut p = point(*age, Consistent::Quiet, all);
        change(n, &mut p);
        p
    });
    with(clauses, SiteId(990), points.collect())
}

fn at(small: &Small, age: Span) -> PointAt {
    PointAt {
        store: STORE,
        machine: small.view.estate.machines[&MachineId(7)].uuid,
        session: Uuid::from_u128(u128::from(age.0)),
    }
}

fn go(small: &Small, ages: &[Span], typed: &str) -> Assessment {
    let points = ages.iter().map(|a| at(small, *a)).collect();
    let typed = typed.into();
    assessed(small, &Proposal::Stores(Ask::LetGo { points, typed }))
}

fn stops(said: &Assessment) -> Vec<&str> {
    let all = said.findings().iter().filter(|f| f.stops());
    all.map(|f| f.field.as_deref().unwrap_or_default())
        .collect()
}

/// If this fails, one click takes away what can't be made again, or what somebody confirmed stays.
#[test]
fn what_is_confirmed_goes_and_the_store_is_swept() {
    let small = small(hourly(Taker::Any), |_, _| {});
    let name = small.view.estate.machines[&MachineId(7)].name.clone();
    assert_eq!(stops(&go(&small, &AGES[..1], "")), ["typed"]);
    assert_eq!(
        stops(&go(&small, &AGES[..2], &name)),
        ["typed"],
        "several are confirmed by how many they are"
    );
    assert_eq!(
        stops(&go(&small, &[HOUR], &name)),
        ["point"],
        "there is none of then"
    );
    assert_eq!(stops(&go(&small, &[], "0")), ["point"]);
    let said = go(&small, &AGES[..1], &name);
    assert_eq!(stops(&said), Vec::<&str>::new());
    let kinds: Vec<_> = said.steps().iter().map(|s| &s.step).collect();
    match kinds.as_slice() {
        [
            Step::Stores(stores::Step::Expire { points, .. }),
            Step::Stores(stores::Step::Sweep { .. }),
        ] => {
            assert_eq!(points.len(), 1);
            assert_eq!(points[0].session, at(&small, AGES[0]).session);
        }
        other => panic!("{other:?}"),
    }
    assert_eq!(said.steps()[1].after, [0]);
}

/// If this fails, nobody is warned that it is the last, or the only one that is known to come up, and one that is needed goes.
#[test]
fn what_is_lost_with_it_is_said() {
    let proof = Proof {
        at: NOW,
        host: "h1".into(),
        copy: "proof-db".into(),
        took: HOUR,
        booted: HOUR,
        came: Came::Up,
        said: String::new(),
        replies: vec![],
        with: vec![],
        picture: None,
    };
    let mut small = small(hourly(Taker::Any), |n, p| {
        p.proof = (n == 1).then(|| Box::new(proof.clone()));
    });
    let minds =
        |said: &Assessment, words: &str| said.findings().iter().any(|f| f.text.contains(words));
    assert!(!minds(&go(&small, &AGES[..1], ""), "comes up"));
    assert!(minds(&go(&small, &AGES[1..2], ""), "comes up from it"));
    assert!(minds(&go(&small, &AGES, "3"), "nothing of"));
    let point = at(&small, AGES[0]);
    on(&mut small, 8, |m| m.proves = Some(Box::new(point.into())));
    assert_eq!(stops(&go(&small, &AGES[..1], "")), ["point", "typed"]);
}

/// If this fails, points that were wanted for a week stay for ever, or go early.
#[test]
fn what_was_wanted_for_a_while_goes_then() {
    let mut small = small(hourly(Taker::Any), |n, p| {
        p.ends = match n {
            0 => Some(NOW.before(HOUR)),
            1 => Some(NOW.plus(HOUR)),
            _ => None,
        };
    });
    let over = |small: &Small| small.view.estate.over(STORE, NOW).count();
    assert_eq!(over(&small), 1);
    let said = assessed(&small, &Proposal::Stores(Ask::Over { store: STORE }));
    assert_eq!(said.steps().len(), 2, "{:?}", said.findings());
    small.alter(|e| e.remove(zastrugi_core::estate::Kind::Series, 761));
    let said = assessed(&small, &Proposal::Stores(Ask::Over { store: STORE }));
    assert!(said.findings().iter().any(|f| f.stops()));
    let back_up = |keep| {
        Proposal::Backups(backups::Ask::Now(backups::BackUp {
            machines: vec![MachineId(7)],
            store: Some(STORE),
            quiet: Quiet::IfPossible,
            keep,
        }))
    };
    let ends = |keep| {
        let said = assessed(&small, &back_up(keep));
        said.steps().iter().find_map(|s| match &s.step {
            Step::Backups(backups::Step::Carry(carrying::Step::Copy { ends, .. })) => Some(*ends),
            _ => None,
        })
    };
    assert_eq!(ends(None), Some(None));
    assert_eq!(
        ends(Some(Span::days(7))),
        Some(Some(NOW.plus(Span::days(7))))
    );
    assert_eq!(
        stops(&assessed(&small, &back_up(Some(Span::mins(1))))),
        ["keep"]
    );
}

/// If this fails, somebody is promised a month by what is gone in a week.
#[test]
fn what_is_kept_for_a_while_keeps_no_longer_promise() {
    let monthly = || Clauses {
        kept: Some(Span::days(30)),
        ..Clauses::default()
    };
    let stands = |ends: Option<Span>| {
        let small = small(monthly(), |_, p| p.ends = ends.map(|e| p.taken.plus(e)));
        let estate = &small.view.estate;
        let promise = Promise::of(estate, &estate.machines[&MachineId(7)], NOW).unwrap();
        promise.of_sort(Sort::Kept).unwrap().standing
    };
    assert_eq!(stands(None), Standing::Kept);
    assert_eq!(stands(Some(Span::days(31))), Standing::Kept);
    // By the array nothing is known of it: that is no more than that.
    assert_ne!(stands(Some(Span::days(7))), Standing::Kept);
}
