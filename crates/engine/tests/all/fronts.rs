//! Service fronts on real sockets: connections that are really balanced, members that are taken out before they stop or move.

use crate::lab::{Lab, eventually};
use sqlx::PgPool;
use std::{net::SocketAddr, time::Duration};
use tokio::{
    io::{AsyncReadExt, AsyncWriteExt},
    net::TcpStream,
};
use zastrugi_core::{
    endpoint::{Endpoint, Password},
    estate::{AddressRange, Front, Manner, MemberState, NetRole, Part, Protocol, Sticks, Subnet},
    evidence::Probe,
    finding::Severity,
    ids::{MachineId, NetworkId},
    moment::Span,
    rooms::{
        Proposal,
        fronts::{self, ConnectBalancer, PutFront},
        machines::{self, AfterGrace, NewNic, PowerAct},
        moving::{self, Move},
        networks::{self, CreateNetwork},
    },
    runs::{FaultKind, RunState},
};
use zastrugi_engine::Resolve;

fn range(first: &str, last: &str, part: Part) -> AddressRange {
    AddressRange {
        first: first.parse().unwrap(),
        last: last.parse().unwrap(),
        part,
    }
}

/// A network of guests with addresses that are set aside for fronts.
pub(crate) fn network(lab: &Lab) -> Proposal {
    let subnet = Subnet {
        net: "10.2.40.0/24".parse().unwrap(),
        gateway: None,
        ranges: vec![
            range("10.2.40.10", "10.2.40.99", Part::Guests),
            range("10.2.40.200", "10.2.40.209", Part::Virtual),
        ],
    };
    Proposal::Networks(networks::Ask::Create(CreateNetwork {
        name: "wharf".into(),
        cluster: lab.estate().clusters.keys().next().copied(),
        role: NetRole::Guest,
        vlan: Some(40),
        mtu: 1500,
        subnets: vec![subnet],
        uplinks: ["uplink-1", "uplink-2"].map(str::to_owned).into(),
    }))
}

/// The balancer, with the certificate that it shows.
pub(crate) async fn balancer(lab: &Lab) -> Proposal {
    let agent = lab.standins.world.agents().into_values().next().unwrap();
    let net: Vec<&str> = agent.split('.').take(2).collect();
    let address = format!("{}.1.60:8443", net.join("."));
    lab.desk.greet_balancer(&address).await;
    let pin = lab
        .desk
        .look()
        .evidence
        .manager_pin(&Probe::BalancerGreeting(address.clone()))
        .to_owned();
    let kept = lab.desk.keep_secret("weigh-anchor").await.unwrap();
    Proposal::Fronts(fronts::Ask::Connect(ConnectBalancer {
        target: Endpoint {
            address: address.into(),
            pin: pin.into(),
        },
        site: "Quayside".into(),
        token: Password::Kept(kept),
    }))
}

/// A front of the machines with `app=web`.
pub(crate) fn front(lab: &Lab, change: impl FnOnce(&mut PutFront)) -> Proposal {
    let estate = lab.estate();
    let mut put = PutFront {
        front: None,
        name: "web".into(),
        balancer: estate.balancers.keys().next().copied(),
        network: estate
            .networks
            .values()
            .find(|n| n.name == "wharf")
            .map(|n| n.id),
        address: None,
        port: 8080,
        label: "app=web".into(),
        serves: 80,
        manner: Manner::usual(Protocol::Tcp),
        shown: None,
        key: Password::Missing,
    };
    put.manner.health.every = Span::secs(2);
    change(&mut put);
    Proposal::Fronts(fronts::Ask::Put(put))
}

fn of(lab: &Lab, name: &str) -> Front {
    let estate = lab.estate();
    Front::clone(estate.fronts.values().find(|f| f.name == name).unwrap())
}

/// How many of its members serve, as it was last seen.
fn serving(lab: &Lab) -> usize {
    let seen = of(lab, "web").seen.unwrap_or_default();
    seen.values()
        .filter(|s| s.state == MemberState::Serves)
        .count()
}

