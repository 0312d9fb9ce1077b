//! A laboratory for one test: devices on loopback addresses of their own, a database of its own, an engine.

use crate::media::MediaServer;
use sqlx::PgPool;
use std::{
    net::TcpListener,
    sync::Arc,
    sync::atomic::{AtomicU32, Ordering},
    time::{Duration, Instant},
};
use uuid::Uuid;
use zastrugi_core::rooms::{arrays, clusters, hosts, machines, networks, storage};
use zastrugi_core::{
    addressing::range,
    endpoint::{Endpoint, Password},
    estate::{ArrayKind, Demand, Estate, Failure, NetRole, Part, Provisioning, Subnet, Volume},
    evidence::{Answer, Probe},
    guard::Times,
    ids::{HostId, MachineId, RunId},
    moment::Span,
    permits::Role,
    rooms::Proposal,
    rooms::clusters::CreateCluster,
    rooms::hosts::ClaimHosts,
    rooms::machines::CreateMachines,
    rooms::networks::CreateNetwork,
    rooms::storage::{ConnectArray, ConnectVolume, VolumeSource},
    runs::{Run, RunState},
    testkit::machines,
    units::Bytes,
};
/// How many times as fast as in earnest a guarded laboratory's leases go.
pub(crate) const HASTE: u64 = 6;

use zastrugi_engine::{Desk, Ends, Engine, EngineSettings, RunFilter, Viewer};
use zastrugi_standins::{
    ArrayKind as DeviceKind, Scenario, ScenarioArray, ScenarioBalancer, ScenarioBuckets,
    ScenarioHost, ScenarioNames, ScenarioVolume, Settings, Standins,
};
use zastrugi_store::testkit::url;

pub(crate) struct Lab {
    pub(crate) standins: Standins,
    pub(crate) engine: Engine,
    pub(crate) desk: Desk,
    pub(crate) admin: Viewer,
    pub(crate) settings: EngineSettings,
    pub(crate) devices: Settings,
    media: MediaServer,
    _dir: tempfile::TempDir,
    _net: TcpListener,
}

/// A second number of a loopback address that no other test has, held by a listener.
fn net() -> (String, TcpListener) {
    static NEXT: AtomicU32 = AtomicU32::new(0);
    let start = std::process::id() % 97;
    for i in 0..97 {
        let n = 130 + (start + i + NEXT.fetch_add(1, Ordering::Relaxed)) % 97;
        if let Ok(held) = TcpListener::bind(format!("127.{n}.0.1:7443")) {
            return (format!("127.{n}"), held);
        }
    }
    panic!("no free loopback network");
}

/// A name server for one zone, and for the way back from 10.2.0.0/16 and 2001:db8::/32.
fn names() -> ScenarioNames {
    ScenarioNames {
        address: "1.53".into(),
        key: "zastrugi".into(),
        secret: NAMES_SECRET.into(),
        zones: [
            "quay.example",
            "2.10.in-addr.arpa",
            "8.b.d.0.1.0.0.2.ip6.arpa",
        ]
        .map(str::to_owned)
        .into(),
    }
}

fn buckets() -> ScenarioBuckets {
    ScenarioBuckets {
        address: "1.90".to_owned(),
        access: "zastrugi".to_owned(),
        secret: "first-light".to_owned(),
        buckets: vec!["points".to_owned()],
        locked: vec!["kept".to_owned()],
    }
}

fn balancer() -> ScenarioBalancer {
    ScenarioBalancer {
        address: "1.60".into(),
        token: "weigh-anchor".into(),
    }
}

/// What changes of names are signed with, in base64.
pub(crate) const NAMES_SECRET: &str = "bGFudGVybnMgYXJlIGxpdCBhdCBmaXZlIG8nY2xvY2s=";

