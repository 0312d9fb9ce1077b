//! The tour of two sites: a machine is replicated, its old points go, and its replica is started and removed.

use super::{BETWEEN_SITES, Steps, Tour, twins::Twins};
use crate::{
    drilling::{answer, asked, drill, plan},
    handover::{failover, shift},
    jobs::label,
    lab::{Lab, eventually_within},
    packages::small,
    replicas::{begin, keep, pair_up, sites, two_sites},
};
use sqlx::PgPool;
use std::collections::BTreeMap;
use zastrugi_core::rooms::{
    Proposal, handover,
    machines::{self, PowerAct},
    replicating::{self, Force},
};

async fn tour(lab: &Lab) -> Steps {
    let mut tour = Tour {
        lab,
        steps: BTreeMap::new(),
    };
    sites(lab).await;
    tour.go(small(lab, "m", 1)).await;
    tour.go(label(lab, "m")).await;
    tour.go(pair_up(lab, "")).await;
    tour.go(keep(lab, "last 1")).await;
    for _ in 0..3 {
        tour.go(begin(lab)).await;
    }
    drilled(&mut tour).await;
    let machines = vec![lab.machine("m")];
    let act = PowerAct::On { host: None };
    tour.go(Proposal::Machines(machines::Ask::Power { machines, act }))
        .await;
    tour.go(plan(lab, "")).await;
    // There and back, so that both sides are as they were.
    for _ in 0..2 {
        tour.go(shift(lab)).await;
    }
    // Declared gone though it answers: what is left is off, kept aside, and taken up.
    tour.go(failover(lab)).await;
    let machines = vec![lab.machine("m-quayside")];
    tour.go(Proposal::Handover(handover::Ask::Clear { machines }))
        .await;
    let machines = vec![lab.machine("m")];
    let act = PowerAct::Off;
    tour.go(Proposal::Machines(machines::Ask::Power { machines, act }))
        .await;
    let replica = lab.machine("m-quayside");
    tour.go(Proposal::Replicating(replicating::Ask::Start(Force {
        machine: replica,
        host: None,
        typed: "m-quayside".into(),
    })))
    .await;
    let machines = vec![replica];
    let act = PowerAct::Off;
    tour.go(Proposal::Machines(machines::Ask::Power { machines, act }))
        .await;
    tour.steps
}

/// A plan is drilled, with all that may lie between two stages.
async fn drilled(tour: &mut Tour<'_>) {
    let lab = tour.lab;
    tour.go(plan(
        lab,
        "confirm it looks right\nwait 1 s\nin m run service shell",
    ))
    .await;
    let run = lab.start(drill(lab, false)).await;
    eventually_within("somebody is asked", 60, || asked(lab).is_some()).await;
    tour.go(answer(lab, true)).await;
    tour.end(run).await;
}

/// If this fails, a power cut while bytes go between two sites does something twice, or leaves a replica that nobody goes on with.
#[sqlx::test(migrations = false)]
async fn what_goes_between_sites_is_done_once_wherever_it_ends(pool: PgPool) {
    let between = |room: &str| BETWEEN_SITES.contains(&room);
    let twins = Twins::of(&pool, two_sites, tour, between).await;
    twins.part(&pool).await.engine.stop().await;
}
