//! Pairs are tried again and again, both ways: what was right when a pair was made may be so no longer.

use super::office::Office;
use crate::{evidence, shared::now};
use std::time::Duration;
use tokio::time::sleep;
use zastrugi_core::{
    pairing,
    rooms::{Event, pairs},
};

const LOOK: Duration = Duration::from_secs(60);
/// A pair that is new is tried soon.
const FIRST: Duration = Duration::from_secs(5);

pub(super) async fn look(office: Office) {
    sleep(FIRST).await;
    loop {
        let estate = office.shared.estate();
        for pair in estate.pairs.values() {
            let probes = pairing::probes(&estate, &pair.ends);
            evidence::ask_all(&office.shared, probes).await;
            let at = now();
            let trouble = pairing::trouble(&office.shared.view(), pair, at).map(|f| f.text);
            let id = pair.id;
            office
                .append(move |sight| {
                    let known = sight.view.estate.pairs.get(&id);
                    let was = known.map(|p| p.trouble.as_ref().map(|t| &t.text));
                    match was.is_some_and(|was| was != trouble.as_ref()) {
                        true => vec![Event::Pairs(pairs::Event::Tried {
                            pair: id,
                            at,
                            trouble: trouble.clone(),
                        })],
                        false => vec![],
                    }
                })
                .await;
        }
        sleep(LOOK).await;
    }
}
