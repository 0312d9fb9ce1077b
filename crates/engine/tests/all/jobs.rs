//! Jobs on real sockets: copied when they are due and by hand, points that are not kept go, and what nothing needs is swept.

use crate::{
    backups::make_store,
    lab::{Lab, eventually},
    packages::small,
    restoring::{newest, put_back},
};
use sqlx::PgPool;
use zastrugi_core::{
    estate::{Goal, Job, PointAt, StoredPoint},
    moment::Span,
    rooms::{
        Proposal,
        backups::{self, JobRun},
        edits::{self, Set, Target},
        jobs::{self, Keep},
        machines::{self, PowerAct},
        stores,
    },
    runs::RunState,
    units::Bytes,
};
use zastrugi_engine::{EventFilter, Resolve};
use zastrugi_standins::{Fault, FaultKind};
use zastrugi_store::testkit::url;

pub(crate) fn label(lab: &Lab, name: &str) -> Proposal {
    Proposal::Edits(edits::Ask::Edit {
        targets: vec![Target::Machine(lab.machine(name))],
        sets: vec![Set::Label {
            key: "env".into(),
            value: "prod".into(),
        }],
    })
}

pub(crate) fn keep(lab: &Lab, rule: &str, keeps: &str) -> Proposal {
    let estate = lab.estate();
    Proposal::Jobs(jobs::Ask::Keep(Keep {
        job: estate.jobs.keys().next().copied(),
        name: "nightly".into(),
        who: "env=prod".into(),
        to: estate.stores.keys().next().copied().map(Goal::Store),
        rule: rule.into(),
        zone: "Europe/Oslo".into(),
        keeps: keeps.into(),
        quiet: true,
        proves: None,
        begins: None,
        how: Default::default(),
    }))
}

fn job(lab: &Lab) -> Job {
    Job::clone(lab.estate().jobs.values().next().unwrap())
}

pub(crate) fn begin(lab: &Lab) -> Proposal {
    Proposal::Backups(backups::Ask::Job(JobRun {
        job: job(lab).id,
        by_hand: true,
    }))
}

/// Machine `m` with something on its disk, a store, and a label.
async fn lab(pool: &PgPool) -> Lab {
    let lab = Lab::at_speed(&url(pool), 2, 40.0).await;
    lab.ready().await;
    lab.done(small(&lab, "m", 1)).await;
    lab.done(label(&lab, "m")).await;
    written(&lab, 9 << 20).await;
    lab.done(make_store(&lab, "hill").await).await;
    lab
}

async fn power(lab: &Lab, act: PowerAct) {
    let machines = vec![lab.machine("m")];
    lab.done(Proposal::Machines(machines::Ask::Power { machines, act }))
        .await;
}

pub(crate) async fn written(lab: &Lab, bytes: u64) {
    power(lab, PowerAct::On { host: None }).await;
    let before = lab.standins.world.content("m", None);
    lab.standins.world.write("m", bytes);
    eventually("it is written", || {
        lab.standins.world.content("m", None) != before
    })
    .await;
    power(lab, PowerAct::Off).await;
}

pub(crate) fn points(lab: &Lab) -> Vec<StoredPoint> {
    let estate = lab.estate();
    let all = estate.series.values();
    all.flat_map(|s| s.points.clone()).collect()
}

async fn told(lab: &Lab, words: &str) -> bool {
    let events = lab.desk.events(&EventFilter::default(), 400).await.unwrap();
    events.iter().any(|e| e.text.contains(words))
}

/// If this fails, nobody's machines are copied at night, or they are copied again and again.
#[sqlx::test(migrations = false)]
async fn one_that_is_due_copies_once_by_itself(pool: PgPool) {
    let lab = lab(&pool).await;
    // The minute after the next one begins.
    let minute = lab.desk.now().plus(Span::secs(61)).0.div_euclid(60_000) % 60;
    let rule = format!("FREQ=HOURLY;BYMINUTE={minute}");
    lab.done(keep(&lab, &rule, "7 days")).await;
    let due = job(&lab).next.unwrap();
    assert!(due.since(lab.desk.now()) < Span::secs(125));
    let wait = due.since(lab.desk.now());
    tokio::time::sleep(std::time::Duration::from_millis(wait.0)).await;
    eventually("it is copied", || points(&lab).len() == 1).await;
    let now = job(&lab);
    assert_eq!(points(&lab)[0].job, Some(now.id));
    assert!(
        now.last.is_some_and(|l| l >= due)
            && now.next.is_some_and(|n| n > due.plus(Span::mins(30)))
    );
    tokio::time::sleep(std::time::Duration::from_secs(5)).await;
    assert_eq!(points(&lab).len(), 1, "the next is due in an hour");
}

