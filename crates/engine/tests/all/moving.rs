//! Live migration on real sockets: foretold, carried out, compared; and everything that dies on the way.

use crate::lab::{Lab, eventually};
use sqlx::PgPool;
use std::{
    sync::{
        Arc,
        atomic::{AtomicBool, Ordering},
    },
    time::Duration,
};
use zastrugi_core::rooms::{machines, moving, networks};
use zastrugi_core::{
    estate::HostNet,
    ids::{HostId, RunId},
    rooms::Proposal,
    rooms::moving::Move,
    runs::{Object, RunState},
};
use zastrugi_engine::{Engine, Resolve};
use zastrugi_standins::{Fault, FaultKind as Breaks};
use zastrugi_store::testkit::url;

/// Hosts with a migration network and one machine that answers.
pub(crate) async fn lab(pool: &PgPool, hosts: u32) -> Lab {
    // Fast enough for tests, slow enough that a thousandth of our second is not much of theirs.
    let lab = Lab::at_speed(&url(pool), hosts, 40.0).await;
    lab.ready().await;
    lab.migration_network().await;
    // Slow enough for several rounds.
    for host in lab.estate().hosts.values() {
        lab.standins.world.link(&host.name, 1000);
    }
    let every = |h: &Arc<zastrugi_core::estate::Host>| {
        let has: Option<&HostNet> = h.networks.get("migration");
        has.is_some() && h.uplinks.iter().all(|u| u.mbit == 1000)
    };
    eventually("every host has it", || {
        lab.estate().hosts.values().all(every)
    })
    .await;
    lab.done(lab.create("m", 1, true)).await;
    lab.standins.world.busy("m", 60);
    let measured = || {
        let view = lab.desk.look();
        let load = view.loads.machines.get(&lab.machine("m")).copied();
        load.and_then(|l| l.writes)
            .is_some_and(|w| w.touched.0 > 1_300_000_000)
    };
    eventually("how it writes is measured", measured).await;
    lab
}

pub(crate) fn go(lab: &Lab, edit: impl FnOnce(&mut Move)) -> Proposal {
    let mut ask = Move {
        disks: None,
        machines: vec![lab.machine("m")],
        to: None,
        slow: false,
        force: false,
        wire: false,
    };
    edit(&mut ask);
    Proposal::Moving(moving::Ask::Move(ask))
}

fn host_of(lab: &Lab) -> HostId {
    lab.estate().machine_named("m").unwrap().host.unwrap()
}

fn name(lab: &Lab, host: HostId) -> String {
    lab.estate().hosts[&host].name.clone()
}

/// It runs once, where the estate says, and nobody wrote where they may not.
async fn assert_runs_once(lab: &Lab, host: HostId) {
    let host = name(lab, host);
    let world = lab.standins.world.clone();
    let once = || {
        let running = world.running("m");
        matches!(running.as_slice(), [(at, _, false)] if *at == host)
    };
    eventually("it runs once, and goes on", once).await;
    let agrees = || {
        let m = lab.estate().machine_named("m").unwrap().clone();
        m.host.is_some_and(|h| name(lab, h) == host) && m.arriving.is_none()
    };
    eventually("the estate says so too", agrees).await;
    lab.standins.world.write("m", 4096);
    assert_eq!(lab.standins.world.violations(), Vec::<String>::new());
}

#[sqlx::test(migrations = false)]
async fn a_machine_moves_and_what_was_foretold_is_set_beside_what_was(pool: PgPool) {
    let lab = lab(&pool, 3).await;
    let before = host_of(&lab);
    let generation = lab.estate().machine_named("m").unwrap().generation;
    let run = lab.done(go(&lab, |_| {})).await;
    let after = host_of(&lab);
    assert_ne!(before, after);
    let machine = lab.estate().machine_named("m").unwrap().clone();
    assert_eq!(machine.generation, generation + 1, "a new lease");
    let moved = machine.moved.as_ref().unwrap();
    assert_eq!((moved.from, moved.to), (before, after));
    let foretold = moved.foretold.as_ref().unwrap();
    assert!(foretold.converges() && !moved.measured.rounds.is_empty());
    assert!(moved.measured.stood_still.0 >= 300);
    // The line of the stand-ins is never faster than it should be; on a busy machine it is slower.
    let whole = moved.measured.total.as_f64() / foretold.total.as_f64();
    assert!((0.8..4.0).contains(&whole), "{moved:?}");
    assert!(
        run.step(0).unwrap().said.contains("were foretold"),
        "{}",
        run.step(0).unwrap().said
    );
    assert_runs_once(&lab, after).await;
    // There and back again, under yet another lease.
    lab.done(go(&lab, |m| m.to = Some(before))).await;
    assert_runs_once(&lab, before).await;
    lab.assert_once();
}

