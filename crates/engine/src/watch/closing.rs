//! Failures that are over are closed, whoever guards the cluster. It waits for no guard, and no guard for it.

use super::office::Office;
use crate::shared::now;
use std::time::Duration;
use tokio::time::sleep;
use zastrugi_core::{
    estate::{Failure, FailureStage},
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
    // That a host is heard again is what this process heard, not what was stored.
    let known = |f: &Failure| match f.stage {
        FailureStage::Fenced | FailureStage::Ails | FailureStage::Over => true,
        FailureStage::CutOff | FailureStage::Judged(_) | FailureStage::Waits(_) => {
            office.ears.hears(f.host)
        }
    };
    let over = all.filter(|f| known(f) && is_over(&view, f, now()));
    let over = over.map(|f| f.id);
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
