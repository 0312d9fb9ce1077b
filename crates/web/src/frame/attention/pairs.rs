//! Pairs of sites that do not carry as they should.

use super::Need;
use std::sync::Arc;
use zastrugi_core::estate::{Estate, Pair};

pub(super) fn lame(estate: &Estate, site: Option<u64>) -> Vec<Need> {
    let here = |p: &&Arc<Pair>| site.is_none_or(|s| p.ends.iter().any(|e| e.site.0 == s));
    let all = estate.pairs.values().filter(here);
    let need = |p: &Arc<Pair>| {
        let trouble = p.trouble.as_ref()?;
        Some(Need {
            glyph: "mind",
            text: format!("Pair {} does not carry as it should.", p.name),
            since: Some(trouble.since),
            link: format!("/protect/pairs/{}", p.id.0),
            link_words: "See both sides",
            detail: trouble.text.clone(),
        })
    };
    all.filter_map(need).collect()
}
