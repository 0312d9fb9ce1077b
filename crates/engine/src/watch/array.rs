//! Arrays and filers, asked every ten seconds: their pools fill, their controllers fall silent and come back.

use crate::{
    desk::{By, Wish, start_as},
    scribe::{Decision, Guard, Scribe, Sight},
    shared::{Shared, now},
};
use std::{sync::Arc, time::Duration};
use tokio::time::sleep;
use zastrugi_core::rooms::storage;
use zastrugi_core::{
    estate::{Array, ArrayCondition, Served},
    ids::{ArrayId, VolumeId, draw_uuid},
    permits::{Permits, Role, Who},
    rooms::{Event, Proposal, arrays},
    view::View,
};
use zastrugi_store::Held;

const PAUSE: Duration = Duration::from_secs(10);
/// A silence is noted when it lasted for this many questions.
const PATIENCE: u32 = 2;
/// Sets these requests apart from all others that are drawn.
const WITHDRAWAL: u64 = 0x7769_7468_6472_6177;
const AGAIN: Duration = Duration::from_secs(2);

pub(super) struct ArrayEye {
    pub(super) shared: Arc<Shared>,
    pub(super) scribe: Scribe,
    pub(super) held: Held,
    pub(super) array: ArrayId,
}

impl ArrayEye {
    pub(super) async fn follow(self) {
        let mut silences = 0;
        loop {
            let estate = self.shared.estate();
            let Some(array) = estate.arrays.get(&self.array).cloned() else {
                return;
            };
            if array.answers() {
                self.withdraw(&array).await;
            }
            let seen = self.shared.drivers.look_at(&estate, &array, now()).await;
            let silent = seen.iter().any(is_loss);
            silences = if silent { silences + 1 } else { 0 };
            if !silent || silences >= PATIENCE {
                self.note(seen).await;
            }
            // One silence is no loss; whether it is one is asked soon.
            sleep(if silent { AGAIN } else { PAUSE }).await;
        }
    }

    /// Reach that a connection gave which was given up is taken away by a run like any other: one for each LUN and history of
    /// it, also if it fails and somebody gives it up.
    async fn withdraw(&self, array: &Array) {
        for left in array.left.iter().filter(|l| !l.reach.is_empty()) {
            let ask = arrays::Ask::Withdraw {
                array: array.id,
                lun: left.lun.clone(),
            };
            let wish = Wish {
                who: Who::itself(),
                by: By::Itself,
                permits: Permits::of(Role::Admin),
                ask: Proposal::Arrays(ask),
                seen: None,
                request: draw_uuid(left.volume.0, array.id.0, WITHDRAWAL),
            };
            if let Err(error) = start_as(&self.shared, &self.scribe, wish).await {
                tracing::warn!(lun = %left.name, %error, "reach was not taken away");
            }
        }
    }

    async fn note(&self, seen: Vec<Event>) {
        if news(&self.shared.view(), &seen).is_empty() {
            return;
        }
        let decide = move |sight: Sight<'_>| {
            let view = sight.view;
            Ok(Decision {
                events: news(view, &seen),
                ..Decision::nothing(Who::itself())
            })
        };
        if let Err(refusal) = self.scribe.append(Guard::Leader(self.held), decide).await {
            tracing::debug!(?refusal, array = %self.array, "a reading was not written");
        }
    }
}

fn is_loss(event: &Event) -> bool {
    matches!(event, Event::Storage(storage::Event::ArraySeen(array)) if !array.answers())
}

/// What of a reading is new. What people said of the array is never taken from a reading.
fn news(view: &View, seen: &[Event]) -> Vec<Event> {
    let mut all = changes(view, seen);
    let otherwise: Vec<Event> = all.iter().flat_map(|e| otherwise(view, e)).collect();
    all.extend(otherwise);
    all
}

/// For which volumes of ours it does something else than before.
fn otherwise(view: &View, event: &Event) -> Vec<Event> {
    let Event::Storage(storage::Event::ArraySeen(next)) = event else {
        return vec![];
    };
    let Some(held) = view.estate.arrays.get(&next.id) else {
        return vec![];
    };
    let one = |(volume, was, now): (VolumeId, &Served, &Served)| {
        let (was, now) = (was.words(), now.words());
        Event::Storage(storage::Event::Served { volume, was, now })
    };
    next.serves_otherwise(held).map(one).collect()
}

fn changes(view: &View, seen: &[Event]) -> Vec<Event> {
    let fresh = |event: &Event| match event {
        Event::Storage(storage::Event::ArraySeen(read)) => {
            let held = view.estate.arrays.get(&read.id)?;
            // The run that connects it says the first word.
            if held.condition == ArrayCondition::Connecting {
                return None;
            }
            let both_lost = !held.answers() && !read.answers();
            let next = held.as_read(read);
            (!both_lost && next != **held)
                .then(|| Event::Storage(storage::Event::ArraySeen(Box::new(next))))
        }
        Event::Storage(storage::Event::VolumeMade { volume, .. }) => {
            let held = view.estate.volumes.get(volume)?;
            held.backing.is_none().then(|| event.clone())
        }
        _ => None,
    };
    seen.iter().filter_map(fresh).collect()
}
