//! Signing in and out.

use crate::frame::{
    AtDesk, Fields, Page, Problem, Query, Signed, part, server::WebSettings, way::inside,
};
use askama::Template;
use rocket::{
    Responder, Route, State, get,
    http::{Cookie, CookieJar, SameSite, Status},
    post,
    response::{Redirect, content::RawHtml},
    routes,
    time::Duration,
};
use std::net::IpAddr;
use zastrugi_core::{limits, text::cleaned};
use zastrugi_engine::{Asking, SignInError};

pub(crate) fn routes() -> Vec<Route> {
    routes![show, sign_in, sign_out]
}

#[derive(Template)]
#[template(path = "places/door/door.html")]
struct Door {
    name: String,
    next: String,
    wrong: String,
    theme: &'static str,
    /// Their password was drawn for them: they choose their own.
    chooses: bool,
}

fn theme(jar: &CookieJar<'_>) -> &'static str {
    chosen(jar.get("theme").map_or("", Cookie::value))
}

/// A theme that somebody chose; else that of the system.
pub(crate) fn chosen(theme: &str) -> &'static str {
    match theme {
        "night" => "night",
        "day" => "day",
        _ => "system",
    }
}

#[get("/sign-in")]
fn show(query: Query, jar: &CookieJar<'_>) -> Page {
    part(&Door {
        name: String::new(),
        next: query.0.get("next").into(),
        wrong: String::new(),
        theme: theme(jar),
        chooses: false,
    })
}

#[derive(Responder)]
enum Entry {
    In(Box<Redirect>),
    Again((Status, RawHtml<String>)),
}

#[post("/sign-in", data = "<fields>")]
async fn sign_in(
    desk: &AtDesk,
    settings: &State<WebSettings>,
    jar: &CookieJar<'_>,
    source: Option<IpAddr>,
    fields: Fields,
) -> Result<Entry, Problem> {
    let source = source.map_or_else(|| "an unknown address".to_owned(), |ip| ip.to_string());
    let browser = jar.get(settings.browser_name()).map_or("", |c| c.value());
    let asking = Asking {
        name: fields.get("name"),
        password: fields.secret("password"),
        source: &source,
        browser,
        fresh: fields.secret("fresh"),
    };
    let chosen = match fields.secret("again") == asking.fresh {
        true => desk.sign_in(asking).await,
        false => Err(SignInError::ChooseOwn(Some(
            "The two new passwords differ.".into(),
        ))),
    };
    match chosen {
        Ok(done) => {
            let browser = Cookie::build((settings.browser_name(), done.browser))
                .path("/")
                .http_only(true)
                .same_site(SameSite::Strict)
                .secure(settings.behind_proxy)
                .max_age(Duration::days(180));
            jar.add(browser);
            let cookie = Cookie::build((settings.cookie_name(), done.cookie))
                .path("/")
                .http_only(true)
                .same_site(SameSite::Strict)
                .secure(settings.behind_proxy)
                .max_age(Duration::hours(12));
            jar.add(cookie);
            remember_theme(jar, &done.person.theme);
            Ok(Entry::In(Box::new(Redirect::to(inside(
                fields.get("next"),
            )))))
        }
        Err(SignInError::Store(error)) => Err(error.into()),
        Err(other) => {
            let chooses = matches!(other, SignInError::ChooseOwn(_));
            let words = match other {
                SignInError::ChooseOwn(Some(words)) => words.trim_end_matches('.').to_owned(),
                other => other.to_string(),
            };
            let wrong = words.chars().next().map(|c| {
                c.to_uppercase()
                    .chain(words.chars().skip(1))
                    .collect::<String>()
            });
            let door = Door {
                name: cleaned(fields.get("name"), &limits::PERSON, false),
                next: fields.get("next").into(),
                wrong: format!("{}.", wrong.unwrap_or_default()),
                theme: theme(jar),
                chooses,
            };
            Ok(Entry::Again((Status::Unauthorized, part(&door)?)))
        }
    }
}

/// The pages before signing in have the person's theme too.
pub(crate) fn remember_theme(jar: &CookieJar<'_>, theme: &str) {
    let cookie = Cookie::build(("theme", theme.to_owned()))
        .path("/")
        .same_site(SameSite::Strict);
    jar.add(cookie.max_age(Duration::days(400)));
}

#[post("/sign-out", data = "<_fields>")]
async fn sign_out(
    signed: Signed,
    desk: &AtDesk,
    settings: &State<WebSettings>,
    jar: &CookieJar<'_>,
    _fields: Fields,
) -> Result<Redirect, Problem> {
    desk.sign_out(&signed.cookie).await?;
    // A cookie of this name is only taken, and only given up, when it says Secure.
    let gone = Cookie::build(settings.cookie_name()).path("/");
    jar.remove(gone.secure(settings.behind_proxy));
    Ok(Redirect::to("/sign-in"))
}
