//! The build sheet: saved, loaded, and its table from lines. Nothing here speaks to devices.

use crate::{house::House, pages::words};
use rocket::http::{Cookie, Status};
use sqlx::PgPool;
use zastrugi_core::ids::SecretRef;
use zastrugi_formats::build;

const ESTATE: &str = "cluster eider\nhost 1 256\nhost 2 256";

const SAVED: &str = r#"{
 "$schema": "https://zastrugi.example/build-sheet-1.schema.json",
 "name": "Skua", "site": "Hilltop", "level": "v3",
 "hosts": {"range": "10.1.2.21-22", "user": "operator", "names": "skua-{01}", "first": "10.1.2.61", "rows": [
   {"controller": "10.1.2.21:8443", "pin": "aa", "name": "odd-name"},
   {"controller": "10.1.2.22:8443", "pin": "bb", "erase": true}]},
 "networks": [{"name": "management", "role": "management", "vlan": 10, "mtu": 1500, "subnet": "10.1.2.0/24",
   "uplinks": ["uplink-1", "uplink-2"]}],
 "volume": {"array": "nobody", "pool": "main"},
 "survive": true, "keepers": false}"#;

fn body(token: &str, fields: &[(&str, &str)]) -> String {
    let mut out = form_urlencoded::Serializer::new(String::new());
    out.append_pair("_csrf", token).append_pair("sent", "1");
    out.extend_pairs(fields);
    out.finish()
}

async fn at_home(pool: &PgPool) -> (House, Cookie<'static>, String) {
    let house = House::new(pool, ESTATE).await;
    let ada = house.sign_in("ada").await;
    let token = house.token(&ada).await;
    (house, ada, token)
}

/// Hidden and typed values of a field, in the order of the page.
fn values(page: &str, name: &str) -> Vec<String> {
    let field = format!("name=\"{name}\"");
    let tags = page
        .split("<input")
        .skip(1)
        .filter_map(|t| t.split('>').next());
    let value = |tag: &str| Some(tag.split("value=\"").nth(1)?.split('"').next()?.to_owned());
    tags.filter(|t| t.contains(&field))
        .filter_map(value)
        .collect()
}

/// If this fails, a sheet that was saved is another one when it is loaded, or a file that is none says nothing.
#[sqlx::test(migrations = false)]
async fn a_sheet_is_loaded_and_saved_again_as_it_was(pool: PgPool) {
    let (house, ada, token) = at_home(&pool).await;
    let load = |file: &'static str| body(&token, &[("look", "load"), ("file", file)]);
    let (status, page) = house.post(&ada, "/sheet/build", load(SAVED)).await;
    assert_eq!(status, Status::Ok);
    assert_eq!(values(&page, "name"), ["Skua"]);
    assert_eq!(values(&page, "at"), ["10.1.2.21:8443", "10.1.2.22:8443"]);
    assert_eq!(values(&page, "pin:10.1.2.22:8443"), ["bb"]);
    assert_eq!(values(&page, "net-uplinks")[0], "uplink-1 uplink-2");
    assert!(
        page.contains("placeholder=\"skua-02\""),
        "what is not typed is the next of the pattern"
    );
    assert!(words(&page).contains("No array nobody is connected here."));
    let (status, page) = house
        .post(&ada, "/sheet/build", load("{\"name\": 7}"))
        .await;
    assert_eq!(status, Status::Ok);
    assert!(
        words(&page).contains("This is no build sheet at name"),
        "{}",
        words(&page)
    );

    // What the page shows is what is saved.
    let typed = [
        ("name", "Skua"),
        ("site", "Hilltop"),
        ("level", "v3"),
        ("range", "10.1.2.21-22"),
        ("user", "operator"),
        ("password", "never in a file"),
        ("pattern", "skua-{01}"),
        ("from", "10.1.2.61"),
        ("image", ""),
        ("at", "10.1.2.21:8443"),
        ("pin:10.1.2.21:8443", "aa"),
        ("take", "10.1.2.21:8443"),
        ("name:10.1.2.21:8443", "odd-name"),
        ("at", "10.1.2.22:8443"),
        ("pin:10.1.2.22:8443", "bb"),
        ("take", "10.1.2.22:8443"),
        ("erase:10.1.2.22:8443", "on"),
        ("at", "10.1.2.23:8443"),
        ("pin:10.1.2.23:8443", "cc"),
        ("net-name", "management"),
        ("net-role", "management"),
        ("net-vlan", "10"),
        ("net-mtu", "1500"),
        ("net-subnet", "10.1.2.0/24"),
        ("net-gateway", ""),
        ("net-uplinks", "uplink-1 uplink-2"),
        ("survive", "on"),
    ];
    let (status, text) = house
        .post(&ada, "/clusters/build/save", body(&token, &typed))
        .await;
    assert_eq!(status, Status::Ok);
    let mut expected = build::read(SAVED).unwrap();
    expected.volume = None;
    assert_eq!(build::read(&text), Ok(expected));
    assert!(!text.contains("never"));
    let (_, schema) = house.get(&ada, "/clusters/build/schema").await;
    assert_eq!(schema, build::SCHEMA_TEXT);
}

