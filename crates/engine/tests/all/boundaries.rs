//! Every kind of step is ended at every boundary between its order and its written result. Whoever comes next goes on, and
//! each thing is done as often as without any of that.

mod carrying;
mod copying;
mod finding;
mod fitting;
mod fronting;
mod going;
mod imaging;
mod own_disks;
mod packing;
mod providing;
mod replicating;
mod setting_back;
mod sharing;
mod snapping;
mod twins;

use twins::Twins;

use crate::{
    building,
    lab::{Lab, NAMES_SECRET, eventually},
    naming, network, taking,
};
use futures::FutureExt;
use sqlx::PgPool;
use std::{
    collections::{BTreeMap, BTreeSet},
    sync::{
        Arc, Mutex, PoisonError,
        atomic::{AtomicBool, Ordering},
    },
    time::{Duration, Instant},
};
use tokio::sync::Notify;
use uuid::Uuid;
use zastrugi_core::{
    estate::MachineState,
    ids::{HostId, MachineId, RunId},
    moment::Span,
    rooms::{
        Proposal, Step, arrays, edits,
        edits::{Set, Target},
        growing, hosts,
        hosts::HostPower,
        keepers, leaving, machines,
        machines::{AfterGrace, PowerAct},
        maintenance,
        maintenance::{Afterwards, Empty, Return},
        moving,
        moving::{DisksTo, Move},
        networks, storage,
    },
    runs::RunState,
    units::Bytes,
};
use zastrugi_engine::{Boundary, Ends, Engine, EngineSettings, EventFilter, Resolve};
use zastrugi_standins::Quirk;
use zastrugi_store::{TakenOrder, testkit::url};

/// A step, and where its task has ended already.
type Ended = Arc<Mutex<BTreeSet<(RunId, usize, Boundary)>>>;

/// Each step ends once at each boundary, and its order is free for the next who looks, as when its lease has run out.
fn everywhere(pool: &PgPool, ended: &Ended) -> Ends {
    let (pool, ended) = (pool.clone(), ended.clone());
    Ends::Task(Arc::new(move |order: TakenOrder, at| {
        let mut all = ended.lock().unwrap_or_else(PoisonError::into_inner);
        let first = all.insert((order.run, order.step, at));
        let pool = pool.clone();
        async move {
            if first && at != Boundary::ResultWritten {
                sqlx::query(
                    "update orders set leased_until = now() - interval '1 second' where token = $1",
                )
                .bind(order.token)
                .execute(&pool)
                .await
                .unwrap();
            }
            first
        }
        .boxed()
    }))
}

/// As when the order's lease has run out.
async fn free(pool: &PgPool, token: Uuid) {
    let now = "update orders set leased_until = now() - interval '1 second' where token = $1";
    sqlx::query(now).bind(token).execute(pool).await.unwrap();
}

/// The room and the kind of a step, as they are stored; of one in a composed room also those that it has at home.
fn kinds(step: &Step) -> Vec<(String, String)> {
    let first = |value: &serde_json::Value| {
        let (word, inner) = value.as_object().unwrap().iter().next().unwrap();
        (word.clone(), inner.clone())
    };
    let (room, inner) = first(&serde_json::to_value(step).unwrap());
    let (kind, deeper) = first(&inner);
    let home = match (room.as_str(), kind.as_str()) {
        ("maintenance" | "joining" | "leaving" | "growing", "move") => "moving".to_owned(),
        (
            "maintenance" | "joining" | "building" | "leaving" | "taking" | "providing",
            "storage",
        ) => "storage".to_owned(),
        ("scheduled" | "backups" | "restoring" | "replicating" | "handover", "snap") => {
            "snapshots".to_owned()
        }
        ("backups" | "restoring", "carry") => "carrying".to_owned(),
        ("backups", "store") => "stores".to_owned(),
        ("restoring", "power") => "machines".to_owned(),
        ("proving" | "drilling" | "handover", "try") => "answers".to_owned(),
        ("building", "bare") => "installing".to_owned(),
        ("building" | "joining" | "leaving", "name") => "naming".to_owned(),
        (
            "maintenance" | "joining" | "building" | "leaving" | "taking" | "growing" | "providing"
            | "restocking" | "proving" | "drilling" | "handover" | "replicating",
            own,
        ) => {
            format!("{own}s")
        }
        _ => return vec![(room, kind)],
    };
    vec![(room, kind), (home, first(&deeper).0)]
}

