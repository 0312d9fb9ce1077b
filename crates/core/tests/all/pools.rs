//! Pools of machines that are kept ready: what is due, in which order, who gets which, and what can be no pool.

use crate::{
    copying::{BASE, fixture, version},
    put, worse,
};
use proptest::prelude::*;
use std::sync::Arc;
use zastrugi_core::{
    estate::{
        Estate, Fact, Held, Machine, MachineState, OfPool, Sealed, SparePool, Template, Wanted,
    },
    finding::Severity,
    ids::{MachineId, SparePoolId},
    moment::Moment,
    rooms::{
        Assessment, Event, Proposal, Step, machines, restocking,
        spares::{self, Ask, Keep},
    },
    spares::{Due, Stand, due, names},
    testkit::Small,
    units::Bytes,
};

const POOL: SparePoolId = SparePoolId(500);

fn pool(small: &Small, spare: u32, most: u32) -> SparePool {
    SparePool {
        id: POOL,
        name: "trainers".into(),
        template: BASE,
        cluster: *small.view.estate.clusters.keys().next().unwrap(),
        pattern: "trainer-{01}".into(),
        spare,
        most,
        vcpus: 2,
        memory: Bytes::gib(4),
        dependent: true,
        networks: vec![None],
        document: None,
        ends_off: true,
    }
}

/// What a machine of the pool is.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Is {
    Ready,
    Planned,
    Booting,
    Older,
    Off,
    Held,
    HeldOff,
    Back,
}

const ALL: [Is; 8] = [
    Is::Ready,
    Is::Planned,
    Is::Booting,
    Is::Older,
    Is::Off,
    Is::Held,
    Is::HeldOff,
    Is::Back,
];

/// A pool with these machines, numbered from 1001.
fn with(spare: u32, most: u32, members: &[Is]) -> Small {
    let mut small = fixture();
    let pool = pool(&small, spare, most);
    let like = small.view.estate.machines[&MachineId(7)].clone();
    small.alter(|estate: &mut Estate| {
        estate.put(Fact::SparePool(Arc::new(pool)));
        for (n, is) in (1001u64..).zip(members) {
            let held = matches!(is, Is::Held | Is::HeldOff | Is::Back).then(|| Held {
                by: "ann".into(),
                since: Moment(0),
            });
            let (state, wanted) = match is {
                Is::Planned => (MachineState::Planned, Wanted::On),
                Is::Booting => (MachineState::Starting("kernel".into()), Wanted::On),
                Is::Off | Is::HeldOff => (MachineState::Off, Wanted::Off),
                Is::Ready | Is::Older | Is::Held | Is::Back => {
                    (MachineState::Running { guest: true }, Wanted::On)
                }
            };
            let version = if *is == Is::Older { 1 } else { 2 };
            estate.put(Fact::Machine(Arc::new(Machine {
                id: MachineId(n),
                uuid: uuid::Uuid::from_u128(u128::from(n)),
                name: format!("trainer-{:02}", n - 1000),
                host: (state != MachineState::Off).then_some(like.host).flatten(),
                state,
                wanted,
                nics: vec![],
                created: Moment(i64::try_from(n).unwrap()),
                of_pool: Some(Box::new(OfPool {
                    pool: POOL,
                    version,
                    held,
                    back: *is == Is::Back,
                })),
                ..(*like).clone()
            })));
        }
    });
    small
}

fn due_of(small: &Small) -> Due {
    due(&small.view.estate, &small.view.estate.spare_pools[&POOL])
}

fn ids(numbers: &[u64]) -> Vec<MachineId> {
    numbers.iter().map(|n| MachineId(1000 + n)).collect()
}

/// If this fails, a pool runs dry, or makes machines that nobody asked for.
#[test]
fn as_many_as_are_missing_are_made_and_no_more_than_may_be() {
    assert_eq!(due_of(&with(3, 10, &[])).make, 3);
    assert_eq!(
        due_of(&with(3, 10, &[Is::Ready, Is::Planned])).make,
        1,
        "what is on its way counts"
    );
    assert!(due_of(&with(2, 10, &[Is::Ready, Is::Booting])).is_nothing());
    assert_eq!(
        due_of(&with(3, 4, &[Is::Held, Is::Held, Is::Ready])).make,
        1,
        "four at most"
    );
    assert!(due_of(&with(3, 3, &[Is::Held, Is::Held, Is::Held])).is_nothing());
    assert_eq!(
        due_of(&with(1, 10, &[Is::Ready, Is::Ready, Is::Ready])).away,
        ids(&[3, 2]),
        "fewer are wanted: the last go"
    );
}