/// So many machines that run and carry the label.
pub(crate) async fn machines(lab: &Lab, many: u32) -> Vec<MachineId> {
    let wharf: NetworkId = lab
        .estate()
        .networks
        .values()
        .find(|n| n.name == "wharf")
        .unwrap()
        .id;
    let mut ask = lab.create("web-{1}", many, true);
    if let Proposal::Machines(machines::Ask::Create(create)) = &mut ask {
        create.nics = vec![NewNic {
            network: Some(wharf),
            address: None,
        }];
        create.labels = [("app".into(), "web".into())].into();
    }
    lab.done(ask).await;
    (1..=many)
        .map(|n| lab.machine(&format!("web-{n}")))
        .collect()
}

/// What is greeted with at a front: the name of the member.
async fn greeting(at: &str) -> (String, TcpStream) {
    let mut stream = TcpStream::connect(at.parse::<SocketAddr>().unwrap())
        .await
        .unwrap();
    let mut some = [0; 64];
    let n = tokio::time::timeout(Duration::from_secs(5), stream.read(&mut some))
        .await
        .unwrap()
        .unwrap();
    (
        String::from_utf8_lossy(&some[..n]).trim().to_owned(),
        stream,
    )
}

async fn lab(
    pool: &PgPool,
    many: u32,
    change: impl FnOnce(&mut PutFront),
) -> (Lab, Vec<MachineId>, String) {
    let lab = Lab::new(pool, 2).await;
    lab.ready().await;
    eventually("hosts tell of their uplinks", || {
        lab.estate().hosts.values().all(|h| h.uplinks.len() == 2)
    })
    .await;
    lab.done(network(&lab)).await;
    // A report that was on its way before it was there is followed by one that tells of it.
    eventually("hosts tell of the network", || {
        lab.estate().hosts.values().all(|h| !h.networks.is_empty())
    })
    .await;
    let all = machines(&lab, many).await;
    lab.done(balancer(&lab).await).await;
    lab.done(front(&lab, change)).await;
    let wanted = usize::try_from(many).unwrap();
    eventually("all of them serve", || serving(&lab) == wanted).await;
    let at = lab.standins.world.front_at("web").unwrap();
    (lab, all, at)
}

/// If this fails, a front is said to serve and whoever comes finds nobody, or always the same one.
#[sqlx::test(migrations = false)]
async fn connections_go_round_and_a_guest_that_hangs_gets_none(pool: PgPool) {
    let (lab, _, at) = lab(&pool, 2, |p| {
        p.manner = Manner::usual(Protocol::Http);
        p.manner.health.every = Span::secs(2);
    })
    .await;
    assert_eq!(
        of(&lab, "web").address.to_string(),
        "10.2.40.200",
        "the lowest of the virtual ones"
    );
    let get = async || {
        let mut stream = TcpStream::connect(&at).await.unwrap();
        stream
            .write_all(b"GET / HTTP/1.1\r\nhost: web\r\n\r\n")
            .await
            .unwrap();
        let mut all = String::new();
        stream.read_to_string(&mut all).await.unwrap();
        all
    };
    let (first, second, third) = (get().await, get().await, get().await);
    assert!(first.starts_with("HTTP/1.1 200"), "{first}");
    assert_ne!(first, second);
    assert_eq!(first, third, "round robin");
    lab.standins.world.hang_guest("web-1", false, true);
    eventually("it is seen", || serving(&lab) == 1).await;
    for _ in 0..4 {
        assert!(get().await.contains("web-2 is well"));
    }
    lab.standins.world.hang_guest("web-1", false, false);
    eventually("it is back", || serving(&lab) == 2).await;
}