/// What is done in all rooms, one after the other, so that every kind of step occurs.
struct Tour<'a> {
    lab: &'a Lab,
    steps: Steps,
}

impl Tour<'_> {
    async fn go(&mut self, ask: Proposal) {
        let run = self.lab.start(ask).await;
        self.end(run).await;
    }

    async fn end(&mut self, run: RunId) {
        let ended = self
            .lab
            .until(run, &[RunState::Done, RunState::NeedsYou])
            .await;
        let plan = self.lab.desk.run(run).await.unwrap().unwrap().1;
        let faults: Vec<_> = ended.steps().filter_map(|s| s.fault.clone()).collect();
        assert_eq!(ended.state, RunState::Done, "{}: {faults:?}", ended.title);
        for (n, planned) in plan.steps.iter().enumerate() {
            self.steps.insert((run, n), planned.step.clone());
        }
    }

    fn machine(&self) -> MachineId {
        self.lab.machine("m")
    }

    /// A keeper is placed, moved and taken away.
    async fn keepers(&mut self) {
        let estate = self.lab.estate();
        let cluster = *estate.clusters.keys().next().unwrap();
        let all: Vec<HostId> = estate.hosts.keys().copied().take(2).collect();
        for hosts in [vec![all[0]], vec![all[1]], vec![]] {
            let place = keepers::Place { cluster, hosts };
            self.go(Proposal::Keepers(keepers::Ask::Place(place))).await;
        }
    }

    /// Its host is emptied and put back with it; then both are, so that it has to stop and is started again.
    async fn maintenance(&mut self) {
        let lab = self.lab;
        let here = lab.estate().machines[&self.machine()].host.unwrap();
        let both = lab.estate().hosts.keys().copied().collect();
        for (hosts, stop) in [(vec![here], false), (both, true)] {
            let ask = Proposal::Maintenance(maintenance::Ask::Empty(Empty {
                hosts: hosts.clone(),
                reason: "fans".into(),
                lasts: None,
                slow: false,
                force: false,
                wire: false,
                stop,
                then: Afterwards::StaysOn,
            }));
            self.free(&ask).await;
            self.go(ask).await;
            let left = |h: &HostId| lab.estate().machines_on(*h).count();
            assert_eq!(hosts.iter().map(left).sum::<usize>(), 0);
            let ask =
                Proposal::Maintenance(maintenance::Ask::Return(Return { hosts, bring: true }));
            self.free(&ask).await;
            self.go(ask).await;
            assert_eq!(lab.estate().machines[&self.machine()].host, Some(here));
        }
    }

    async fn power(&mut self, act: PowerAct) {
        let machines = vec![self.machine()];
        self.go(Proposal::Machines(machines::Ask::Power { machines, act }))
            .await;
    }

    async fn switch(&mut self, host: HostId, act: HostPower) {
        self.lab.desk.ask_controller(host, true).await;
        let ask = Proposal::Hosts(hosts::Ask::Power { host, act });
        self.free(&ask).await;
        self.go(ask).await;
    }

    /// Until nothing stands in the way of a proposal any more that hosts have to report first.
    async fn free(&self, ask: &Proposal) {
        let began = std::time::Instant::now();
        loop {
            let said = self.lab.desk.assess(&self.lab.admin, ask);
            let stops = said.findings().iter().filter(|f| f.stops());
            let stops: Vec<_> = stops.map(|f| f.text.clone()).collect();
            if stops.is_empty() {
                return;
            }
            assert!(began.elapsed().as_secs() < 30, "{stops:?}");
            tokio::time::sleep(std::time::Duration::from_millis(20)).await;
        }
    }

    async fn beneath(&mut self) {
        let lab = self.lab;
        self.go(lab.claim().await).await;
        self.go(lab.array("first-light").await).await;
        let array = lab.estate().array_named("shelf").unwrap().id;
        self.go(Proposal::Arrays(arrays::Ask::Remove { array }))
            .await;
        self.go(lab.cluster().await).await;
        eventually("hosts tell of their uplinks", || {
            lab.estate().hosts.values().all(|h| h.uplinks.len() == 2)
        })
        .await;
        self.go(lab.array("first-light").await).await;
        self.go(lab.other_access("first-light").await).await;
        self.given_up().await;
        self.go(lab.volume("quay", Some(64)).await).await;
        let volume = lab.volume_named("quay").id;
        let (host, uid) = ("h2", lab.volume_named("quay").uid.clone());
        lab.standins.world.forget(host, &uid);
        eventually("h2 forgot it", || {
            !lab.volume_named("quay").drift(&lab.estate()).is_empty()
        })
        .await;
        self.go(Proposal::Storage(storage::Ask::HealVolume { volume }))
            .await;
        let size = Bytes::gib(80);
        self.go(Proposal::Storage(storage::Ask::ExtendVolume {
            volume,
            size,
        }))
        .await;
        self.set_back(volume).await;
        self.go(crate::network::switch(lab, "switch-1-1").await)
            .await;
        self.go(lab.network()).await;
    }

    /// A connection that is given up: what it gave is taken away by itself.
    async fn given_up(&mut self) {
        let lab = self.lab;
        let run = lab.start(lab.volume("ledger", None).await).await;
        lab.until(run, &[RunState::NeedsYou]).await;
        let cancelled = lab.desk.answer(&lab.admin, run, Resolve::Cancel).await;
        cancelled.unwrap();
        lab.until(run, &[RunState::Cancelled]).await;
        let run = lab.by_itself("Take away the reach of ledger").await;
        self.end(run).await;
    }

    async fn machine_life(&mut self) {
        let lab = self.lab;
        let mut ask = lab.create("m", 1, true);
        if let Proposal::Machines(machines::Ask::Create(create)) = &mut ask {
            create.volume = Some(lab.volume_named("slab").id);
        }
        self.go(ask).await;
        let measured = || {
            let view = lab.desk.look();
            let load = view.loads.machines.get(&lab.machine("m")).copied();
            load.is_some_and(|l| l.writes.is_some() && l.disk.is_some())
        };
        eventually("its writing is measured", measured).await;
        let here = lab.estate().machines[&self.machine()].host;
        let to = lab
            .estate()
            .hosts
            .keys()
            .copied()
            .find(|h| Some(*h) != here);
        let volume = lab.volume_named("quay").id;
        let disks = Some(DisksTo {
            volume: Some(volume),
            stay: true,
        });
        for (to, disks) in [(to, None), (None, disks)] {
            let ask = Proposal::Moving(moving::Ask::Move(Move {
                machines: vec![self.machine()],
                to,
                disks,
                slow: false,
                force: false,
                wire: false,
            }));
            self.free(&ask).await;
            self.go(ask).await;
        }
        self.power(PowerAct::Stop {
            grace: Span::secs(60),
            then: AfterGrace::LeaveOn,
        })
        .await;
        self.go(Proposal::Edits(edits::Ask::Edit {
            targets: vec![Target::Machine(self.machine())],
            // Up to four while it runs.
            sets: vec![Set::VCpus(2), Set::VCpusMax(4)],
        }))
        .await;
        self.shared().await;
        self.found().await;
        self.power(PowerAct::On { host: None }).await;
        self.grown().await;
        self.provided().await;
        self.snapped().await;
        self.fitted().await;
        self.copied().await;
        self.packed().await;
        self.backed_up().await;
        self.maintenance().await;
        self.keepers().await;
        self.leaves().await;
        self.power(PowerAct::Off).await;
        let machines = vec![self.machine()];
        let delete = Proposal::Machines(machines::Ask::Delete {
            machines: machines.clone(),
        });
        self.go(delete.clone()).await;
        self.go(Proposal::Machines(machines::Ask::Recover {
            machines: machines.clone(),
            how: Default::default(),
        }))
        .await;
        self.go(delete).await;
        self.go(Proposal::Machines(machines::Ask::Purge {
            machines,
            typed: "m".into(),
        }))
        .await;
    }

    /// It goes to the other host, and has more there.
    async fn grown(&mut self) {
        let lab = self.lab;
        let answers = || {
            let m = lab.estate().machines[&lab.machine("m")].clone();
            m.grows.vcpus && m.state == MachineState::Running { guest: true }
        };
        eventually("its guest takes more", answers).await;
        let here = lab.estate().machines[&self.machine()].host;
        let other = lab
            .estate()
            .hosts
            .keys()
            .copied()
            .find(|h| Some(*h) != here);
        let ask = Proposal::Growing(growing::Ask::Grow(growing::Grow {
            machine: self.machine(),
            memory: None,
            vcpus: Some(3),
            to: other,
            slow: false,
            force: true,
            wire: false,
        }));
        self.free(&ask).await;
        self.go(ask).await;
    }

    /// A machine gets its name in DNS by itself, and gives it up with the zone.
    async fn named(&mut self) {
        let lab = self.lab;
        let cluster = *lab.estate().clusters.keys().next().unwrap();
        let crew = network::ask(lab, "crew", 22, 1500);
        self.go(Proposal::Networks(networks::Ask::Create(crew)))
            .await;
        let crew = network::network(lab, "crew");
        self.go(naming::set(lab, cluster, naming::ZONE, NAMES_SECRET).await)
            .await;
        // Both hosts, then the machine.
        let run = lab.by_itself("2 names of").await;
        self.end(run).await;
        self.go(network::on(lab, "n", crew)).await;
        let run = lab.by_itself("Name of n").await;
        self.end(run).await;
        // Given up, and taken again: hosts keep their names while the rest is done.
        self.go(naming::set(lab, cluster, "", NAMES_SECRET).await)
            .await;
        let machines = vec![lab.machine("n")];
        for ask in [
            machines::Ask::Power {
                machines: machines.clone(),
                act: PowerAct::Off,
            },
            machines::Ask::Delete {
                machines: machines.clone(),
            },
            machines::Ask::Purge {
                machines: machines.clone(),
                typed: "n".into(),
            },
        ] {
            let ask = Proposal::Machines(ask);
            self.free(&ask).await;
            self.go(ask).await;
        }
        let remove = networks::Ask::Remove {
            network: crew,
            typed: "".into(),
        };
        self.go(Proposal::Networks(remove)).await;
        self.go(naming::set(lab, cluster, naming::ZONE, NAMES_SECRET).await)
            .await;
        self.all_named().await;
    }

    /// A zone is given up: the names that still stand there are taken out.
    async fn unnamed(&mut self) {
        let lab = self.lab;
        let cluster = *lab.estate().clusters.keys().next().unwrap();
        self.all_named().await;
        self.go(naming::set(lab, cluster, "", NAMES_SECRET).await)
            .await;
    }

    /// Every host has its name, and nobody is at work on one.
    async fn all_named(&self) {
        let lab = self.lab;
        eventually("hosts have their names", || {
            let view = lab.desk.look();
            let mut hosts = view.estate.hosts.values().filter(|h| h.cluster.is_some());
            hosts.all(|h| h.entered.is_some()) && view.runs.iter().all(|r| !r.state.open())
        })
        .await;
    }

    /// A host of another manager, with what runs on it, is taken over.
    async fn takes_over(&mut self) {
        let ask = taking::look(self.lab, 1).await;
        self.go(ask).await;
        let estate = self.lab.estate();
        let cluster = estate.cluster_named("Skua").unwrap();
        assert_eq!(estate.count_in(cluster.id), 3);
    }

    /// A bare host becomes a cluster of its own, and everything that it was made of is let go again.
    async fn builds(&mut self) {
        let lab = self.lab;
        let mut build = building::look(lab, 1).await;
        build.fencing = true;
        build.names = lab.estate().clusters.keys().next().copied();
        build.networks[1].subnets[0].gateway = "10.9.60.1".parse().ok();
        self.gives_up(&building::proposal(&build)).await;
        self.go(building::proposal(&build)).await;
        let cluster = lab.estate().cluster_named("Tern").unwrap().id;
        let place = keepers::Place {
            cluster,
            hosts: vec![],
        };
        self.go(Proposal::Keepers(keepers::Ask::Place(place))).await;
        let volume = lab.volume_named("tern-disks").id;
        let give = Proposal::Storage(storage::Ask::GiveVolume { volume });
        self.free(&give).await;
        self.go(give).await;
        self.all_named().await;
        // With its only host the cluster is no more.
        let hosts = lab.estate().hosts_in(cluster).map(|h| h.id).collect();
        self.go(Proposal::Leaving(leaving::Ask::Leave(leaving::Leave {
            hosts,
            slow: false,
            force: false,
            wire: false,
            stop: false,
        })))
        .await;
        assert!(!lab.estate().clusters.contains_key(&cluster));
    }

    /// What was mounted for a host that nobody wants any more is taken out by a run of its own.
    async fn gives_up(&mut self, ask: &Proposal) {
        let lab = self.lab;
        // It would be installed before anybody could give it up, or not, as it happens.
        lab.standins.world.quirk("bare-1", Quirk::Stuck);
        let run = lab.start(ask.clone()).await;
        eventually("it is mounted and started", || {
            lab.standins.world.controller_told("bare-1") == ["On"]
        })
        .await;
        let cancel = lab.desk.answer(&lab.admin, run, Resolve::Cancel);
        cancel.await.unwrap();
        lab.until(run, &[RunState::Cancelled]).await;
        let run = lab.by_itself("Give up the installation").await;
        self.end(run).await;
        lab.standins.world.quirk("bare-1", Quirk::None);
    }

    async fn away(&mut self) {
        let lab = self.lab;
        let volume = lab.volume_named("quay").id;
        let give = Proposal::Storage(storage::Ask::GiveVolume { volume });
        self.free(&give).await;
        self.go(give).await;
        let array = lab.estate().array_named("shelf").unwrap().clone();
        lab.desk.inspect_storage(&[array.id], &[], true).await;
        let quay = array.left.iter().find(|l| l.name == "quay").unwrap();
        self.go(Proposal::Arrays(arrays::Ask::DeleteLun {
            array: array.id,
            lun: quay.lun.clone(),
            typed: "quay".into(),
        }))
        .await;
        let network = lab.estate().networks.keys().next().copied().unwrap();
        self.go(Proposal::Networks(networks::Ask::Remove {
            network,
            typed: "migration".into(),
        }))
        .await;
        let hosts: Vec<HostId> = lab.estate().hosts.keys().copied().collect();
        lab.desk.ask_controller(hosts[0], true).await;
        let test = Proposal::Hosts(hosts::Ask::TestFencing {
            hosts: vec![hosts[0]],
        });
        self.free(&test).await;
        self.go(test).await;
        self.switch(hosts[0], HostPower::Restart).await;
        self.switch(hosts[0], HostPower::Off).await;
        // One that is off is given up untold, the others are told.
        self.go(Proposal::Hosts(hosts::Ask::HandBack { hosts }))
            .await;
    }
}

