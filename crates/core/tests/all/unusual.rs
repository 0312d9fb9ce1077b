//! Copies that are unlike those before them.

use crate::{
    backups::{STORE, point},
    pledges::NOW,
};
use proptest::prelude::*;
use uuid::Uuid;
use zastrugi_core::{
    estate::{Consistent, Series, StoredPoint, Unusual},
    ids::SeriesId,
    moment::Span,
    units::Bytes,
};

/// A copy each day at the same hour, oldest first: MiB that were read, and of a hundred bytes how many were new when packed.
fn daily(days: &[(u64, u64)]) -> Series {
    let n = u64::try_from(days.len()).unwrap();
    let points = (0..)
        .zip(days)
        .map(|(i, (mib, dense)): (u64, _)| StoredPoint {
            read: Bytes::mib(*mib),
            stored: Bytes(Bytes::mib(*mib).0 / 100 * dense),
            ..point(Span::days(n - 1 - i), Consistent::Quiet, Bytes::gib(40))
        });
    Series {
        id: SeriesId(1),
        store: STORE,
        machine: Uuid::from_u128(7),
        name: "db".into(),
        points: points.collect(),
    }
}

/// The first one read everything; then so much each day.
fn usual(mib: &[u64]) -> Vec<(u64, u64)> {
    std::iter::once(40_960)
        .chain(mib.iter().copied())
        .map(|m| (m, 40))
        .collect()
}

/// If this fails, nobody is told when somebody encrypts a whole file server, or everybody is told every night.
#[test]
fn much_more_than_usual_is_told_and_a_little_more_is_not() {
    let days = [1500, 1600, 1400, 1550, 1450, 1500];
    let with = |last: u64| daily(&usual(&[days.as_slice(), &[last]].concat())).unusual("UTC");
    assert_eq!(with(1700), None);
    assert!(matches!(with(9000), Some(Unusual::More { usual, .. }) if usual == Bytes::mib(1500)));
    // Not of little, however unusual, nor of what was alike to the byte.
    assert_eq!(
        daily(&usual(&[10, 10, 10, 10, 10, 900])).unusual("UTC"),
        None
    );
    assert_eq!(
        daily(&usual(&[2000, 2000, 2000, 2000, 2000, 2100])).unusual("UTC"),
        None
    );
    // The first copy is of everything: it says nothing of what is usual, and is not unusual itself.
    assert_eq!(daily(&usual(&[])).unusual("UTC"), None);
    assert_eq!(
        daily(&usual(&[1500, 1500, 1500, 9000])).unusual("UTC"),
        None,
        "too few are known"
    );
}

/// If this fails, what is encrypted in place goes unnoticed because no more was written than on other days.
#[test]
fn what_packs_half_as_well_is_told() {
    let mut days: Vec<(u64, u64)> = usual(&[800, 820, 790, 810, 800]);
    days.push((800, 95));
    assert!(matches!(
        daily(&days).unusual("UTC"),
        Some(Unusual::Denser {
            of_hundred: 90..,
            usual: ..=40
        })
    ));
    days.last_mut().unwrap().1 = 60;
    assert_eq!(daily(&days).unusual("UTC"), None);
    days.last_mut().unwrap().0 = 20;
    days.last_mut().unwrap().1 = 99;
    assert_eq!(
        daily(&days).unusual("UTC"),
        None,
        "of so little nobody can say"
    );
}

/// If this fails, a copy at noon is measured against those of the night.
#[test]
fn only_the_same_hour_counts_by_the_clock_of_the_zone() {
    let mut series = daily(&usual(&[100, 100, 100, 100, 100, 100]));
    let noon = StoredPoint {
        read: Bytes::gib(9),
        taken: NOW.plus(Span::mins(600)),
        session: Uuid::from_u128(12345),
        ..series.points.last().unwrap().clone()
    };
    series.points.push(noon);
    assert_eq!(series.unusual("UTC"), None);
    series.points.last_mut().unwrap().taken = NOW.plus(Span::days(1));
    assert!(series.unusual("UTC").is_some());
    assert!(series.unusual("Europe/Oslo").is_some());
}

proptest! {
    /// If this fails, the alarm sounds where by its own formula, worked out the long way, it must not, or is silent where it must.
    #[test]
    fn as_the_formula_has_it(days in prop::collection::vec(1u64..6000, 4..27), last in 1025u64..20_000) {
        let series = daily(&usual(&[days.as_slice(), &[last]].concat()));
        let middle = |mut all: Vec<u64>| {
            all.sort_unstable();
            all[(all.len() - 1) / 2]
        };
        let bytes: Vec<u64> = days.iter().map(|m| m << 20).collect();
        let median = middle(bytes.clone());
        let apart = middle(bytes.iter().map(|b| b.abs_diff(median)).collect());
        let most = median + (6 * apart).max(median / 10);
        let told = matches!(series.unusual("UTC"), Some(Unusual::More { .. }));
        prop_assert_eq!(told, (last << 20) > most);
    }
}
