//! Replicas on real sockets: what a machine holds is at another site point by point, whatever breaks meanwhile; and nobody starts it
//! there by mistake.

use crate::{
    jobs::label,
    lab::{Lab, eventually, scenario},
    packages::small,
    proving::{must, prove},
};
use sqlx::PgPool;
use std::{sync::Arc, time::Duration};
use zastrugi_core::{
    endpoint::Password,
    estate::{AnyPoint, Demand, Goal, Job, Machine, Pair, StoredPoint, Way},
    ids::{HostId, RunId},
    moment::Span,
    pairing,
    rooms::{
        Proposal,
        backups::JobRun,
        clusters::{self, CreateCluster},
        hosts,
        jobs::{self, Keep},
        machines::{self, PowerAct},
        pairs::{self, KeepEnd},
        replicas,
        replicating::{self, Force},
    },
    runs::{Run, RunState},
    units::Bytes,
};
use zastrugi_engine::{EventFilter, Resolve};
use zastrugi_standins::{Fault, FaultKind, Scenario};
use zastrugi_store::testkit::url;

/// Two sites, each with two hosts and a volume of its own.
pub(crate) fn two_sites() -> Scenario {
    let mut all = scenario(4);
    let mut other = all.volumes[0].clone();
    other.uid = "vol-b".into();
    other.name = "shale".into();
    all.volumes.push(other);
    for (n, host) in all.hosts.iter_mut().enumerate().skip(2) {
        host.address = format!("2.{}", 11 + n);
        host.volumes = vec!["vol-b".into()];
    }
    all
}

async fn site(lab: &Lab, site: &str, cluster: &str, hosts: [&str; 2]) {
    let mut claim = lab.claim().await;
    if let Proposal::Hosts(hosts::Ask::Claim(claim)) = &mut claim {
        let agents = lab.standins.world.agents();
        claim
            .targets
            .retain(|t| hosts.iter().any(|h| t.address.as_str() == agents[*h]));
        claim.site = site.into();
        claim.password = Password::Kept(lab.desk.keep_secret("first-light").await.unwrap());
    }
    lab.done(claim).await;
    let estate = lab.estate();
    let own = estate.hosts.values().filter(|h| hosts.contains(&&*h.name));
    let ids: Vec<HostId> = own.map(|h| h.id).collect();
    lab.desk.inspect(&ids).await;
    lab.done(Proposal::Clusters(clusters::Ask::Create(CreateCluster {
        name: cluster.into(),
        hosts: ids,
        level: None,
        volume: None,
        demand: Demand {
            failures: 0,
            domains: [false; 3],
            enforced: false,
        },
        kind: Default::default(),
        time: vec![],
    })))
    .await;
}

/// Each with a cluster of its own.
pub(crate) async fn sites(lab: &Lab) {
    site(lab, "Quayside", "Eider", ["h1", "h2"]).await;
    site(lab, "Hilltop", "Fulmar", ["h3", "h4"]).await;
}

fn end(lab: &Lab, site: &str, cap: &str) -> KeepEnd {
    let estate = lab.estate();
    let site = estate.site_named(site).unwrap().id;
    let own = estate.hosts.values().filter(|h| h.site == site);
    KeepEnd {
        site: Some(site),
        carriers: own.map(|h| h.id).collect(),
        network: None,
        cap: cap.into(),
    }
}

pub(crate) fn pair_up(lab: &Lab, cap: &str) -> Proposal {
    let keep = pairs::Keep {
        pair: lab.estate().pairs.keys().next().copied(),
        name: "strait".into(),
        ends: [end(lab, "Quayside", cap), end(lab, "Hilltop", "")],
        zone: "UTC".into(),
        // Packed, what a guest of these writes is next to nothing.
        squeezed: cap.is_empty(),
        clusters: "Eider = Fulmar".into(),
        volumes: "".into(),
        networks: "".into(),
    };
    Proposal::Pairs(pairs::Ask::Keep(Box::new(keep)))
}

fn pair(lab: &Lab) -> Arc<Pair> {
    lab.estate().pairs.values().next().unwrap().clone()
}

pub(crate) fn keep(lab: &Lab, keeps: &str) -> Proposal {
    let pair = pair(lab);
    Proposal::Jobs(jobs::Ask::Keep(Keep {
        job: lab.estate().jobs.keys().next().copied(),
        name: "over".into(),
        who: "env=prod".into(),
        to: Some(Goal::Over(Way {
            pair: pair.id,
            from: pair.ends[0].site,
        })),
        rule: "FREQ=DAILY;BYHOUR=3;BYMINUTE=0".into(),
        zone: "UTC".into(),
        keeps: keeps.into(),
        quiet: false,
        proves: None,
        begins: None,
        how: Default::default(),
    }))
}

