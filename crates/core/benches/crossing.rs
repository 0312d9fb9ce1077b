//! How long it takes to look whether a recovery plan of 500 machines would work, beside 20,000 others, and to plan a drill of it.
#![expect(
    clippy::print_stdout,
    clippy::unwrap_used,
    clippy::disallowed_methods,
    reason = "a benchmark reads the clock and prints"
)]

#[path = "shared/mod.rs"]
mod shared;

use shared::measure;
use std::{hint::black_box, sync::Arc};
use uuid::Uuid;
use zastrugi_core::{
    crossing::Crossing,
    estate::{
        Cluster, Consistent, End, Estate, Fact, Host, Machine, MachineState, Pair, RecoveryPlan,
        Replica, Site, Snapshot, Stage, StoredPoint, Then, Twin, Wanted, Way,
    },
    ids::{ClusterId, MachineId, PairId, PlanId, SiteId},
    moment::{Moment, Span},
    rooms::{
        Proposal, assess,
        drilling::{Ask, Drill},
        handover,
    },
    testkit::{Small, large, read},
    units::Bytes,
};

const NOW: Moment = Moment(1_000_000_000_000);
const HERE: SiteId = SiteId(900);
const THERE: SiteId = SiteId(990);
const PAIR: PairId = PairId(800_000);
const PLAN: PlanId = PlanId(800_001);
const MACHINES: usize = 500;

fn end(site: SiteId) -> End {
    End {
        site,
        carriers: Default::default(),
        network: None,
        cap: Default::default(),
        clusters: Default::default(),
        volumes: Default::default(),
        networks: Default::default(),
    }
}

/// What the other site has of a machine.
fn replica(
    n: u128,
    of: &Machine,
    cluster: &Cluster,
    volume: zastrugi_core::ids::VolumeId,
) -> Machine {
    let mut m = Machine::clone(of);
    m.id = MachineId(900_000 + u64::try_from(n).unwrap());
    m.uuid = Uuid::from_u128(900_000 + n);
    m.name = format!("{}-there", of.name);
    m.cluster = Some(cluster.id);
    (m.host, m.state, m.wanted) = (None, MachineState::Off, Wanted::Off);
    m.labels.clear();
    m.disks.iter_mut().for_each(|d| d.volume = volume);
    let session = Uuid::from_u128(500_000 + n);
    let taken = NOW.before(Span::mins(20));
    m.snapshots.take(Snapshot {
        uuid: session,
        name: "then".into(),
        note: String::new(),
        taken,
        parent: None,
        consistent: Consistent::Quiet,
        memory: None,
        disks: Some(1),
        ends: None,
    });
    let point = StoredPoint {
        session,
        taken,
        consistent: Consistent::Quiet,
        size: Bytes::gib(10),
        read: Bytes::gib(1),
        stored: Bytes::gib(1),
        took: Span::secs(9),
        job: None,
        locked: None,
        ends: None,
        whole: None,
        group: None,
        equal: None,
        proof: None,
    };
    m.replica = Some(Box::new(Replica {
        of: of.uuid,
        name: of.name.clone(),
        pair: PAIR,
        astray: false,
        disks: of
            .disks
            .iter()
            .map(|d| Twin {
                original: d.key,
                own: d.key,
            })
            .collect(),
        points: vec![point],
    }));
    m
}

/// The last cluster is another site's, and has replicas of 500 machines of the first.
fn house() -> Small {
    let mut small = read(&large(20_000, 8));
    let mut e = Estate::clone(&small.view.estate);
    e.put(Fact::Site(Arc::new(Site {
        id: THERE,
        name: "Hilltop".into(),
    })));
    let last: ClusterId = *e.clusters.keys().next_back().unwrap();
    let mut cluster = Cluster::clone(&e.clusters[&last]);
    cluster.site = THERE;
    for id in cluster.hosts.clone() {
        let mut h = Host::clone(&e.hosts[&id]);
        h.site = THERE;
        // Room for those that come.
        h.hardware.memory = Bytes(h.hardware.memory.0 * 3);
        e.put(Fact::Host(Arc::new(h)));
    }
    e.put(Fact::Cluster(Arc::new(cluster.clone())));
    let first = *e.clusters.keys().next().unwrap();
    let volume = e.volumes_of(&cluster)[0].id;
    let others = e.machines.values().filter(|m| m.cluster != Some(last));
    let all: Vec<Arc<Machine>> = others.take(MACHINES).cloned().collect();
    for (n, m) in (0u128..).zip(&all) {
        e.put(Fact::Machine(Arc::new(replica(n, m, &cluster, volume))));
    }
    let mut ends = [end(HERE), end(THERE)];
    ends[1].clusters = [(first, last)].into();
    e.put(Fact::Pair(Arc::new(Pair {
        id: PAIR,
        name: "strait".into(),
        ends,
        squeezed: true,
        trouble: None,
    })));
    let stage = |(n, some): (usize, &[Arc<Machine>])| Stage {
        name: format!("stage {n}"),
        named: some.iter().map(|m| m.id).collect(),
        who: None,
        in_turn: false,
        limit: Span::mins(5),
        then: vec![Then::Pause {
            time: Span::mins(1),
        }],
    };
    e.put(Fact::RecoveryPlan(Arc::new(RecoveryPlan {
        id: PLAN,
        name: "harbour".into(),
        way: Way {
            pair: PAIR,
            from: HERE,
        },
        stages: all.chunks(100).enumerate().map(stage).collect(),
        drills: Default::default(),
        edition: 1,
        changed: NOW,
    })));
    small.view = small.view.with(e);
    small
}

fn main() {
    let small = house();
    let plan = small.view.estate.plans[&PLAN].clone();
    let found = Crossing::of(&small.view, &plan, NOW);
    println!(
        "{} machines, {} without a place; {} findings",
        found.machines().count(),
        found.machines().filter(|b| b.host.is_none()).count(),
        found.findings.len()
    );
    measure("a plan of 500 machines looked at", 20, || {
        black_box(Crossing::of(&small.view, &plan, NOW));
    });
    let ask = Proposal::Drilling(Ask::Drill(Drill {
        plan: PLAN,
        looked_at: false,
    }));
    measure("a drill of 500 machines planned", 5, || {
        black_box(assess(&small.view, &small.permits, &ask, NOW));
    });
    let ask = Proposal::Handover(handover::Ask::Failover(handover::Failover {
        plan: PLAN,
        which: handover::Which::Newest,
        typed: small.view.estate.sites[&HERE].name.as_str().into(),
    }));
    let said = assess(&small.view, &small.permits, &ask, NOW);
    println!(
        "a failover in {} steps, {} stops",
        said.steps().len(),
        said.findings().iter().filter(|f| f.stops()).count()
    );
    measure("a failover of 500 machines planned", 5, || {
        black_box(assess(&small.view, &small.permits, &ask, NOW));
    });
}
