//! Hosts that fail in every way, and machines that come back by themselves: the guard on real sockets.

use crate::lab::{HASTE, Lab, eventually_within};
use sqlx::PgPool;
use std::{sync::Arc, time::Duration};
use zastrugi_core::{
    estate::{Act, Condition, Failure, FailureStage, MachineState, Wanted},
    ids::{HostId, MachineId},
    rooms::{Proposal, storage},
};
use zastrugi_engine::EventFilter;
use zastrugi_standins::Deceit;

/// Machines that are up on one host, which is then looked at for a whole lease.
async fn settled(lab: &Lab, machines: u32) -> (Vec<MachineId>, HostId, String) {
    lab.ready().await;
    lab.done(lab.create("gate-{1}", machines, true)).await;
    let estate = lab.estate();
    let host = estate
        .machines
        .values()
        .next()
        .and_then(|m| m.host)
        .unwrap();
    let on = estate.machines_on(host).map(|m| m.id).collect();
    // Nobody is judged before one full lease was looked at.
    tokio::time::sleep(Duration::from_millis(62_000 / HASTE)).await;
    (on, host, estate.hosts[&host].name.clone())
}

fn failure(lab: &Lab, host: HostId) -> Option<Arc<Failure>> {
    let all = lab.estate().failures.clone();
    all.values().rev().find(|f| f.host == host).cloned()
}

fn up_elsewhere(lab: &Lab, machines: &[MachineId], host: HostId) -> bool {
    let estate = lab.estate();
    machines.iter().all(|id| {
        let m = &estate.machines[id];
        matches!(m.state, MachineState::Running { guest: true })
            && m.host.is_some_and(|h| h != host)
    })
}

async fn comes_back(lab: &Lab, machines: &[MachineId], host: HostId) {
    eventually_within("its machines are up elsewhere", 60, || {
        up_elsewhere(lab, machines, host)
    })
    .await;
    let over = || failure(lab, host).is_some_and(|f| f.stage == FailureStage::Over);
    eventually_within("its story has an end", 20, over).await;
    assert_eq!(lab.standins.world.violations(), Vec::<String>::new());
}

/// How often a host's controller was told to switch it off, by its own log.
fn resets(lab: &Lab, host: &str) -> usize {
    let deeds = lab.standins.world.deeds();
    deeds
        .get(&format!("{host} reset ForceOff"))
        .map_or(0, |n| *n as usize)
}

#[sqlx::test(migrations = false)]
async fn a_host_that_loses_its_power_is_proved_off_and_its_machines_run_elsewhere(pool: PgPool) {
    let lab = Lab::guarded(&pool, 3).await;
    let (machines, host, name) = settled(&lab, 6).await;
    lab.standins.world.power(&name, false);
    comes_back(&lab, &machines, host).await;
    let story = failure(&lab, host).unwrap();
    assert!(
        story
            .lines
            .iter()
            .any(|l| l.text.contains("its controller says that it is off")),
        "{story:#?}"
    );
    let story = lab.told(host).await;
    assert!(story.foretold.is_some());
    assert!(matches!(
        lab.estate().hosts[&host].condition,
        Condition::Off { .. }
    ));
    assert_eq!(resets(&lab, &name), 0, "what is off is not switched off");
    // It comes back, and starts nothing.
    lab.standins.world.power(&name, true);
    eventually_within("it answers", 10, || {
        lab.estate().hosts[&host].accepts_work()
    })
    .await;
    assert!(up_elsewhere(&lab, &machines, host));
}

#[sqlx::test(migrations = false)]
async fn a_host_that_hangs_is_switched_off_once(pool: PgPool) {
    let lab = Lab::guarded(&pool, 3).await;
    let (machines, host, name) = settled(&lab, 3).await;
    lab.standins.world.arm(&name, false);
    tokio::time::sleep(Duration::from_millis(1500)).await;
    lab.standins.world.stall(&name, true);
    comes_back(&lab, &machines, host).await;
    assert_eq!(resets(&lab, &name), 1, "each reset is sent once");
}

