//! Failures that are over are closed, whoever guards the cluster. It waits for no guard, and no guard for it.

use super::office::Office;
use crate::shared::now;
use std::time::Duration;
use tokio::time::sleep;
use zastrugi_core::{
    ids::FailureId,
    recounting::is_over,
    rooms::{Event, recovery},
};

const LOOK: Duration = Duration::from_secs(1);

pub(super) async fn close(office: Office) {
    loop {
        sleep(LOOK).await;
        close_once(&office).await;
    }
}

async fn close_once(office: &Office) {
    let view = office.shared.view();
    let all = view.estate.failures.values();
    let over = all.filter(|f| is_over(&view, f, now())).map(|f| f.id);
    let over: Vec<FailureId> = over.collect();
    for failure in over {
        office
            .append(move |sight| {
                let found = sight.view.estate.failures.get(&failure);
                let over = found.filter(|f| is_over(sight.view, f, sight.at)).map(|_| {
                    recovery::Event::Over {
                        failure,
                        at: sight.at,
                        why: "what it took down runs again, or shall be off".into(),
                    }
                });
                over.map(Event::Recovery).into_iter().collect()
            })
            .await;
    }
}
