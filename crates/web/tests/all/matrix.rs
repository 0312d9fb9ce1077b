//! Every route × every role: the default is to deny.

use crate::house::{ESTATE, House};
use rocket::http::{ContentType, Header, Method, Status};
use sqlx::PgPool;

/// Sheets, and the least role that may open each: said here a second time, on purpose. A sheet that isn't here fails.
const SHEETS: [(&str, usize); 112] = [
    ("failover", 1),
    ("take-up", 1),
    ("plan", 2),
    ("turn-plan", 2),
    ("move-plan", 1),
    ("remove-plan", 2),
    ("drill", 1),
    ("answer-plan", 1),
    ("pair", 2),
    ("remove-pair", 2),
    ("start-replica", 1),
    ("free-replica", 1),
    ("let-go", 2),
    ("prove", 1),
    ("must-answer", 1),
    ("ask-now", 1),
    ("back-up", 1),
    ("copy-snapshot", 1),
    ("put-back", 1),
    ("job", 1),
    ("begin-job", 1),
    ("pause-job", 1),
    ("remove-job", 1),
    ("bring-disks", 1),
    ("make-store", 2),
    ("forget-store", 2),
    ("set-back", 2),
    ("pledge", 1),
    ("remove-pledge", 1),
    ("read-store", 2),
    ("give-pledge", 1),
    ("except-disks", 1),
    ("console-password", 1),
    ("schedule", 1),
    ("pause-schedule", 1),
    ("remove-schedule", 1),
    ("bring-disk", 1),
    ("pool", 1),
    ("end-pool", 1),
    ("hand-out", 1),
    ("give-back", 1),
    ("move-and-grow", 1),
    ("share-disk", 1),
    ("shared-nodes", 1),
    ("end-shared", 1),
    ("pack", 1),
    ("write-disk", 1),
    ("keep-first-boot", 1),
    ("remove-first-boot", 1),
    ("withdraw", 1),
    ("make-template", 1),
    ("remove-versions", 2),
    ("make-whole", 1),
    ("hardware", 1),
    ("attach-disk", 1),
    ("spare-disks", 1),
    ("register-records", 1),
    ("forget-records", 1),
    ("snapshot", 1),
    ("go-back", 1),
    ("delete-snapshots", 1),
    ("keep-snapshot", 1),
    ("names", 2),
    ("take-over", 2),
    ("leave-cluster", 2),
    ("rule", 2),
    ("fault-domains", 2),
    ("move", 1),
    ("claim", 2),
    ("hand-back", 2),
    ("host-power", 2),
    ("maintenance", 2),
    ("test-fencing", 2),
    ("host-back", 2),
    ("change-network", 2),
    ("join-cluster", 2),
    ("keepers", 2),
    ("edit-host", 2),
    ("new-cluster", 2),
    ("build", 2),
    ("edit-cluster", 2),
    ("new-machines", 1),
    ("edit-machines", 1),
    ("power", 1),
    ("delete", 1),
    ("recover", 1),
    ("purge", 2),
    ("connect-array", 2),
    ("array-access", 2),
    ("remove-array", 2),
    ("withdraw-reach", 2),
    ("delete-lun", 2),
    ("connect-volume", 2),
    ("heal-volume", 2),
    ("extend-volume", 2),
    ("qualities", 2),
    ("edit-volume", 2),
    ("give-volume", 2),
    ("add-image", 1),
    ("edit-image", 2),
    ("remove-image", 2),
    ("connect-switch", 2),
    ("connect-balancer", 2),
    ("forget-balancer", 2),
    ("front", 2),
    ("remove-front", 2),
    ("lend-disks", 2),
    ("go-on-without", 2),
    ("new-network", 2),
    ("heal-network", 2),
    ("edit-network", 2),
    ("remove-network", 2),
];

#[test]
fn every_sheet_is_known_here_with_who_may_open_it() {
    use zastrugi_core::permits::{Permits, Role};
    let offered = zastrugi_web::sheets();
    let mut words: Vec<_> = offered.iter().map(|s| s.0).collect();
    let mut known: Vec<_> = SHEETS.iter().map(|s| s.0).collect();
    words.sort_unstable();
    known.sort_unstable();
    assert_eq!(words, known);
    for (word, act) in offered {
        let least = Role::ALL.iter().position(|r| Permits::of(*r).allow(act));
        let said = SHEETS.iter().find(|s| s.0 == word).map(|s| s.1);
        assert_eq!(least, said, "{word}");
    }
}

/// Routes that anybody may call, signed in or not.
const OPEN: [&str; 6] = [
    "/healthz",
    "/readyz",
    "/sign-in",
    "/assets/<name>",
    "/favicon.ico",
    "/media/<word>/<part>",
];

