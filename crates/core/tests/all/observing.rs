//! Observations: only differences, never backwards.

use zastrugi_core::rooms::{
    edits::{self, Set, Target},
    machines, networks, storage,
};
use zastrugi_core::view::View;
use zastrugi_core::{
    estate::{AsOf, Estate, Fact, HostNet, Machine, MachineState},
    evidence::SeenVolume,
    ids::{HostId, MachineId, NetworkId, VolumeId},
    moment::Moment,
    observe::{HostReport, MachineReport, NicReport, compare, settle_adopted},
    rooms::Event,
    testkit::{self, paths, read},
    units::Bytes,
};
use zastrugi_core::{road::Tale, testkit::Folding};

pub(crate) fn report(
    estate: &Estate,
    seq: u64,
    machines: &[(u64, MachineState, u64)],
) -> HostReport {
    let machines = machines.iter().map(|(id, state, generation)| {
        let known = estate.machines.get(&MachineId(*id));
        let uuid = known.map_or(uuid::Uuid::from_u128(u128::from(*id)), |m| m.uuid);
        let name = known.map_or(format!("new-{id}"), |m| m.name.clone());
        MachineReport {
            volume: "vol-951".into(),
            state: state.clone(),
            ..testkit::reported(uuid, &name, *generation)
        }
    });
    HostReport {
        disks: vec![],
        ended: Default::default(),
        watchdog: false,
        keepers: Default::default(),
        initiator: "iqn.2026-01.net.example:h1".into(),
        uplinks: vec![],
        networks: Default::default(),
        boot: 1,
        seq,
        obeyed: None,
        software: "4.2.1".into(),
        machines: machines.collect(),
        volumes: vec![SeenVolume {
            pool: None,
            unattached: None,
            shared: None,
            records: None,
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
    compare(&View::of(estate.clone()), HostId(1), report, Moment(9))
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
        3,
        "newer: the machine is off and was stopped from inside, the host was seen"
    );
}

#[test]
fn where_a_machine_runs_is_decided_by_its_lease_and_not_by_who_speaks_last() {
    let mut estate = (*read("cluster a\nhost 1 64\nhost 2 64\nmachine 7 db 8 on 2")
        .view
        .estate)
        .clone();
    estate.absorb(&Event::Machines(machines::Event::Seen {
        machine: MachineId(7),
        state: UP,
        host: Some(HostId(2)),
        generation: 5,
        as_of: None,
    }));
    assert_eq!(
        see(&estate, &report(&estate, 5, &[(7, UP, 4)])),
        vec![],
        "an old lease says nothing"
    );
    let events = see(&estate, &report(&estate, 5, &[(7, UP, 6)]));
    assert!(
        matches!(
            &events[0],
            Event::Machines(machines::Event::Seen {
                host: Some(HostId(1)),
                generation: 6,
                ..
            })
        ),
        "{events:?}"
    );
}

/// If this fails, a machine that was just started reads *off* for a second, or one that was just stopped reads *on*: a report
/// that had been on its way during the step had the last word.
#[test]
fn a_report_from_before_a_step_was_answered_says_nothing_of_its_machine() {
    let base = (*read("cluster a\nhost 1 64\nmachine 7 db 8 on 1\nmachine 8 web 8 on 1")
        .view
        .estate)
        .clone();
    let answered = |state, host, seq| {
        let mut estate = base.clone();
        estate.absorb(&Event::Machines(machines::Event::Seen {
            machine: MachineId(7),
            state,
            host,
            generation: 1,
            as_of: Some(AsOf {
                host: HostId(1),
                boot: 1,
                seq,
            }),
        }));
        estate
    };
    let about_7 = |events: &[Event]| {
        let of = |e: &&Event| matches!(e, Event::Machines(machines::Event::Seen { machine, .. }) if machine.0 == 7);
        events.iter().filter(of).count()
    };
    let off = answered(MachineState::Off, None, 6);
    let still_on = [(7, UP, 1), (8, UP, 1)];
    assert_eq!(about_7(&see(&off, &report(&off, 5, &still_on))), 0);
    assert_eq!(about_7(&see(&off, &report(&off, 7, &still_on))), 1);
    let on = answered(UP, Some(HostId(1)), 6);
    let early = see(&on, &report(&on, 5, &[]));
    assert_eq!(about_7(&early), 0);
    assert!(
        early.iter().any(
            |e| matches!(e, Event::Machines(machines::Event::Seen { machine, .. }) if machine.0 == 8)
        ),
        "it counts for the others: {early:?}"
    );
    assert_eq!(about_7(&see(&on, &report(&on, 7, &[]))), 1);
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
fn two_found_machines_of_one_name_are_both_taken_in_and_the_renamed_one_says_so() {
    let mut estate = (*read("cluster a\nhost 1 64\nmachine 7 db 8 on 1")
        .view
        .estate)
        .clone();
    let mut seen = report(
        &estate,
        5,
        &[(7, UP, 1), (77, UP, 1), (78, UP, 1), (79, UP, 1)],
    );
    seen.machines[1].name = "twin".into();
    seen.machines[2].name = "twin".into();
    seen.machines[3].name = "db".into();
    for event in see(&estate, &seen) {
        estate.absorb(&event);
    }
    let found: Vec<_> = (77..80)
        .map(|uuid| {
            let uuid = uuid::Uuid::from_u128(uuid);
            estate.machine_with_uuid(&uuid).expect("taken in")
        })
        .collect();
    assert_eq!(
        (found[0].name.as_str(), &found[0].found_as),
        ("twin", &None)
    );
    for (renamed, had) in [(found[1], "twin"), (found[2], "db")] {
        assert_eq!(renamed.name, format!("{had}-{}", renamed.id.0));
        assert_eq!(renamed.found_as.as_deref(), Some(had), "a person is told");
    }
    assert_eq!(see(&estate, &seen), [], "and that is that");
    assert_eq!(estate.machines_renamed().count(), 2);
    let named = Set::Name("twin-of-db".into());
    let target = Target::Machine(found[2].id);
    let other = found[1].id;
    estate.absorb(&Event::Edits(edits::Event::Edited {
        target,
        sets: vec![named],
    }));
    let left: Vec<_> = estate.machines_renamed().map(|m| m.id).collect();
    assert_eq!(
        left,
        [other],
        "whoever has a name of a person's choice is settled"
    );
}

#[test]
fn a_machine_that_is_arriving_is_not_taken_for_stopped() {
    let mut estate = (*read("cluster a\nhost 1 64\nmachine 7 db 8 off").view.estate).clone();
    estate.absorb(&Event::Machines(machines::Event::Wanted {
        machine: MachineId(7),
        wanted: zastrugi_core::estate::Wanted::On,
        host: Some(HostId(1)),
    }));
    assert_eq!(see(&estate, &report(&estate, 5, &[])), vec![]);
}

#[test]
fn what_a_host_mounts_and_by_which_paths_is_taken_in_once() {
    let mut estate = (*read("cluster a\nhost 1 64").view.estate).clone();
    let mut seen = report(&estate, 2, &[]);
    assert_eq!(see(&estate, &seen), []);
    seen.volumes[0].paths = paths(1);
    let events = see(&estate, &seen);
    let Some(Event::Storage(storage::Event::Mounts { mounts, .. })) = events.first() else {
        panic!("{events:?}")
    };
    assert_eq!(mounts.len(), 1);
    estate.absorb_all(&events);
    assert_eq!(estate.hosts[&HostId(1)].paths_up(VolumeId(951)), 1);
    seen.seq = 3;
    assert_eq!(see(&estate, &seen), [], "nothing new");
    seen.seq = 4;
    seen.volumes.clear();
    let events = see(&estate, &seen);
    let told = events[0].tell(&estate).unwrap();
    assert_eq!(told.text, "h1 has no path to slab-951 any more");
    estate.absorb_all(&events);
    assert_eq!(estate.hosts[&HostId(1)].paths_up(VolumeId(951)), 0);
}

#[test]
fn a_volume_that_we_do_not_know_is_passed_over() {
    let estate = (*read("cluster a\nhost 1 64").view.estate).clone();
    let mut seen = report(&estate, 2, &[]);
    let mut other = seen.volumes[0].clone();
    other.uid = "somebody else's".into();
    seen.volumes.push(other);
    assert_eq!(see(&estate, &seen), []);
}

#[test]
fn a_machine_found_on_another_volume_learns_its_home() {
    let mut estate = (*read("cluster a\nhost 1 64\nmachine 7 db 8 on 1")
        .view
        .estate)
        .clone();
    let mut machine = Machine::clone(&estate.machines[&MachineId(7)]);
    machine.disks[0].volume = VolumeId(0);
    estate.put(Fact::Machine(machine.into()));
    let seen = report(&estate, 2, &[(7, UP, 1)]);
    let events = see(&estate, &seen);
    assert!(events.contains(&Event::Machines(machines::Event::Home {
        machine: MachineId(7),
        volume: VolumeId(951)
    })));
    estate.absorb_all(&events);
    assert_eq!(estate.machines_with_disk_on(VolumeId(951)).count(), 1);
    let mut later = report(&estate, 3, &[(7, UP, 1)]);
    later.seq = 3;
    assert_eq!(see(&estate, &later), [], "told once");
}

#[test]
fn cards_find_their_network_by_name_when_it_is_made() {
    let mut estate = (*read("cluster a\nhost 1 64\nmachine 7 db 8 on 1")
        .view
        .estate)
        .clone();
    let mut seen = report(&estate, 2, &[(7, UP, 1)]);
    let nic = NicReport {
        mac: estate.machines[&MachineId(7)].nics[0].mac.clone(),
        network: Some("crew".into()),
        addresses: vec!["10.2.0.9".parse().unwrap()],
    };
    seen.machines[0].nics = vec![nic];
    estate.absorb_all(&see(&estate.clone(), &seen));
    let card = |estate: &Estate| estate.machines[&MachineId(7)].nics[0].clone();
    assert_eq!(card(&estate).network, None, "no such network yet");
    assert_eq!(card(&estate).addresses.len(), 1);
    estate.absorb(&Event::Networks(networks::Event::Planned(Box::new(
        testkit::network(NetworkId(970), "crew"),
    ))));
    seen.seq = 3;
    estate.absorb_all(&see(&estate.clone(), &seen));
    assert_eq!(card(&estate).network, Some(NetworkId(970)));
    let crew = estate.networks[&NetworkId(970)].clone();
    let taken = crew.taken(&estate);
    assert_eq!(taken.len(), 1);
    assert!(taken.values().all(|(who, _)| who == "db"));
}

#[test]
fn uplinks_and_networks_of_a_host_are_taken_in_and_a_lost_network_is_told() {
    let mut estate = (*read("cluster a\nhost 1 64").view.estate).clone();
    let mut seen = report(&estate, 2, &[]);
    let has = HostNet {
        vlan: Some(20),
        mtu: 1500,
        uplinks: ["uplink-1".to_owned()].into(),
    };
    seen.networks.insert("crew".into(), has);
    let events = see(&estate, &seen);
    assert!(
        events[0].tell(&estate).is_none(),
        "to gain one is not worth a line"
    );
    estate.absorb_all(&events);
    seen.seq = 3;
    seen.networks.clear();
    let events = see(&estate, &seen);
    assert_eq!(
        events[0].tell(&estate).unwrap().text,
        "h1 no longer has crew"
    );
}
