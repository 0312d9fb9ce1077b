//! Every sheet, every field, every list, with values that somebody hostile or unlucky would send.

use crate::house::{ESTATE, House};
use rocket::http::{Header, Status};
use sqlx::PgPool;
use std::collections::BTreeSet;
use zastrugi_web::sheets;

/// What is sent in each field: (value, whether a page may ever show it as it is).
fn values() -> Vec<String> {
    vec![
        "a\0b".into(),
        "\u{1b}[2J\u{7}".into(),
        "pay\u{202e}llor".into(),
        "x".repeat(70_000),
        "<script>alert(1)</script>\"'><img src=x onerror=alert(1)>".into(),
        "-9223372036854775809".into(),
        "99999999999999999999999".into(),
        "9".repeat(400),
        "999999999 TiB".into(),
        "1e400".into(),
        "=HYPERLINK(\"http://192.0.2.1\")".into(),
        "../../../../etc/passwd".into(),
        "%00%s%n{{7*7}}".into(),
        "\u{fffd}\u{1f6a2}\u{301}\u{301}\u{301}".into(),
        "0.0.0.0/0 ::/0 10.0.0.0-10.255.255.255".into(),
        "1,2,3,,,,-1,999999999999".into(),
        "' or 1=1; drop table person; --".into(),
        "\n\n\r\n,,,\n\"".into(),
    ]
}

/// The names of the fields that a sheet has.
fn fields(page: &str) -> BTreeSet<String> {
    let sheet = page.find("id=\"sheet\"").map_or(page, |at| &page[at..]);
    let named = sheet.split(" name=\"").skip(1);
    let names = named.filter_map(|rest| rest.split('"').next());
    let ours = ["_csrf", "viewport", "request", "seen", "ids"];
    names
        .filter(|n| !ours.contains(n))
        .map(str::to_owned)
        .collect()
}

fn body(pairs: &[(&str, &str)]) -> String {
    form_urlencoded::Serializer::new(String::new())
        .extend_pairs(pairs)
        .finish()
}

#[sqlx::test(migrations = false)]
async fn no_value_in_any_field_of_any_sheet_brings_a_page_down_or_makes_it_grow(pool: PgPool) {
    let house = House::new(&pool, ESTATE).await;
    let ada = house.sign_in("ada").await;
    let token = house.token(&ada).await;
    let mut tried = 0;
    for (word, _) in sheets() {
        let id = if word.contains("cluster") || word == "rule" {
            "901"
        } else {
            "7"
        };
        let path = format!("/sheet/{word}?ids={id}");
        let (status, page) = house.get(&ada, &path).await;
        assert_eq!(status, Status::Ok, "{path}");
        let (names, usual) = (fields(&page), page.len());
        for value in values() {
            for name in names.iter().filter(|n| *n != "sent") {
                // All others stay empty: each field alone must hold.
                let sent = body(&[
                    ("_csrf", &token),
                    ("sent", "1"),
                    ("ids", id),
                    (name, &value),
                ]);
                let (status, page) = house.post(&ada, &format!("/sheet/{word}"), sent).await;
                tried += 1;
                assert!(status.code < 500, "{word} {name} {value:.30}: {status}");
                assert!(
                    page.len() < usual + 500_000,
                    "{word} {name} {value:.30}: {} bytes",
                    page.len()
                );
                assert!(
                    !page.contains("<script>alert") && !page.contains("<img src=x"),
                    "{word} {name}"
                );
                let hidden = value.contains(['\0', '\u{202e}', '\u{1b}']);
                assert!(
                    !(hidden && status == Status::SeeOther),
                    "{word} {name}: {value:?} was started"
                );
            }
        }
    }
    assert!(tried > 1000, "{tried} forms were sent");
    // Nobody else suffers for it.
    let sent = body(&[
        ("_csrf", &token),
        ("sent", "1"),
        ("ids", "7"),
        ("labels", "owner=cargo"),
    ]);
    let (status, page) = house.post(&ada, "/sheet/edit-machines", sent).await;
    assert_eq!(status, Status::SeeOther, "{page}");
}