fn job(lab: &Lab) -> Job {
    Job::clone(lab.estate().jobs.values().next().unwrap())
}

pub(crate) fn begin(lab: &Lab) -> Proposal {
    Proposal::Replicating(replicating::Ask::Job(JobRun {
        job: job(lab).id,
        by_hand: true,
    }))
}

/// Machine `m` at Quayside with something on its disk, and a job that replicates it to Hilltop.
async fn lab(pool: &PgPool) -> Lab {
    lab_with(pool, "").await
}

pub(crate) async fn lab_with(pool: &PgPool, cap: &str) -> Lab {
    let lab = Lab::with(&url(pool), two_sites(), 40.0, |_| {}).await;
    sites(&lab).await;
    lab.done(small(&lab, "m", 1)).await;
    lab.done(label(&lab, "m")).await;
    written(&lab, 9 << 20).await;
    lab.done(pair_up(&lab, cap)).await;
    lab.done(keep(&lab, "last 3")).await;
    lab
}

fn power(lab: &Lab, name: &str, act: PowerAct) -> Proposal {
    let machines = vec![lab.machine(name)];
    Proposal::Machines(machines::Ask::Power { machines, act })
}

async fn written(lab: &Lab, bytes: u64) {
    lab.done(power(lab, "m", PowerAct::On { host: None })).await;
    let before = lab.standins.world.content("m", None);
    lab.standins.world.write("m", bytes);
    eventually("it is written", || {
        lab.standins.world.content("m", None) != before
    })
    .await;
    lab.done(power(lab, "m", PowerAct::Off)).await;
}

fn replica(lab: &Lab) -> Option<Arc<Machine>> {
    let estate = lab.estate();
    let of = estate.machine_named("m")?.uuid;
    estate.replicas_of(of).next().cloned()
}

fn points(lab: &Lab) -> Vec<StoredPoint> {
    let replica = replica(lab);
    replica
        .iter()
        .flat_map(|r| r.replicated())
        .cloned()
        .collect()
}

/// Every byte of the replica's disk is that of the original.
pub(crate) fn alike(lab: &Lab) -> bool {
    let world = &lab.standins.world;
    let (a, b) = (world.read_disk("m", 0), world.read_disk("m-hilltop", 0));
    a.is_some() && a == b
}

async fn told(lab: &Lab, words: &str) -> bool {
    let events = lab.desk.events(&EventFilter::default(), 400).await.unwrap();
    events.iter().any(|e| e.text.contains(words))
}

/// If this fails, what is at the other site is not what the machine held, or everything goes over the line each time.
#[sqlx::test(migrations = false)]
async fn what_changed_goes_over_and_old_points_go(pool: PgPool) {
    let lab = lab(&pool).await;
    lab.done(begin(&lab)).await;
    let made = replica(&lab).unwrap();
    assert!(made.is_off() && made.labels.is_empty() && !made.restarts);
    assert_eq!(made.name, "m-hilltop");
    assert_eq!(lab.estate().site_of(&made), Some(pair(&lab).ends[1].site));
    assert!(alike(&lab));
    let first = points(&lab)[0].clone();
    assert!(first.read >= Bytes::mib(9) && first.job == Some(job(&lab).id));
    for n in 1..=3 {
        written(&lab, 2 << 20).await;
        assert!(!alike(&lab), "nothing went over by itself");
        lab.done(begin(&lab)).await;
        assert!(alike(&lab));
        let newest = points(&lab).last().unwrap().clone();
        assert!(newest.read < Bytes::mib(4), "{n}: {}", newest.read);
        assert!(newest.taken > first.taken);
    }
    assert!(
        lab.standins.world.marks("m") <= 2,
        "a host keeps few: those that nobody asks for go"
    );
    // As they were when the last run began: three were kept, and it made one more.
    lab.done(begin(&lab)).await;
    let left = points(&lab);
    assert!(
        left.len() <= 4 && left.iter().all(|p| p.session != first.session),
        "{left:?}"
    );
    assert_eq!(lab.standins.world.deliveries(), 0);
    assert!(
        lab.estate()
            .machine_named("m")
            .unwrap()
            .snapshots
            .is_empty(),
        "marks go again"
    );
    lab.assert_once();
}

/// If this fails, a machine is copied whole after its host forgot what changed, or what is at the other site is wrong from then on.
#[sqlx::test(migrations = false)]
async fn what_nobody_can_say_is_found_by_comparing_both_sides(pool: PgPool) {
    let lab = lab(&pool).await;
    lab.done(begin(&lab)).await;
    lab.standins.world.lose_marks("m");
    lab.done(begin(&lab)).await;
    assert!(told(&lab, "both sides were read and compared").await);
    let same = points(&lab)[1].clone();
    assert_eq!(same.read, Bytes::ZERO, "both sides have the same");
    written(&lab, 1 << 20).await;
    lab.standins.world.lose_marks("m");
    lab.done(begin(&lab)).await;
    assert!(alike(&lab));
    assert!(points(&lab)[2].read > Bytes::ZERO);
}

