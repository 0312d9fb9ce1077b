//! Disks that several machines have, on real sockets: who writes, who takes over, what is healed, and what is left when nobody has it.

use crate::lab::{Lab, eventually};
use sqlx::PgPool;
use uuid::Uuid;
use zastrugi_core::{
    estate::{MachineState, Mode, Provisioning, SharedDisk},
    finding::Severity,
    ids::{MachineId, VolumeId},
    moment::Span,
    rooms::{
        Proposal, machines,
        machines::{AfterGrace, PowerAct},
        sharing::{Ask, Make, Source},
    },
    runs::RunState,
    shared::troubles,
    units::Bytes,
};
use zastrugi_engine::EventFilter;
use zastrugi_store::testkit::url;

/// Two hosts; `a` and `b` run, one on each.
async fn lab(pool: &PgPool) -> Lab {
    let lab = Lab::at_speed(&url(pool), 2, 20.0).await;
    lab.ready().await;
    lab.done(lab.create("a", 1, true)).await;
    lab.done(lab.create("b", 1, true)).await;
    lab
}

fn volume(lab: &Lab) -> VolumeId {
    lab.volume_named("slab").id
}

pub(crate) fn make(lab: &Lab, nodes: &[MachineId]) -> Proposal {
    Proposal::Sharing(Ask::Make(Make {
        name: "quorum".into(),
        volume: Some(volume(lab)),
        source: Source::Empty {
            size: Bytes::gib(1),
            provisioning: Provisioning::Thin,
        },
        nodes: nodes.to_vec(),
    }))
}

pub(crate) fn found(lab: &Lab) -> Option<(Uuid, SharedDisk)> {
    let estate = lab.estate();
    let volumes = estate.volumes.values();
    let mut all = volumes.flat_map(|v| v.shared.disks.iter().map(|(k, d)| (*k, d.clone())));
    all.find(|(_, d)| d.name == "quorum")
}

fn writes(lab: &Lab) -> Option<String> {
    let holder = found(lab)?.1.holder?;
    lab.estate()
        .machine_with_uuid(&holder.machine)
        .map(|m| m.name.clone())
}

async fn stop(lab: &Lab, machine: MachineId) {
    let act = PowerAct::Stop {
        grace: Span::secs(60),
        then: AfterGrace::PowerOff,
    };
    lab.done(Proposal::Machines(machines::Ask::Power {
        machines: vec![machine],
        act,
    }))
    .await;
}

/// Made for both, with both registered and one that writes; answers who writes and who stands by.
async fn clustered(lab: &Lab) -> (String, String) {
    let nodes = [lab.machine("a"), lab.machine("b")];
    lab.done(make(lab, &nodes)).await;
    eventually("both are registered", || {
        found(lab).is_some_and(|(_, d)| d.registered.len() == 2)
    })
    .await;
    let one = writes(lab).unwrap();
    let other = if one == "a" { "b" } else { "a" };
    (one, other.to_owned())
}

/// If this fails, the cluster's database is written by nobody, or by both, once a guest hangs; or nobody learns how long that took.
#[sqlx::test(migrations = false)]
async fn another_takes_over_from_a_guest_that_hangs_and_it_is_measured(pool: PgPool) {
    let lab = lab(&pool).await;
    let (one, other) = clustered(&lab).await;
    assert_eq!(lab.standins.world.writer("quorum"), Some(one.clone()));
    lab.standins.world.hang_guest(&one, false, true);
    eventually("the other writes", || writes(&lab) == Some(other.clone())).await;
    let (_, disk) = found(&lab).unwrap();
    let over = disk.takeovers.last().copied().unwrap();
    assert!(
        over.took() >= Span::secs(10),
        "nobody takes a disk from who may still write: {}",
        over.took()
    );
    let uuid = |name: &str| lab.estate().machines[&lab.machine(name)].uuid;
    assert_eq!((over.from, over.to), (uuid(&one), uuid(&other)));
    assert!(
        !disk.registered.contains_key(&uuid(&one)),
        "its registration is gone: it can't write any more"
    );
    let said = format!("{other} took quorum over from {one}");
    let events = lab.desk.events(&EventFilter::default(), 200).await.unwrap();
    let told = events.iter().filter(|e| e.text.contains(&said)).count();
    assert_eq!(told, 1, "{events:#?}");
    // It goes on, and stands by.
    lab.standins.world.hang_guest(&one, false, false);
    eventually("it is registered again", || {
        found(&lab).is_some_and(|(_, d)| d.registered.len() == 2)
    })
    .await;
    assert_eq!(writes(&lab), Some(other));
}

/// If this fails, a host's failure leaves the cluster without a writer until somebody comes.
#[sqlx::test(migrations = false)]
async fn who_stops_hands_over_at_once(pool: PgPool) {
    let lab = lab(&pool).await;
    let (one, other) = clustered(&lab).await;
    stop(&lab, lab.machine(&one)).await;
    eventually("the other writes", || writes(&lab) == Some(other.clone())).await;
    let over = found(&lab).unwrap().1.takeovers.last().copied().unwrap();
    assert!(over.took() < Span::secs(10), "{}", over.took());
}

