//! Recovery points that are proven on real sockets: a copy is booted alone, asked, and gone again, whatever came of it.

use crate::{
    backups::{back_up, make_store},
    jobs::{begin, keep, label},
    lab::{Lab, eventually},
    packages::small,
    restoring::newest,
};
use sqlx::PgPool;
use zastrugi_core::{
    estate::{AnyPoint, Came, PointAt, Proof},
    moment::Span,
    rooms::{
        Proposal, answers,
        machines::{self, PowerAct},
        proving::{self, ProvePoint},
    },
    runs::RunState,
};
use zastrugi_engine::Resolve;
use zastrugi_standins::{Fault, FaultKind};
use zastrugi_store::testkit::url;

/// With the hosts that there are, wherever the store is.
pub(crate) async fn prove(lab: &Lab, at: impl Into<AnyPoint>, limit: Span) -> Proposal {
    let at: AnyPoint = at.into();
    for at in lab.estate().of_one_instant(at) {
        if let Some(at) = at.stored() {
            lab.desk.ask_for_point(at).await;
        }
    }
    Proposal::Proving(proving::Ask::Point(ProvePoint {
        point: Some(at),
        cluster: match at {
            AnyPoint::Stored(_) => lab.estate().clusters.keys().next().copied(),
            AnyPoint::Replicated { .. } => None,
        },
        limit,
        together: true,
    }))
}

pub(crate) fn must(lab: &Lab, machine: &str, questions: &str) -> Proposal {
    Proposal::Answers(answers::Ask::Must {
        machines: vec![lab.machine(machine)],
        questions: questions.into(),
    })
}

pub(crate) fn ask_now(lab: &Lab, machine: &str) -> Proposal {
    Proposal::Answers(answers::Ask::Now {
        machines: vec![lab.machine(machine)],
    })
}

fn power(lab: &Lab, act: PowerAct) -> Proposal {
    Proposal::Machines(machines::Ask::Power {
        machines: vec![lab.machine("m")],
        act,
    })
}

/// Machine `m`, on, and a store.
async fn lab(pool: &PgPool) -> Lab {
    let lab = Lab::at_speed(&url(pool), 2, 40.0).await;
    lab.ready().await;
    lab.done(small(&lab, "m", 1)).await;
    lab.done(power(&lab, PowerAct::On { host: None })).await;
    lab.done(make_store(&lab, "hill").await).await;
    lab
}

fn proof(lab: &Lab, at: PointAt) -> Option<Proof> {
    let estate = lab.estate();
    let (_, point) = at.found(&estate).unwrap();
    point.proof.as_deref().cloned()
}

/// Nothing of a copy is left: in the estate, at the hosts, on the volumes.
fn alone(lab: &Lab) {
    assert_eq!(lab.estate().machines.len(), 1, "a copy is left");
    assert_eq!(lab.standins.world.deliveries(), 0);
}

/// If this fails, a point counts as proven that nobody booted, its evidence lacks what was seen, or copies stay and take room.
#[sqlx::test(migrations = false)]
async fn a_copy_is_booted_asked_pictured_and_gone_again(pool: PgPool) {
    let lab = lab(&pool).await;
    let questions = "tcp 22\nhttp 80 / 200 is well\nrun service shell\n";
    lab.done(must(&lab, "m", questions)).await;
    lab.done(ask_now(&lab, "m")).await;
    lab.done(back_up(&lab, "m")).await;
    let at = newest(&lab, "m");
    assert_eq!(proof(&lab, at), None);
    lab.done(prove(&lab, at, Span::mins(1)).await).await;
    let good = proof(&lab, at).unwrap();
    assert!(good.is_good(), "{}", good.words());
    assert_eq!((good.came, good.replies.len()), (Came::Up, 3));
    assert_eq!(good.copy, "proof-m");
    assert!(good.took >= good.booted);
    let picture = good.picture.expect("no picture was kept");
    let png = lab.desk.kept_bytes(picture).await.unwrap().unwrap();
    assert!(png.starts_with(b"\x89PNG"));
    alone(&lab);
    assert!(
        !lab.estate().machine_named("m").unwrap().is_off(),
        "the original was touched"
    );
}