pub(crate) fn scenario(hosts: u32) -> Scenario {
    let host = |n: u32| ScenarioHost {
        name: format!("h{n}"),
        address: format!("1.{}", 10 + n),
        maker: "Brattholm".into(),
        model: "R2".into(),
        cpu_maker: "Korund".into(),
        cpu_model: "K64".into(),
        cpu_level: "v3".into(),
        sockets: 2,
        cores: 32,
        base_mhz: 2500,
        memory_gib: 64,
        software: "4.2.1".into(),
        volumes: vec!["vol-a".into()],
        clock_offset_ms: 0,
        virtualization: true,
        bare: false,
        disks_gb: vec![1000, 1000],
        leftovers: vec![],
        quirk: Default::default(),
    };
    let volume = |uid: &str, name: &str, signature: Option<&str>| ScenarioVolume {
        uid: uid.into(),
        name: name.into(),
        capacity_gib: 1000,
        array: String::new(),
        pool: String::new(),
        signature: signature.map(str::to_owned),
    };
    let volumes = vec![
        volume("vol-a", "slab", None),
        volume("vol-x", "ledger", Some("xfs “ledger”")),
        volume("vol-y", "spare", Some("blank")),
    ];
    Scenario {
        hosts: (1..=hosts).map(host).collect(),
        volumes,
        arrays: vec![],
        switches: vec![],
        machines: vec![],
        time: [("tide".to_owned(), "1.123".to_owned())].into(),
        names: [("lantern".to_owned(), names())].into(),
        balancers: [("scales".to_owned(), balancer())].into(),
        buckets: [("breakwater".to_owned(), buckets())].into(),
        handmade: vec![],
    }
}

impl Lab {
    pub(crate) async fn new(pool: &PgPool, hosts: u32) -> Lab {
        Lab::at(&url(pool), hosts, true).await
    }

    pub(crate) async fn at(database: &str, hosts: u32, works: bool) -> Lab {
        Lab::of(database, scenario(hosts), works, 40.0).await
    }

    /// A laboratory whose work ends unheard of here and there.
    pub(crate) async fn ending(database: &str, hosts: u32, ends: Ends) -> Lab {
        Lab::with(database, scenario(hosts), 40.0, |settings| {
            settings.ends = ends
        })
        .await
    }

    /// Devices whose time goes so many times as fast as ours.
    pub(crate) async fn at_speed(database: &str, hosts: u32, speed: f64) -> Lab {
        Lab::of(database, scenario(hosts), true, speed).await
    }

    /// A laboratory whose cluster is guarded, with everything six times as fast.
    pub(crate) async fn guarded(pool: &PgPool, hosts: u32) -> Lab {
        let database = url(pool);
        let lab = Lab::with(&database, scenario(hosts), 40.0, |settings| {
            settings.guard = Some(Times::default().faster(HASTE));
        });
        let lab = lab.await;
        lab.standins.world.hurry_leases(HASTE);
        lab
    }

    /// A laboratory whose one array is a filer that exports by NFS.
    pub(crate) async fn with_filer(pool: &PgPool, hosts: u32) -> Lab {
        let filer = ScenarioArray {
            name: "shelf".into(),
            kind: DeviceKind::File,
            addresses: vec!["250.1".into(), "250.2".into()],
            portals: vec!["250.11".into(), "250.12".into()],
            pools: [("main".to_owned(), 20_000)].into(),
            classes: std::collections::BTreeMap::new(),
        };
        let scenario = Scenario {
            arrays: vec![filer],
            ..scenario(hosts)
        };
        Lab::of(&url(pool), scenario, true, 40.0).await
    }

    async fn of(database: &str, scenario: Scenario, works: bool, speed: f64) -> Lab {
        Lab::with(database, scenario, speed, |settings| settings.works = works).await
    }

