//! Clusters from hosts on which nothing is installed: installed over their controllers, taken over, joined.

use crate::{
    lab::{Lab, NAMES_SECRET, eventually, scenario},
    naming,
};
use sqlx::PgPool;
use std::collections::BTreeSet;
use uuid::Uuid;
use zastrugi_core::{
    endpoint::{Endpoint, Password},
    estate::{Demand, Host, NetRole, Network, Provisioning, Subnet},
    evidence::{Answer, Probe},
    ids::{ClusterId, RunId},
    road::{Correction, correctable},
    rooms::{
        Proposal,
        building::{self, Build},
        installing::{BareHost, Install},
        leaving,
        networks::CreateNetwork,
        storage::{ConnectVolume, VolumeSource},
    },
    runs::{Run, RunState},
    units::Bytes,
};
use zastrugi_engine::{AnswerError, Resolve};
use zastrugi_standins::{Quirk, Scenario};
use zastrugi_store::testkit::url;

/// `hosts` that are installed, and `bare` ones.
pub(crate) fn with_bare(hosts: u32, bare: u32) -> Scenario {
    let mut all = scenario(hosts);
    let like = scenario(1).hosts.remove(0);
    all.hosts.extend((1..=bare).map(|n| {
        let mut host = like.clone();
        host.name = format!("bare-{n}");
        host.address = format!("1.{}", 60 + n);
        host.volumes = vec![];
        host.bare = true;
        host
    }));
    all
}

/// What is asked of everybody before the sheet is filled in.
pub(crate) async fn look(lab: &Lab, bare: u32) -> Build {
    look_from(lab, 0, bare).await
}

/// The same of those behind the first.
async fn look_from(lab: &Lab, first: u32, bare: u32) -> Build {
    let net = &lab.devices.net;
    let range = format!("{net}.101.{}-{}", 61 + first, 60 + first + bare);
    let found = lab.desk.controllers(&range).await.unwrap();
    assert_eq!(found.len(), bare as usize);
    let secret = lab.desk.lend_secret(&lab.admin, "first-light").await;
    let secret = secret.unwrap();
    let pairs: Vec<_> = found.into_iter().map(|(at, _, pin)| (at, pin)).collect();
    lab.desk.look_beneath(&pairs, "operator", secret).await;
    let hosts = pairs
        .into_iter()
        .enumerate()
        .map(|(i, (at, pin))| BareHost {
            site: "".into(),
            controller: Endpoint {
                address: at.into(),
                pin: pin.into(),
            },
            name: format!("tern-{}", i + 1).into(),
            address: format!("{net}.1.{}", 91 + i).into(),
            overwrite: false,
        });
    let hosts: Vec<BareHost> = hosts.collect();
    let agents: Vec<String> = hosts
        .iter()
        .map(|h| format!("{}:7443", h.address))
        .collect();
    lab.desk.before_installing(&agents).await;
    lab.desk.ask_the_time(&[format!("{net}.1.123:1123")]).await;
    Build {
        into: None,
        name: "Tern".into(),
        kind: Default::default(),
        install: Install {
            hosts,
            site: "Lantern Point".into(),
            image: "brattholm.iso".into(),
            user: "operator".into(),
            password: Password::Kept(secret),
            subnet: format!("{net}.1.0/24").into(),
            gateway: "".into(),
            vlan: Some(10),
            time: vec![format!("{net}.1.123:1123").into()],
        },
        networks: vec![
            network(
                "management",
                NetRole::Management,
                10,
                &format!("{net}.1.0/24"),
            ),
            network("migration", NetRole::Migration, 60, "10.9.60.0/24"),
        ],
        // Nobody here has seen their model before.
        level: Some(zastrugi_core::estate::PsabiLevel::V2),
        demand: Demand {
            failures: 0,
            domains: [false; 3],
            enforced: false,
        },
        volume: lab
            .estate()
            .array_named("shelf")
            .map(|shelf| ConnectVolume {
                cluster: None,
                hosts: None,
                typed: "".into(),
                array: Some(shelf.id),
                source: VolumeSource::New {
                    pool: "main".into(),
                    size: Bytes::gib(100),
                    provisioning: Provisioning::Thin,
                },
                name: "tern-disks".into(),
            }),
        keepers: true,
        fencing: false,
        names: None,
    }
}