async fn tour(lab: &Lab) -> Steps {
    let mut tour = Tour {
        lab,
        steps: BTreeMap::new(),
    };
    tour.beneath().await;
    tour.image().await;
    tour.named().await;
    tour.machine_life().await;
    tour.own_disks().await;
    tour.fronting().await;
    tour.returns().await;
    tour.builds().await;
    tour.unnamed().await;
    tour.away().await;
    tour.takes_over().await;
    tour.steps
}

/// What was done, whichever host or number it was done at.
fn deeds(lab: &Lab) -> BTreeMap<String, u32> {
    let mut all = BTreeMap::new();
    for (words, n) in lab.standins.world.deeds() {
        let call = words.split_once(' ').map_or("", |w| w.1);
        let numbers = |part: &str| match part.parse::<u32>() {
            Ok(_) => "#".to_owned(),
            Err(_) => part.to_owned(),
        };
        let call: Vec<String> = call.split('/').map(numbers).collect();
        *all.entry(call.join("/")).or_insert(0) += n;
    }
    all
}

/// Of hosts that were handed back no secret is kept: once they are too old to be about to be named, only those of the array,
/// of the switch, and the two of the host that was taken over last are left.
async fn assert_forgotten(lab: Lab, pool: &PgPool) {
    lab.engine.stop().await;
    let age = "update secret set created = created - interval '2 hours'";
    sqlx::query(age).execute(pool).await.unwrap();
    let settings = EngineSettings {
        ends: Ends::Nowhere,
        ..lab.settings
    };
    let next = Engine::start(settings).await.unwrap();
    let began = Instant::now();
    loop {
        let count = sqlx::query_scalar("select count(*) from secret");
        let left: i64 = count.fetch_one(pool).await.unwrap();
        if left == 4 {
            break;
        }
        assert!(began.elapsed() < Duration::from_secs(90), "{left} secrets");
        tokio::time::sleep(Duration::from_millis(100)).await;
    }
    next.stop().await;
}

