//! Runs beside each other: who waits for whom.

use super::*;

#[test]
fn a_second_run_waits_names_the_first_and_is_looked_at_again_at_its_turn() {
    let mut small = read("cluster a\nhost 1 64\nmachine 7 db 8 on 1");
    let (first, orders) = start(&mut small, &stop(7));
    assert_eq!(orders, [0]);
    let (second, orders) = start(
        &mut small,
        &Proposal::Machines(machines::Ask::Power {
            machines: vec![MachineId(7)],
            act: PowerAct::Off,
        }),
    );
    assert_eq!(orders, Vec::<usize>::new(), "it waits");
    assert!(
        matches!(small.view.runs.get(second).unwrap().phase(0).unwrap(), Phase::Queued { behind, .. } if behind == first)
    );
    // The first asked; between its steps the one that waits longer is served.
    let events = small.tell(first, done(0));
    let ordered: Vec<RunId> = events
        .iter()
        .filter_map(|e| match e {
            Event::Work(RunEvent::Ordered { run, .. }) => Some(*run),
            _ => None,
        })
        .collect();
    assert_eq!(ordered, [second], "nobody overtakes");
    let mut estate_now = estate(&small).clone();
    estate_now.absorb(&Event::Machines(machines::Event::Purged {
        machine: MachineId(7),
    }));
    small.view = small.view.with(estate_now);
    tell(
        &mut small,
        second,
        Input::Succeeded {
            step: 0,
            said: String::new(),
        },
    );
    let run = small.view.runs.get(first).unwrap();
    assert_eq!(run.phase(1), Some(Phase::Failed));
    assert_eq!(
        run.step(1).unwrap().fault.as_ref().map(|f| f.kind),
        Some(FaultKind::Premise),
        "the machine is gone: nothing is ordered"
    );
}

#[test]
fn shared_locks_go_together_and_an_exclusive_one_waits_for_both() {
    let mut small =
        read("cluster a\nhost 1 64\nhost 2 64\nmachine 7 db 8 off\nmachine 8 web 8 off");
    let on = |id, host| {
        Proposal::Machines(machines::Ask::Power {
            machines: vec![MachineId(id)],
            act: PowerAct::On {
                host: Some(HostId(host)),
            },
        })
    };
    let (_, a) = start(&mut small, &on(7, 1));
    let (_, b) = start(&mut small, &on(8, 1));
    assert_eq!(
        (a, b),
        (vec![0], vec![0]),
        "two machines start on one host at the same time"
    );
    let ask = Proposal::Hosts(hosts::Ask::HandBack {
        hosts: vec![HostId(2)],
    });
    let (_, c) = start(&mut small, &ask);
    assert_eq!(c, [0], "another host is free");
}

/// If this fails, a queued step that somebody else has made needless waits for a person.
#[test]
fn a_queued_step_whose_goal_is_reached_by_its_turn_is_done() {
    let mut small = read("cluster a\nhost 1 64\nmachine 7 db 8 on 1");
    let off = Proposal::Machines(machines::Ask::Power {
        machines: vec![MachineId(7)],
        act: PowerAct::Off,
    });
    let (first, orders) = start(&mut small, &off);
    assert_eq!(orders, [0]);
    let (second, orders) = start(&mut small, &off);
    assert_eq!(orders, Vec::<usize>::new(), "it stands in line");
    let seen = machines::Event::Seen {
        machine: MachineId(7),
        state: zastrugi_core::estate::MachineState::Off,
        host: None,
        generation: 0,
        as_of: None,
    };
    small.fold(&[seen.into()]);
    tell(&mut small, first, done(0));
    assert!(
        small.view.runs.get(second).is_none(),
        "done, without telling any device"
    );
    assert!(small.view.runs.is_empty());
}

/// If this fails, a run that was stopped begins something after all, as soon as others make room.
#[test]
fn a_cancelled_run_leaves_the_line_and_lets_others_pass() {
    let mut small = read("cluster a\nhost 1 64\nmachine 7 db 8 on 1");
    let (first, _) = start(&mut small, &stop(7));
    let off = Proposal::Machines(machines::Ask::Power {
        machines: vec![MachineId(7)],
        act: PowerAct::Off,
    });
    let (second, _) = start(&mut small, &off);
    let (third, orders) = start(&mut small, &off);
    assert_eq!(orders, Vec::<usize>::new());
    assert_eq!(tell(&mut small, second, Input::Cancel), Vec::<usize>::new());
    assert!(
        small.view.runs.get(second).is_none(),
        "nothing of it was begun: it is over"
    );
    let events = small.tell(first, done(0));
    assert_eq!(ordered(&events, second), Vec::<usize>::new());
    assert_eq!(ordered(&events, third), [0], "the next in line goes on");
}
