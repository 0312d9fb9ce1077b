//! Who keeps the copies of a volume that lies on the hosts' own disks, and how whole it is.

use super::width;
use askama::Template;
use zastrugi_core::{
    estate::{Pooled, Share, Volume},
    pooled::PLAN,
    units::Bytes,
    view::View,
};

struct Row {
    id: u64,
    name: String,
    domain: String,
    width: u64,
    figures: String,
    glyph: &'static str,
    words: &'static str,
    away: bool,
}

#[derive(Template)]
#[template(path = "places/storage/copies.html")]
pub(super) struct Copies {
    glyph: &'static str,
    sentence: String,
    /// How its room is reckoned.
    reckoned: String,
    rows: Vec<Row>,
    volume: u64,
}

pub(super) fn lies_on(v: &Volume) -> String {
    match &v.pooled {
        Some(p) => format!("the hosts' own disks, {} copies", p.copies),
        None => "an array that is not connected".into(),
    }
}

/// Its glyph and words where it is not whole.
pub(super) fn state(v: &Volume) -> Option<(&'static str, String)> {
    let pooled = v.pooled.as_deref()?;
    let glyph = if pooled.health.lost > Bytes::ZERO {
        "down"
    } else {
        "mind"
    };
    if let Some(words) = pooled.trouble() {
        return Some((glyph, words));
    }
    let planned = v.capacity.per_mille(PLAN * 10);
    (v.used > planned).then(|| ("mind", format!("above the {PLAN} % that should be planned")))
}

pub(super) fn of(view: &View, v: &Volume, may: bool) -> Option<Copies> {
    let pooled = v.pooled.as_deref()?;
    let (glyph, sentence) = match pooled.trouble() {
        None if v.used == Bytes::ZERO => ("steady", "Nothing is on it yet.".to_owned()),
        None => (
            "steady",
            format!(
                "Everything has {} copies, each in another fault domain.",
                pooled.copies
            ),
        ),
        Some(words) => (state(v).map_or("mind", |s| s.0), format!("{words}.")),
    };
    let row = |(id, share): (&zastrugi_core::ids::HostId, &Share)| {
        let (glyph, words) = match share {
            Share { away: true, .. } => ("down", "away"),
            Share { leaving: true, .. } => ("busy", "gives its disks back"),
            Share {
                raw: Bytes::ZERO, ..
            } => ("off", "lends nothing"),
            Share { .. } => ("steady", "there"),
        };
        Row {
            id: id.0,
            name: view
                .estate
                .hosts
                .get(id)
                .map_or_else(|| id.to_string(), |h| h.name.clone()),
            domain: share.domain.clone(),
            width: width(share.held, share.raw),
            figures: format!("{} of {}", share.held, share.raw),
            glyph,
            words,
            away: share.away && may,
        }
    };
    let mut rows: Vec<Row> = pooled.members.iter().map(row).collect();
    rows.sort_by(|a, b| a.name.cmp(&b.name));
    Some(Copies {
        glyph,
        sentence,
        reckoned: reckoned(v, pooled),
        rows,
        volume: v.id.0,
    })
}

fn reckoned(v: &Volume, pooled: &Pooled) -> String {
    let raws: Vec<Bytes> = pooled
        .members
        .values()
        .map(|s| s.raw)
        .filter(|r| *r > Bytes::ZERO)
        .collect();
    let all: Bytes = raws.iter().copied().sum();
    let spare = match raws.len() > usize::from(pooled.copies) {
        true => format!(
            ", less {} that stay free for when a host fails",
            raws.iter().max().copied().unwrap_or_default()
        ),
        false => " (no host is left over for when one fails)".to_owned(),
    };
    format!(
        "{all} lent{spare}, in {} copies, of which 97 % can be filled: {}. Plan for {PLAN} % of that, {}. A host that is away longer than {} min is made up for on the others.",
        pooled.copies,
        v.capacity,
        v.capacity.per_mille(PLAN * 10),
        pooled.wait.0 / 60_000
    )
}
