//! A cluster that another manager built and left becomes ours while everything on it runs on.

use crate::lab::{Lab, eventually, scenario};
use sqlx::PgPool;
use std::collections::BTreeMap;
use zastrugi_core::{
    endpoint::{Endpoint, Password},
    estate::{Machine, NetRole},
    evidence::{Answer, Probe},
    finding::Severity,
    ids::SecretRef,
    rooms::{
        Assessment, Proposal,
        machines::{self, PowerAct},
        networks,
        taking::{Ask, TakeOver},
    },
    runs::RunState,
};
use zastrugi_engine::{EngineSettings, EventFilter, Resolve};
use zastrugi_standins::{Handmade, Scenario, ScenarioMachine};
use zastrugi_store::testkit::url;

pub(crate) const MANAGER: &str = "Breakwater office";
const PASSWORD: &str = "seven-bollards";

/// `ours` hosts as ever, and `theirs` of another manager with a volume, networks and two machines on each.
pub(crate) fn with_theirs(mut all: Scenario, theirs: u32) -> Scenario {
    let like = scenario(1).hosts.remove(0);
    let mut volume = all.volumes[0].clone();
    (volume.uid, volume.name) = ("vol-s".into(), "slab".into());
    all.volumes.push(volume);
    let net = |vlan: u16, mtu: u32| {
        serde_json::from_value(
            serde_json::json!({"vlan": vlan, "mtu": mtu, "uplinks": ["uplink-1", "uplink-2"]}),
        )
        .unwrap()
    };
    let mut hosts = BTreeMap::new();
    for n in 1..=theirs {
        let mut host = like.clone();
        host.name = format!("s{n}");
        host.address = format!("1.{}", 80 + n);
        host.volumes = vec!["vol-s".into()];
        all.hosts.push(host);
        // The last of several has one network otherwise.
        let mtu = if n == theirs && n > 1 { 1500 } else { 9000 };
        let networks = [
            ("yard".to_owned(), net(20, 1500)),
            ("s-migration".to_owned(), net(40, mtu)),
        ];
        hosts.insert(format!("s{n}"), networks.into());
        for m in 1..=2 {
            all.machines
                .push(machine(&format!("yard-{n}{m}"), Some(&format!("s{n}"))));
        }
    }
    all.machines.push(machine("yard-off", None));
    all.handmade.push(Handmade {
        manager: MANAGER.into(),
        password: PASSWORD.into(),
        silent_days: 3,
        hosts,
        volumes: vec!["vol-s".into()],
        others: [("s1".to_owned(), vec!["log-forwarder".to_owned()])].into(),
    });
    all
}

fn machine(name: &str, host: Option<&str>) -> ScenarioMachine {
    serde_json::from_value(serde_json::json!({"name": name, "volume": "vol-s", "host": host, "vcpus": 2, "memory_gib": 4,
        "disks_gib": [20], "network": "yard"}))
    .unwrap()
}

/// Everything is asked that the sheet asks.
pub(crate) async fn look(lab: &Lab, theirs: u32) -> Proposal {
    let at = |n: u32| format!("{}.1.{}:7443", lab.devices.net, 80 + n);
    let addresses: Vec<String> = (1..=theirs).map(at).collect();
    lab.desk.greet(&addresses).await;
    let secret = lab.desk.lend_secret(&lab.admin, PASSWORD).await.unwrap();
    let view = lab.desk.look();
    let pin = |at: &String| match &view.evidence.answers[&Probe::Greeting(at.clone())].answer {
        Answer::Greeting(g) => g.pin.clone(),
        other => panic!("{other:?}"),
    };
    let pairs: Vec<_> = addresses.iter().map(|a| (a.clone(), pin(a))).collect();
    lab.desk.take_stock(&pairs, secret, true).await;
    ask(&pairs, secret)
}

