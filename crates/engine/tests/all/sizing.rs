//! Machines that grow while they run, and changes that wait for a restart, on real sockets.

use crate::lab::{Lab, eventually};
use sqlx::PgPool;
use zastrugi_core::{
    estate::{Machine, MachineState, Memory},
    moment::Span,
    rooms::{
        Proposal,
        edits::{Ask, Set, Target},
        growing,
        machines::{self, AfterGrace, PowerAct},
    },
    runs::RunState,
    units::Bytes,
};
use zastrugi_store::testkit::url;

pub(crate) fn edit(lab: &Lab, sets: Vec<Set>) -> Proposal {
    Proposal::Edits(Ask::Edit {
        targets: vec![Target::Machine(lab.machine("m"))],
        sets,
    })
}

pub(crate) fn memory(kept: u64, size: u64, max: u64) -> Memory {
    let [kept, size, max] = [kept, size, max].map(Bytes::gib);
    Memory { kept, size, max }
}

fn machine(lab: &Lab) -> Machine {
    Machine::clone(lab.estate().machine_named("m").unwrap())
}

/// Machine `m` runs with 2 GiB that may grow to 8, and its vCPUs to 8; its guest takes more.
async fn lab(pool: &PgPool) -> Lab {
    let lab = Lab::with(&url(pool), crate::lab::scenario(2), 20.0, |_| {}).await;
    lab.ready().await;
    lab.migration_network().await;
    lab.done(lab.create("m", 1, false)).await;
    let sets = vec![Set::Memory(memory(1, 2, 8)), Set::VCpusMax(8)];
    lab.done(edit(&lab, sets)).await;
    lab.done(power(&lab, PowerAct::On { host: None })).await;
    takes(&lab, true).await;
    lab
}

fn power(lab: &Lab, act: PowerAct) -> Proposal {
    Proposal::Machines(machines::Ask::Power {
        machines: vec![lab.machine("m")],
        act,
    })
}

pub(crate) async fn takes(lab: &Lab, more: bool) {
    let known = || {
        let m = machine(lab);
        m.state == MachineState::Running { guest: true } && m.grows.memory == more
    };
    eventually("what its guest takes is known", known).await;
}

/// If this fails, a machine has to be restarted for memory that its guest would take, or is told to have what it hasn't.
#[sqlx::test(migrations = false)]
async fn memory_and_vcpus_are_given_to_a_guest_that_runs(pool: PgPool) {
    let lab = lab(&pool).await;
    let was = machine(&lab).vcpus;
    lab.done(edit(
        &lab,
        vec![Set::VCpus(was + 1), Set::Memory(memory(1, 4, 8))],
    ))
    .await;
    let m = machine(&lab);
    assert_eq!(
        (m.runs_with().vcpus, m.runs_with().memory.size, m.now),
        (was + 1, Bytes::gib(4), None)
    );
    assert_eq!(lab.standins.world.runs_with("m"), Some((was + 1, 4 << 30)));
    // What it runs with moves with it, and is what its host says.
    let seen = || {
        machine(&lab).now.is_none() && lab.standins.world.runs_with("m") == Some((was + 1, 4 << 30))
    };
    eventually("its host says the same", seen).await;
    lab.assert_once();
}

