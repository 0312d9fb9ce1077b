//! Recovery plans that would not work if they had to, and those that wait for somebody's word.

use super::Need;
use crate::places::protect;
use zastrugi_core::{estate::Estate, ids::PairId};
use zastrugi_engine::Desk;

pub(super) fn plans(desk: &Desk, estate: &Estate, site: Option<u64>) -> Vec<Need> {
    let here = |pair| {
        let ends = estate.pairs.get(&pair).map(|p| p.ends.iter());
        site.is_none_or(|s| ends.into_iter().flatten().any(|e| e.site.0 == s))
    };
    let mut all = aside(estate, here);
    let own = estate.plans.values().filter(|p| here(p.way.pair));
    for plan in own {
        let open = estate.passage_open(plan.id);
        if let Some((passage, (_, between))) = open.and_then(|p| Some((p, p.waits_for()?))) {
            all.push(Need {
                glyph: "stop",
                text: format!(
                    "The {} of {} waits for somebody: {}",
                    passage.kind.word(),
                    plan.name,
                    between.words
                ),
                since: between.began,
                link: format!(
                    "/sheet/answer-plan?of={}&mark={}",
                    passage.id.0, between.mark
                ),
                link_words: "Answer",
                detail: String::new(),
            });
        }
        let Some((_, crossing)) = desk.crossing(plan.id) else {
            continue;
        };
        let mut stops = crossing.findings.iter().filter(|f| f.stops());
        let Some(first) = stops.next() else { continue };
        let more = match stops.count() {
            0 => String::new(),
            1 => " One more thing stops it.".to_owned(),
            n => format!(" {n} more things stop it."),
        };
        all.push(Need {
            glyph: "mind",
            text: format!(
                "Recovery plan {} would not work now: {}{more}",
                plan.name, first.text
            ),
            since: None,
            link: format!("/protect/plans/{}", plan.id.0),
            link_words: "Look at it",
            detail: first.remedy.clone().unwrap_or_default(),
        });
    }
    all
}

/// What another site took over, and is kept aside as it was.
fn aside(estate: &Estate, here: impl Fn(PairId) -> bool) -> Vec<Need> {
    let mut all = Vec::new();
    for pair in estate.pairs.values().filter(|p| here(p.id)) {
        let left = protect::aside(estate, pair.id);
        if left.is_empty() {
            continue;
        }
        let names: Vec<&str> = left.iter().map(|(_, n)| n.as_str()).collect();
        let what = match names.len() {
            1 => "One machine is".to_owned(),
            n => format!("{n} machines are"),
        };
        all.push(Need {
            glyph: "mind",
            text: format!(
                "{what} kept aside, as they were when the other site of {} took over",
                pair.name
            ),
            since: None,
            link: format!("/sheet/take-up?id={}", pair.id.0),
            link_words: "Take up",
            detail: zastrugi_core::crossing::listed(&names),
        });
    }
    all
}
