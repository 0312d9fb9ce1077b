//! Disks and cards on real sockets: added to a guest that runs, detached with what is on them, attached elsewhere, gone for good.

use crate::lab::{Lab, eventually};
use crate::snapshots::{back, forget, named, take};
use sqlx::PgPool;
use uuid::Uuid;
use zastrugi_core::{
    estate::{Machine, Provisioning, Unattached},
    ids::{MachineId, VolumeId},
    rooms::{
        Proposal,
        hardware::{Ask, CardWish, Change, DiskWish, Spare, SpareAct},
        snapshots::Which,
    },
    runs::RunState,
    units::Bytes,
};
use zastrugi_store::testkit::url;

/// Two hosts, machine `m` that runs and `n` that is off.
async fn lab(pool: &PgPool) -> Lab {
    let lab = Lab::at_speed(&url(pool), 2, 20.0).await;
    lab.ready().await;
    lab.done(lab.create("m", 1, true)).await;
    lab.done(lab.create("n", 1, false)).await;
    lab
}

pub(crate) fn change(machine: MachineId, disks: Vec<DiskWish>, cards: Vec<CardWish>) -> Proposal {
    Proposal::Hardware(Ask::Change(Change {
        machine,
        disks,
        cards,
    }))
}

pub(crate) fn add(gib: u64) -> DiskWish {
    DiskWish::Add {
        size: Bytes::gib(gib),
        provisioning: Provisioning::Thin,
    }
}

pub(crate) fn spare(lab: &Lab, disk: Uuid, act: SpareAct) -> Proposal {
    Proposal::Hardware(Ask::Spare(Spare {
        volume: holder(lab, disk),
        disks: vec![disk],
        act,
    }))
}

/// The volume that an unattached disk lies on.
fn holder(lab: &Lab, disk: Uuid) -> VolumeId {
    let estate = lab.estate();
    let mut all = estate.volumes.values();
    let found = all.find(|v| v.unattached.disks.contains_key(&disk));
    found.map_or(volume(lab), |v| v.id)
}

fn volume(lab: &Lab) -> VolumeId {
    let all = lab.estate();
    let found = all.volumes.values().find(|v| v.name == "slab");
    found.unwrap().id
}

pub(crate) fn machine(lab: &Lab, name: &str) -> Machine {
    Machine::clone(lab.estate().machine_named(name).unwrap())
}

fn unattached(lab: &Lab) -> Unattached {
    Unattached::clone(&lab.estate().volumes[&volume(lab)].unattached)
}

/// If this fails, a disk that is moved from one machine to another arrives there empty, or with somebody else's bytes.
#[sqlx::test(migrations = false)]
async fn a_disk_goes_from_one_machine_to_another_with_what_is_on_it(pool: PgPool) {
    let lab = lab(&pool).await;
    let (m, n) = (lab.machine("m"), lab.machine("n"));
    lab.done(change(m, vec![add(10), add(20)], vec![])).await;
    let had = machine(&lab, "m").disks;
    assert_eq!(had.len(), 3);
    let gib = |n: u64| n << 30;
    assert_eq!(lab.standins.world.disks("m")[1..], [gib(10), gib(20)]);
    // n's own first disk, with what it was made with.
    let second = machine(&lab, "n").disks[0].key;
    lab.done(change(n, vec![add(5)], vec![])).await;
    lab.done(change(n, vec![DiskWish::Detach { disk: second }], vec![]))
        .await;
    let bytes = lab.standins.world.unattached("n").unwrap();
    assert!(!bytes.is_empty(), "something is on it");
    let known = unattached(&lab).disks;
    assert_eq!(known[&second].had, "n");
    assert_eq!(machine(&lab, "n").disks.len(), 1);

    lab.done(change(m, vec![DiskWish::Attach { disk: second }], vec![]))
        .await;
    let now = machine(&lab, "m").disks;
    assert_eq!(now.last().map(|d| d.key), Some(second));
    let content = lab.standins.world.content("m", None).unwrap();
    assert_eq!(content.split('|').next_back(), Some(bytes.as_str()));
    assert!(unattached(&lab).disks.is_empty());
    assert_eq!(lab.standins.world.running("m").len(), 1, "it ran on");
    eventually("its host tells the same", || {
        machine(&lab, "m").disks.len() == 4
    })
    .await;
    assert_eq!(lab.standins.world.violations(), Vec::<String>::new());
    lab.assert_once();
}