/// If this fails, a change that waits is lost with the restart that it waits for, or is still said to wait after it.
#[sqlx::test(migrations = false)]
async fn what_waits_counts_from_the_next_start_and_can_be_withdrawn(pool: PgPool) {
    let lab = lab(&pool).await;
    let was = machine(&lab);
    lab.done(edit(&lab, vec![Set::Memory(memory(1, 1, 8))]))
        .await;
    let waits = machine(&lab);
    assert_eq!(waits.memory.size, Bytes::gib(1));
    assert_eq!(
        waits.runs_with().memory.size,
        Bytes::gib(2),
        "nothing is taken from it"
    );
    assert_eq!(
        lab.standins.world.runs_with("m"),
        Some((was.vcpus, 2 << 30))
    );
    let withdraw = Proposal::Edits(Ask::Withdraw {
        machines: vec![was.id],
    });
    lab.done(withdraw).await;
    assert_eq!(
        (machine(&lab).memory, machine(&lab).now),
        (was.memory, None)
    );
    // Asked for again, and restarted.
    lab.done(edit(&lab, vec![Set::VCpus(9)])).await;
    assert!(machine(&lab).now.is_some());
    let restart = PowerAct::Restart {
        grace: Span::secs(60),
        then: AfterGrace::LeaveOn,
    };
    lab.done(power(&lab, restart)).await;
    let counts = || {
        machine(&lab).now.is_none() && lab.standins.world.runs_with("m").is_some_and(|r| r.0 == 9)
    };
    eventually("it counts", counts).await;
}

/// If this fails, a guest that takes nothing while it runs fails a run, or stands as if it had taken it.
#[sqlx::test(migrations = false)]
async fn a_guest_that_takes_nothing_is_known_before_and_said_when_it_changes_its_mind(
    pool: PgPool,
) {
    let lab = lab(&pool).await;
    lab.standins.world.stiff_guest("m", true);
    takes(&lab, false).await;
    lab.done(edit(&lab, vec![Set::Memory(memory(1, 3, 8))]))
        .await;
    assert_eq!(
        machine(&lab).runs_with().memory.size,
        Bytes::gib(2),
        "it waits"
    );
    // It is stiff once more between the look and the call.
    lab.standins.world.stiff_guest("m", false);
    takes(&lab, true).await;
    let ask = edit(&lab, vec![Set::Memory(memory(1, 4, 8))]);
    lab.standins.world.stiff_guest("m", true);
    let run = lab.start(ask).await;
    let ended = lab.until(run, &[RunState::NeedsYou, RunState::Done]).await;
    if ended.state == RunState::NeedsYou {
        let fault = ended.steps().find_map(|s| s.fault.clone()).unwrap();
        assert!(fault.said.contains("does not take it"), "{fault:?}");
    }
    assert_eq!(machine(&lab).runs_with().memory.size, Bytes::gib(2));
}

/// If this fails, a full file system waits for a night in which its machine may be stopped.
#[sqlx::test(migrations = false)]
async fn a_disk_is_made_larger_while_its_machine_runs(pool: PgPool) {
    let lab = lab(&pool).await;
    let was = machine(&lab).disks[0].size;
    let size = was + Bytes::gib(5);
    lab.done(edit(
        &lab,
        vec![Set::DiskSize {
            disk: 0,
            key: None,
            size,
        }],
    ))
    .await;
    assert_eq!(machine(&lab).disks[0].size, size);
    assert_eq!(lab.standins.world.disks("m"), [size.0]);
    assert_eq!(lab.standins.world.running("m").len(), 1, "it was never off");
    lab.assert_once();
}

/// If this fails, a machine that is given more than its host has ends half-way: moved, and as small as before.
#[sqlx::test(migrations = false)]
async fn it_is_moved_and_then_given_more_in_one_run(pool: PgPool) {
    let lab = lab(&pool).await;
    let here = machine(&lab).host;
    let other = lab
        .estate()
        .hosts
        .keys()
        .copied()
        .find(|h| Some(*h) != here);
    let ask = Proposal::Growing(growing::Ask::Grow(growing::Grow {
        machine: lab.machine("m"),
        memory: Some(memory(1, 6, 8)),
        vcpus: Some(4),
        to: other,
        slow: false,
        force: true,
        wire: true,
    }));
    lab.done(ask).await;
    let there = machine(&lab);
    assert_eq!(there.host, other);
    assert_eq!(
        (there.runs_with().memory.size, there.runs_with().vcpus),
        (Bytes::gib(6), 4)
    );
    assert!(there.now.is_none(), "it starts with that too");
}
