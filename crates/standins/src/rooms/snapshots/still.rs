//! File systems of several machines that stand still at once: each is told by its own host, and says at the end whether it held.

use super::going::{No, freeze as quieted, home};
use crate::{rooms::machines::guest::Still, world::State};
use serde_json::{Value, json};

/// Nobody's file systems stand still longer, in milliseconds.
const MOST: i64 = 60_000;

/// Whether they have stood still for this since it was asked for; of a machine that is off nothing moves.
pub(super) fn holds(state: &State, host: &str, (uuid, id): (&str, &str), now: i64) -> bool {
    let guest = state.hosts.get(host).and_then(|h| h.guests.get(uuid));
    let Some(guest) = guest else { return true };
    let answers = guest.hung.is_none() && guest.mute.is_none();
    guest
        .still
        .as_ref()
        .is_some_and(|s| s.id == id && now < s.until && answers)
}

pub(super) fn freeze(
    state: &mut State,
    host: &str,
    (uuid, id): (&str, &str),
    for_ms: i64,
    now: i64,
) -> Result<Value, No> {
    let uid = home(state, host, uuid)?;
    if !(1..=MOST).contains(&for_ms) {
        let words = format!("File systems stand still for 1 to {MOST} ms.");
        return Err(("wrong", words));
    }
    let on = state
        .hosts
        .get(host)
        .is_some_and(|h| h.guests.contains_key(uuid));
    if !on {
        return Ok(json!({"stage": "still", "off": true, "why": ""}));
    }
    if holds(state, host, (uuid, id), now) {
        return Ok(json!({"stage": "still", "off": false, "why": ""}));
    }
    match quieted(state, host, uuid, &uid, now) {
        Ok(_) => {}
        Err((code, words)) => {
            return Ok(json!({"stage": "failed", "code": code, "why": words}));
        }
    }
    let guest = state
        .hosts
        .get_mut(host)
        .and_then(|h| h.guests.get_mut(uuid));
    let Some(guest) = guest else {
        return Err(("off", "The machine is off.".into()));
    };
    let other = |s: &Still| s.id != id && now < s.until;
    if guest.still.as_ref().is_some_and(other) || guest.frozen.is_some() {
        return Err((
            "busy",
            "Its file systems stand still for somebody else.".into(),
        ));
    }
    guest.still = Some(Still {
        id: id.to_owned(),
        until: now.saturating_add(for_ms),
    });
    Ok(json!({"stage": "still", "off": false, "why": ""}))
}

pub(super) fn thaw(
    state: &mut State,
    host: &str,
    (uuid, id): (&str, &str),
    now: i64,
) -> Result<Value, No> {
    home(state, host, uuid)?;
    let held = holds(state, host, (uuid, id), now);
    let guest = state
        .hosts
        .get_mut(host)
        .and_then(|h| h.guests.get_mut(uuid));
    if let Some(guest) = guest
        && guest.still.as_ref().is_some_and(|s| s.id == id)
    {
        guest.still = None;
    }
    Ok(json!({"held": held}))
}
