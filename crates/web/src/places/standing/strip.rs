//! Above every page of a manager that gives no orders: why, what it shows and how old that is, and what it offers.

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
    /// It stands by; none: its orders are held.
    stands: Option<Stands>,
    held: String,
}

struct Stands {
    revision: u64,
    beat: String,
    lives: bool,
}

impl Stands {
    fn of(desk: &Desk) -> Stands {
        let received = desk.standing().received.unwrap_or_default();
        let now = desk.now();
        Stands {
            revision: desk.look().estate.revision.0,
            beat: received.beat.map_or_else(
                || "no sign of the manager".to_owned(),
                |at| format!("last sign of the manager {} ({})", ago(now, at), time(at)),
            ),
            lives: lives(now, received),
        }
    }
}

impl Strip {
    /// None where this manager gives orders.
    pub(crate) fn of(desk: &Desk) -> Option<Strip> {
        let held = desk.health().held;
        (desk.stands_by() || held.is_some()).then(|| Strip {
            stands: desk.stands_by().then(|| Stands::of(desk)),
            held: held.unwrap_or_default(),
        })
    }
}

/// A page that is open asks for it again and again.
#[derive(Responder)]
pub(super) enum Again {
    Strip(Page),
    Gone((Status, RawHtml<&'static str>)),
    /// It gives orders now: everything on the page may be another.
    Anew((Status, RawHtml<&'static str>), Header<'static>),
}

#[get("/standing/part?<was>")]
pub(super) fn strip(_signed: Signed, desk: &AtDesk, was: Option<&str>) -> Again {
    let nothing = (Status::Ok, RawHtml(""));
    match (Strip::of(desk), was) {
        (Some(strip), _) => Again::Strip(part(&strip)),
        (None, Some("taking")) => {
            Again::Anew(nothing, Header::new("HX-Redirect", "/settings/stand-by"))
        }
        (None, Some("stand-by")) => Again::Anew(nothing, Header::new("HX-Refresh", "true")),
        // What somebody types meanwhile stays.
        (None, _) => Again::Gone(nothing),
    }
}
