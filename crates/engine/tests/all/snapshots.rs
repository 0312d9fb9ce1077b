//! Snapshots on real sockets: taken while a guest writes, gone back to, folded away, and ended by themselves.

use crate::lab::{Lab, eventually};
use sqlx::PgPool;
use uuid::Uuid;
use zastrugi_core::{
    estate::{Consistent, Machine, Snapshot},
    ids::MachineId,
    moment::{Moment, Span},
    rooms::{
        Proposal, Step,
        snapshots::{self, Ask, Back, Forget, Keep, Quiet, Take, Which},
    },
    runs::{Fault, Run, RunState},
    units::Bytes,
};
use zastrugi_engine::Resolve;
use zastrugi_store::testkit::url;

/// Two hosts and machine `m`, which runs and has written 2 GiB.
async fn lab(pool: &PgPool) -> Lab {
    let lab = Lab::at_speed(&url(pool), 2, 20.0).await;
    lab.ready().await;
    lab.done(lab.create("m", 1, true)).await;
    lab.standins.world.write("m", 2 << 30);
    measured(&lab).await;
    lab
}

async fn measured(lab: &Lab) {
    let known = || {
        let view = lab.desk.look();
        let load = view.loads.machines.get(&lab.machine("m")).copied();
        load.and_then(|l| l.disk)
            .is_some_and(|d| d.used.0 >= 2 << 30)
    };
    eventually("what its disks hold is measured", known).await;
}

pub(crate) fn take(machine: MachineId, name: &str, change: impl FnOnce(&mut Take)) -> Proposal {
    let mut ask = Take {
        machines: vec![machine],
        name: name.into(),
        note: "".into(),
        quiet: Quiet::IfPossible,
        memory: false,
        together: false,
        ends: None,
    };
    change(&mut ask);
    Proposal::Snapshots(Ask::Take(ask))
}

pub(crate) fn back(machine: MachineId, to: Uuid, keep: bool) -> Proposal {
    Proposal::Snapshots(Ask::Back(Back {
        machine,
        to: Some(to),
        keep,
    }))
}

pub(crate) fn forget(machine: MachineId, which: Which) -> Proposal {
    Proposal::Snapshots(Ask::Forget(Forget {
        machines: vec![machine],
        which,
    }))
}

pub(crate) fn named(lab: &Lab, machine: &str, name: &str) -> Snapshot {
    let estate = lab.estate();
    let machine = estate.machine_named(machine).unwrap();
    let mut all = machine.snapshots.all.iter();
    all.find(|s| s.name == name).unwrap().clone()
}

fn machine(lab: &Lab) -> Machine {
    Machine::clone(lab.estate().machine_named("m").unwrap())
}

fn faults(run: &Run) -> Vec<Fault> {
    run.steps().filter_map(|s| s.fault.clone()).collect()
}

fn content(lab: &Lab, snapshot: Option<&str>) -> String {
    lab.standins.world.content("m", snapshot).unwrap()
}

/// Bytes that the newest deletion was foretold to copy, and that it did.
async fn foretold_and_copied(lab: &Lab, run: zastrugi_core::ids::RunId) -> (Bytes, String) {
    let (ended, plan) = lab.desk.run(run).await.unwrap().unwrap();
    let bytes = plan.steps.iter().find_map(|p| match &p.step {
        Step::Snapshots(snapshots::Step::Forget { bytes, .. }) => Some(*bytes),
        _ => None,
    });
    let said = ended.steps().last().unwrap().said.clone();
    (bytes.unwrap(), said)
}

