//! Runs and plans as they were stored before there were rooms (version 1), brought to the form of now.

use super::stored::Record;
use crate::{
    ids::RunId,
    runs::{Run, StepState, Tally},
};
use serde_json::{Map, Value};

/// (tag of then, room, tag of now) of every proposal.
const ASKS: &[(&str, &str, &str)] = &[
    ("claim_hosts", "hosts", "claim"),
    ("hand_back", "hosts", "hand_back"),
    ("create_cluster", "clusters", "create"),
    ("create_machines", "machines", "create"),
    ("power", "machines", "power"),
    ("delete", "machines", "delete"),
    ("recover", "machines", "recover"),
    ("purge", "machines", "purge"),
    ("move", "moving", "move"),
    ("connect_array", "storage", "connect_array"),
    ("connect_volume", "storage", "connect_volume"),
    ("heal_volume", "storage", "heal_volume"),
    ("extend_volume", "storage", "extend_volume"),
    ("give_volume", "storage", "give_volume"),
    ("add_image", "images", "add"),
    ("remove_image", "images", "remove"),
    ("connect_switch", "networks", "connect_switch"),
    ("create_network", "networks", "create"),
    ("heal_network", "networks", "heal"),
    ("remove_network", "networks", "remove"),
    ("edit", "edits", "edit"),
    ("edit_hosts", "edits", "hosts"),
];

/// The same of every step.
const STEPS: &[(&str, &str, &str)] = &[
    ("claim", "hosts", "claim"),
    ("leave", "hosts", "leave"),
    ("release", "hosts", "release"),
    ("verify", "clusters", "verify"),
    ("join", "clusters", "join"),
    ("cluster_ready", "clusters", "ready"),
    ("read_array", "storage", "read_array"),
    ("make_lun", "storage", "make_lun"),
    ("grow_lun", "storage", "grow_lun"),
    ("map", "storage", "map"),
    ("unmap", "storage", "unmap"),
    ("log_in", "storage", "log_in"),
    ("prepare", "storage", "prepare"),
    ("mount", "storage", "mount"),
    ("unmount", "storage", "unmount"),
    ("fill", "storage", "fill"),
    ("disown", "storage", "disown"),
    ("volume_ready", "storage", "volume_ready"),
    ("volume_gone", "storage", "volume_gone"),
    ("make_image", "images", "make"),
    ("await_image", "images", "await"),
    ("seal_image", "images", "seal"),
    ("drop_image", "images", "drop"),
    ("read_switch", "networks", "read_switch"),
    ("set_network", "networks", "set"),
    ("drop_network", "networks", "drop"),
    ("network_ready", "networks", "ready"),
    ("network_gone", "networks", "gone"),
    ("create", "machines", "create"),
    ("start", "machines", "start"),
    ("await_guest", "machines", "await_guest"),
    ("ask_stop", "machines", "ask_stop"),
    ("await_off", "machines", "await_off"),
    ("off", "machines", "off"),
    ("delete", "machines", "delete"),
    ("recover", "machines", "recover"),
    ("purge", "machines", "purge"),
    ("move", "moving", "move"),
    ("move_disks", "moving", "move_disks"),
    ("rewrite", "edits", "rewrite"),
];

/// `{"create_machines": {…}}` becomes `{"machines": {"create": {…}}}`. What is not known stays, and is said when it is read.
fn housed(value: Value, table: &[(&str, &str, &str)]) -> Value {
    let Value::Object(mut tagged) = value else {
        return value;
    };
    let known = table.iter().find(|(then, ..)| tagged.contains_key(*then));
    let Some((then, room, now)) = known else {
        return Value::Object(tagged);
    };
    let inner = tagged.remove(*then).unwrap_or_default();
    let inside = Map::from_iter([((*now).to_owned(), inner)]);
    Value::Object(Map::from_iter([((*room).to_owned(), inside.into())]))
}

/// A plan of version 1.
pub fn plan(mut body: Value) -> Value {
    if let Some(ask) = body.get_mut("ask") {
        *ask = housed(ask.take(), ASKS);
    }
    let steps = body.get_mut("steps").and_then(Value::as_array_mut);
    for planned in steps.into_iter().flatten() {
        if let Some(step) = planned.get_mut("step") {
            *step = housed(step.take(), STEPS);
        }
    }
    body
}

/// A run of version 1, with the rows of its steps.
///
/// # Errors
/// serde's, where a body is not what version 1 wrote.
pub fn run(mut body: Value) -> Result<Vec<Record>, serde_json::Error> {
    let steps = body.get_mut("steps").map(Value::take).unwrap_or_default();
    let steps: Vec<StepState> = serde_json::from_value(steps)?;
    let blank = Tally {
        waiting: steps.len(),
        ..Tally::default()
    };
    body["tally"] = serde_json::to_value(blank)?;
    let mut run: Run = serde_json::from_value(body)?;
    run.untouched();
    let id: RunId = run.id;
    let mut records = Vec::new();
    for (n, state) in steps.into_iter().enumerate() {
        if state != StepState::waiting() {
            run.set(n, state.clone());
            records.push(Record::Step(id, n, Box::new(state)));
        }
    }
    records.push(Record::Run(run.into()));
    Ok(records)
}
