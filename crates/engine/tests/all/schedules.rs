//! Snapshots by a schedule on real sockets: taken when they are due, of whoever has the label then, and ended by themselves.

use crate::lab::{Lab, eventually};
use sqlx::PgPool;
use zastrugi_core::{
    moment::Span,
    rooms::{
        Proposal,
        edits::{self, Set, Target},
        schedules::{Ask, Keep},
    },
};
use zastrugi_store::testkit::url;

fn label(lab: &Lab, name: &str) -> Proposal {
    Proposal::Edits(edits::Ask::Edit {
        targets: vec![Target::Machine(lab.machine(name))],
        sets: vec![Set::Label {
            key: "env".into(),
            value: "prod".into(),
        }],
    })
}

pub(crate) fn keep() -> Proposal {
    Proposal::Schedules(Ask::Keep(Keep {
        schedule: None,
        name: "often".into(),
        label: "env=prod".into(),
        every: Span::mins(15),
        keeps: Span::mins(60),
        at: None,
    }))
}

fn taken(lab: &Lab, name: &str) -> usize {
    let estate = lab.estate();
    let m = estate.machine_named(name).unwrap();
    m.snapshots
        .all
        .iter()
        .filter(|s| s.name.starts_with("often ") && s.ends.is_some())
        .count()
}

/// If this fails, nobody's snapshots are taken at night, or those of machines that nobody meant.
#[sqlx::test(migrations = false)]
async fn one_is_taken_when_it_is_due_of_all_that_have_the_label(pool: PgPool) {
    let lab = Lab::at_speed(&url(&pool), 2, 20.0).await;
    lab.ready().await;
    for (name, on) in [("m", true), ("n", false), ("o", false)] {
        lab.done(lab.create(name, 1, on)).await;
    }
    for name in ["m", "n"] {
        lab.done(label(&lab, name)).await;
    }
    lab.done(keep()).await;
    eventually("both have one", || {
        taken(&lab, "m") == 1 && taken(&lab, "n") == 1
    })
    .await;
    tokio::time::sleep(std::time::Duration::from_secs(5)).await;
    assert_eq!(
        (taken(&lab, "m"), taken(&lab, "o")),
        (1, 0),
        "the next is due in a quarter of an hour"
    );
    let schedule = *lab.estate().schedules.keys().next().unwrap();
    let run = lab.by_itself("Take snapshots often").await;
    assert!(lab.desk.run(run).await.unwrap().is_some());
    lab.done(Proposal::Schedules(Ask::Pause {
        schedule,
        paused: true,
    }))
    .await;
    lab.done(Proposal::Schedules(Ask::Remove { schedule }))
        .await;
    assert!(lab.estate().schedules.is_empty());
    assert_eq!(taken(&lab, "m"), 1, "those that are there stay");
    lab.assert_once();
}