#[sqlx::test(migrations = false)]
async fn who_writes_too_fast_is_refused_slowed_or_moved_all_the_same(pool: PgPool) {
    let lab = lab(&pool, 2).await;
    // Nearly three times what the line carries.
    lab.standins.world.busy("m", 646);
    let stops = || lab.desk.assess(&lab.admin, &go(&lab, |_| {})).blocked();
    eventually("the sheet says that it never gets there", stops).await;
    let said = lab.desk.assess(&lab.admin, &go(&lab, |_| {}));
    let stop = said.at_field("slow").unwrap();
    assert!(stop.text.contains("writes faster than the line carries"));
    let slowed = lab.desk.assess(&lab.admin, &go(&lab, |m| m.slow = true));
    assert!(!slowed.blocked(), "{:?}", slowed.findings());
    // Forced too: on a loaded machine the simulated line is slower than it should be, and this is about the slowing.
    lab.done(go(&lab, |m| (m.slow, m.force) = (true, true)))
        .await;
    let moved = lab.estate().machine_named("m").unwrap().moved.clone();
    assert!(moved.unwrap().measured.slowed >= 10);
    assert_runs_once(&lab, host_of(&lab)).await;
    // Its new host has to measure it first.
    let forced = || lab.desk.assess(&lab.admin, &go(&lab, |m| m.force = true));
    let down = || forced().interrupted().len() == 1;
    eventually("it is down for a while, the sheet says", down).await;
    lab.done(go(&lab, |m| m.force = true)).await;
    let moved = lab.estate().machine_named("m").unwrap().moved.clone();
    assert!(moved.unwrap().measured.stood_still.0 > 1000);
    assert_runs_once(&lab, host_of(&lab)).await;
}

#[derive(Clone, Copy, Debug, PartialEq)]
enum Dies {
    Source,
    Destination,
    Network,
    /// It is off, whoever did that.
    Machine,
    Cancelled,
}

/// Breaks something before round `at` (0: before the switch), and looks where the machine is.
async fn broken(lab: &Lab, at: usize, dies: Dies) {
    let source = host_of(lab);
    let first = name(lab, source);
    let estate = lab.estate();
    let other = estate
        .hosts
        .keys()
        .find(|h| **h != source)
        .copied()
        .unwrap();
    let (near, far) = (name(lab, source), name(lab, other));
    let hit = Arc::new(AtomicBool::new(false));
    let (hit_there, stays) = (hit.clone(), near.clone());
    lab.standins.world.on_round(move |world, round| {
        if round != at || hit_there.swap(true, Ordering::SeqCst) {
            return;
        }
        match dies {
            Dies::Source => world.power(&near, false),
            Dies::Destination => world.power(&far, false),
            Dies::Network => world.forget_network(&far, "migration"),
            Dies::Machine => world.pull("m"),
            Dies::Cancelled => {}
        }
    });
    let run = lab.start(go(lab, |m| m.to = Some(other))).await;
    if dies == Dies::Cancelled {
        eventually("its round begins", || hit.load(Ordering::SeqCst)).await;
        drop(lab.desk.answer(&lab.admin, run, Resolve::Cancel).await);
    }
    let ends = [RunState::NeedsYou, RunState::Cancelled, RunState::Done];
    let ended = lab.until(run, &ends).await;
    assert!(
        hit.load(Ordering::SeqCst),
        "{dies:?} at {at}: never got there"
    );
    match dies {
        // What ran there is off; nobody else has it.
        Dies::Source | Dies::Machine => {
            assert_eq!(ended.state, RunState::NeedsYou, "{dies:?} at {at}");
            assert_eq!(lab.standins.world.running("m"), [], "{dies:?} at {at}");
        }
        Dies::Cancelled => {
            let on = lab.standins.world.running("m");
            assert_eq!(on.len(), 1, "{dies:?} at {at}: {on:?}");
        }
        _ => {
            assert_eq!(ended.state, RunState::NeedsYou, "{dies:?} at {at}");
            let fault = ended.step(0).unwrap().fault.clone().unwrap();
            assert!(
                fault.said.contains("stays")
                    || fault.kind != zastrugi_core::runs::FaultKind::Refused,
                "{fault:?}"
            );
            let on = lab.standins.world.running("m");
            assert_eq!(on.len(), 1, "{dies:?} at {at}: {on:?}");
            assert_eq!(on[0].0, stays);
        }
    }
    lab.standins.world.on_round(|_, _| {});
    if ended.state == RunState::NeedsYou {
        // Who is told to stop must be there to say that it did.
        if dies == Dies::Source {
            lab.standins.world.power(&first, true);
        }
        lab.desk
            .answer(&lab.admin, run, Resolve::Cancel)
            .await
            .unwrap();
        lab.until(run, &[RunState::Cancelled]).await;
    }
    assert_eq!(lab.standins.world.violations(), Vec::<String>::new());
}

