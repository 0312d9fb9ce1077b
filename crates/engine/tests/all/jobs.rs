//! Jobs on real sockets: copied when they are due and by hand, points that are not kept go, and what nothing needs is swept.

use crate::{
    backups::make_store,
    lab::{Lab, eventually},
    packages::small,
    restoring::{newest, put_back},
};
use sqlx::PgPool;
use zastrugi_core::{
    estate::{Job, StoredPoint},
    moment::Span,
    rooms::{
        Proposal,
        backups::{self, JobRun},
        edits::{self, Set, Target},
        jobs::{self, Keep},
        machines::{self, PowerAct},
    },
    runs::RunState,
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
        store: estate.stores.keys().next().copied(),
        rule: rule.into(),
        zone: "Europe/Oslo".into(),
        keeps: keeps.into(),
        quiet: true,
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

async fn written(lab: &Lab, bytes: u64) {
    power(lab, PowerAct::On { host: None }).await;
    let before = lab.standins.world.content("m", None);
    lab.standins.world.write("m", bytes);
    eventually("it is written", || {
        lab.standins.world.content("m", None) != before
    })
    .await;
    power(lab, PowerAct::Off).await;
}

fn points(lab: &Lab) -> Vec<StoredPoint> {
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
}

/// If this fails, a job begins again while it still goes on, and both read the same line.
#[sqlx::test(migrations = false)]
async fn one_that_still_goes_on_is_not_begun_again(pool: PgPool) {
    let lab = lab(&pool).await;
    lab.done(keep(&lab, "FREQ=DAILY;BYHOUR=3;BYMINUTE=0", "7 days"))
        .await;
    for host in ["h1", "h2"] {
        lab.standins.world.add_fault(Fault {
            device: host.into(),
            call: "/bytes".into(),
            kind: FaultKind::Refuse,
            times: 9,
        });
    }
    let run = lab.start(begin(&lab)).await;
    let run = lab.until(run, &[RunState::NeedsYou]).await;
    let view = lab.desk.look();
    let said = zastrugi_core::rooms::assess(
        &view,
        &zastrugi_core::permits::Permits::of(zastrugi_core::permits::Role::Admin),
        &begin(&lab),
        lab.desk.now(),
    );
    assert!(
        said.findings()
            .iter()
            .any(|f| f.stops() && f.text.contains("still goes on")),
        "{:?}",
        said.findings()
    );
    let due = Proposal::Backups(backups::Ask::Job(JobRun {
        job: job(&lab).id,
        by_hand: false,
    }));
    lab.done(due).await;
    assert!(told(&lab, "was skipped at").await);
    lab.standins.world.clear_faults();
    lab.desk
        .answer(&lab.admin, run.id, Resolve::Cancel)
        .await
        .unwrap();
    lab.until(run.id, &[RunState::Cancelled]).await;
    lab.done(begin(&lab)).await;
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
