//! Arrays and volumes: connecting, extending, bringing back to all hosts, giving up (rules, section 8).

mod array;
mod change;
mod connect;
mod image;

pub(super) use array::connect as connect_array;
pub(super) use change::{extend, give, heal};
pub(super) use connect::connect as connect_volume;
pub(super) use image::{add as add_image, boot as check_boot, remove as remove_image};

use super::draft::Draft;
use crate::{
    estate::{Array, Host, Volume},
    finding::{Finding, Rule},
    ids::{ArrayId, VolumeId},
    plan::Step,
};
use std::sync::Arc;

/// The array, if it is there and answers; else a *stop*.
fn answering<'a>(draft: &mut Draft<'a>, id: ArrayId) -> Option<&'a Arc<Array>> {
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

fn volume<'a>(draft: &mut Draft<'a>, id: VolumeId) -> Option<&'a Arc<Volume>> {
    let found = draft.view.estate.volumes.get(&id);
    if found.is_none() {
        draft.found(Finding::stop(
            Rule::Exists,
            id.to_string(),
            "This volume is gone.",
        ));
    }
    found
}

/// Map and log in, for one host; answers the last of them.
fn reach(
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

fn mount(draft: &mut Draft<'_>, volume: VolumeId, host: &Host, after: &[usize]) -> usize {
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
