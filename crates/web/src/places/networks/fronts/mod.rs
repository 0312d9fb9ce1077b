//! Service fronts and the load balancers that have them: the list of both, one front, and their sheets.

pub(crate) mod balancer;
pub(super) mod list;
mod manner;
pub(super) mod page;
pub(crate) mod sheet;

use zastrugi_core::{
    estate::{Estate, Front, MemberState},
    fronts::members,
    moment::Moment,
};

/// A front's glyph and words: whether everybody who should serve it does.
pub(crate) fn state(estate: &Estate, front: &Front) -> (&'static str, String) {
    let balancer = estate.balancers.get(&front.balancer);
    if !front.ready {
        return ("busy", "being made".into());
    }
    if balancer.is_none_or(|b| !b.answers()) {
        return ("unknown", "its load balancer is silent".into());
    }
    let Some(seen) = &front.seen else {
        return ("down", "its load balancer does not have it".into());
    };
    let admitted = members(estate, front)
        .into_iter()
        .filter(|m| m.admitted)
        .count();
    let serving = seen
        .values()
        .filter(|s| s.state == MemberState::Serves)
        .count();
    match (serving, admitted) {
        (0, 0) => ("off", "no member runs".into()),
        (0, _) => ("down", "nobody serves it".into()),
        (n, of) if n < of => ("mind", format!("{n} of {of} members serve it")),
        (1, _) => ("mind", "one member alone serves it".into()),
        (n, _) => ("steady", format!("{n} members serve it")),
    }
}

/// The day in UTC, as in ISO 8601.
pub(crate) fn day(at: Moment) -> String {
    let utc = time::OffsetDateTime::from_unix_timestamp(at.0 / 1000).ok();
    utc.map_or_else(String::new, |t| t.date().to_string())
}
