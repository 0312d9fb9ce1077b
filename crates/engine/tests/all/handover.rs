//! Planned moves on real sockets: machines go on at the other site with all that they held, and come back the same way; whatever is
//! in the way, nothing runs twice and nothing is lost.

use crate::{
    drilling::{answer, asked, plan},
    jobs::label,
    lab::{Lab, eventually, eventually_within},
    packages::small,
    proving::must,
    replicas::{begin, keep, pair_up, sites, two_sites},
};
use sqlx::PgPool;
use std::sync::Arc;
use zastrugi_core::{
    estate::{Machine, MachineState, Passage, PassageKind, Wanted},
    ids::{MachineId, SiteId},
    moment::Span,
    pairing,
    rooms::{
        Proposal,
        handover::{self, Failover, Shift, Which},
        machines::{self, AfterGrace, PowerAct},
        plans,
    },
    runs::RunState,
    units::Bytes,
};
use zastrugi_engine::Resolve;
use zastrugi_standins::{Fault, FaultKind};
use zastrugi_store::testkit::url;

pub(crate) fn shift(lab: &Lab) -> Proposal {
    let plan = lab.estate().plans.values().next().unwrap().clone();
    Proposal::Handover(handover::Ask::Shift(Shift {
        plan: plan.id,
        grace: Span::mins(1),
        then: AfterGrace::LeaveOn,
        typed: plan.name.as_str().into(),
    }))
}

fn passage(lab: &Lab) -> Arc<Passage> {
    let estate = lab.estate();
    let plan = *estate.plans.keys().next().unwrap();
    estate.passages_of(plan)[0].clone()
}

fn power(lab: &Lab, act: PowerAct) -> Proposal {
    let machines = vec![lab.machine("m")];
    Proposal::Machines(machines::Ask::Power { machines, act })
}

/// Machine `m`, on, with something on its disk and an address, replicated, in a plan.
async fn lab(pool: &PgPool) -> Lab {
    let lab = Lab::with(&url(pool), two_sites(), 40.0, |_| {}).await;
    sites(&lab).await;
    lab.done(small(&lab, "m", 1)).await;
    lab.done(power(&lab, PowerAct::On { host: None })).await;
    lab.done(label(&lab, "m")).await;
    written(&lab, 9 << 20).await;
    lab.done(pair_up(&lab, "")).await;
    lab.done(keep(&lab, "last 3")).await;
    lab.done(begin(&lab)).await;
    lab.done(plan(&lab, "")).await;
    lab
}

/// While it runs.
async fn written(lab: &Lab, bytes: u64) {
    let before = lab.standins.world.content("m", None);
    lab.standins.world.write("m", bytes);
    eventually("it is written", || {
        lab.standins.world.content("m", None) != before
    })
    .await;
}

fn site(lab: &Lab, machine: &Machine) -> SiteId {
    lab.estate().site_of(machine).unwrap()
}

fn named(lab: &Lab, name: &str) -> Arc<Machine> {
    lab.estate().machine_named(name).unwrap().clone()
}

/// It runs once, where it should, and answers.
async fn runs_at(lab: &Lab, at: &str) {
    eventually("it runs there", || {
        let estate = lab.estate();
        let m = estate.machine_named("m").unwrap();
        let there = estate.site_of(m) == estate.site_named(at).map(|s| s.id);
        there && m.state == MachineState::Running { guest: true }
    })
    .await;
    let estate = lab.estate();
    let on: Vec<&str> = estate
        .machines
        .values()
        .filter(|m| !m.is_off())
        .map(|m| m.name.as_str())
        .collect();
    assert_eq!(on, ["m"], "one of both is on");
    assert_eq!(estate.machines.len(), 2);
}

