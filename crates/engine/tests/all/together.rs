//! Machines that share an instant, on real sockets: all of them stand still while their snapshots are taken, or none has one.

use crate::{
    backups::make_store,
    jobs::{begin, keep},
    lab::{Lab, eventually},
    packages::small,
    proving::{must, prove},
    restoring::newest,
};
use sqlx::PgPool;
use std::{collections::BTreeSet, time::Duration};
use uuid::Uuid;
use zastrugi_core::{
    estate::{Consistent, NetRole, StoredPoint},
    ids::MachineId,
    moment::Span,
    rooms::{
        Proposal,
        edits::{self, Set, Target},
        jobs::{self, How, Keep},
        machines::{self, PowerAct},
        networks::{self, CreateNetwork},
        snapshots::{Ask, Quiet, Take},
    },
    runs::RunState,
};
use zastrugi_engine::{EventFilter, Resolve};
use zastrugi_standins::{Fault, FaultKind as Breaks};
use zastrugi_store::testkit::url;

pub(crate) fn together(machines: &[MachineId]) -> Proposal {
    Proposal::Snapshots(Ask::Take(Take {
        machines: machines.to_vec(),
        name: "all".into(),
        note: "".into(),
        quiet: Quiet::Only,
        memory: false,
        together: true,
        ends: None,
    }))
}

/// Three machines that are on, two of them of one application, and a store.
async fn lab(pool: &PgPool) -> Lab {
    let lab = Lab::at_speed(&url(pool), 2, 40.0).await;
    lab.ready().await;
    for (name, app) in [("front", "shop"), ("ledger", "shop"), ("other", "")] {
        lab.done(small(&lab, name, 1)).await;
        let label = |key: &str, value: &str| Set::Label {
            key: key.into(),
            value: value.into(),
        };
        let mut sets = vec![label("env", "prod")];
        if !app.is_empty() {
            sets.push(label("app", app));
        }
        lab.done(Proposal::Edits(edits::Ask::Edit {
            targets: vec![Target::Machine(lab.machine(name))],
            sets,
        }))
        .await;
    }
    let machines = ["front", "ledger", "other"]
        .map(|n| lab.machine(n))
        .to_vec();
    lab.done(Proposal::Machines(machines::Ask::Power {
        machines,
        act: PowerAct::On { host: None },
    }))
    .await;
    lab.done(make_store(&lab, "hill").await).await;
    let Proposal::Jobs(jobs::Ask::Keep(ask)) =
        keep(&lab, "FREQ=DAILY;BYHOUR=3;BYMINUTE=0", "last 5")
    else {
        panic!("no job");
    };
    let how = How {
        together: "app".into(),
        ..How::default()
    };
    lab.done(Proposal::Jobs(jobs::Ask::Keep(Keep { how, ..ask })))
        .await;
    lab
}

fn points(lab: &Lab, name: &str) -> Vec<StoredPoint> {
    let estate = lab.estate();
    let machine = estate.machine_named(name).unwrap();
    let all = estate.backups_of(machine);
    all.flat_map(|s| s.points.clone()).collect()
}

fn snapshots(lab: &Lab) -> usize {
    let estate = lab.estate();
    estate
        .machines
        .values()
        .map(|m| m.snapshots.all.len())
        .sum()
}

async fn told(lab: &Lab, words: &str) -> bool {
    let events = lab.desk.events(&EventFilter::default(), 400).await.unwrap();
    events.iter().any(|e| e.text.contains(words))
}

/// If this fails, what an application has on two machines is copied from two instants, and fits together nowhere.
#[sqlx::test(migrations = false)]
async fn what_shares_a_point_is_of_one_instant(pool: PgPool) {
    let lab = lab(&pool).await;
    lab.done(begin(&lab)).await;
    let groups: Vec<Option<Uuid>> = ["front", "ledger", "other"]
        .iter()
        .map(|n| points(&lab, n)[0].group)
        .collect();
    assert!(groups[0].is_some() && groups[0] == groups[1], "{groups:?}");
    assert_eq!(groups[2], None);
    for name in ["front", "ledger"] {
        assert_eq!(points(&lab, name)[0].consistent, Consistent::Quiet);
    }
    assert!(told(&lab, "are of one instant: all stood still").await);
    assert_eq!(snapshots(&lab), 0, "marks go again");
    lab.done(begin(&lab)).await;
    let all: BTreeSet<Option<Uuid>> = points(&lab, "front").iter().map(|p| p.group).collect();
    assert_eq!(all.len(), 2, "each run has its own instant");
    lab.assert_once();
}

/// A network that ends at each host.
fn island(lab: &Lab) -> Proposal {
    Proposal::Networks(networks::Ask::Create(CreateNetwork {
        name: "island".into(),
        cluster: lab.estate().clusters.keys().next().copied(),
        role: NetRole::Guest,
        vlan: None,
        mtu: 1500,
        subnets: vec![],
        uplinks: BTreeSet::new(),
    }))
}

