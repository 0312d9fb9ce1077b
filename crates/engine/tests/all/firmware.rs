//! Firmware and security chips on real sockets: a guest that is encrypted boots wherever its machine goes, and its copy asks for the key.

use crate::lab::{Lab, eventually};
use crate::snapshots::{back, named, take};
use crate::templates::copies;
use sqlx::PgPool;
use zastrugi_core::{
    copying::Source,
    estate::{FirmwareKind, FirmwareWish, MachineState},
    finding::Severity,
    moment::Span,
    rooms::{
        Proposal, machines,
        machines::{AfterGrace, PowerAct},
        moving,
        moving::{DisksTo, Move},
    },
};
use zastrugi_store::testkit::url;

/// Two hosts; `m` runs with secure boot and a chip, and its disk is encrypted.
async fn lab(pool: &PgPool) -> Lab {
    let lab = Lab::at_speed(&url(pool), 2, 20.0).await;
    lab.ready().await;
    lab.migration_network().await;
    let mut ask = lab.create("m", 1, true);
    if let Proposal::Machines(machines::Ask::Create(create)) = &mut ask {
        create.firmware = FirmwareWish {
            kind: Some(FirmwareKind::Secure),
            chip: Some(true),
        };
    }
    lab.done(ask).await;
    assert!(lab.standins.world.encrypt("m"));
    lab
}

fn holds(lab: &Lab, name: &str) -> Vec<String> {
    let estate = lab.estate();
    let firmware = estate.machine_named(name).unwrap().firmware.clone();
    firmware
        .and_then(|f| f.chip)
        .map_or_else(Vec::new, |c| c.holds)
}

async fn power(lab: &Lab, name: &str, act: PowerAct) {
    let machines = vec![lab.machine(name)];
    lab.done(Proposal::Machines(machines::Ask::Power { machines, act }))
        .await;
}

fn is_up(lab: &Lab, name: &str) -> bool {
    lab.estate().machine_named(name).unwrap().state == MachineState::Running { guest: true }
}

/// If this fails, a machine that was moved asks for a recovery key that nobody has at hand.
#[sqlx::test(migrations = false)]
async fn the_chip_goes_wherever_its_machine_goes(pool: PgPool) {
    let lab = lab(&pool).await;
    eventually("what it holds is told", || {
        holds(&lab, "m") == ["the key of disk 1"]
    })
    .await;
    let told = lab
        .estate()
        .machine_named("m")
        .unwrap()
        .firmware
        .clone()
        .unwrap();
    assert_eq!(told.kind, FirmwareKind::Secure);
    let chip = lab.standins.world.chip("m");
    let to = lab
        .estate()
        .hosts
        .keys()
        .copied()
        .find(|h| Some(*h) != lab.estate().machine_named("m").unwrap().host);
    let go = |to, disks| {
        Proposal::Moving(moving::Ask::Move(Move {
            machines: vec![lab.machine("m")],
            to,
            disks,
            slow: false,
            force: true,
            wire: true,
        }))
    };
    lab.done(go(to, None)).await;
    assert_eq!(lab.standins.world.chip("m"), chip);
    let here = lab.estate().machine_named("m").unwrap().disks[0].volume;
    let other = lab.estate().volumes.keys().copied().find(|v| *v != here);
    if let Some(volume) = other {
        lab.done(go(
            None,
            Some(DisksTo {
                volume: Some(volume),
                stay: true,
            }),
        ))
        .await;
        assert_eq!(lab.standins.world.chip("m"), chip);
    }
    power(
        &lab,
        "m",
        PowerAct::Stop {
            grace: Span::secs(60),
            then: AfterGrace::PowerOff,
        },
    )
    .await;
    power(&lab, "m", PowerAct::On { host: None }).await;
    eventually("it boots without anybody's key", || is_up(&lab, "m")).await;
}

/// If this fails, going back to a snapshot locks somebody out of their own disk.
#[sqlx::test(migrations = false)]
async fn going_back_keeps_the_chip(pool: PgPool) {
    let lab = lab(&pool).await;
    let m = lab.machine("m");
    lab.done(take(m, "eve", |_| {})).await;
    let chip = lab.standins.world.chip("m");
    lab.done(back(m, named(&lab, "m", "eve").uuid, false)).await;
    assert_eq!(lab.standins.world.chip("m"), chip);
    eventually("it is up", || is_up(&lab, "m")).await;
}

/// If this fails, a copy either starts with another machine's secrets, or stands still and nobody was told why.
#[sqlx::test(migrations = false)]
async fn a_copy_has_another_chip_and_asks_for_the_key(pool: PgPool) {
    let lab = lab(&pool).await;
    eventually("what it holds is told", || !holds(&lab, "m").is_empty()).await;
    power(&lab, "m", PowerAct::Off).await;
    let source = Source::Machine {
        machine: lab.machine("m"),
        snapshot: None,
    };
    let ask = copies(&lab, "twin", 1, source, false);
    let said = lab.desk.assess(&lab.admin, &ask);
    assert!(
        said.findings()
            .iter()
            .any(|f| f.severity == Severity::Mind && f.text.contains("the key of disk 1")),
        "{:#?}",
        said.findings()
    );
    lab.done(ask).await;
    let (ours, theirs) = (
        lab.standins.world.chip("m").unwrap(),
        lab.standins.world.chip("twin").unwrap(),
    );
    assert_ne!(ours.0, theirs.0);
    assert_eq!(theirs.1, 0, "it knows no key");
    let run = lab
        .start(Proposal::Machines(machines::Ask::Power {
            machines: vec![lab.machine("twin")],
            act: PowerAct::On { host: None },
        }))
        .await;
    eventually("it says what it waits for", || {
        matches!(&lab.estate().machine_named("twin").unwrap().state, MachineState::Starting(phase) if phase.contains("recovery key"))
    })
    .await;
    lab.standins.world.unlock("twin");
    lab.until(run, &[zastrugi_core::runs::RunState::Done]).await;
    eventually("it is up", || is_up(&lab, "twin")).await;
    eventually("its own chip keeps the key", || {
        holds(&lab, "twin") == ["the key of disk 1"]
    })
    .await;
}
