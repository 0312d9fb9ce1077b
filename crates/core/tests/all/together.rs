//! Machines that share an instant: who stands still with whom, and that all are copied or none.

use crate::{
    backups::assessed,
    jobs::{due, job, keep, small},
    pledges::{HOUR, on},
};
use std::{collections::BTreeSet, sync::Arc};
use uuid::Uuid;
use zastrugi_core::{
    estate::{Fact, Habits, Job, Machine, MachineState},
    finding::Rule,
    ids::{HostId, MachineId},
    rooms::{
        Assessment, Event, Proposal, Step, backups, carrying,
        snapshots::{self, Ask, Quiet, Take},
    },
    testkit::Small,
};

/// 7, 8 and 9 are of production and on; 7 and 8 are of the same application.
fn three() -> Small {
    let mut small = small("last 9", &[HOUR]);
    small.alter(|e| {
        let mut nine = Machine::clone(&e.machines[&MachineId(8)]);
        (nine.id, nine.name, nine.uuid) = (MachineId(9), "cart".into(), Uuid::from_u128(9));
        e.put(Fact::Machine(Arc::new(nine)));
    });
    for id in [7, 8, 9] {
        on(&mut small, id, |m| {
            drop(m.labels.insert("env".into(), "prod".into()));
            if id != 9 {
                drop(m.labels.insert("app".into(), "shop".into()));
            }
            m.state = MachineState::Running { guest: true };
            m.host = Some(HostId(1));
        });
    }
    let how = Habits {
        together: Some("app".into()),
        ..Habits::default()
    };
    let job = Job {
        how,
        ..job("last 9")
    };
    small.alter(|e| e.put(Fact::Job(Arc::new(job))));
    small
}

/// Who stands still with whom; and of each copy whose it is, after which mark, of which group.
type Marked = Vec<Vec<u64>>;
fn marks(said: &Assessment) -> (Marked, Vec<(u64, Option<Uuid>)>) {
    let mark = |s: &Step| match s {
        Step::Backups(backups::Step::Snap(snapshots::Step::Take { machine, .. })) => {
            Some(vec![machine.0])
        }
        Step::Backups(backups::Step::Snap(snapshots::Step::Together { members, .. })) => {
            Some(members.iter().map(|m| m.machine.0).collect())
        }
        _ => None,
    };
    let copy = |s: &Step| match s {
        Step::Backups(backups::Step::Carry(carrying::Step::Copy { machine, group, .. })) => {
            Some((machine.0, *group))
        }
        _ => None,
    };
    let steps = || said.steps().iter().map(|p| &p.step);
    (
        steps().filter_map(mark).collect(),
        steps().filter_map(copy).collect(),
    )
}

/// If this fails, an application's machines are copied from different instants, or others wait for them.
#[test]
fn those_with_the_same_label_stand_still_at_once() {
    let small = three();
    let said = due(&small, true);
    assert!(
        !said.findings().iter().any(|f| f.stops()),
        "{:?}",
        said.findings()
    );
    let (marked, copied) = marks(&said);
    let marked: BTreeSet<Vec<u64>> = marked.into_iter().collect();
    assert_eq!(marked, [vec![7, 8], vec![9]].into());
    let group = |id: u64| copied.iter().find(|(m, _)| *m == id).unwrap().1;
    assert!(group(7).is_some() && group(7) == group(8));
    assert_eq!(group(9), None);
    // A copy begins once all of its group stand still, and not before.
    for (n, planned) in said.steps().iter().enumerate() {
        if let Step::Backups(backups::Step::Carry(carrying::Step::Copy { machine, .. })) =
            &planned.step
        {
            let before = planned.after.iter().map(|a| &said.steps()[*a].step);
            let of = |s: &Step| match s {
                Step::Backups(backups::Step::Snap(s)) => s.on().iter().any(|(m, _)| m == machine),
                _ => false,
            };
            assert!(before.clone().any(of), "step {n}");
        }
    }
}

