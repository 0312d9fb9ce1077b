//! Networks on real sockets: set up on all hosts, checked against the switches, addresses delivered to guests.

use crate::lab::{Lab, eventually};
use sqlx::PgPool;
use zastrugi_core::rooms::{machines, networks};
use zastrugi_core::{
    addressing::range,
    endpoint::{Endpoint, Password},
    estate::{NetRole, Part, Standing, Subnet},
    evidence::{Answer, Probe},
    finding::Severity,
    ids::NetworkId,
    rooms::Proposal,
    rooms::machines::NewNic,
    rooms::networks::{ConnectSwitch, CreateNetwork},
    runs::RunState,
};
use zastrugi_engine::Resolve;

async fn connect(lab: &Lab, name: &str) {
    lab.done(switch(lab, name).await).await;
}

/// A switch of the laboratory, not connected yet.
pub(crate) async fn switch(lab: &Lab, name: &str) -> Proposal {
    let address = lab.standins.world.switches()[name].clone();
    lab.desk.greet_switch(&address).await;
    let book = lab.desk.look().evidence;
    let pin = match &book.answers[&Probe::SwitchGreeting(address.clone())].answer {
        Answer::Manager { pin, .. } => pin.clone(),
        other => panic!("{other:?}"),
    };
    let secret = lab.desk.keep_secret("first-light").await.unwrap();
    Proposal::Networks(networks::Ask::ConnectSwitch(ConnectSwitch {
        target: Endpoint {
            address: address.into(),
            pin: pin.into(),
        },
        site: "Quayside".into(),
        user: "reader".into(),
        password: Password::Kept(secret),
    }))
}

pub(crate) async fn lab(pool: &PgPool, hosts: u32) -> Lab {
    let lab = Lab::new(pool, hosts).await;
    lab.ready().await;
    eventually("hosts tell of their uplinks", || {
        lab.estate().hosts.values().all(|h| h.uplinks.len() == 2)
    })
    .await;
    connect(&lab, "switch-1-1").await;
    connect(&lab, "switch-1-2").await;
    lab
}

pub(crate) fn ask(lab: &Lab, name: &str, vlan: u16, mtu: u32) -> CreateNetwork {
    CreateNetwork {
        name: name.into(),
        cluster: lab.estate().clusters.keys().next().copied(),
        role: NetRole::Guest,
        vlan: Some(vlan),
        mtu,
        subnets: vec![
            Subnet {
                net: "10.2.0.0/24".parse().unwrap(),
                gateway: "10.2.0.1".parse().ok(),
                ranges: vec![range("10.2.0.10-10.2.0.12", Part::Guests).unwrap()],
            },
            Subnet {
                net: "2001:db8:2::/64".parse().unwrap(),
                gateway: None,
                ranges: vec![range("2001:db8:2::10-2001:db8:2::ff", Part::Guests).unwrap()],
            },
        ],
        uplinks: ["uplink-1", "uplink-2"].map(str::to_owned).into(),
    }
}

pub(crate) fn network(lab: &Lab, name: &str) -> NetworkId {
    let estate = lab.estate();
    estate
        .networks
        .values()
        .find(|n| n.name == name)
        .unwrap()
        .id
}

fn standings(lab: &Lab, name: &str) -> Vec<Standing> {
    let estate = lab.estate();
    let n = estate.networks[&network(lab, name)].clone();
    let mut hosts: Vec<_> = estate.hosts_in(n.cluster).collect();
    hosts.sort_by(|a, b| a.name.cmp(&b.name));
    hosts.iter().map(|h| n.standing(&estate, h)).collect()
}

pub(crate) fn on(lab: &Lab, machine: &str, network: NetworkId) -> Proposal {
    let mut ask = lab.create(machine, 1, true);
    if let Proposal::Machines(machines::Ask::Create(create)) = &mut ask {
        create.nics = vec![NewNic {
            network: Some(network),
            address: None,
        }];
    }
    ask
}

