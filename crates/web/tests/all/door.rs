//! The door: odd names, odd ways, whose browser it is; what is told of it; and what happens while the database is away.

use crate::house::{ESTATE, House, PASSWORD};
use rocket::http::{ContentType, Cookie, Header, Status};
use sqlx::PgPool;

#[sqlx::test(migrations = false)]
async fn a_name_that_nobody_can_have_is_wrong_and_no_failure(pool: PgPool) {
    let house = House::new(&pool, ESTATE).await;
    let long = "x".repeat(100_000);
    for name in [
        "ada%00",
        "%E2%80%AEada",
        long.as_str(),
        "%FF%FE",
        "",
        "a'b",
        "ada%0D%0A",
    ] {
        let answer = house.sign_in_with(name, "wrong", "same-origin").await;
        let refused = [Status::Unauthorized, Status::PayloadTooLarge].contains(&answer.status());
        assert!(refused, "{name:.20}: {}", answer.status());
        let page = answer.into_string().await.unwrap();
        assert!(
            page.len() < 4000,
            "what was typed does not make the page grow"
        );
    }
    assert_eq!(house.sign_in("ada").await.name(), "zastrugi");
}

#[sqlx::test(migrations = false)]
async fn wherever_somebody_came_from_it_is_a_way_of_this_site(pool: PgPool) {
    let house = House::new(&pool, ESTATE).await;
    let cookie = house.sign_in("vera").await;
    let token = house.token(&cookie).await;
    for (next, to) in [
        ("%2Fmachines%3Fq%3Dx", "/machines?q=x"),
        (
            "%2Fmachines%3Fq%3D%C3%A6+%3Cb%3E",
            "/machines?q=%C3%A6%20%3Cb%3E",
        ),
        ("%2F%00%01%7F%7B%7D%5B%5D%5E%60%7C%22", ""),
        ("https%3A%2F%2Felsewhere.example", "/"),
        ("%2F%2Felsewhere.example", "/"),
        ("%2F%25zz", ""),
    ] {
        let answer = house
            .client
            .post("/sign-in")
            .header(ContentType::Form)
            .header(Header::new("Sec-Fetch-Site", "same-origin"))
            .body(format!("name=vera&password={PASSWORD}&next={next}"))
            .dispatch()
            .await;
        assert_eq!(answer.status(), Status::SeeOther, "{next}");
        let went = answer.headers().get_one("Location").unwrap();
        assert!(
            went.starts_with('/') && (to.is_empty() || went == to),
            "{next}: {went}"
        );
    }
    for referer in [
        "http://x/machines?q=æ ø",
        "http://x//evil",
        "\u{1}",
        "http://x/{}|^",
    ] {
        let answer = house
            .client
            .post("/settings/site")
            .cookie(cookie.clone())
            .header(ContentType::Form)
            .header(Header::new("Sec-Fetch-Site", "same-origin"))
            .header(Header::new("Referer", referer))
            .body(format!("_csrf={token}&site=1"))
            .dispatch()
            .await;
        assert_eq!(answer.status(), Status::SeeOther, "{referer:?}");
    }
}

#[sqlx::test(migrations = false)]
async fn blanks_at_the_ends_of_a_password_are_part_of_it(pool: PgPool) {
    let house = House::new(&pool, ESTATE).await;
    let ada = house.sign_in("ada").await;
    let token = house.token(&ada).await;
    let body = format!("_csrf={token}&name=bosun&role=viewer&password=++two+blanks++");
    let (status, _) = house.post(&ada, "/settings/people", body).await;
    assert_eq!(status, Status::SeeOther);
    let with = |password: &'static str| house.sign_in_with("bosun", password, "same-origin");
    assert_eq!(with("++two+blanks++").await.status(), Status::SeeOther);
    assert_eq!(with("two+blanks").await.status(), Status::Unauthorized);
}

#[sqlx::test(migrations = false)]
async fn a_secure_cookie_is_given_up_securely(pool: PgPool) {
    let house = House::served(&pool, ESTATE, true).await;
    let answer = house.sign_in_with("vera", PASSWORD, "same-origin").await;
    let cookie: Cookie<'static> = answer
        .cookies()
        .get("__Host-zastrugi")
        .unwrap()
        .clone()
        .into_owned();
    let token = house.token(&cookie).await;
    let answer = house
        .client
        .post("/sign-out")
        .cookie(cookie)
        .header(ContentType::Form)
        .header(Header::new("Sec-Fetch-Site", "same-origin"))
        .body(format!("_csrf={token}"))
        .dispatch()
        .await;
    let removed: Vec<&str> = answer.headers().get("Set-Cookie").collect();
    let removed = removed
        .iter()
        .find(|c| c.starts_with("__Host-zastrugi="))
        .unwrap();
    assert!(
        removed.contains("Secure") && removed.contains("Path=/"),
        "{removed}"
    );
}

