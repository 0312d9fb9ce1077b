//! Machines on a volume that is made for them, in one run.

use crate::{
    lab::{Lab, eventually},
    storage::{break_it, lab, paths},
};
use sqlx::PgPool;
use zastrugi_core::{
    estate::MachineState,
    rooms::{
        Proposal, machines,
        providing::{self, Provide},
    },
    runs::{FaultKind, RunState},
};
use zastrugi_engine::Resolve;
use zastrugi_standins::FaultKind as Breaks;

/// A machine on a new volume.
pub(crate) fn provide(lab: &Lab, name: &str, start: bool) -> Proposal {
    let Proposal::Machines(machines::Ask::Create(machines)) = lab.create(name, 1, start) else {
        panic!("not a machine");
    };
    Proposal::Providing(providing::Ask::Provide(Box::new(Provide {
        size: providing::usual(&machines),
        machines: *machines,
        array: lab.estate().array_named("shelf").map(|a| a.id),
        pool: "main".into(),
        name: format!("{name}-volume").as_str().into(),
    })))
}

/// If this fails, whoever has room in a pool only gets a volume that some hosts lack, or a machine on another one.
#[sqlx::test(migrations = false)]
async fn machines_get_a_volume_that_is_made_for_them(pool: PgPool) {
    let lab = lab(&pool, 3).await;
    lab.done(provide(&lab, "wharf", true)).await;
    assert_eq!(paths(&lab, "wharf-volume"), [2, 2, 2]);
    let volume = lab.volume_named("wharf-volume");
    assert!(volume.ready && volume.made && volume.drift(&lab.estate()).is_empty());
    let machine = lab.estate().machine_named("wharf").unwrap().clone();
    assert_eq!(machine.disks[0].volume, volume.id);
    eventually("it is up", || {
        let estate = lab.estate();
        let m = &estate.machines[&machine.id];
        m.state == MachineState::Running { guest: true }
    })
    .await;
    lab.assert_once();
}

/// If this fails, a machine that can't be made leaves somebody with a volume that nobody says a word about.
#[sqlx::test(migrations = false)]
async fn where_the_array_refuses_there_is_neither_volume_nor_machine(pool: PgPool) {
    let lab = lab(&pool, 1).await;
    for shelf in ["shelf-1", "shelf-2"] {
        break_it(&lab, shelf, "POST /redfish/v1/Storage", Breaks::Refuse, 99);
    }
    let run = lab.start(provide(&lab, "wharf", true)).await;
    let run = lab.until(run, &[RunState::NeedsYou]).await;
    let said = run.steps().find_map(|s| s.fault.clone()).unwrap();
    assert_eq!(said.kind, FaultKind::Refused, "{}", said.said);
    let cancel = lab.desk.answer(&lab.admin, run.id, Resolve::Cancel);
    cancel.await.unwrap();
    lab.until(run.id, &[RunState::Cancelled]).await;
    let estate = lab.estate();
    assert!(
        estate.machine_named("wharf").is_none(),
        "a machine without a disk is left"
    );
    assert!(estate.volumes.values().all(|v| v.name != "wharf-volume"));
}
