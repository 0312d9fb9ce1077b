//! A pledge saved as a file, and read into the sheet again.

use crate::frame::{AtDesk, Fields, Problem, Signed, consequences::Wrong, saved::Saved};
use rocket::get;
use zastrugi_core::{
    estate::{Estate, Pledge},
    ids::PledgeId,
    moment::Span,
    view::View,
};
use zastrugi_formats::pledge::{self, CopyElsewhere, Document, RecoveryPoint, Storage};

fn minutes(span: Span) -> u64 {
    span.0 / 60_000
}

fn document(estate: &Estate, pledge: &Pledge) -> Document {
    let c = &pledge.clauses;
    let site = |id| estate.sites.get(&id).map(|s| s.name.clone());
    Document {
        schema: pledge::SCHEMA.into(),
        name: pledge.name.clone(),
        note: pledge.note.clone(),
        to: pledge
            .to
            .as_ref()
            .map_or_else(String::new, ToString::to_string),
        storage: c.storage.as_ref().map(|s| Storage {
            qualities: s.qualities.iter().map(ToString::to_string).collect(),
            latency_us: s.latency_us,
            spare: s.spare,
        }),
        recovery_point: c.point.as_ref().map(|p| RecoveryPoint {
            every_minutes: minutes(p.every),
            by: p.taker.key().into(),
            quiet: p.quiet,
        }),
        kept_for_minutes: c.kept.map(minutes),
        copy_elsewhere: c.remote.as_ref().map(|r| CopyElsewhere {
            age_minutes: minutes(r.age),
            site: r.site.and_then(site).unwrap_or_default(),
        }),
        proven_every_minutes: c.proved.map(minutes),
        back_within_minutes: c.back.map(minutes),
        restart_tier: c.tier,
    }
}

#[get("/protect/pledges/<id>/file")]
pub(crate) fn save(_signed: Signed, desk: &AtDesk, id: u64) -> Result<Saved, Problem> {
    let view = desk.look();
    let gone = || Problem::not_found("This pledge");
    let found = view.estate.pledges.get(&PledgeId(id)).ok_or_else(gone)?;
    let text = pledge::write(&document(&view.estate, found)).map_err(|_| gone())?;
    Ok(Saved::json(text, &format!("pledge-{}", found.name)))
}

/// What such files look like, for whoever writes them.
#[get("/protect/pledges/schema", rank = 1)]
pub(crate) fn schema(_signed: Signed) -> Saved {
    Saved::json(pledge::SCHEMA_TEXT.to_owned(), "pledge-1-schema")
}

/// The fields that a saved pledge means; what stood in them is replaced.
pub(super) fn load(view: &View, fields: &Fields) -> (Fields, Vec<Wrong>) {
    let mut fields = fields.clone();
    let read = match pledge::read(fields.secret("file")) {
        Ok(read) => read,
        Err(words) => return (fields, vec![("file".into(), words)]),
    };
    let mut wrong = Vec::new();
    let number = |n: Option<u64>| n.map_or_else(|| "0".to_owned(), |n| n.to_string());
    let text = |n: Option<String>| n.unwrap_or_default();
    let storage = read.storage.unwrap_or_default();
    let remote = read.copy_elsewhere.unwrap_or_default();
    let site = view.estate.site_named(&remote.site).map(|s| s.id.0);
    if site.is_none() && !remote.site.is_empty() {
        let words = format!("There is no site {} here; choose one.", remote.site);
        wrong.push(("site".into(), words));
    }
    let point = read.recovery_point.as_ref();
    for (name, value) in [
        ("name", read.name.clone()),
        ("note", read.note.clone()),
        ("to", read.to.clone()),
        ("qualities", storage.qualities.join(", ")),
        ("latency", text(storage.latency_us.map(|n| n.to_string()))),
        ("spare", text(storage.spare.map(|n| n.to_string()))),
        ("every", number(point.map(|p| p.every_minutes))),
        (
            "taker",
            point.map_or_else(|| "any".into(), |p| p.by.clone()),
        ),
        ("kept", number(read.kept_for_minutes)),
        (
            "age",
            number((remote.age_minutes > 0).then_some(remote.age_minutes)),
        ),
        ("site", number(site)),
        ("proved", number(read.proven_every_minutes)),
        ("back", number(read.back_within_minutes)),
        ("tier", number(read.restart_tier.map(u64::from))),
    ] {
        fields.set(name, Some(value));
    }
    let quiet = point.is_some_and(|p| p.quiet);
    fields.set("quiet", quiet.then(|| "on".to_owned()));
    fields.set("file", None);
    (fields, wrong)
}
