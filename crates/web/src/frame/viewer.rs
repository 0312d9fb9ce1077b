//! Who asks, and whether they may. The default is to deny: a route without a guard of this file is a test failure.

use rocket::{
    Request,
    http::{CookieJar, Status},
    request::{FromRequest, Outcome},
};
use zastrugi_core::permits::Act;
use zastrugi_engine::{Desk, Viewer};

use super::server::WebSettings;

/// Somebody who is signed in.
#[derive(Debug, Clone)]
pub(crate) struct Signed {
    pub(crate) viewer: Viewer,
    pub(crate) csrf: String,
    pub(crate) theme: String,
    pub(crate) cookie: String,
    /// The site that the person looks at; none for all.
    pub(crate) site: Option<u64>,
    /// Whether there is weather to make, and they may make it.
    pub(crate) weather: bool,
}

impl Signed {
    pub(crate) fn may(&self, act: Act) -> bool {
        self.viewer.permits().allow(act)
    }
}

pub(crate) fn session_cookie<'a>(
    jar: &'a CookieJar<'_>,
    settings: &WebSettings,
) -> Option<&'a str> {
    jar.get(settings.cookie_name()).map(|c| c.value())
}

#[rocket::async_trait]
impl<'r> FromRequest<'r> for Signed {
    type Error = &'static str;

    async fn from_request(request: &'r Request<'_>) -> Outcome<Self, Self::Error> {
        let (Some(desk), Some(settings)) = (
            request.rocket().state::<Desk>(),
            request.rocket().state::<WebSettings>(),
        ) else {
            return Outcome::Error((Status::InternalServerError, "not set up"));
        };
        let cached: &Known = request
            .local_cache_async(async {
                let Some(cookie) = session_cookie(request.cookies(), settings) else {
                    return Known::Nobody;
                };
                let by_hand = !asked_by_itself(request.uri().path().as_str());
                let (viewer, csrf, theme) = match desk.session(cookie, by_hand).await {
                    Ok(Some(found)) => found,
                    Ok(None) => return Known::Nobody,
                    Err(error) => {
                        tracing::warn!(error = %error.detail(), "nobody's session can be read");
                        return Known::NotNow;
                    }
                };
                let site = request
                    .cookies()
                    .get("site")
                    .and_then(|c| c.value().parse().ok());
                let weather = settings.weather.0.is_some() && viewer.permits().allow(Act::Settings);
                Known::Somebody(Signed {
                    weather,
                    viewer,
                    csrf,
                    theme,
                    cookie: cookie.to_owned(),
                    site,
                })
            })
            .await;
        match cached {
            Known::Somebody(signed) => Outcome::Success(signed.clone()),
            Known::Nobody => Outcome::Error((Status::Unauthorized, "nobody is signed in")),
            Known::NotNow => Outcome::Error((Status::ServiceUnavailable, "the database is away")),
        }
    }
}

/// Who a request is by, looked up once.
pub(crate) enum Known {
    Nobody,
    Somebody(Signed),
    /// The database does not answer: nobody is sent away for that.
    NotNow,
}

/// What an open page asks for by itself, again and again, keeps nobody signed in: a page left open is nobody's work.
fn asked_by_itself(path: &str) -> bool {
    path == "/live" || path == "/work" || path.ends_with("/part")
}

/// Did this request come from a page of ours? Browsers say so; without their word the origin must be ours.
pub(crate) fn from_here(request: &Request<'_>) -> bool {
    match request.headers().get_one("Sec-Fetch-Site") {
        Some(site) => matches!(site, "same-origin" | "none"),
        None => shows_our_origin(request),
    }
}

fn shows_our_origin(request: &Request<'_>) -> bool {
    let origin = request.headers().get_one("Origin");
    let origin = origin.and_then(|o| o.split_once("://")).map(|o| o.1);
    origin.is_some() && origin == request.headers().get_one("Host")
}

/// A request that a page of ours made; a socket's request shows its origin, and nothing else would stop a foreign page.
pub(crate) struct SameOrigin;

#[rocket::async_trait]
impl<'r> FromRequest<'r> for SameOrigin {
    type Error = &'static str;
    async fn from_request(request: &'r Request<'_>) -> Outcome<Self, Self::Error> {
        if shows_our_origin(request) {
            Outcome::Success(SameOrigin)
        } else {
            Outcome::Error((Status::Forbidden, "foreign"))
        }
    }
}

/// A guard that lets only those through who may do `act`.
macro_rules! guard {
    ($(#[$doc:meta])* $name:ident, $act:expr) => {
        $(#[$doc])*
        #[derive(Debug, Clone)]
        pub(crate) struct $name(pub(crate) Signed);

        #[rocket::async_trait]
        impl<'r> FromRequest<'r> for $name {
            type Error = &'static str;
            async fn from_request(request: &'r Request<'_>) -> Outcome<Self, Self::Error> {
                match Signed::from_request(request).await {
                    Outcome::Success(signed) if signed.may($act) => Outcome::Success($name(signed)),
                    Outcome::Success(_) => Outcome::Error((Status::Forbidden, "role")),
                    Outcome::Error(error) => Outcome::Error(error),
                    Outcome::Forward(status) => Outcome::Forward(status),
                }
            }
        }
    };
}

guard!(/** May look for, claim and hand back hosts. */ MayHosts, Act::Hosts);
guard!(/** May change storage and networks. */ MayStorage, Act::Storage);
guard!(/** May create and change machines. */ MayMachines, Act::Machines);
guard!(/** May send images. */ MayImages, Act::Images);
guard!(/** May add and change people. */ MayPeople, Act::People);
guard!(/** May change settings of the installation. */ MaySettings, Act::Settings);