fn network(name: &str, role: NetRole, vlan: u16, net: &str) -> CreateNetwork {
    CreateNetwork {
        cluster: None,
        name: name.into(),
        role,
        vlan: Some(vlan),
        mtu: 1500,
        subnets: vec![Subnet {
            net: net.parse().unwrap(),
            gateway: None,
            ranges: vec![],
        }],
        uplinks: ["uplink-1", "uplink-2"].map(str::to_owned).into(),
    }
}

pub(crate) fn proposal(build: &Build) -> Proposal {
    Proposal::Building(building::Ask::Build(Box::new(build.clone())))
}

async fn bare_lab(pool: &PgPool, bare: u32) -> Lab {
    let lab = Lab::with(&url(pool), with_bare(0, bare), 40.0, |_| {}).await;
    lab.done(lab.array("first-light").await).await;
    lab
}

fn faults(run: &Run) -> Vec<String> {
    run.steps()
        .filter_map(|s| Some(s.fault.clone()?.said))
        .collect()
}

/// Every host has every network and volume. A report that was on its way while the last of them was set up may come in after the
/// run's end, and the next one says how it is.
async fn as_it_shall_be(lab: &Lab, cluster: ClusterId) {
    eventually("every host has every network and volume", || {
        let estate = lab.estate();
        let has = |host: &Host| {
            let networks = estate.networks_of(cluster);
            let fine = |n: &&std::sync::Arc<Network>| !n.standing(&estate, host).drifts();
            estate.unmounted(host) == 0 && networks.iter().all(fine)
        };
        estate.hosts_in(cluster).all(|h| has(h))
    })
    .await;
}

/// If this fails, nobody gets from bare hosts to a cluster that takes machines in one run.
#[sqlx::test(migrations = false)]
async fn a_cluster_is_built_from_bare_hosts_and_takes_machines(pool: PgPool) {
    let lab = bare_lab(&pool, 3).await;
    let build = look(&lab, 3).await;
    lab.done(proposal(&build)).await;
    let estate = lab.estate();
    let cluster = estate.cluster_named("Tern").unwrap();
    assert!(cluster.ready && cluster.hosts.len() == 3);
    assert_eq!(cluster.cpu_maker, "Korund", "told by the hosts themselves");
    assert_eq!(cluster.keeping.as_ref().unwrap().hosts.len(), 3);
    for host in estate.hosts_in(cluster.id) {
        assert!(host.accepts_work() && host.installing.is_none(), "{host:?}");
        assert_eq!(host.software, "4.2.1");
        assert_eq!(host.bmc.as_ref().unwrap().user, "zastrugi");
    }
    as_it_shall_be(&lab, cluster.id).await;
    for n in 1..=3 {
        let name = format!("tern-{n}");
        assert_eq!(lab.standins.world.controller_told(&name), ["On"]);
        assert_eq!(lab.standins.world.deeds()[&format!("{name} installed")], 1);
    }
    lab.done(lab.create("gate-{1}", 3, true)).await;
}

/// If this fails, a cluster without an array can't be built, its hosts can't be found by name, or what somebody else does at a
/// controller at the same time fails a build.
#[sqlx::test(migrations = false)]
async fn a_cluster_is_built_on_its_hosts_own_disks_with_names(pool: PgPool) {
    let lab = Lab::with(&url(&pool), with_bare(1, 3), 40.0, |_| {}).await;
    lab.ready().await;
    let first = *lab.estate().clusters.keys().next().unwrap();
    lab.done(naming::set(&lab, first, naming::ZONE, NAMES_SECRET).await)
        .await;
    let mut build = look(&lab, 3).await;
    build.names = Some(first);
    build.volume = Some(ConnectVolume {
        cluster: None,
        hosts: None,
        typed: "".into(),
        array: None,
        source: VolumeSource::Pooled {
            copies: 2,
            wait: zastrugi_core::moment::Span::mins(10),
        },
        name: "tern-disks".into(),
    });
    let said = lab.desk.assess(&lab.admin, &proposal(&build));
    let foretold = zastrugi_core::pooled::reckoned(&[Bytes(2_000_000_000_000); 3], 2);
    assert!(
        said.findings().iter().any(|f| f.text == foretold),
        "without the disk that each starts from: {:#?}",
        said.findings()
    );
    lab.standins.world.meddle("bare-2");
    let run = lab.start(proposal(&build)).await;
    let ended = lab.until(run, &[RunState::Done, RunState::NeedsYou]).await;
    assert_eq!(faults(&ended), Vec::<String>::new());
    let told = ended
        .steps()
        .filter(|s| s.said == "told 3 names; none leads back");
    assert_eq!(told.count(), 3, "each is asked of all");
    let volume = lab.volume_named("tern-disks");
    let pooled = volume.pooled.as_ref().unwrap();
    assert_eq!(pooled.members.len(), 3);
    assert_eq!(
        volume.capacity,
        Bytes(1_940_000_000_000),
        "(3 × 2 TB − 2 TB) / 2 × 0.97"
    );
    eventually("each has its name", || {
        let estate = lab.estate();
        let cluster = estate.cluster_named("Tern").unwrap();
        let mut hosts = estate.hosts_in(cluster.id);
        hosts.all(|h| {
            h.entered
                .as_ref()
                .is_some_and(|e| e.name == format!("{}.{}", h.name, naming::ZONE))
        })
    })
    .await;
    lab.done(lab.create("gate-{1}", 2, true)).await;
    lab.assert_once();
}

