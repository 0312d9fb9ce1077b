//! What an earlier version stored is read as what it was. `stored/version-1.json` was written by that version.

use serde_json::{Value, json};
use zastrugi_core::{
    ids::{Revision, RunId},
    road::Work,
    rooms::{Plan, Proposal, Record, World, upgrade},
    runs::{Phase, RunState},
};

fn stored() -> Value {
    serde_json::from_str(include_str!("../stored/version-1.json")).unwrap()
}

/// A plan of then around what it asked and did.
fn plan(ask: &Value, steps: &[Value]) -> Plan {
    let steps: Vec<_> = steps
        .iter()
        .map(|s| json!({"step": s, "title": "t", "after": [], "field": null}))
        .collect();
    let body = json!({"run": 5, "ask": ask, "revision": 1, "findings": [], "places": [], "fills": [],
        "steps": steps, "time": 0});
    let read = Record::read("plan", 5, Record::RUNS, upgrade::plan(body));
    let Record::Plan(plan) = read.unwrap() else {
        panic!("a plan is a plan");
    };
    Plan::clone(&plan)
}

/// If this fails, a run begun before an upgrade can't go on, or goes on as something else.
#[test]
fn every_step_of_version_1_is_the_same_step_now() {
    let stored = stored();
    let ask = &stored["asks"][0];
    let all = stored["steps"].as_array().unwrap();
    assert_eq!(all.len(), 40);
    for then in all {
        let now = &plan(ask, &[then["step"].clone()]).steps[0].step;
        assert_eq!(now.group(), then["group"], "{then}");
        let locks = serde_json::to_value(now.locks()).unwrap();
        assert_eq!(locks, then["locks"], "{then}");
    }
}

/// If this fails, the page of an old run can't be shown.
#[test]
fn every_proposal_of_version_1_can_be_read_and_asks_for_the_same_permission() {
    let stored = stored();
    let mut read: Vec<Proposal> = Vec::new();
    for then in stored["asks"].as_array().unwrap() {
        let now = plan(then, &[]).ask;
        // Only its place is another: inside the room's tag stands what was inside the old one.
        let kept = serde_json::to_value(&now).unwrap();
        let room = kept.as_object().unwrap().values().next().unwrap();
        let inner = room.as_object().unwrap().values().next().unwrap();
        let before = then.as_object().unwrap().values().next().unwrap();
        assert_eq!(inner, before);
        assert!(!now.acts().is_empty(), "{then}");
        read.push(now);
    }
    assert_eq!(read.len(), 21);
}

#[test]
fn a_run_of_version_1_goes_on_where_it_was() {
    let stored = stored();
    let one = &stored["runs"][0];
    let mut records = upgrade::run(one["run"].clone()).unwrap();
    let body = upgrade::plan(one["plan"].clone());
    records.push(Record::read("plan", 1000, Record::RUNS, body).unwrap());
    assert_eq!(
        records
            .iter()
            .filter(|r| matches!(r, Record::Step(..)))
            .count(),
        2
    );
    let world = World::from_records(Revision(9), records);
    let run = world.runs.get(RunId(1000)).unwrap();
    assert_eq!(run.state, RunState::Running);
    assert_eq!(run.phase(0), Some(Phase::Done));
    assert_eq!(run.phase(1), Some(Phase::Running));
    assert_eq!(
        (run.tally.done, run.tally.running, run.tally.all()),
        (1, 1, 2)
    );
    assert!(world.plans.contains_key(&RunId(1000)));
}

/// If this fails, an older program takes what it can't read for something else.
#[test]
fn what_a_newer_version_stored_is_refused_with_words() {
    for kind in ["plan", "run", "step"] {
        let refused = Record::read(kind, 5, Record::RUNS + 1, Value::Null).unwrap_err();
        assert!(
            refused.to_string().contains("run a newer Zastrugi"),
            "{refused}"
        );
    }
}