    pub(crate) async fn with(
        database: &str,
        scenario: Scenario,
        speed: f64,
        edit: impl FnOnce(&mut EngineSettings),
    ) -> Lab {
        let dir = tempfile::tempdir().unwrap();
        let (net, held) = net();
        let devices = Settings {
            dir: dir.path().to_owned(),
            scenario,
            net: net.clone(),
            speed,
            control: "127.0.0.1:0".parse().unwrap(),
            control_token: "lab".into(),
            announce: None,
        };
        let standins = Standins::start(devices.clone()).await.unwrap();
        let media = MediaServer::begin(dir.path(), &net).await;
        let mut settings = EngineSettings {
            media: media.media.clone(),
            networks: format!("{net}.0.0/16"),
            works: true,
            order_lease: Span::secs(12),
            ..EngineSettings::new(database.to_owned(), [7; 32])
        };
        edit(&mut settings);
        let engine = Engine::start(settings.clone()).await.unwrap();
        let desk = engine.desk();
        media.is_at(&desk);
        let id = desk
            .add_person("lab.admin", Role::Admin, "laboratory lanterns")
            .await
            .unwrap();
        let admin = Viewer {
            id,
            name: "lab.admin".into(),
            role: Role::Admin,
        };
        Lab {
            standins,
            engine,
            desk,
            admin,
            settings,
            devices,
            media,
            _dir: dir,
            _net: held,
        }
    }

    /// The engine is dropped where it stands, as if its process were killed, and another one starts.
    pub(crate) async fn restart_engine(&mut self) {
        let again = Engine::start(self.settings.clone()).await.unwrap();
        self.desk = again.desk();
        self.media.is_at(&self.desk);
        drop(std::mem::replace(&mut self.engine, again));
    }

    pub(crate) fn estate(&self) -> std::sync::Arc<Estate> {
        self.desk.look().estate
    }

    pub(crate) async fn start(&self, ask: Proposal) -> RunId {
        self.desk
            .start(&self.admin, ask, None, Uuid::new_v4())
            .await
            .unwrap()
    }

    /// A machine that is being powered on: its host, one of these, was told and does not answer.
    pub(crate) async fn unanswered(&self, machine: &str, hosts: &[&str]) -> RunId {
        for host in hosts {
            self.standins.world.add_fault(zastrugi_standins::Fault {
                device: (*host).into(),
                call: "/power".into(),
                kind: zastrugi_standins::FaultKind::Hang,
                times: 1,
            });
        }
        let run = self.start(self.create(machine, 1, true)).await;
        eventually("the call hangs", || {
            let view = self.desk.look();
            let run = view.runs.get(run);
            run.is_some_and(|r| r.tally.running == 1 && r.tally.done == 1)
        })
        .await;
        run
    }

    /// Waits until the run is in one of these states.
    pub(crate) async fn until(&self, run: RunId, states: &[RunState]) -> Run {
        until(&self.desk, run, states).await
    }

    /// The story of a host's failure, once the start of each machine is told. A host's report may come before the word of whoever
    /// started them; a story that has ended takes that up too.
    pub(crate) async fn told(&self, host: HostId) -> Arc<Failure> {
        let story = || {
            let all = self.estate().failures.clone();
            all.values().rev().find(|f| f.host == host).cloned()
        };
        let all = |f: Arc<Failure>| {
            f.machines
                .iter()
                .all(|m| m.started.is_some() && m.up.is_some())
        };
        eventually_within("each start is told", 20, || story().is_some_and(all)).await;
        story().unwrap()
    }
    pub(crate) async fn done(&self, ask: Proposal) -> Run {
        let run = self.start(ask).await;
        let ended = self.until(run, &[RunState::Done, RunState::NeedsYou]).await;
        assert_eq!(
            ended.state,
            RunState::Done,
            "{:?}",
            ended
                .steps()
                .filter_map(|s| s.fault.clone())
                .collect::<Vec<_>>()
        );
        ended
    }