/// If this fails, somebody who goes back has other bytes than those of the snapshot, or deleting one takes bytes of the others.
#[sqlx::test(migrations = false)]
async fn bytes_of_each_state_stay_whatever_is_done_to_the_others(pool: PgPool) {
    let lab = lab(&pool).await;
    let m = lab.machine("m");
    lab.done(take(m, "first", |_| {})).await;
    let first = named(&lab, "m", "first");
    assert_eq!(first.consistent, Consistent::Quiet, "its agent answers");
    let bytes = content(&lab, Some("first"));
    lab.standins.world.write("m", 64 << 20);
    lab.done(take(m, "second", |_| {})).await;
    let second = content(&lab, Some("second"));
    assert_ne!(second, bytes, "the guest wrote meanwhile");
    let now = machine(&lab).snapshots;
    assert_eq!(named(&lab, "m", "second").parent, Some(first.uuid));
    assert_eq!(now.rests_on, Some(named(&lab, "m", "second").uuid));

    lab.desk.ask_for_layers(&[m]).await;
    let generation = lab.standins.world.generation_id("m");
    lab.done(back(m, first.uuid, true)).await;
    assert_eq!(machine(&lab).snapshots.rests_on, Some(first.uuid));
    let told = || {
        let then = lab.standins.world.generation_id("m");
        then != generation && machine(&lab).generation_id == then
    };
    eventually("its guest can notice, and its host tells of it", told).await;
    assert_eq!(content(&lab, Some("first")), bytes);
    let kept = named(&lab, "m", "before going back to first");
    assert_eq!(kept.parent, Some(named(&lab, "m", "second").uuid));
    assert_eq!(
        lab.standins.world.running("m").len(),
        1,
        "it is on as before"
    );

    lab.desk.ask_for_layers(&[m]).await;
    let run = lab.start(forget(m, Which::These(vec![first.uuid]))).await;
    let ended = lab.until(run, &[RunState::Done, RunState::NeedsYou]).await;
    assert_eq!(faults(&ended), vec![]);
    assert_eq!(content(&lab, Some("second")), second);
    lab.done(forget(m, Which::All)).await;
    assert!(machine(&lab).snapshots.is_empty());
    eventually("its host tells the same", || {
        machine(&lab).snapshots.is_empty()
    })
    .await;
    assert_eq!(lab.standins.world.violations(), Vec::<String>::new());
    lab.assert_once();
}

/// Until its layers are known as they are now: else nothing is foretold, and that is said.
async fn read(lab: &Lab, id: MachineId) {
    loop {
        lab.desk.ask_for_layers(&[id]).await;
        let view = lab.desk.look();
        if snapshots::layers(&view, &view.estate.machines[&id], lab.desk.now()).is_some() {
            return;
        }
        tokio::time::sleep(std::time::Duration::from_millis(20)).await;
    }
}

/// If this fails, what a deletion was foretold to copy is not what it copies.
#[sqlx::test(migrations = false)]
async fn what_a_deletion_copies_is_what_was_foretold(pool: PgPool) {
    let lab = lab(&pool).await;
    let m = lab.machine("m");
    let rounds: u64 = std::env::var("ROUNDS")
        .ok()
        .and_then(|n| n.parse().ok())
        .unwrap_or(6);
    let mut worst: f64 = 0.0;
    for n in 0..rounds {
        for name in ["a", "b", "c"] {
            lab.done(take(m, name, |t| t.quiet = Quiet::No)).await;
            lab.standins
                .world
                .write("m", ((n * 37 + 11) % 40 + 1) << 20);
        }
        let which = ["a", "b", "c"][usize::try_from(n % 3).unwrap()];
        let gone = named(&lab, "m", which).uuid;
        read(&lab, m).await;
        let run = lab.start(forget(m, Which::These(vec![gone]))).await;
        lab.until(run, &[RunState::Done]).await;
        let (foretold, said) = foretold_and_copied(&lab, run).await;
        let events = lab.desk.events(&Default::default(), 20).await.unwrap();
        let told = events.iter().find(|e| e.text.contains("deleted")).unwrap();
        assert!(told.text.contains("copied in"), "{said}");
        let copied = lab.standins.world.folded("m").unwrap();
        // The guest goes on writing between the look and the end.
        let off = (copied as f64 - foretold.as_f64()).abs();
        worst = worst.max(off);
        assert!(
            off <= 96.0 * 65_536.0,
            "{foretold} foretold, {copied} copied"
        );
        lab.desk.ask_for_layers(&[m]).await;
        lab.done(forget(m, Which::All)).await;
    }
    eprintln!("{rounds} deletions: at most {worst} bytes off");
}