/// If this fails, lines from a spreadsheet land on other hosts, or a wrong one loses the others.
#[sqlx::test(migrations = false)]
async fn the_table_is_filled_from_lines(pool: PgPool) {
    let (house, ada, token) = at_home(&pool).await;
    let with = |lines: &'static str| {
        let rows = [
            ("at", "10.1.2.21:8443"),
            ("at", "10.1.2.22:8443"),
            ("rows", "2"),
            ("take", "10.1.2.21:8443"),
        ];
        let mut fields = rows.to_vec();
        fields.extend([("look", "lines"), ("lines", lines)]);
        body(&token, &fields)
    };
    let (_, page) = house
        .post(
            &ada,
            "/sheet/build",
            with("10.1.2.22\tnorth\t10.1.2.9\terase"),
        )
        .await;
    assert_eq!(values(&page, "name:10.1.2.22:8443"), ["north"]);
    assert_eq!(values(&page, "address:10.1.2.22:8443"), ["10.1.2.9"]);
    assert_eq!(page.matches("name=\"take\"").count(), 2);
    assert_eq!(
        page.matches("name=\"take\" value=\"10.1.2.22:8443\" checked")
            .count(),
        1,
        "the other is left out"
    );
    for (lines, said) in [
        (
            "10.1.2.99;north",
            "Line 1: no controller was found at 10.1.2.99:8443.",
        ),
        (
            "10.1.2.21,a\n10.1.2.21,b",
            "Line 2: 10.1.2.21:8443 stands twice.",
        ),
        (
            "10.1.2.21,a,10.1.2.9,yes",
            "Line 1: “yes” is neither empty nor “erase”.",
        ),
        ("10.1.2.21,a,b,c,d", "Line 1 has 5 cells; 4 are expected."),
    ] {
        let (_, page) = house.post(&ada, "/sheet/build", with(lines)).await;
        assert!(words(&page).contains(said), "{said}\n{}", words(&page));
        assert!(
            page.contains(lines.split(['\n', ';', ',']).next().unwrap()),
            "what was typed is kept"
        );
    }
}

/// If this fails, somebody lets this manager send a secret of another host to an address of their own.
#[sqlx::test(migrations = false)]
async fn a_secret_that_was_not_lent_to_whoever_names_it_is_nobodys(pool: PgPool) {
    let (house, ada, token) = at_home(&pool).await;
    let secret: SecretRef = house.desk().keep_secret("a host's key").await.unwrap();
    let named = secret.0.to_string();
    let fields = [
        ("kept", named.as_str()),
        ("rows", "1"),
        ("at", "127.1.0.9:8443"),
        ("take", "127.1.0.9:8443"),
        ("look", "beneath"),
    ];
    let (_, page) = house
        .post(&ada, "/sheet/build", body(&token, &fields))
        .await;
    assert_eq!(values(&page, "kept"), [""]);
    assert!(words(&page).contains("Type the password of the controllers."));
}

/// If this fails, somebody who expands a cluster types again what everybody knows of it.
#[sqlx::test(migrations = false)]
async fn a_cluster_is_expanded_by_the_same_sheet_with_all_but_the_hosts_as_it_is(pool: PgPool) {
    let (house, ada, token) = at_home(&pool).await;
    let (status, page) = house.get(&ada, "/sheet/build?into=901").await;
    assert_eq!(status, Status::Ok);
    let said = words(&page);
    assert!(said.contains("Expand eider"), "{said}");
    assert!(said.contains("They get what the hosts of eider have"));
    assert!(!page.contains("name=\"net-name\"") && !page.contains("name=\"name\""));
    let with = [("into", "901"), ("at", "10.1.2.21:8443"), ("rows", "1")];
    let mut fields = with.to_vec();
    fields.extend([("take", "10.1.2.21:8443"), ("look", "none")]);
    let (_, page) = house
        .post(&ada, "/sheet/build", body(&token, &fields))
        .await;
    assert!(page.contains("placeholder=\"h3\""), "the next name");
    assert!(
        page.contains("placeholder=\"10.0.0.3\""),
        "the next address"
    );
    // It has no network for management: where they lie is asked for.
    assert!(page.contains("name=\"subnet\""));
    // One that shall be like another is asked nothing that the other says.
    let like = [
        ("sent", "1"),
        ("look", "like"),
        ("like", "901"),
        ("site", "Far away"),
        ("name", "Auk"),
    ];
    let (status, page) = house.post(&ada, "/sheet/build", body(&token, &like)).await;
    assert_eq!(status, Status::Ok);
    let level = "<option value=\"v2\" selected>";
    assert!(
        page.contains(level)
            && page.contains("value=\"Quayside\"")
            && page.contains("value=\"Auk\""),
        "{page}"
    );
    assert!(!page.contains("value=\"Far away\""));
    let (_, page) = house.get(&ada, "/sheet/build?into=77").await;
    assert!(words(&page).contains("Build a cluster"), "one that is gone");
}

/// If this fails, whoever corrects a run in the wrong moment, or who may not, gets something else than words.
#[sqlx::test(migrations = false)]
async fn a_correction_that_comes_too_late_is_refused_with_words(pool: PgPool) {
    let (house, ada, token) = at_home(&pool).await;
    let typed = [
        ("answer", "correct"),
        ("step", "0"),
        ("to:address", "10.1.2.3"),
    ];
    let (status, page) = house
        .post(&ada, "/logbook/runs/4711", body(&token, &typed))
        .await;
    assert_eq!(status, Status::Conflict, "{}", words(&page));
    let typed = [("answer", "correct"), ("step", "none")];
    let (status, _) = house
        .post(&ada, "/logbook/runs/4711", body(&token, &typed))
        .await;
    assert_eq!(status, Status::NotFound);
}
