//! Settings: one's own, people, management networks.

use super::door::{chosen, remember_theme};
use crate::frame::{
    AtDesk, Fields, Page, Problem, Query, Signed, page,
    viewer::{MayPeople, MaySettings},
    way::inside,
};
use askama::Template;
use rocket::{
    Route, get,
    http::{Cookie, CookieJar, SameSite, Status},
    post,
    response::Redirect,
    routes,
};
use std::net::IpAddr;
use zastrugi_core::{
    ids::PersonId,
    macs::MacRange,
    permits::{Act, Role},
};
use zastrugi_engine::{Networks, PasswordProblem, StoreError};

pub(crate) fn routes() -> Vec<Route> {
    routes![
        own,
        set_theme,
        set_site,
        set_password,
        people,
        add_person,
        change_person,
        reset_password,
        set_networks,
        set_macs,
        begin_history
    ]
}

#[derive(Template)]
#[template(path = "places/settings/own.html")]
struct Own {
    name: String,
    role: &'static str,
    csrf: String,
    networks: String,
    macs: String,
    may_people: bool,
    may_settings: bool,
    said: String,
    wrong: String,
    history: String,
    /// Why orders are held; empty: they are not.
    held: String,
    /// Nothing is changed here.
    stands_by: bool,
}

fn own_page(
    signed: &Signed,
    desk: &AtDesk,
    said: &str,
    wrong: &str,
    typed: Option<&Fields>,
) -> Page {
    let listed = desk
        .networks()
        .0
        .iter()
        .map(ToString::to_string)
        .collect::<Vec<_>>()
        .join("\n");
    // What could not be taken stays as it was typed.
    let again = |name: &str, now: String| match typed.filter(|t| t.has(name)) {
        Some(fields) => fields.get(name).to_owned(),
        None => now,
    };
    let own = Own {
        name: signed.viewer.name.clone(),
        role: signed.viewer.role.word(),
        csrf: signed.csrf.clone(),
        networks: again("networks", listed),
        macs: again("macs", desk.macs().to_string()),
        may_people: signed.may(Act::People),
        may_settings: signed.may(Act::Settings),
        said: said.into(),
        wrong: wrong.into(),
        history: desk.epoch().to_string(),
        held: desk.health().held.unwrap_or_default(),
        stands_by: desk.stands_by(),
    };
    page(signed, desk, "settings", "Settings", &own)
}

#[get("/settings")]
fn own(signed: Signed, desk: &AtDesk, query: Query) -> Page {
    let said = match query.0.get("done") {
        "networks" => "The management networks were changed.",
        "macs" => "New machines get their MAC addresses from this range.",
        "history" => {
            "A new history was begun; orders are given again. Runs that were under way wait for you."
        }
        _ => "",
    };
    own_page(&signed, desk, said, "", None)
}

#[post("/settings/theme", data = "<fields>")]
async fn set_theme(
    signed: Signed,
    desk: &AtDesk,
    jar: &CookieJar<'_>,
    fields: Fields,
) -> Result<Status, Problem> {
    desk.set_theme(&signed.viewer, fields.get("theme")).await?;
    remember_theme(jar, chosen(fields.get("theme")));
    Ok(Status::NoContent)
}

#[post("/settings/site", data = "<fields>")]
fn set_site(_signed: Signed, jar: &CookieJar<'_>, referer: Back, fields: Fields) -> Redirect {
    // A number, or nothing: whatever else was sent is not kept.
    let site = fields.get("site").parse::<u64>();
    let cookie = Cookie::build((
        "site",
        site.map_or_else(|_| String::new(), |s| s.to_string()),
    ))
    .path("/")
    .same_site(SameSite::Strict);
    jar.add(cookie);
    Redirect::to(referer.0)
}

/// The page that one came from: its path alone.
struct Back(String);