#[sqlx::test(migrations = false)]
async fn a_destination_lost_before_any_round_or_the_switch_leaves_it_at_its_source(pool: PgPool) {
    let lab = lab(&pool, 2).await;
    for at in [1, 2, 0] {
        let source = host_of(&lab);
        broken(&lab, at, Dies::Destination).await;
        let dead = lab
            .estate()
            .hosts
            .values()
            .find(|h| h.id != source)
            .cloned();
        lab.standins.world.power(&dead.unwrap().name, true);
        let both = || lab.estate().hosts.values().all(|h| h.accepts_work());
        eventually("the other host is back", both).await;
        assert_runs_once(&lab, source).await;
    }
}

#[sqlx::test(migrations = false)]
async fn a_source_lost_before_any_round_or_the_switch_leaves_no_half_copy(pool: PgPool) {
    let lab = lab(&pool, 2).await;
    for at in [1, 2, 0] {
        let source = name(&lab, host_of(&lab));
        broken(&lab, at, Dies::Source).await;
        lab.standins.world.power(&source, true);
        let both = || lab.estate().hosts.values().all(|h| h.accepts_work());
        eventually("its host is back", both).await;
        on_again(&lab).await;
    }
}

/// It is off and nowhere else; then it is powered on and runs once.
async fn on_again(lab: &Lab) {
    let off = || lab.estate().machine_named("m").unwrap().is_off();
    eventually("the machine is off", off).await;
    let act = zastrugi_core::rooms::machines::PowerAct::On { host: None };
    let machines = vec![lab.machine("m")];
    lab.done(Proposal::Machines(machines::Ask::Power { machines, act }))
        .await;
    assert_runs_once(lab, host_of(lab)).await;
}

#[sqlx::test(migrations = false)]
async fn a_machine_that_goes_off_on_the_way_has_not_moved(pool: PgPool) {
    let lab = lab(&pool, 2).await;
    for at in [1, 2, 0] {
        broken(&lab, at, Dies::Machine).await;
        assert_eq!(lab.estate().machine_named("m").unwrap().moved, None);
        on_again(&lab).await;
    }
}

#[sqlx::test(migrations = false)]
async fn a_network_cut_or_a_cancel_leaves_it_at_its_source(pool: PgPool) {
    let lab = lab(&pool, 2).await;
    for at in [1, 2, 0] {
        let source = host_of(&lab);
        broken(&lab, at, Dies::Network).await;
        assert_runs_once(&lab, source).await;
        let network = lab.estate().networks.keys().next().copied().unwrap();
        let drifts = || {
            lab.desk
                .assess(
                    &lab.admin,
                    &Proposal::Networks(networks::Ask::Heal { network }),
                )
                .blocked()
        };
        eventually("the drift is seen", || !drifts()).await;
        lab.done(Proposal::Networks(networks::Ask::Heal { network }))
            .await;
    }
    // A cancel at the switch may come too late: then it has moved, once.
    for at in [1, 2, 0] {
        broken(&lab, at, Dies::Cancelled).await;
        assert_runs_once(&lab, host_of(&lab)).await;
    }
    lab.assert_once();
}

