//! Recovery points brought back on real sockets: a machine beside its original, the machine itself, disks for another; cut off on the
//! way, refused, and in a manager that dies.

use crate::{
    backups::{back_up, make_store},
    lab::{Lab, eventually},
    packages::small,
};
use sqlx::PgPool;
use zastrugi_core::{
    copying::{Source, kept},
    estate::{PointAt, Provisioning},
    rooms::{
        Proposal,
        machines::{self, Copied, CreateMachines, NewDisk, NewNic, PowerAct},
        restoring::{self, BringDisks, PutBack},
        snapshots,
    },
    runs::RunState,
};
use zastrugi_engine::{EventFilter, Resolve};
use zastrugi_standins::{Fault, FaultKind};
use zastrugi_store::testkit::url;

/// The newest point of a machine.
pub(crate) fn newest(lab: &Lab, machine: &str) -> PointAt {
    let estate = lab.estate();
    let of = estate.machine_named(machine).unwrap();
    let all = estate.backups_of(of);
    let series = all.max_by_key(|s| s.newest().map(|p| p.taken)).unwrap();
    PointAt {
        store: series.store,
        machine: series.machine,
        session: series.newest().unwrap().session,
    }
}

pub(crate) async fn put_back(lab: &Lab, machine: &str, at: PointAt, keep: bool) -> Proposal {
    lab.desk.ask_for_point(at).await;
    Proposal::Restoring(restoring::Ask::Back(PutBack {
        machine: lab.machine(machine),
        point: Some(at),
        keep,
        typed: machine.into(),
    }))
}

pub(crate) async fn disks_to(lab: &Lab, machine: &str, at: PointAt) -> Proposal {
    lab.desk.ask_for_point(at).await;
    let view = lab.desk.look();
    let disks = kept(&view, at, lab.desk.now()).unwrap().disks.clone();
    Proposal::Restoring(restoring::Ask::Disks(BringDisks {
        machine: Some(lab.machine(machine)),
        point: Some(at),
        disks: disks.iter().map(|d| d.key).collect(),
    }))
}

/// A machine of a point, with a card without a network.
pub(crate) async fn beside(lab: &Lab, name: &str, at: PointAt) -> Proposal {
    lab.desk.ask_for_point(at).await;
    let view = lab.desk.look();
    let kept = kept(&view, at, lab.desk.now()).unwrap().clone();
    let Proposal::Machines(machines::Ask::Create(like)) = small(lab, name, 1) else {
        panic!("not a machine");
    };
    Proposal::Machines(machines::Ask::Create(Box::new(CreateMachines {
        disks: kept
            .disks
            .iter()
            .map(|d| NewDisk {
                size: d.size,
                provisioning: Provisioning::Thin,
            })
            .collect(),
        nics: vec![NewNic {
            network: None,
            address: None,
        }],
        copied: Some(Copied {
            source: Source::Point(at),
            dependent: false,
            seal: false,
        }),
        start: false,
        ..*like
    })))
}

/// `m` with a point of what it held then, and more written since; off.
async fn lab(pool: &PgPool) -> (Lab, Vec<u8>) {
    let lab = Lab::at_speed(&url(pool), 2, 40.0).await;
    lab.ready().await;
    lab.done(small(&lab, "m", 1)).await;
    written(&lab, 9 << 20).await;
    lab.done(make_store(&lab, "hill").await).await;
    lab.done(back_up(&lab, "m")).await;
    let then = bytes(&lab, "m", 0);
    written(&lab, 3 << 20).await;
    assert!(bytes(&lab, "m", 0) != then, "nothing was written since");
    (lab, then)
}

async fn written(lab: &Lab, bytes: u64) {
    power(lab, PowerAct::On { host: None }).await;
    let before = lab.standins.world.content("m", None);
    lab.standins.world.write("m", bytes);
    eventually("it is written", || {
        lab.standins.world.content("m", None) != before
    })
    .await;
    power(lab, PowerAct::Off).await;
}

async fn power(lab: &Lab, act: PowerAct) {
    let machines = vec![lab.machine("m")];
    lab.done(Proposal::Machines(machines::Ask::Power { machines, act }))
        .await;
}

fn bytes(lab: &Lab, machine: &str, disk: usize) -> Vec<u8> {
    lab.standins.world.read_disk(machine, disk).unwrap()
}

async fn told(lab: &Lab, words: &str) -> bool {
    let events = lab.desk.events(&EventFilter::default(), 400).await.unwrap();
    events.iter().any(|e| e.text.contains(words))
}

fn refuses(lab: &Lab, call: &str, times: u32) {
    for host in ["h1", "h2"] {
        lab.standins.world.add_fault(Fault {
            device: host.into(),
            call: call.into(),
            kind: FaultKind::Refuse,
            times,
        });
    }
}

/// If this fails, a machine that is made of a point is not what was copied, or its original is touched.
#[sqlx::test(migrations = false)]
async fn a_machine_of_a_point_has_what_was_copied_and_the_original_stays(pool: PgPool) {
    let (lab, then) = lab(&pool).await;
    let now = bytes(&lab, "m", 0);
    lab.done(beside(&lab, "m-then", newest(&lab, "m")).await)
        .await;
    assert!(bytes(&lab, "m-then", 0) == then);
    assert!(bytes(&lab, "m", 0) == now, "the original is as it was");
    assert_eq!(lab.standins.world.deliveries(), 0, "nothing is left over");
    let estate = lab.estate();
    let made = estate.machine_named("m-then").unwrap();
    assert_ne!(made.uuid, estate.machine_named("m").unwrap().uuid);
    assert!(made.made_from.starts_with("m as of "), "{}", made.made_from);
}

