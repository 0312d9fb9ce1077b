//! A machine that is given more than its host has room for: where it is offered, and the one plan that moves it first.

use crate::{moving::networked, put, worse};
use std::sync::Arc;
use zastrugi_core::{
    estate::{Estate, Fact, Grows, Machine, MachineState, Memory},
    finding::{Offer, Severity},
    ids::{HostId, MachineId},
    rooms::{
        Assessment, Proposal, Step, edits,
        growing::{self, Grow},
        moving,
    },
    testkit::Small,
    units::Bytes,
};

const DB: MachineId = MachineId(7);

fn memory(size: u64) -> Memory {
    Memory {
        kept: Bytes::gib(size),
        size: Bytes::gib(size),
        max: Bytes::gib(200),
    }
}

/// Machine 7 runs with 32 GiB on a host of 96 that has another of 32; its guest takes more. The second host is larger.
fn fixture() -> Small {
    let mut small = networked(
        "cluster eider careless\nhost 1 96\nhost 2 512\nhost 3 64\nmachine 7 db 32 on 1\nmachine 8 web 32 on 1",
        10_000,
    );
    on(&mut small, |m| {
        m.memory = memory(32);
        m.state = MachineState::Running { guest: true };
        m.grows = Grows {
            memory: true,
            vcpus: true,
        };
    });
    small
}

fn on(small: &mut Small, change: impl FnOnce(&mut Machine)) {
    small.alter(|estate: &mut Estate| {
        let mut m = Machine::clone(&estate.machines[&DB]);
        change(&mut m);
        estate.put(Fact::Machine(Arc::new(m)));
    });
}

fn edit(small: &Small, size: u64) -> Assessment {
    let ask = edits::Ask::Edit {
        targets: vec![edits::Target::Machine(DB)],
        sets: vec![edits::Set::Memory(memory(size))],
    };
    put(small, &Proposal::Edits(ask))
}

fn grow(small: &Small, size: u64, to: Option<u64>) -> Assessment {
    let ask = Grow {
        machine: DB,
        memory: Some(memory(size)),
        vcpus: None,
        to: to.map(HostId),
        slow: false,
        force: true,
        wire: true,
    };
    put(small, &Proposal::Growing(growing::Ask::Grow(ask)))
}

fn says(said: &Assessment, severity: Severity, words: &str) {
    assert!(
        said.findings()
            .iter()
            .any(|f| f.severity == severity && f.text.contains(words)),
        "{severity:?}: {words}\n{:#?}",
        said.findings()
    );
}

/// If this fails, somebody reads that there is room elsewhere and has to type everything once more.
#[test]
fn where_its_host_has_no_room_the_way_elsewhere_is_offered() {
    let small = fixture();
    assert!(
        !edit(&small, 40).blocked(),
        "{:#?}",
        worse(&edit(&small, 40))
    );
    let said = edit(&small, 80);
    assert!(said.blocked());
    let offers: Vec<_> = said
        .findings()
        .iter()
        .flat_map(|f| f.offers.clone())
        .collect();
    let offer = Offer::MoveThenGrow {
        machine: DB,
        vcpus: small.view.estate.machines[&DB].vcpus,
        memory: Bytes::gib(80),
        kept: Bytes::gib(80),
    };
    assert!(offers.contains(&offer), "{offers:?}");
    // Where nobody has room nothing is offered.
    let said = edit(&small, 190);
    let none = said.findings().iter().all(|f| {
        !f.offers
            .iter()
            .any(|o| matches!(o, Offer::MoveThenGrow { .. }))
    });
    assert!(!none, "the large host has room for that too");
    let mut all_small = fixture();
    all_small.alter_host(2, |h| h.hardware.memory = Bytes::gib(64));
    let said = edit(&all_small, 80);
    assert!(
        said.findings().iter().all(|f| f.offers.is_empty()),
        "{:#?}",
        said.findings()
    );
}

/// If this fails, it grows on the host that has no room, or comes to one that has none either.
#[test]
fn it_is_moved_first_and_then_grows_there() {
    let small = fixture();
    let said = grow(&small, 80, None);
    assert!(!said.blocked(), "{:#?}", worse(&said));
    let steps = said.steps();
    assert_eq!(steps.len(), 3, "{steps:#?}");
    let Step::Growing(growing::Step::Move(moving::Step::Move { from, to, .. })) = &steps[0].step
    else {
        panic!()
    };
    assert_eq!(
        (*from, *to),
        (HostId(1), HostId(2)),
        "the only one with room for 80 GiB"
    );
    let Step::Growing(growing::Step::Edit(edits::Step::Rewrite { via, .. })) = &steps[1].step
    else {
        panic!("{:?}", steps[1].step)
    };
    assert_eq!(
        (*via, steps[1].after.as_slice()),
        (HostId(2), [0].as_slice())
    );
    let Step::Growing(growing::Step::Edit(edits::Step::Grow { via, memory, .. })) = &steps[2].step
    else {
        panic!()
    };
    assert_eq!((*via, *memory), (HostId(2), Some(Bytes::gib(80))));
    assert_eq!(steps[2].after, [1]);
    says(&said, Severity::Clear, "at once, while db runs");
}

#[test]
fn where_there_is_no_room_or_nothing_to_do_that_is_said_at_its_field() {
    let small = fixture();
    let said = grow(&small, 80, Some(3));
    says(&said, Severity::Stop, "has room for db with all of that");
    let field = |said: &Assessment| {
        said.findings()
            .iter()
            .find(|f| f.severity == Severity::Stop)
            .and_then(|f| f.field.clone())
    };
    assert_eq!(field(&said).as_deref(), Some("to"));
    assert_eq!(field(&grow(&small, 80, Some(1))).as_deref(), Some("to"));
    assert_eq!(
        field(&grow(&small, 199, None)).as_deref(),
        None,
        "{:#?}",
        grow(&small, 199, None).findings()
    );
    let mut off = fixture();
    on(&mut off, |m| (m.state, m.host) = (MachineState::Off, None));
    says(&grow(&off, 80, None), Severity::Stop, "does not run");
    let mut stiff = fixture();
    on(&mut stiff, |m| m.grows = Grows::default());
    says(
        &grow(&stiff, 80, None),
        Severity::Stop,
        "moving it now gives it nothing",
    );
    let same = fixture();
    let ask = Grow {
        machine: DB,
        memory: None,
        vcpus: None,
        to: None,
        slow: false,
        force: false,
        wire: false,
    };
    says(
        &put(&same, &Proposal::Growing(growing::Ask::Grow(ask))),
        Severity::Stop,
        "has that already",
    );
}
