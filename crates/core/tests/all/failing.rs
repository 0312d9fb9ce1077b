//! Hosts that fail: what is said of them and of what ran there, what can be done, and what headroom makes of it.

use crate::{headroom::tables, put, worse};
use proptest::prelude::*;
use zastrugi_core::{
    availability::{Effort, Survival, fail},
    estate::{Bmc, Condition, Estate, MachineState, Wanted},
    evidence::{Answer, EvidenceBook, Probe},
    ids::{ClusterId, HostId, MachineId, SecretRef},
    moment::{Moment, Span},
    observe::{HostReport, compare},
    road::Tale,
    rooms::{
        Event, Proposal,
        hosts::{self, HostPower},
        machines::{self, AfterGrace, PowerAct},
        moving::{self, Move},
    },
    testkit::{Folding, Small, paths, read},
    view::View,
};

const LOST: &str = "cluster eider\nhost 1 256 down\nhost 2 256\nhost 3 256
    machine 7 db 64 on 1 tier=1\nmachine 8 web 16 on 1\nmachine 9 dns 8 on 2";

fn power(machines: &[u64], act: PowerAct) -> Proposal {
    let machines = machines.iter().copied().map(MachineId).collect();
    Proposal::Machines(machines::Ask::Power { machines, act })
}

fn with_controller(small: &mut Small, host: u64, answer: Answer) {
    small.alter_host(host, |h| {
        h.bmc = Some(Bmc {
            address: "10.0.1.1:443".into(),
            pin: "bmc".into(),
            user: "zastrugi".into(),
            key: Some(SecretRef(uuid::Uuid::nil())),
        });
    });
    let mut book = EvidenceBook::default();
    book.put(Probe::Bmc(HostId(host)), answer, small.now);
    small.view.evidence = book.into();
}

fn says(power: &str, serial: &str) -> Answer {
    Answer::Bmc {
        power: power.into(),
        serial: serial.into(),
    }
}

fn switch(act: HostPower) -> Proposal {
    let host = HostId(1);
    Proposal::Hosts(hosts::Ask::Power { host, act })
}

fn proved_off(small: &mut Small) {
    small.fold(&[Event::Hosts(hosts::Event::Off {
        host: HostId(1),
        at: Moment(5000),
        proof: "its controller said so twice".into(),
    })]);
}

#[test]
fn nothing_is_called_clear_that_is_asked_of_a_machine_on_a_lost_host() {
    let small = read(LOST);
    let grace = Span::secs(120);
    let then = AfterGrace::PowerOff;
    let relocate = Proposal::Moving(moving::Ask::Move(Move {
        machines: vec![MachineId(7)],
        to: Some(HostId(2)),
        disks: None,
        slow: false,
        force: false,
        wire: false,
    }));
    let asks = [
        power(&[7], PowerAct::On { host: None }),
        power(&[7], PowerAct::Stop { grace, then }),
        power(&[7], PowerAct::Restart { grace, then }),
        power(&[7], PowerAct::Off),
        relocate,
    ];
    for ask in asks {
        let a = put(&small, &ask);
        let said: Vec<_> = a.findings().iter().map(|f| f.text.as_str()).collect();
        let stop = a.findings().iter().find(|f| f.stops()).expect("a stop");
        assert!(
            stop.text.contains("What db does is unknown: it was on h1"),
            "{said:?}"
        );
        assert!(
            stop.remedy
                .as_ref()
                .is_some_and(|r| r.contains("declare it off")),
            "{stop:?}"
        );
        for wrong in [
            "would stop by itself",
            "is on already",
            "is asked to stop",
            "is there in",
        ] {
            assert!(!said.iter().any(|s| s.contains(wrong)), "{wrong}: {said:?}");
        }
        assert!(a.steps().is_empty(), "nothing is planned: {ask:?}");
    }
}