/// Steps by their run and place.
type Steps = BTreeMap<(RunId, usize), Step>;

/// Rooms that are gone through where there are two sites.
const BETWEEN_SITES: [&str; 5] = [
    "drilling",
    "handover",
    "passages",
    "replicas",
    "replicating",
];

/// If this fails, a power cut at the wrong moment does something twice, or leaves a step that nobody goes on with.
#[sqlx::test(migrations = false)]
async fn every_kind_of_step_ended_at_every_boundary_is_done_once(pool: PgPool) {
    let world = || taking::with_theirs(building::with_bare(2, 1), 1);
    let at_one = |room: &str| !BETWEEN_SITES.contains(&room);
    let twins = Twins::of(&pool, world, tour, at_one).await;
    let (rough, calm) = (&twins.rough, &twins.calm);
    // A reset has no key: that it was told once is seen in the controllers' own logs.
    for host in ["h1", "h2", "tern-1"] {
        let told = |lab: &Lab| lab.standins.world.controller_told(host);
        assert_eq!(told(rough), told(calm), "{host}");
    }
    assert_forgotten(twins.part(&pool).await, &pool).await;
}

/// If this fails, a process that was thought dead wakes up and writes over what has happened since.
#[sqlx::test(migrations = false)]
async fn a_result_that_comes_too_late_changes_nothing(pool: PgPool) {
    let (wake, held) = (Arc::new(Notify::new()), Arc::new(AtomicBool::new(false)));
    let (waits, holds, at) = (wake.clone(), held.clone(), pool.clone());
    let sleeper = Ends::Task(Arc::new(move |order: TakenOrder, boundary| {
        let asleep = holds.load(Ordering::SeqCst);
        let sleeps =
            boundary == Boundary::AnswerHad && asleep && holds.swap(false, Ordering::SeqCst);
        let (waits, at) = (waits.clone(), at.clone());
        async move {
            if sleeps {
                free(&at, order.token).await;
                waits.notified().await;
            }
            false
        }
        .boxed()
    }));
    let lab = Lab::ending(&url(&pool), 1, sleeper).await;
    lab.ready().await;
    lab.done(lab.create("m", 1, false)).await;
    held.store(true, Ordering::SeqCst);
    let power = |act| {
        let machines = vec![lab.machine("m")];
        Proposal::Machines(machines::Ask::Power { machines, act })
    };
    lab.done(power(PowerAct::On { host: None })).await;
    assert!(
        !held.load(Ordering::SeqCst),
        "somebody fell asleep over the start"
    );
    lab.done(power(PowerAct::Off)).await;
    let filter = EventFilter {
        about: lab.machine("m").to_string(),
        // Pictures of its screen come when they come.
        kind: "machine".into(),
        ..EventFilter::default()
    };
    let told = lab.desk.events(&filter, 100).await.unwrap().len();
    wake.notify_one();
    tokio::time::sleep(Duration::from_secs(1)).await;
    assert_eq!(
        lab.estate().machine_named("m").unwrap().state,
        MachineState::Off
    );
    let after = lab.desk.events(&filter, 100).await.unwrap();
    assert_eq!(after.len(), told, "{after:?}");
}