/// If this fails, a machine that is put back holds something else than it held, or what it held before is lost.
#[sqlx::test(migrations = false)]
async fn one_that_is_put_back_while_it_is_on_comes_up_with_what_it_held_and_can_go_forward(
    pool: PgPool,
) {
    let (lab, then) = lab(&pool).await;
    power(&lab, PowerAct::On { host: None }).await;
    lab.done(put_back(&lab, "m", newest(&lab, "m"), true).await)
        .await;
    let estate = lab.estate();
    let m = estate.machine_named("m").unwrap();
    assert!(!m.is_off(), "it is on again");
    let [kept] = m.snapshots.all.as_slice() else {
        panic!("what it held is kept once: {:?}", m.snapshots);
    };
    assert_eq!(kept.name, "before it was put back");
    assert!(told(&lab, "A disk of m was put back to what breakwater had").await);
    power(&lab, PowerAct::Off).await;
    let back = bytes(&lab, "m", 0);
    lab.done(Proposal::Snapshots(snapshots::Ask::Back(snapshots::Back {
        machine: m.id,
        to: Some(kept.uuid),
        keep: false,
    })))
    .await;
    let forward = bytes(&lab, "m", 0);
    // Its guest writes whenever it is on; what it wrote before it was put back is more.
    assert!(
        apart(&back, &then) < apart(&forward, &then),
        "what it held then, and what it held before it was put back"
    );
}

/// Bytes in blocks that are otherwise.
fn apart(one: &[u8], other: &[u8]) -> usize {
    let blocks = one.chunks(65_536).zip(other.chunks(65_536));
    blocks.filter(|(a, b)| a != b).map(|(a, _)| a.len()).sum()
}

/// If this fails, a machine that is off is not exactly what it was, or a second copy misses what came back.
#[sqlx::test(migrations = false)]
async fn one_that_is_off_is_exactly_what_it_was_and_the_next_copy_knows(pool: PgPool) {
    let (lab, then) = lab(&pool).await;
    let first = newest(&lab, "m");
    lab.done(back_up(&lab, "m")).await;
    lab.done(put_back(&lab, "m", first, false).await).await;
    assert!(bytes(&lab, "m", 0) == then);
    assert!(
        lab.estate()
            .machine_named("m")
            .unwrap()
            .snapshots
            .is_empty()
    );
    // What was put over counts as changed: a copy of it brings the same back.
    lab.done(back_up(&lab, "m")).await;
    written(&lab, 1 << 20).await;
    lab.done(put_back(&lab, "m", newest(&lab, "m"), false).await)
        .await;
    assert!(bytes(&lab, "m", 0) == then);
}

/// If this fails, somebody who needs one file of a lost disk gets another disk, or loses one of their own.
#[sqlx::test(migrations = false)]
async fn another_machine_gets_the_disk_beside_its_own(pool: PgPool) {
    let (lab, then) = lab(&pool).await;
    lab.done(small(&lab, "other", 1)).await;
    lab.done(disks_to(&lab, "other", newest(&lab, "m")).await)
        .await;
    let own = bytes(&lab, "other", 0);
    lab.done(disks_to(&lab, "other", newest(&lab, "m")).await)
        .await;
    let estate = lab.estate();
    assert_eq!(estate.machine_named("other").unwrap().disks.len(), 3);
    for disk in [1, 2] {
        assert!(bytes(&lab, "other", disk) == then);
    }
    assert!(bytes(&lab, "other", 0) == own, "its own is as it was");
}

/// If this fails, a restore that broke off leaves a machine half one and half the other, or begins from nothing each time.
#[sqlx::test(migrations = false)]
async fn whatever_breaks_it_off_the_machine_is_whole_and_it_goes_on(pool: PgPool) {
    let (lab, then) = lab(&pool).await;
    let (at, now) = (newest(&lab, "m"), bytes(&lab, "m", 0));
    refuses(&lab, "/bytes", 9);
    let run = lab.start(put_back(&lab, "m", at, false).await).await;
    let run = lab.until(run, &[RunState::NeedsYou]).await;
    assert!(bytes(&lab, "m", 0) == now, "nothing of it is changed");
    lab.standins.world.clear_faults();
    lab.desk
        .answer(&lab.admin, run.id, Resolve::Retry)
        .await
        .unwrap();
    lab.until(run.id, &[RunState::Done]).await;
    assert!(bytes(&lab, "m", 0) == then);
    assert_eq!(lab.standins.world.deliveries(), 0);

    // Given up, it is as it was before, and nothing lies around.
    lab.standins.world.silence_buckets("breakwater", false);
    written(&lab, 1 << 20).await;
    let now = bytes(&lab, "m", 0);
    let proposal = put_back(&lab, "m", at, false).await;
    refuses(&lab, "/bytes", 9);
    let run = lab.start(proposal).await;
    let run = lab.until(run, &[RunState::NeedsYou]).await;
    lab.standins.world.clear_faults();
    lab.desk
        .answer(&lab.admin, run.id, Resolve::Cancel)
        .await
        .unwrap();
    lab.until(run.id, &[RunState::Cancelled]).await;
    assert!(bytes(&lab, "m", 0) == now);
    assert_eq!(lab.standins.world.deliveries(), 0);
}

/// If this fails, somebody is told what a point has that its store does not have any more.
#[sqlx::test(migrations = false)]
async fn a_silent_store_says_nothing_and_nothing_is_made_up(pool: PgPool) {
    let (lab, _) = lab(&pool).await;
    let at = newest(&lab, "m");
    lab.standins.world.silence_buckets("breakwater", true);
    lab.desk.ask_for_point(at).await;
    let view = lab.desk.look();
    let why = kept(&view, at, lab.desk.now()).unwrap_err();
    assert!(
        why.text
            .starts_with("breakwater does not say what the point has"),
        "{}",
        why.text
    );
}