#[sqlx::test(migrations = false)]
async fn a_network_reaches_every_host_and_a_guest_learns_its_addresses(pool: PgPool) {
    let lab = lab(&pool, 2).await;
    let run = lab
        .done(Proposal::Networks(networks::Ask::Create(ask(
            &lab, "crew", 20, 1500,
        ))))
        .await;
    assert_eq!(run.tally.all(), 3);
    assert_eq!(standings(&lab, "crew"), [Standing::Fine, Standing::Fine]);
    let crew = network(&lab, "crew");
    lab.done(on(&lab, "a", crew)).await;
    lab.done(on(&lab, "b", crew)).await;
    let addresses = |m: &str| -> Vec<String> {
        let machine = lab.estate().machine_named(m).unwrap().clone();
        machine.nics[0]
            .addresses
            .iter()
            .map(ToString::to_string)
            .collect()
    };
    assert_eq!(addresses("a"), ["10.2.0.10", "2001:db8:2::10"]);
    assert_eq!(addresses("b"), ["10.2.0.11", "2001:db8:2::11"]);
    // The guest read its seed by its own means.
    assert_eq!(
        lab.standins.world.guest_addresses("b"),
        ["10.2.0.11/24", "2001:db8:2::11/64"]
    );
    // What a machine gives up rests before somebody gets it again.
    let b = vec![lab.machine("b")];
    lab.done(Proposal::Machines(machines::Ask::Power {
        machines: b.clone(),
        act: zastrugi_core::rooms::machines::PowerAct::Off,
    }))
    .await;
    lab.done(Proposal::Machines(machines::Ask::Delete {
        machines: b.clone(),
    }))
    .await;
    lab.done(Proposal::Machines(machines::Ask::Purge {
        machines: b,
        typed: "b".into(),
    }))
    .await;
    lab.done(on(&lab, "c", crew)).await;
    assert_eq!(
        addresses("c")[0],
        "10.2.0.12",
        "10.2.0.11 rests for seven days"
    );
    let full = lab.desk.assess(&lab.admin, &on(&lab, "d", crew));
    let stop = full.at_field("nics").unwrap();
    assert!(
        stop.text.contains("No address for guests is free"),
        "{}",
        stop.text
    );
    lab.assert_once();
}

#[sqlx::test(migrations = false)]
async fn an_address_that_answers_already_is_not_given(pool: PgPool) {
    let lab = lab(&pool, 1).await;
    lab.done(Proposal::Networks(networks::Ask::Create(ask(
        &lab, "crew", 20, 1500,
    ))))
    .await;
    lab.standins
        .world
        .squat("10.2.0.10", "a printer nobody wrote down");
    let run = lab.start(on(&lab, "a", network(&lab, "crew"))).await;
    let stuck = lab.until(run, &[RunState::NeedsYou]).await;
    let fault = stuck.step(0).unwrap().fault.clone().unwrap();
    assert_eq!(
        fault.said,
        "10.2.0.10 answers already: a printer nobody wrote down."
    );
    lab.desk
        .answer(&lab.admin, run, Resolve::Cancel)
        .await
        .unwrap();
}

#[sqlx::test(migrations = false)]
async fn a_forgotten_host_is_drift_and_mended_alone(pool: PgPool) {
    let lab = lab(&pool, 3).await;
    lab.done(Proposal::Networks(networks::Ask::Create(ask(
        &lab, "crew", 20, 1500,
    ))))
    .await;
    lab.standins.world.forget_network("h2", "crew");
    eventually("it is seen", || {
        standings(&lab, "crew")[1] == Standing::Missing
    })
    .await;
    // No machine on this network goes to that host.
    let crew = network(&lab, "crew");
    let mut pinned = on(&lab, "a", crew);
    let h2 = lab.estate().host_named("h2").unwrap().id;
    if let Proposal::Machines(machines::Ask::Create(create)) = &mut pinned {
        create.host = Some(h2);
    }
    assert!(lab.desk.assess(&lab.admin, &pinned).blocked());
    let run = lab
        .done(Proposal::Networks(networks::Ask::Heal { network: crew }))
        .await;
    assert_eq!(run.tally.all(), 1, "the others are not touched");
    assert_eq!(
        standings(&lab, "crew"),
        [Standing::Fine, Standing::Fine, Standing::Fine]
    );
    lab.done(Proposal::Networks(networks::Ask::Remove {
        network: crew,
        typed: "".into(),
    }))
    .await;
    assert!(lab.estate().networks.is_empty());
    assert!(lab.estate().hosts.values().all(|h| h.networks.is_empty()));
    lab.assert_once();
}

#[sqlx::test(migrations = false)]
async fn a_switch_that_carries_less_stops_it_and_one_that_is_silent_is_unchecked(pool: PgPool) {
    let lab = lab(&pool, 2).await;
    lab.standins
        .world
        .change_port("switch-1-2", "h2", Some(1500), None);
    lab.standins.world.silence_switch("switch-1-1", true);
    let silent = || {
        lab.estate()
            .switches
            .values()
            .filter(|s| !s.answers())
            .count()
    };
    eventually("its silence is noted", || silent() == 1).await;
    eventually("the port is read anew", || {
        let estate = lab.estate();
        let two = estate
            .switches
            .values()
            .find(|s| s.name == "switch-1-2")
            .unwrap();
        two.ports.values().any(|p| p.mtu == 1500)
    })
    .await;
    let a = lab.desk.assess(
        &lab.admin,
        &Proposal::Networks(networks::Ask::Create(ask(&lab, "jumbo", 30, 9000))),
    );
    let of = |severity| {
        a.findings()
            .iter()
            .filter(|f| f.severity == severity)
            .collect::<Vec<_>>()
    };
    let stops = of(Severity::Stop);
    assert_eq!(stops.len(), 1, "{stops:?}");
    assert!(
        stops[0]
            .text
            .contains("carries at most 1500 bytes, not 9000"),
        "{}",
        stops[0].text
    );
    assert_eq!(of(Severity::Unchecked).len(), 2, "one uplink of each host");
    // At 1500 it may be made: unchecked is said, and is no stop.
    lab.done(Proposal::Networks(networks::Ask::Create(ask(
        &lab, "plain", 30, 1500,
    ))))
    .await;
    assert!(
        standings(&lab, "plain")
            .iter()
            .all(|s| matches!(s, Standing::Unchecked(_))),
        "{:?}",
        standings(&lab, "plain")
    );
}

