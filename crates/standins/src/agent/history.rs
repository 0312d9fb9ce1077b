//! Which history a caller belongs to: the agent obeys the highest number that it has seen, and of one number only the
//! history that it met first, until a person chooses by beginning a new one.

use super::{change::fenced, refused};
use crate::{fault::Device, world::State};
use axum::{
    extract::State as Extract,
    http::{HeaderMap, StatusCode},
    response::{IntoResponse, Response},
};
use serde::{Deserialize, Serialize};

/// The highest history that gave orders here, with the highest fence in it.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
pub(crate) struct Seen {
    pub(crate) epoch: u64,
    pub(crate) history: String,
    #[serde(default)]
    pub(crate) fence: u64,
}

impl Seen {
    /// Lets a caller's history in, or says why not. A higher one makes all fences of the lower ones void.
    fn admit(&mut self, epoch: u64, history: &str) -> Result<bool, Response> {
        if epoch < self.epoch {
            let words = format!(
                "Orders of history {epoch} are void; {} is the last.",
                self.epoch
            );
            return Err(refused(StatusCode::PRECONDITION_FAILED, "old_epoch", words));
        }
        if epoch == self.epoch && history != self.history {
            let words = "Another history of the same number gives orders here.";
            return Err(refused(StatusCode::CONFLICT, "other_history", words));
        }
        let newer = epoch > self.epoch;
        if newer {
            *self = Seen {
                epoch,
                history: history.to_owned(),
                fence: 0,
            };
        }
        Ok(newer)
    }
}

/// The caller's history: `Epoch: 3.5d1f…`.
fn of(headers: &HeaderMap) -> Option<(u64, String)> {
    let text = headers.get("epoch")?.to_str().ok()?;
    let (number, history) = text.split_once('.')?;
    Some((number.parse().ok()?, history.to_owned()))
}

/// The caller's history is the newest from now on; nothing else is done.
pub(crate) async fn meet(Extract(device): Extract<Device>, headers: HeaderMap) -> Response {
    let met = fenced(&device, &headers, "history", |_, _, _, _| Ok(()));
    device.world.host_changed(&device.name);
    match met {
        Ok(()) => StatusCode::NO_CONTENT.into_response(),
        Err(no) => no,
    }
}

/// Checks the caller's history at the host and at every volume that it mounts.
pub(crate) fn admit(
    state: &mut State,
    host: &str,
    headers: &HeaderMap,
    fence: u64,
) -> Result<(), Response> {
    let Some((epoch, history)) = of(headers) else {
        let words = "Epoch is required.";
        return Err(refused(StatusCode::BAD_REQUEST, "headers", words));
    };
    let State { hosts, volumes, .. } = state;
    let Some(host) = hosts.get_mut(host) else {
        return Ok(());
    };
    for uid in &host.mounted {
        if let Some(volume) = volumes.get_mut(uid)
            && volume.seen.admit(epoch, &history)?
        {
            volume.fences.clear();
        }
    }
    if host.seen.admit(epoch, &history)? {
        host.fence = 0;
        host.fences.clear();
    }
    host.seen.fence = host.seen.fence.max(fence);
    Ok(())
}
