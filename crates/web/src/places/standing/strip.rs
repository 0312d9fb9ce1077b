//! Above every page of a manager that stands by: what it shows, how old it is, and what it offers.

use super::lives;
use crate::frame::{AtDesk, Page, Signed, ago, part, time};
use askama::Template;
use rocket::{
    Responder, get,
    http::{Header, Status},
    response::content::RawHtml,
};
use zastrugi_engine::Desk;

#[derive(Template)]
#[template(path = "places/standing/strip.html")]
pub(crate) struct Strip {
    revision: u64,
    beat: String,
    lives: bool,
}

impl Strip {
    /// None where this manager gives orders.
    pub(crate) fn of(desk: &Desk) -> Option<Strip> {
        if !desk.stands_by() {
            return None;
        }
        let received = desk.standing().received.unwrap_or_default();
        let now = desk.now();
        Some(Strip {
            revision: desk.look().estate.revision.0,
            beat: received.beat.map_or_else(
                || "no sign of the manager".to_owned(),
                |at| format!("last sign of the manager {} ({})", ago(now, at), time(at)),
            ),
            lives: lives(now, received),
        })
    }
}

/// A page that is open asks for it again and again; of a manager that gives orders now, it is loaded anew.
#[derive(Responder)]
pub(super) enum Again {
    Strip(Page),
    Anew((Status, RawHtml<&'static str>), Header<'static>),
}

#[get("/standing/part?<then>")]
pub(super) fn strip(_signed: Signed, desk: &AtDesk, then: Option<&str>) -> Again {
    match Strip::of(desk) {
        Some(strip) => Again::Strip(part(&strip)),
        None => {
            let header = match then {
                Some("settings") => Header::new("HX-Redirect", "/settings/stand-by"),
                _ => Header::new("HX-Refresh", "true"),
            };
            Again::Anew((Status::Ok, RawHtml("")), header)
        }
    }
}
