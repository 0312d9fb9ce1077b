//! Devices that fail: what is said, and that every effect happens once.

use crate::lab::{Lab, eventually};
use sqlx::PgPool;
use std::time::Duration;
use zastrugi_core::rooms::machines;
use zastrugi_core::{
    estate::{Condition, MachineState, Wanted},
    ids::MachineId,
    rooms::Proposal,
    rooms::machines::PowerAct,
    runs::{FaultKind, Phase, RunState},
};
use zastrugi_engine::Resolve;
use zastrugi_standins::{Fault, FaultKind as Breaks, Standins};

fn fault(device: &str, call: &str, kind: Breaks, times: u32) -> Fault {
    Fault {
        device: device.into(),
        call: call.into(),
        kind,
        times,
    }
}

#[sqlx::test(migrations = false)]
async fn a_lost_doubled_or_garbled_answer_is_asked_for_again_and_the_effect_happens_once(
    pool: PgPool,
) {
    let lab = Lab::new(&pool, 1).await;
    lab.ready().await;
    for (name, kind) in [
        ("lost", Breaks::Drop),
        ("doubled", Breaks::Twice),
        ("garbled", Breaks::Garbage),
        ("slow", Breaks::Slow),
    ] {
        lab.standins
            .world
            .add_fault(fault("h1", "PUT /v1/machines", kind, 1));
        let run = lab.done(lab.create(name, 1, false)).await;
        let tries = if kind == Breaks::Slow { 1 } else { 2 };
        assert_eq!(run.step(0).unwrap().attempt, tries, "{name}");
    }
    lab.assert_once();
}

#[sqlx::test(migrations = false)]
async fn a_refusal_is_shown_in_the_devices_words_and_retry_goes_on(pool: PgPool) {
    let lab = Lab::new(&pool, 1).await;
    lab.ready().await;
    lab.standins
        .world
        .add_fault(fault("h1", "PUT /v1/machines", Breaks::Refuse, 1));
    let run = lab.start(lab.create("gate", 1, true)).await;
    let stuck = lab.until(run, &[RunState::NeedsYou]).await;
    let said = stuck.step(0).unwrap().fault.clone().unwrap();
    assert_eq!(said.said, "The device is busy with its own maintenance.");
    assert_eq!(said.field.as_deref(), Some("disks"));
    assert!(!said.remedy.is_empty());
    lab.desk
        .answer(&lab.admin, run, Resolve::Retry)
        .await
        .unwrap();
    lab.until(run, &[RunState::Done]).await;
    lab.assert_once();
}

#[sqlx::test(migrations = false)]
async fn a_hanging_device_is_timed_out_and_tried_again(pool: PgPool) {
    let lab = Lab::new(&pool, 1).await;
    lab.ready().await;
    lab.standins
        .world
        .add_fault(fault("h1", "PUT /v1/machines", Breaks::Hang, 1));
    let run = lab.done(lab.create("gate", 1, false)).await;
    assert_eq!(run.step(0).unwrap().attempt, 2);
    lab.assert_once();
}

/// A machine whose creation was given up while nobody knew what became of it.
async fn left_over(lab: &Lab, name: &str, kind: Breaks) -> MachineId {
    let create = "PUT /v1/machines";
    lab.standins.world.add_fault(fault("h1", create, kind, 20));
    let run = lab.start(lab.create(name, 1, true)).await;
    eventually("the creation is under way", || {
        let runs = lab.desk.look().runs.clone();
        let step = runs.get(run).and_then(|r| r.step(0).cloned());
        step.is_some_and(|s| s.phase == Phase::Running)
    })
    .await;
    tokio::time::sleep(Duration::from_millis(300)).await;
    let cancel = lab.desk.answer(&lab.admin, run, Resolve::Cancel);
    cancel.await.unwrap();
    lab.until(run, &[RunState::Cancelled]).await;
    lab.standins.world.clear_faults();
    let machine = lab.machine(name);
    let held = lab.estate().machines[&machine].clone();
    assert_eq!(
        (&held.state, held.deleted.is_some(), held.wanted),
        (&MachineState::Planned, true, Wanted::Off),
        "{name} is called neither created nor gone"
    );
    machine
}

async fn purge(lab: &Lab, machine: MachineId, typed: &str) -> String {
    let ask = machines::Ask::Purge {
        machines: vec![machine],
        typed: typed.into(),
    };
    let run = lab.done(Proposal::Machines(ask)).await;
    assert!(!lab.estate().machines.contains_key(&machine));
    run.step(0).unwrap().said.clone()
}