fn ask(hosts: &[(String, String)], password: SecretRef) -> Proposal {
    let hosts = hosts.iter().map(|(address, pin)| Endpoint {
        address: address.into(),
        pin: pin.into(),
    });
    Proposal::Taking(Ask::TakeOver(Box::new(TakeOver {
        hosts: hosts.collect(),
        password: Password::Kept(password),
        site: "Quay".into(),
        name: "Skua".into(),
        former: MANAGER.into(),
        roles: [("yard".to_owned(), NetRole::Guest)].into(),
    })))
}

async fn lab(pool: &PgPool) -> Lab {
    Lab::with(
        &url(pool),
        with_theirs(scenario(0), 3),
        40.0,
        |_: &mut EngineSettings| {},
    )
    .await
}

fn stops(said: &Assessment) -> Vec<String> {
    let all = said.findings().iter();
    all.filter(|f| f.severity == Severity::Stop)
        .map(|f| f.text.clone())
        .collect()
}

/// Nothing of ours is at any of their hosts, volumes or networks.
fn untouched(lab: &Lab) -> bool {
    let deeds = lab.standins.world.deeds();
    let owners = lab.standins.world.owners();
    deeds.is_empty() && owners.iter().all(|o| o.as_deref() == Some(MANAGER))
}

/// If this fails, a cluster that somebody built by hand can't be taken over, or what runs on it is stopped for it.
#[sqlx::test(migrations = false)]
async fn a_cluster_of_another_manager_becomes_ours_and_every_machine_runs_on(pool: PgPool) {
    let lab = lab(&pool).await;
    let ask = look(&lab, 3).await;
    assert!(untouched(&lab), "reading writes nothing");
    lab.done(ask).await;
    let estate = lab.estate();
    let cluster = estate.cluster_named("Skua").unwrap();
    assert!(cluster.ready && cluster.hosts.len() == 3);
    let names: Vec<String> = estate
        .networks_of(cluster.id)
        .iter()
        .map(|n| format!("{} {:?} {}", n.name, n.role, n.mtu))
        .collect();
    assert_eq!(names, ["s-migration Migration 9000", "yard Guest 1500"]);
    let ours: BTreeMap<&str, &Machine> = estate
        .machines_in(cluster.id)
        .map(|m| (m.name.as_str(), &**m))
        .collect();
    assert_eq!(ours.len(), 7, "the one that is off too: {:?}", ours.keys());
    for n in 1..=3 {
        let host = estate.host_named(&format!("s{n}")).unwrap();
        assert!(host.accepts_work() && host.bmc.as_ref().is_some_and(|b| b.key.is_some()));
        for m in 1..=2 {
            let machine = ours[format!("yard-{n}{m}").as_str()];
            assert_eq!(
                (machine.host, machine.generation),
                (Some(host.id), 1),
                "it was never started anew"
            );
        }
    }
    eventually(
        "cards and disks are known by our own networks and volumes",
        || {
            let estate = lab.estate();
            let volume = estate.volume_with_uid("vol-s").map(|v| v.id);
            let mut all = estate.machines.values();
            all.all(|m| {
                m.disks.iter().all(|d| Some(d.volume) == volume)
                    && m.nics.iter().all(|n| n.network.is_some())
            })
        },
    )
    .await;
    let told = lab.desk.events(&EventFilter::default(), 300).await.unwrap();
    for n in 1..=3 {
        let words = format!("s{n} was taken over without a pause: its 2 machines ran on");
        assert!(told.iter().any(|e| e.text == words), "{words}: {told:#?}");
    }
    let deeds = lab.standins.world.deeds();
    assert!(
        !deeds
            .keys()
            .any(|d| d.contains("started") || d.contains("ended")),
        "{deeds:?}"
    );
    // The odd one is as it was: nobody changed it unasked.
    let migration = estate.networks_of(cluster.id)[0].clone();
    let odd = estate.host_named("s3").unwrap();
    assert!(migration.standing(&estate, odd).drifts() && odd.networks["s-migration"].mtu == 1500);
    // Ours from now on: what is done with its machines and networks works.
    let heal = networks::Ask::Heal {
        network: migration.id,
    };
    lab.done(Proposal::Networks(heal)).await;
    eventually("it is as it shall be on the odd one too", || {
        let estate = lab.estate();
        !estate.networks[&migration.id]
            .standing(&estate, estate.host_named("s3").unwrap())
            .drifts()
    })
    .await;
    let off = estate.machine_named("yard-off").unwrap().id;
    let on = PowerAct::On { host: None };
    lab.done(Proposal::Machines(machines::Ask::Power {
        machines: vec![off],
        act: on,
    }))
    .await;
}

