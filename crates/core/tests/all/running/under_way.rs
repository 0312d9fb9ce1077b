//! What a device goes on with by itself: its silence is not the end of it.

use super::*;
use zastrugi_core::runs::Tail;

/// A move of machine 7 that its source took and then fell silent about, and a stop of the machine behind it.
fn silent_move() -> (Small, RunId, RunId) {
    let mut small = crate::moving::fixture(10_000, 100);
    let (moves, orders) = start(&mut small, &crate::moving::go(&[7], |_| {}));
    assert_eq!(orders, [0]);
    let (stops, orders) = start(&mut small, &stop(7));
    assert_eq!(orders, Vec::<usize>::new(), "the move has it");
    fall_silent(&mut small, moves);
    (small, moves, stops)
}

fn fall_silent(small: &mut Small, run: RunId) {
    for _ in 0..TRIES {
        let failed = Input::Failed {
            step: 0,
            fault: silent(),
        };
        tell(small, run, failed);
    }
}

fn state(small: &Small, run: RunId) -> RunState {
    small
        .view
        .runs
        .get(run)
        .map_or(RunState::Cancelled, |r| r.state)
}

fn waits(small: &Small, run: RunId) -> bool {
    let phase = small.view.runs.get(run).and_then(|r| r.phase(0));
    matches!(phase, Some(Phase::Queued { .. }))
}

/// If this fails, somebody stops or changes a machine that its source is still sending, because nobody heard from it.
#[test]
fn a_move_that_nobody_hears_of_keeps_its_machine_until_its_source_says_that_it_stopped() {
    let (mut small, moves, stops) = silent_move();
    assert_eq!(state(&small, moves), RunState::NeedsYou);
    assert!(waits(&small, stops));
    assert!(small.view.runs.holds(Object::Machine(MachineId(7))));
    assert_eq!(
        tell(&mut small, moves, Input::Cancel),
        [0],
        "its source is told"
    );
    assert_eq!(state(&small, moves), RunState::Cancelling);
    assert!(waits(&small, stops));
    let stopped = Input::NotYet {
        step: 0,
        said: "cancelled; the machine stays here".into(),
    };
    tell(&mut small, moves, stopped);
    assert_eq!(state(&small, moves), RunState::Cancelled);
    assert!(!waits(&small, stops), "now it is its turn");
}

/// If this fails, a machine whose source is dead for good is nobody's for ever; or the first cancel gives it free unasked.
#[test]
fn a_source_that_never_answers_is_given_up_by_a_second_word() {
    let (mut small, moves, stops) = silent_move();
    tell(&mut small, moves, Input::Cancel);
    fall_silent(&mut small, moves);
    assert_eq!(
        state(&small, moves),
        RunState::NeedsYou,
        "it has not said that it stopped"
    );
    let fault = small
        .view
        .runs
        .get(moves)
        .unwrap()
        .step(0)
        .unwrap()
        .fault
        .clone()
        .unwrap();
    assert!(
        fault.remedy.contains("cancelling once more"),
        "{}",
        fault.remedy
    );
    assert!(waits(&small, stops));
    assert_eq!(tell(&mut small, moves, Input::Retry), [0], "told once more");
    assert_eq!(state(&small, moves), RunState::Cancelling);
    fall_silent(&mut small, moves);
    assert!(waits(&small, stops));
    tell(&mut small, moves, Input::Cancel);
    assert_eq!(state(&small, moves), RunState::Cancelled);
    assert!(!waits(&small, stops));
}

/// If this fails, retry stands in line behind somebody who waits for the very thing that it holds: both wait for ever.
#[test]
fn retry_goes_on_with_what_it_held_all_along() {
    let (mut small, moves, stops) = silent_move();
    assert_eq!(tell(&mut small, moves, Input::Retry), [0]);
    assert_eq!(state(&small, moves), RunState::Running);
    tell(&mut small, moves, done(0));
    assert_eq!(
        state(&small, moves),
        RunState::Cancelled,
        "done runs are no longer open"
    );
    assert!(!waits(&small, stops));
}

/// If this fails, what its device refused in so many words holds its machine as if it went on.
#[test]
fn a_plain_no_ends_it() {
    let (mut small, moves, stops) = silent_move();
    tell(&mut small, moves, Input::Retry);
    tell(
        &mut small,
        moves,
        Input::Failed {
            step: 0,
            fault: no(),
        },
    );
    assert_eq!(state(&small, moves), RunState::NeedsYou);
    let left = small.view.runs.get(moves).unwrap().step(0).unwrap();
    assert_eq!(left.tail, Tail::None);
    assert!(!waits(&small, stops));
}

/// If this fails, a move whose source was out of reach for a second is said to be given up before anybody was told, while
/// its source goes on sending.
#[test]
fn what_went_on_before_one_silence_is_told_to_stop_too() {
    let mut small = crate::moving::fixture(10_000, 100);
    let (moves, _) = start(&mut small, &crate::moving::go(&[7], |_| {}));
    let fault = Fault::new(FaultKind::Unreachable, "can't be reached", "wait");
    tell(&mut small, moves, Input::Failed { step: 0, fault });
    let state = |small: &Small| small.view.runs.get(moves).unwrap().step(0).unwrap().clone();
    assert_eq!(state(&small).phase, Phase::Running);
    assert_eq!(state(&small).tail, Tail::GoesOn, "the next order tells it");
    let got_on = Input::NotYet {
        step: 0,
        said: "round 2".into(),
    };
    tell(&mut small, moves, got_on);
    assert_eq!(state(&small).tail, Tail::None);
}