#[sqlx::test(migrations = false)]
async fn power_that_is_lost_with_the_controller_is_proved_by_the_watchdog_and_else_waits_for_a_person(
    pool: PgPool,
) {
    let lab = Lab::guarded(&pool, 3).await;
    let (machines, host, name) = settled(&lab, 3).await;
    lab.standins.world.power(&name, false);
    lab.standins.world.silence_bmc(&name, true);
    comes_back(&lab, &machines, host).await;
    let story = failure(&lab, host).unwrap();
    assert!(
        story
            .lines
            .iter()
            .any(|l| l.text.contains("its watchdog was armed")),
        "{story:#?}"
    );
    assert!(!story.on_word);
}

#[sqlx::test(migrations = false)]
async fn a_controller_that_does_nothing_or_is_another_host_s_proves_nothing(pool: PgPool) {
    let lab = Lab::guarded(&pool, 3).await;
    let (machines, host, name) = settled(&lab, 3).await;
    lab.standins.world.arm(&name, false);
    lab.standins.world.deceive(&name, Deceit::OtherSerial);
    tokio::time::sleep(Duration::from_millis(1500)).await;
    lab.standins.world.stall(&name, true);
    let waits = || failure(&lab, host).is_some_and(|f| f.waits().is_some());
    eventually_within("a person is asked for", 40, waits).await;
    let story = failure(&lab, host).unwrap();
    assert!(
        story.waits().unwrap().contains("ANOTHER-HOST"),
        "{story:#?}"
    );
    assert!(
        lab.estate().machines_fallen().count() == 0,
        "nothing is proved"
    );
    // The right one again, and all goes on by itself.
    lab.standins.world.deceive(&name, Deceit::None);
    comes_back(&lab, &machines, host).await;
    assert_eq!(resets(&lab, &name), 1);
}

#[sqlx::test(migrations = false)]
async fn a_dead_agent_takes_no_machine_down_and_a_controller_that_lies_about_it_is_not_even_asked(
    pool: PgPool,
) {
    let lab = Lab::guarded(&pool, 3).await;
    let (machines, host, name) = settled(&lab, 3).await;
    let before: Vec<u64> = machines
        .iter()
        .map(|m| lab.estate().machines[m].generation)
        .collect();
    lab.standins.world.deceive(&name, Deceit::SaysOff);
    lab.standins.world.hang(&name, true);
    let cut = || failure(&lab, host).is_some_and(|f| f.stage == FailureStage::CutOff);
    eventually_within("it is cut off", 20, cut).await;
    tokio::time::sleep(Duration::from_secs(12)).await;
    assert!(cut(), "{:#?}", failure(&lab, host));
    lab.standins.world.hang(&name, false);
    eventually_within("it is heard again", 20, || {
        !failure(&lab, host).unwrap().is_open()
    })
    .await;
    let after: Vec<u64> = machines
        .iter()
        .map(|m| lab.estate().machines[m].generation)
        .collect();
    assert_eq!(before, after, "no machine was started anew");
    assert_eq!(resets(&lab, &name), 0);
}

#[sqlx::test(migrations = false)]
async fn whoever_takes_the_lead_over_in_the_middle_brings_the_machines_back(pool: PgPool) {
    let mut lab = Lab::guarded(&pool, 3).await;
    let (machines, host, name) = settled(&lab, 4).await;
    lab.standins.world.silence_bmc(&name, true);
    lab.standins.world.power(&name, false);
    let judged =
        || failure(&lab, host).is_some_and(|f| f.stage == FailureStage::Judged(Act::AwaitWatchdog));
    eventually_within("the verdict is written", 20, judged).await;
    lab.restart_engine().await;
    comes_back(&lab, &machines, host).await;
}

