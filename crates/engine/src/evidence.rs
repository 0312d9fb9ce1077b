//! Asking devices without changing them, with the answers kept as evidence.

use crate::shared::{Shared, now};
use futures::{StreamExt, stream};
use zastrugi_core::evidence::{Answer, Probe};

const AT_ONCE: usize = 64;

/// Asks one thing and keeps the answer.
pub(crate) async fn ask(shared: &Shared, probe: Probe) -> Answer {
    let answer = shared.drivers.probe(&shared.estate(), &probe).await;
    if let Answer::Silent { why } = &answer {
        tracing::debug!(?probe, why, "no usable answer");
    }
    keep(shared, probe, answer.clone());
    answer
}

pub(crate) fn keep(shared: &Shared, probe: Probe, answer: Answer) {
    shared.evidence.rcu(|book| {
        let mut book = (**book).clone();
        book.put(probe.clone(), answer.clone(), now());
        book
    });
}

/// Asks those that have no fresh answer, many at once.
pub(crate) async fn ask_missing(shared: &Shared, probes: Vec<Probe>) {
    let book = shared.evidence.load_full();
    let missing = probes
        .into_iter()
        .filter(|p| book.fresh(p, now()).is_none())
        .collect();
    ask_all(shared, missing).await;
}

/// Asks them all, many at once.
pub(crate) async fn ask_all(shared: &Shared, probes: Vec<Probe>) {
    stream::iter(probes)
        .for_each_concurrent(
            AT_ONCE,
            |probe| async move { drop(ask(shared, probe).await) },
        )
        .await;
}
