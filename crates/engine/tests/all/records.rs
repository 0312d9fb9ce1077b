//! Records that no machine is held for, on real sockets: found by themselves, registered, compared, forgotten.

use crate::lab::{Lab, eventually};
use sqlx::PgPool;
use uuid::Uuid;
use zastrugi_core::{
    estate::{Machine, MachineState, Stray, Why},
    ids::VolumeId,
    rooms::{
        Proposal, machines,
        machines::PowerAct,
        records::{Ask, Records},
    },
    units::Bytes,
};
use zastrugi_store::testkit::url;

/// Two hosts, two volumes; `m` lies on the first and is off, with something on its disk.
async fn lab(pool: &PgPool) -> Lab {
    let lab = Lab::at_speed(&url(pool), 2, 20.0).await;
    lab.ready().await;
    lab.done(lab.array("first-light").await).await;
    lab.done(lab.volume("quay", Some(64)).await).await;
    let mut ask = lab.create("m", 1, true);
    if let Proposal::Machines(machines::Ask::Create(create)) = &mut ask {
        create.volume = Some(lab.volume_named("slab").id);
    }
    lab.done(ask).await;
    lab.standins.world.write("m", 1 << 30);
    power(&lab, "m", PowerAct::Off).await;
    lab
}

async fn power(lab: &Lab, name: &str, act: PowerAct) {
    let machines = vec![lab.machine(name)];
    lab.done(Proposal::Machines(machines::Ask::Power { machines, act }))
        .await;
}

/// The records to settle on a volume: unknown, or a second one.
pub(crate) fn strays(lab: &Lab, volume: &str) -> Vec<(Uuid, String, bool)> {
    let estate = lab.estate();
    let volume = lab.volume_named(volume);
    let said = |(uuid, s, why): (Uuid, &Stray, Why)| (uuid, s.name.clone(), why != Why::Unknown);
    volume.strays(&estate).map(said).collect()
}

/// Until it is found; answers which one it is.
pub(crate) async fn found(lab: &Lab, volume: &str, name: &str) -> Records {
    let there = || strays(lab, volume).into_iter().find(|(_, n, _)| n == name);
    eventually("a record is found", || there().is_some()).await;
    Records {
        volume: lab.volume_named(volume).id,
        records: there().map(|(uuid, ..)| uuid).into_iter().collect(),
    }
}

fn home(lab: &Lab, name: &str) -> VolumeId {
    lab.estate().machine_named(name).unwrap().disks[0].volume
}

fn machine(lab: &Lab, name: &str) -> Machine {
    Machine::clone(lab.estate().machine_named(name).unwrap())
}

/// If this fails, a machine that lies on a volume and that nobody knows is not found, or comes with other disks than its own.
#[sqlx::test(migrations = false)]
async fn a_record_that_nobody_knows_is_found_and_registered_with_what_is_on_it(pool: PgPool) {
    let lab = lab(&pool).await;
    assert!(lab.standins.world.lays("m", "quay", Some("payroll")));
    let record = found(&lab, "quay", "payroll").await;
    assert_eq!(strays(&lab, "slab"), []);
    lab.done(Proposal::Records(Ask::Register(record))).await;
    assert_eq!(strays(&lab, "quay"), []);
    let payroll = machine(&lab, "payroll");
    assert_eq!(payroll.state, MachineState::Off);
    assert_eq!(home(&lab, "payroll"), lab.volume_named("quay").id);
    assert_eq!(payroll.disks[0].size, machine(&lab, "m").disks[0].size);
    power(&lab, "payroll", PowerAct::On { host: None }).await;
    let world = &lab.standins.world;
    assert_eq!(world.running("payroll").len(), 1);
    assert_eq!(world.violations(), Vec::<String>::new());
    lab.engine.stop().await;
}

/// If this fails, a machine with two records is started by the wrong one, or taken apart while nobody knows which is meant.
#[sqlx::test(migrations = false)]
async fn of_two_records_of_a_machine_its_own_is_started_and_the_other_can_be_forgotten(
    pool: PgPool,
) {
    let lab = lab(&pool).await;
    assert!(lab.standins.world.lays("m", "quay", None));
    let record = found(&lab, "quay", "m").await;
    let delete = Proposal::Machines(machines::Ask::Delete {
        machines: vec![lab.machine("m")],
    });
    assert!(lab.desk.assess(&lab.admin, &delete).blocked());
    power(&lab, "m", PowerAct::On { host: None }).await;
    assert_eq!(lab.standins.world.running("m").len(), 1);
    assert_eq!(home(&lab, "m"), lab.volume_named("slab").id);
    // Its own goes on, whatever becomes of the other.
    lab.done(Proposal::Records(Ask::Forget(record))).await;
    assert_eq!(strays(&lab, "quay"), []);
    assert_eq!(lab.standins.world.lies_on("m"), ["slab"]);
    assert_eq!(lab.standins.world.running("m").len(), 1);
    let quay = lab.volume_named("quay");
    let left: Vec<_> = quay.unattached.disks.values().collect();
    assert_eq!(left.len(), 1);
    assert_eq!(left[0].had, "m");
    assert!(
        left[0].takes >= Bytes::gib(1),
        "what was on it is kept: {}",
        left[0].takes
    );
    assert_eq!(lab.standins.world.violations(), Vec::<String>::new());
    lab.engine.stop().await;
}

/// If this fails, whoever says that the other record is the machine gets the same one as before, or loses the first.
#[sqlx::test(migrations = false)]
async fn the_other_record_can_be_taken_instead(pool: PgPool) {
    let lab = lab(&pool).await;
    let world = &lab.standins.world;
    assert!(world.lays("m", "quay", None));
    let record = found(&lab, "quay", "m").await;
    lab.done(Proposal::Records(Ask::Register(record))).await;
    assert_eq!(home(&lab, "m"), lab.volume_named("quay").id);
    power(&lab, "m", PowerAct::On { host: None }).await;
    let on = || matches!(machine(&lab, "m").state, MachineState::Running { .. });
    eventually("it runs", on).await;
    assert_eq!(home(&lab, "m"), lab.volume_named("quay").id);
    let record = found(&lab, "slab", "m").await;
    lab.done(Proposal::Records(Ask::Forget(record))).await;
    assert_eq!(world.lies_on("m"), ["quay"]);
    assert_eq!(world.violations(), Vec::<String>::new());
    lab.engine.stop().await;
}
