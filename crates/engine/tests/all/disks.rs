//! Disks moved to another volume on real sockets, while their machine runs and writes.

use crate::lab::{Lab, eventually};
use sqlx::PgPool;
use zastrugi_core::rooms::{machines, moving};
use zastrugi_core::{
    ids::{RunId, VolumeId},
    rooms::Proposal,
    rooms::moving::{DisksTo, Move},
    runs::RunState,
};
use zastrugi_engine::{Engine, EventFilter, Resolve};
use zastrugi_store::testkit::url;

/// Two hosts, two volumes, one machine with 4 GiB on its disk and a line on which they take 38 of its seconds.
async fn lab(pool: &PgPool) -> (Lab, VolumeId) {
    let lab = Lab::at_speed(&url(pool), 2, 20.0).await;
    lab.ready().await;
    lab.done(lab.array("first-light").await).await;
    lab.done(lab.volume("quay", Some(64)).await).await;
    for host in lab.estate().hosts.values() {
        lab.standins.world.link(&host.name, 1000);
    }
    let mut ask = lab.create("m", 1, true);
    if let Proposal::Machines(machines::Ask::Create(create)) = &mut ask {
        create.volume = Some(lab.volume_named("slab").id);
    }
    lab.done(ask).await;
    lab.standins.world.write("m", 4 << 30);
    let known = || {
        let view = lab.desk.look();
        let disk = view
            .loads
            .machines
            .get(&lab.machine("m"))
            .and_then(|l| l.disk);
        let slow = |h: &std::sync::Arc<zastrugi_core::estate::Host>| {
            h.uplinks.iter().all(|u| u.mbit == 1000)
        };
        disk.is_some_and(|d| d.used.0 >= 4 << 30) && view.estate.hosts.values().all(slow)
    };
    eventually("what its disks hold is measured", known).await;
    let quay = lab.volume_named("quay").id;
    (lab, quay)
}

fn go(lab: &Lab, volume: VolumeId, stay: bool) -> Proposal {
    Proposal::Moving(moving::Ask::Move(Move {
        machines: vec![lab.machine("m")],
        to: None,
        disks: Some(DisksTo {
            volume: Some(volume),
            stay,
        }),
        slow: false,
        force: false,
        wire: false,
    }))
}

/// Until some of it is copied.
async fn under_way(lab: &Lab, run: RunId) {
    let copies = || {
        let view = lab.desk.look();
        let run = view.runs.get(run);
        run.is_some_and(|r| view.said(r, 0).contains("to go"))
    };
    eventually("it is under way", copies).await;
}

fn home(lab: &Lab) -> VolumeId {
    lab.estate().machine_named("m").unwrap().disks[0].volume
}

/// It runs once, writes where it may, and nothing wrote where it may not.
async fn assert_writes_on(lab: &Lab, volume: VolumeId) {
    eventually("the estate says where they are", || home(lab) == volume).await;
    lab.standins.world.write("m", 4096);
    assert_eq!(lab.standins.world.violations(), Vec::<String>::new());
    assert_eq!(lab.standins.world.running("m").len(), 1);
}

#[sqlx::test(migrations = false)]
async fn disks_go_to_another_volume_and_back_while_their_machine_runs(pool: PgPool) {
    let (lab, quay) = lab(&pool).await;
    let slab = home(&lab);
    let before = lab.estate().machine_named("m").unwrap().clone();
    let run = lab.done(go(&lab, quay, true)).await;
    assert!(
        run.step(0).unwrap().said.contains("are on quay"),
        "{}",
        run.step(0).unwrap().said
    );
    let after = lab.estate().machine_named("m").unwrap().clone();
    assert_eq!(after.host, before.host, "the machine stayed");
    assert_eq!(
        after.generation,
        before.generation + 1,
        "nothing is written under the old lease"
    );
    let of_it = EventFilter {
        about: after.id.to_string(),
        ..EventFilter::default()
    };
    let mut told = lab.desk.events(&of_it, 20).await.unwrap();
    told.retain(|t| t.run == Some(run.id));
    let [one] = told.as_slice() else {
        panic!("one thing happened to it: {told:?}")
    };
    let text = "m: its disks went from slab to quay in";
    assert!(one.text.starts_with(text), "{}", one.text);
    assert_writes_on(&lab, quay).await;
    // Back, and the machine to the other host as well.
    lab.migration_network().await;
    lab.done(go(&lab, slab, false)).await;
    assert_ne!(lab.estate().machine_named("m").unwrap().host, before.host);
    assert_writes_on(&lab, slab).await;
    lab.assert_once();
}

#[sqlx::test(migrations = false)]
async fn a_copy_given_up_leaves_everything_where_it_was(pool: PgPool) {
    let (lab, quay) = lab(&pool).await;
    let slab = home(&lab);
    let run = lab.start(go(&lab, quay, true)).await;
    under_way(&lab, run).await;
    lab.desk
        .answer(&lab.admin, run, Resolve::Cancel)
        .await
        .unwrap();
    lab.until(run, &[RunState::Cancelled]).await;
    assert_writes_on(&lab, slab).await;
    let given_back = || lab.volume_named("quay").used.0 == 0;
    eventually("the room is given back", given_back).await;
}

#[sqlx::test(migrations = false)]
async fn a_path_that_dies_on_the_way_fails_it_and_a_retry_gets_there(pool: PgPool) {
    let (lab, quay) = lab(&pool).await;
    let run = lab.start(go(&lab, quay, true)).await;
    under_way(&lab, run).await;
    let host = lab.estate().machine_named("m").unwrap().host.unwrap();
    let host = lab.estate().hosts[&host].name.clone();
    for portal in [1, 2] {
        lab.standins
            .world
            .portal("shelf", portal, Some(&host), false);
    }
    let stuck = lab.until(run, &[RunState::NeedsYou]).await;
    let words = stuck.step(0).unwrap().fault.as_ref().unwrap();
    assert!(words.said.contains("does not reach"), "{words:?}");
    for portal in [1, 2] {
        lab.standins
            .world
            .portal("shelf", portal, Some(&host), true);
    }
    let up = || {
        let m = lab.estate().machine_named("m").unwrap().clone();
        matches!(m.state, zastrugi_core::estate::MachineState::Running { .. })
    };
    eventually("the machine goes on", up).await;
    lab.desk
        .answer(&lab.admin, run, Resolve::Retry)
        .await
        .unwrap();
    lab.until(run, &[RunState::Done]).await;
    assert_writes_on(&lab, quay).await;
}

#[sqlx::test(migrations = false)]
async fn another_process_takes_a_copy_over(pool: PgPool) {
    let (lab, quay) = lab(&pool).await;
    let run = lab.start(go(&lab, quay, true)).await;
    under_way(&lab, run).await;
    let Lab {
        engine,
        settings,
        standins,
        ..
    } = lab;
    engine.stop().await;
    let next = Engine::start(settings).await.unwrap();
    let desk = next.desk();
    crate::lab::until(&desk, run, &[RunState::Done]).await;
    let estate = desk.look().estate;
    assert_eq!(estate.machine_named("m").unwrap().disks[0].volume, quay);
    standins.world.write("m", 4096);
    assert_eq!(standins.world.violations(), Vec::<String>::new());
}
