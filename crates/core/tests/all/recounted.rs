//! What a guard's notes mean for the estate: failures open, tell and close; machines fall; runs are pre-empted.

use std::sync::Arc;
use zastrugi_core::{
    estate::{
        Act, Condition, Fact, Failure, FailureStage, HostNet, Lack, Machine, MachineState, Nic,
        Uplink, Wanted,
    },
    guard::{Note, Plan, Proof, Stamp},
    ids::{ClusterId, HostId, MachineId, NetworkId},
    moment::{Moment, Span},
    recounting::{is_over, recount},
    rooms::{
        Event, Plans, Proposal,
        machines::{self, PowerAct},
    },
    testkit::{self, Small, read},
};

const TWO: &str = "cluster eider\nhost 1 256\nhost 2 256\nhost 3 256
    machine 7 db 64 on 1 tier=1\nmachine 8 web 16 on 1 tier=3\nmachine 9 idle 16 on 1 unprotected\nmachine 10 dns 8 on 2";
const EIDER: ClusterId = ClusterId(901);
const ONE: HostId = HostId(1);

fn cluster(small: &Small) -> ClusterId {
    small
        .view
        .estate
        .clusters
        .keys()
        .next()
        .copied()
        .unwrap_or(EIDER)
}

fn tell(small: &mut Small, note: &Note, at: i64) -> Vec<Event> {
    let events = recount(
        &small.view,
        &Plans::default(),
        cluster(small),
        note,
        Moment(at),
    );
    small.fold(&events);
    events
}

fn judged(act: Act) -> Note {
    Note::Judged {
        host: ONE,
        since: Moment(1000),
        evidence: "not heard for 15 s".into(),
        act,
    }
}

fn fenced() -> Note {
    Note::Fenced {
        host: ONE,
        proof: Proof::Controller,
    }
}

fn failure(small: &Small) -> Failure {
    let all = &small.view.estate.failures;
    Failure::clone(all.values().next_back().unwrap())
}

fn starts(machine: u64) -> Note {
    Note::Starts {
        machine: MachineId(machine),
        from: ONE,
        to: HostId(2),
    }
}

fn up(machine: u64) -> Note {
    Note::Up {
        machine: MachineId(machine),
        from: ONE,
        on: HostId(2),
        took: Span::secs(5),
    }
}

fn alter(small: &mut Small, machine: u64, change: impl FnOnce(&mut Machine)) {
    small.alter(|e| {
        let mut m = (*e.machines[&MachineId(machine)]).clone();
        change(&mut m);
        e.put(Fact::Machine(m.into()));
    });
}

fn runs(small: &mut Small, machine: u64, state: MachineState) {
    alter(small, machine, |m| {
        m.fell = None;
        m.state = state;
        m.host = Some(HostId(2));
    });
}

/// If this fails, the story leaves out who was on the host, or what became of them.
#[test]
fn a_failure_is_one_story_from_the_verdict_to_the_last_machine_up() {
    let mut small = read(TWO);
    tell(&mut small, &judged(Act::Prove), 20_000);
    let begun = failure(&small);
    assert_eq!(
        (begun.since, &begun.stage),
        (Moment(1000), &FailureStage::Judged(Act::Prove))
    );
    let names: Vec<&str> = begun.machines.iter().map(|m| m.name.as_str()).collect();
    assert_eq!(names, ["db", "idle", "web"], "by tier");
    assert!(begun.machines[1].why.contains("nobody asked"));
    assert!(begun.foretold.is_some_and(|f| f > Span::secs(20)));

    tell(&mut small, &fenced(), 24_000);
    let estate = &small.view.estate;
    assert!(matches!(
        estate.hosts[&ONE].condition,
        Condition::Off { .. }
    ));
    let fell: Vec<u64> = estate.machines_fallen().map(|m| m.id.0).collect();
    assert_eq!(fell, [7, 8, 9], "all that ran there is off");
    assert_eq!(failure(&small).fenced, Some(Moment(24_000)));
    assert!(failure(&small).on_word);

    tell(&mut small, &starts(7), 25_000);
    tell(&mut small, &up(7), 30_000);
    runs(&mut small, 7, MachineState::Running { guest: true });
    // The next one already boots, and nobody has said so yet.
    runs(&mut small, 8, MachineState::Starting("kernel".into()));
    alter(&mut small, 9, |m| (m.fell, m.wanted) = (None, Wanted::Off));
    let at = Moment(31_000);
    assert!(
        !is_over(&small.view, &failure(&small), at),
        "web is on its way"
    );
    tell(&mut small, &starts(8), 31_000);
    runs(&mut small, 8, MachineState::Running { guest: true });
    assert!(
        !is_over(&small.view, &failure(&small), at),
        "that it is up is about to be said"
    );
    tell(&mut small, &up(8), 40_000);
    assert!(is_over(&small.view, &failure(&small), Moment(40_000)));
    let told = failure(&small);
    assert_eq!(told.took(), Some((Span(29_000), Span(39_000))));
    assert_eq!(
        small.view.estate.failures.len(),
        1,
        "one failure, one story"
    );
}

