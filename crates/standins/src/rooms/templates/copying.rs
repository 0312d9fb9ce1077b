//! Copies that are under way: each at its host, which shares its rate among them, in virtual time.

use crate::{
    rooms::{machines::guest::whole, moving::copying::rate_of},
    world::State,
};
use serde_json::{Value, json};
use std::collections::BTreeMap;

#[derive(Debug, Clone, PartialEq, Eq)]
enum Stage {
    Running,
    /// All is copied; what it makes is written at the next look.
    There,
    Failed(String),
}

/// A copy, by what it makes: a machine, a version, or the disks of a machine that lay on one.
#[derive(Debug, Clone)]
pub(crate) struct Copying {
    host: String,
    /// Where room is held.
    volume: String,
    bytes: u64,
    left: f64,
    at: i64,
    began: i64,
    stage: Stage,
}

pub(crate) type AllCopying = BTreeMap<String, Copying>;

/// What a look at one says.
pub(crate) enum Look {
    None,
    Running(Value),
    There { copied: u64, took: i64 },
    Failed(Value),
}

pub(crate) fn begin(state: &mut State, id: &str, host: &str, volume: &str, bytes: u64, now: i64) {
    if let Some(volume) = state.volumes.get_mut(volume) {
        volume.incoming.insert(id.to_owned(), bytes);
    }
    let copying = Copying {
        host: host.to_owned(),
        volume: volume.to_owned(),
        bytes,
        left: bytes as f64,
        at: now,
        began: now,
        stage: Stage::Running,
    };
    state.copying.insert(id.to_owned(), copying);
}

/// Ends it, however far it is; its room is free again.
pub(crate) fn end(state: &mut State, id: &str) {
    if let Some(copying) = state.copying.remove(id)
        && let Some(volume) = state.volumes.get_mut(&copying.volume)
    {
        volume.incoming.remove(id);
    }
}

/// A host without power goes on with nothing.
pub(crate) fn lost(state: &mut State, host: &str) {
    fail(state, |c| c.host == host, "the host lost its power");
}

fn fail(state: &mut State, which: impl Fn(&Copying) -> bool, why: &str) {
    let State {
        copying, volumes, ..
    } = state;
    for (id, copy) in copying
        .iter_mut()
        .filter(|(_, c)| c.stage == Stage::Running)
    {
        if which(copy) {
            copy.stage = Stage::Failed(why.to_owned());
            if let Some(volume) = volumes.get_mut(&copy.volume) {
                volume.incoming.remove(id);
            }
        }
    }
}

/// Lets a host's copies go on to this moment, then looks at one; a failed one is told once.
pub(crate) fn look(state: &mut State, id: &str, now: i64) -> Look {
    let Some(host) = state.copying.get(id).map(|c| c.host.clone()) else {
        return Look::None;
    };
    let cut: Vec<String> = state
        .volumes
        .keys()
        .filter(|uid| !state.reaches(&host, uid))
        .cloned()
        .collect();
    fail(
        state,
        |c| c.host == host && cut.contains(&c.volume),
        "the path to its volume is gone",
    );
    go_on(state, &host, now);
    let rate = share(state, &host);
    let Some(copy) = state.copying.get(id) else {
        return Look::None;
    };
    let copied = copy.bytes - whole(copy.left).min(copy.bytes);
    let told = |stage: &str, why: &str| json!({"stage": stage, "why": why, "copied": copied, "left": whole(copy.left), "rate": rate});
    match &copy.stage {
        Stage::Running => Look::Running(told("running", "")),
        Stage::There => Look::There {
            copied: copy.bytes,
            took: copy.at - copy.began,
        },
        Stage::Failed(why) => {
            let said = told("failed", why);
            end(state, id);
            Look::Failed(said)
        }
    }
}

fn share(state: &State, host: &str) -> u64 {
    let all = state.copying.values();
    let running = all.filter(|c| c.host == host && c.stage == Stage::Running);
    rate_of(state, host) / u64::try_from(running.count().max(1)).unwrap_or(1)
}

fn go_on(state: &mut State, host: &str, now: i64) {
    let rate = share(state, host) as f64;
    let mine = state.copying.values_mut().filter(|c| c.host == host);
    for copy in mine.filter(|c| c.stage == Stage::Running) {
        let needs = if rate > 0.0 {
            copy.left / rate * 1000.0
        } else {
            f64::INFINITY
        };
        let had = (now - copy.at).max(0) as f64;
        if needs > had {
            copy.left -= had / 1000.0 * rate;
            copy.at = now;
        } else {
            copy.left = 0.0;
            copy.at += i64::try_from(whole(needs)).unwrap_or(0);
            copy.stage = Stage::There;
        }
    }
}