/// If this fails, a machine that is moved to another site loses what it wrote last, runs at both, or nobody brings it back.
#[sqlx::test(migrations = false)]
async fn a_plan_is_moved_and_moved_back_without_loss(pool: PgPool) {
    let lab = lab(&pool).await;
    lab.done(must(&lab, "m", "tcp 22")).await;
    let id: MachineId = lab.machine("m");
    let was = named(&lab, "m");
    let home = site(&lab, &was);
    written(&lab, 3 << 20).await;
    lab.done(shift(&lab)).await;
    runs_at(&lab, "Hilltop").await;
    let now = named(&lab, "m");
    assert_eq!(now.id, id, "whoever knew it finds it there");
    assert_eq!((&now.labels, now.wanted), (&was.labels, Wanted::On));
    assert_eq!(now.crossed.map(|c| c.from), Some(home));
    let left = named(&lab, "m-quayside");
    assert_eq!(left.replica.as_ref().map(|r| r.of), Some(now.uuid));
    assert!(left.is_off() && left.wanted == Wanted::Off);
    let went = passage(&lab);
    assert_eq!(
        (went.kind, went.came(), went.is_good()),
        (PassageKind::Move, (1, 1), true),
        "{went:?}"
    );
    let arrived = &went.stages[2].machines[0];
    let equal = arrived.equal.expect("both sides were compared");
    assert!(
        equal.extents > 0 && !equal.all,
        "of what went over last: {equal:?}"
    );
    assert!(
        arrived.taken >= went.began,
        "what it held when it was off, not before"
    );
    assert!(went.stages.iter().all(|s| s.took().is_some()));
    // What was there is what is there: only the guest's own writes since differ.
    let (there, here) = (
        lab.standins.world.read_disk("m", 0),
        lab.standins.world.read_disk("m-quayside", 0),
    );
    assert!(
        there.is_some() && here.is_some(),
        "hosts know both by their names"
    );
    assert_eq!(there.map(|d| d.len()), here.map(|d| d.len()));

    // What it writes there comes back by its job, only what changed.
    written(&lab, 2 << 20).await;
    lab.done(begin(&lab)).await;
    let back = named(&lab, "m-quayside");
    let newest = back
        .follows()
        .expect("it holds what it was brought")
        .clone();
    assert!(newest.read < Bytes::mib(8), "{}", newest.read);
    assert_eq!(
        newest.whole.map(|w| w.since > 0),
        Some(true),
        "nothing had to be compared as a whole"
    );

    // And the same plan leads back.
    lab.done(shift(&lab)).await;
    runs_at(&lab, "Quayside").await;
    let home_again = named(&lab, "m");
    assert_eq!((home_again.id, home_again.uuid), (id, was.uuid));
    assert_eq!(home_again.crossed, None);
    assert_eq!(home_again.disks, was.disks);
    assert_eq!(
        named(&lab, "m-hilltop").replica.as_ref().map(|r| r.of),
        Some(was.uuid)
    );
    assert!(passage(&lab).is_good());
    lab.done(begin(&lab)).await;
    lab.assert_once();
}

/// If this fails, a move stops machines that it can't bring over, or starts elsewhere what is not the same.
#[sqlx::test(migrations = false)]
async fn what_breaks_on_the_way_is_retried_or_leaves_it_where_it_was(pool: PgPool) {
    let lab = lab(&pool).await;
    // The line fails in the middle of the last copy.
    for host in ["h1", "h2", "h3", "h4"] {
        lab.standins.world.add_fault(Fault {
            device: host.into(),
            call: "/follow".into(),
            kind: FaultKind::Refuse,
            times: 9,
        });
    }
    let run = lab.start(shift(&lab)).await;
    lab.until(run, &[RunState::NeedsYou]).await;
    assert!(
        !named(&lab, "m").is_off(),
        "nothing was stopped before it was up to date"
    );
    lab.standins.world.clear_faults();
    lab.desk
        .answer(&lab.admin, run, Resolve::Retry)
        .await
        .unwrap();
    lab.until(run, &[RunState::Done]).await;
    runs_at(&lab, "Hilltop").await;

    // Its host there refuses to start it on the way back; given up, it is known where it is, and can be started.
    lab.done(begin(&lab)).await;
    lab.standins.world.add_fault(Fault {
        device: "h1".into(),
        call: "/digests".into(),
        kind: FaultKind::Refuse,
        times: 99,
    });
    lab.standins.world.add_fault(Fault {
        device: "h2".into(),
        call: "/digests".into(),
        kind: FaultKind::Refuse,
        times: 99,
    });
    let run = lab.start(shift(&lab)).await;
    lab.until(run, &[RunState::NeedsYou]).await;
    let m = named(&lab, "m");
    assert!(
        m.is_off() && m.crossed.is_some(),
        "nothing goes over that was not compared"
    );
    lab.desk
        .answer(&lab.admin, run, Resolve::Cancel)
        .await
        .unwrap();
    lab.until(run, &[RunState::Cancelled]).await;
    assert!(passage(&lab).left);
    lab.standins.world.clear_faults();
    lab.done(power(&lab, PowerAct::On { host: None })).await;
    runs_at(&lab, "Hilltop").await;
    // Nothing of it is in the way of the next try.
    lab.done(begin(&lab)).await;
    lab.done(shift(&lab)).await;
    runs_at(&lab, "Quayside").await;
}

