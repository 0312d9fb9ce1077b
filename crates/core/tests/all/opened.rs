//! Stores that are there already, stores in mounted exports, and stores that are looked through anew.

use crate::{
    backups::{STORE, assessed, make, point, with},
    jobs::{JOB, job},
    pledges::{HOUR, NOW, fixture, hourly},
};
use proptest::prelude::*;
use std::{collections::BTreeSet, sync::Arc};
use uuid::Uuid;
use zastrugi_core::{
    endpoint::Password,
    estate::{Consistent, Fact, Lies, Store, StoredPoint, Taker},
    evidence::{Answer, Probe, SeenExport},
    ids::{SecretRef, SeriesId, SiteId},
    rooms::{
        Event, Proposal, Step,
        stores::{self, FoundPoint, MakeStore, Read},
    },
    testkit::Small,
    units::Bytes,
};

fn exports(small: &mut Small, all: Vec<SeenExport>) {
    let mut book = (*small.view.evidence).clone();
    book.put(Probe::Exports, Answer::Exports { all }, NOW);
    small.view.evidence = Arc::new(book);
}

fn seen(name: &str, mounted: bool) -> SeenExport {
    SeenExport {
        name: name.into(),
        mounted,
        size: Bytes::gib(900),
        free: Bytes::gib(300),
    }
}

fn in_export(change: impl FnOnce(&mut MakeStore)) -> Proposal {
    make(|a| {
        a.export = "hill-nfs".into();
        (a.access, a.bucket, a.secret) = ("".into(), "".into(), Password::Missing);
        change(a);
    })
}

fn fields(small: &Small, ask: &Proposal) -> Vec<String> {
    let said = assessed(small, ask);
    let stops = said.findings().iter().filter(|f| f.stops());
    stops.filter_map(|f| f.field.clone()).collect()
}

/// If this fails, a store lies on the manager's own disk unseen, in an export that nobody mounted, or twice in the same folder.
#[test]
fn a_store_in_an_export_needs_no_bucket_but_the_export() {
    let mut small = fixture(hourly(Taker::Any));
    assert!(
        !assessed(&small, &in_export(|_| {}))
            .findings()
            .iter()
            .any(|f| f.stops())
    );
    exports(&mut small, vec![seen("hill-nfs", true), seen("own", false)]);
    assert_eq!(fields(&small, &in_export(|_| {})), Vec::<String>::new());
    assert_eq!(
        fields(&small, &in_export(|a| a.export = "other".into())),
        ["export"]
    );
    assert_eq!(
        fields(&small, &in_export(|a| a.folder = "../etc".into())),
        ["folder"]
    );
    let own = assessed(&small, &in_export(|a| a.export = "own".into()));
    assert!(
        own.findings()
            .iter()
            .any(|f| f.text.contains("plain directory"))
    );
    let said = assessed(&small, &in_export(|_| {}));
    small.begin(said.accept().unwrap());
    let made = small.view.estate.stores.values().next().unwrap().clone();
    assert_eq!(made.lies.words(), "export hill-nfs");
    let again = assessed(&small, &in_export(|a| a.name = "other".into()));
    assert!(
        again
            .findings()
            .iter()
            .any(|f| f.stops() && f.text.contains("is there already"))
    );
    // Stored before there were exports.
    let mut before = serde_json::to_value(&Store {
        lies: made.lies.clone(),
        ..Store::clone(&made)
    })
    .unwrap();
    let bucket = serde_json::json!({"address": "10.0.0.9:1", "pin": "", "region": "r", "name": "n", "access": "a"});
    before.as_object_mut().unwrap().remove("lies");
    before
        .as_object_mut()
        .unwrap()
        .insert("bucket".into(), bucket);
    let read: Store = serde_json::from_value(before).unwrap();
    assert!(matches!(read.lies, Lies::Bucket(b) if b.name == "n"));
}