/// If this fails, a store grows for ever, or what was kept can't be put back after others went.
#[sqlx::test(migrations = false)]
async fn points_that_are_not_kept_go_and_what_stays_comes_back(pool: PgPool) {
    let lab = lab(&pool).await;
    lab.done(keep(&lab, "FREQ=DAILY;BYHOUR=3;BYMINUTE=0", "last 1"))
        .await;
    for _ in 0..3 {
        written(&lab, 2 << 20).await;
        lab.done(begin(&lab)).await;
    }
    // As they were when the last run began: one was kept, and it made one more.
    assert_eq!(points(&lab).len(), 2);
    assert!(told(&lab, "recovery points in breakwater are not kept any more").await);
    let store = lab.estate().stores.values().next().unwrap().clone();
    assert!(store.swept.is_some(), "it was swept with the first run");
    let then = lab.standins.world.read_disk("m", 0).unwrap();
    written(&lab, 2 << 20).await;
    let at = newest(&lab, "m");
    lab.done(put_back(&lab, "m", at, false).await).await;
    assert!(lab.standins.world.read_disk("m", 0).unwrap() == then);
    // Somebody lets both go; the next copy is of everything again.
    let all = points(&lab).into_iter().map(|p| PointAt {
        session: p.session,
        ..at
    });
    lab.done(Proposal::Stores(stores::Ask::LetGo {
        points: all.collect(),
        typed: "2".into(),
    }))
    .await;
    assert!(points(&lab).is_empty() && lab.estate().series.is_empty());
    lab.done(begin(&lab)).await;
    assert_eq!(points(&lab).len(), 1);
    assert!(told(&lab, "recovery points in breakwater are not kept any more").await);
}

/// If this fails, two runs of one job copy the same machines at the same time.
#[sqlx::test(migrations = false)]
async fn one_that_still_goes_on_is_not_begun_again(pool: PgPool) {
    let lab = lab(&pool).await;
    lab.done(keep(&lab, "FREQ=DAILY;BYHOUR=3;BYMINUTE=0", "7 days"))
        .await;
    fault(&lab, "/bytes", FaultKind::Hang, 1);
    let run = lab.start(begin(&lab)).await;
    let said = || {
        zastrugi_core::rooms::assess(
            &lab.desk.look(),
            &zastrugi_core::permits::Permits::of(zastrugi_core::permits::Role::Admin),
            &begin(&lab),
            lab.desk.now(),
        )
    };
    let findings = said().findings().to_vec();
    assert!(
        findings
            .iter()
            .any(|f| f.stops() && f.text.contains("still goes on")),
        "{findings:?}"
    );
    let due = Proposal::Backups(backups::Ask::Job(JobRun {
        job: job(&lab).id,
        by_hand: false,
    }));
    lab.done(due).await;
    assert!(told(&lab, "was skipped at").await);
    lab.standins.world.clear_faults();
    lab.until(run, &[RunState::Done]).await;
    assert_eq!(points(&lab).len(), 1);
    let id = job(&lab).id;
    for paused in [true, false] {
        lab.done(Proposal::Jobs(jobs::Ask::Pause { job: id, paused }))
            .await;
    }
    lab.done(Proposal::Jobs(jobs::Ask::Remove { job: id }))
        .await;
    assert!(lab.estate().jobs.is_empty());
    assert_eq!(points(&lab).len(), 1, "its points stay");
}

fn fault(lab: &Lab, call: &str, kind: FaultKind, times: u32) {
    for host in ["h1", "h2"] {
        lab.standins.world.add_fault(Fault {
            device: host.into(),
            call: call.into(),
            kind,
            times,
        });
    }
}