/// If this fails, the next stage begins though one is not well and nobody said so, or one that came up after all is not believed.
#[sqlx::test(migrations = false)]
async fn who_is_not_well_is_waited_for_or_left_knowingly(pool: PgPool) {
    let lab = lab(&pool).await;
    lab.done(must(&lab, "m", "tcp 5432")).await;
    let Proposal::Plans(plans::Ask::Keep(mut kept)) = plan(&lab, "") else {
        unreachable!()
    };
    kept.stages[0].limit = Span::secs(6);
    lab.done(Proposal::Plans(plans::Ask::Keep(kept))).await;
    let run = lab.start(shift(&lab)).await;
    eventually_within("a person is asked", 90, || asked(&lab).is_some()).await;
    let denied = lab.desk.assess(&lab.admin, &answer(&lab, false));
    assert!(denied.blocked(), "denying it would be no answer");
    // It is well after all: nobody has to say so.
    lab.done(must(&lab, "m", "tcp 22")).await;
    lab.until(run, &[RunState::Done]).await;
    let went = passage(&lab);
    assert!(went.is_good(), "{:?}", went.stages[2]);
    // The other way somebody says that it may go on as it is.
    lab.done(begin(&lab)).await;
    lab.done(must(&lab, "m", "tcp 5432")).await;
    let run = lab.start(shift(&lab)).await;
    eventually_within("a person is asked", 90, || asked(&lab).is_some()).await;
    lab.done(answer(&lab, true)).await;
    lab.until(run, &[RunState::Done]).await;
    let went = passage(&lab);
    assert_eq!((went.came(), went.is_good()), ((0, 1), false));
    assert_eq!(went.stages[2].then[0].good, Some(false));
    runs_at(&lab, "Quayside").await;
}

pub(crate) fn failover(lab: &Lab) -> Proposal {
    let plan = *lab.estate().plans.keys().next().unwrap();
    Proposal::Handover(handover::Ask::Failover(Failover {
        plan,
        which: Which::Newest,
        typed: "Quayside".into(),
    }))
}

/// Nobody knows any more what the machine does.
async fn unknown(lab: &Lab) {
    eventually_within("nobody hears of it", 60, || {
        let estate = lab.estate();
        estate.unknown(estate.machine_named("m").unwrap()).is_some()
    })
    .await;
}

/// Everything of the machine that was superseded is off, and follows again once somebody says so; then all of it comes back.
async fn taken_up_and_back(lab: &Lab) {
    let aside = named(lab, "m-quayside");
    assert!(aside.replica.as_ref().unwrap().astray && aside.follows().is_none());
    lab.done(begin(lab)).await;
    assert!(
        named(lab, "m-quayside").replica.as_ref().unwrap().astray,
        "a job writes nothing over what is kept aside"
    );
    let machines = vec![aside.id];
    lab.done(Proposal::Handover(handover::Ask::Clear { machines }))
        .await;
    written(lab, 1 << 20).await;
    lab.done(begin(lab)).await;
    let left = named(lab, "m-quayside");
    let newest = left.follows().unwrap().clone();
    assert!(
        newest.read < Bytes::mib(24),
        "only what differs went over: {}",
        newest.read
    );
    let kept = left.replicated().next().unwrap();
    assert_eq!(kept.read, Bytes::ZERO, "what it held stays as a point");
    let estate = lab.estate();
    let ends = &estate.pairs.values().next().unwrap().ends;
    lab.desk.try_ends_anew(pairing::probes(&estate, ends)).await;
    lab.done(shift(lab)).await;
    runs_at(lab, "Quayside").await;
    assert!(passage(lab).is_good(), "{:?}", passage(lab));
}

