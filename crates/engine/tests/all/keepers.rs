//! Keepers on real sockets: a cluster that recovers without its manager, whoever of them is lost; and the manager that
//! takes in afterwards what they did.

use crate::lab::{HASTE, Lab, eventually_within};
use sqlx::PgPool;
use std::{
    collections::BTreeMap,
    sync::{Arc, Mutex},
    time::Duration,
};
use tokio::{sync::watch, task::JoinHandle};
use zastrugi_core::{
    estate::{ClusterKind, Condition, FailureStage, MachineState, Sort},
    guard::Times,
    ids::{ClusterId, HostId, MachineId},
    rooms::{
        Proposal, clusters,
        keepers::{self, Place},
    },
};
use zastrugi_drivers::Drivers;
use zastrugi_engine::Networks;
use zastrugi_keeper::{Given, Settings, keep};
use zastrugi_standins::{Fault, FaultKind, Runner, Runs};

/// Runs keepers as tasks, and can cut each off from the network or refuse to run any.
#[derive(Clone, Default)]
struct Tasks {
    drivers: Arc<Mutex<BTreeMap<String, Drivers>>>,
    refuses: Arc<Mutex<bool>>,
    cut: Arc<Mutex<Vec<String>>>,
}

impl Tasks {
    /// The keeper on this host reaches nothing but that from now on.
    fn cut_off(&self, serial: &str, networks: &str) {
        let drivers = self.drivers.lock().unwrap();
        self.cut.lock().unwrap().push(serial.to_owned());
        drivers[serial].allow(Networks::parse(networks).unwrap());
    }
}

struct Task {
    serial: String,
    cut: Arc<Mutex<Vec<String>>>,
    give: watch::Sender<Option<Given>>,
    said: watch::Receiver<bool>,
    task: JoinHandle<()>,
}

impl Runner for Tasks {
    fn begin(&self, _host: &str, serial: &str, cluster: &str) -> Box<dyn Runs> {
        let (give, given) = watch::channel(None);
        let (say, said) = watch::channel(false);
        let settings = Settings {
            serial: serial.to_owned(),
            cluster: cluster.to_owned(),
            times: Times::default().faster(HASTE),
        };
        let (all, name) = (self.drivers.clone(), serial.to_owned());
        let opened = move |drivers: &Drivers| {
            all.lock().unwrap().insert(name, drivers.clone());
        };
        let refuses = *self.refuses.lock().unwrap();
        let task = tokio::spawn(async move {
            if !refuses {
                keep(settings, given, say, opened).await;
            }
        });
        Box::new(Task {
            serial: serial.to_owned(),
            cut: self.cut.clone(),
            give,
            said,
            task,
        })
    }
}

impl Runs for Task {
    fn hand(&mut self, given: &zastrugi_standins::Given) {
        // Nothing gets through to one that is cut off.
        if self.cut.lock().unwrap().contains(&self.serial) {
            return;
        }
        self.give.send_replace(Some(Given {
            sealed: given.sealed.clone(),
            key: given.key.clone(),
        }));
    }
    fn keeps(&self) -> Option<bool> {
        (!self.task.is_finished()).then(|| *self.said.borrow())
    }
}

impl Drop for Task {
    fn drop(&mut self) {
        self.task.abort();
    }
}

fn cluster(lab: &Lab) -> ClusterId {
    *lab.estate().clusters.keys().next().unwrap()
}

fn placed(lab: &Lab, hosts: &[HostId]) -> Proposal {
    Proposal::Keepers(keepers::Ask::Place(Place {
        cluster: cluster(lab),
        hosts: hosts.to_vec(),
    }))
}

/// The host whose keeper says that it decides.
fn decides(lab: &Lab) -> Option<HostId> {
    let estate = lab.estate();
    let cluster = cluster(lab);
    let mut all = estate.hosts.values();
    let found = all.find(|h| h.reports() && h.keepers.get(&cluster).is_some_and(|k| k.keeps));
    found.map(|h| h.id)
}

/// Four hosts, keepers on the first three, one of which decides, and machines everywhere.
async fn kept(pool: &PgPool, machines: u32) -> (Lab, Tasks) {
    let lab = Lab::guarded(pool, 4).await;
    let tasks = Tasks::default();
    lab.standins.world.run_keepers_by(Arc::new(tasks.clone()));
    lab.ready().await;
    lab.done(lab.create("gate-{1}", machines, true)).await;
    let hosts: Vec<HostId> = lab.estate().hosts.keys().copied().take(3).collect();
    lab.done(placed(&lab, &hosts)).await;
    eventually_within("one of them decides", 60, || decides(&lab).is_some()).await;
    (lab, tasks)
}

