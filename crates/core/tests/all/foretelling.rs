//! How long a run will take, said before it begins: somebody waits for it, or plans a night by it.

use crate::put;
use std::{collections::BTreeMap, sync::Arc};
use zastrugi_core::{
    estate::{BootFrom, Fact, Machine, MachineState},
    ids::{ClusterId, MachineId},
    moment::Span,
    road::{Length, Work},
    rooms::{
        Assessment, Proposal,
        machines::{self, AfterGrace, PowerAct},
    },
    runs::LANES,
    runs::{Object, Pace},
    testkit::{Small, machines as asked, read},
};

const THREE: &str = "cluster eider\nhost 1 512\nhost 2 512\nhost 3 512\nmachine 7 db 4 on 1";

fn create(small: &Small, count: u32) -> Assessment {
    let ask = asked("crew-{001}", count, Some(ClusterId(901)), 1);
    put(
        small,
        &Proposal::Machines(machines::Ask::Create(Box::new(ask))),
    )
}

fn stop(small: &Small, grace: Span) -> Assessment {
    let act = PowerAct::Stop {
        grace,
        then: AfterGrace::LeaveOn,
    };
    let machines = vec![MachineId(7)];
    put(
        small,
        &Proposal::Machines(machines::Ask::Power { machines, act }),
    )
}

fn alter(small: &mut Small, change: impl FnOnce(&mut Machine)) {
    small.alter(|e| {
        let mut machine = Machine::clone(&e.machines[&MachineId(7)]);
        change(&mut machine);
        e.put(Fact::Machine(Arc::new(machine)));
    });
}

/// Nobody begins before what it waits for, no device has more calls than it is given, and no time is wasted: the end is
/// neither before the longest chain nor before the busiest device is through.
fn holds_together(small: &Small, said: &Assessment) {
    let steps = said.steps();
    assert!(!steps.is_empty());
    let mut busy: BTreeMap<Object, Vec<(u64, u64)>> = BTreeMap::new();
    for step in steps {
        assert!(step.when.to <= said.time());
        for before in &step.after {
            assert!(steps[*before].when.to <= step.when.from, "{}", step.title);
        }
        if let (Length::Call(_), Some(device)) =
            (step.step.length(), step.step.device(&small.view.estate))
        {
            busy.entry(device)
                .or_default()
                .push((step.when.from.0, step.when.to.0));
        }
    }
    for (device, calls) in busy {
        for (from, _) in &calls {
            let at_once = calls.iter().filter(|c| c.0 <= *from && *from < c.1).count();
            assert!(at_once <= LANES, "{at_once} at {device}");
        }
        let work: u64 = calls.iter().map(|c| c.1 - c.0).sum();
        assert!(said.time().0 >= work / LANES as u64);
    }
    let longest = steps.iter().map(|s| s.when.to).max();
    assert_eq!(Some(said.time()), longest);
}

#[test]
fn many_machines_take_longer_than_few_by_what_their_hosts_can_do_at_once() {
    let small = read(THREE);
    let (few, many) = (create(&small, 12), create(&small, 99));
    holds_together(&small, &few);
    holds_together(&small, &many);
    // 12 on three hosts: one round of calls each, then the guests boot side by side.
    let alone = create(&small, 1).time().0;
    assert!(
        few.time().0 < alone * 5 / 4,
        "{} against {alone}",
        few.time().0
    );
    // 33 to make and 33 to start on each host, four at a time, 0.3 s each.
    assert!(
        many.time().0 >= 19_800 / LANES as u64 + 15_000,
        "{}",
        many.time()
    );
    assert!(
        many.time().0 <= 19_800 / LANES as u64 + 19_000,
        "{}",
        many.time()
    );
}

#[test]
fn what_was_measured_here_takes_the_place_of_what_is_usual() {
    let mut small = read(THREE);
    let before = create(&small, 1).time();
    let mut pace = Pace::default();
    for _ in 0..8 {
        pace.note("guest answers", Span::secs(15), Span::secs(150));
    }
    small.view.pace = Arc::new(pace);
    let after = create(&small, 1).time();
    assert_eq!(after.0 - before.0, 135_000, "guests here take long to boot");
}

#[test]
fn who_cannot_be_asked_may_take_all_of_the_grace() {
    let mut small = read(THREE);
    let heard = stop(&small, Span::mins(20)).time();
    assert!(
        heard < Span::mins(1),
        "{heard}: an agent that answers stops when asked"
    );
    alter(&mut small, |m| {
        m.state = MachineState::Running { guest: false }
    });
    let unheard = stop(&small, Span::mins(20)).time();
    assert!(unheard >= Span::mins(20), "{unheard}");
}

#[test]
fn an_installer_comes_before_its_guest() {
    let mut small = read("cluster eider\nhost 1 512\nmachine 7 db 4 off");
    let on = |small: &Small| {
        let ask = machines::Ask::Power {
            machines: vec![MachineId(7)],
            act: PowerAct::On { host: None },
        };
        put(small, &Proposal::Machines(ask))
    };
    let disk = on(&small);
    alter(&mut small, |m| m.boot.once = Some(BootFrom::Network));
    alter(&mut small, |m| m.nics.clear());
    assert_eq!(
        on(&small).time(),
        disk.time(),
        "without a card it boots from its disk"
    );
    alter(&mut small, |m| {
        m.boot.order = vec![BootFrom::Image, BootFrom::Disk];
        m.boot.attached = Some(zastrugi_core::estate::Attached {
            image: zastrugi_core::ids::ImageId(1),
            volume: zastrugi_core::ids::VolumeId(951),
        });
    });
    let image = on(&small);
    assert!(
        image.time().0 > disk.time().0 + 20_000,
        "{} against {}",
        image.time(),
        disk.time()
    );
    assert_eq!(image.steps()[1].step.group(), "install, then guest answers");
}