#[sqlx::test(migrations = false)]
async fn nobody_gets_a_name_that_is_taken_for_anothers_or_for_the_systems(pool: PgPool) {
    let house = House::new(&pool, ESTATE).await;
    let ada = house.sign_in("ada").await;
    let token = house.token(&ada).await;
    for (name, words) in [
        ("OTTO", "There is a person otto already"),
        // A Cyrillic о.
        ("\u{43e}tto", "taken for that of otto"),
        ("0tto", "taken for that of otto"),
        ("Zastrugi", "taken for Zastrugi itself"),
        // A Cyrillic і.
        ("zastrug\u{456}", "taken for Zastrugi itself"),
        ("a b", "letters, digits, dots or hyphens"),
    ] {
        let typed = form_urlencoded::byte_serialize(name.as_bytes()).collect::<String>();
        let body = format!("_csrf={token}&name={typed}&role=viewer&password=long+enough+it+is");
        let (status, page) = house.post(&ada, "/settings/people", body).await;
        assert_eq!(status, Status::UnprocessableEntity, "{name}");
        assert!(page.contains(words), "{name}: {words}");
    }
}

#[sqlx::test(migrations = false)]
async fn who_comes_who_was_refused_and_what_an_admin_changed_stands_in_the_logbook(pool: PgPool) {
    let house = House::new(&pool, ESTATE).await;
    drop(
        house
            .sign_in_with("otto", "wrong password", "same-origin")
            .await,
    );
    drop(
        house
            .sign_in_with("my secret password", "x", "same-origin")
            .await,
    );
    let ada = house.sign_in("ada").await;
    let token = house.token(&ada).await;
    for (path, body) in [
        (
            "/settings/people",
            "name=bosun&role=viewer&password=long+enough+it+is",
        ),
        (
            "/settings/networks",
            "networks=127.1.0.0%2F16+10.9.0.0%2F16",
        ),
    ] {
        let (status, page) = house
            .post(&ada, path, format!("_csrf={token}&{body}"))
            .await;
        assert_eq!(status, Status::SeeOther, "{path}: {page}");
    }
    let id: i64 = sqlx::query_scalar("select id from person where name = 'bosun'")
        .fetch_one(&pool)
        .await
        .unwrap();
    let path = format!("/settings/people/{id}");
    let change = format!("_csrf={token}&role=operator&active=yes");
    assert_eq!(house.post(&ada, &path, change).await.0, Status::SeeOther);
    let (_, told) = house.get(&ada, "/logbook/events.csv").await;
    for line in [
        "Zastrugi,people,A sign-in as otto from ",
        "A sign-in as a name that nobody has from ",
        "ada,people,Signed in from ",
        "\"bosun may sign in, as viewer\"",
        "Management networks: added 10.9.0.0/16",
        "bosun is now operator",
    ] {
        assert!(told.contains(line), "{line}: {told}");
    }
    assert!(!told.contains("my secret password"), "it may be a password");
}

#[sqlx::test(migrations = false)]
async fn while_the_database_is_away_pages_say_so_and_keep_what_was_typed(pool: PgPool) {
    let house = House::new(&pool, ESTATE).await;
    let ada = house.sign_in("ada").await;
    let token = house.token(&ada).await;
    for statement in [
        "alter table session rename to gone",
        "alter table head rename to away",
    ] {
        sqlx::query(statement).execute(&pool).await.unwrap();
    }
    let (status, page) = house.get(&ada, "/machines").await;
    assert_eq!(status, Status::Ok, "nobody is sent away: {page:.200}");
    let body = format!("_csrf={token}&sent=1&ids=7&labels=owner%3Dcargo&note=for+the+spring");
    let (status, page) = house.post(&ada, "/sheet/edit-machines", body).await;
    assert_eq!(status, Status::UnprocessableEntity, "{page:.300}");
    assert!(page.contains("value=\"owner=cargo\"") && page.contains("for the spring"));
    assert!(page.contains("Nothing was started"), "{page}");
    let stranger = Cookie::new("zastrugi", "somebody");
    let (status, page) = house.get(&stranger, "/machines").await;
    assert_eq!(
        status,
        Status::ServiceUnavailable,
        "not to the sign-in page"
    );
    assert!(page.contains("The database does not answer"));
    for sql in ["relation", "does not exist", "sqlx", "SQL", "column"] {
        assert!(!page.contains(sql), "{sql}");
    }
}