/// If this fails, a database's snapshot counts as clean although its guest never heard of it.
#[sqlx::test(migrations = false)]
async fn a_guest_that_does_not_stand_still_is_said_and_decided_beforehand(pool: PgPool) {
    let lab = lab(&pool).await;
    let m = lab.machine("m");
    lab.standins.world.slow_guest("m", true);
    lab.done(take(m, "slow", |_| {})).await;
    assert_eq!(named(&lab, "m", "slow").consistent, Consistent::Crash);
    let run = lab.start(take(m, "only", |t| t.quiet = Quiet::Only)).await;
    let stopped = lab.until(run, &[RunState::NeedsYou]).await;
    let fault = faults(&stopped).remove(0);
    assert!(fault.said.contains("not quiet within 10 s"), "{fault:?}");
    // It is mended, and tried again.
    lab.standins.world.slow_guest("m", false);
    lab.desk
        .answer(&lab.admin, run, Resolve::Retry)
        .await
        .unwrap();
    lab.until(run, &[RunState::Done]).await;
    assert_eq!(named(&lab, "m", "only").consistent, Consistent::Quiet);
    // An agent that is silent freezes nothing.
    lab.standins.world.hang_guest("m", true, true);
    lab.done(take(m, "mute", |_| {})).await;
    assert_eq!(named(&lab, "m", "mute").consistent, Consistent::Crash);
}

/// If this fails, a machine that goes back to a snapshot with memory boots, and what it had open is lost.
#[sqlx::test(migrations = false)]
async fn a_machine_goes_on_with_the_memory_that_was_kept(pool: PgPool) {
    let lab = lab(&pool).await;
    let m = lab.machine("m");
    lab.done(take(m, "warm", |t| t.memory = true)).await;
    let warm = named(&lab, "m", "warm");
    assert_eq!(warm.consistent, Consistent::Memory);
    assert!(warm.memory.is_some_and(|b| b > Bytes::ZERO));
    lab.done(back(m, warm.uuid, false)).await;
    let boots = || lab.standins.world.phase("m");
    assert_eq!(boots().as_deref(), Some("up"), "it did not boot");
    // Without memory it boots again.
    lab.done(take(m, "cold", |_| {})).await;
    lab.done(back(m, named(&lab, "m", "cold").uuid, false))
        .await;
    assert_ne!(boots().as_deref(), Some("up"));
    assert_eq!(lab.standins.world.running("m").len(), 1);
}

/// If this fails, a snapshot that should have gone fills the volume until somebody looks.
#[sqlx::test(migrations = false)]
async fn one_that_is_past_its_end_is_deleted_by_itself(pool: PgPool) {
    let lab = lab(&pool).await;
    let m = lab.machine("m");
    lab.done(take(m, "short", |t| t.ends = Some(Span::millis(1))))
        .await;
    lab.done(take(m, "long", |t| t.ends = Some(Span::days(3))))
        .await;
    let gone = || {
        let all = machine(&lab).snapshots;
        all.all.iter().all(|s| s.name != "short")
    };
    eventually("the first is gone", gone).await;
    assert!(
        named(&lab, "m", "long")
            .ends
            .is_some_and(|at| at > Moment(0))
    );
    let keep = Proposal::Snapshots(Ask::Keep(Keep {
        machine: m,
        snapshot: Some(named(&lab, "m", "long").uuid),
        note: "for the audit".into(),
        ends: None,
    }));
    lab.done(keep).await;
    assert_eq!(named(&lab, "m", "long").ends, None);
}

/// If this fails, somebody who thinks better of it waits for gigabytes of memory, or keeps half of a snapshot.
#[sqlx::test(migrations = false)]
async fn one_whose_memory_is_still_written_can_be_given_up(pool: PgPool) {
    let lab = lab(&pool).await;
    let m = lab.machine("m");
    for host in ["h1", "h2"] {
        lab.standins.world.link(host, 100);
    }
    let run = lab.start(take(m, "warm", |t| t.memory = true)).await;
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
    assert!(machine(&lab).snapshots.is_empty());
    assert_eq!(lab.standins.world.content("m", Some("warm")), None);
    // Nothing is left of it that stands in the way of the next.
    lab.done(take(m, "cold", |_| {})).await;
    assert_eq!(lab.standins.world.running("m").len(), 1);
}
