//! Drills on real sockets: a plan is carried out beside production at the other site, whatever fails there, and nothing of it stays
//! but its report.

use crate::{
    jobs::label,
    lab::{Lab, eventually, eventually_within},
    packages::small,
    proving::must,
    replicas::{begin, keep, pair_up, sites, two_sites},
};
use sqlx::PgPool;
use std::sync::Arc;
use zastrugi_core::{
    estate::{Passage, Way},
    ids::PassageId,
    moment::Span,
    rooms::{
        Proposal,
        drilling::{self, Drill},
        machines::{self, PowerAct},
        passages, plans,
    },
    runs::RunState,
};
use zastrugi_engine::Resolve;
use zastrugi_standins::{Fault, FaultKind};
use zastrugi_store::testkit::url;

/// One stage with `m`, and what lies behind it.
pub(crate) fn plan(lab: &Lab, then: &str) -> Proposal {
    let estate = lab.estate();
    let pair = estate.pairs.values().next().unwrap();
    Proposal::Plans(plans::Ask::Keep(Box::new(plans::Keep {
        plan: estate.plans.keys().next().copied(),
        name: "harbour".into(),
        way: Some(Way {
            pair: pair.id,
            from: pair.ends[0].site,
        }),
        stages: vec![plans::KeepStage {
            row: 0,
            name: "stores".into(),
            named: "m".into(),
            who: "".into(),
            in_turn: false,
            limit: Span::mins(1),
            then: then.into(),
        }],
        drills: "".into(),
    })))
}

pub(crate) fn drill(lab: &Lab, looked_at: bool) -> Proposal {
    let plan = *lab.estate().plans.keys().next().unwrap();
    Proposal::Drilling(drilling::Ask::Drill(Drill { plan, looked_at }))
}

/// What somebody is waited for, of any plan.
pub(crate) fn asked(lab: &Lab) -> Option<(PassageId, u64)> {
    let estate = lab.estate();
    let mut all = estate.passages.values();
    all.find_map(|p| Some((p.id, p.waits_for()?.1.mark)))
}

pub(crate) fn answer(lab: &Lab, good: bool) -> Proposal {
    let (passage, mark) = asked(lab).unwrap();
    Proposal::Passages(passages::Ask::Answer {
        passage,
        mark,
        good,
        note: "seen at the desk".into(),
    })
}

/// The last time that the plan was carried out.
fn passage(lab: &Lab) -> Arc<Passage> {
    let estate = lab.estate();
    let plan = *estate.plans.keys().next().unwrap();
    estate.passages_of(plan)[0].clone()
}

/// Machine `m`, on, replicated.
async fn lab(pool: &PgPool) -> Lab {
    let lab = Lab::with(&url(pool), two_sites(), 40.0, |_| {}).await;
    sites(&lab).await;
    lab.done(small(&lab, "m", 1)).await;
    let machines = vec![lab.machine("m")];
    let act = PowerAct::On { host: None };
    lab.done(Proposal::Machines(machines::Ask::Power { machines, act }))
        .await;
    lab.done(label(&lab, "m")).await;
    lab.done(pair_up(&lab, "")).await;
    lab.done(keep(&lab, "last 2")).await;
    lab.done(begin(&lab)).await;
    lab
}

/// The original and its replica, and nothing else.
fn alone(lab: &Lab) {
    assert_eq!(lab.estate().machines.len(), 2, "a copy is left");
    assert_eq!(lab.estate().proving().count(), 0);
    let original = lab.estate();
    let original = original.machine_named("m").unwrap();
    assert!(!original.is_off(), "the original was touched");
}