#[rocket::async_trait]
impl<'r> rocket::request::FromRequest<'r> for Back {
    type Error = std::convert::Infallible;
    async fn from_request(
        request: &'r rocket::Request<'_>,
    ) -> rocket::request::Outcome<Self, Self::Error> {
        let path = request
            .headers()
            .get_one("Referer")
            .and_then(|r| r.split_once("://"))
            .and_then(|(_, rest)| rest.find('/').map(|at| inside(&rest[at..])))
            .filter(|p| !p.starts_with("/sheet"));
        rocket::request::Outcome::Success(Back(path.unwrap_or_else(|| "/".into())))
    }
}

type Settled = Result<Redirect, (Status, Page)>;

fn problem(error: StoreError) -> (Status, Page) {
    (Status::ServiceUnavailable, Err(error.into()))
}

#[post("/settings/password", data = "<fields>")]
async fn set_password(
    signed: Signed,
    desk: &AtDesk,
    source: Option<IpAddr>,
    fields: Fields,
) -> Settled {
    let again = |words: &str| {
        Err((
            Status::UnprocessableEntity,
            own_page(&signed, desk, "", words, None),
        ))
    };
    if fields.secret("fresh") != fields.secret("again") {
        return again("The two new passwords differ.");
    }
    let source = source.map_or_else(String::new, |ip| ip.to_string());
    let (current, fresh) = (fields.secret("current"), fields.secret("fresh"));
    match desk
        .change_password(&signed.viewer, current, fresh, &source)
        .await
    {
        Ok(()) => Ok(Redirect::to("/sign-in")),
        Err(PasswordProblem::Store(error)) => Err(problem(error)),
        Err(other) => again(&other.to_string()),
    }
}

#[post("/settings/networks", data = "<fields>")]
async fn set_networks(may: MaySettings, desk: &AtDesk, fields: Fields) -> Settled {
    let typed = fields.get("networks");
    match Networks::parse(typed) {
        Ok(networks) => {
            let set = desk.set_networks(&may.0.viewer, networks);
            set.await.map_err(problem)?;
            Ok(Redirect::to("/settings?done=networks"))
        }
        Err(words) => Err((
            Status::UnprocessableEntity,
            own_page(&may.0, desk, "", &words, Some(&fields)),
        )),
    }
}

#[post("/settings/macs", data = "<fields>")]
async fn set_macs(may: MaySettings, desk: &AtDesk, fields: Fields) -> Settled {
    match fields.get("macs").parse::<MacRange>() {
        Ok(range) => {
            let set = desk.set_macs(&may.0.viewer, range);
            set.await.map_err(problem)?;
            Ok(Redirect::to("/settings?done=macs"))
        }
        Err(words) => Err((
            Status::UnprocessableEntity,
            own_page(&may.0, desk, "", &words, Some(&fields)),
        )),
    }
}

struct PersonRow {
    id: u64,
    name: String,
    role: &'static str,
    active: bool,
    me: bool,
    one_time: bool,
    created: String,
}

#[derive(Template)]
#[template(path = "places/settings/people.html")]
struct People {
    csrf: String,
    /// The field that the words stand at.
    field: String,
    rows: Vec<PersonRow>,
    name: String,
    role: String,
    wrong: String,
    /// Whose password was drawn, and what it is: shown this once.
    drawn: Option<(String, String)>,
}

async fn people_page(
    signed: &Signed,
    desk: &AtDesk,
    typed: &Fields,
    (field, wrong): (&str, &str),
    drawn: Option<(String, String)>,
) -> Page {
    let rows = desk
        .people()
        .await?
        .into_iter()
        .map(|p| PersonRow {
            id: p.id.0,
            me: p.id == signed.viewer.id,
            one_time: p.one_time_until.is_some(),
            name: p.name,
            role: p.role.word(),
            active: p.active,
            created: crate::frame::time(p.created),
        })
        .collect();
    let people = People {
        csrf: signed.csrf.clone(),
        field: field.into(),
        rows,
        name: typed.get("name").into(),
        role: typed.or("role", "viewer"),
        wrong: wrong.into(),
        drawn,
    };
    page(signed, desk, "settings", "People", &people)
}

