//! How long steps take here: noted as they end, kept between starts, and what the next plan's times rest on.

use crate::shared::Shared;
use std::{sync::Arc, time::Duration};
use tokio::time::sleep;
use zastrugi_core::{
    moment::Span,
    road::{Length, Work},
    rooms::Step,
    runs::{GUEST_ANSWERS, Pace},
};
use zastrugi_store::Settings;

const NAME: &str = "pace of steps";
const PAUSE: Duration = Duration::from_mins(1);

/// A step ended well at its first try: its last call took `call`, and it `began` so long ago.
pub(super) fn note(shared: &Shared, step: &Step, call: Span, began: Span) {
    let (usual, took) = match step.length() {
        Length::Call(usual) => (usual, call),
        Length::Wait(usual) => (usual, began),
        Length::Computed(_) => return,
    };
    drop(shared.pace.rcu(|pace| {
        let mut pace = Pace::clone(pace);
        pace.note(step.group(), usual, took);
        pace
    }));
}

/// A machine that was brought back was up so long after its start.
pub(crate) fn note_boot(shared: &Shared, took: Span) {
    drop(shared.pace.rcu(|pace| {
        let mut pace = Pace::clone(pace);
        pace.note(GUEST_ANSWERS.0, GUEST_ANSWERS.1, took);
        pace
    }));
}

/// Writes what this process noted and reads what others did, now and then.
pub(crate) async fn keep(shared: Arc<Shared>) {
    let settings = Settings::new(shared.pool.clone());
    let mut kept: Option<Arc<Pace>> = None;
    loop {
        let now = shared.pace.load_full();
        let done = match &kept {
            Some(kept) if *kept != now => settings.set(NAME, &*now).await.map(|()| now),
            _ => settings.get::<Pace>(NAME).await.map(|read| {
                let read = Arc::new(read.unwrap_or_default());
                shared.pace.store(read.clone());
                read
            }),
        };
        match done {
            Ok(same) => kept = Some(same),
            Err(error) => tracing::debug!(%error, "how long steps took was not kept"),
        }
        sleep(PAUSE).await;
    }
}