/// If this fails, a new version leaves a pool without spares while it is rolled, or somebody's machine is taken for it.
#[test]
fn a_new_version_comes_through_spares_first() {
    let rolling = due_of(&with(2, 10, &[Is::Older, Is::Older, Is::Held]));
    assert_eq!(
        (rolling.make, rolling.away.clone(), rolling.away_first),
        (2, ids(&[1, 2]), false)
    );
    let tight = due_of(&with(2, 2, &[Is::Older, Is::Older]));
    assert!(tight.away_first, "no room for both");
    assert_eq!((tight.make, tight.away), (2, ids(&[1, 2])));
    let small = with(2, 10, &[Is::Older, Is::Older]);
    let said = put(
        &small,
        &Proposal::Restocking(restocking::Ask::Follow { pool: POOL }),
    );
    assert!(!said.blocked(), "{:#?}", worse(&said));
    let steps = said.steps();
    let made = steps
        .iter()
        .filter(|s| {
            matches!(
                s.step,
                Step::Restocking(restocking::Step::Machine(machines::Step::Copy { .. }))
            )
        })
        .count();
    assert_eq!(made, 2);
    let first_off = steps
        .iter()
        .position(|s| {
            matches!(
                s.step,
                Step::Restocking(restocking::Step::Machine(machines::Step::Off { .. }))
            )
        })
        .unwrap();
    let awaited: Vec<usize> = (0..steps.len())
        .filter(|n| {
            matches!(
                steps[*n].step,
                Step::Restocking(restocking::Step::Machine(machines::Step::AwaitGuest { .. }))
            )
        })
        .collect();
    assert!(
        awaited.iter().all(|n| steps[first_off].after.contains(n)),
        "the old ones stay until the new ones answer"
    );
}

/// If this fails, what was given back stays and costs memory, or a spare that nobody has is thrown away with it.
#[test]
fn what_comes_back_is_thrown_away_at_once() {
    let small = with(1, 10, &[Is::Ready, Is::Back, Is::HeldOff, Is::Held]);
    let due = due_of(&small);
    assert_eq!((due.make, due.away), (0, ids(&[2, 3])));
    let said = put(
        &small,
        &Proposal::Restocking(restocking::Ask::Follow { pool: POOL }),
    );
    assert!(!said.blocked(), "{:#?}", worse(&said));
    let kind = |s: &Step| match s {
        Step::Restocking(restocking::Step::Machine(machines::Step::Off { machine })) => {
            Some(("off", machine.0))
        }
        Step::Restocking(restocking::Step::Machine(machines::Step::Delete { machine, .. })) => {
            Some(("delete", machine.0))
        }
        Step::Restocking(restocking::Step::Machine(machines::Step::Purge { machine, .. })) => {
            Some(("purge", machine.0))
        }
        _ => None,
    };
    let all: Vec<_> = said.steps().iter().filter_map(|s| kind(&s.step)).collect();
    assert_eq!(
        all,
        [
            ("off", 1002),
            ("delete", 1002),
            ("purge", 1002),
            ("delete", 1003),
            ("purge", 1003)
        ]
    );
}

/// If this fails, a machine that somebody protected is gone for good because it was once of a pool.
#[test]
fn what_is_protected_is_thrown_away_by_nobody() {
    let mut small = with(0, 10, &[Is::Back]);
    small.alter(|estate| {
        let mut m = Machine::clone(&estate.machines[&MachineId(1001)]);
        m.protected = true;
        estate.put(Fact::Machine(Arc::new(m)));
    });
    let said = put(
        &small,
        &Proposal::Restocking(restocking::Ask::Follow { pool: POOL }),
    );
    says(
        &said,
        Severity::Stop,
        "",
        "trainer-01 can't be thrown away: it is protected from deletion",
    );
}

/// New ones are of the pool as soon as they are planned, so that nobody makes them twice.
#[test]
fn what_is_planned_counts_at_once() {
    let mut small = with(2, 10, &[]);
    let said = put(
        &small,
        &Proposal::Restocking(restocking::Ask::Follow { pool: POOL }),
    );
    small.begin(said.accept().unwrap());
    assert!(due_of(&small).is_nothing());
    let stand = Stand::of(&small.view.estate, &small.view.estate.spare_pools[&POOL]);
    assert_eq!(stand.coming.len(), 2);
    let m = &small.view.estate.machines[&stand.coming[0]];
    assert_eq!(
        (
            m.name.as_str(),
            m.memory.size,
            m.labels.get("pool").map(String::as_str)
        ),
        ("trainer-01", Bytes::gib(4), Some("trainers"))
    );
}

fn out(small: &Small, count: u32, to: &str) -> Assessment {
    put(
        small,
        &Proposal::Spares(Ask::HandOut {
            pool: POOL,
            count,
            to: to.into(),
        }),
    )
}