/// If this fails, one bad host holds up all others, or its trouble is told in somebody else's words.
#[sqlx::test(migrations = false)]
async fn a_host_that_does_not_start_says_why_the_others_go_on_and_it_catches_up(pool: PgPool) {
    let lab = bare_lab(&pool, 2).await;
    lab.standins.world.quirk("bare-1", Quirk::BootOrder);
    lab.standins.world.quirk("bare-2", Quirk::RestartsTwice);
    let build = look(&lab, 2).await;
    let run = lab.start(proposal(&build)).await;
    let stopped = lab.until(run, &[RunState::NeedsYou]).await;
    assert_eq!(
        faults(&stopped),
        ["The host says: No bootable device was found."]
    );
    eventually("the other has joined meanwhile", || {
        lab.estate()
            .host_named("tern-2")
            .is_some_and(|h| h.cluster.is_some())
    })
    .await;
    let filter = zastrugi_engine::EventFilter::default();
    let told = lab.desk.events(&filter, 200).await.unwrap();
    let once_more = "tern-2 was installed with 4.2.1, and restarted once more than it should";
    assert!(told.iter().any(|e| e.text == once_more), "{told:#?}");
    lab.standins.world.quirk("bare-1", Quirk::None);
    lab.desk
        .answer(&lab.admin, run, Resolve::Retry)
        .await
        .unwrap();
    lab.until(run, &[RunState::Done]).await;
    let told = lab.standins.world.controller_told("tern-1");
    assert_eq!(
        told,
        ["On", "ForceRestart"],
        "once, and once more when asked"
    );
}

/// If this fails, a manager that was killed in the middle of an installation starts it anew, or forgets it.
#[sqlx::test(migrations = false)]
async fn a_manager_that_is_killed_meanwhile_goes_on_and_a_build_that_is_given_up_leaves_nothing(
    pool: PgPool,
) {
    let mut lab = bare_lab(&pool, 2).await;
    let build = look(&lab, 2).await;
    let run = lab.start(proposal(&build)).await;
    let mounted = |lab: &Lab| lab.desk.look().runs.get(run).map_or(0, |r| r.tally.done);
    eventually("media are mounted", || mounted(&lab) >= 3).await;
    tokio::time::sleep(std::time::Duration::from_millis(1500)).await;
    lab.restart_engine().await;
    lab.until(run, &[RunState::Done]).await;
    for n in 1..=2 {
        let told = lab.standins.world.controller_told(&format!("tern-{n}"));
        assert_eq!(told, ["On"], "it was told once");
    }
}

/// If this fails, a build that somebody gives up leaves hosts in the estate that are not there.
#[sqlx::test(migrations = false)]
async fn a_build_that_is_given_up_leaves_nothing_that_was_not_made(pool: PgPool) {
    let lab = bare_lab(&pool, 2).await;
    (1..=2).for_each(|n| {
        lab.standins
            .world
            .quirk(&format!("bare-{n}"), Quirk::BootOrder)
    });
    let build = look(&lab, 2).await;
    let run = lab.start(proposal(&build)).await;
    gives_up(&lab, run).await;
    assert!(lab.estate().cluster_named("Tern").is_none());
    assert!(lab.estate().networks.is_empty());
    eventually("what was mounted is taken out", || {
        lab.estate().hosts.is_empty()
    })
    .await;
    for n in 1..=2 {
        let name = format!("bare-{n}");
        assert_eq!(lab.standins.world.mounted(&name), 0);
        assert_eq!(
            lab.standins.world.controller_told(&name),
            ["On", "ForceOff"]
        );
    }
}

