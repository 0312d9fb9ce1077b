//! Switches, read every quarter of a minute: a port that changes is seen, a silent one is *unchecked*.

use crate::{
    scribe::{Decision, Guard, Scribe, Sight},
    shared::Shared,
};
use std::{sync::Arc, time::Duration};
use tokio::time::sleep;
use zastrugi_core::rooms::networks;
use zastrugi_core::{estate::Switch, ids::SwitchId, permits::Who, rooms::Event, view::View};
use zastrugi_store::Held;

const PAUSE: Duration = Duration::from_secs(15);
/// Sooner after a silence.
const SOON: Duration = Duration::from_secs(5);

pub(super) struct SwitchEye {
    pub(super) shared: Arc<Shared>,
    pub(super) scribe: Scribe,
    pub(super) held: Held,
    pub(super) switch: SwitchId,
}

impl SwitchEye {
    pub(super) async fn follow(self) {
        loop {
            let Some(switch) = self.shared.estate().switches.get(&self.switch).cloned() else {
                return;
            };
            // The run that connects it says the first word.
            if switch.known {
                let read = self.shared.drivers.look_at_switch(&switch).await;
                self.note(read).await;
            }
            let calm = switch.answers();
            sleep(if calm { PAUSE } else { SOON }).await;
        }
    }

    async fn note(&self, read: Switch) {
        if news(&self.shared.view(), &read).is_none() {
            return;
        }
        let decide = move |sight: Sight<'_>| {
            let view = sight.view;
            Ok(Decision {
                events: news(view, &read).into_iter().collect(),
                ..Decision::nothing(Who::itself())
            })
        };
        if let Err(refusal) = self.scribe.append(Guard::Leader(self.held), decide).await {
            tracing::debug!(?refusal, switch = %self.switch, "a reading was not written");
        }
    }
}

fn news(view: &View, read: &Switch) -> Option<Event> {
    let held = view.estate.switches.get(&read.id)?;
    // Two silences in a row say the same, whatever their words.
    let both_silent = !held.answers() && !read.answers();
    (!both_silent && **held != *read)
        .then(|| Event::Networks(networks::Event::SwitchSeen(Box::new(read.clone()))))
}
