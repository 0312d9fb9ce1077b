//! Backups on real sockets: a machine goes into a bucket of a server that nobody here wrote, and what comes out is what was on it,
//! whatever broke meanwhile.

use crate::{
    lab::{Lab, eventually},
    packages::small,
};
use sqlx::PgPool;
use uuid::Uuid;
use zastrugi_core::{
    endpoint::{Endpoint, Password},
    estate::{Consistent, StoredPoint},
    evidence::Probe,
    rooms::{
        Proposal,
        backups::{self, BackUp},
        carrying::{self, CopySnapshot},
        machines::{self, PowerAct},
        snapshots::Quiet,
        stores::{self, MakeStore},
    },
    runs::{Run, RunState},
};
use zastrugi_drivers::backup::{Bucket, Deep, Place, Store};
use zastrugi_engine::{EventFilter, Resolve};
use zastrugi_formats::backup::Key;
use zastrugi_standins::{Fault, FaultKind};
use zastrugi_store::testkit::url;

pub(crate) async fn make_store(lab: &Lab, folder: &str) -> Proposal {
    let (address, _) = lab.standins.world.bucket_server("breakwater").unwrap();
    lab.desk.greet_store(&address).await;
    let view = lab.desk.look();
    let pin = view
        .evidence
        .manager_pin(&Probe::StoreGreeting(address.clone()))
        .to_owned();
    let site = view.estate.sites.values().next().unwrap().name.clone();
    let secret = lab.desk.keep_secret("first-light").await.unwrap();
    Proposal::Stores(stores::Ask::Make(MakeStore {
        lock: "".into(),
        name: "breakwater".into(),
        site: site.into(),
        target: Endpoint {
            address: address.into(),
            pin: pin.into(),
        },
        region: "us-east-1".into(),
        bucket: "points".into(),
        folder: folder.into(),
        access: "zastrugi".into(),
        secret: Password::Kept(secret),
        export: "".into(),
        key: Password::Missing,
    }))
}

fn store(lab: &Lab) -> Option<zastrugi_core::ids::StoreId> {
    lab.estate().stores.keys().next().copied()
}

pub(crate) fn back_up(lab: &Lab, machine: &str) -> Proposal {
    Proposal::Backups(backups::Ask::Now(BackUp {
        keep: None,
        machines: vec![lab.machine(machine)],
        store: store(lab),
        quiet: Quiet::IfPossible,
    }))
}

pub(crate) fn copy(lab: &Lab, machine: &str, snapshot: Uuid) -> Proposal {
    Proposal::Carrying(carrying::Ask::Copy(CopySnapshot {
        machine: lab.machine(machine),
        snapshot: Some(snapshot),
        store: store(lab),
    }))
}

pub(crate) fn forget_store(lab: &Lab) -> Proposal {
    Proposal::Stores(stores::Ask::Forget {
        store: store(lab).unwrap(),
        typed: "breakwater".into(),
    })
}

fn power(lab: &Lab, act: PowerAct) -> Proposal {
    Proposal::Machines(machines::Ask::Power {
        machines: vec![lab.machine("m")],
        act,
    })
}

/// Machine `m` with so much written on its small disk, off, and a store.
async fn lab(pool: &PgPool) -> Lab {
    let lab = Lab::at_speed(&url(pool), 2, 40.0).await;
    lab.ready().await;
    lab.done(small(&lab, "m", 1)).await;
    written(&lab, 12 << 20).await;
    lab.done(make_store(&lab, "hill").await).await;
    lab
}

/// It runs until so much more is written, and is off again.
async fn written(lab: &Lab, bytes: u64) {
    lab.done(power(lab, PowerAct::On { host: None })).await;
    let before = lab.standins.world.content("m", None);
    lab.standins.world.write("m", bytes);
    eventually("it is written", || {
        lab.standins.world.content("m", None) != before
    })
    .await;
    lab.done(power(lab, PowerAct::Off)).await;
}

pub(crate) fn points(lab: &Lab) -> Vec<StoredPoint> {
    let estate = lab.estate();
    estate
        .series
        .values()
        .flat_map(|s| s.points.clone())
        .collect()
}

/// The store as somebody opens it who has only the bucket and the key that was taken out.
pub(crate) async fn opened(lab: &Lab) -> Store {
    let kept = lab.estate().stores.values().next().unwrap().clone();
    let key = lab.desk.take_out_key(&lab.admin, kept.id).await.unwrap();
    let lies = kept.lies.bucket().unwrap();
    let place = Place::Bucket(Bucket {
        endpoint: format!("https://{}", lies.address),
        region: lies.region.clone(),
        name: lies.name.clone(),
        prefix: lies.folder.clone(),
        access: lies.access.clone(),
        secret: "first-light".into(),
        pin: lies.pin.clone(),
    });
    Store::open(&place, &Key::read(&key).unwrap())
        .await
        .unwrap()
}

/// The disk of the newest point, and that the store is whole.
async fn newest(lab: &Lab) -> Vec<u8> {
    let store = opened(lab).await;
    let last = store.points(None).await.unwrap().pop().unwrap();
    let manifest = store.manifest(&last.named).await.unwrap();
    let out = tempfile::tempdir().unwrap();
    store.restore(&manifest, out.path()).await.unwrap();
    let checked = store.check(Deep::Bytes).await.unwrap();
    assert_eq!(checked.problems, []);
    std::fs::read(out.path().join("disk-1.raw")).unwrap()
}

fn as_it_is(lab: &Lab) -> Vec<u8> {
    lab.standins.world.read_disk("m", 0).unwrap()
}

