//! Hosts that are alive and can't serve some of their machines, and weather that is no failure: on real sockets.

use crate::lab::{HASTE, Lab, eventually_within};
use sqlx::PgPool;
use std::time::Duration;
use zastrugi_core::{
    addressing::range,
    estate::{FailureStage, MachineState, NetRole, Part, Subnet},
    ids::{HostId, MachineId, NetworkId},
    rooms::{
        Proposal,
        machines::{self, NewNic},
        networks::{self, CreateNetwork},
    },
};

/// Everything is looked at for one whole lease before anybody is judged.
async fn look_on() {
    tokio::time::sleep(Duration::from_millis(62_000 / HASTE)).await;
}

/// After that, a host with machines, and those.
async fn one_host(lab: &Lab) -> (Vec<MachineId>, HostId, String) {
    look_on().await;
    let estate = lab.estate();
    let host = estate.machines.values().next().unwrap().host.unwrap();
    let on = estate.machines_on(host).map(|m| m.id).collect();
    (on, host, estate.hosts[&host].name.clone())
}

fn up_but_not_on(lab: &Lab, machines: &[MachineId], host: HostId) -> bool {
    let estate = lab.estate();
    machines.iter().all(|id| {
        let m = &estate.machines[id];
        let elsewhere = m.host.is_some_and(|h| h != host);
        elsewhere && m.state == MachineState::Running { guest: true }
    })
}

fn lines(lab: &Lab, host: HostId) -> Vec<String> {
    let estate = lab.estate();
    let all = estate.failures.values().filter(|f| f.host == host);
    all.flat_map(|f| f.lines.iter().map(|l| l.text.clone()))
        .collect()
}

async fn over(lab: &Lab, host: HostId) {
    eventually_within("its story has an end", 30, || {
        let estate = lab.estate();
        let mut all = estate.failures.values().filter(|f| f.host == host);
        all.all(|f| f.stage == FailureStage::Over)
    })
    .await;
    assert_eq!(lab.standins.world.violations(), Vec::<String>::new());
}

/// If this fails, machines stand still on a host from which their volume was taken although every other host could run them; or
/// they are started elsewhere before their host said that they ended.
#[sqlx::test(migrations = false)]
async fn machines_whose_host_is_offered_their_volume_no_more_end_there_and_start_elsewhere(
    pool: PgPool,
) {
    let lab = Lab::guarded(&pool, 3).await;
    lab.ready().await;
    lab.done(lab.create("gate-{1}", 4, true)).await;
    let (on, host, name) = one_host(&lab).await;
    lab.standins.world.unoffer(&name, false);
    eventually_within("they are up elsewhere", 60, || {
        up_but_not_on(&lab, &on, host)
    })
    .await;
    over(&lab, host).await;
    let told = lines(&lab, host);
    let says = |what: &str| told.iter().any(|l| l.contains(what));
    assert!(says("slab: its array offers it no more"), "{told:#?}");
    assert!(says("was ended there, to start elsewhere"), "{told:#?}");
    assert!(!says("switched off"), "{told:#?}");
    // Given back, it serves again.
    lab.standins.world.unoffer(&name, true);
    eventually_within("it takes work", 30, || {
        let estate = lab.estate();
        estate.hosts[&host].accepts_work() && estate.hosts[&host].lost_paths() == (0, 0)
    })
    .await;
    assert!(up_but_not_on(&lab, &on, host));
    assert_eq!(lab.standins.world.violations(), Vec::<String>::new());
}

fn over_one(lab: &Lab, name: &str, role: NetRole, vlan: u16, uplink: &str) -> Proposal {
    let subnet = Subnet {
        net: format!("10.9.{vlan}.0/24").parse().unwrap(),
        gateway: None,
        ranges: vec![
            range(&format!("10.9.{vlan}.10-99"), Part::Guests).unwrap(),
            range(&format!("10.9.{vlan}.100-199"), Part::Hosts).unwrap(),
        ],
    };
    Proposal::Networks(networks::Ask::Create(CreateNetwork {
        name: name.into(),
        cluster: lab.estate().clusters.keys().next().copied(),
        role,
        vlan: Some(vlan),
        mtu: 1500,
        subnets: vec![subnet],
        uplinks: [uplink.to_owned()].into(),
    }))
}

