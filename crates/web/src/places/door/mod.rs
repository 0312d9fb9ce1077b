//! Signing in and out.

use crate::frame::{AtDesk, Fields, Page, Problem, Query, Signed, part, server::WebSettings};
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
use zastrugi_engine::SignInError;

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
}

fn theme(jar: &CookieJar<'_>) -> &'static str {
    if jar.get("theme").is_some_and(|c| c.value() == "night") {
        "night"
    } else {
        "day"
    }
}

#[get("/sign-in")]
fn show(query: Query, jar: &CookieJar<'_>) -> Page {
    part(&Door {
        name: String::new(),
        next: query.0.get("next").into(),
        wrong: String::new(),
        theme: theme(jar),
    })
}

#[derive(Responder)]
enum Entry {
    In(Box<Redirect>),
    Again((Status, RawHtml<String>)),
}

/// Only paths of this site: nobody is sent elsewhere by a link that they followed here.
fn local(next: &str) -> String {
    let fine = next.starts_with('/')
        && !next.starts_with("//")
        && !next.contains('\\')
        && !next.contains("/sign-");
    if fine {
        next.to_owned()
    } else {
        "/".to_owned()
    }
}

#[post("/sign-in", data = "<fields>")]
async fn sign_in(
    desk: &AtDesk,
    settings: &State<WebSettings>,
    jar: &CookieJar<'_>,
    source: Option<IpAddr>,
    fields: Fields,
) -> Result<Entry, Problem> {
    let source = source.map_or_else(String::new, |ip| ip.to_string());
    match desk
        .sign_in(fields.get("name"), fields.secret("password"), &source)
        .await
    {
        Ok(done) => {
            let cookie = Cookie::build((settings.cookie_name(), done.cookie))
                .path("/")
                .http_only(true)
                .same_site(SameSite::Strict)
                .secure(settings.behind_proxy)
                .max_age(Duration::hours(12));
            jar.add(cookie);
            remember_theme(jar, &done.person.theme);
            Ok(Entry::In(Box::new(Redirect::to(local(fields.get("next"))))))
        }
        Err(SignInError::Store(error)) => Err(error.into()),
        Err(other) => {
            let words = other.to_string();
            let wrong = words.chars().next().map(|c| {
                c.to_uppercase()
                    .chain(words.chars().skip(1))
                    .collect::<String>()
            });
            let door = Door {
                name: fields.get("name").into(),
                next: fields.get("next").into(),
                wrong: format!("{}.", wrong.unwrap_or_default()),
                theme: theme(jar),
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
    jar.remove(Cookie::build(settings.cookie_name()).path("/"));
    Ok(Redirect::to("/sign-in"))
}

#[cfg(test)]
mod tests {
    use super::local;

    #[test]
    fn nobody_is_sent_elsewhere_after_signing_in() {
        assert_eq!(local("/machines?q=x"), "/machines?q=x");
        for bad in [
            "https://elsewhere.example",
            "//elsewhere.example",
            "/\\elsewhere",
            "",
            "/sign-out",
        ] {
            assert_eq!(local(bad), "/");
        }
    }
}
