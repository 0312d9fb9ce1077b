//! Arrays and filers, asked every ten seconds: their pools fill, their controllers fall silent and come back.

use crate::{
    scribe::{Decision, Guard, Scribe, Sight},
    shared::{Shared, now},
};
use std::{sync::Arc, time::Duration};
use tokio::time::sleep;
use zastrugi_core::rooms::storage;
use zastrugi_core::{
    estate::{Array, ArrayCondition},
    ids::ArrayId,
    permits::Who,
    rooms::Event,
    view::View,
};
use zastrugi_store::Held;

const PAUSE: Duration = Duration::from_secs(10);
/// A silence is noted when it lasted for this many questions.
const PATIENCE: u32 = 2;
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
    let fresh = |event: &Event| match event {
        Event::Storage(storage::Event::ArraySeen(read)) => {
            let held = view.estate.arrays.get(&read.id)?;
            // The run that connects it says the first word.
            if held.condition == ArrayCondition::Connecting {
                return None;
            }
            let both_lost = !held.answers() && !read.answers();
            let next = Array {
                name: held.name.clone(),
                note: held.note.clone(),
                site: held.site,
                ..(**read).clone()
            };
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