/// If this fails, an application is copied without one of its machines, and nobody is told.
#[test]
fn where_one_can_not_stand_still_none_of_them_is_copied() {
    let mut small = three();
    on(&mut small, 8, |m| {
        m.state = MachineState::Running { guest: false }
    });
    let said = due(&small, true);
    let (marked, copied) = marks(&said);
    assert_eq!(marked, [vec![9]]);
    assert_eq!(copied.iter().map(|c| c.0).collect::<Vec<_>>(), [9]);
    let told = |name: &str, words: &str| {
        let mut all = said.findings().iter().filter(|f| f.subject == name);
        all.any(|f| f.text.contains(words))
    };
    let name = |id| small.view.estate.machines[&MachineId(id)].name.clone();
    assert!(
        told(&name(8), "can't stand still with the others"),
        "{:?}",
        said.findings()
    );
    assert!(
        told(&name(7), "shares its points with"),
        "{:?}",
        said.findings()
    );
    // One that is off stands still anyway.
    on(&mut small, 8, |m| {
        (m.state, m.host) = (MachineState::Off, None)
    });
    assert_eq!(marks(&due(&small, true)).0.len(), 2);
}

/// If this fails, somebody takes a snapshot of many and believes that it is of one instant.
#[test]
fn a_snapshot_of_several_at_one_instant_is_one_step() {
    let small = three();
    let take = |change: &dyn Fn(&mut Take)| {
        let mut ask = Take {
            machines: vec![MachineId(7), MachineId(9)],
            name: "all".into(),
            note: "".into(),
            quiet: Quiet::Only,
            memory: false,
            together: true,
            ends: None,
        };
        change(&mut ask);
        Proposal::Snapshots(Ask::Take(ask))
    };
    let said = assessed(&small, &take(&|_| {}));
    assert_eq!(said.steps().len(), 1);
    let Step::Snapshots(step @ snapshots::Step::Together { members, .. }) = &said.steps()[0].step
    else {
        panic!("{:?}", said.steps());
    };
    assert_eq!(members.len(), 2);
    assert_eq!(step.on().len(), 2);
    let stops = |ask: &Proposal| {
        let said = assessed(&small, ask);
        let all = said.findings().iter().filter(|f| f.stops());
        all.filter_map(|f| f.field.clone()).collect::<Vec<_>>()
    };
    assert_eq!(stops(&take(&|t| t.memory = true)), ["memory"]);
    let event = Event::Snapshots(snapshots::Event::Together {
        machines: vec![MachineId(7), MachineId(9)],
        name: "all".into(),
        within: zastrugi_core::moment::Span::millis(40),
    });
    let told = zastrugi_core::road::Tale::tell(&event, &small.view.estate).unwrap();
    assert!(
        told.text.contains("are of one instant") && told.about.len() == 2,
        "{}",
        told.text
    );
}

/// If this fails, a group of which nobody is one is kept silently, or one that is too large is begun.
#[test]
fn the_sheet_says_who_stands_still_with_whom() {
    let small = three();
    let says = |key: &str| {
        let said = assessed(&small, &keep(|k| k.how.together = key.into()));
        let hit = said
            .findings()
            .iter()
            .find(|f| f.field.as_deref() == Some("together"));
        hit.map(|f| (f.rule, f.text.clone()))
    };
    let (rule, text) = says("app").unwrap();
    assert_eq!(rule, Rule::Label);
    assert!(text.contains("app=shop"), "{text}");
    assert!(says("owner").unwrap().1.contains("No two of its machines"));
    assert_eq!(says(""), None);
}

/// If this fails, a label that spreads to many machines holds up every other machine of the job.
#[test]
fn a_group_that_is_too_large_is_left_out_and_holds_up_nobody() {
    let mut small = three();
    small.alter(|e| {
        let one = e.machines[&MachineId(8)].clone();
        for n in 100..140 {
            let mut more = Machine::clone(&one);
            (more.id, more.name, more.uuid) =
                (MachineId(n), format!("m{n}"), Uuid::from_u128(n.into()));
            e.put(Fact::Machine(Arc::new(more)));
        }
    });
    let said = due(&small, true);
    assert!(!said.findings().iter().any(|f| f.stops()));
    let (_, copied) = marks(&said);
    assert_eq!(copied.iter().map(|c| c.0).collect::<Vec<_>>(), [9]);
}