#[sqlx::test(migrations = false)]
async fn a_creation_given_up_without_an_answer_is_listed_and_can_be_cleared_or_kept(pool: PgPool) {
    let lab = Lab::new(&pool, 1).await;
    lab.ready().await;
    let never = left_over(&lab, "never", Breaks::Hang).await;
    assert_eq!(purge(&lab, never, "never").await, "it was never created");
    let made = left_over(&lab, "made", Breaks::Drop).await;
    assert_eq!(purge(&lab, made, "made").await, "removed");
    let kept = left_over(&lab, "kept", Breaks::Drop).await;
    lab.done(Proposal::Machines(machines::Ask::Recover {
        machines: vec![kept],
        how: Default::default(),
    }))
    .await;
    let held = lab.estate().machines[&kept].clone();
    assert_eq!(held.state, MachineState::Off);
    assert!(
        held.guest_key.as_ref().is_some_and(|k| !k.is_empty()),
        "{held:?}"
    );
    lab.done(Proposal::Machines(machines::Ask::Power {
        machines: vec![kept],
        act: PowerAct::On { host: None },
    }))
    .await;
    lab.assert_once();
}

#[sqlx::test(migrations = false)]
async fn cancelling_leaves_what_is_done_and_gives_back_the_rest(pool: PgPool) {
    let lab = Lab::new(&pool, 1).await;
    lab.ready().await;
    lab.standins
        .world
        .add_fault(fault("h1", "/power", Breaks::Refuse, 1));
    let run = lab.start(lab.create("gate", 1, true)).await;
    lab.until(run, &[RunState::NeedsYou]).await;
    lab.desk
        .answer(&lab.admin, run, Resolve::Cancel)
        .await
        .unwrap();
    let ended = lab.until(run, &[RunState::Cancelled]).await;
    assert_eq!(
        ended.steps().map(|s| s.phase).collect::<Vec<_>>(),
        [Phase::Done, Phase::Failed, Phase::Skipped]
    );
    let machine = lab.estate().machines[&lab.machine("gate")].clone();
    assert_eq!(
        (machine.host, machine.is_off()),
        (None, true),
        "made, off, holding no room"
    );
    lab.done(Proposal::Machines(machines::Ask::Power {
        machines: vec![machine.id],
        act: PowerAct::On { host: None },
    }))
    .await;
}

#[sqlx::test(migrations = false)]
async fn a_wrong_password_is_told_and_counts_as_one_try(pool: PgPool) {
    let lab = Lab::new(&pool, 1).await;
    let address = lab.standins.world.agents()["h1"].clone();
    lab.desk.greet(std::slice::from_ref(&address)).await;
    let pin = lab.desk.found()[0].greeting.pin.clone();
    let (at, fault) = lab
        .desk
        .check_password(&[(address.clone(), pin.clone())], "last-light")
        .await
        .unwrap_err();
    assert_eq!((at, fault.kind), (address.clone(), FaultKind::Password));
    assert_eq!(fault.said, "Password not accepted; 4 tries left.");
    let stranger = lab
        .desk
        .check_password(&[(address, "00".repeat(32))], "first-light")
        .await
        .unwrap_err()
        .1;
    assert_eq!(
        stranger.kind,
        FaultKind::Stranger,
        "the password is not sent to another certificate"
    );
}

#[sqlx::test(migrations = false)]
async fn a_host_with_another_certificate_gets_no_orders(pool: PgPool) {
    let mut lab = Lab::new(&pool, 1).await;
    lab.ready().await;
    lab.standins.world.swap_identity("h1").unwrap();
    let devices = lab.devices.clone();
    // The listener shows the new certificate from its next start on.
    let old = std::mem::replace(
        &mut lab.standins,
        Standins::start(zastrugi_standins::Settings {
            net: "127.249".into(),
            dir: devices.dir.join("other"),
            ..devices.clone()
        })
        .await
        .unwrap(),
    );
    drop(old);
    tokio::time::sleep(std::time::Duration::from_millis(100)).await;
    let again = Standins::start(devices).await.unwrap();
    let held = || {
        matches!(
            lab.estate().hosts.values().next().unwrap().condition,
            Condition::Stranger { .. }
        )
    };
    eventually("the stranger is noticed", held).await;
    assert!(
        lab.desk
            .assess(&lab.admin, &lab.create("gate", 1, false))
            .blocked()
    );
    drop(again);
}
