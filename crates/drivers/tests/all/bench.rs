//! One host on a bench: a stand-in on addresses of its own, drivers, an estate with the host and one machine.

use futures::future::BoxFuture;
use std::{
    collections::HashMap,
    net::TcpListener,
    sync::{
        Arc, Mutex,
        atomic::{AtomicU32, Ordering},
    },
};
use zastrugi_core::rooms::hosts;
use zastrugi_core::{epoch::Epoch, testkit::Folding};
use zastrugi_core::{
    estate::{Bmc, Condition, Estate, Fact, Host, Machine},
    evidence::{Answer, Probe},
    ids::{HostId, MachineId, Revision, SecretRef},
    moment::{Moment, Span},
    rooms::{Event, Step},
    runs::{Fault, FaultKind},
    testkit::read,
};
use zastrugi_drivers::{Drivers, Installation, Networks, Outcome, Secrets, Turn};
use zastrugi_standins::{Fault as Break, FaultKind as Breaks, Scenario, Settings, Standins};

/// The history in which all of these tests give orders.
pub(crate) const EPOCH: Epoch = Epoch {
    number: 1,
    history: uuid::Uuid::from_u128(7),
};

#[derive(Default)]
pub(crate) struct Drawer(Mutex<HashMap<SecretRef, String>>);

impl Secrets for Drawer {
    fn open(&self, secret: SecretRef) -> BoxFuture<'_, Result<String, Fault>> {
        let found = self.0.lock().unwrap().get(&secret).cloned();
        Box::pin(async move {
            found.ok_or_else(|| Fault::new(FaultKind::Refused, "no such secret", ""))
        })
    }
    fn keep(&self, plain: String) -> BoxFuture<'_, Result<SecretRef, Fault>> {
        let mut all = self.0.lock().unwrap();
        let secret = SecretRef(uuid::Uuid::from_u128(
            u128::try_from(all.len()).unwrap() + 1,
        ));
        all.insert(secret, plain);
        Box::pin(async move { Ok(secret) })
    }
}

pub(crate) struct Bench {
    pub(crate) standins: Standins,
    pub(crate) drivers: Drivers,
    pub(crate) drawer: Arc<Drawer>,
    pub(crate) estate: Estate,
    pub(crate) net: String,
    password: SecretRef,
    _dir: tempfile::TempDir,
    _held: TcpListener,
}

fn net() -> (String, TcpListener) {
    static NEXT: AtomicU32 = AtomicU32::new(0);
    let start = std::process::id() % 50;
    (0..50)
        .map(|i| 20 + (start + i + NEXT.fetch_add(1, Ordering::Relaxed)) % 50)
        .find_map(|n| {
            Some((
                format!("127.{n}"),
                TcpListener::bind(format!("127.{n}.0.1:7443")).ok()?,
            ))
        })
        .unwrap()
}

fn scenario() -> Scenario {
    serde_json::from_str(
        r#"{"hosts": [{"name": "h1", "address": "1.11", "maker": "Brattholm", "model": "R2", "cpu_maker": "Korund",
            "cpu_model": "K64", "cpu_level": "v3", "sockets": 2, "cores": 32, "base_mhz": 2500, "memory_gib": 64,
            "software": "4.2.1", "volumes": ["vol-a"]}],
            "volumes": [{"uid": "vol-a", "name": "slab", "capacity_gib": 1000}]}"#,
    )
    .unwrap()
}

impl Bench {
    /// A host that was greeted and is not claimed.
    pub(crate) async fn new() -> Bench {
        let dir = tempfile::tempdir().unwrap();
        let (net, held) = net();
        let settings = Settings {
            dir: dir.path().to_owned(),
            scenario: scenario(),
            net: net.clone(),
            speed: 20.0,
            control: "127.0.0.1:0".parse().unwrap(),
            control_token: "bench".into(),
            announce: None,
        };
        let standins = Standins::start(settings).await.unwrap();
        let drawer = Arc::new(Drawer::default());
        let password = drawer.keep("first-light".into()).await.unwrap();
        let installation = Installation {
            id: "bench".into(),
            name: "Bench".into(),
        };
        let networks = Networks::parse(&format!("{net}.0.0/16")).unwrap();
        let drivers = Drivers::new(networks, drawer.clone(), installation);
        let estate = (*read("cluster a\nhost 1 64\nmachine 7 db 2 off").view.estate).clone();
        let mut bench = Bench {
            standins,
            drivers,
            drawer,
            estate,
            net,
            password,
            _dir: dir,
            _held: held,
        };
        bench.know_host().await;
        bench
    }

