//! One run: its steps, its faults, its end.

use super::*;

#[test]
fn steps_go_in_order_and_a_silent_device_is_tried_four_times_with_growing_pauses() {
    let plan = plan(&[vec![], vec![0]]);
    let mut run = a_run(&plan);
    assert_eq!(wants(&tell_run(&mut run, &plan, Input::Start, NOW)), [0]);
    let mut orders = tell_run(
        &mut run,
        &plan,
        Input::Granted {
            step: 0,
            fence: Revision(2),
        },
        NOW,
    );
    let mut pauses = vec![];
    while let Some(Order::Perform { after, .. }) =
        orders.iter().find(|o| matches!(o, Order::Perform { .. }))
    {
        pauses.push(after.0);
        orders = tell_run(
            &mut run,
            &plan,
            Input::Failed {
                step: 0,
                fault: silent(),
            },
            NOW,
        );
    }
    assert_eq!(pauses, [0, 1000, 2000, 4000]);
    assert_eq!(run.step(0).unwrap().attempt, TRIES);
    assert_eq!(run.state, RunState::NeedsYou);
    assert_eq!(
        run.step(0)
            .unwrap()
            .fault
            .as_ref()
            .and_then(|f| f.field.as_deref()),
        Some("host"),
        "the field it comes from"
    );
    assert_eq!(run.phase(1).unwrap(), Phase::Waiting);
}

#[test]
fn a_refusal_is_not_repeated_and_retry_goes_on_from_there() {
    let plan = plan(&[vec![], vec![0]]);
    let mut run = a_run(&plan);
    tell_run(&mut run, &plan, Input::Start, NOW);
    tell_run(
        &mut run,
        &plan,
        Input::Granted {
            step: 0,
            fence: Revision(2),
        },
        NOW,
    );
    tell_run(
        &mut run,
        &plan,
        Input::Succeeded {
            step: 0,
            said: String::new(),
        },
        NOW,
    );
    tell_run(
        &mut run,
        &plan,
        Input::Granted {
            step: 1,
            fence: Revision(3),
        },
        NOW,
    );
    tell_run(
        &mut run,
        &plan,
        Input::Failed {
            step: 1,
            fault: no(),
        },
        NOW,
    );
    assert_eq!(run.state, RunState::NeedsYou);
    assert_eq!(
        wants(&tell_run(&mut run, &plan, Input::Retry, NOW)),
        [1],
        "what is done is not done again"
    );
    tell_run(
        &mut run,
        &plan,
        Input::Granted {
            step: 1,
            fence: Revision(4),
        },
        NOW,
    );
    let orders = tell_run(
        &mut run,
        &plan,
        Input::Succeeded {
            step: 1,
            said: String::new(),
        },
        NOW,
    );
    assert!(orders.contains(&Order::Close));
    assert_eq!(run.state, RunState::Done);
}

#[test]
fn cancelling_stops_before_the_next_step_and_says_what_stays() {
    let plan = plan(&[vec![], vec![0], vec![1]]);
    let mut run = a_run(&plan);
    tell_run(&mut run, &plan, Input::Start, NOW);
    tell_run(
        &mut run,
        &plan,
        Input::Granted {
            step: 0,
            fence: Revision(2),
        },
        NOW,
    );
    assert!(
        !tell_run(&mut run, &plan, Input::Cancel, NOW).contains(&Order::Close),
        "the call under way is waited for"
    );
    let orders = tell_run(
        &mut run,
        &plan,
        Input::Succeeded {
            step: 0,
            said: String::new(),
        },
        NOW,
    );
    assert!(
        orders.contains(&Order::Tell("cancelled; 1 of 3 steps stay done".into())),
        "{orders:?}"
    );
    assert_eq!(run.state, RunState::Cancelled);
    assert_eq!(run.tally.skipped, 2);
}

/// If this fails, a long step ends because of faults that lay hours apart.
#[test]
fn faults_are_counted_anew_after_progress() {
    let plan = plan(&[vec![]]);
    let mut run = a_run(&plan);
    tell_run(&mut run, &plan, Input::Start, NOW);
    tell_run(
        &mut run,
        &plan,
        Input::Granted {
            step: 0,
            fence: Revision(2),
        },
        NOW,
    );
    for _ in 0..20 {
        for _ in 0..TRIES - 1 {
            tell_run(
                &mut run,
                &plan,
                Input::Failed {
                    step: 0,
                    fault: silent(),
                },
                NOW,
            );
        }
        tell_run(
            &mut run,
            &plan,
            Input::NotYet {
                step: 0,
                said: "5 %".into(),
            },
            NOW,
        );
        assert_eq!(run.phase(0), Some(Phase::Running));
    }
}

/// If this fails, "not created" is said of what a device may have made: its last word was that it is away.
#[test]
fn only_the_devices_own_no_settles_what_an_unanswered_call_left_open() {
    let fault = |kind| Fault::new(kind, "", "");
    for (last, open) in [
        (FaultKind::Unreachable, true),
        (FaultKind::Stale, true),
        (FaultKind::Premise, true),
        (FaultKind::Ours, true),
        (FaultKind::TimedOut, true),
        (FaultKind::Refused, false),
    ] {
        let after = fault(last).after(Some(&fault(FaultKind::TimedOut)));
        assert_eq!(after.leaves_open(), open, "{last:?}");
        let again = fault(FaultKind::Unreachable).after(Some(&after));
        assert_eq!(again.leaves_open(), open, "{last:?} in between");
    }
    assert!(!fault(FaultKind::Unreachable).after(None).leaves_open());
}

/// If this fails, a step is said to be left out although an earlier call may have had its effect.
#[test]
fn what_an_earlier_attempt_left_open_is_not_said_to_be_undone() {
    let plan = plan(&[vec![]]);
    let mut run = a_run(&plan);
    tell_run(&mut run, &plan, Input::Start, NOW);
    tell_run(
        &mut run,
        &plan,
        Input::Granted {
            step: 0,
            fence: Revision(2),
        },
        NOW,
    );
    let unsent = Input::Unsent { step: 0 };
    assert_eq!(
        tell_run(&mut run, &plan, unsent.clone(), NOW),
        vec![],
        "nobody gave it up"
    );
    for _ in 0..TRIES {
        tell_run(
            &mut run,
            &plan,
            Input::Failed {
                step: 0,
                fault: silent(),
            },
            NOW,
        );
    }
    tell_run(&mut run, &plan, Input::Retry, NOW);
    tell_run(
        &mut run,
        &plan,
        Input::Granted {
            step: 0,
            fence: Revision(3),
        },
        NOW,
    );
    tell_run(&mut run, &plan, Input::Cancel, NOW);
    tell_run(&mut run, &plan, unsent, NOW);
    assert_eq!(run.phase(0), Some(Phase::Failed));
    assert_eq!(
        run.step(0).unwrap().fault,
        Some(Fault {
            field: Some("host".into()),
            ..silent()
        })
    );
}
