//! What connecting, extending, healing and giving up have in common (rules, section 8).

use super::{Draft, Step};
use crate::{
    estate::{Array, Host},
    finding::{Finding, Rule},
    ids::{ArrayId, VolumeId},
};
use std::sync::Arc;

/// The array, if it is there and answers; else a *stop*.
pub(super) fn answering<'a>(draft: &mut Draft<'a>, id: ArrayId) -> Option<&'a Arc<Array>> {
    let found = draft.view.estate.arrays.get(&id);
    match found {
        None => {
            draft.found(Finding::stop(Rule::Exists, "array", "This array is gone.").at("array"));
        }
        Some(array) if !array.answers() => draft.found(
            Finding::stop(
                Rule::Reachable,
                &array.name,
                format!("{} does not answer.", array.name),
            )
            .at("array")
            .remedy("Look at its management addresses first."),
        ),
        Some(array) => {
            for dead in array.silent() {
                let text = format!("{} answers only by its other controller.", array.name);
                let why = dead.silent.clone().unwrap_or_default();
                draft.found(
                    Finding::mind(Rule::Reachable, &dead.address, text)
                        .because(format!("{}: {why}", dead.address)),
                );
            }
        }
    }
    found.filter(|a| a.answers())
}

/// Map and log in, for one host; answers the last of them.
pub(super) fn reach(
    draft: &mut Draft<'_>,
    array: ArrayId,
    volume: VolumeId,
    host: &Host,
    after: &[usize],
) -> usize {
    let map = Step::Map {
        array,
        volume,
        host: host.id,
    };
    let mapped = draft.step(
        map,
        format!("Let {} reach it", host.name),
        after,
        Some("hosts"),
    );
    let log_in = Step::LogIn {
        array,
        host: host.id,
    };
    draft.step(
        log_in,
        format!("{} logs in on all portals", host.name),
        &[mapped],
        Some("hosts"),
    )
}

pub(super) fn mount(draft: &mut Draft<'_>, volume: VolumeId, host: &Host, after: &[usize]) -> usize {
    let step = Step::Mount {
        volume,
        host: host.id,
    };
    draft.step(
        step,
        format!("{} mounts it", host.name),
        after,
        Some("hosts"),
    )
}
