//! Replicas: what a run of a job brings over, what a promise makes of it, and that nobody
//! starts a replica by mistake.

use crate::pledges::{HOUR, NOW, on};
use std::sync::Arc;
use uuid::Uuid;
use zastrugi_core::{
    caps::Cap,
    copying::Line,
    estate::{
        Away, Clauses, Cluster, Consistent, CopyPlace, End, Fact, Goal, Host, Job, Machine,
        MachineState, Network, Nic, Pair, Pledge, Replica, Site, Snapshot, StoredPoint, Twin, Way,
    },
    expression::Expression,
    finding::{Finding, Rule, Severity},
    ids::{ClusterId, HostId, JobId, MachineId, NetworkId, PairId, PledgeId, SiteId, VolumeId},
    moment::{Moment, Span},
    pledges::{Promise, Promises, Sort, Standing},
    recurrence::Recurrence,
    rooms::{
        Assessment, Proposal, Step, assess,
        backups::JobRun,
        edits,
        jobs::{self, Foretold},
        machines::{self, PowerAct},
        replicas,
        replicating::{self, Force},
        snapshots::{self, Quiet, Take},
    },
    testkit::{self, Small},
    units::{Bytes, Rate},
};

pub(crate) const HERE: SiteId = SiteId(900);
pub(crate) const THERE: SiteId = SiteId(990);
pub(crate) const PAIR: PairId = PairId(700);
pub(crate) const JOB: JobId = JobId(701);
pub(crate) const REPLICA: MachineId = MachineId(20);
const OUT: Way = Way {
    pair: PAIR,
    from: HERE,
};

pub(crate) fn assessed(small: &Small, ask: &Proposal) -> Assessment {
    assess(&small.view, &small.permits, ask, NOW)
}

pub(crate) fn stops(said: &Assessment) -> Vec<&Finding> {
    said.findings().iter().filter(|f| f.stops()).collect()
}

/// Two sites with two hosts each; `db` runs at the first.
pub(crate) fn sites() -> Small {
    let mut small = testkit::read(
        "cluster eider careless\nhost 1 512\nhost 2 512\nmachine 7 db 16 on 1\ncluster fulmar careless\nhost 3 512\nhost 4 512",
    );
    small.now = NOW;
    small.alter(|e| {
        e.put(Fact::Site(Arc::new(Site {
            id: THERE,
            name: "Hilltop".into(),
        })));
        let mut c = Cluster::clone(&e.clusters[&ClusterId(902)]);
        c.site = THERE;
        e.put(Fact::Cluster(Arc::new(c)));
        for id in [3, 4] {
            let mut h = Host::clone(&e.hosts[&HostId(id)]);
            h.site = THERE;
            e.put(Fact::Host(Arc::new(h)));
        }
    });
    on(&mut small, 7, |m| {
        drop(m.labels.insert("env".into(), "prod".into()));
        m.disks[0].key = Uuid::from_u128(70);
    });
    small
}

fn end(site: SiteId, carriers: [u64; 2]) -> End {
    End {
        site,
        carriers: carriers.map(HostId).into(),
        network: None,
        cap: Cap::default(),
        clusters: Default::default(),
        volumes: Default::default(),
        networks: Default::default(),
    }
}

pub(crate) fn pair() -> Pair {
    let (mut a, mut b) = (end(HERE, [1, 2]), end(THERE, [3, 4]));
    a.clusters = [(ClusterId(902), ClusterId(901))].into();
    b.clusters = [(ClusterId(901), ClusterId(902))].into();
    Pair {
        id: PAIR,
        name: "strait".into(),
        ends: [a, b],
        squeezed: true,
        trouble: None,
    }
}

pub(crate) fn job(keeps: &str) -> Job {
    Job {
        id: JOB,
        name: "over".into(),
        who: Expression::read("env=prod").unwrap(),
        to: Goal::Over(OUT),
        when: Recurrence::read("FREQ=HOURLY;BYMINUTE=0", "UTC", NOW.before(Span::days(9))).unwrap(),
        keeps: keeps.parse().unwrap(),
        quiet: true,
        proves: None,
        how: Default::default(),
        paused: false,
        next: Some(NOW.plus(Span::mins(30))),
        last: None,
    }
}

pub(crate) fn paired() -> Small {
    let mut small = sites();
    small.alter(|e| {
        e.put(Fact::Pair(Arc::new(pair())));
        e.put(Fact::Job(Arc::new(job("last 2"))));
    });
    small
}