    /// The same, claimed.
    pub(crate) async fn claimed() -> Bench {
        let mut bench = Bench::new().await;
        let Outcome::Done { events, .. } = bench.claim("claim").await.unwrap() else {
            panic!("not claimed")
        };
        bench.absorb(&events);
        bench
    }

    /// The estate's host and volume get the identity of the real ones.
    async fn know_host(&mut self) {
        let Answer::Greeting(greeting) = self.greet().await else {
            panic!("no greeting")
        };
        let mut host = Host::clone(self.host());
        host.access.address = self.address();
        host.access.pin.clone_from(&greeting.pin);
        host.access.key = None;
        host.hardware = greeting.hardware;
        host.condition = Condition::Claiming;
        host.bmc = greeting.bmc.map(|address| Bmc {
            address,
            pin: String::new(),
            user: "zastrugi".into(),
            key: None,
        });
        self.estate.put(Fact::Host(host.into()));
        let mut volume = (**self.estate.volumes.values().next().unwrap()).clone();
        volume.uid = "vol-a".into();
        self.estate.put(Fact::Volume(volume.into()));
    }

    pub(crate) fn password(&self) -> SecretRef {
        self.password
    }
    fn address(&self) -> String {
        format!("{}.1.11:7443", self.net)
    }
    pub(crate) async fn greet(&self) -> Answer {
        self.drivers
            .probe(&self.estate, &Probe::Greeting(self.address()))
            .await
    }
    pub(crate) fn host(&self) -> &Host {
        &self.estate.hosts[&HostId(1)]
    }
    pub(crate) fn machine(&self) -> &Machine {
        &self.estate.machines[&MachineId(7)]
    }
    pub(crate) fn break_with(&self, call: &str, kind: Breaks) {
        self.standins.world.add_fault(Break {
            device: "h1".into(),
            call: call.into(),
            kind,
            times: 1,
        });
    }
    pub(crate) async fn claim(&self, key: &str) -> Result<Outcome, Fault> {
        let step = Step::Hosts(hosts::Step::Claim {
            host: HostId(1),
            password: self.password,
        });
        let turn = Turn {
            key,
            epoch: EPOCH,
            fence: Revision(1),
            waited: Span(0),
            now: Moment(5),
            beside: 0,
        };
        self.drivers.perform(&self.estate, &step, turn).await
    }
    pub(crate) fn absorb(&mut self, events: &[Event]) {
        self.estate.absorb_all(events);
    }
    /// Carries a step out, which must succeed, and folds in what it did.
    pub(crate) async fn done(&mut self, step: &Step, turn: Turn<'_>) {
        match self.drivers.perform(&self.estate, step, turn).await {
            Ok(Outcome::Done { events, .. }) => self.absorb(&events),
            other => panic!("{step:?}: {other:?}"),
        }
    }
    /// Asks again until the step is done.
    pub(crate) async fn until_done(&mut self, step: &Step) {
        for _ in 0..200 {
            let turn = Turn {
                key: "wait",
                epoch: EPOCH,
                fence: Revision(20),
                waited: Span(0),
                now: Moment(5),
                beside: 0,
            };
            match self.drivers.perform(&self.estate, step, turn).await {
                Ok(Outcome::Done { events, .. }) => return self.absorb(&events),
                Ok(Outcome::NotYet { .. }) => {
                    tokio::time::sleep(std::time::Duration::from_millis(50)).await
                }
                other => panic!("{step:?}: {other:?}"),
            }
        }
        panic!("{step:?} never ends");
    }
}
