//! What a run leaves behind when it is over or was given up.

use super::*;

fn two_machines() -> Proposal {
    Proposal::Machines(machines::Ask::Create(Box::new(machines(
        "new",
        2,
        Some(ClusterId(901)),
        8,
    ))))
}

#[test]
fn a_running_creation_holds_names_and_room_and_gives_back_what_never_happened() {
    let mut small = read("cluster a\nhost 1 24\nhost 2 24");
    let (run, orders) = start(&mut small, &two_machines());
    assert_eq!(orders.len(), 2);
    assert!(
        estate(&small).machine_named("new-1").is_some(),
        "the name is taken at once"
    );
    assert!(
        put(&small, &two_machines()).blocked(),
        "so a second proposal sees it"
    );
    let made = estate(&small).machine_named("new-1").map(|m| m.id).unwrap();
    let mut now = estate(&small).clone();
    now.absorb(&Event::Machines(machines::Event::Made {
        machine: made,
        guest_key: "k".into(),
    }));
    small.view = small.view.with(now);
    tell(&mut small, run, Input::Cancel);
    tell(
        &mut small,
        run,
        Input::Succeeded {
            step: 0,
            said: String::new(),
        },
    );
    tell(
        &mut small,
        run,
        Input::Failed {
            step: 3,
            fault: no(),
        },
    );
    assert!(small.view.runs.is_empty(), "the run is closed");
    let kept = estate(&small).machine_named("new-1").unwrap();
    assert_eq!(
        kept.host, None,
        "what was made stays, off, and holds no room"
    );
    assert!(
        estate(&small).machine_named("new-2").is_none(),
        "what was not made is gone"
    );
}

#[test]
fn a_plan_without_steps_is_recorded_and_closed_at_once() {
    let mut small = read("cluster a\nhost 1 64\nmachine 7 db 8 on 1");
    let ask = Proposal::Edits(edits::Ask::Edit {
        targets: vec![zastrugi_core::rooms::edits::Target::Machine(MachineId(7))],
        sets: vec![zastrugi_core::rooms::edits::Set::Tier(1)],
    });
    start(&mut small, &ask);
    assert_eq!(estate(&small).machines[&MachineId(7)].tier, 1);
    assert!(small.view.runs.is_empty());
}

#[test]
fn a_stop_that_is_given_up_leaves_the_machine_wanted_on() {
    use zastrugi_core::estate::Wanted;
    let mut small = read("cluster a\nhost 1 64\nmachine 7 db 8 on 1");
    let wanted = |small: &Small| estate(small).machines[&MachineId(7)].wanted;
    let (run, _) = start(&mut small, &stop(7));
    assert_eq!(wanted(&small), Wanted::Off);
    tell(
        &mut small,
        run,
        Input::Succeeded {
            step: 0,
            said: String::new(),
        },
    );
    tell(
        &mut small,
        run,
        Input::Failed {
            step: 1,
            fault: no(),
        },
    );
    tell(&mut small, run, Input::Cancel);
    assert_eq!(
        wanted(&small),
        Wanted::On,
        "nobody brings it down later because of a run that was given up"
    );
}

#[test]
fn a_restart_leaves_the_machine_wanted_on() {
    use zastrugi_core::estate::Wanted;
    let mut small = read("cluster a\nhost 1 64\nmachine 7 db 8 on 1");
    let act = PowerAct::Restart {
        grace: Span::secs(9),
        then: AfterGrace::PowerOff,
    };
    let (_, orders) = start(
        &mut small,
        &Proposal::Machines(machines::Ask::Power {
            machines: vec![MachineId(7)],
            act,
        }),
    );
    assert_eq!(orders, [0]);
    assert_eq!(estate(&small).machines[&MachineId(7)].wanted, Wanted::On);
}

/// A new volume on an array, to all hosts.
fn connect(small: &mut Small) -> (RunId, Vec<usize>) {
    let mut now = estate(small).clone();
    now.put(Fact::Array(Arc::new(Array {
        user: "keeper".into(),
        serial: "TS1".into(),
        pools: vec![Pool {
            name: "fast".into(),
            capacity: Bytes::gib(100),
            used: Bytes::ZERO,
            service: None,
        }],
        ..testkit::array(ArrayId(700), "basalt", SiteId(900))
    })));
    small.view = small.view.with(now);
    let ask = Proposal::Storage(storage::Ask::ConnectVolume(ConnectVolume {
        array: Some(ArrayId(700)),
        source: VolumeSource::New {
            pool: "fast".into(),
            size: Bytes::gib(10),
            provisioning: Provisioning::Thin,
        },
        name: "quay".into(),
        cluster: Some(ClusterId(901)),
        hosts: None,
        typed: "".into(),
    }));
    start(small, &ask)
}

/// A connection that is given up: what nobody has goes, what somebody has stays and is shown as drift.
#[test]
fn a_volume_that_is_given_up_goes_unless_a_host_has_it() {
    let quay = |small: &Small| {
        estate(small)
            .volumes
            .values()
            .find(|v| v.name == "quay")
            .cloned()
    };

    let mut small = read("cluster a\nhost 1 64\nhost 2 64");
    let (run, orders) = connect(&mut small);
    assert_eq!(orders, [0], "the LUN first");
    assert!(!quay(&small).unwrap().ready);
    tell(
        &mut small,
        run,
        Input::Failed {
            step: 0,
            fault: no(),
        },
    );
    tell(&mut small, run, Input::Cancel);
    assert_eq!(quay(&small), None, "the name is free again");

    let mut small = read("cluster a\nhost 1 64\nhost 2 64");
    let (run, _) = connect(&mut small);
    let next = tell(&mut small, run, done(0));
    assert_eq!(next.len(), 2, "both hosts are mapped side by side");
    let mut now = estate(&small).clone();
    now.absorb(&Event::Storage(storage::Event::Mounts {
        host: HostId(1),
        initiator: String::new(),
        mounts: [(quay(&small).unwrap().id, testkit::paths(2))].into(),
    }));
    small.view = small.view.with(now);
    tell(
        &mut small,
        run,
        Input::Failed {
            step: next[0],
            fault: no(),
        },
    );
    let running = tell(&mut small, run, done(next[1]));
    tell(&mut small, run, Input::Cancel);
    for step in running {
        tell(&mut small, run, done(step));
    }
    let left = quay(&small).unwrap();
    assert!(left.ready);
    let drift = left.drift(estate(&small));
    assert_eq!(drift.len(), 1, "the host without it is shown");
}

/// If this fails, a form that names one machine ten thousand times makes a run of ten thousand steps.
#[test]
fn what_is_named_often_is_taken_once_and_too_many_are_refused() {
    let small = read("cluster a\nhost 1 64\nmachine 7 db 8 on 1");
    let many = vec![MachineId(7); 10_000];
    let act = PowerAct::Off;
    let ask = |machines| Proposal::Machines(machines::Ask::Power { machines, act });
    let once = put(&small, &ask(many));
    assert!(!once.blocked());
    assert_eq!((once.title(), once.steps().len()), ("Power off db", 1));
    let edit = edits::Ask::Edit {
        targets: vec![edits::Target::Machine(MachineId(7)); 5_000],
        sets: vec![edits::Set::Note("x".into())],
    };
    assert!(put(&small, &edit.into()).title().ends_with("db"));
    let beyond: Vec<_> = (0..10_001).map(MachineId).collect();
    let refused = put(&small, &ask(beyond));
    let said = &refused.findings()[0].text;
    assert!(
        said.contains("10001 are selected; one run takes up to 10000"),
        "{said}"
    );
    assert!(refused.blocked() && refused.steps().is_empty());
}
