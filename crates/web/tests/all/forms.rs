//! Forms: words at the field, nothing typed is lost; sessions.

use crate::house::{ESTATE, House};
use rocket::http::Status;
use sqlx::PgPool;

#[sqlx::test(migrations = false)]
async fn bad_input_is_said_and_everything_typed_is_kept(pool: PgPool) {
    let house = House::new(&pool, ESTATE).await;
    let cookie = house.sign_in("otto").await;
    let token = house.token(&cookie).await;
    let typed = "name=db&count=1&vcpus=four&memory=lots&disk=0&provisioning=thin&labels=app%3Dstowage&note=for+the+spring&tier=2&cluster=901";
    let (status, page) = house
        .post(
            &cookie,
            "/sheet/new-machines",
            format!("_csrf={token}&sent=1&{typed}"),
        )
        .await;
    assert_eq!(status, Status::UnprocessableEntity);
    for kept in [
        "value=\"db\"",
        "value=\"four\"",
        "value=\"lots\"",
        "value=\"app=stowage\"",
        "for the spring",
    ] {
        assert!(page.contains(kept), "{kept} is lost");
    }
    for said in [
        "There is a machine db already",
        "“four” is not a whole number",
        "Type a size such as 16 GiB",
        "Disk 1 has no size",
    ] {
        assert!(page.contains(said), "{said} is not said");
    }
    assert!(page.contains("Nothing was started"));
}

#[sqlx::test(migrations = false)]
async fn a_scan_of_a_slash_8_and_an_address_outside_are_refused_at_the_field(pool: PgPool) {
    let house = House::new(&pool, ESTATE).await;
    let cookie = house.sign_in("ada").await;
    let token = house.token(&cookie).await;
    for (range, words) in [
        ("10.0.0.0/8", "16777216 addresses are too many"),
        ("192.0.2.1", "in no management network"),
        ("nonsense", "is not a range"),
        ("", "is not a range"),
    ] {
        let body = format!("_csrf={token}&range={}", range.replace('/', "%2F"));
        let (status, page) = house.post(&cookie, "/hosts/look", body).await;
        assert_eq!(status, Status::UnprocessableEntity, "{range}");
        assert!(page.contains(words), "{range}: {words}");
        assert!(
            page.contains(&format!("value=\"{range}\"")),
            "{range} is lost"
        );
    }
}

#[sqlx::test(migrations = false)]
async fn a_plain_edit_is_recorded_and_told_with_who_did_it(pool: PgPool) {
    let house = House::new(&pool, ESTATE).await;
    let cookie = house.sign_in("otto").await;
    let token = house.token(&cookie).await;
    let body = format!("_csrf={token}&sent=1&ids=7&ids=8&labels=owner%3Dcargo");
    let (status, to) = house.post(&cookie, "/sheet/edit-machines", body).await;
    assert_eq!(status, Status::SeeOther, "{to}");
    let (_, list) = house.get(&cookie, "/machines?label=owner%3Dcargo").await;
    assert!(
        list.contains("2 machines, 1 of them on."),
        "both have the label"
    );
    let (_, csv) = house.get(&cookie, "/logbook/events.csv").await;
    assert!(csv.contains("otto,edit,db: label owner=cargo set"), "{csv}");
    let (_, run) = house.get(&cookie, &to).await;
    assert!(run.contains("it was recorded at once"));
}

#[sqlx::test(migrations = false)]
async fn a_page_left_open_keeps_nobody_signed_in_and_a_person_at_work_does(pool: PgPool) {
    let house = House::new(&pool, ESTATE).await;
    let vera = house.sign_in("vera").await;
    let idle = async || {
        sqlx::query("update session set used = now() - interval '20 minutes'")
            .execute(&pool)
            .await
            .unwrap();
    };
    let kept = async || {
        let query = "select bool_and(used > now() - interval '10 minutes') from session";
        sqlx::query_scalar::<_, bool>(query)
            .fetch_one(&pool)
            .await
            .unwrap()
    };
    for path in ["/work", "/field/part", "/hosts/part", "/logbook/part"] {
        idle().await;
        assert_eq!(house.get(&vera, path).await.0, Status::Ok);
        assert!(!kept().await, "{path} is asked for by the page alone");
    }
    for path in ["/machines", "/find?find=db"] {
        idle().await;
        assert_eq!(house.get(&vera, path).await.0, Status::Ok, "{path}");
        assert!(kept().await, "{path} is asked for by a person");
    }
}

#[sqlx::test(migrations = false)]
async fn a_session_ends_with_sign_out_and_with_a_change_of_role(pool: PgPool) {
    let house = House::new(&pool, ESTATE).await;
    let vera = house.sign_in("vera").await;
    assert_eq!(house.get(&vera, "/").await.0, Status::Ok);
    let ada = house.sign_in("ada").await;
    let token = house.token(&ada).await;
    let (_, people) = house.get(&ada, "/settings/people").await;
    let id = people
        .split("/settings/people/")
        .skip(1)
        .map(|p| p.split('"').next().unwrap())
        .filter(|p| !p.ends_with("/password"))
        .nth(2)
        .unwrap()
        .to_owned();
    let (status, _) = house
        .post(
            &ada,
            &format!("/settings/people/{id}"),
            format!("_csrf={token}&role=operator&active=yes"),
        )
        .await;
    assert_eq!(status, Status::SeeOther);
    assert_eq!(
        house.get(&vera, "/").await.0,
        Status::SeeOther,
        "vera signs in again, with her new role"
    );
    let (status, page) = house
        .post(
            &ada,
            "/settings/people/3",
            format!("_csrf={token}&role=viewer&active=yes"),
        )
        .await;
    assert_eq!(status, Status::UnprocessableEntity);
    assert!(page.contains("Somebody must stay an admin"));
    house
        .post(&ada, "/sign-out", format!("_csrf={token}"))
        .await;
    assert_eq!(house.get(&ada, "/").await.0, Status::SeeOther);
}