fn network(lab: &Lab, name: &str) -> NetworkId {
    let estate = lab.estate();
    let mut all = estate.networks.values();
    all.find(|n| n.name == name).unwrap().id
}

/// Three machines with a network of one uplink, and another for moving; answers those on one host.
async fn linked(lab: &Lab) -> (Vec<MachineId>, HostId, String) {
    lab.ready().await;
    lab.done(over_one(lab, "crew", NetRole::Guest, 20, "uplink-1"))
        .await;
    lab.done(over_one(
        lab,
        "carriage",
        NetRole::Migration,
        50,
        "uplink-2",
    ))
    .await;
    let mut ask = lab.create("gate-{1}", 3, true);
    if let Proposal::Machines(machines::Ask::Create(create)) = &mut ask {
        create.nics = vec![NewNic {
            network: Some(network(lab, "crew")),
            address: None,
        }];
    }
    lab.done(ask).await;
    one_host(lab).await
}

/// If this fails, machines that nobody reaches any more stay where they are, or are stopped for it.
#[sqlx::test(migrations = false)]
async fn machines_whose_uplinks_are_dead_are_moved_away_while_they_run(pool: PgPool) {
    let lab = Lab::guarded(&pool, 3).await;
    let (on, host, name) = linked(&lab).await;
    lab.standins.world.uplink(&name, "uplink-1", false);
    eventually_within("they are up elsewhere", 60, || {
        up_but_not_on(&lab, &on, host)
    })
    .await;
    over(&lab, host).await;
    let told = lines(&lab, host);
    let says = |what: &str| told.iter().any(|l| l.contains(what));
    assert!(
        says("none of the uplinks beneath the networks"),
        "{told:#?}"
    );
    assert!(!says("was ended there"), "{told:#?}");
    let deeds = lab.standins.world.deeds();
    let ended = deeds
        .keys()
        .filter(|d| d.contains("power end") || d.contains("power off"));
    assert_eq!(ended.count(), 0, "they ran all the time: {deeds:#?}");
    // No machine is put onto a host without links.
    let estate = lab.estate();
    assert_eq!(estate.machines_on(host).count(), 0);
}

/// If this fails, machines on a host that nobody reaches, and that nobody reaches themselves, are down until a person comes; or they
/// run twice.
#[sqlx::test(migrations = false)]
async fn a_host_that_is_cut_off_with_its_guests_ends_them_because_its_lease_tells_it(pool: PgPool) {
    let lab = Lab::guarded(&pool, 3).await;
    let (on, host, name) = linked(&lab).await;
    lab.standins.world.hang(&name, true);
    lab.standins.world.uplink(&name, "uplink-1", false);
    eventually_within("they are up elsewhere", 60, || {
        up_but_not_on(&lab, &on, host)
    })
    .await;
    let told = lines(&lab, host);
    let says = |what: &str| told.iter().any(|l| l.contains(what));
    assert!(
        says("It is told through its lease to end what it runs"),
        "{told:#?}"
    );
    assert!(
        says("its lease says that it ended all that it ran"),
        "{told:#?}"
    );
    let deeds = lab.standins.world.deeds();
    let reset = deeds.keys().filter(|d| d.contains("reset"));
    assert_eq!(reset.count(), 0, "it lives: {deeds:#?}");
    over(&lab, host).await;
    // Both come back, and nothing runs there twice.
    lab.standins.world.uplink(&name, "uplink-1", true);
    lab.standins.world.hang(&name, false);
    eventually_within("it takes work", 30, || {
        lab.estate().hosts[&host].accepts_work()
    })
    .await;
    assert!(up_but_not_on(&lab, &on, host));
    assert_eq!(lab.standins.world.violations(), Vec::<String>::new());
}