/// If this fails, opening a store that is there makes a new key, with which nobody opens it.
#[test]
fn one_that_is_there_is_opened_with_its_key_and_looked_through() {
    let mut small = fixture(hourly(Taker::Any));
    exports(&mut small, vec![seen("hill-nfs", true)]);
    let key = SecretRef(Uuid::from_u128(99));
    let said = assessed(&small, &in_export(|a| a.key = Password::Kept(key)));
    let kinds: Vec<_> = said.steps().iter().map(|s| &s.step).collect();
    assert!(
        matches!(
            kinds[..],
            [
                Step::Stores(stores::Step::Open { .. }),
                Step::Stores(stores::Step::Read { job: None, .. })
            ]
        ),
        "{kinds:?}"
    );
    small.begin(said.accept().unwrap());
    let store = small.view.estate.stores.values().next().unwrap().clone();
    assert_eq!(store.key, Some(key));
    let uuid = Uuid::from_u128(123);
    small.fold(&[Event::Stores(stores::Event::Opened {
        store: store.id,
        uuid,
        lock: None,
        at: NOW,
    })]);
    let store = &small.view.estate.stores[&store.id];
    assert!(store.ready && store.uuid == uuid && store.taken_out == Some(NOW));
}

fn found(n: u128, machine: Uuid) -> FoundPoint {
    FoundPoint {
        machine,
        name: format!("m{n}"),
        point: StoredPoint {
            session: Uuid::from_u128(n),
            ..point(HOUR, Consistent::Quiet, Bytes::gib(1))
        },
    }
}

proptest! {
    /// If this fails, a store that was looked through is known otherwise than it is.
    #[test]
    fn what_is_known_then_is_what_is_there(
        known in proptest::collection::btree_set((0u128..40, 0u128..4), 0..30),
        there in proptest::collection::btree_set((0u128..40, 0u128..4), 0..30),
    ) {
        // A session is of one machine.
        let of = |all: &BTreeSet<(u128, u128)>| all.iter().map(|(n, _)| (*n, Uuid::from_u128(n % 4))).collect::<BTreeSet<_>>();
        let (known, there) = (of(&known), of(&there));
        let mut small = with(hourly(Taker::Any), SiteId(990), vec![]);
        let read = |small: &Small| {
            let estate = &small.view.estate;
            let had: BTreeSet<(u128, Uuid)> = estate.series_in(STORE).flat_map(|s| s.points.iter().map(|p| (p.session.as_u128(), s.machine))).collect();
            had
        };
        let put = |small: &mut Small, now: &BTreeSet<(u128, Uuid)>| {
            let had = read(small);
            let series = |session: u128| {
                let estate = &small.view.estate;
                estate.series_in(STORE).find(|s| s.points.iter().any(|p| p.session.as_u128() == session)).map(|s| s.id)
            };
            let gone = had.difference(now).map(|(n, _)| (series(*n).unwrap(), Uuid::from_u128(*n))).collect();
            let event = Read {
                store: STORE,
                points: now.len(),
                damaged: 0,
                found: now.difference(&had).map(|(n, m)| found(*n, *m)).collect(),
                gone,
            };
            small.fold(&[Event::Stores(stores::Event::Read(Box::new(event)))]);
        };
        put(&mut small, &known);
        prop_assert_eq!(read(&small), known);
        put(&mut small, &there);
        prop_assert_eq!(read(&small), there);
        let estate = &small.view.estate;
        // The fixture's own has none.
        let all: Vec<_> = estate.series_in(STORE).filter(|s| s.id != SeriesId(761)).collect();
        prop_assert!(all.iter().all(|s| !s.points.is_empty()), "a series without points");
        let machines: BTreeSet<Uuid> = all.iter().map(|s| s.machine).collect();
        prop_assert_eq!(machines.len(), all.len(), "one series of each machine");
        let ids: BTreeSet<SeriesId> = estate.series.keys().copied().collect();
        prop_assert!(ids.iter().all(|id| id.0 < estate.next));
    }
}

/// If this fails, points that were found are of a job that never lets them go, or of one of another store.
#[test]
fn what_is_found_is_of_whom_somebody_says() {
    let mut small = with(hourly(Taker::Any), SiteId(990), vec![]);
    small.alter(|e| e.put(Fact::Job(Arc::new(job("last 2")))));
    let ask = |job| Proposal::Stores(stores::Ask::Read { store: STORE, job });
    let said = assessed(&small, &ask(Some(JOB)));
    assert!(
        said.findings()
            .iter()
            .any(|f| f.text.contains("last 2") && !f.stops())
    );
    assert!(matches!(
        said.steps()[0].step,
        Step::Stores(stores::Step::Read { job: Some(JOB), .. })
    ));
    small.alter(|e| {
        let mut other = job("last 2");
        other.to = zastrugi_core::estate::Goal::Store(zastrugi_core::ids::StoreId(9));
        e.put(Fact::Job(Arc::new(other)));
    });
    assert_eq!(fields(&small, &ask(Some(JOB))), ["job"]);
}
