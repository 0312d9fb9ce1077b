//! Recovery plans that would not work if they had to, and those that wait for somebody's word.

use super::Need;
use zastrugi_core::estate::Estate;
use zastrugi_engine::Desk;

pub(super) fn plans(desk: &Desk, estate: &Estate, site: Option<u64>) -> Vec<Need> {
    let here = |pair| {
        let ends = estate.pairs.get(&pair).map(|p| p.ends.iter());
        site.is_none_or(|s| ends.into_iter().flatten().any(|e| e.site.0 == s))
    };
    let own = estate.plans.values().filter(|p| here(p.way.pair));
    let mut all = Vec::new();
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
