//! What a machine runs with and what it starts with next: which change counts when, and what becomes of it.

use crate::{put, worse};
use std::sync::Arc;
use zastrugi_core::{
    estate::{Estate, Fact, Grows, Machine, MachineState, Memory, Now, Provisioning},
    finding::Severity,
    ids::{HostId, MachineId},
    observe::{HostReport, compare},
    rooms::{
        Assessment, Event, Proposal, Step,
        edits::{self, Ask, Set, Target},
        machines,
    },
    testkit::{Small, read},
    units::Bytes,
};

const DB: MachineId = MachineId(7);

fn memory(kept: u64, size: u64, max: u64) -> Memory {
    let [kept, size, max] = [kept, size, max].map(Bytes::gib);
    Memory { kept, size, max }
}

/// Machine 7 runs with 4 of up to 8 vCPUs and 16 of up to 64 GiB, 8 always kept; its guest takes more.
fn fixture() -> Small {
    let mut small =
        read("cluster eider careless\nhost 1 512\nhost 2 512\nmachine 7 db 16 on 1 vcpus=4");
    on(&mut small, |m| {
        m.memory = memory(8, 16, 64);
        m.vcpus_max = 8;
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

fn edit(sets: &[Set]) -> Proposal {
    Proposal::Edits(Ask::Edit {
        targets: vec![Target::Machine(DB)],
        sets: sets.to_vec(),
    })
}

fn machine(small: &Small) -> Arc<Machine> {
    small.view.estate.machines[&DB].clone()
}

/// (vCPUs, memory) that are given at once.
fn given(said: &Assessment) -> Vec<(Option<u32>, Option<Bytes>)> {
    let all = said.steps().iter().filter_map(|p| match &p.step {
        Step::Edits(edits::Step::Grow { vcpus, memory, .. }) => Some((*vcpus, *memory)),
        _ => None,
    });
    all.collect()
}

fn says(said: &Assessment, severity: Severity, words: &str) {
    let hit = said
        .findings()
        .iter()
        .any(|f| f.severity == severity && f.text.contains(words));
    assert!(hit, "{severity:?}: {words}\n{:#?}", said.findings());
}

/// If this fails, somebody restarts a machine for what it could have had at once.
#[test]
fn more_is_given_at_once_where_the_guest_takes_it() {
    let mut small = fixture();
    let ask = edit(&[Set::VCpus(6), Set::Memory(memory(8, 24, 64))]);
    let said = put(&small, &ask);
    assert!(!said.blocked(), "{:#?}", worse(&said));
    assert_eq!(given(&said), [(Some(6), Some(Bytes::gib(24)))]);
    says(&said, Severity::Clear, "at once, while db runs");
    assert_eq!(said.steps()[1].after, [0], "first its record says so");
    small.begin(said.accept().unwrap());
    let m = machine(&small);
    assert_eq!(
        (m.vcpus, m.runs_with().vcpus),
        (6, 4),
        "not before its host did it"
    );
    small.fold(&[Event::Edits(edits::Event::Grown {
        machine: DB,
        vcpus: Some(6),
        memory: Some(Bytes::gib(24)),
    })]);
    assert_eq!(machine(&small).now, None, "nothing waits");
}

/// If this fails, a change that waits is promised at once, or somebody is not told why it waits.
#[test]
fn what_waits_for_the_next_start_says_why() {
    let small = fixture();
    let waits = |sets: &[Set], change: fn(&mut Machine), why: &str| {
        let mut small = fixture();
        on(&mut small, change);
        let said = put(&small, &edit(sets));
        assert!(!said.blocked(), "{:#?}", worse(&said));
        says(&said, Severity::Mind, why);
        assert_eq!(given(&said), vec![], "{why}");
    };
    let same = |_: &mut Machine| {};
    let more = [Set::Memory(memory(8, 24, 64))];
    waits(
        &[Set::Memory(memory(8, 8, 64))],
        same,
        "never taken from a guest",
    );
    waits(&[Set::VCpus(2)], same, "never taken from a guest");
    waits(&[Set::Memory(memory(8, 65, 65))], same, "may grow to");
    waits(&[Set::VCpus(9)], same, "may grow to 8");
    waits(&[Set::VCpusMax(16)], same, "is set when it starts");
    waits(
        &more,
        |m| m.state = MachineState::Running { guest: false },
        "agent does not answer",
    );
    waits(&more, |m| m.grows.memory = false, "can't take memory");
    waits(
        &[Set::VCpus(5)],
        |m| m.grows.vcpus = false,
        "can't take vCPUs",
    );
    let odd = Memory {
        size: Bytes::mib(16 * 1024 + 512),
        ..memory(8, 16, 64)
    };
    waits(&[Set::Memory(odd)], same, "in steps of");
    // One of two counts.
    let said = put(
        &small,
        &edit(&[Set::VCpus(5), Set::Memory(memory(4, 8, 64))]),
    );
    assert_eq!(given(&said), [(Some(5), None)]);
    says(
        &put(&small, &edit(&[Set::VCpus(6), Set::VCpusMax(5)])),
        Severity::Stop,
        "can't grow to fewer",
    );
}

/// If this fails, what is always kept is promised and not held, or a host is filled beyond what it has.
#[test]
fn what_is_always_kept_counts_at_once_where_its_host_has_room() {
    let mut small = fixture();
    let said = put(&small, &edit(&[Set::Memory(memory(12, 16, 64))]));
    says(&said, Severity::Clear, "always kept count");
    small.begin(said.accept().unwrap());
    assert_eq!(machine(&small).now, None);
    let mut small = read("cluster eider careless\nhost 1 64\nhost 2 512\nmachine 7 db 16 on 1");
    on(&mut small, |m| m.memory = memory(16, 16, 128));
    let said = put(&small, &edit(&[Set::Memory(memory(100, 100, 128))]));
    says(&said, Severity::Stop, "");
    let stop = said.findings().iter().find(|f| f.stops()).unwrap();
    assert!(
        stop.remedy
            .as_ref()
            .unwrap()
            .contains("There is room for it on h2"),
        "{stop:?}"
    );
}

/// If this fails, a host is thought to hold less than it does until a machine is restarted.
#[test]
fn a_host_holds_the_larger_of_now_and_next() {
    let mut small = fixture();
    let before = machine(&small).held();
    small.begin(
        put(
            &small,
            &edit(&[Set::VCpus(2), Set::Memory(memory(4, 4, 64))]),
        )
        .accept()
        .unwrap(),
    );
    let m = machine(&small);
    let now = m.now.as_deref().copied().unwrap();
    assert_eq!((now.vcpus, now.memory.size), (4, Bytes::gib(16)));
    assert_eq!(now.memory.kept, Bytes::gib(4), "less is kept at once");
    assert!(m.held() < before && m.held() > Bytes::gib(4));
    assert_eq!(
        m.overhead(),
        small_overhead(16, 4, &m),
        "its guest still has 16 GiB and 4 vCPUs"
    );
    // Once it is off, it starts with what it was given.
    small.fold(&[Event::Machines(machines::Event::Seen {
        machine: DB,
        state: MachineState::Off,
        host: None,
        generation: 1,
        as_of: None,
    })]);
    assert_eq!(machine(&small).now, None);
    assert_eq!(machine(&small).runs_with().vcpus, 2);
}

/// 128 MiB + 8 MiB per vCPU + 0.4 % of size + video + 16 MiB per disk and card.
fn small_overhead(gib: u64, vcpus: u64, m: &Machine) -> Bytes {
    let devices = u64::try_from(m.disks.len() + m.nics.len()).unwrap();
    Bytes::mib(128 + 8 * vcpus + 16 * devices) + Bytes::gib(gib).per_mille(4) + m.video
}

/// If this fails, a change that nobody wants any more comes with the next restart.
#[test]
fn what_waits_can_be_withdrawn() {
    let mut small = fixture();
    let withdraw = Proposal::Edits(Ask::Withdraw { machines: vec![DB] });
    says(&put(&small, &withdraw), Severity::Stop, "Nothing waits");
    let was = machine(&small);
    small.begin(
        put(
            &small,
            &edit(&[Set::VCpus(12), Set::Memory(memory(8, 8, 32))]),
        )
        .accept()
        .unwrap(),
    );
    assert!(machine(&small).now.is_some());
    let said = put(&small, &withdraw);
    assert!(
        !said
            .findings()
            .iter()
            .any(|f| f.stops() && f.rule != zastrugi_core::finding::Rule::Held),
        "{:#?}",
        worse(&said)
    );
    assert_eq!(given(&said), vec![]);
    let mut then = machine(&small);
    for planned in said.steps() {
        if let Step::Edits(edits::Step::Rewrite { sets, .. }) = &planned.step {
            let m = Arc::make_mut(&mut then);
            sets.iter().for_each(|s| s.on_machine(m));
        }
    }
    assert_eq!(
        (then.vcpus, then.memory, then.now.clone()),
        (was.vcpus, was.memory, None)
    );
}

/// If this fails, a restart that somebody else made is not seen, and the page says for ever that one is due.
#[test]
fn a_host_says_with_what_a_machine_runs() {
    let mut small = fixture();
    let state = machine(&small).state.clone();
    let now = Now {
        vcpus: 2,
        vcpus_max: 8,
        memory: memory(8, 16, 64),
    };
    let mut told = crate::observing::report(
        &small.view.estate,
        9,
        &[(7, state, machine(&small).generation)],
    );
    told.machines[0].now = Some(now);
    told.machines[0].grows = Some(machine(&small).grows);
    let news = |small: &Small, told: &HostReport| -> Vec<Event> {
        let all = compare(&small.view, HostId(1), told, small.now).into_iter();
        all.filter(|e| matches!(e, Event::Machines(machines::Event::Runs { .. })))
            .collect()
    };
    let events = news(&small, &told);
    assert_eq!(events.len(), 1);
    small.fold(&events);
    assert_eq!(machine(&small).runs_with(), now);
    assert_eq!(news(&small, &told), vec![], "said once");
    told.machines[0].now = Some(Now { vcpus: 4, ..now });
    let events = news(&small, &told);
    small.fold(&events);
    assert_eq!(machine(&small).now, None, "it runs with what it is set to");
}

/// If this fails, a machine is said to be given something at once, and nobody can give it.
#[test]
fn nothing_is_given_at_once_where_its_own_host_takes_no_orders() {
    let mut small = fixture();
    small.alter_host(1, |h| {
        h.condition = zastrugi_core::estate::Condition::Hangs {
            since: zastrugi_core::moment::Moment(0),
            why: "slow".into(),
        };
    });
    let said = put(
        &small,
        &edit(&[Set::VCpus(6), Set::Memory(memory(8, 32, 64))]),
    );
    assert_eq!(given(&said), vec![], "{:#?}", said.findings());
    let grow = Set::DiskSize {
        disk: 0,
        key: None,
        size: Bytes::gib(80),
    };
    says(
        &put(&small, &edit(&[grow])),
        Severity::Stop,
        "only there can a disk of db grow",
    );
}

/// If this fails, a disk is made smaller and a file system loses its end, or a volume is filled by a disk that was made larger.
#[test]
fn a_disk_is_made_larger_where_there_is_room_and_never_smaller() {
    let grow = |disk, gib| {
        edit(&[Set::DiskSize {
            disk,
            key: None,
            size: Bytes::gib(gib),
        }])
    };
    let mut small = fixture();
    let said = put(&small, &grow(0, 80));
    assert!(!said.blocked(), "{:#?}", worse(&said));
    says(
        &said,
        Severity::Clear,
        "at once; its file system is made larger within the guest",
    );
    says(&said, Severity::Clear, "only as they are written");
    let field = |said: &Assessment| {
        said.findings()
            .iter()
            .find(|f| f.stops())
            .and_then(|f| f.field.clone())
    };
    let less = put(&small, &grow(0, 20));
    says(&less, Severity::Stop, "never made smaller");
    assert_eq!(field(&less).as_deref(), Some("disk-1"));
    says(&put(&small, &grow(3, 80)), Severity::Stop, "has no disk 4");
    says(
        &put(&small, &grow(0, 99_999_999)),
        Severity::Stop,
        "A disk has at most",
    );
    on(&mut small, |m| {
        m.disks[0].provisioning = Provisioning::Thick
    });
    let volume = machine(&small).disks[0].volume;
    let free = small.view.estate.volumes[&volume].free();
    let all = edit(&[Set::DiskSize {
        disk: 0,
        key: None,
        size: machine(&small).disks[0].size + free + Bytes(1),
    }]);
    says(&put(&small, &all), Severity::Stop, "is short of");
    small.begin(put(&small, &grow(0, 41)).accept().unwrap());
    assert_eq!(machine(&small).disks[0].size, Bytes::gib(41));
}