fn point(n: u128, age: Span, size: Bytes) -> StoredPoint {
    StoredPoint {
        session: Uuid::from_u128(n),
        taken: NOW.before(age),
        consistent: Consistent::Quiet,
        size,
        read: Bytes::gib(1),
        stored: Bytes::mib(512),
        took: Span::secs(16),
        job: Some(JOB),
        locked: None,
        ends: None,
        whole: None,
        group: None,
        equal: None,
        proof: None,
    }
}

/// With a replica of `db` that has points so old.
pub(crate) fn replicated(ages: &[Span]) -> Small {
    let mut small = paired();
    small.alter(|e| {
        let db = e.machines[&MachineId(7)].clone();
        let mut m = Machine::clone(&db);
        m.id = REPLICA;
        m.uuid = Uuid::from_u128(20);
        m.name = "db-hilltop".into();
        m.cluster = Some(ClusterId(902));
        m.host = None;
        m.state = MachineState::Off;
        m.wanted = zastrugi_core::estate::Wanted::Off;
        m.labels.clear();
        m.disks[0].key = Uuid::from_u128(200);
        m.disks[0].volume = VolumeId(952);
        let mut below = None;
        let mut points = Vec::new();
        for (n, age) in (1u128..).zip(ages) {
            let p = point(n, *age, db.disks[0].size);
            m.snapshots.take(Snapshot {
                uuid: p.session,
                name: n.to_string(),
                note: String::new(),
                taken: p.taken,
                parent: below,
                consistent: p.consistent,
                memory: None,
                disks: Some(1),
                ends: None,
            });
            below = Some(p.session);
            points.push(p);
        }
        m.replica = Some(Box::new(Replica {
            of: db.uuid,
            name: db.name.clone(),
            pair: PAIR,
            astray: false,
            disks: vec![Twin {
                original: db.disks[0].key,
                own: m.disks[0].key,
            }],
            points,
        }));
        e.put(Fact::Machine(Arc::new(m)));
    });
    small
}

fn due(small: &Small) -> Assessment {
    let run = JobRun {
        job: JOB,
        by_hand: true,
    };
    assessed(small, &Proposal::Replicating(replicating::Ask::Job(run)))
}

fn kinds(said: &Assessment) -> Vec<&'static str> {
    use replicating::Step as S;
    let kind = |s: &Step| match s {
        Step::Replicating(S::Machine(machines::Step::Create { .. })) => "make",
        Step::Replicating(S::Snap(snapshots::Step::Take { .. })) => "mark",
        Step::Replicating(S::Snap(snapshots::Step::Forget { machine, .. }))
            if *machine == REPLICA =>
        {
            "expire"
        }
        Step::Replicating(S::Snap(_)) => "release",
        Step::Replicating(S::Replica(replicas::Step::Follow { .. })) => "follow",
        other => panic!("{other:?}"),
    };
    said.steps().iter().map(|s| kind(&s.step)).collect()
}

/// If this fails, the first run makes no replica, makes one that somebody can't tell from a machine, or puts it where nobody said.
#[test]
fn the_first_run_makes_a_replica_that_stays_off() {
    let mut small = paired();
    small.alter(|e| {
        let mut own = testkit::network(NetworkId(30), "crew");
        own.cluster = ClusterId(901);
        let mut there = Network {
            id: NetworkId(31),
            cluster: ClusterId(902),
            ..own.clone()
        };
        there.name = "crew".into();
        e.put(Fact::Network(Arc::new(own)));
        e.put(Fact::Network(Arc::new(there)));
        let mut p = pair();
        p.ends[1].networks = [(NetworkId(30), NetworkId(31))].into();
        e.put(Fact::Pair(Arc::new(p)));
    });
    let nic = |mac: &str, network| Nic {
        mac: mac.into(),
        network,
        addresses: vec!["10.0.0.9".parse().unwrap()],
    };
    on(&mut small, 7, |m| {
        m.nics = vec![
            nic("02:00:00:00:00:01", Some(NetworkId(30))),
            nic("02:00:00:00:00:02", None),
        ]
    });
    let said = due(&small);
    assert!(stops(&said).is_empty(), "{:?}", stops(&said));
    assert_eq!(kinds(&said), ["make", "mark", "follow", "release"]);
    small.begin(said.accept().unwrap());
    let estate = &small.view.estate;
    let db = &estate.machines[&MachineId(7)];
    let made = estate.replicas_of(db.uuid).next().unwrap();
    assert_eq!(made.name, "db-hilltop");
    assert_eq!(
        (made.cluster, made.disks[0].volume),
        (Some(ClusterId(902)), VolumeId(952))
    );
    let own = made.replica.as_ref().unwrap();
    assert_eq!(own.twin(db.disks[0].key), Some(made.disks[0].key));
    assert_ne!(made.disks[0].key, db.disks[0].key);
    let networks: Vec<_> = made.nics.iter().map(|n| n.network).collect();
    assert_eq!(networks, [Some(NetworkId(31)), None], "as the pair says");
    assert!(
        made.nics
            .iter()
            .all(|n| n.addresses.is_empty() && !n.mac.starts_with("02:00:00:00:00:0"))
    );
    assert!(made.labels.is_empty() && !made.restarts);
    assert!(!job("last 2").covers(made), "nobody copies the copy");
}