/// If this fails, nothing of a dead site goes on at the other, or what comes back of it runs a second time or is written over.
#[sqlx::test(migrations = false)]
async fn a_dead_site_is_failed_over_and_taken_up_when_it_is_back(pool: PgPool) {
    let lab = lab(&pool).await;
    let point = {
        let m = named(&lab, "m");
        let estate = lab.estate();
        let replica = estate.replicas_of(m.uuid).next().unwrap();
        replica.follows().unwrap().clone()
    };
    for host in ["h1", "h2"] {
        lab.standins.world.power(host, false);
    }
    unknown(&lab).await;
    let said = lab.desk.assess(&lab.admin, &failover(&lab));
    let texts: Vec<&str> = said.findings().iter().map(|f| f.text.as_str()).collect();
    assert!(
        texts
            .iter()
            .any(|t| t.contains("originals may still run at Quayside")),
        "{texts:?}"
    );
    assert!(texts.iter().any(|t| t.contains("is lost")), "{texts:?}");
    lab.done(failover(&lab)).await;
    runs_at(&lab, "Hilltop").await;
    let went = passage(&lab);
    assert_eq!(
        (went.kind, went.is_good()),
        (PassageKind::Failover, true),
        "{went:?}"
    );
    assert_eq!(went.stages[1].machines[0].taken, point.taken);
    for host in ["h1", "h2"] {
        lab.standins.world.power(host, true);
    }
    eventually_within("the site is back", 90, || {
        let estate = lab.estate();
        let all = ["h1", "h2"].map(|h| estate.hosts.values().find(|x| x.name == h).cloned());
        all.iter().flatten().all(|h| h.accepts_work())
    })
    .await;
    runs_at(&lab, "Hilltop").await;
    taken_up_and_back(&lab).await;
}

/// If this fails, a machine whose site was only cut off runs at both sites for good.
#[sqlx::test(migrations = false)]
async fn what_ran_on_at_a_site_that_was_cut_off_is_powered_off_when_it_answers(pool: PgPool) {
    let lab = lab(&pool).await;
    // It answers nobody, has power, and its machines run on.
    let cut = |cut: bool| {
        for host in ["h1", "h2"] {
            lab.standins.world.hang(host, cut);
        }
    };
    cut(true);
    unknown(&lab).await;
    lab.done(failover(&lab)).await;
    eventually_within("it runs there", 60, || {
        let estate = lab.estate();
        let m = estate.machine_named("m").unwrap();
        m.state == MachineState::Running { guest: true }
    })
    .await;
    cut(false);
    eventually_within("what was superseded is off", 90, || {
        lab.standins.world.violations().is_empty() && {
            let estate = lab.estate();
            let left = estate.machine_named("m-quayside");
            left.is_some_and(|m| m.is_off() && m.as_of.is_some())
        }
    })
    .await;
    eventually_within("its host has nothing on", 60, || {
        let estate = lab.estate();
        let hosts = estate
            .hosts
            .values()
            .filter(|h| h.name == "h1" || h.name == "h2");
        { hosts }.all(|h| h.accepts_work() && estate.machines_on(h.id).count() == 0)
    })
    .await;
    runs_at(&lab, "Hilltop").await;
    taken_up_and_back(&lab).await;
}

/// If this fails, one machine that does not start keeps all others from going on, or somebody's word is needed twice.
#[sqlx::test(migrations = false)]
async fn what_does_not_start_is_left_knowingly_and_started_elsewhere(pool: PgPool) {
    let lab = lab(&pool).await;
    for host in ["h1", "h2"] {
        lab.standins.world.power(host, false);
    }
    unknown(&lab).await;
    for host in ["h3", "h4"] {
        lab.standins.world.add_fault(Fault {
            device: host.into(),
            call: "/power".into(),
            kind: FaultKind::Refuse,
            times: 1,
        });
    }
    let run = lab.start(failover(&lab)).await;
    lab.until(run, &[RunState::NeedsYou]).await;
    lab.standins.world.clear_faults();
    lab.desk
        .answer(&lab.admin, run, Resolve::PassOver)
        .await
        .unwrap();
    eventually_within("a person is asked", 90, || asked(&lab).is_some()).await;
    // Somebody powers it on by hand: that is seen, and nobody has to say more.
    lab.done(power(&lab, PowerAct::On { host: None })).await;
    let ended = lab.until(run, &[RunState::Done]).await;
    assert_eq!(ended.tally.skipped, 1, "what was left is told as left");
    assert!(passage(&lab).is_good());
    runs_at(&lab, "Hilltop").await;
}