#[sqlx::test(migrations = false)]
async fn a_hidden_character_is_said_at_its_field(pool: PgPool) {
    let house = House::new(&pool, ESTATE).await;
    let ada = house.sign_in("ada").await;
    let token = house.token(&ada).await;
    for (field, value, words) in [
        ("note", "a\0b", "control character (U+0000)"),
        (
            "labels",
            "team=pay\u{202e}roll",
            "can&#39;t be seen (U+202E)",
        ),
        ("name", "db\u{200b}", "can&#39;t be seen (U+200B)"),
        ("name", "two\nlines", "there is a line break"),
        (
            "labels",
            "app=stowage team=cargo app=berths",
            "app stands twice: “app=stowage” and “app=berths”",
        ),
    ] {
        let sent = body(&[
            ("_csrf", &token),
            ("sent", "1"),
            ("ids", "7"),
            (field, value),
        ]);
        let (status, page) = house.post(&ada, "/sheet/edit-machines", sent).await;
        assert_eq!(status, Status::UnprocessableEntity, "{field}");
        assert!(page.contains(words), "{field}: {words}");
        assert_eq!(
            page.matches("Go to the field").count(),
            1,
            "{field}: it is said once"
        );
    }
}

#[sqlx::test(migrations = false)]
async fn no_query_of_any_page_is_a_failure(pool: PgPool) {
    let house = House::new(&pool, ESTATE).await;
    let ada = house.sign_in("ada").await;
    let routes: BTreeSet<String> = house
        .client
        .rocket()
        .routes()
        .filter(|r| r.method == rocket::http::Method::Get)
        .map(|r| r.uri.path().to_owned())
        .filter(|p| !["/live", "/assets/<name>"].contains(&p.as_str()) && !p.contains("socket"))
        .collect();
    let keys = [
        "q", "kind", "who", "about", "before", "label", "state", "cluster", "host", "sort", "find",
        "next", "ids", "site", "range", "at", "from",
    ];
    for route in routes {
        let path = route
            .replace("<kind>", "edit-machines")
            .replace("<of>", "machine-7")
            .replace("<host>", "1")
            .replace(
                "<id>",
                if route.starts_with("/clusters") {
                    "901"
                } else {
                    "7"
                },
            );
        for value in values() {
            let value: String = value.chars().take(3000).collect();
            let query = body(&keys.map(|k| (k, value.as_str())));
            let answer = house
                .client
                .get(format!("{path}?{query}"))
                .cookie(ada.clone())
                .header(Header::new("Sec-Fetch-Site", "same-origin"))
                .dispatch()
                .await;
            assert!(
                answer.status().code < 500,
                "{path} {value:.30}: {}",
                answer.status()
            );
        }
    }
}

#[sqlx::test(migrations = false)]
async fn every_field_of_many_lines_may_have_them(pool: PgPool) {
    let house = House::new(&pool, ESTATE).await;
    let ada = house.sign_in("ada").await;
    let token = house.token(&ada).await;
    for (word, _) in sheets() {
        let id = if word.contains("cluster") || word == "rule" {
            "901"
        } else {
            "7"
        };
        let (_, page) = house.get(&ada, &format!("/sheet/{word}?ids={id}")).await;
        for area in page.split("<textarea").skip(1) {
            let name = area
                .split(" name=\"")
                .nth(1)
                .and_then(|r| r.split('"').next())
                .unwrap();
            let sent = body(&[
                ("_csrf", &token),
                ("sent", "1"),
                ("ids", id),
                (name, "one\ntwo"),
            ]);
            let (_, page) = house.post(&ada, &format!("/sheet/{word}"), sent).await;
            assert!(
                !page.contains("This is one line"),
                "{word} {name}: name it among the lists"
            );
        }
    }
}