/// If this fails, a machine that can't be replicated stops all others, or nobody hears of it.
#[test]
fn one_that_has_no_place_there_is_told_and_left_out() {
    let mut small = paired();
    small.alter(|e| {
        let mut p = pair();
        p.ends[1].clusters.clear();
        e.put(Fact::Pair(Arc::new(p)));
    });
    let said = due(&small);
    assert!(stops(&said).is_empty());
    assert!(kinds(&said).is_empty());
    assert!(
        said.findings().iter().any(|f| f
            .text
            .contains("db is not replicated. The pair says no cluster at Hilltop")),
        "{:?}",
        said.findings()
    );
    let mut full = paired();
    full.alter(|e| {
        let mut v = zastrugi_core::estate::Volume::clone(&e.volumes[&VolumeId(952)]);
        v.used = v.capacity;
        e.put(Fact::Volume(Arc::new(v)));
    });
    let said = due(&full);
    assert!(stops(&said).is_empty() && kinds(&said).is_empty());
    assert!(
        said.findings().iter().any(|f| f
            .text
            .contains("db is not replicated. No replica can be made at Hilltop")),
        "{:?}",
        said.findings()
    );
}

/// If this fails, points pile up until a replica can hold no more, or the one it stands on goes and everything is copied again.
#[test]
fn later_runs_bring_what_changed_and_let_old_points_go() {
    let days = |n| Span::days(n);
    let mut small = replicated(&[days(4), days(3), days(2), days(1)]);
    let said = due(&small);
    assert!(stops(&said).is_empty(), "{:?}", stops(&said));
    assert_eq!(kinds(&said), ["expire", "mark", "follow", "release"]);
    let Step::Replicating(replicating::Step::Snap(snapshots::Step::Forget { snapshots, .. })) =
        &said.steps()[0].step
    else {
        panic!("{:?}", said.steps())
    };
    assert_eq!(snapshots, &[1, 2].map(Uuid::from_u128));
    let Step::Replicating(replicating::Step::Replica(replicas::Step::Follow { disks, to, .. })) =
        &said.steps()[2].step
    else {
        panic!("{:?}", said.steps())
    };
    assert!([HostId(3), HostId(4)].contains(to), "a host that carries");
    assert!(disks.len() == 1 && !disks[0].new && disks[0].disk.key == Uuid::from_u128(200));
    // A disk that came since is one more of the replica; one that grew grows.
    on(&mut small, 7, |m| {
        let mut more = m.disks[0];
        more.key = Uuid::from_u128(71);
        m.disks[0].size += Bytes::gib(5);
        m.disks.push(more);
    });
    let said = due(&small);
    let Step::Replicating(replicating::Step::Replica(replicas::Step::Follow { disks, .. })) =
        &said.steps()[2].step
    else {
        panic!("{:?}", said.steps())
    };
    let size = small.view.estate.machines[&MachineId(7)].disks[0].size;
    assert_eq!(
        (disks[0].disk.size, disks[0].new, disks[1].new),
        (size, false, true)
    );
    // Somebody deleted the point it stands on: there is nothing that the next could be told against.
    on(&mut small, 20, |m| {
        m.snapshots.forget(&[Uuid::from_u128(4)])
    });
    let replica = &small.view.estate.machines[&REPLICA];
    assert_eq!(replica.replicated().count(), 3);
    assert!(
        replica
            .follows()
            .is_some_and(|p| p.session == Uuid::from_u128(3))
    );
}