    pub(crate) async fn claim(&self) -> Proposal {
        let addresses: Vec<String> = self.standins.world.agents().into_values().collect();
        self.desk.greet(&addresses).await;
        let found = self.desk.found();
        let targets = found
            .into_iter()
            .filter(|f| f.greeting.owner.is_none())
            .map(|f| Endpoint {
                address: f.address.into(),
                pin: f.greeting.pin.into(),
            })
            .collect();
        let secret = self.desk.keep_secret("first-light").await.unwrap();
        Proposal::Hosts(hosts::Ask::Claim(ClaimHosts {
            targets,
            site: "Quayside".into(),
            password: Password::Kept(secret),
        }))
    }

    pub(crate) async fn cluster(&self) -> Proposal {
        let hosts: Vec<HostId> = self.estate().hosts.keys().copied().collect();
        self.desk.inspect(&hosts).await;
        let demand = Demand {
            failures: 0,
            domains: [false; 3],
            enforced: false,
        };
        Proposal::Clusters(clusters::Ask::Create(CreateCluster {
            time: vec![],
            kind: Default::default(),
            name: "Eider".into(),
            hosts,
            level: None,
            volume: None,
            demand,
        }))
    }

    /// All hosts claimed and in one cluster.
    pub(crate) async fn ready(&self) {
        self.done(self.claim().await).await;
        self.done(self.cluster().await).await;
    }

    /// A network for migration on every host.
    pub(crate) async fn migration_network(&self) {
        self.done(self.network()).await;
    }

    pub(crate) fn network(&self) -> Proposal {
        let subnet = Subnet {
            net: "10.9.50.0/24".parse().unwrap(),
            gateway: None,
            ranges: vec![range("10.9.50.10-99", Part::Hosts).unwrap()],
        };
        let network = CreateNetwork {
            name: "migration".into(),
            cluster: self.estate().clusters.keys().next().copied(),
            role: NetRole::Migration,
            vlan: Some(50),
            mtu: 1500,
            subnets: vec![subnet],
            uplinks: ["uplink-1", "uplink-2"].map(str::to_owned).into(),
        };
        Proposal::Networks(networks::Ask::Create(network))
    }

    pub(crate) fn create(&self, name: &str, count: u32, start: bool) -> Proposal {
        let cluster = self.estate().clusters.keys().next().copied();
        Proposal::Machines(machines::Ask::Create(Box::new(CreateMachines {
            pledge: None,
            start,
            ..machines(name, count, cluster, 2)
        })))
    }

    /// The one array of the laboratory, not connected yet.
    pub(crate) async fn array(&self, password: &str) -> Proposal {
        let addresses = self.standins.world.arrays()["shelf"].clone();
        self.desk.greet_arrays(&addresses).await;
        let book = self.desk.look().evidence;
        let controllers = addresses.into_iter().map(|address| {
            let answer = &book.answers[&Probe::ArrayGreeting(address.clone())].answer;
            let pin = match answer {
                Answer::Manager { pin, .. } => pin.clone(),
                other => panic!("{other:?}"),
            };
            Endpoint {
                address: address.into(),
                pin: pin.into(),
            }
        });
        let secret = self.desk.keep_secret(password).await.unwrap();
        Proposal::Storage(storage::Ask::ConnectArray(ConnectArray {
            controllers: controllers.collect(),
            kind: match self.devices.scenario.arrays.first() {
                Some(filer) if filer.kind == DeviceKind::File => ArrayKind::File,
                _ => ArrayKind::Block,
            },
            site: "Quayside".into(),
            user: "keeper".into(),
            password: Password::Kept(secret),
        }))
    }

    /// The array by its first address only, with this password.
    pub(crate) async fn other_access(&self, password: &str) -> Proposal {
        let array = self.estate().array_named("shelf").unwrap().clone();
        let first = &array.controllers[0];
        self.desk
            .greet_arrays(std::slice::from_ref(&first.address))
            .await;
        Proposal::Arrays(arrays::Ask::Change(arrays::Access {
            array: array.id,
            controllers: vec![Endpoint {
                address: (&first.address).into(),
                pin: (&first.pin).into(),
            }],
            user: "keeper".into(),
            password: Password::Kept(self.desk.keep_secret(password).await.unwrap()),
        }))
    }