fn says(said: &Assessment, severity: Severity, field: &str, words: &str) {
    assert!(
        said.findings().iter().any(|f| f.severity == severity
            && f.field.as_deref().unwrap_or("") == field
            && f.text.contains(words)),
        "{severity:?} at {field}: {words}\n{:#?}",
        said.findings()
    );
}

/// If this fails, somebody gets a machine that still boots, or two people get the same one.
#[test]
fn the_oldest_that_are_ready_are_handed_out_once() {
    let mut small = with(3, 10, &[Is::Booting, Is::Ready, Is::Ready, Is::Older]);
    says(&out(&small, 1, " "), Severity::Stop, "to", "who gets it");
    says(
        &out(&small, 0, "ann"),
        Severity::Stop,
        "count",
        "At least one",
    );
    says(
        &out(&small, 3, "ann"),
        Severity::Stop,
        "count",
        "2 spares of trainers are ready; 1 more are being made",
    );
    let said = out(&small, 1, "ann");
    assert!(!said.blocked(), "{:#?}", worse(&said));
    small.begin(said.accept().unwrap());
    let by = |small: &Small, n: u64| {
        small.view.estate.machines[&MachineId(1000 + n)]
            .of_pool
            .clone()
            .unwrap()
            .held
            .map(|h| h.by)
    };
    assert_eq!(by(&small, 2).as_deref(), Some("ann"));
    let said = out(&small, 1, "bo");
    small.begin(said.accept().unwrap());
    assert_eq!(by(&small, 3).as_deref(), Some("bo"));
    says(&out(&small, 1, "cy"), Severity::Stop, "count", "0 spares");
    assert_eq!(due_of(&small).make, 2, "new ones take their place");
}

#[test]
fn only_what_somebody_has_is_given_back() {
    let mut small = with(1, 10, &[Is::Held, Is::Ready, Is::Back]);
    let back = |small: &Small, machines: Vec<MachineId>| {
        put(small, &Proposal::Spares(Ask::GiveBack { machines }))
    };
    says(
        &back(&small, ids(&[2])),
        Severity::Stop,
        "machines",
        "handed out to nobody",
    );
    says(
        &back(&small, ids(&[3])),
        Severity::Stop,
        "machines",
        "given back already",
    );
    says(
        &back(&small, vec![MachineId(7)]),
        Severity::Stop,
        "machines",
        "is of no pool",
    );
    says(
        &back(&small, vec![]),
        Severity::Stop,
        "machines",
        "No machine",
    );
    let said = back(&small, ids(&[1]));
    says(
        &said,
        Severity::Mind,
        "machines",
        "with everything that ann left on it",
    );
    small.begin(said.accept().unwrap());
    assert_eq!(due_of(&small).away, ids(&[1, 3]));
}

fn keep(small: &Small, change: impl FnOnce(&mut Keep)) -> Assessment {
    let mut ask = Keep {
        pool: None,
        name: "trainers".into(),
        template: Some(BASE),
        cluster: small.view.estate.clusters.keys().next().copied(),
        pattern: "trainer-{01}".into(),
        spare: 2,
        most: 10,
        vcpus: 2,
        memory: Bytes::gib(4),
        dependent: true,
        networks: vec![None],
        document: None,
        ends_off: false,
    };
    change(&mut ask);
    put(small, &Proposal::Spares(Ask::Keep(Box::new(ask))))
}

#[test]
fn what_can_be_no_pool_is_refused_at_its_field() {
    let small = fixture();
    assert!(!keep(&small, |_| {}).blocked());
    let at = |change: &dyn Fn(&mut Keep)| {
        let said = keep(&small, |a| change(a));
        said.findings()
            .iter()
            .find(|f| f.severity == Severity::Stop)
            .and_then(|f| f.field.clone())
    };
    assert_eq!(at(&|a| a.name = "".into()).as_deref(), Some("name"));
    assert_eq!(at(&|a| a.template = None).as_deref(), Some("template"));
    assert_eq!(at(&|a| a.cluster = None).as_deref(), Some("cluster"));
    assert_eq!(
        at(&|a| a.pattern = "trainer".into()).as_deref(),
        Some("pattern")
    );
    assert_eq!(
        at(&|a| a.pattern = "Trainer {01}".into()).as_deref(),
        Some("pattern")
    );
    assert_eq!(at(&|a| a.spare = 11).as_deref(), Some("most"));
    assert_eq!(
        at(&|a| (a.spare, a.most) = (101, 200)).as_deref(),
        Some("spare")
    );
    assert_eq!(at(&|a| a.most = 1001).as_deref(), Some("most"));
    assert_eq!(at(&|a| a.vcpus = 0).as_deref(), Some("vcpus"));
    assert_eq!(at(&|a| a.memory = Bytes::mib(1)).as_deref(), Some("memory"));
    let there = with(2, 10, &[]);
    let said = keep(&there, |_| {});
    says(
        &said,
        Severity::Stop,
        "name",
        "There is a pool trainers already",
    );
    let said = keep(&there, |a| (a.pool, a.ends_off) = (Some(POOL), true));
    says(
        &said,
        Severity::Stop,
        "name",
        "Nothing of the pool is changed",
    );
}