/// If this fails, one machine that can't be copied keeps all others from being copied until somebody looks at it.
#[sqlx::test(migrations = false)]
async fn one_that_needs_somebody_does_not_hold_up_the_others(pool: PgPool) {
    let lab = lab(&pool).await;
    // More than are copied at a time, each of which fails: the next has its turn all the same.
    for n in 1..=5 {
        let name = format!("w{n}");
        lab.done(small(&lab, &name, 1)).await;
        lab.done(label(&lab, &name)).await;
    }
    let uuid = |name: &str| lab.estate().machine_named(name).unwrap().uuid;
    for name in ["m", "w1", "w2", "w3"] {
        let marks = format!("{}/marks", uuid(name));
        fault(&lab, &marks, FaultKind::Refuse, 99);
    }
    lab.done(keep(&lab, "FREQ=DAILY;BYHOUR=3;BYMINUTE=0", "7 days"))
        .await;
    let copied = || {
        let estate = lab.estate();
        let all = estate
            .series
            .values()
            .map(|s| (s.name.clone(), s.points.len()));
        all.collect::<std::collections::BTreeMap<_, _>>()
    };
    let run = lab.start(begin(&lab)).await;
    eventually("the others are copied", || copied().len() == 2).await;
    let run = lab.until(run, &[RunState::NeedsYou]).await;
    assert_eq!(copied(), [("w4".into(), 1), ("w5".into(), 1)].into());
    // The next time too, without those about which somebody is asked already.
    let next = lab.start(begin(&lab)).await;
    lab.until(next, &[RunState::Done]).await;
    assert_eq!(copied(), [("w4".into(), 2), ("w5".into(), 2)].into());
    lab.standins.world.clear_faults();
    lab.desk
        .answer(&lab.admin, run.id, Resolve::Retry)
        .await
        .unwrap();
    lab.until(run.id, &[RunState::Done]).await;
    assert_eq!(copied().len(), 6);
}

fn kept_so(lab: &Lab, how: jobs::How) -> Proposal {
    let Proposal::Jobs(jobs::Ask::Keep(ask)) =
        keep(lab, "FREQ=DAILY;BYHOUR=3;BYMINUTE=0", "last 9")
    else {
        panic!("no job");
    };
    Proposal::Jobs(jobs::Ask::Keep(Keep { how, ..ask }))
}

/// If this fails, what silently differs in a store stays so, what was to stay beside a machine goes, or a job copies in hours in which
/// it was to rest.
#[sqlx::test(migrations = false)]
async fn all_is_read_again_some_stays_beside_and_it_rests_when_it_shall(pool: PgPool) {
    let lab = lab(&pool).await;
    let how = jobs::How {
        whole: "2 copies".into(),
        local: Some(Span::mins(60)),
        ..jobs::How::default()
    };
    lab.done(kept_so(&lab, how)).await;
    for _ in 0..3 {
        lab.done(begin(&lab)).await;
    }
    let all = points(&lab);
    let read: Vec<u64> = all.iter().map(|p| p.read.0 >> 20).collect();
    assert!(read[0] >= 9 && read[1] < 5 && read[2] >= 9, "{read:?} MiB");
    assert_eq!(all[2].stored, Bytes::ZERO, "it was there already");
    let since: Vec<u16> = all.iter().map(|p| p.whole.unwrap().since).collect();
    assert_eq!(since, [0, 1, 0]);
    let beside = lab.estate().machine_named("m").unwrap().snapshots.clone();
    assert_eq!(beside.all.len(), 3);
    assert!(
        beside
            .all
            .iter()
            .all(|s| s.name.starts_with("nightly ") && s.ends.is_some())
    );
    // A day ago it was open, and tomorrow it is again.
    let day = (lab.desk.now().0.div_euclid(86_400_000) + 3 + 3) % 7;
    let days = ["Mo", "Tu", "We", "Th", "Fr", "Sa", "Su"];
    let other = days[usize::try_from((day + 3) % 7).unwrap()];
    let how = jobs::How {
        cap: format!("nothing; {other} all").as_str().into(),
        ..jobs::How::default()
    };
    lab.done(kept_so(&lab, how)).await;
    written(&lab, 2 << 20).await;
    let run = lab.start(begin(&lab)).await;
    eventually("it is at the copy", || {
        let view = lab.desk.look();
        let run = view.runs.get(run);
        run.is_some_and(|r| r.state == RunState::Running)
    })
    .await;
    tokio::time::sleep(std::time::Duration::from_secs(4)).await;
    assert_eq!(points(&lab).len(), 3, "it rests");
    lab.desk
        .answer(&lab.admin, run, Resolve::Cancel)
        .await
        .unwrap();
    lab.until(run, &[RunState::Cancelled]).await;
    assert_eq!(points(&lab).len(), 3);
}