#[test]
fn what_any_room_asks_of_a_lost_host_is_a_stop() {
    let mut small = read("cluster eider\nhost 1 256 down\nhost 2 256");
    let hand_back = Proposal::Hosts(hosts::Ask::HandBack {
        hosts: vec![HostId(1)],
    });
    let a = put(&small, &hand_back);
    assert!(
        worse(&a).contains(&"stop: h1 does not answer: silent.".to_owned()),
        "{:?}",
        worse(&a)
    );
    proved_off(&mut small);
    let a = put(&small, &hand_back);
    assert!(
        !a.blocked(),
        "a host that is off is given up untold: {:?}",
        worse(&a)
    );
    assert_eq!(a.steps().len(), 1);
}

#[test]
fn machines_of_a_host_that_is_proved_off_are_off_and_start_elsewhere() {
    let mut small = read(LOST);
    proved_off(&mut small);
    let estate = &small.view.estate;
    let db = &estate.machines[&MachineId(7)];
    assert_eq!(
        (&db.state, db.host, db.wanted),
        (&MachineState::Off, None, Wanted::On)
    );
    let fell = db.fell.as_ref().unwrap();
    assert_eq!(
        (fell.host, fell.at, fell.proved.as_deref()),
        (HostId(1), Moment(5000), Some("S1"))
    );
    assert_eq!(estate.machines_fallen_from(HostId(1)).count(), 2);
    let a = put(&small, &power(&[7, 8], PowerAct::On { host: None }));
    assert!(!a.blocked(), "{:?}", worse(&a));
    assert!(
        a.places().iter().all(|p| p.host != HostId(1)),
        "{:?}",
        a.places()
    );
    // Once it runs, or somebody wants it off, nobody is asked to start it any more.
    small.fold(&[Event::Machines(machines::Event::Seen {
        machine: MachineId(7),
        state: MachineState::Running { guest: false },
        host: Some(HostId(2)),
        generation: 2,
        as_of: None,
    })]);
    small.fold(&[Event::Machines(machines::Event::Wanted {
        machine: MachineId(8),
        wanted: Wanted::Off,
        host: None,
    })]);
    assert_eq!(small.view.estate.machines_fallen().count(), 0);
}

fn report(estate: &Estate, boot: u64, seq: u64) -> HostReport {
    HostReport {
        disks: vec![],
        ended: Default::default(),
        watchdog: false,
        keepers: Default::default(),
        initiator: "iqn.2026-01.net.example:h1".into(),
        uplinks: vec![],
        networks: Default::default(),
        boot,
        seq,
        obeyed: None,
        software: "4.2.1".into(),
        machines: vec![],
        volumes: vec![zastrugi_core::evidence::SeenVolume {
            unattached: None,
            shared: None,
            records: None,
            pool: None,
            uid: "vol-951".into(),
            name: "slab-951".into(),
            capacity: estate.volumes.values().next().unwrap().capacity,
            used: estate.volumes.values().next().unwrap().used,
            paths: paths(2),
        }],
    }
}

#[test]
fn after_a_power_cut_machines_that_should_be_on_are_asked_for() {
    let mut estate = Estate::clone(&read(LOST).view.estate);
    let view = View::of(estate.clone());
    let events = compare(&view, HostId(1), &report(&estate, 2, 1), Moment(9000));
    let told: Vec<_> = events
        .iter()
        .filter_map(|e| e.tell(&estate))
        .map(|e| e.text)
        .collect();
    assert!(
        told.contains(&"h1 answers again; it had gone down".to_owned()),
        "{told:?}"
    );
    assert!(
        told.contains(&"db is off: h1 runs it no more, and it shall be on".to_owned()),
        "{told:?}"
    );
    estate.absorb_all(&events);
    let fallen: Vec<_> = estate
        .machines_fallen_from(HostId(1))
        .map(|m| m.name.as_str())
        .collect();
    assert_eq!(fallen, ["db", "web"]);
    assert_eq!(estate.machines[&MachineId(7)].wanted, Wanted::On);
}

#[test]
fn a_machine_that_was_shut_down_from_inside_is_no_failure() {
    let mut estate = Estate::clone(
        &read("cluster a\nhost 1 64\nmachine 7 db 8 on 1")
            .view
            .estate,
    );
    let view = View::of(estate.clone());
    let events = compare(&view, HostId(1), &report(&estate, 1, 2), Moment(9000));
    estate.absorb_all(&events);
    let db = &estate.machines[&MachineId(7)];
    assert_eq!(
        (&db.state, db.wanted, &db.fell),
        (&MachineState::Off, Wanted::Off, &None)
    );
}