/// If this fails, whoever comes by TLS is shown another certificate than the one that was pasted, or a key that does not belong to it is
/// found out by people.
#[sqlx::test(migrations = false)]
async fn tls_ends_at_the_front_with_the_certificate_that_was_given(pool: PgPool) {
    let (lab, _, _) = lab(&pool, 2, |_| {}).await;
    let made = || {
        let key = rcgen::KeyPair::generate().unwrap();
        let params =
            rcgen::CertificateParams::new(vec!["tickets.quay.example".to_owned()]).unwrap();
        (params.self_signed(&key).unwrap().pem(), key.serialize_pem())
    };
    let (pem, key) = made();
    let shown = zastrugi_formats::certificate::read(&pem).unwrap();
    let https = |key: Password| {
        front(&lab, |p| {
            p.name = "safe".into();
            p.port = 8443;
            p.manner = Manner::usual(Protocol::Https);
            p.shown = Some(shown.clone());
            p.key = key;
        })
    };
    let said = lab.desk.assess(&lab.admin, &https(Password::Missing));
    assert_eq!(
        said.findings()
            .iter()
            .find(|f| f.stops())
            .unwrap()
            .field
            .as_deref(),
        Some("password")
    );
    let other = lab.desk.keep_secret(&made().1).await.unwrap();
    let run = lab.start(https(Password::Kept(other))).await;
    let failed = lab.until(run, &[RunState::NeedsYou]).await;
    let fault = failed.steps().find_map(|s| s.fault.clone()).unwrap();
    assert!(
        fault.said.contains("does not belong to the certificate"),
        "{}",
        fault.said
    );
    lab.desk
        .answer(&lab.admin, run, zastrugi_engine::Resolve::Cancel)
        .await
        .unwrap();
    lab.until(run, &[RunState::Cancelled]).await;
    let ours = lab.desk.keep_secret(&key).await.unwrap();
    lab.done(https(Password::Kept(ours))).await;
    let at = lab.standins.world.front_at("safe").unwrap();
    drop(rustls::crypto::ring::default_provider().install_default());
    let client = reqwest::Client::builder()
        .add_root_certificate(reqwest::Certificate::from_pem(pem.as_bytes()).unwrap())
        .resolve("tickets.quay.example", at.parse().unwrap())
        .build()
        .unwrap();
    let port = at.rsplit(':').next().unwrap();
    let url = format!("https://tickets.quay.example:{port}/");
    let began = std::time::Instant::now();
    loop {
        let answer = client.get(&url).send().await;
        if let Ok(answer) = answer
            && answer.status() == 200
        {
            assert!(answer.text().await.unwrap().contains("is well"));
            break;
        }
        assert!(
            began.elapsed() < Duration::from_secs(20),
            "nobody serves it"
        );
        tokio::time::sleep(Duration::from_millis(100)).await;
    }
}

/// If this fails, somebody who comes again loses what the first member knew of them.
#[sqlx::test(migrations = false)]
async fn whoever_comes_again_gets_the_same_member(pool: PgPool) {
    let (lab, _, at) = lab(&pool, 2, |p| p.manner.sticks = Sticks::Source).await;
    let (name, _) = greeting(&at).await;
    for _ in 0..3 {
        assert_eq!(greeting(&at).await.0, name);
    }
    let cookie = front(&lab, |p| {
        p.front = Some(of(&lab, "web").id);
        p.address = Some(of(&lab, "web").address);
        p.manner.sticks = Sticks::Cookie;
    });
    let said = lab.desk.assess(&lab.admin, &cookie);
    let stop = said.findings().iter().find(|f| f.stops()).unwrap();
    assert_eq!(stop.field.as_deref(), Some("sticks"), "{}", stop.text);
}