async fn told(lab: &Lab, words: &str) -> bool {
    let events = lab.desk.events(&EventFilter::default(), 400).await.unwrap();
    events.iter().any(|e| e.text.contains(words))
}

/// If this fails, a backup is of something else than the machine, or reads everything every time.
#[sqlx::test(migrations = false)]
async fn what_comes_out_of_the_bucket_is_what_was_on_the_disk(pool: PgPool) {
    let lab = lab(&pool).await;
    lab.done(back_up(&lab, "m")).await;
    assert!(newest(&lab).await == as_it_is(&lab), "the first copy");
    let first = points(&lab);
    assert_eq!((first.len(), first[0].consistent), (1, Consistent::Off));

    written(&lab, 64 << 10).await;
    lab.done(back_up(&lab, "m")).await;
    assert!(newest(&lab).await == as_it_is(&lab), "the second");
    let both = points(&lab);
    assert_eq!(both.len(), 2);
    assert!(both[1].read < both[0].read, "{both:?}");
    let estate = lab.estate();
    assert!(
        estate.machine_named("m").unwrap().snapshots.is_empty(),
        "no mark is left"
    );
    assert!(told(&lab, "m was copied to breakwater").await);
    assert!(told(&lab, "The key of store breakwater was taken out").await);
}

/// If this fails, a host that forgot what changed leaves changes out, or nobody is told that everything was read.
#[sqlx::test(migrations = false)]
async fn where_nobody_knows_what_changed_everything_is_compared_and_that_is_said(pool: PgPool) {
    let lab = lab(&pool).await;
    lab.done(back_up(&lab, "m")).await;
    written(&lab, 64 << 10).await;
    lab.standins.world.lose_marks("m");
    lab.done(back_up(&lab, "m")).await;
    assert!(newest(&lab).await == as_it_is(&lab));
    let both = points(&lab);
    assert!(
        both[1].stored < both[0].stored,
        "what is there is not stored again: {both:?}"
    );
    assert!(told(&lab, "everything compared").await);
}

pub(crate) async fn needs_you(lab: &Lab, ask: Proposal) -> (Run, String) {
    let run = lab.start(ask).await;
    let run = lab.until(run, &[RunState::NeedsYou]).await;
    let said = run
        .steps()
        .find_map(|s| s.fault.as_ref())
        .map(|f| f.said.clone());
    (run, said.unwrap_or_default())
}

pub(crate) async fn give_up(lab: &Lab, run: &Run) {
    lab.desk
        .answer(&lab.admin, run.id, Resolve::Cancel)
        .await
        .unwrap();
    lab.until(run.id, &[RunState::Cancelled]).await;
}

/// If this fails, a full bucket makes a point that is not whole, or the run can't go on once there is room.
#[sqlx::test(migrations = false)]
async fn a_full_bucket_is_told_of_and_the_run_goes_on_once_there_is_room(pool: PgPool) {
    let lab = lab(&pool).await;
    lab.standins.world.fill_buckets("breakwater", true);
    let (run, said) = needs_you(&lab, back_up(&lab, "m")).await;
    assert!(said.contains("breakwater: the store is full"), "{said}");
    assert_eq!(points(&lab), []);
    lab.standins.world.fill_buckets("breakwater", false);
    lab.desk
        .answer(&lab.admin, run.id, Resolve::Retry)
        .await
        .unwrap();
    lab.until(run.id, &[RunState::Done]).await;
    assert!(newest(&lab).await == as_it_is(&lab));
}

/// If this fails, a backup that somebody gave up counts as one, or holds anything.
#[sqlx::test(migrations = false)]
async fn one_that_is_given_up_leaves_no_point_and_the_next_one_works(pool: PgPool) {
    let lab = lab(&pool).await;
    lab.done(back_up(&lab, "m")).await;
    written(&lab, 64 << 10).await;
    // The host says nothing to the mover.
    lab.standins.world.add_fault(Fault {
        device: "h1".into(),
        call: "/bytes".into(),
        kind: FaultKind::Refuse,
        times: 9,
    });
    lab.standins.world.add_fault(Fault {
        device: "h2".into(),
        call: "/bytes".into(),
        kind: FaultKind::Refuse,
        times: 9,
    });
    let (run, _) = needs_you(&lab, back_up(&lab, "m")).await;
    give_up(&lab, &run).await;
    assert_eq!(points(&lab).len(), 1);
    lab.standins.world.clear_faults();
    lab.done(back_up(&lab, "m")).await;
    assert!(newest(&lab).await == as_it_is(&lab));
    assert_eq!(points(&lab).len(), 2);
}

/// If this fails, a store is made over another's, or its name is taken for good by one that was never made.
#[sqlx::test(migrations = false)]
async fn a_place_that_is_taken_is_refused_and_nothing_is_left_of_the_attempt(pool: PgPool) {
    let lab = lab(&pool).await;
    lab.done(back_up(&lab, "m")).await;
    lab.done(forget_store(&lab)).await;
    assert_eq!(
        (lab.estate().stores.len(), lab.estate().series.len()),
        (0, 0)
    );
    let (run, said) = needs_you(&lab, make_store(&lab, "hill").await).await;
    assert!(
        said.contains("there is a store of Zastrugi's already"),
        "{said}"
    );
    give_up(&lab, &run).await;
    assert!(lab.estate().stores.is_empty());
    lab.done(make_store(&lab, "quay").await).await;
    lab.done(back_up(&lab, "m")).await;
    assert!(newest(&lab).await == as_it_is(&lab));
}