/// If this fails, what a job over a pair takes is foretold from nothing, or more points are promised than a replica can hold.
#[test]
fn a_job_over_a_pair_says_what_it_takes_there() {
    let small = replicated(&[Span::mins(120), HOUR]);
    let ask = |keeps: &str| {
        let when = job("last 2").when;
        Proposal::Jobs(jobs::Ask::Keep(jobs::Keep {
            job: Some(JOB),
            name: "over".into(),
            who: "env=prod".into(),
            to: Some(Goal::Over(OUT)),
            rule: when.rule.as_str().into(),
            zone: "UTC".into(),
            keeps: keeps.into(),
            quiet: true,
            proves: Some(Span::days(7)),
            begins: None,
            how: Default::default(),
        }))
    };
    let said = assessed(&small, &ask("last 3"));
    assert!(stops(&said).is_empty(), "{:?}", stops(&said));
    let texts: Vec<&str> = said.findings().iter().map(|f| f.text.as_str()).collect();
    assert!(
        texts
            .iter()
            .any(|t| t.starts_with("At Hilltop lie") && t.contains("free there now")),
        "{texts:?}"
    );
    assert!(
        texts
            .iter()
            .any(|t| t.starts_with("The newest point of each machine is booted alone at Hilltop")),
        "{texts:?}"
    );
    let many = assessed(&small, &ask("40 days"));
    assert_eq!(stops(&many)[0].field.as_deref(), Some("keeps"));
    let line = Line::of(&small.view.estate, Goal::Over(OUT));
    assert!(line.measured && line.rate == Rate(64 << 20), "{line:?}");
    let back = Line::of(&small.view.estate, Goal::Over(Way { from: THERE, ..OUT }));
    assert!(!back.measured, "the other way is another line");
    let (bytes, _, unknown) = Foretold::of(&small.view, &job("last 2")).each(HOUR);
    assert_eq!(
        (bytes, unknown),
        (Bytes::gib(1), 0),
        "as the copies so far had it"
    );
    let mut capped = small;
    capped.alter(|e| {
        let mut p = pair();
        p.ends[0].cap = Cap::read("all; Mo-Fr 07:00-18:00 8 MiB/s", "UTC").unwrap();
        e.put(Fact::Pair(Arc::new(p)));
    });
    let line = Line::of(&capped.view.estate, Goal::Over(OUT));
    assert!(line.capped && line.rate == Rate(8 << 20));
    assert!(
        line.because(Bytes::mib(80))
            .contains("may be taken of the line")
    );
}

pub(crate) fn pledge(age: Span) -> Pledge {
    Pledge {
        id: PledgeId(801),
        name: "gold".into(),
        note: String::new(),
        to: Some(Expression::read("env=prod").unwrap()),
        clauses: Clauses {
            remote: Some(Away {
                site: Some(THERE),
                age,
            }),
            ..Clauses::default()
        },
    }
}

fn remote(small: &Small, now: Moment) -> (Standing, String) {
    let estate = &small.view.estate;
    let promise = Promise::of(estate, &estate.machines[&MachineId(7)], now).unwrap();
    let judged = promise.of_sort(Sort::Remote).unwrap();
    (judged.standing, judged.why.clone())
}

/// If this fails, a promise of a copy elsewhere rests on a replica that is too old or gone, or doesn't see one that is there.
#[test]
fn a_replica_is_a_copy_elsewhere_as_old_as_its_newest_point() {
    let mut small = replicated(&[Span::mins(120), Span::mins(40)]);
    small.alter(|e| e.put(Fact::Pledge(Arc::new(pledge(Span::mins(90))))));
    let (standing, why) = remote(&small, NOW);
    assert_eq!(standing, Standing::Kept, "{why}");
    assert!(
        why.contains("at Hilltop") && why.contains("over makes the next"),
        "{why}"
    );
    // Of the array beneath nobody knows anything: what a copy doesn't keep is unchecked.
    assert_eq!(
        remote(&small, NOW.plus(Span::mins(51))).0,
        Standing::Unchecked
    );
    let promises = Promises::all(&small.view.estate, NOW);
    let standing = |p: &Promises| p.get(MachineId(7)).unwrap().standing();
    assert_eq!(standing(&promises), Standing::Kept);
    assert!(
        promises.get(REPLICA).is_none(),
        "nothing is promised of a copy"
    );
    // Its newest point goes: that is so for the original at once.
    on(&mut small, 20, |m| {
        m.snapshots.forget(&[Uuid::from_u128(2)])
    });
    let next = promises.then(&small.view.estate, NOW);
    assert_eq!(standing(&next), Standing::Unchecked);
    small.alter(|e| {
        let mut j = job("last 2");
        j.paused = true;
        e.put(Fact::Job(Arc::new(j)));
        e.put(Fact::Pledge(Arc::new(pledge(Span::days(1)))));
    });
    assert_eq!(
        remote(&small, NOW).0,
        Standing::AtRisk,
        "nothing makes another"
    );
    let places: Vec<CopyPlace> = small
        .view
        .estate
        .elsewhere(&small.view.estate.machines[&MachineId(7)])
        .map(|e| e.at)
        .collect();
    assert_eq!(places, [CopyPlace::Replica(REPLICA, PAIR)]);
}