/// If this fails, people lose their connections whenever a machine behind a front is moved or stopped.
#[sqlx::test(migrations = false)]
async fn a_member_is_taken_out_before_it_stops_and_its_connections_may_end(pool: PgPool) {
    let (lab, all, at) = lab(&pool, 2, |p| p.manner.drain = Span::secs(3600)).await;
    let (name, mut open) = greeting(&at).await;
    let machine = lab.machine(&name);
    assert!(all.contains(&machine));
    let stop = Proposal::Machines(machines::Ask::Power {
        machines: vec![machine],
        act: PowerAct::Stop {
            grace: Span::secs(60),
            then: AfterGrace::LeaveOn,
        },
    });
    let said = lab.desk.assess(&lab.admin, &stop);
    assert!(
        said.findings()
            .iter()
            .any(|f| f.text.contains("taken out of web first")),
        "{:?}",
        said.findings()
    );
    let run = lab.start(stop).await;
    eventually("it is taken out", || serving(&lab) == 1).await;
    let others = [greeting(&at).await.0, greeting(&at).await.0];
    assert!(others.iter().all(|n| *n != name), "{others:?}");
    // What is open is served to its end, and the machine waits for that.
    open.write_all(b"still here").await.unwrap();
    let mut some = [0; 32];
    let n = open.read(&mut some).await.unwrap();
    assert_eq!(&some[..n], b"still here");
    assert!(!lab.estate().machines[&machine].is_off());
    drop(open);
    lab.until(run, &[RunState::Done]).await;
    assert!(lab.estate().machines[&machine].is_off());
    // On again, it comes back by itself.
    lab.done(Proposal::Machines(machines::Ask::Power {
        machines: vec![machine],
        act: PowerAct::On { host: None },
    }))
    .await;
    eventually("both serve", || serving(&lab) == 2).await;
    lab.assert_once();
}

/// If this fails, a move is begun while people are connected, or a machine that has moved gets nobody any more.
#[sqlx::test(migrations = false)]
async fn a_member_that_moves_is_out_meanwhile_and_back_afterwards(pool: PgPool) {
    let (lab, all, at) = lab(&pool, 2, |p| p.manner.drain = Span::secs(3600)).await;
    lab.migration_network().await;
    let (name, open) = greeting(&at).await;
    let machine = lab.machine(&name);
    let here = lab.estate().machines[&machine].host;
    let to = lab
        .estate()
        .hosts
        .keys()
        .copied()
        .find(|h| Some(*h) != here);
    let ask = Proposal::Moving(moving::Ask::Move(Move {
        machines: vec![machine],
        to,
        disks: None,
        slow: true,
        force: true,
        wire: true,
    }));
    eventually("it can move", || {
        !lab.desk
            .assess(&lab.admin, &ask)
            .findings()
            .iter()
            .any(|f| f.stops())
    })
    .await;
    let run = lab.start(ask).await;
    eventually("it is taken out", || serving(&lab) == 1).await;
    assert_eq!(
        lab.estate().machines[&machine].host,
        here,
        "it waits for the connection"
    );
    drop(open);
    lab.until(run, &[RunState::Done]).await;
    assert_eq!(lab.estate().machines[&machine].host, to);
    eventually("both serve", || serving(&lab) == all.len()).await;
}

/// If this fails, a balancer that nobody can reach lets machines stop under people's hands, or blocks everything in silence.
#[sqlx::test(migrations = false)]
async fn a_silent_balancer_is_said_and_nothing_is_stopped_behind_its_back(pool: PgPool) {
    let (lab, all, _) = lab(&pool, 2, |_| {}).await;
    lab.standins.world.silence_balancer("scales", true);
    let silent = || lab.estate().balancers.values().all(|b| !b.answers());
    eventually("it is seen", silent).await;
    let run = lab
        .start(Proposal::Machines(machines::Ask::Power {
            machines: vec![all[0]],
            act: PowerAct::Stop {
                grace: Span::secs(60),
                then: AfterGrace::LeaveOn,
            },
        }))
        .await;
    let failed = lab.until(run, &[RunState::NeedsYou]).await;
    let fault = failed.steps().find_map(|s| s.fault.clone()).unwrap();
    assert!(
        matches!(fault.kind, FaultKind::Unreachable | FaultKind::TimedOut),
        "{fault:?}"
    );
    assert!(fault.said.contains("can't be taken out of it"), "{fault:?}");
    assert!(!lab.estate().machines[&all[0]].is_off());
    lab.standins.world.silence_balancer("scales", false);
    lab.desk
        .answer(&lab.admin, run, zastrugi_engine::Resolve::Retry)
        .await
        .unwrap();
    lab.until(run, &[RunState::Done]).await;
}