/// If this fails, a wrong value in a sheet costs a whole build, or what was right is done twice.
#[sqlx::test(migrations = false)]
async fn a_wrong_value_is_corrected_in_the_run_and_only_what_rests_on_it_is_done_again(
    pool: PgPool,
) {
    let lab = bare_lab(&pool, 2).await;
    lab.standins.world.quirk("bare-1", Quirk::BootOrder);
    let build = look(&lab, 2).await;
    let run = lab.start(proposal(&build)).await;
    lab.until(run, &[RunState::NeedsYou]).await;
    let view = lab.desk.look();
    let (stopped, plan) = lab.desk.run(run).await.unwrap().unwrap();
    let open = correctable(&view, &plan, &stopped);
    let (step, given) = open.first_key_value().unwrap();
    assert_eq!(given[1].field, "address");
    let with = |address: &str| {
        Resolve::Correct(Correction {
            step: *step,
            typed: [("address".to_owned(), address.to_owned())].into(),
            everywhere: true,
        })
    };
    let net = &lab.devices.net;
    let taken = build.install.hosts[1].address.to_string();
    for (typed, words) in [
        ("nowhere", "“nowhere” is no address."),
        ("192.0.2.4", "192.0.2.4 is not in"),
        (taken.as_str(), "is the address of tern-2."),
        (&given[1].now, "Nothing is changed yet."),
    ] {
        let refused = lab.desk.answer(&lab.admin, run, with(typed)).await;
        let Err(AnswerError::Wrong(found)) = refused else {
            panic!("{typed} was taken: {refused:?}")
        };
        assert!(found.iter().any(|f| f.text.contains(words)), "{found:?}");
    }
    lab.standins.world.quirk("bare-1", Quirk::None);
    let right = format!("{net}.1.97");
    let told = lab.desk.answer(&lab.admin, run, with(&right)).await;
    told.unwrap();
    lab.until(run, &[RunState::Done]).await;
    let host = lab.estate().host_named("tern-1").cloned().unwrap();
    assert_eq!(host.access.address, format!("{right}:7443"));
    assert_eq!(lab.standins.world.deeds()["tern-2 installed"], 1);
    assert_eq!(lab.standins.world.deeds()["tern-1 installed"], 1);
    let filter = zastrugi_engine::EventFilter::default();
    let told = lab.desk.events(&filter, 200).await.unwrap();
    let corrected = format!("tern-1 was corrected: address {right} instead of {net}.1.91");
    assert!(told.iter().any(|e| e.text == corrected), "{told:#?}");
}

async fn gives_up(lab: &Lab, run: RunId) {
    lab.until(run, &[RunState::NeedsYou]).await;
    lab.desk
        .answer(&lab.admin, run, Resolve::Cancel)
        .await
        .unwrap();
    lab.until(run, &[RunState::Cancelled]).await;
}