fn fault(lab: &Lab, call: &str, kind: FaultKind, times: u32) {
    for host in ["h1", "h2", "h3", "h4"] {
        lab.standins.world.add_fault(Fault {
            device: host.into(),
            call: call.into(),
            kind,
            times,
        });
    }
}

/// If this fails, a line that breaks in the middle leaves a torn replica, or everything that was brought is brought again.
#[sqlx::test(migrations = false)]
async fn a_line_that_breaks_and_a_manager_that_dies_leave_a_good_point(pool: PgPool) {
    let mut lab = lab(&pool).await;
    lab.done(begin(&lab)).await;
    let before = lab.standins.world.read_disk("m-hilltop", 0);
    written(&lab, 8 << 20).await;
    fault(&lab, "/disks/", FaultKind::Hang, 1);
    let run = lab.start(begin(&lab)).await;
    eventually("it goes over", || lab.standins.world.deliveries() == 1).await;
    assert!(
        lab.standins.world.read_disk("m-hilltop", 0) == before,
        "until all of it is there it holds what it held"
    );
    lab.restart_engine().await;
    let ended = lab.until(run, &[RunState::Done, RunState::NeedsYou]).await;
    if ended.state == RunState::NeedsYou {
        retried(&lab, run).await;
    }
    assert!(alike(&lab));
    assert_eq!(points(&lab).len(), 2);
    assert_eq!(lab.standins.world.deliveries(), 0);
}

async fn retried(lab: &Lab, run: RunId) -> Run {
    lab.standins.world.clear_faults();
    lab.desk
        .answer(&lab.admin, run, Resolve::Retry)
        .await
        .unwrap();
    lab.until(run, &[RunState::Done]).await
}

/// If this fails, a copy that somebody gives up leaves bytes at the other site, or takes the last good point with it.
#[sqlx::test(migrations = false)]
async fn one_that_is_given_up_leaves_the_last_point_and_nothing_else(pool: PgPool) {
    let lab = lab_with(&pool, "1 MiB/s").await;
    lab.standins.world.lose_marks("m");
    let run = lab.start(begin(&lab)).await;
    eventually("it goes over", || lab.standins.world.deliveries() == 1).await;
    let began = std::time::Instant::now();
    tokio::time::sleep(Duration::from_secs(2)).await;
    let view = lab.desk.look();
    assert!(
        view.runs.get(run).is_some(),
        "1 MiB/s is not faster than that: {:?}",
        began.elapsed()
    );
    lab.desk
        .answer(&lab.admin, run, Resolve::Cancel)
        .await
        .unwrap();
    lab.until(run, &[RunState::Cancelled]).await;
    assert_eq!(lab.standins.world.deliveries(), 0);
    assert!(points(&lab).is_empty());
    lab.done(pair_up(&lab, "")).await;
    lab.done(begin(&lab)).await;
    assert!(alike(&lab));
}

/// If this fails, somebody starts a replica beside its original without knowing it, or can't start it at all when that is gone.
#[sqlx::test(migrations = false)]
async fn a_replica_is_started_by_force_alone(pool: PgPool) {
    let lab = lab(&pool).await;
    lab.done(begin(&lab)).await;
    let own = lab.machine("m-hilltop");
    let refused = lab.desk.assess(
        &lab.admin,
        &power(&lab, "m-hilltop", PowerAct::On { host: None }),
    );
    let stop = refused.findings().iter().find(|f| f.stops()).unwrap();
    assert!(stop.text.contains("replica of m"), "{}", stop.text);
    assert!(stop.remedy.as_ref().unwrap().starts_with("Three ways"));
    let typed = |typed: &str| {
        Proposal::Replicating(replicating::Ask::Start(Force {
            machine: own,
            host: None,
            typed: typed.into(),
        }))
    };
    assert!(
        lab.desk
            .assess(&lab.admin, &typed("m"))
            .findings()
            .iter()
            .any(|f| f.stops())
    );
    lab.done(typed("m-hilltop")).await;
    let estate = lab.estate();
    let started = &estate.machines[&own];
    assert!(!started.is_off() && started.replica.is_none());
    // The next copy makes another, and is of everything.
    lab.done(begin(&lab)).await;
    let other = replica(&lab).unwrap();
    assert_eq!(other.name, "m-hilltop-2");
    lab.done(Proposal::Replicas(replicas::Ask::Free {
        machine: other.id,
        typed: "m-hilltop-2".into(),
    }))
    .await;
    assert!(replica(&lab).is_none());
}