#[test]
fn a_host_that_goes_down_and_comes_back_is_told() {
    let mut estate = Estate::clone(&read(LOST).view.estate);
    let seen = |boot| {
        Event::Hosts(hosts::Event::Seen {
            host: HostId(1),
            boot,
            seq: 2,
            software: "4.2.1".into(),
        })
    };
    let text = |estate: &Estate, e: &Event| e.tell(estate).map(|e| e.text);
    assert_eq!(text(&estate, &seen(1)).as_deref(), Some("h1 answers again"));
    let off = Event::Hosts(hosts::Event::Off {
        host: HostId(1),
        at: Moment(1),
        proof: "its controller said so twice".into(),
    });
    let told = off.tell(&estate).unwrap();
    assert_eq!(
        told.text,
        "h1 is off: its controller said so twice, and with it the 2 machines on it"
    );
    assert!(
        told.about.contains(&"machine-7".to_owned()),
        "it stands on the machine's page too"
    );
    estate.absorb(&off);
    assert!(
        text(&estate, &seen(1))
            .unwrap()
            .contains("what was proved was wrong")
    );
    estate.absorb(&seen(2));
    assert_eq!(
        text(&estate, &seen(2)),
        None,
        "a steady host that reports is no news"
    );
    assert_eq!(
        text(&estate, &seen(3)).as_deref(),
        Some("h1 went down and came back")
    );
}

#[test]
fn a_lost_host_is_switched_off_by_its_controller_only_if_it_is_its_own() {
    let mut small = read(LOST);
    let first = |small: &Small, act| {
        let a = put(small, &switch(act));
        let open = worse(&a).into_iter().next().unwrap_or_default();
        (open, a.steps().len())
    };
    assert!(
        first(&small, HostPower::Off)
            .0
            .contains("no controller that Zastrugi knows")
    );
    with_controller(&mut small, 1, says("On", "S1"));
    let (said, steps) = first(&small, HostPower::Off);
    assert!(
        said.starts_with("mind: 2 machines may still run on h1"),
        "{said}"
    );
    assert_eq!(steps, 1);
    assert_eq!(first(&small, HostPower::Restart).1, 3, "off, on, answers");
    assert!(first(&small, HostPower::On).0.contains("is on already"));
    with_controller(&mut small, 1, says("Off", "S1"));
    assert!(
        first(&small, HostPower::Off)
            .0
            .starts_with("mind: 2 machines were on h1")
    );
    assert!(!put(&small, &switch(HostPower::On)).blocked());
    // In the middle of a proof nobody switches it on: it could run what is about to be started elsewhere.
    let judged = zastrugi_core::guard::Note::Judged {
        host: HostId(1),
        since: Moment(1000),
        evidence: "not heard for 15 s".into(),
        act: zastrugi_core::estate::Act::SwitchOff,
    };
    let cluster = *small.view.estate.clusters.keys().next().unwrap();
    let plans = Default::default();
    let events =
        zastrugi_core::recounting::recount(&small.view, &plans, cluster, &judged, small.now);
    small.fold(&events);
    let (text, _) = first(&small, HostPower::On);
    assert!(text.contains("is being proved off"), "{text}");
    with_controller(&mut small, 1, says("Off", "S99"));
    let (said, steps) = first(&small, HostPower::Off);
    assert!(
        said.starts_with("stop:") && said.contains("another host's"),
        "{said}"
    );
    assert_eq!(steps, 0);
    let silent = Answer::Silent {
        why: "timed out".into(),
    };
    with_controller(&mut small, 1, silent);
    assert!(
        first(&small, HostPower::Off)
            .0
            .contains("does not answer: timed out")
    );
    small.now = small.now.plus(Span::mins(30));
    assert!(
        first(&small, HostPower::Off)
            .0
            .contains("was not asked lately")
    );
}