#[sqlx::test(migrations = false)]
async fn names_from_outside_are_shown_as_text(pool: PgPool) {
    let house = House::new(&pool, ESTATE).await;
    let cookie = house.sign_in("otto").await;
    let token = house.token(&cookie).await;
    let body = format!(
        "_csrf={token}&sent=1&ids=7&name=db&vcpus=2&memory=64+GiB&kept=64+GiB&max=64+GiB&labels=&tier=3&protected=no&note=%3Cscript%3Ealert(1)%3C%2Fscript%3E"
    );
    house.post(&cookie, "/sheet/edit-machines", body).await;
    let (_, page) = house.get(&cookie, "/machines/7").await;
    assert!(
        page.contains("&#60;script&#62;") || page.contains("&lt;script&gt;"),
        "the note is there, as text"
    );
    assert!(!page.contains("<script>alert"));
    let (_, found) = house.get(&cookie, "/find?q=%3Cb%3E").await;
    assert!(!found.contains("<b>"));
}

#[sqlx::test(migrations = false)]
async fn an_unreachable_host_is_said_with_what_to_do(pool: PgPool) {
    let house = House::new(&pool, ESTATE).await;
    let cookie = house.sign_in("ada").await;
    let token = house.token(&cookie).await;
    let (status, _) = house
        .post(
            &cookie,
            "/hosts/look",
            format!("_csrf={token}&range=127.1.0.9"),
        )
        .await;
    assert_eq!(status, Status::SeeOther);
    let mut page = String::new();
    for _ in 0..100 {
        page = house.get(&cookie, "/hosts/look").await.1;
        if page.contains("nobody answered") {
            break;
        }
        rocket::tokio::time::sleep(std::time::Duration::from_millis(50)).await;
    }
    assert!(
        page.contains("<b>127.1.0.9:7443 can&#39;t be reached.</b>"),
        "{page}"
    );
    assert!(page.contains("Check that the host is on"), "{page}");
}

#[sqlx::test(migrations = false)]
async fn a_selection_is_not_held_up_by_one_that_is_not_ready(pool: PgPool) {
    let house = House::new(&pool, ESTATE).await;
    let cookie = house.sign_in("otto").await;
    // db is on, web is off: to stop both, web is taken out with one press.
    let (_, page) = house
        .get(&cookie, "/sheet/power?act=stop&grace=90&ids=7,8")
        .await;
    assert!(page.contains("web is off already."));
    assert!(page.contains("Take web out; one is ready"), "{page}");
    let link = page.split("id=\"without\" href=\"").nth(1).unwrap();
    let link = link
        .split('"')
        .next()
        .unwrap()
        .replace("&amp;", "&")
        .replace("&#38;", "&");
    assert_eq!(
        link, "/sheet/power?act=stop&grace=90&ids=7",
        "and what was typed stays"
    );
    let (_, page) = house.get(&cookie, &link).await;
    assert!(!page.contains("id=\"without\""));
}

#[sqlx::test(migrations = false)]
async fn odd_input_is_said_to_be_what_it_is(pool: PgPool) {
    let house = House::new(&pool, ESTATE).await;
    let cookie = house.sign_in("ada").await;
    let token = house.token(&cookie).await;
    let (status, page) = house.get(&cookie, "/machines?q=%00").await;
    assert_eq!(status, Status::BadRequest);
    assert!(
        page.contains("Zastrugi"),
        "with words, and a way on: {page}"
    );
    let body =
        format!("_csrf={token}&sent=1&name=gate&count=-1&vcpus=-2&memory=-4&cluster=901&disk=1");
    let (_, page) = house.post(&cookie, "/sheet/new-machines", body).await;
    for said in [
        "“-1” is negative",
        "“-2” is negative",
        "“-4” is negative; a size is not",
    ] {
        assert!(page.contains(said), "{said} is not said");
    }
    for rows in [
        "h1;a1;;left%0Ah2;a2;;right",
        "h1%09a1%09%09left%0Ah2%09a2%09%09right",
        "h1,a1,,left%0Ah2,a2,,right",
    ] {
        let body = format!("_csrf={token}&sent=1&rows={rows}");
        let (_, part) = house
            .post(&cookie, "/sheet/fault-domains", format!("{body}%0Ah1"))
            .await;
        assert!(
            part.contains("Lines 1 and 3 are both about h1"),
            "{rows}: {part}"
        );
    }
}

#[sqlx::test(migrations = false)]
async fn a_column_that_is_pressed_again_turns_round(pool: PgPool) {
    let house = House::new(&pool, ESTATE).await;
    let cookie = house.sign_in("vera").await;
    let at = |page: &str, name: &str| page.find(&format!("<b>{name}</b>")).unwrap_or(usize::MAX);
    let (_, page) = house.get(&cookie, "/machines").await;
    assert!(at(&page, "db") < at(&page, "web"), "by name");
    let (_, page) = house
        .get(&cookie, "/machines?sort=name&order=reverse")
        .await;
    assert!(at(&page, "web") < at(&page, "db"), "the other way round");
}