/// If this fails, a failure that nobody ended stays on the page for ever.
#[test]
fn a_host_that_is_heard_again_ends_its_story_whoever_says_so() {
    let mut small = read(TWO);
    let cut = Note::CutOff {
        host: ONE,
        since: Moment(1000),
    };
    tell(&mut small, &cut, 20_000);
    assert_eq!(failure(&small).stage, FailureStage::CutOff);
    assert!(
        is_over(&small.view, &failure(&small), Moment(21_000)),
        "its reports come, by what the estate says"
    );
    small.alter_host(1, |h| {
        h.condition = Condition::Lost {
            since: Moment(1000),
            why: "silent".into(),
        };
    });
    assert!(!is_over(&small.view, &failure(&small), Moment(21_000)));
    assert!(failure(&small).waits().is_none());
    tell(&mut small, &Note::Back { host: ONE }, 22_000);
    assert_eq!(
        (failure(&small).stage, failure(&small).ended),
        (FailureStage::Over, Some(Moment(22_000)))
    );
    let nothing = tell(&mut small, &Note::Back { host: ONE }, 23_000);
    assert_eq!(nothing, [], "nothing is told of what was never opened");
}

/// If this fails, a second failure of a host is told in the story of its first, without the machines that it takes down.
#[test]
fn a_host_that_came_back_and_fails_again_has_another_story() {
    let mut small = read(TWO);
    tell(&mut small, &judged(Act::Prove), 20_000);
    tell(&mut small, &fenced(), 24_000);
    let first = failure(&small).id;
    tell(&mut small, &judged(Act::SwitchOff), 90_000);
    let second = failure(&small);
    assert_ne!(second.id, first);
    assert_eq!(second.stage, FailureStage::Judged(Act::SwitchOff));
    assert_eq!(
        second.machines.len(),
        3,
        "those that are still down are told of on"
    );
    let old = &small.view.estate.failures[&first];
    assert_eq!(
        (&old.stage, old.ended),
        (&FailureStage::Over, Some(Moment(90_000)))
    );
}

/// If this fails, what waits for a person is hidden, or a person's word is not taken.
#[test]
fn what_waits_for_a_person_says_why_and_goes_on_when_they_declare_it_off() {
    let mut small = read(TWO);
    tell(&mut small, &judged(Act::AskPerson), 20_000);
    let waits = Note::Waits {
        host: ONE,
        why: "no watchdog of it is armed".into(),
    };
    tell(&mut small, &waits, 20_100);
    assert_eq!(failure(&small).waits(), Some("no watchdog of it is armed"));
    small.fold(&[Event::Hosts(zastrugi_core::rooms::hosts::Event::Off {
        host: ONE,
        at: Moment(50_000),
        proof: "a person declared so".into(),
    })]);
    assert_eq!(failure(&small).stage, FailureStage::Fenced);
    assert!(
        failure(&small)
            .lines
            .iter()
            .any(|l| l.text.contains("a person declared so"))
    );
}