/// If this fails, what is on a disk is erased unasked, a host gets software for other hardware, or a wrong password locks an
/// account.
#[sqlx::test(migrations = false)]
async fn what_can_be_known_before_is_said_before(pool: PgPool) {
    let lab = bare_lab(&pool, 2).await;
    lab.standins
        .world
        .leave_on_disks("bare-2", &["pool of the old archive"]);
    let mut build = look(&lab, 2).await;
    let stops = |build: &Build| -> Vec<String> {
        let said = lab.desk.assess(&lab.admin, &proposal(build));
        let all = said.findings().iter().filter(|f| f.stops());
        all.map(|f| f.text.clone()).collect()
    };
    assert_eq!(
        stops(&build),
        ["The disks of tern-2 are not empty: pool of the old archive."]
    );
    build.install.hosts[1].overwrite = true;
    assert_eq!(stops(&build), Vec::<String>::new());
    build.install.image = "korsnes.iso".into();
    assert!(
        stops(&build)[0].contains("made for hardware of Korsnes"),
        "{:?}",
        stops(&build)
    );
    build.install.image = "not-one.iso".into();
    assert_eq!(stops(&build), ["Choose what they are installed from."]);
    build.install.image = "any.iso".into();
    // A wrong password is tried once at each.
    let wrong = lab.desk.keep_secret("wrong").await.unwrap();
    let pairs: Vec<_> = build
        .install
        .hosts
        .iter()
        .map(|h| {
            (
                h.controller.address.to_string(),
                h.controller.pin.to_string(),
            )
        })
        .collect();
    for _ in 0..3 {
        lab.desk.look_beneath(&pairs, "operator", wrong).await;
    }
    let (address, pin) = pairs[0].clone();
    let probe = Probe::Beneath {
        address,
        pin,
        user: "operator".into(),
        password: wrong,
    };
    let book = lab.desk.look().evidence;
    assert!(matches!(
        book.fresh(&probe, lab.desk.now()),
        Some(Answer::Refused { .. })
    ));
    build.install.password = Password::Kept(wrong);
    assert!(stops(&build)[0].contains("does not take the account and password"));
    // Whoever did not type it may not name it.
    assert!(!lab.desk.is_lent(&lab.admin, wrong));
    let seed = lab
        .desk
        .medium(&Uuid::new_v4().to_string(), zastrugi_engine::Part::Seed)
        .await;
    assert!(seed.is_none(), "nobody was told this word");
}

/// If this fails, a cluster grows by a host that lacks what the others have, or shrinks by one that keeps its reach.
#[sqlx::test(migrations = false)]
async fn a_cluster_grows_by_a_bare_host_and_gives_it_back(pool: PgPool) {
    let lab = bare_lab(&pool, 3).await;
    let first = look(&lab, 2).await;
    lab.done(proposal(&first)).await;
    let estate = lab.estate();
    let tern = estate.cluster_named("Tern").unwrap().id;
    lab.done(lab.create("gate-{1}", 2, true)).await;
    // The third is found under an address of its own.
    let mut third = look_from(&lab, 2, 1).await;
    third.into = Some(tern);
    third.networks.clear();
    third.volume = None;
    third.install.hosts[0].name = "tern-3".into();
    third.install.hosts[0].address = format!("{}.1.93", lab.devices.net).into();
    lab.done(proposal(&third)).await;
    let estate = lab.estate();
    let host = estate.host_named("tern-3").unwrap().clone();
    assert_eq!(host.cluster, Some(tern));
    assert!(!host.mounts.is_empty());
    as_it_shall_be(&lab, tern).await;
    let volume = lab.volume_named("tern-disks");
    let reach = |lab: &Lab| lab.standins.world.mappings("tern-disks");
    assert_eq!(reach(&lab).len(), 3);
    // And back: what runs there moves, its keeper too.
    let leave = leaving::Ask::Leave(leaving::Leave {
        hosts: vec![estate.host_named("tern-1").unwrap().id],
        slow: true,
        force: true,
        wire: true,
        stop: false,
    });
    lab.done(Proposal::Leaving(leave)).await;
    let estate = lab.estate();
    assert!(estate.host_named("tern-1").is_none());
    assert_eq!(estate.hosts_in(tern).count(), 2);
    assert_eq!(reach(&lab).len(), 2, "it reaches {} no more", volume.name);
    let on = estate
        .machines
        .values()
        .filter(|m| m.host.is_some())
        .count();
    assert_eq!(on, 2, "nothing that ran there went off");
    let keeping = estate.clusters[&tern].keeping.as_ref().unwrap();
    assert!(keeping.hosts.iter().all(|h| estate.hosts.contains_key(h)));
}