#[sqlx::test(migrations = false)]
async fn a_database_that_takes_no_writes_is_not_ready(pool: PgPool) {
    let house = House::new(&pool, ESTATE).await;
    let ada = house.sign_in("ada").await;
    let ready = async || house.client.get("/readyz").dispatch().await.status();
    assert_eq!(ready().await, Status::Ok);
    let mut hangs = pool.begin().await.unwrap();
    sqlx::query("lock table pulse in access exclusive mode")
        .execute(&mut *hangs)
        .await
        .unwrap();
    let eventually = async |status| {
        for _ in 0..300 {
            if ready().await == status {
                return;
            }
            tokio::time::sleep(std::time::Duration::from_millis(100)).await;
        }
        panic!("it never said {status}");
    };
    eventually(Status::ServiceUnavailable).await;
    let (status, page) = house.get(&ada, "/work").await;
    assert_eq!(status, Status::Ok);
    assert!(page.contains("the database takes no writes"), "{page}");
    drop(hangs);
    eventually(Status::Ok).await;
}

async fn person(house: &House, name: &str) -> u64 {
    let all = house.desk().people().await.unwrap();
    all.into_iter().find(|p| p.name == name).unwrap().id.0
}

/// Somebody lost their password: without this, a new account would be the only way, with everything of the old one lost.
#[sqlx::test(migrations = false)]
async fn a_lost_password_is_replaced_by_one_for_once_and_that_by_ones_own(pool: PgPool) {
    let house = House::new(&pool, ESTATE).await;
    let vera = house.sign_in("vera").await;
    let (id, ada) = (person(&house, "vera").await, house.sign_in("ada").await);
    let body = format!("_csrf={}", house.token(&ada).await);
    let own = format!("/settings/people/{}/password", person(&house, "ada").await);
    let (status, page) = house.post(&ada, &own, body.clone()).await;
    assert_eq!(status, Status::UnprocessableEntity);
    assert!(page.contains("Change your own under Settings"));
    let path = format!("/settings/people/{id}/password");
    let (status, page) = house.post(&ada, &path, body).await;
    assert_eq!(status, Status::Ok);
    let drawn = page.split("<code class=\"mono\">").nth(1).unwrap();
    let drawn = drawn.split('<').next().unwrap().to_owned();
    assert_eq!(drawn.len(), 19, "four groups of four");
    let (_, again) = house.get(&ada, "/settings/people").await;
    assert!(!again.contains(&drawn), "it is shown once");
    assert!(again.contains("not used yet"));
    assert_eq!(
        house.get(&vera, "/machines").await.0,
        Status::SeeOther,
        "her sessions ended"
    );
    let old = house.sign_in_with("vera", PASSWORD, "same-origin").await;
    assert_eq!(old.status(), Status::Unauthorized);
    let attempt = async |more: &str| {
        let password = format!("{drawn}{more}");
        let answer = house.sign_in_with("vera", &password, "same-origin").await;
        let (status, cookie) = (answer.status(), answer.cookies().get("zastrugi").is_some());
        (
            status,
            cookie,
            answer.into_string().await.unwrap_or_default(),
        )
    };
    for (more, says) in [
        ("", "choose your own"),
        ("&fresh=short&again=short", "at least 10 characters"),
        ("&fresh=tide-and-time&again=time-and-tide", "differ"),
        ("&fresh=password12&again=password12", "guessed soon"),
        (
            &format!("&fresh={drawn}&again={drawn}"),
            "another than the one",
        ),
    ] {
        let (status, cookie, page) = attempt(more).await;
        assert_eq!((status, cookie), (Status::Unauthorized, false), "{more}");
        assert!(
            page.contains(says) && page.contains("name=\"fresh\""),
            "{more}: {page}"
        );
    }
    let (status, cookie, _) = attempt("&fresh=tide-and-time&again=tide-and-time").await;
    assert_eq!((status, cookie), (Status::SeeOther, true));
    assert_eq!(attempt("").await.0, Status::Unauthorized, "for once");
    let (_, told) = house.get(&ada, "/logbook/events").await;
    assert!(
        told.contains("vera was given a password for once"),
        "{told}"
    );
}

#[sqlx::test(migrations = false)]
async fn a_password_for_once_lapses(pool: PgPool) {
    let house = House::new(&pool, ESTATE).await;
    let (id, ada) = (person(&house, "vera").await, house.sign_in("ada").await);
    let path = format!("/settings/people/{id}/password");
    let body = format!("_csrf={}", house.token(&ada).await);
    let (_, page) = house.post(&ada, &path, body).await;
    let drawn = page.split("<code class=\"mono\">").nth(1).unwrap();
    let drawn = drawn.split('<').next().unwrap();
    sqlx::query(
        "update person set one_time_until = now() - interval '1 minute' where name = 'vera'",
    )
    .execute(&pool)
    .await
    .unwrap();
    let with = format!("{drawn}&fresh=tide-and-time&again=tide-and-time");
    let answer = house.sign_in_with("vera", &with, "same-origin").await;
    assert_eq!(answer.status(), Status::Unauthorized);
    let page = answer.into_string().await.unwrap();
    assert!(page.contains("are over; ask an admin"), "{page}");
}