/// If this fails, machines that run well are taken down by a moment's weather: an agent that comes and goes, an array that takes
/// five seconds for everything, one that fails over for three quarters of a minute.
#[sqlx::test(migrations = false)]
async fn links_that_flap_a_slow_array_and_a_long_failover_bring_no_verdict(pool: PgPool) {
    let lab = Lab::guarded(&pool, 3).await;
    lab.ready().await;
    lab.done(lab.create("gate-{1}", 6, true)).await;
    look_on().await;
    let world = &lab.standins.world;
    let second = |n: u64| tokio::time::sleep(Duration::from_millis(n * 1000 / HASTE));
    let before = lab.estate().machines.clone();
    for _ in 0..5 {
        (1..=2).for_each(|n| world.hang(&format!("h{n}"), true));
        second(9).await;
        (1..=2).for_each(|n| world.hang(&format!("h{n}"), false));
        second(4).await;
    }
    let shelf = world.arrays().keys().next().unwrap().clone();
    world.slow_down(&shelf, 5_000);
    second(60).await;
    world.slow_down(&shelf, 0);
    second(15).await;
    let portals = |up: bool| (1..=8).for_each(|n| world.portal(&shelf, n, None, up));
    portals(false);
    second(45).await;
    portals(true);
    eventually_within("all go on", 30, || {
        let estate = lab.estate();
        let mut all = estate.machines.values();
        all.all(|m| m.state == MachineState::Running { guest: true })
    })
    .await;
    second(20).await;
    let estate = lab.estate();
    assert_eq!(estate.failures.len(), 0, "{:#?}", estate.failures);
    for machine in estate.machines.values() {
        let was = &before[&machine.id];
        let now = (machine.host, machine.generation);
        assert_eq!(now, (was.host, was.generation), "{}", machine.name);
    }
    assert_eq!(world.violations(), Vec::<String>::new());
}

/// If this fails, the machine in which the manager runs is brought back with all the others, and nobody who stops it is told what it is.
#[sqlx::test(migrations = false)]
async fn the_machine_in_which_the_manager_runs_is_known_and_comes_back_before_all_others(
    pool: PgPool,
) {
    let mut lab = Lab::guarded(&pool, 3).await;
    lab.ready().await;
    lab.done(lab.create("gate-{1}", 6, true)).await;
    let (on, host, name) = one_host(&lab).await;
    let own = *on.last().unwrap();
    lab.settings.own = Some(lab.estate().machines[&own].uuid);
    lab.restart_engine().await;
    eventually_within("it is known", 20, || lab.estate().machines[&own].carries).await;
    let off = Proposal::Machines(machines::Ask::Power {
        machines: vec![own],
        act: machines::PowerAct::Off,
    });
    let assessed = lab.desk.assess(&lab.admin, &off);
    let found = assessed.findings().iter();
    let told: Vec<_> = found.map(|f| f.text.clone()).collect();
    assert!(
        told.iter().any(|t| t.contains("This manager runs in")),
        "{told:#?}"
    );
    look_on().await;
    lab.standins.world.power(&name, false);
    eventually_within("they are up elsewhere", 60, || {
        up_but_not_on(&lab, &on, host)
    })
    .await;
    let story = lab.told(host).await;
    let started = |id: &MachineId| {
        let of = story.machines.iter().find(|m| m.machine == *id);
        of.unwrap().started.unwrap()
    };
    let first = story.machines.iter().find(|m| m.machine == own).unwrap();
    let others = on.iter().filter(|m| **m != own).map(started).min();
    // A tier waits for three measured boots and not longer: on a busy machine it may still boot when the others start.
    assert!(first.up.is_some() && first.started < others, "{story:#?}");
}