/// Nobody is judged before one full lease was looked at.
async fn a_lease_passes() {
    tokio::time::sleep(Duration::from_millis(64_000 / HASTE)).await;
}

fn on(lab: &Lab, host: HostId) -> Vec<MachineId> {
    lab.estate().machines_on(host).map(|m| m.id).collect()
}

fn up_elsewhere(lab: &Lab, machines: &[MachineId], host: HostId) -> bool {
    let estate = lab.estate();
    machines.iter().all(|id| {
        let m = &estate.machines[id];
        matches!(m.state, MachineState::Running { guest: true })
            && m.host.is_some_and(|h| h != host)
    })
}

#[sqlx::test(migrations = false)]
async fn keepers_bring_machines_back_and_the_manager_tells_what_they_did(pool: PgPool) {
    let (lab, _tasks) = kept(&pool, 8).await;
    a_lease_passes().await;
    let deciding = decides(&lab).unwrap();
    let host = lab
        .estate()
        .hosts
        .keys()
        .copied()
        .find(|h| *h != deciding && !on(&lab, *h).is_empty())
        .unwrap();
    let machines = on(&lab, host);
    let name = lab.estate().hosts[&host].name.clone();
    // Lines are written, and nobody hears of it: they are looked up, and none is told twice.
    for device in lab.standins.world.agents().into_keys() {
        lab.standins.world.add_fault(Fault {
            device,
            call: "PUT /v1/volumes/vol-a/journal".into(),
            kind: FaultKind::Drop,
            times: 2,
        });
    }
    lab.standins.world.power(&name, false);
    eventually_within("its machines are up elsewhere", 120, || {
        up_elsewhere(&lab, &machines, host)
    })
    .await;
    let story = || {
        lab.estate()
            .failures
            .values()
            .find(|f| f.host == host)
            .cloned()
    };
    let over = || {
        story().is_some_and(|f| {
            f.stage == FailureStage::Over && f.machines.iter().all(|m| m.up.is_some())
        })
    };
    eventually_within("its story is told to the end", 20, over).await;
    assert!(matches!(
        lab.estate().hosts[&host].condition,
        Condition::Off { .. }
    ));
    let keeping = lab.estate().clusters[&cluster(&lab)]
        .keeping
        .clone()
        .unwrap();
    assert!(
        keeping.taken > 2,
        "the keepers' journal says it, not the manager's guard: {keeping:?}"
    );
    let story = story().unwrap();
    assert_eq!(story.machines.len(), machines.len());
    let verdicts = story.lines.iter().filter(|l| l.sort == Sort::Verdict);
    assert_eq!(verdicts.count(), 1, "{story:#?}");
    assert!(story.foretold.is_some());
    assert_eq!(lab.standins.world.violations(), Vec::<String>::new());
}