/// If this fails, machines wait for a person although an array could have proved that their host writes nothing; or they are
/// started while it may.
#[sqlx::test(migrations = false)]
async fn a_host_whose_controller_does_nothing_is_shut_out_by_its_array(pool: PgPool) {
    let lab = Lab::guarded(&pool, 3).await;
    let (machines, host, name) = settled(&lab, 3).await;
    lab.done(lab.array("first-light").await).await;
    let beneath = || {
        let estate = lab.estate();
        estate.arrays_beneath(&estate.hosts[&host]).is_some()
    };
    eventually_within("its volumes are known to lie on the array", 20, beneath).await;
    lab.standins.world.arm(&name, false);
    lab.standins.world.deceive(&name, Deceit::DoesNothing);
    tokio::time::sleep(Duration::from_millis(1500)).await;
    lab.standins.world.stall(&name, true);
    comes_back(&lab, &machines, host).await;
    let story = failure(&lab, host).unwrap();
    let told = |words: &str| story.lines.iter().any(|l| l.text.contains(words));
    assert!(
        told("its arrays took away all that it reached"),
        "{story:#?}"
    );
    assert!(!story.on_word, "its controller's word was not taken");
    assert!(
        told("its controller was told to switch it off, and that did not help"),
        "{story:#?}"
    );
    assert_eq!(
        lab.standins.world.controller_told(&name),
        ["ForceOff"],
        "tried first, and once"
    );
    let condition = || lab.estate().hosts[&host].condition.clone();
    assert!(
        matches!(condition(), Condition::ShutOut { .. }),
        "{:?}",
        condition()
    );
    // It wakes with its old guests on it: none of them writes, and its volumes are given back by a person.
    lab.standins.world.stall(&name, false);
    eventually_within("it answers", 20, || {
        lab.estate().hosts[&host].accepts_work()
    })
    .await;
    assert!(up_elsewhere(&lab, &machines, host));
    let volume = lab.volume_named("slab").id;
    let heal = Proposal::Storage(storage::Ask::HealVolume { volume });
    eventually_within("it lacks its volume", 20, || {
        let estate = lab.estate();
        estate.hosts[&host].paths_up(volume) == 0
    })
    .await;
    lab.done(heal).await;
    eventually_within("it reaches it again", 20, || {
        lab.estate().hosts[&host].paths_up(volume) > 0
    })
    .await;
    tokio::time::sleep(Duration::from_secs(3)).await;
    assert!(up_elsewhere(&lab, &machines, host));
    assert_eq!(lab.standins.world.violations(), Vec::<String>::new());
}

/// If this fails, a guest that hangs stays so until somebody complains; or its last words are lost; or one whose agent alone is
/// silent is restarted.
#[sqlx::test(migrations = false)]
async fn a_guest_that_hangs_is_restarted_where_it_is_with_its_last_picture_kept(pool: PgPool) {
    let lab = Lab::guarded(&pool, 2).await;
    let (_, host, _) = settled(&lab, 2).await;
    let all: Vec<String> = lab
        .estate()
        .machines
        .values()
        .map(|m| m.name.clone())
        .collect();
    let (hangs, mute) = (all[0].as_str(), all[1].as_str());
    let machine = |name: &str| {
        let estate = lab.estate();
        estate
            .machines
            .values()
            .find(|m| m.name == name)
            .cloned()
            .unwrap()
    };
    let (before, other) = (machine(hangs), machine(mute));
    lab.standins.world.hang_guest(mute, true, true);
    lab.standins.world.hang_guest(hangs, false, true);
    let up_again = || {
        let m = machine(hangs);
        m.generation > before.generation && m.state == MachineState::Running { guest: true }
    };
    eventually_within("it is up again", 60, up_again).await;
    assert_eq!(machine(hangs).host, before.host, "where it was");
    assert_eq!(machine(hangs).wanted, Wanted::On, "nobody stopped it");
    assert_eq!(
        machine(mute).generation,
        other.generation,
        "it works, only its agent is silent"
    );
    let words = "hangs: no heartbeat for";
    let filter = EventFilter {
        about: before.id.to_string(),
        ..EventFilter::default()
    };
    let told = lab.desk.events(&filter, 50).await.unwrap();
    assert!(told.iter().any(|e| e.text.contains(words)), "{told:#?}");
    assert!(
        told.iter().any(|e| e.text.contains("was restarted on")),
        "{told:#?}"
    );
    let began = std::time::Instant::now();
    loop {
        match lab.desk.kept_picture(before.id).await.unwrap() {
            Some(_) => break,
            None => assert!(
                began.elapsed() < Duration::from_secs(10),
                "its last picture is lost"
            ),
        }
        tokio::time::sleep(Duration::from_millis(200)).await;
    }
    assert!(lab.estate().failure_of(host).is_none(), "no host failed");
    assert_eq!(lab.standins.world.violations(), Vec::<String>::new());
}