/// If this fails, nobody hears that a pair carries one way only, or the wrong side is named.
#[sqlx::test(migrations = false)]
async fn a_way_that_closes_is_told_with_its_side(pool: PgPool) {
    let lab = lab(&pool).await;
    let ends = pair(&lab).ends.clone();
    lab.desk
        .try_ends(pairing::probes(&lab.estate(), &ends))
        .await;
    let found = |lab: &Lab| pairing::look(&lab.desk.look(), &pair(lab), lab.desk.now());
    assert!(found(&lab).iter().all(|f| !f.stops()), "{:?}", found(&lab));
    let trouble = || pair(&lab).trouble.clone();
    assert_eq!(trouble(), None);
    let wall = |closed: bool| {
        for from in ["h1", "h2"] {
            lab.standins.world.wall(from, "h4", closed);
        }
    };
    wall(true);
    let within = |what: &'static str, fine: bool| {
        let lab = &lab;
        async move {
            crate::lab::eventually_within(what, 100, || pair(lab).trouble.is_some() == fine).await;
        }
    };
    within("it is told", true).await;
    let text = trouble().unwrap().text;
    assert!(
        text.contains("h4 at Hilltop can't be reached from Quayside"),
        "{text}"
    );
    assert!(told(&lab, "does not carry as it should").await);
    wall(false);
    within("it is over", false).await;
    assert!(told(&lab, "carries both ways again").await);
}

/// If this fails, copies take more of the line than somebody allowed.
#[sqlx::test(migrations = false)]
async fn no_more_of_the_line_is_taken_than_is_said(pool: PgPool) {
    let lab = lab_with(&pool, "2 MiB/s").await;
    lab.done(begin(&lab)).await;
    let point = points(&lab)[0].clone();
    let least = Span::millis(point.stored.0 * 1000 / (2 << 20) / 2);
    assert!(
        point.took >= least,
        "{} on the line in {}",
        point.stored,
        point.took
    );
    assert!(alike(&lab));
}

/// If this fails, nobody knows whether a replica comes up, or its original hears of the copy.
#[sqlx::test(migrations = false)]
async fn a_copy_of_what_a_replica_has_is_booted_at_its_site(pool: PgPool) {
    let lab = lab(&pool).await;
    lab.done(must(&lab, "m", "tcp 22")).await;
    lab.done(begin(&lab)).await;
    let replica_id = lab.machine("m-hilltop");
    let at = AnyPoint::Replicated {
        replica: replica_id,
        session: points(&lab)[0].session,
    };
    lab.done(prove(&lab, at, Span::mins(1)).await).await;
    let proof = points(&lab)[0].proof.clone().unwrap();
    assert!(proof.is_good(), "{}", proof.words());
    assert_eq!((proof.replies.len(), proof.copy.as_str()), (1, "proof-m"));
    assert!(["h3", "h4"].contains(&&*proof.host), "{}", proof.host);
    assert!(proof.picture.is_some());
    assert_eq!(lab.estate().machines.len(), 2, "a copy is left");
    // The next copy is of what changed, as if nobody had looked.
    assert!(alike(&lab) && replica(&lab).unwrap().follows().is_some());
    written(&lab, 2 << 20).await;
    lab.done(begin(&lab)).await;
    assert!(points(&lab)[1].read < Bytes::mib(4) && alike(&lab));
    // Of what does not boot nothing is proven.
    assert!(lab.standins.world.spoil("m", true));
    lab.done(begin(&lab)).await;
    let at = AnyPoint::Replicated {
        replica: replica_id,
        session: points(&lab)[2].session,
    };
    lab.done(prove(&lab, at, Span::secs(6)).await).await;
    let proof = points(&lab)[2].proof.clone().unwrap();
    assert!(!proof.is_good(), "{}", proof.words());
}

/// If this fails, a job that shall prove what it replicates never does.
#[sqlx::test(migrations = false)]
async fn what_a_job_replicates_is_proven_by_itself(pool: PgPool) {
    let lab = lab(&pool).await;
    let Proposal::Jobs(jobs::Ask::Keep(ask)) = keep(&lab, "last 3") else {
        panic!("no job");
    };
    let proves = Some(Span::days(7));
    lab.done(Proposal::Jobs(jobs::Ask::Keep(Keep { proves, ..ask })))
        .await;
    lab.done(begin(&lab)).await;
    eventually("it is proven", || {
        let all = points(&lab);
        let proof = all.first().and_then(|p| p.proof.as_ref());
        proof.is_some_and(|f| f.is_good())
    })
    .await;
    eventually("the copy is gone", || lab.estate().machines.len() == 2).await;
    lab.done(begin(&lab)).await;
    assert!(lab.estate().to_prove(lab.desk.now()).is_empty());
}