/// If this fails, what somebody did at the balancer itself stays so, or a new machine with the label serves nobody.
#[sqlx::test(migrations = false)]
async fn the_balancer_is_told_again_and_members_follow_their_label(pool: PgPool) {
    let (lab, all, at) = lab(&pool, 2, |_| {}).await;
    lab.standins.world.forget_front("scales", "web");
    eventually("it is there again", || {
        lab.standins.world.front_at("web").is_some() && serving(&lab) == 2
    })
    .await;
    let purge = Proposal::Machines(machines::Ask::Power {
        machines: vec![all[0]],
        act: PowerAct::Off,
    });
    lab.done(purge).await;
    eventually("it is out", || {
        let seen = of(&lab, "web").seen.unwrap_or_default();
        seen.values()
            .any(|s| !s.admitted && s.state == MemberState::Out)
    })
    .await;
    let mut served = false;
    for _ in 0..20 {
        served = !greeting(&at).await.0.is_empty();
        if served {
            break;
        }
        tokio::time::sleep(Duration::from_millis(250)).await;
    }
    assert!(served, "the other one serves");
    lab.done(Proposal::Fronts(fronts::Ask::Remove {
        front: of(&lab, "web").id,
    }))
    .await;
    assert!(lab.standins.world.front_at("web").is_none());
    eventually("nobody listens any more", || {
        std::net::TcpStream::connect_timeout(&at.parse().unwrap(), Duration::from_millis(200))
            .is_err()
    })
    .await;
    let balancer = *lab.estate().balancers.keys().next().unwrap();
    lab.done(Proposal::Fronts(fronts::Ask::Forget { balancer }))
        .await;
    assert!(lab.estate().balancers.is_empty());
}

/// If this fails, a front takes an address that somebody has whom nobody here knows, and half of its connections go to them.
#[sqlx::test(migrations = false)]
async fn an_address_that_somebody_has_is_given_to_no_front(pool: PgPool) {
    let lab = Lab::new(&pool, 2).await;
    lab.ready().await;
    lab.done(network(&lab)).await;
    lab.done(balancer(&lab).await).await;
    let wharf = lab.estate().networks.values().next().unwrap().id;
    let (taken, free) = ("10.2.40.200", "10.2.40.201".parse().unwrap());
    lab.standins
        .world
        .squat(taken, "a till that nobody told of");
    let says = |ask: &Proposal, words: &str| {
        let said = lab.desk.assess(&lab.admin, ask);
        let found = said.findings().iter().find(|f| f.text.contains(words));
        found.map(|f| f.severity)
    };
    // Nobody looked: the run does.
    let ask = front(&lab, |_| {});
    assert_eq!(says(&ask, "Nobody looked yet"), Some(Severity::Unchecked));
    let run = lab.start(ask.clone()).await;
    let stopped = lab.until(run, &[RunState::NeedsYou]).await;
    let fault = stopped.steps().find_map(|s| s.fault.clone()).unwrap();
    assert!(
        fault.said.contains("has 10.2.40.200 on wharf already"),
        "{fault:?}"
    );
    lab.desk
        .answer(&lab.admin, run, Resolve::Cancel)
        .await
        .unwrap();
    lab.until(run, &[RunState::Cancelled]).await;
    assert!(lab.estate().fronts.is_empty());
    // Somebody looks before.
    lab.desk
        .ask_for_neighbours(wharf, &[taken.parse().unwrap(), free])
        .await;
    assert_eq!(says(&ask, "Somebody has 10.2.40.200"), Some(Severity::Stop));
    let other = front(&lab, |put| put.address = Some(free));
    assert_eq!(
        says(&other, "Nobody answers h1 at 10.2.40.201"),
        Some(Severity::Clear)
    );
    lab.done(other).await;
    // Its own address is not in its way, nor in that of another port.
    lab.done(front(&lab, |put| {
        (put.name, put.address, put.port) = ("again".into(), Some(free), 8081);
    }))
    .await;
}