/// If this fails, two managers give orders to one host, or a run that was refused has left something behind.
#[sqlx::test(migrations = false)]
async fn a_manager_that_wakes_up_keeps_its_hosts_and_nothing_has_happened(pool: PgPool) {
    let lab = lab(&pool).await;
    let world = &lab.standins.world;
    let quiet = look(&lab, 3).await;
    world.former_automation(MANAGER, true);
    let ask = look(&lab, 3).await;
    let said = stops(&lab.desk.assess(&lab.admin, &ask));
    assert_eq!(said.len(), 3, "{said:?}");
    assert!(
        said[0].starts_with("The automation of Breakwater office is on"),
        "{said:?}"
    );
    // What was read said that it is silent; it wakes up before the run.
    drop(quiet);
    world.former_automation(MANAGER, false);
    let ask = look(&lab, 3).await;
    world.former_orders(MANAGER, true);
    let run = lab.start(ask).await;
    let stopped = lab.until(run, &[RunState::NeedsYou]).await;
    let faults: Vec<_> = stopped
        .steps()
        .filter_map(|s| Some(s.fault.clone()?.said))
        .collect();
    assert!(
        faults
            .iter()
            .all(|f| f.starts_with("Breakwater office gave an order")),
        "{faults:?}"
    );
    assert!(untouched(&lab));
    lab.desk
        .answer(&lab.admin, run, Resolve::Cancel)
        .await
        .unwrap();
    lab.until(run, &[RunState::Cancelled]).await;
    let estate = lab.estate();
    let left = (
        estate.hosts.len(),
        estate.clusters.len(),
        estate.machines.len(),
        estate.networks.len(),
        estate.volumes.len(),
    );
    assert_eq!(left, (0, 0, 0, 0, 0), "undone: nothing has happened");
    assert!(untouched(&lab));
    // Silent for long enough (40 times as fast), it is taken.
    world.former_orders(MANAGER, false);
    tokio::time::sleep(std::time::Duration::from_secs(16)).await;
    lab.done(look(&lab, 3).await).await;
    assert!(world.owners().iter().all(|o| o.as_deref() != Some(MANAGER)));
}

/// If this fails, a wrong password locks hosts, or what it opens is told to whoever does not know it.
#[sqlx::test(migrations = false)]
async fn a_wrong_password_is_tried_once_and_said(pool: PgPool) {
    let lab = lab(&pool).await;
    let at = format!("{}.1.81:7443", lab.devices.net);
    lab.desk.greet(std::slice::from_ref(&at)).await;
    let secret = lab
        .desk
        .lend_secret(&lab.admin, "wrong-bollards")
        .await
        .unwrap();
    let view = lab.desk.look();
    let Answer::Greeting(greeting) = &view.evidence.answers[&Probe::Greeting(at.clone())].answer
    else {
        panic!("it answers")
    };
    let pair = [(at, greeting.pin.clone())];
    for _ in 0..7 {
        lab.desk.take_stock(&pair, secret, false).await;
    }
    let said = stops(&lab.desk.assess(&lab.admin, &ask(&pair, secret))).join("\n");
    assert!(
        said.contains("s1 can't be read: Password not accepted; 4 tries left."),
        "{said}"
    );
}
