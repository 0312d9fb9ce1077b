//! Disks copied from one machine to another on real sockets: the same bytes, the original left alone, and nothing half-done.

use crate::hardware::{add, change, machine};
use crate::lab::{Lab, eventually};
use crate::snapshots::{named, take};
use sqlx::PgPool;
use uuid::Uuid;
use zastrugi_core::{
    rooms::{
        Proposal,
        hardware::DiskWish,
        refreshing::{Ask, CopyDisk},
    },
    runs::RunState,
};
use zastrugi_engine::Resolve;
use zastrugi_store::testkit::url;

/// `m` runs and has snapshot *eve*; `n` is off.
async fn lab(pool: &PgPool) -> (Lab, Uuid) {
    let lab = Lab::at_speed(&url(pool), 2, 40.0).await;
    lab.ready().await;
    lab.done(lab.create("m", 1, true)).await;
    lab.done(lab.create("n", 1, false)).await;
    lab.standins.world.write("m", 256 << 20);
    lab.done(take(lab.machine("m"), "eve", |_| {})).await;
    let eve = named(&lab, "m", "eve").uuid;
    (lab, eve)
}

pub(crate) fn bring(
    lab: &Lab,
    from: (&str, Option<Uuid>),
    to: &str,
    onto: Option<Uuid>,
) -> Proposal {
    Proposal::Refreshing(Ask::Copy(CopyDisk {
        machine: lab.machine(to),
        onto,
        from: Some(lab.machine(from.0)),
        snapshot: from.1,
        disk: 0,
        typed: to.into(),
    }))
}

/// If this fails, a test system is refreshed with other bytes than those of production, or production was touched.
#[sqlx::test(migrations = false)]
async fn a_disk_holds_what_the_snapshot_held_and_the_original_is_left_alone(pool: PgPool) {
    let (lab, eve) = lab(&pool).await;
    let then = lab.standins.world.content("m", Some("eve")).unwrap();
    lab.standins.world.write("m", 64 << 20);
    let now = lab.standins.world.content("m", None).unwrap();
    assert_ne!(then, now);
    let onto = machine(&lab, "n").disks[0].key;
    lab.done(bring(&lab, ("m", Some(eve)), "n", Some(onto)))
        .await;
    assert_eq!(lab.standins.world.content("n", None).unwrap(), then);
    assert_eq!(machine(&lab, "n").disks[0].key, onto, "it is the same disk");
    assert_eq!(lab.standins.world.content("m", Some("eve")).unwrap(), then);
    lab.assert_once();
}

/// If this fails, somebody who wants one file back out of a snapshot has to go back with everything.
#[sqlx::test(migrations = false)]
async fn one_more_disk_comes_with_what_the_snapshot_held_while_the_machine_runs(pool: PgPool) {
    let (lab, eve) = lab(&pool).await;
    lab.done(bring(&lab, ("m", Some(eve)), "m", None)).await;
    let has = machine(&lab, "m").disks;
    assert_eq!(has.len(), 2);
    assert_ne!(has[0].key, has[1].key);
    // Detached again, it holds what the snapshot held.
    let held = lab.standins.world.content("m", Some("eve")).unwrap();
    let out = DiskWish::Detach { disk: has[1].key };
    lab.done(change(lab.machine("m"), vec![out], vec![])).await;
    assert_eq!(lab.standins.world.unattached("m").unwrap(), held);
}

/// If this fails, a copy that fails half-way leaves a disk that is neither the old nor the new one.
#[sqlx::test(migrations = false)]
async fn a_copy_that_is_cut_off_changes_nothing(pool: PgPool) {
    let (lab, _) = lab(&pool).await;
    lab.done(change(lab.machine("n"), vec![add(1)], vec![]))
        .await;
    lab.standins.world.write("m", 3 << 30);
    lab.done(take(lab.machine("m"), "late", |_| {})).await;
    let late = named(&lab, "m", "late").uuid;
    let before = lab.standins.world.content("n", None).unwrap();
    for host in lab.estate().hosts.values() {
        lab.standins.world.link(&host.name, 100);
    }
    let onto = machine(&lab, "n").disks[0].key;
    let run = lab
        .start(bring(&lab, ("m", Some(late)), "n", Some(onto)))
        .await;
    eventually("it is under way", || {
        let view = lab.desk.look();
        let run = view.runs.get(run);
        run.is_some_and(|r| view.said(r, 0).contains("to go"))
    })
    .await;
    lab.desk
        .answer(&lab.admin, run, Resolve::Cancel)
        .await
        .unwrap();
    lab.until(run, &[RunState::Cancelled]).await;
    assert_eq!(lab.standins.world.content("n", None).unwrap(), before);
    assert_eq!(machine(&lab, "n").disks.len(), 2);
}