#[test]
fn nobody_pulls_the_plug_of_a_host_that_answers_and_runs_machines() {
    let mut small = read("cluster a\nhost 1 64\nmachine 7 db 8 on 1");
    with_controller(&mut small, 1, says("On", "S1"));
    let said = worse(&put(&small, &switch(HostPower::Off)));
    assert_eq!(said[0], "stop: h1 answers, and 1 machines are on it.");
}

#[test]
fn a_person_declares_a_host_off_by_typing_its_name_and_not_against_its_controller() {
    let mut small = read(LOST);
    let declare = |typed: &str| {
        let (host, typed) = (HostId(1), typed.into());
        Proposal::Hosts(hosts::Ask::DeclareOff { host, typed })
    };
    assert!(put(&small, &declare("h2")).blocked());
    let a = put(&small, &declare("h1"));
    assert!(!a.blocked(), "{:?}", worse(&a));
    assert!(worse(&a)[0].contains("two hosts may write to the same disks"));
    with_controller(&mut small, 1, says("On", "S1"));
    assert!(
        put(&small, &declare("h1")).blocked(),
        "the controller says that it is on"
    );
    let healthy = read("cluster a\nhost 1 64");
    assert!(put(&healthy, &declare("h1")).blocked(), "it answers");
}

#[test]
fn headroom_counts_the_failure_that_has_happened() {
    let sentence = |text: &str| {
        let small = read(text);
        let cluster = &small.view.estate.clusters[&ClusterId(901)];
        let answer = Survival::of(&small.view, cluster);
        (answer.sentence(), answer.meets(cluster))
    };
    let (said, meets) = sentence(
        "cluster a\nhost 1 128 down\nhost 2 128\nhost 3 128\nhost 4 128
        machine 7 db 60 on 1\nmachine 8 web 60 on 2\nmachine 9 dns 60 on 3",
    );
    assert_eq!(
        said,
        "has lost h1, whose machine fits on the others; survives any one more host; limited by memory"
    );
    assert!(meets);
    // One more failure and the machines of both find no room: without counting h1's it would have said that it survives.
    let (said, meets) = sentence(
        "cluster a\nhost 1 128 down\nhost 2 128\nhost 3 128
        machine 7 db 60 on 1\nmachine 8 web 60 on 2\nmachine 9 dns 60 on 3",
    );
    assert!(said.contains("survives no more host failure"), "{said}");
    assert!(!meets);
    let (said, _) = sentence(
        "cluster a\nhost 1 128 down\nhost 2 64\nhost 3 64\nmachine 7 db 90 on 1\nmachine 8 web 9 on 1",
    );
    assert!(
        said.starts_with("has lost h1, and 1 of its 2 machines fit nowhere"),
        "{said}"
    );
}

#[test]
fn a_place_is_kept_for_machines_that_fell() {
    let mut small = read(LOST);
    let table = |small: &Small| {
        let cluster = &small.view.estate.clusters[&ClusterId(901)];
        Survival::of(&small.view, cluster).table
    };
    let before = table(&small).machines.len();
    proved_off(&mut small);
    assert_eq!(
        table(&small).machines.len(),
        before,
        "they are off, and wanted on"
    );
    assert!(matches!(
        small.view.estate.hosts[&HostId(1)].condition,
        Condition::Off { .. }
    ));
}

proptest! {
    /// A host that is gone and another that fails are two that fail.
    #[test]
    fn what_has_failed_counts_like_what_fails_with_it(table in tables(), gone in 0usize..3, next in 0usize..3) {
        let gone = gone % table.hosts.len();
        let next = next % table.hosts.len();
        prop_assume!(gone != next);
        let both = fail(&table, &[next, gone], Effort::THOROUGH);
        let mut then = table.clone();
        (then.hosts[gone].gone, then.hosts[gone].closed) = (true, Some("lost".into()));
        let after = fail(&then, &[next], Effort::THOROUGH);
        prop_assert_eq!(both.restarted, after.restarted);
        prop_assert_eq!(both.not_restarted, after.not_restarted);
        prop_assert_eq!(after.hosts, vec![next]);
    }
}