/// If this fails, a drill tells of what nobody tried, goes on without the person that it asks, or leaves its copies.
#[sqlx::test(migrations = false)]
async fn a_plan_is_drilled_and_nothing_stays_but_its_report(pool: PgPool) {
    let lab = lab(&pool).await;
    lab.done(must(&lab, "m", "tcp 22\nrun service shell")).await;
    let then = "wait 1 s\nin m run service shell\nconfirm it looks right";
    lab.done(plan(&lab, then)).await;
    let run = lab.start(drill(&lab, true)).await;
    eventually_within("somebody is asked", 60, || asked(&lab).is_some()).await;
    let copies = lab.estate().proving().filter(|m| !m.is_off()).count();
    assert_eq!(copies, 1, "the copy is up while it is looked at");
    lab.done(answer(&lab, true)).await;
    // And once more before they go.
    let first = asked(&lab);
    eventually_within("somebody is asked again", 30, || {
        asked(&lab).is_some() && asked(&lab) != first
    })
    .await;
    lab.done(answer(&lab, false)).await;
    lab.until(run, &[RunState::Done]).await;
    let done = passage(&lab);
    assert_eq!(done.came(), (1, 1));
    assert!(!done.is_good(), "somebody denied that it may go");
    let stage = &done.stages[0];
    let said: Vec<_> = stage
        .then
        .iter()
        .map(|b| (b.good, b.said.as_str()))
        .collect();
    assert_eq!(said[0].0, Some(true));
    assert_eq!(said[1].0, Some(true), "{}", said[1].1);
    assert_eq!(said[2], (Some(true), "seen at the desk"));
    assert_eq!(said[3], (Some(false), "seen at the desk"));
    let machine = &stage.machines[0];
    assert!(machine.booted.is_some() && machine.host.starts_with('h'));
    assert!(stage.took().unwrap() >= Span::secs(1), "the wait is in it");
    assert!(done.ended.is_some() && !done.left);
    alone(&lab);
}

/// If this fails, what does not come up is called well, or keeps the others from being tried and the copies there.
#[sqlx::test(migrations = false)]
async fn what_does_not_come_up_is_told_and_goes_too(pool: PgPool) {
    let lab = lab(&pool).await;
    lab.done(must(&lab, "m", "tcp 5432")).await;
    let Proposal::Plans(plans::Ask::Keep(mut keep)) = plan(&lab, "in m run no-such-thing") else {
        panic!("a plan")
    };
    keep.stages[0].limit = Span::secs(6);
    lab.done(Proposal::Plans(plans::Ask::Keep(keep))).await;
    let run = lab.start(drill(&lab, false)).await;
    let ended = lab.until(run, &[RunState::Done, RunState::NeedsYou]).await;
    assert_eq!(ended.state, RunState::Done);
    let done = passage(&lab);
    assert_eq!((done.came(), done.is_good()), ((0, 1), false));
    assert!(
        done.stages[0].machines[0].said.contains("no good answer"),
        "{:?}",
        done.stages
    );
    assert_eq!(done.stages[0].then[0].good, Some(false));
    alone(&lab);
}

/// If this fails, a host that is in trouble ends a drill for good, or one that is given up leaves a plan that can't be drilled.
#[sqlx::test(migrations = false)]
async fn a_host_that_refuses_is_waited_out_and_one_that_is_given_up_is_over(pool: PgPool) {
    let lab = lab(&pool).await;
    lab.done(plan(&lab, "confirm it looks right")).await;
    for host in ["h3", "h4"] {
        lab.standins.world.add_fault(Fault {
            device: host.into(),
            call: "/power".into(),
            kind: FaultKind::Refuse,
            times: 1,
        });
    }
    let run = lab.start(drill(&lab, false)).await;
    let ended = lab.until(run, &[RunState::NeedsYou]).await;
    assert!(ended.steps().any(|s| s.fault.is_some()));
    assert!(passage(&lab).is_open(), "somebody may go on with it");
    lab.desk
        .answer(&lab.admin, run, Resolve::Retry)
        .await
        .unwrap();
    eventually_within("somebody is asked", 60, || asked(&lab).is_some()).await;
    lab.desk
        .answer(&lab.admin, run, Resolve::Cancel)
        .await
        .unwrap();
    lab.until(run, &[RunState::Cancelled]).await;
    let given_up = passage(&lab);
    assert!(given_up.left && !given_up.is_open());
    let left: Vec<_> = lab.estate().proving().map(|m| m.id).collect();
    assert_eq!(
        left.len(),
        1,
        "what was made stays until somebody removes it"
    );
    let clear = zastrugi_core::rooms::proving::Ask::Clear { machines: left };
    lab.done(Proposal::Proving(clear)).await;
    eventually("it is gone", || lab.estate().proving().count() == 0).await;
    alone(&lab);
}