/// If this fails, somebody's change at a host leaves the cluster with a node that can't take over, and nobody hears of it.
#[sqlx::test(migrations = false)]
async fn what_was_shared_otherwise_at_a_host_is_named_and_healed(pool: PgPool) {
    let lab = lab(&pool).await;
    let (one, other) = clustered(&lab).await;
    lab.standins.world.share_otherwise(&other, 2, false);
    let key = found(&lab).unwrap().0;
    let amiss = || {
        let disk = found(&lab).unwrap().1;
        troubles(&lab.estate(), key, &disk)
    };
    eventually("it is heard", || amiss().len() == 2).await;
    eventually("it is registered no more", || {
        found(&lab).is_some_and(|(_, d)| d.registered.len() == 1)
    })
    .await;
    let nodes = vec![lab.machine(&one), lab.machine(&other)];
    lab.done(Proposal::Sharing(Ask::Nodes { disk: key, nodes }))
        .await;
    let healed = lab.estate().machines[&lab.machine(&other)].shares[0];
    assert_eq!(
        (healed.slot.controller, healed.mode),
        (1, Mode::Reservations)
    );
    eventually("it stands by again", || amiss().is_empty()).await;
    assert_eq!(writes(&lab), Some(one), "nobody was interrupted");
}

/// If this fails, what the cluster wrote is gone once nobody shares it, or a machine keeps a disk that is no more.
#[sqlx::test(migrations = false)]
async fn what_nobody_shares_any_more_is_kept_with_what_is_on_it(pool: PgPool) {
    let lab = lab(&pool).await;
    clustered(&lab).await;
    let key = found(&lab).unwrap().0;
    let end = Proposal::Sharing(Ask::End { disk: key });
    let said = lab.desk.assess(&lab.admin, &end);
    assert!(
        said.findings()
            .iter()
            .any(|f| f.severity == Severity::Stop && f.text.contains("holds the reservation"))
    );
    for name in ["a", "b"] {
        stop(&lab, lab.machine(name)).await;
    }
    let bytes = lab.standins.world.shared("quorum").unwrap();
    assert!(!bytes.is_empty(), "who wrote left something");
    lab.done(end).await;
    assert!(found(&lab).is_none());
    assert!(lab.estate().machines.values().all(|m| m.shares.is_empty()));
    assert_eq!(
        lab.standins.world.unattached("quorum").as_ref(),
        Some(&bytes)
    );
    // And back again, as the disk of two others.
    let source = Source::Unattached { disk: key };
    let nodes = vec![lab.machine("a"), lab.machine("b")];
    let again = Make {
        name: "ledger".into(),
        volume: Some(volume(&lab)),
        source,
        nodes,
    };
    lab.done(Proposal::Sharing(Ask::Make(again))).await;
    assert_eq!(lab.standins.world.shared("ledger"), Some(bytes));
    lab.assert_once();
}

/// If this fails, both nodes of a cluster go down with one host.
#[sqlx::test(migrations = false)]
async fn a_node_starts_on_no_host_that_has_the_other(pool: PgPool) {
    let lab = lab(&pool).await;
    let (one, other) = clustered(&lab).await;
    stop(&lab, lab.machine(&other)).await;
    let here = lab.estate().machines[&lab.machine(&one)].host;
    let on = |host| {
        Proposal::Machines(machines::Ask::Power {
            machines: vec![lab.machine(&other)],
            act: PowerAct::On { host },
        })
    };
    let said = lab.desk.assess(&lab.admin, &on(here));
    assert!(said.blocked(), "{:#?}", said.findings());
    lab.done(on(None)).await;
    let there = lab.estate().machines[&lab.machine(&other)].clone();
    assert!(matches!(
        there.state,
        MachineState::Starting(_) | MachineState::Running { .. }
    ));
    assert_ne!(there.host, here);
}

/// If this fails, a second person's plan ends half-way with a machine that has a disk nobody else knows.
#[sqlx::test(migrations = false)]
async fn a_volume_that_is_full_refuses_and_nothing_is_left(pool: PgPool) {
    let lab = lab(&pool).await;
    let nodes = [lab.machine("a"), lab.machine("b")];
    let Proposal::Sharing(Ask::Make(mut ask)) = make(&lab, &nodes) else {
        panic!()
    };
    let free = lab.volume_named("slab").free();
    ask.source = Source::Empty {
        size: Bytes(free.0 - (64 << 20)),
        provisioning: Provisioning::Thick,
    };
    let proposal = Proposal::Sharing(Ask::Make(ask));
    // Somebody else fills it meanwhile.
    lab.standins.world.write("a", 2 << 30);
    let run = lab.start(proposal).await;
    let ended = lab.until(run, &[RunState::NeedsYou, RunState::Done]).await;
    assert_eq!(ended.state, RunState::NeedsYou);
    let fault = ended.steps().find_map(|s| s.fault.clone()).unwrap();
    assert!(fault.said.contains("are needed"), "{fault:?}");
    assert!(found(&lab).is_none());
    assert!(lab.estate().machines.values().all(|m| m.shares.is_empty()));
}