#[sqlx::test(migrations = false)]
async fn the_mtu_is_tried_between_hosts_and_the_hop_is_named(pool: PgPool) {
    let lab = lab(&pool, 2).await;
    lab.done(Proposal::Networks(networks::Ask::Create(ask(
        &lab, "jumbo", 30, 9000,
    ))))
    .await;
    let jumbo = network(&lab, "jumbo");
    let through = || {
        let book = lab.desk.look().evidence;
        let tried = lab
            .desk
            .mtu_pairs(jumbo)
            .into_iter()
            .map(|(from, to)| Probe::Mtu {
                network: jumbo,
                from,
                to,
            });
        tried
            .map(|p| match &book.answers[&p].answer {
                Answer::Mtu {
                    bytes: 9000,
                    through,
                } => *through,
                other => panic!("{other:?}"),
            })
            .collect::<Vec<_>>()
    };
    lab.desk.try_network(&lab.admin, jumbo).await;
    assert_eq!(through(), [true, true]);
    lab.standins
        .world
        .change_port("switch-1-1", "h1", Some(1500), None);
    lab.desk.try_network(&lab.admin, jumbo).await;
    assert_eq!(through(), [false, false]);
    eventually("the switch tells where", || {
        matches!(&standings(&lab, "jumbo")[0], Standing::Wire(fault) if fault.switch == "switch-1-1")
    })
    .await;
}

/// If this fails, nobody finds out why machines reach nobody outside, or all is said to be well while no gateway answers.
#[sqlx::test(migrations = false)]
async fn a_gateway_is_asked_for_from_every_host(pool: PgPool) {
    let lab = lab(&pool, 2).await;
    lab.done(Proposal::Networks(networks::Ask::Create(ask(
        &lab, "crew", 20, 1500,
    ))))
    .await;
    let crew = network(&lab, "crew");
    let heard = async || {
        lab.desk.try_network(&lab.admin, crew).await;
        let book = lab.desk.look().evidence;
        let asked = lab.desk.gateways(crew).into_iter();
        let asked = asked.map(|(host, address)| Probe::Neighbour {
            network: crew,
            host,
            address,
        });
        let answers = asked.map(|p| match &book.answers[&p].answer {
            Answer::Neighbour { mac } => mac.is_some(),
            other => panic!("{other:?}"),
        });
        answers.collect::<Vec<_>>()
    };
    assert_eq!(heard().await, [true, true]);
    lab.standins
        .world
        .change_port("switch-1-1", "h1", None, Some(20));
    lab.standins
        .world
        .change_port("switch-1-2", "h1", None, Some(20));
    assert_eq!(
        heard().await,
        [false, true],
        "its ports carry the VLAN no more"
    );
    lab.standins.world.silence_routers(true);
    assert_eq!(heard().await, [false, false]);
}

#[sqlx::test(migrations = false)]
async fn the_same_vlan_twice_is_stopped_or_minded_as_it_matters(pool: PgPool) {
    let lab = lab(&pool, 1).await;
    lab.done(Proposal::Networks(networks::Ask::Create(ask(
        &lab, "crew", 20, 1500,
    ))))
    .await;
    let said = |edit: &dyn Fn(&mut CreateNetwork)| {
        let mut again = ask(&lab, "crew-2", 20, 1500);
        edit(&mut again);
        let a = lab.desk.assess(
            &lab.admin,
            &Proposal::Networks(networks::Ask::Create(again)),
        );
        a.findings()
            .iter()
            .filter(|f| f.severity > Severity::Unchecked)
            .map(|f| format!("{}: {} ({})", f.severity.word(), f.text, f.evidence))
            .collect::<Vec<_>>()
    };
    assert!(
        said(&|n| n.mtu = 9000)[0]
            .starts_with("stop: VLAN 20 is crew here already. (MTU 1500 there")
    );
    assert!(said(&|n| n.subnets.clear())[0].starts_with("stop: VLAN 20 is crew here already."));
    let same = said(&|n| n.subnets.iter_mut().for_each(|s| s.ranges.clear()));
    assert_eq!(same, ["mind: VLAN 20 is crew here already. ()"]);
    let overlap = said(&|_| {});
    assert!(
        overlap[0].contains("meets 10.2.0.10–10.2.0.12 of crew"),
        "{overlap:?}"
    );
    assert!(said(&|n| n.vlan = Some(4095))[0].contains("4095 is no VLAN"));
    assert!(
        said(&|n| n.uplinks = ["uplink-9".to_owned()].into())
            .iter()
            .any(|f| f.contains("has no uplink uplink-9"))
    );
}