/// If this fails, deleting a disk frees its room at once, or never; or a typed slip removes it.
#[sqlx::test(migrations = false)]
async fn a_deleted_disk_comes_back_until_it_is_removed_for_good(pool: PgPool) {
    let lab = lab(&pool).await;
    let n = lab.machine("n");
    let first = machine(&lab, "n").disks[0].key;
    lab.done(change(
        n,
        vec![add(5), DiskWish::Delete { disk: first }],
        vec![],
    ))
    .await;
    assert!(unattached(&lab).disks[&first].deleted.is_some());
    let attach = change(n, vec![DiskWish::Attach { disk: first }], vec![]);
    let seen = lab.desk.assess(&lab.admin, &attach);
    assert!(seen.blocked(), "{:#?}", seen.findings());
    lab.done(spare(&lab, first, SpareAct::Restore)).await;
    lab.done(attach).await;
    assert_eq!(machine(&lab, "n").disks.len(), 2);
    lab.done(change(n, vec![DiskWish::Delete { disk: first }], vec![]))
        .await;
    lab.done(spare(&lab, first, SpareAct::Purge { typed: "n".into() }))
        .await;
    assert_eq!(lab.standins.world.unattached("n"), None);
    assert!(unattached(&lab).disks.is_empty());
    lab.assert_once();
}

/// If this fails, folding or going back loses a disk that came after the snapshot.
#[sqlx::test(migrations = false)]
async fn a_disk_that_came_after_a_snapshot_outlives_it(pool: PgPool) {
    let lab = lab(&pool).await;
    let m = lab.machine("m");
    lab.done(take(m, "one", |_| {})).await;
    let one = named(&lab, "m", "one");
    assert_eq!(one.disks, Some(1));
    lab.done(change(m, vec![add(10)], vec![])).await;
    let later = machine(&lab, "m").disks[1].key;
    let seen = lab.desk.assess(&lab.admin, &back(m, one.uuid, false));
    assert!(seen.blocked(), "{:#?}", seen.findings());
    lab.done(change(m, vec![DiskWish::Detach { disk: later }], vec![]))
        .await;
    lab.done(back(m, one.uuid, false)).await;
    lab.done(change(m, vec![DiskWish::Attach { disk: later }], vec![]))
        .await;
    lab.desk.ask_for_layers(&[m]).await;
    lab.done(forget(m, Which::All)).await;
    let content = lab.standins.world.content("m", None).unwrap();
    assert_eq!(content.split('|').count(), 2);
    lab.assert_once();
}

/// If this fails, two people attach one disk to two machines.
#[sqlx::test(migrations = false)]
async fn of_two_who_attach_one_disk_the_second_is_told(pool: PgPool) {
    let lab = lab(&pool).await;
    let (m, n) = (lab.machine("m"), lab.machine("n"));
    lab.done(change(m, vec![add(10)], vec![])).await;
    let disk = machine(&lab, "m").disks[1].key;
    lab.done(change(m, vec![DiskWish::Detach { disk }], vec![]))
        .await;
    let one = lab.start(change(m, vec![DiskWish::Attach { disk }], vec![]));
    let other = lab.start(change(n, vec![DiskWish::Attach { disk }], vec![]));
    let (one, other) = tokio::join!(one, other);
    let ended = [RunState::Done, RunState::NeedsYou];
    let states = [
        lab.until(one, &ended).await.state,
        lab.until(other, &ended).await.state,
    ];
    assert!(states.contains(&RunState::Done), "{states:?}");
    assert!(states.contains(&RunState::NeedsYou), "{states:?}");
    let count = machine(&lab, "m").disks.len() + machine(&lab, "n").disks.len();
    assert_eq!(count, 3, "one of them has it");
}

/// If this fails, a card goes to a network that its host does not have, or keeps an address of the one it left.
#[sqlx::test(migrations = false)]
async fn cards_are_written_while_the_guest_runs(pool: PgPool) {
    let lab = lab(&pool).await;
    let m = lab.machine("m");
    let mac = machine(&lab, "m").nics[0].mac.clone();
    lab.done(change(m, vec![], vec![CardWish::Add { network: None }]))
        .await;
    assert_eq!(machine(&lab, "m").nics.len(), 2);
    assert_eq!(lab.standins.world.cards("m").len(), 2);
    lab.done(change(m, vec![], vec![CardWish::Out { mac }]))
        .await;
    let left = machine(&lab, "m").nics;
    assert_eq!(left.len(), 1);
    eventually("its host tells the same", || {
        machine(&lab, "m").nics == left
    })
    .await;
    lab.assert_once();
}