#[get("/settings/people")]
async fn people(may: MayPeople, desk: &AtDesk) -> Page {
    people_page(&may.0, desk, &Fields::default(), ("", ""), None).await
}

/// The page again, with words at a field; at none, above everything.
async fn people_again(
    may: &MayPeople,
    desk: &AtDesk,
    fields: &Fields,
    words: (&str, &str),
) -> Settled {
    Err((
        Status::UnprocessableEntity,
        people_page(&may.0, desk, fields, words, None).await,
    ))
}

#[post("/settings/people", data = "<fields>")]
async fn add_person(may: MayPeople, desk: &AtDesk, fields: Fields) -> Settled {
    let role: Role = match fields.get("role").parse() {
        Ok(role) => role,
        Err(words) => return people_again(&may, desk, &fields, ("role", &words)).await,
    };
    let by = may.0.viewer.who();
    match desk
        .add_person_by(by, fields.get("name"), role, fields.secret("password"))
        .await
    {
        Ok(_) => Ok(Redirect::to("/settings/people")),
        Err(PasswordProblem::Store(error)) => Err(problem(error)),
        Err(other) => {
            let field = match other {
                PasswordProblem::Name(_) => "name",
                _ => "password",
            };
            people_again(&may, desk, &fields, (field, &other.to_string())).await
        }
    }
}

#[post("/settings/people/<id>", data = "<fields>")]
async fn change_person(may: MayPeople, desk: &AtDesk, id: u64, fields: Fields) -> Settled {
    let role: Role = match fields.get("role").parse() {
        Ok(role) => role,
        Err(words) => return people_again(&may, desk, &Fields::default(), ("", &words)).await,
    };
    match desk
        .change_person(
            &may.0.viewer,
            PersonId(id),
            role,
            fields.get("active") == "yes",
        )
        .await
    {
        Ok(()) => Ok(Redirect::to("/settings/people")),
        Err(StoreError::Taken(_)) => {
            let words = "Somebody must stay an admin who can sign in; nothing was changed.";
            people_again(&may, desk, &Fields::default(), ("", words)).await
        }
        Err(error) => Err(problem(error)),
    }
}

/// A password for once, shown in the answer and nowhere else: the answer is no redirect, since nothing keeps it.
#[post("/settings/people/<id>/password", data = "<_fields>")]
async fn reset_password(
    may: MayPeople,
    desk: &AtDesk,
    id: u64,
    _fields: Fields,
) -> Result<Page, (Status, Page)> {
    match desk.reset_password(&may.0.viewer, PersonId(id)).await {
        Ok(drawn) => Ok(people_page(&may.0, desk, &Fields::default(), ("", ""), Some(drawn)).await),
        Err(PasswordProblem::Store(error)) => Err(problem(error)),
        Err(other) => {
            let words = other.to_string();
            let page = people_page(&may.0, desk, &Fields::default(), ("", &words), None).await;
            Err((Status::UnprocessableEntity, page))
        }
    }
}

/// What the database holds is what counts from now on.
#[post("/settings/history", data = "<fields>")]
async fn begin_history(may: MaySettings, desk: &AtDesk, fields: Fields) -> Settled {
    if fields.get("looked") != "yes" {
        let wrong = "Look at the devices first, then say that you did.";
        let page = own_page(&may.0, desk, "", wrong, None);
        return Err((Status::UnprocessableEntity, page));
    }
    match desk.begin_history(&may.0.viewer).await {
        Ok(_) => Ok(Redirect::to("/settings?done=history")),
        Err(error) => {
            let wrong = format!("No new history was begun: {error}. Try again.");
            let page = own_page(&may.0, desk, "", &wrong, None);
            Err((Status::ServiceUnavailable, page))
        }
    }
}
