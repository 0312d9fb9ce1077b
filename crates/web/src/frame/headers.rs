//! The policy on every answer. Nothing inline, nothing from elsewhere, nothing kept by the browser but assets.

use rocket::{
    Request, Response,
    fairing::{Fairing, Info, Kind},
    http::Header,
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
    async fn on_response<'r>(&self, _request: &'r Request<'_>, response: &mut Response<'r>) {
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