/// If this fails, one whose service is broken is told to be proven, or a bad answer stops the run and leaves the copy.
#[sqlx::test(migrations = false)]
async fn an_answer_that_is_not_good_proves_nothing(pool: PgPool) {
    let lab = lab(&pool).await;
    lab.done(must(&lab, "m", "tcp 22\ntcp 5432")).await;
    lab.done(back_up(&lab, "m")).await;
    let at = newest(&lab, "m");
    lab.done(prove(&lab, at, Span::secs(6)).await).await;
    let bad = proof(&lab, at).unwrap();
    assert_eq!((bad.came, bad.is_good()), (Came::Up, false));
    assert!(bad.replies[0].fine && !bad.replies[1].fine);
    assert!(
        bad.replies[1].said.contains("5432"),
        "{}",
        bad.replies[1].said
    );
    alone(&lab);
}

/// If this fails, a machine whose disk boots no more is found out only when somebody needs it.
#[sqlx::test(migrations = false)]
async fn one_that_never_answers_is_told_and_goes_too(pool: PgPool) {
    let lab = lab(&pool).await;
    assert!(lab.standins.world.spoil("m", true));
    lab.done(back_up(&lab, "m")).await;
    let at = newest(&lab, "m");
    lab.done(prove(&lab, at, Span::secs(6)).await).await;
    let bad = proof(&lab, at).unwrap();
    assert_eq!((bad.came, bad.is_good()), (Came::Silent, false));
    assert!(
        bad.said.contains("loader") && bad.picture.is_some(),
        "{}",
        bad.said
    );
    alone(&lab);
    // The next point, of when it boots again, is another matter.
    assert!(lab.standins.world.spoil("m", false));
    lab.done(back_up(&lab, "m")).await;
    let at = newest(&lab, "m");
    lab.done(prove(&lab, at, Span::mins(1)).await).await;
    assert!(proof(&lab, at).unwrap().is_good());
    alone(&lab);
}

/// If this fails, copies that nobody needs run beside production until somebody stumbles over them.
#[sqlx::test(migrations = false)]
async fn what_a_proof_left_that_was_given_up_is_cleared_by_itself(pool: PgPool) {
    let lab = lab(&pool).await;
    lab.done(back_up(&lab, "m")).await;
    let at = newest(&lab, "m");
    for host in ["h1", "h2"] {
        lab.standins.world.add_fault(Fault {
            device: host.into(),
            call: "/picture".into(),
            kind: FaultKind::Garbage,
            times: 99,
        });
    }
    let run = lab.start(prove(&lab, at, Span::mins(1)).await).await;
    let run = lab.until(run, &[RunState::NeedsYou]).await;
    assert_eq!(lab.estate().machines.len(), 2);
    lab.desk
        .answer(&lab.admin, run.id, Resolve::Cancel)
        .await
        .unwrap();
    lab.until(run.id, &[RunState::Cancelled]).await;
    eventually("the copy is gone", || lab.estate().machines.len() == 1).await;
    assert_eq!(proof(&lab, at), None, "nobody knows whether it came up");
    alone(&lab);
}

/// If this fails, points of a job are never proven unless somebody thinks of it, or the same one again and again.
#[sqlx::test(migrations = false)]
async fn what_a_job_makes_is_proven_by_itself_once(pool: PgPool) {
    let lab = lab(&pool).await;
    lab.done(label(&lab, "m")).await;
    let Proposal::Jobs(zastrugi_core::rooms::jobs::Ask::Keep(ask)) =
        keep(&lab, "FREQ=DAILY;BYHOUR=3;BYMINUTE=0", "last 1")
    else {
        panic!("no job");
    };
    let ask = zastrugi_core::rooms::jobs::Keep {
        proves: Some(Span::days(7)),
        ..ask
    };
    lab.done(Proposal::Jobs(zastrugi_core::rooms::jobs::Ask::Keep(ask)))
        .await;
    lab.done(begin(&lab)).await;
    let first = newest(&lab, "m");
    eventually("it is proven", || {
        proof(&lab, first).is_some_and(|p| p.is_good())
    })
    .await;
    eventually("the copy is gone", || lab.estate().machines.len() == 1).await;
    lab.done(begin(&lab)).await;
    lab.done(begin(&lab)).await;
    // Not as often as it is copied; and the one that is proven stays though only the last is kept.
    let second = newest(&lab, "m");
    assert!(second != first && proof(&lab, second).is_none());
    assert!(proof(&lab, first).is_some());
    let owed = lab.estate().to_prove(lab.desk.now());
    assert!(owed.is_empty(), "{owed:?}");
    alone(&lab);
}