/// The worst moment: the manager dies, and in the same second the host of the keeper that decides.
#[sqlx::test(migrations = false)]
async fn without_manager_and_without_the_deciding_keeper_machines_come_back(pool: PgPool) {
    let (lab, _tasks) = kept(&pool, 8).await;
    a_lease_passes().await;
    let host = decides(&lab).unwrap();
    let machines = on(&lab, host);
    assert!(!machines.is_empty());
    let name = lab.estate().hosts[&host].name.clone();
    let uuids: Vec<String> = machines
        .iter()
        .map(|m| lab.estate().machines[m].uuid.to_string())
        .collect();
    let Lab {
        standins,
        engine,
        settings,
        desk,
        ..
    } = lab;
    drop((engine, desk));
    let died = std::time::SystemTime::now();
    standins.world.power(&name, false);
    let runs = || {
        let guests = standins.world.guests_by_uuid();
        uuids
            .iter()
            .all(|u| guests.get(u).is_some_and(|h| *h != name))
    };
    eventually_within("its machines run elsewhere, with nobody to ask", 120, runs).await;
    assert_eq!(standins.world.violations(), Vec::<String>::new());
    tokio::time::sleep(Duration::from_secs(5)).await;
    let back = std::time::SystemTime::now();
    let again = zastrugi_engine::Engine::start(settings).await.unwrap();
    let desk = again.desk();
    let story = || {
        desk.look()
            .estate
            .failures
            .values()
            .find(|f| f.host == host)
            .cloned()
    };
    let over = || {
        story().is_some_and(|f| {
            f.stage == FailureStage::Over && f.machines.iter().all(|m| m.up.is_some())
        })
    };
    eventually_within(
        "the manager tells what happened while it was gone",
        30,
        over,
    )
    .await;
    let story = story().unwrap();
    let ms = |t: std::time::SystemTime| {
        i64::try_from(t.duration_since(std::time::UNIX_EPOCH).unwrap().as_millis()).unwrap()
    };
    let fenced = story.fenced.unwrap().0;
    assert!(
        ms(died) < fenced && fenced < ms(back),
        "with the time at which it happened: {story:#?}"
    );
    let estate = desk.look().estate;
    assert!(
        estate.hosts[&host].condition.is_fenced(),
        "what was stored of it before does not outweigh what its keepers proved"
    );
    assert!(
        machines
            .iter()
            .all(|m| estate.machines[m].host.is_some_and(|h| h != host))
    );
    assert_eq!(standins.world.violations(), Vec::<String>::new());
}

/// A keeper that the network leaves alone with its own host still reaches the volume: it must neither decide nor keep the others
/// from deciding.
#[sqlx::test(migrations = false)]
async fn a_keeper_that_hears_nobody_is_deposed_and_harms_nobody(pool: PgPool) {
    let (lab, tasks) = kept(&pool, 4).await;
    let alone = decides(&lab).unwrap();
    let host = lab.estate().hosts[&alone].clone();
    let own = host.access.address.rsplit_once(':').unwrap().0.to_owned();
    tasks.cut_off(&host.hardware.serial, &format!("{own}/32"));
    let other = || decides(&lab).is_some_and(|h| h != alone);
    eventually_within("another one decides", 80, other).await;
    a_lease_passes().await;
    assert!(
        lab.estate().hosts.values().all(|h| h.accepts_work()),
        "nobody was switched off"
    );
    assert!(lab.estate().failures.is_empty());
    assert_eq!(lab.standins.world.violations(), Vec::<String>::new());
}

#[sqlx::test(migrations = false)]
async fn where_no_keeper_runs_the_manager_decides_until_one_does(pool: PgPool) {
    let (lab, tasks) = kept(&pool, 8).await;
    *tasks.refuses.lock().unwrap() = true;
    let deciding = decides(&lab).unwrap();
    let names: Vec<String> = lab
        .estate()
        .hosts
        .values()
        .map(|h| h.name.clone())
        .collect();
    for name in &names {
        lab.standins.world.end_keepers(name);
    }
    eventually_within("nobody is heard to decide", 40, || decides(&lab).is_none()).await;
    // Their patience, three times, and a lease.
    tokio::time::sleep(Duration::from_millis(50_000 / HASTE)).await;
    a_lease_passes().await;
    let host = lab
        .estate()
        .hosts
        .keys()
        .copied()
        .find(|h| *h != deciding && !on(&lab, *h).is_empty())
        .unwrap();
    let machines = on(&lab, host);
    lab.standins
        .world
        .power(&lab.estate().hosts[&host].name.clone(), false);
    eventually_within("its machines are up elsewhere", 120, || {
        up_elsewhere(&lab, &machines, host)
    })
    .await;
    *tasks.refuses.lock().unwrap() = false;
    eventually_within("a keeper decides again", 120, || decides(&lab).is_some()).await;
    assert_eq!(lab.standins.world.violations(), Vec::<String>::new());
}

/// If this fails, a keeper that was moved goes on deciding where nobody looks for it, or a cluster is left without any.
#[sqlx::test(migrations = false)]
async fn keepers_are_moved_and_taken_away_by_a_run(pool: PgPool) {
    let (lab, _tasks) = kept(&pool, 2).await;
    let hosts: Vec<HostId> = lab.estate().hosts.keys().copied().collect();
    let first = decides(&lab).unwrap();
    let others: Vec<HostId> = hosts.iter().copied().filter(|h| *h != first).collect();
    lab.done(placed(&lab, &others)).await;
    let moved = || {
        decides(&lab).is_some_and(|h| h != first) && lab.estate().hosts[&first].keepers.is_empty()
    };
    eventually_within("another one decides, and the first is gone", 80, moved).await;
    lab.done(placed(&lab, &[])).await;
    let gone = || lab.estate().hosts.values().all(|h| h.keepers.is_empty());
    eventually_within("none is left", 20, gone).await;
    assert_eq!(lab.estate().clusters[&cluster(&lab)].keeping, None);
}

