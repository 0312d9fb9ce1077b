//! The shell around every page: rail, top bar, palette, keys.

use super::{AtDesk, Problem, Signed, attention};
use crate::places::standing::Strip;
use askama::Template;
use rocket::response::content::RawHtml;

/// What the shell shows besides the page.
pub(crate) struct Shell {
    pub(crate) name: String,
    pub(crate) csrf: String,
    pub(crate) theme: String,
    pub(crate) place: &'static str,
    pub(crate) weather: bool,
    pub(crate) running: usize,
    /// How far the running work is, as the end of the ridge in the top bar.
    pub(crate) share: u32,
    pub(crate) needs: usize,
    /// What is wrong with the database; empty: nothing.
    pub(crate) away: &'static str,
    pub(crate) revision: u64,
    pub(crate) sites: Vec<(u64, String)>,
    pub(crate) site: Option<u64>,
    /// Where this manager stands by.
    pub(crate) strip: Option<Strip>,
}

impl Shell {
    pub(crate) fn new(signed: &Signed, desk: &AtDesk, place: &'static str) -> Shell {
        let view = desk.look();
        let estate = &view.estate;
        let (done, all) = view.runs.iter().fold((0, 0), |(done, all), run| {
            let (more, of) = run.progress();
            (done + more, all + of)
        });
        Shell {
            name: signed.viewer.name.clone(),
            csrf: signed.csrf.clone(),
            theme: signed.theme.clone(),
            place,
            weather: signed.weather,
            running: view.runs.len(),
            share: u32::try_from(done * 84 / all.max(1)).unwrap_or(84).max(6),
            away: match (desk.health().database, desk.health().writes) {
                (true, true) => "",
                (true, false) => "nothing can be changed: the database takes no writes",
                (false, _) => "nothing can be changed: the database does not answer",
            },
            needs: attention::needs(desk, signed.site).0.len(),
            revision: estate.revision.0,
            strip: Strip::of(desk),
            sites: estate
                .sites
                .values()
                .map(|s| (s.id.0, s.name.clone()))
                .collect(),
            site: signed
                .site
                .filter(|s| estate.sites.contains_key(&zastrugi_core::ids::SiteId(*s))),
        }
    }
    fn is_at(&self, site: &u64) -> bool {
        self.site == Some(*site)
    }
    fn site_name(&self) -> String {
        let found = self
            .site
            .and_then(|id| self.sites.iter().find(|(s, _)| *s == id));
        found.map_or_else(|| "All sites".into(), |(_, name)| name.clone())
    }
}

#[derive(Template)]
#[template(path = "frame/base.html")]
struct Base {
    shell: Shell,
    title: String,
    body: String,
}

#[derive(Template)]
#[template(path = "frame/work.html")]
pub(crate) struct Work {
    shell: Shell,
}

impl Work {
    pub(crate) fn new(signed: &Signed, desk: &AtDesk) -> Self {
        Work {
            shell: Shell::new(signed, desk, ""),
        }
    }
}

pub(crate) type Page = Result<RawHtml<String>, Problem>;

fn failed(error: &askama::Error) -> Problem {
    tracing::error!(%error, "a template failed");
    Problem {
        status: rocket::http::Status::InternalServerError,
        text: "This page can't be shown.".into(),
        hint: "Report this.".into(),
    }
}

/// A whole page around `body`.
pub(crate) fn page(
    signed: &Signed,
    desk: &AtDesk,
    place: &'static str,
    title: &str,
    body: &impl Template,
) -> Page {
    let body = body.render().map_err(|e| failed(&e))?;
    let base = Base {
        shell: Shell::new(signed, desk, place),
        title: title.into(),
        body,
    };
    base.render().map(RawHtml).map_err(|e| failed(&e))
}

/// A part of a page.
pub(crate) fn part(body: &impl Template) -> Page {
    body.render().map(RawHtml).map_err(|e| failed(&e))
}