#[sqlx::test(migrations = false)]
async fn zastrugi_dying_in_the_middle_changes_nothing_for_the_machine(pool: PgPool) {
    let mut lab = lab(&pool, 2).await;
    for at in [1usize, 0] {
        let source = host_of(&lab);
        let hit = Arc::new(AtomicBool::new(false));
        let there = hit.clone();
        lab.standins.world.on_round(move |_, round| {
            if round == at {
                there.store(true, Ordering::SeqCst);
            }
        });
        let run: RunId = lab.start(go(&lab, |_| {})).await;
        eventually("its round begins", || hit.load(Ordering::SeqCst)).await;
        let dead = std::mem::replace(
            &mut lab.engine,
            Engine::start(lab.settings.clone()).await.unwrap(),
        );
        dead.stop().await;
        lab.desk = lab.engine.desk();
        tokio::time::sleep(Duration::from_millis(50)).await;
        lab.until(run, &[RunState::Done]).await;
        assert_ne!(host_of(&lab), source);
        assert_runs_once(&lab, host_of(&lab)).await;
    }
    lab.assert_once();
}

/// If this fails, an answer that is lost on the way leaves a machine standing still, or running twice.
#[sqlx::test(migrations = false)]
async fn a_move_whose_answers_are_lost_leaves_it_running_once(pool: PgPool) {
    let lab = lab(&pool, 2).await;
    for call in ["/arrival", "PUT /v1/machines/", "GET /v1/machines/"] {
        for kind in [Breaks::Drop, Breaks::Garbage] {
            let source = host_of(&lab);
            for host in lab.estate().hosts.values() {
                lab.standins.world.add_fault(Fault {
                    device: host.name.clone(),
                    call: call.into(),
                    kind,
                    times: 1,
                });
            }
            lab.done(go(&lab, |_| {})).await;
            lab.standins.world.clear_faults();
            assert_ne!(host_of(&lab), source, "{call} {kind:?}");
            assert_runs_once(&lab, host_of(&lab)).await;
        }
    }
    lab.assert_once();
}

/// If this fails, a machine that its source is still sending is given to others, because nobody heard from the source.
#[sqlx::test(migrations = false)]
async fn a_move_that_nobody_hears_of_keeps_its_machine(pool: PgPool) {
    let lab = lab(&pool, 2).await;
    let source = name(&lab, host_of(&lab));
    // Longer than it takes until nobody expects an answer any more.
    lab.standins.world.busy("m", 1);
    for host in lab.estate().hosts.values() {
        lab.standins.world.link(&host.name, 10);
    }
    let quiet = || {
        let view = lab.desk.look();
        let load = view.loads.machines.get(&lab.machine("m")).copied();
        let slow = |h: &Arc<zastrugi_core::estate::Host>| h.uplinks.iter().all(|u| u.mbit == 10);
        load.and_then(|l| l.writes)
            .is_some_and(|w| w.dirty.0 < 1_000_000)
            && view.estate.hosts.values().all(slow)
    };
    eventually("it hardly writes", quiet).await;
    let hit = Arc::new(AtomicBool::new(false));
    let there = hit.clone();
    lab.standins
        .world
        .on_round(move |_, _| there.store(true, Ordering::SeqCst));
    let run = lab.start(go(&lab, |_| {})).await;
    eventually("its round begins", || hit.load(Ordering::SeqCst)).await;
    lab.standins.world.add_fault(Fault {
        device: source.clone(),
        call: "/move".into(),
        kind: Breaks::Garbage,
        times: 1000,
    });
    let silent = lab.until(run, &[RunState::NeedsYou]).await;
    let fault = silent.step(0).unwrap().fault.clone().unwrap();
    assert!(fault.remedy.contains("may still be going on"), "{fault:?}");
    let machine = Object::Machine(lab.machine("m"));
    assert!(lab.desk.look().runs.holds(machine));
    lab.standins.world.clear_faults();
    lab.desk
        .answer(&lab.admin, run, Resolve::Cancel)
        .await
        .unwrap();
    lab.until(run, &[RunState::Cancelled]).await;
    assert!(!lab.desk.look().runs.holds(machine));
    assert_runs_once(&lab, host_of(&lab)).await;
    lab.assert_once();
}