/// If this fails, an application on two machines is told not to come up, as each was booted where it did not hear the other.
#[sqlx::test(migrations = false)]
async fn a_group_is_proven_on_one_network(pool: PgPool) {
    let lab = lab(&pool).await;
    lab.done(island(&lab)).await;
    lab.done(must(&lab, "ledger", "tcp 22")).await;
    lab.done(begin(&lab)).await;
    let at = newest(&lab, "front");
    let run = lab.start(prove(&lab, at, Span::mins(2)).await).await;
    eventually("both are there", || lab.estate().proving().count() == 2).await;
    let estate = lab.estate();
    let island = estate
        .networks
        .values()
        .find(|n| n.name == "island")
        .unwrap()
        .id;
    for copy in estate.proving() {
        let networks: Vec<_> = copy.nics.iter().map(|n| n.network).collect();
        assert!(networks.iter().all(|n| *n == Some(island)), "{networks:?}");
    }
    lab.until(run, &[RunState::Done]).await;
    let proofs: Vec<_> = ["front", "ledger"]
        .iter()
        .map(|n| points(&lab, n)[0].proof.clone().unwrap())
        .collect();
    assert!(proofs.iter().all(|p| p.is_good()), "{proofs:?}");
    assert_eq!(proofs[0].host, proofs[1].host, "they hear each other");
    assert_eq!(
        (proofs[0].with.join(","), proofs[1].with.join(",")),
        ("ledger".into(), "front".into())
    );
    assert_eq!(lab.estate().machines.len(), 3, "copies are gone");
    assert!(
        lab.estate()
            .of_one_instant(newest(&lab, "other").into())
            .len()
            == 1
    );
    lab.assert_once();
}

/// If this fails, the first that is copied is proven alone, and whether the application comes up nobody tried.
#[sqlx::test(migrations = false)]
async fn a_job_proves_a_group_once_all_of_it_is_there(pool: PgPool) {
    let lab = lab(&pool).await;
    lab.done(island(&lab)).await;
    let Proposal::Jobs(jobs::Ask::Keep(ask)) =
        keep(&lab, "FREQ=DAILY;BYHOUR=3;BYMINUTE=0", "last 5")
    else {
        panic!("no job");
    };
    let ask = Keep {
        how: How {
            together: "app".into(),
            ..How::default()
        },
        proves: Some(Span::days(1)),
        ..ask
    };
    lab.done(Proposal::Jobs(jobs::Ask::Keep(ask))).await;
    let ledger = lab.estate().machine_named("ledger").unwrap().uuid;
    for host in ["h1", "h2"] {
        lab.standins.world.add_fault(Fault {
            device: host.into(),
            call: format!("machines/{ledger}/marks/"),
            kind: Breaks::Refuse,
            times: 99,
        });
    }
    let run = lab.start(begin(&lab)).await;
    lab.until(run, &[RunState::NeedsYou]).await;
    assert_eq!(
        (points(&lab, "front").len(), points(&lab, "ledger").len()),
        (1, 0)
    );
    // It is looked every 5 s what is to be proven.
    tokio::time::sleep(Duration::from_secs(11)).await;
    assert!(points(&lab, "front")[0].proof.is_none(), "proven alone");
    assert_eq!(lab.estate().proving().count(), 0);
    lab.standins.world.clear_faults();
    lab.desk
        .answer(&lab.admin, run, Resolve::Retry)
        .await
        .unwrap();
    lab.until(run, &[RunState::Done]).await;
    eventually("they are proven", || {
        points(&lab, "front")[0].proof.is_some() && points(&lab, "ledger")[0].proof.is_some()
    })
    .await;
    let with = |name: &str| points(&lab, name)[0].proof.clone().unwrap().with.join(",");
    assert_eq!(
        (with("front"), with("ledger")),
        ("ledger".into(), "front".into())
    );
    lab.assert_once();
}

/// If this fails, a group is copied without the one that did not stand still, or a snapshot of a failed attempt stays.
#[sqlx::test(migrations = false)]
async fn where_one_does_not_stand_still_none_has_a_snapshot(pool: PgPool) {
    let lab = lab(&pool).await;
    lab.standins.world.slow_guest("ledger", true);
    let run = lab.start(begin(&lab)).await;
    let run = lab.until(run, &[RunState::NeedsYou]).await;
    let said = run.steps().find_map(|s| s.fault.clone()).unwrap();
    assert!(
        said.said.contains("ledger") && said.said.contains("quiet"),
        "{}",
        said.said
    );
    assert!(points(&lab, "front").is_empty() && points(&lab, "ledger").is_empty());
    let own = |name: &str| {
        lab.estate()
            .machine_named(name)
            .unwrap()
            .snapshots
            .all
            .len()
    };
    assert_eq!((own("front"), own("ledger")), (0, 0));
    // The guest of the other goes on at once.
    let machines = [lab.machine("front")];
    assert!(lab.standins.world.stands_still("front").is_none());
    lab.standins.world.slow_guest("ledger", false);
    lab.desk
        .answer(&lab.admin, run.id, Resolve::Retry)
        .await
        .unwrap();
    lab.until(run.id, &[RunState::Done]).await;
    assert_eq!(
        points(&lab, "front")[0].group,
        points(&lab, "ledger")[0].group
    );
    assert_eq!(points(&lab, "other").len(), 1);
    // Whose agent is silent is known before: nobody begins with it.
    lab.standins.world.hang_guest("ledger", true, true);
    crate::lab::eventually("it is seen", || {
        let estate = lab.estate();
        let m = estate.machine_named("ledger").unwrap();
        m.state == zastrugi_core::estate::MachineState::Running { guest: false }
    })
    .await;
    lab.done(begin(&lab)).await;
    assert_eq!(
        points(&lab, "front").len(),
        1,
        "all of one instant, or none"
    );
    assert_eq!(points(&lab, "other").len(), 2);
    let all = [machines[0], lab.machine("ledger")];
    let refused = lab.desk.assess(&lab.admin, &together(&all));
    let stop = refused.findings().iter().find(|f| f.stops()).unwrap();
    assert!(stop.text.contains("ledger"), "{}", stop.text);
}