/// The least role for a route: 0 viewer, 1 operator, 2 admin.
fn least(method: Method, route: &str) -> usize {
    match (method, route) {
        (_, r) if r.starts_with("/hosts/look") => 2,
        (_, "/clusters/build/save") => 2,
        (_, r) if r.starts_with("/settings/people") => 2,
        (_, "/settings/networks") => 2,
        (_, r) if r.starts_with("/weather") => 2,
        (_, r) if r.contains("/<session>/file") => 1,
        (_, "/storage/images/<id>/received" | "/storage/images/<id>/bytes") => 1,
        _ => 0,
    }
}

fn with_values(route: &str) -> Vec<(String, Option<usize>)> {
    if route.contains("<kind>") {
        return SHEETS
            .iter()
            .map(|(kind, role)| {
                (
                    format!("{}?ids=7", route.replace("<kind>", kind)),
                    Some(*role),
                )
            })
            .collect();
    }
    let id = if route.starts_with("/hosts") {
        "1"
    } else if route.starts_with("/clusters") {
        "901"
    } else {
        "7"
    };
    vec![(
        route
            .replace("<id>", id)
            .replace("<of>", "machine-7")
            .replace("<key>", "00000000-0000-4000-8000-000000000000")
            .replace("<machine>", "00000000-0000-4000-8000-000000000000")
            .replace("<session>", "00000000-0000-4000-8000-000000000000")
            .replace("<host>", "1"),
        None,
    )]
}

#[sqlx::test(migrations = false)]
async fn each_route_is_open_to_those_it_is_meant_for_and_to_nobody_else(pool: PgPool) {
    let house = House::new(&pool, ESTATE).await;
    let people = [
        house.sign_in("vera").await,
        house.sign_in("otto").await,
        house.sign_in("ada").await,
    ];
    let routes: Vec<_> = house
        .client
        .rocket()
        .routes()
        .map(|r| (r.method, r.uri.path().to_owned()))
        .collect();
    assert!(routes.len() > 30, "{} routes", routes.len());
    for (method, route) in routes {
        if OPEN.contains(&route.as_str()) || route == "/live" {
            continue;
        }
        for (path, sheet) in with_values(&route) {
            let needs = sheet.unwrap_or_else(|| least(method, &route));
            let ask = |cookie: Option<&rocket::http::Cookie<'static>>| {
                let mut request = house
                    .client
                    .req(method, path.clone())
                    .header(ContentType::Form);
                request = request.header(Header::new("Sec-Fetch-Site", "same-origin"));
                if let Some(cookie) = cookie {
                    request = request.cookie(cookie.clone());
                }
                async move { request.dispatch().await.status() }
            };
            let nobody = ask(None).await;
            let sent_away = nobody == Status::SeeOther || nobody == Status::Unauthorized;
            assert!(sent_away, "{method} {path} answers {nobody} to nobody");
            // A socket is opened by a ticket, not by a role; it has a test of its own.
            if route.ends_with("/socket") {
                continue;
            }
            for (role, cookie) in people.iter().enumerate() {
                let status = ask(Some(cookie)).await;
                if method == Method::Post || role < needs {
                    // A write without the session's token is refused to everybody.
                    assert_eq!(status, Status::Forbidden, "{method} {path} as {role}");
                } else {
                    assert_ne!(status, Status::Forbidden, "{method} {path} as {role}");
                    assert!(status.code < 500, "{method} {path} as {role}: {status}");
                }
            }
        }
    }
}

#[sqlx::test(migrations = false)]
async fn a_role_that_may_not_is_refused_with_a_good_token_too(pool: PgPool) {
    let house = House::new(&pool, ESTATE).await;
    let roles = ["vera", "otto", "ada"];
    for (role, name) in roles.iter().enumerate() {
        let cookie = house.sign_in(name).await;
        let token = house.token(&cookie).await;
        for (kind, needs) in SHEETS {
            let (status, _) = house
                .post(
                    &cookie,
                    &format!("/sheet/{kind}"),
                    format!("_csrf={token}&sent=1&ids=77"),
                )
                .await;
            let expected = if role < needs {
                Status::Forbidden
            } else {
                Status::UnprocessableEntity
            };
            assert_eq!(status, expected, "{kind} as {name}");
        }
        for path in ["/settings/people", "/settings/networks", "/hosts/look"] {
            let (status, _) = house
                .post(
                    &cookie,
                    path,
                    format!("_csrf={token}&networks=x&role=x&range=x"),
                )
                .await;
            let expected = if role < 2 {
                Status::Forbidden
            } else {
                Status::UnprocessableEntity
            };
            assert_eq!(status, expected, "{path} as {name}");
        }
    }
}

#[sqlx::test(migrations = false)]
async fn a_write_from_another_site_is_refused_even_with_cookie_and_token(pool: PgPool) {
    let house = House::new(&pool, ESTATE).await;
    let cookie = house.sign_in("ada").await;
    let token = house.token(&cookie).await;
    for (header, value, fine) in [
        ("Sec-Fetch-Site", "cross-site", false),
        ("Sec-Fetch-Site", "same-site", false),
        ("Origin", "https://elsewhere.example", false),
        ("Sec-Fetch-Site", "same-origin", true),
    ] {
        let answer = house
            .client
            .post("/settings/theme")
            .cookie(cookie.clone())
            .header(ContentType::Form)
            .header(Header::new(header, value))
            .body(format!("_csrf={token}&theme=night"))
            .dispatch()
            .await;
        assert_eq!(
            answer.status() == Status::NoContent,
            fine,
            "{header}: {value}"
        );
    }
    assert_eq!(
        house.sign_in_with("ada", "x", "cross-site").await.status(),
        Status::Forbidden
    );
}