/// If this fails, something is done to a replica that is not of its original, and the next copy is wrong or of everything.
#[test]
fn nothing_is_done_to_a_replica_but_what_comes_of_its_original() {
    let small = replicated(&[HOUR]);
    let on_it = |ask: Proposal| -> Vec<String> {
        let said = assessed(&small, &ask);
        stops(&said).iter().map(|f| f.text.clone()).collect()
    };
    let machines = vec![REPLICA];
    let power = on_it(Proposal::Machines(machines::Ask::Power {
        machines: machines.clone(),
        act: PowerAct::On { host: None },
    }));
    assert!(
        power.len() == 1 && power[0].contains("replica of db: db is on"),
        "{power:?}"
    );
    let take = Take {
        machines: machines.clone(),
        name: "a".into(),
        note: Default::default(),
        quiet: Quiet::No,
        memory: false,
        together: false,
        ends: None,
    };
    let snap = on_it(Proposal::Snapshots(snapshots::Ask::Take(take)));
    assert!(
        snap.len() == 1 && snap[0].contains("holds what db held"),
        "{snap:?}"
    );
    let back = snapshots::Back {
        machine: REPLICA,
        to: Some(Uuid::from_u128(1)),
        keep: false,
    };
    assert_eq!(
        on_it(Proposal::Snapshots(snapshots::Ask::Back(back))).len(),
        1
    );
    let note = edits::Ask::Edit {
        targets: vec![edits::Target::Machine(REPLICA)],
        sets: vec![edits::Set::Note("kept".into())],
    };
    assert!(on_it(Proposal::Edits(note)).is_empty(), "a note is no harm");
    assert!(
        on_it(Proposal::Machines(machines::Ask::Delete { machines })).is_empty(),
        "it can be deleted"
    );
}

/// If this fails, a replica is started by a slip, or stays one after somebody made it a machine of its own.
#[test]
fn by_force_it_is_started_once_its_name_is_typed() {
    let mut small = replicated(&[HOUR]);
    let force = |typed: &str| {
        Proposal::Replicating(replicating::Ask::Start(Force {
            machine: REPLICA,
            host: None,
            typed: typed.into(),
        }))
    };
    assert!(
        stops(&assessed(&small, &force("db")))
            .iter()
            .any(|f| f.field.as_deref() == Some("typed"))
    );
    let said = assessed(&small, &force("db-hilltop"));
    assert!(stops(&said).is_empty(), "{:?}", stops(&said));
    assert!(
        said.findings()
            .iter()
            .any(|f| f.rule == Rule::Identity && f.severity == Severity::Mind)
    );
    let steps: Vec<&Step> = said.steps().iter().map(|s| &s.step).collect();
    assert!(
        matches!(
            steps[0],
            Step::Replicating(replicating::Step::Machine(machines::Step::Start { .. }))
        ),
        "{steps:?}"
    );
    small.begin(said.accept().unwrap());
    assert!(small.view.estate.machines[&REPLICA].replica.is_none());
    assert_eq!(
        kinds(&due(&small)),
        ["make", "mark", "follow", "release"],
        "the next is another, of everything"
    );
    let plain = replicas::Ask::Free {
        machine: MachineId(7),
        typed: "db".into(),
    };
    assert_eq!(
        stops(&assessed(&small, &Proposal::Replicas(plain))).len(),
        1,
        "db is no replica"
    );
}

/// If this fails, a job that was stored before there were pairs is not read any more.
#[test]
fn a_job_of_before_is_read() {
    let mut old = serde_json::to_value(job("last 2")).unwrap();
    let body = old.as_object_mut().unwrap();
    body.remove("to");
    body.insert("store".into(), serde_json::json!(12));
    let read: Job = serde_json::from_value(old).unwrap();
    assert_eq!(read.to, Goal::Store(zastrugi_core::ids::StoreId(12)));
    let now = serde_json::to_value(job("last 2")).unwrap();
    assert_eq!(serde_json::from_value::<Job>(now).unwrap(), job("last 2"));
}
