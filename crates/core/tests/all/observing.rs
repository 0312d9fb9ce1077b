//! Observations: only differences, never backwards.

use zastrugi_core::{
    estate::{Estate, MachineState, Memory},
    event::Event,
    evidence::SeenVolume,
    ids::{HostId, MachineId},
    moment::Moment,
    observe::{HostReport, MachineReport, compare, settle_adopted},
    testkit::{paths, read},
    units::Bytes,
};

fn report(estate: &Estate, seq: u64, machines: &[(u64, MachineState, u64)]) -> HostReport {
    let machines = machines.iter().map(|(id, state, generation)| {
        let known = estate.machines.get(&MachineId(*id));
        MachineReport {
            volume: "vol-951".into(),
            uuid: known.map_or(uuid::Uuid::from_u128(u128::from(*id)), |m| m.uuid),
            name: known.map_or(format!("new-{id}"), |m| m.name.clone()),
            state: state.clone(),
            generation: *generation,
            vcpus: 2,
            memory: Memory {
                kept: Bytes::gib(8),
                size: Bytes::gib(8),
                max: Bytes::gib(8),
            },
            video: Bytes::ZERO,
            disks: vec![],
            nics: vec![],
            labels: Default::default(),
            tier: 3,
            apart: None,
            protected: false,
            guest_key: None,
            note: String::new(),
            virtual_hardware: 3,
            created: Moment(0),
        }
    });
    HostReport {
        initiator: "iqn.2026-01.net.example:h1".into(),
        uplinks: vec![],
        networks: Default::default(),
        boot: 1,
        seq,
        software: "4.2.1".into(),
        machines: machines.collect(),
        volumes: vec![SeenVolume {
            uid: "vol-951".into(),
            name: "slab-951".into(),
            capacity: Bytes::gib(10_240),
            used: Bytes::gib(100),
            paths: paths(2),
        }],
    }
}

const UP: MachineState = MachineState::Running { guest: true };

fn see(estate: &Estate, report: &HostReport) -> Vec<Event> {
    compare(estate, HostId(1), report, Moment(9))
}

#[test]
fn an_observation_that_changes_nothing_appends_nothing() {
    let estate = (*read("cluster a\nhost 1 64\nmachine 7 db 8 on 1")
        .view
        .estate)
        .clone();
    assert_eq!(see(&estate, &report(&estate, 5, &[(7, UP, 1)])), vec![]);
}

#[test]
fn an_older_observation_is_dropped() {
    let estate = (*read("cluster a\nhost 1 64\nmachine 7 db 8 on 1")
        .view
        .estate)
        .clone();
    assert_eq!(
        see(&estate, &report(&estate, 1, &[])),
        vec![],
        "sequence 1 was taken in already"
    );
    assert_eq!(
        see(&estate, &report(&estate, 2, &[])).len(),
        2,
        "newer: the machine is off, the host was seen"
    );
}

#[test]
fn where_a_machine_runs_is_decided_by_its_lease_and_not_by_who_speaks_last() {
    let mut estate = (*read("cluster a\nhost 1 64\nhost 2 64\nmachine 7 db 8 on 2")
        .view
        .estate)
        .clone();
    estate.absorb(&Event::MachineSeen {
        machine: MachineId(7),
        state: UP,
        host: Some(HostId(2)),
        generation: 5,
    });
    assert_eq!(
        see(&estate, &report(&estate, 5, &[(7, UP, 4)])),
        vec![],
        "an old lease says nothing"
    );
    let events = see(&estate, &report(&estate, 5, &[(7, UP, 6)]));
    assert!(
        matches!(
            &events[0],
            Event::MachineSeen {
                host: Some(HostId(1)),
                generation: 6,
                ..
            }
        ),
        "{events:?}"
    );
}

#[test]
fn an_unknown_machine_is_registered_once_and_keeps_running() {
    let mut estate = (*read("cluster a\nhost 1 64").view.estate).clone();
    let events = see(&estate, &report(&estate, 5, &[(77, UP, 1), (78, UP, 1)]));
    let events = settle_adopted(&estate, events);
    estate.absorb_all(&events);
    assert_eq!(estate.machines_on(HostId(1)).count(), 2);
    assert_eq!(
        see(&estate, &report(&estate, 6, &[(77, UP, 1), (78, UP, 1)])),
        vec![]
    );
    let again = settle_adopted(&estate, vec![events[0].clone()]);
    assert_eq!(
        again,
        vec![],
        "the same machine from another answer is known already"
    );
}

#[test]
fn a_machine_that_is_arriving_is_not_taken_for_stopped() {
    let mut estate = (*read("cluster a\nhost 1 64\nmachine 7 db 8 off").view.estate).clone();
    estate.absorb(&Event::MachineWanted {
        machine: MachineId(7),
        wanted: zastrugi_core::estate::Wanted::On,
        host: Some(HostId(1)),
    });
    assert_eq!(see(&estate, &report(&estate, 5, &[])), vec![]);
}