/// If this fails, hosts are installed whose clocks nobody set, or a source that is wrong is found out an hour later.
#[sqlx::test(migrations = false)]
async fn a_time_source_that_is_wrong_is_known_before_and_one_that_goes_wrong_holds_up_the_join(
    pool: PgPool,
) {
    let lab = bare_lab(&pool, 1).await;
    let world = &lab.standins.world;
    let source = format!("{}.1.123:1123", lab.devices.net);
    let stops = |build: &Build| -> Vec<String> {
        let said = lab.desk.assess(&lab.admin, &proposal(build));
        let all = said.findings().iter().filter(|f| f.stops());
        all.map(|f| f.text.clone()).collect()
    };
    let mut build = look(&lab, 1).await;
    assert_eq!(stops(&build), Vec::<String>::new());
    world.time_off("tide", 3_000);
    lab.desk
        .ask_the_time_anew(std::slice::from_ref(&source))
        .await;
    let said = stops(&build).join(" ");
    assert!(said.contains("ms ahead of this manager's"), "{said}");
    world.time_silent("tide", true);
    lab.desk
        .ask_the_time_anew(std::slice::from_ref(&source))
        .await;
    assert!(
        stops(&build)[0].contains("gives no answer"),
        "{:?}",
        stops(&build)
    );
    build.install.time = vec!["ntp.example".into()];
    assert!(stops(&build)[0].contains("is no address"));
    build.install.time = vec![source.as_str().into()];
    world.time_silent("tide", false);
    world.time_off("tide", 0);
    lab.desk
        .ask_the_time_anew(std::slice::from_ref(&source))
        .await;
    let run = lab.start(proposal(&build)).await;
    world.time_off("tide", -3_000);
    let stopped = lab.until(run, &[RunState::NeedsYou]).await;
    let said = faults(&stopped).join(" ");
    // Three seconds, but for what the answer was on its way.
    assert!(said.contains("The clock of tern-1 is -"), "{said}");
    assert!(lab.estate().host_named("tern-1").unwrap().cluster.is_none());
    world.time_off("tide", 0);
    lab.desk
        .answer(&lab.admin, run, Resolve::Retry)
        .await
        .unwrap();
    lab.until(run, &[RunState::Done]).await;
    let cluster = lab.estate().cluster_named("Tern").unwrap().clone();
    assert_eq!(cluster.time, [source]);
}

/// If this fails, a cluster whose machines reach nobody outside counts as verified, or a gateway with a typing error means to begin
/// again.
#[sqlx::test(migrations = false)]
async fn a_gateway_that_answers_nobody_is_said_and_corrected_in_the_run(pool: PgPool) {
    let lab = bare_lab(&pool, 2).await;
    let mut build = look(&lab, 2).await;
    build.volume = None;
    build.keepers = false;
    build.networks[1].subnets[0].gateway = "10.9.60.7".parse().ok();
    let run = lab.start(proposal(&build)).await;
    let stopped = lab.until(run, &[RunState::NeedsYou]).await;
    let said: BTreeSet<String> = faults(&stopped).into_iter().collect();
    assert!(
        said.contains("Nobody answers at 10.9.60.7, the gateway of migration, when tern-1 asks."),
        "{said:?}"
    );
    let view = lab.desk.look();
    let (stopped, plan) = lab.desk.run(run).await.unwrap().unwrap();
    let open = correctable(&view, &plan, &stopped);
    let (step, given) = open.first_key_value().unwrap();
    let field = given.iter().find(|g| g.field == "gateway").unwrap();
    assert_eq!(field.now, "10.9.60.7");
    let with = |address: &str| {
        Resolve::Correct(Correction {
            step: *step,
            typed: [("gateway".to_owned(), address.to_owned())].into(),
            everywhere: true,
        })
    };
    for (typed, words) in [
        ("the router", "“the router” is no address."),
        ("10.9.61.1", "10.9.61.1 is not in"),
    ] {
        let refused = lab.desk.answer(&lab.admin, run, with(typed)).await;
        let Err(AnswerError::Wrong(found)) = refused else {
            panic!("{typed} was taken: {refused:?}")
        };
        assert!(found.iter().any(|f| f.text.contains(words)), "{found:?}");
    }
    lab.desk
        .answer(&lab.admin, run, with("10.9.60.1"))
        .await
        .unwrap();
    let ended = lab.until(run, &[RunState::Done, RunState::NeedsYou]).await;
    assert_eq!(faults(&ended), Vec::<String>::new());
    let told = ended
        .steps()
        .filter(|s| s.said.starts_with("10.9.60.1 is 02:"));
    assert_eq!(told.count(), 2, "each host heard it");
    let estate = lab.estate();
    let network = estate.networks.values().find(|n| n.name == "migration");
    assert!(
        network
            .unwrap()
            .gateways()
            .eq(["10.9.60.1".parse::<std::net::IpAddr>().unwrap()])
    );
}