#[test]
fn a_pool_ends_when_nothing_waits_in_it_and_what_people_have_stays() {
    let end = |small: &Small| put(small, &Proposal::Spares(Ask::End { pool: POOL }));
    says(
        &end(&with(0, 10, &[Is::Ready, Is::Held])),
        Severity::Stop,
        "pool",
        "1 machines of trainers wait",
    );
    let mut small = with(0, 10, &[Is::Held]);
    let said = end(&small);
    assert!(!said.blocked());
    small.begin(said.accept().unwrap());
    assert!(small.view.estate.spare_pools.is_empty());
    assert_eq!(small.view.estate.machines[&MachineId(1001)].of_pool, None);
}

/// If this fails, a pool makes machines under names that others have, or never finds one.
#[test]
fn names_go_on_behind_those_that_are_taken() {
    let small = with(2, 10, &[Is::Ready, Is::Ready]);
    let estate = &small.view.estate;
    assert_eq!(names(estate, "trainer-{01}", 2).unwrap(), "trainer-{03}");
    assert_eq!(names(estate, "trainer-{02}", 1).unwrap(), "trainer-{03}");
    assert_eq!(names(estate, "guest-{7}-x", 3).unwrap(), "guest-{7}-x");
    assert!(names(estate, "trainer", 1).is_err());
}

/// A pool whose template has no whole version throws away what is to go, and makes nothing.
#[test]
fn without_a_version_nothing_is_made() {
    let mut small = with(2, 10, &[Is::Back]);
    let mut only = version(&small, 1, Sealed::No);
    only.ready = false;
    small.alter(|e| {
        e.put(Fact::Template(Arc::new(Template {
            id: BASE,
            name: "base".into(),
            note: String::new(),
            versions: vec![only],
            next: 2,
        })));
    });
    assert_eq!(
        due_of(&small),
        Due {
            make: 0,
            away: ids(&[1]),
            away_first: false
        }
    );
}

proptest! {
    /// Whatever a pool has: never more than may be, never a machine that somebody has, and once all of it is done nothing is due.
    #[test]
    fn what_is_due_is_enough_and_never_too_much(spare in 0u32..6, more in 0u32..6, members in prop::collection::vec(0usize..8, 0..10)) {
        let most = spare + more;
        let members: Vec<Is> = members.into_iter().map(|n| ALL[n]).collect();
        let small = with(spare, most, &members);
        let stand = Stand::of(&small.view.estate, &small.view.estate.spare_pools[&POOL]);
        let due = due_of(&small);
        prop_assert!(due.away.iter().all(|id| !stand.held.contains(id)));
        let held = stand.held.len();
        let most = usize::try_from(most).unwrap();
        let after = members.len() - due.away.len() + usize::try_from(due.make).unwrap();
        prop_assert!(after <= most.max(held + stand.coming.len()), "{after} of {most}");
        // Done, and once more done, nothing is due: what is away is gone, what is made is ready, what was on its way is there.
        let mut then = members.clone();
        for _ in 0..4 {
            let due = due_of(&with(spare, u32::try_from(most).unwrap(), &then));
            let left = (1001u64..).zip(&then).filter(|(n, _)| !due.away.contains(&MachineId(*n)));
            let there = |is: Is| if matches!(is, Is::Planned | Is::Booting) { Is::Ready } else { is };
            then = left.map(|(_, is)| there(*is)).collect();
            then.extend(std::iter::repeat_n(Is::Ready, usize::try_from(due.make).unwrap()));
        }
        let again = due_of(&with(spare, u32::try_from(most).unwrap(), &then));
        prop_assert!(again.is_nothing(), "{members:?} → {then:?}: {again:?}");
    }
}

#[test]
fn spares_events_are_told() {
    use zastrugi_core::road::Tale;
    let small = with(1, 2, &[Is::Ready]);
    let e = spares::Event::HandedOut {
        pool: POOL,
        machine: MachineId(1001),
        to: "ann".into(),
        at: Moment(0),
    };
    assert!(
        Event::Spares(e)
            .tell(&small.view.estate)
            .unwrap()
            .text
            .contains("trainer-01 was handed out to ann")
    );
}
