//! The policy on every answer. Nothing inline, nothing from elsewhere, nothing kept by the browser but assets.

use super::{
    server::{FRONT, KNOWN},
    viewer::Known,
};
use rocket::{
    Data, Request, Response,
    fairing::{Fairing, Info, Kind},
    http::{Header, Method},
    uri,
};

pub(crate) const POLICY: &str = "default-src 'none'; script-src 'self'; style-src 'self'; img-src 'self'; font-src 'self'; connect-src 'self'; form-action 'self'; base-uri 'none'; frame-ancestors 'none'";

pub(crate) struct Headers;

#[rocket::async_trait]
impl Fairing for Headers {
    fn info(&self) -> Info {
        Info {
            name: "policy headers",
            kind: Kind::Response,
        }
    }
    async fn on_response<'r>(&self, request: &'r Request<'_>, response: &mut Response<'r>) {
        if matches!(request.local_cache(|| Known::Nobody), Known::Somebody(_)) {
            response.set_header(Header::new(KNOWN, "1"));
        }
        for (name, value) in [
            ("Content-Security-Policy", POLICY),
            ("X-Content-Type-Options", "nosniff"),
            ("Referrer-Policy", "same-origin"),
            ("Cross-Origin-Opener-Policy", "same-origin"),
        ] {
            response.set_header(Header::new(name, value));
        }
        if !response.headers().contains("Cache-Control") {
            response.set_header(Header::new("Cache-Control", "no-store"));
        }
    }
}

/// Lets nobody in but the front of this process, which says the word; without one, everybody.
pub(crate) struct OnlyFront(pub(crate) Option<String>);

#[rocket::async_trait]
impl Fairing for OnlyFront {
    fn info(&self) -> Info {
        Info {
            name: "only by way of the front",
            kind: Kind::Request,
        }
    }
    async fn on_request(&self, request: &mut Request<'_>, _data: &mut Data<'_>) {
        let said = request.headers().get_one(FRONT);
        if self.0.as_deref().is_some_and(|word| said != Some(word)) {
            // No route is there; a request can't be refused here.
            request.set_method(Method::Options);
            request.set_uri(uri!("/"));
        }
    }
}

pub(crate) fn is_htmx(request: &Request<'_>) -> bool {
    request.headers().contains("HX-Request")
}

/// Whether a part of a page is asked for.
pub(crate) struct Htmx(pub(crate) bool);

#[rocket::async_trait]
impl<'r> rocket::request::FromRequest<'r> for Htmx {
    type Error = std::convert::Infallible;
    async fn from_request(request: &'r Request<'_>) -> rocket::request::Outcome<Self, Self::Error> {
        rocket::request::Outcome::Success(Htmx(is_htmx(request)))
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rocket::{get, http::Status, local::blocking::Client, routes};

    #[get("/")]
    fn page() -> &'static str {
        "inside"
    }

    #[test]
    fn behind_a_front_nobody_is_let_in_who_does_not_say_its_word() {
        let behind = |word: Option<&str>| {
            let only = OnlyFront(word.map(str::to_owned));
            Client::untracked(rocket::build().attach(only).mount("/", routes![page])).unwrap()
        };
        let client = behind(Some("tide"));
        let with = |word: &'static str| client.get("/").header(Header::new(FRONT, word));
        assert_eq!(client.get("/").dispatch().status(), Status::NotFound);
        assert_eq!(with("ebb").dispatch().status(), Status::NotFound);
        assert_eq!(with("tide").dispatch().status(), Status::Ok);
        assert_eq!(behind(None).get("/").dispatch().status(), Status::Ok);
    }
}