/// If this fails, a site that was dark stays so until somebody finds a way to start the manager first.
#[sqlx::test(migrations = false)]
async fn a_site_that_was_dark_starts_again_without_its_manager(pool: PgPool) {
    let (lab, _tasks) = kept(&pool, 6).await;
    a_lease_passes().await;
    let uuids: Vec<String> = lab
        .estate()
        .machines
        .values()
        .map(|m| m.uuid.to_string())
        .collect();
    let Lab {
        standins,
        engine,
        settings,
        desk,
        ..
    } = lab;
    drop((engine, desk));
    let names: Vec<String> = standins.world.agents().into_keys().collect();
    names.iter().for_each(|n| standins.world.power(n, false));
    tokio::time::sleep(Duration::from_secs(3)).await;
    assert!(standins.world.guests_by_uuid().is_empty());
    // Power comes back, here and there, a little later.
    for name in &names {
        standins.world.power(name, true);
        tokio::time::sleep(Duration::from_millis(700)).await;
    }
    let runs = || {
        let guests = standins.world.guests_by_uuid();
        uuids.iter().all(|u| guests.contains_key(u))
    };
    eventually_within("everything runs again, with nobody to ask", 180, runs).await;
    assert_eq!(standins.world.violations(), Vec::<String>::new());
    let again = zastrugi_engine::Engine::start(settings).await.unwrap();
    let desk = again.desk();
    let up = || {
        let estate = desk.look().estate;
        estate
            .machines
            .values()
            .all(|m| m.state == MachineState::Running { guest: true })
    };
    eventually_within("the manager agrees", 40, up).await;
    let agrees = || {
        let estate = desk.look().estate;
        let guests = standins.world.guests_by_uuid();
        estate.machines.values().all(|m| {
            let host = m.host.and_then(|h| estate.hosts.get(&h));
            host.map(|h| &h.name) == guests.get(&m.uuid.to_string())
        })
    };
    eventually_within("about where each runs", 20, agrees).await;
}

/// If this fails, two hosts and a small one elsewhere, in no cluster, are no cluster that goes on without its manager.
#[sqlx::test(migrations = false)]
async fn a_witness_in_no_cluster_brings_back_what_ran_on_one_of_two_hosts(pool: PgPool) {
    let lab = Lab::guarded(&pool, 3).await;
    let tasks = Tasks::default();
    lab.standins.world.run_keepers_by(Arc::new(tasks));
    lab.done(lab.claim().await).await;
    let witness = lab.estate().host_named("h3").unwrap().id;
    let mut ask = lab.cluster().await;
    if let Proposal::Clusters(clusters::Ask::Create(create)) = &mut ask {
        create.hosts.retain(|h| *h != witness);
        create.kind = ClusterKind::TwoHosts;
    }
    lab.done(ask).await;
    lab.done(lab.create("gate-{1}", 4, true)).await;
    // It alone decides, so that nobody else can have done it.
    lab.done(placed(&lab, &[witness])).await;
    eventually_within("the witness decides", 60, || decides(&lab) == Some(witness)).await;
    assert_eq!(lab.estate().hosts[&witness].cluster, None);
    a_lease_passes().await;
    let host = lab.estate().host_named("h1").unwrap().id;
    let uuids: Vec<String> = on(&lab, host)
        .iter()
        .map(|m| lab.estate().machines[m].uuid.to_string())
        .collect();
    assert!(!uuids.is_empty());
    let Lab {
        standins,
        engine,
        desk,
        ..
    } = lab;
    drop((engine, desk));
    standins.world.power("h1", false);
    let runs = || {
        let guests = standins.world.guests_by_uuid();
        uuids
            .iter()
            .all(|u| guests.get(u).is_some_and(|h| h == "h2"))
    };
    eventually_within("they run on the other", 120, runs).await;
    assert_eq!(standins.world.violations(), Vec::<String>::new());
}