    /// A run that Zastrugi began by itself.
    pub(crate) async fn by_itself(&self, title: &str) -> RunId {
        let began = Instant::now();
        loop {
            let all = self.desk.find_runs(&RunFilter::default(), None, 20).await;
            let found = all
                .unwrap()
                .into_iter()
                .find(|r| r.by.person.is_none() && r.title.starts_with(title));
            if let Some(run) = found {
                return run.id;
            }
            assert!(
                began.elapsed() < Duration::from_secs(30),
                "no run {title} that nobody asked for"
            );
            tokio::time::sleep(Duration::from_millis(50)).await;
        }
    }

    /// A volume for all hosts: a new one of so many GiB, or the one of this name on the array.
    pub(crate) async fn volume(&self, name: &str, size: Option<u64>) -> Proposal {
        let estate = self.estate();
        let array = estate.array_named("shelf").unwrap().id;
        let hosts: Vec<HostId> = estate.hosts.keys().copied().collect();
        self.desk.inspect_storage(&[array], &hosts, true).await;
        let book = self.desk.look().evidence;
        let lun = match &book.answers[&Probe::Luns(array)].answer {
            Answer::Luns { luns } => luns.iter().find(|l| l.name == name).map(|l| l.id.clone()),
            other => panic!("{other:?}"),
        };
        let source = match size {
            Some(gib) => VolumeSource::New {
                pool: "main".into(),
                size: Bytes::gib(gib),
                provisioning: Provisioning::Thin,
            },
            None => VolumeSource::Existing {
                lun: (lun.unwrap()).into(),
            },
        };
        Proposal::Storage(storage::Ask::ConnectVolume(ConnectVolume {
            array: Some(array),
            source,
            name: name.into(),
            cluster: estate.clusters.keys().next().copied(),
            hosts: None,
            typed: "".into(),
        }))
    }

    pub(crate) fn volume_named(&self, name: &str) -> std::sync::Arc<Volume> {
        let estate = self.estate();
        let found = estate.volumes.values().find(|v| v.name == name);
        found.unwrap().clone()
    }

    pub(crate) fn machine(&self, name: &str) -> MachineId {
        self.estate().machine_named(name).unwrap().id
    }

    /// Every key had its effect once, and nobody wrote to a disk that wasn't theirs.
    pub(crate) fn assert_once(&self) {
        let effects = self.standins.world.effects();
        assert!(!effects.is_empty());
        assert!(effects.values().all(|n| *n == 1), "{effects:?}");
        assert_eq!(self.standins.world.violations(), Vec::<String>::new());
    }
}

pub(crate) async fn until(desk: &Desk, run: RunId, states: &[RunState]) -> Run {
    let began = Instant::now();
    loop {
        let found = desk.run(run).await.ok().flatten();
        if let Some((run, _)) = &found
            && states.contains(&run.state)
        {
            return Run::clone(run);
        }
        assert!(
            began.elapsed() < Duration::from_secs(60),
            "{run} is {:?}",
            found.map(|f| f.0)
        );
        tokio::time::sleep(Duration::from_millis(20)).await;
    }
}

/// Waits until `fine`, up to half a minute.
pub(crate) async fn eventually(what: &str, fine: impl Fn() -> bool) {
    eventually_within(what, 30, fine).await;
}

pub(crate) async fn eventually_within(what: &str, seconds: u64, fine: impl Fn() -> bool) {
    let began = Instant::now();
    while !fine() {
        assert!(
            began.elapsed() < Duration::from_secs(seconds),
            "not in time: {what}"
        );
        tokio::time::sleep(Duration::from_millis(20)).await;
    }
}