/// If this fails, a run that spoke to the dead host holds its machine, and nobody can start it elsewhere.
#[test]
fn runs_that_hold_what_the_host_had_are_preempted_and_can_be_gone_on_with() {
    let mut small = read(TWO);
    let ask = Proposal::Machines(machines::Ask::Power {
        machines: vec![MachineId(7)],
        act: PowerAct::Off,
    });
    let (run, _) = small.begin(crate::put(&small, &ask).accept().unwrap());
    assert!(
        small
            .view
            .runs
            .holds(zastrugi_core::runs::Object::Machine(MachineId(7)))
    );
    let plans = small.plans.clone();
    let events = recount(
        &small.view,
        &plans,
        cluster(&small),
        &fenced(),
        Moment(30_000),
    );
    small.fold(&events);
    assert!(
        !small
            .view
            .runs
            .holds(zastrugi_core::runs::Object::Machine(MachineId(7)))
    );
    let stopped = small.view.runs.get(run).unwrap();
    assert_eq!(stopped.state, zastrugi_core::runs::RunState::NeedsYou);
    let said = stopped.steps().find_map(|s| s.fault.clone()).unwrap().said;
    assert!(said.contains("has failed"), "{said}");
}

/// If this fails, the guard acts where somebody said that it shall not, or starts what shall be off.
#[test]
fn a_plan_names_only_what_shall_come_back_and_nothing_where_that_was_switched_off() {
    let mut small = read(TWO);
    let plan = |small: &Small| {
        let c = small.view.estate.clusters[&cluster(small)].clone();
        Plan::of(&small.view, &c, Stamp(1, 1), Moment(50_000))
    };
    let all = plan(&small);
    assert_eq!(all.wards.len(), 3);
    let named: Vec<u64> = all.charges.keys().map(|m| m.0).collect();
    assert_eq!(named, [7, 8, 10], "not the one that nobody wants elsewhere");
    alter(&mut small, 8, |m| m.wanted = Wanted::Off);
    assert!(!plan(&small).charges.contains_key(&MachineId(8)));
    small.alter_host(3, |h| {
        h.condition = Condition::Stranger {
            since: Moment(1),
            pin: String::new(),
        };
    });
    assert_eq!(
        plan(&small).wards.len(),
        2,
        "a changed certificate never fences"
    );
    tell(&mut small, &judged(Act::SwitchOff), 20_000);
    assert_eq!(
        plan(&small).wards[&ONE].judged,
        Some(Act::SwitchOff),
        "whoever takes over goes on with it"
    );
    tell(&mut small, &fenced(), 24_000);
    let after = plan(&small);
    assert!(after.wards[&ONE].off && after.charges[&MachineId(7)].fallen);
    assert_eq!(after.on_word, [Span(26_000)]);
    let id = cluster(&small);
    small.alter(|e| {
        let mut c = (*e.clusters[&id]).clone();
        c.recovers = false;
        e.put(Fact::Cluster(c.into()));
    });
    assert!(plan(&small).wards.is_empty() && plan(&small).charges.is_empty());
}

/// If this fails, a story of machines that lack their networks has machines in it that lack nothing, or ends before they have left.
#[test]
fn a_story_of_machines_that_lack_something_names_those_alone_and_ends_when_none_lacks_it_there() {
    let mut small = read(TWO);
    let first = MachineId(8);
    let crew = testkit::network(NetworkId(800), "crew");
    small.alter(|e| e.put(Fact::Network(Arc::new(crew))));
    small.alter_host(ONE.0, |h| {
        h.uplinks = vec![Uplink {
            name: "uplink-1".into(),
            mac: String::new(),
            mbit: 10_000,
            up: false,
            switch: String::new(),
            port: String::new(),
        }];
        let net = HostNet {
            vlan: None,
            mtu: 1500,
            uplinks: ["uplink-1".to_owned()].into(),
        };
        h.networks.insert("crew".into(), net);
    });
    alter(&mut small, first.0, |m| {
        m.nics = vec![Nic {
            mac: String::new(),
            network: Some(NetworkId(800)),
            addresses: vec![],
        }];
    });
    let note = Note::Lacks {
        host: ONE,
        since: Moment(0),
        lack: Lack::Networks,
        evidence: "no link".into(),
    };
    tell(&mut small, &note, 15_000);
    let story = failure(&small);
    assert!(story.ailed);
    let named: Vec<_> = story.machines.iter().map(|m| m.machine).collect();
    assert_eq!(named, [first]);
    let over = |small: &Small| is_over(&small.view, &failure(small), Moment(60_000));
    assert!(!over(&small), "it is still there");
    alter(&mut small, first.0, |m| m.host = Some(HostId(2)));
    assert!(over(&small), "it has left");
}
