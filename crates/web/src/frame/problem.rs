//! What went wrong, for a person: the only responder for failures.

use super::{Signed, headers::is_htmx, server::NUMBER};
use askama::Template;
use rocket::{
    Request, Response, catch,
    http::{ContentType, Header, Status},
    request::{FromRequest, Outcome},
    response::{self, Redirect, Responder},
};
use std::io::Cursor;
use zastrugi_engine::{AnswerError, Desk, StoreError};

#[derive(Debug)]
pub(crate) struct Problem {
    pub(crate) status: Status,
    pub(crate) text: String,
    pub(crate) hint: String,
}

impl Problem {
    pub(crate) fn not_found(what: &str) -> Self {
        Problem {
            status: Status::NotFound,
            text: format!("{what} is not there."),
            hint: "It may have been removed, or the address has a slip in it.".into(),
        }
    }
    pub(crate) fn not_allowed() -> Self {
        Problem {
            status: Status::Forbidden,
            text: "Your role does not allow this.".into(),
            hint: "Ask an admin, or sign in as somebody else.".into(),
        }
    }
}

impl From<StoreError> for Problem {
    fn from(error: StoreError) -> Self {
        tracing::warn!(error = %error.detail(), "a page could not be made");
        away()
    }
}

impl From<AnswerError> for Problem {
    fn from(error: AnswerError) -> Self {
        match error {
            AnswerError::NotAllowed => Problem::not_allowed(),
            other => Problem {
                status: Status::Conflict,
                text: format!("Nothing was changed: {other}."),
                hint: "Look at the run again.".into(),
            },
        }
    }
}

#[derive(Template)]
#[template(path = "frame/problem.html")]
struct ProblemPage {
    code: u16,
    /// Of the request, as the log has it; empty without a front.
    number: String,
    text: String,
    hint: String,
    theme: String,
    bare: bool,
}

impl<'r> Responder<'r, 'static> for Problem {
    fn respond_to(mut self, request: &'r Request<'_>) -> response::Result<'static> {
        let desk = request.rocket().state::<Desk>();
        if self.status == Status::Forbidden && desk.is_some_and(Desk::stands_by) {
            // Whatever somebody may elsewhere.
            self.text = "This manager stands by, and changes nothing.".into();
            self.hint =
                "Go to the manager; if its site is gone, take over under Settings, Stand-by."
                    .into();
        }
        let cookies = request.cookies();
        let theme = crate::places::door::chosen(cookies.get("theme").map_or("", |c| c.value()));
        let number = request.headers().get_one(NUMBER).unwrap_or_default();
        if self.status.code >= 500 {
            tracing::warn!(number, code = self.status.code, "{}", self.text);
        }
        let page = ProblemPage {
            code: self.status.code,
            number: number
                .chars()
                .take(16)
                .filter(char::is_ascii_hexdigit)
                .collect(),
            text: self.text,
            hint: self.hint,
            theme: theme.into(),
            bare: is_htmx(request),
        };
        let body = page.render().map_err(|_| Status::InternalServerError)?;
        Response::build()
            .status(self.status)
            .header(ContentType::HTML)
            .sized_body(body.len(), Cursor::new(body))
            .ok()
    }
}

/// Sends to the sign-in page; a part of a page can't follow a redirect, so it is told to go there.
pub(crate) enum ToDoor {
    Go(Box<Redirect>),
    Part,
}

impl<'r> Responder<'r, 'static> for ToDoor {
    fn respond_to(self, request: &'r Request<'_>) -> response::Result<'static> {
        match self {
            ToDoor::Go(redirect) => redirect.respond_to(request),
            ToDoor::Part => Response::build()
                .status(Status::Unauthorized)
                .header(Header::new("HX-Redirect", "/sign-in"))
                .ok(),
        }
    }
}

#[catch(401)]
pub(crate) fn unauthorized(request: &Request<'_>) -> ToDoor {
    let live = request.uri().path() == "/live";
    if live || is_htmx(request) {
        return ToDoor::Part;
    }
    let next: String =
        form_urlencoded::byte_serialize(request.uri().to_string().as_bytes()).collect();
    ToDoor::Go(Box::new(Redirect::to(format!("/sign-in?next={next}"))))
}

#[catch(403)]
pub(crate) async fn forbidden(request: &Request<'_>) -> Problem {
    match Signed::from_request(request).await {
        Outcome::Success(_) if request.method() != rocket::http::Method::Get => Problem {
            hint: "If the page was open for long, load it again and repeat.".into(),
            ..Problem::not_allowed()
        },
        _ => Problem::not_allowed(),
    }
}

#[catch(503)]
pub(crate) fn away() -> Problem {
    Problem {
        status: Status::ServiceUnavailable,
        text: "The database does not answer.".into(),
        hint: "Machines go on running, and you stay signed in. Try again in a moment.".into(),
    }
}

#[catch(404)]
pub(crate) fn not_found() -> Problem {
    Problem::not_found("This page")
}

#[catch(default)]
pub(crate) fn other(status: Status, _request: &Request<'_>) -> Problem {
    Problem {
        status,
        text: format!(
            "This did not work ({}).",
            status.reason().unwrap_or("unknown")
        ),
        hint: "Nothing was changed. Try again; if it goes on, look at the server's log.".into(),
    }
}