#[sqlx::test(migrations = false)]
async fn every_answer_carries_the_policy_and_pages_are_not_kept(pool: PgPool) {
    let house = House::new(&pool, ESTATE).await;
    let cookie = house.sign_in("ada").await;
    for path in ["/", "/machines", "/nowhere", "/healthz", "/sign-in"] {
        let answer = house
            .client
            .get(path)
            .cookie(cookie.clone())
            .dispatch()
            .await;
        let policy = answer
            .headers()
            .get_one("Content-Security-Policy")
            .unwrap_or_default();
        assert!(
            policy.starts_with("default-src 'none'; script-src 'self'")
                && !policy.contains("unsafe"),
            "{path}"
        );
        assert_eq!(
            answer.headers().get_one("Cache-Control"),
            Some("no-store"),
            "{path}"
        );
        let page = answer.into_string().await.unwrap();
        assert!(
            !page.contains(" style=\"") && !page.contains("<style") && !page.contains(" onclick="),
            "{path} is inline"
        );
    }
}

/// Routes that write, besides sheets, and the least role for each; none: it depends on what it is about, or ends the
/// session, and has a test of its own. One that isn't here fails.
const WRITES: [(&str, Option<usize>); 24] = [
    ("/clusters/build/save", Some(2)),
    ("/console/<of>/ticket", Some(0)),
    ("/hosts/look", Some(2)),
    ("/hosts/look/announced", Some(2)),
    ("/logbook/runs/<id>", None),
    ("/networks/<id>/try", Some(2)),
    ("/protect/stores/<id>/<machine>/<session>/file", Some(1)),
    ("/protect/stores/<id>/key", Some(2)),
    ("/screen/<id>/ticket", Some(0)),
    ("/settings/history", Some(2)),
    ("/settings/let-go", Some(2)),
    ("/settings/macs", Some(2)),
    ("/settings/networks", Some(2)),
    ("/settings/password", None),
    ("/settings/people", Some(2)),
    ("/settings/people/<id>", Some(2)),
    ("/settings/people/<id>/password", Some(2)),
    ("/settings/site", Some(0)),
    ("/settings/take-over", None),
    ("/settings/theme", Some(0)),
    ("/sheet/<kind>", None),
    ("/sign-in", None),
    ("/sign-out", None),
    ("/weather", Some(2)),
];

/// If this fails, somebody wrote a route that changes things and forgot to say who may.
#[sqlx::test(migrations = false)]
async fn every_route_that_writes_refuses_whoever_may_not(pool: PgPool) {
    let house = House::new(&pool, ESTATE).await;
    let routes = house.client.rocket().routes();
    let mut posts: Vec<String> = routes
        .filter(|r| r.method == Method::Post)
        .map(|r| r.uri.path().to_owned())
        .collect();
    posts.sort_unstable();
    posts.dedup();
    assert_eq!(posts, WRITES.map(|w| w.0.to_owned()));
    for (role, name) in ["vera", "otto", "ada"].iter().enumerate() {
        let cookie = house.sign_in(name).await;
        let token = house.token(&cookie).await;
        for (route, needs) in WRITES {
            let Some(needs) = needs else { continue };
            let (path, _) = with_values(route).remove(0);
            let body = format!("_csrf={token}&networks=x&role=x&range=x&theme=day&site=");
            let (status, _) = house.post(&cookie, &path, body).await;
            let refused = status == Status::Forbidden;
            assert_eq!(refused, role < needs, "{path} as {name}: {status}");
        }
    }
}

#[sqlx::test(migrations = false)]
async fn a_new_history_is_begun_only_by_whoever_says_that_they_looked(pool: PgPool) {
    let house = House::new(&pool, ESTATE).await;
    let cookie = house.sign_in("ada").await;
    let token = house.token(&cookie).await;
    let begin = |more: &str| format!("_csrf={token}{more}");
    let (status, page) = house.post(&cookie, "/settings/history", begin("")).await;
    assert_eq!(status, Status::UnprocessableEntity);
    assert!(page.contains("Look at the devices first"));
    let (_, before) = house.get(&cookie, "/settings").await;
    assert!(before.contains("class=\"mono\">1."), "still the first");
    let (status, _) = house
        .post(&cookie, "/settings/history", begin("&looked=yes"))
        .await;
    assert_eq!(status, Status::SeeOther);
    let (_, after) = house.get(&cookie, "/settings").await;
    assert!(after.contains("class=\"mono\">2."), "a second history");
}
