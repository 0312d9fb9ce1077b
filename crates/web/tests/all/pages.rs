//! What pages say, read as a person reads them: the text, not the markup.

use crate::house::{ESTATE, House};
use rocket::http::{Cookie, Status};
use sqlx::PgPool;
use std::fmt::Write;
use zastrugi_core::{estate::Fact, ids::MachineId, testkit};

/// The text of a page: tags gone, white space folded.
pub(crate) fn words(html: &str) -> String {
    let mut out = String::new();
    let mut inside = false;
    for c in html.chars() {
        match c {
            '<' => inside = true,
            '>' => {
                inside = false;
                out.push(' ');
            }
            c if !inside => out.push(c),
            _ => {}
        }
    }
    let out = out.replace("&#39;", "'").replace("&nbsp;", " ");
    out.split_whitespace().collect::<Vec<_>>().join(" ")
}

pub(crate) async fn read(house: &House, cookie: &Cookie<'static>, path: &str) -> String {
    let (status, page) = house.get(cookie, path).await;
    assert_eq!(status, Status::Ok, "{path}");
    words(&page)
}

/// The names in the list of machines, in their order.
fn names(html: &str) -> Vec<String> {
    let row = |part: &&str| part.starts_with(|c: char| c.is_ascii_digit());
    html.split("<a href=\"/machines/")
        .skip(1)
        .filter(row)
        .filter_map(|row| Some(row.split("<b>").nth(1)?.split('<').next()?.to_owned()))
        .collect()
}

#[sqlx::test(migrations = false)]
async fn the_field_says_what_matters_and_what_needs_somebody(pool: PgPool) {
    let text = "cluster eider\nhost 1 256\nhost 2 256\nhost 3 256 down\nmachine 7 db 64 on 1\ncluster tern\nhost 4 64\nhost 5 64\nmachine 8 wide 50 on 4\nmachine 9 other 50 on 5";
    let house = House::new(&pool, text).await;
    let cookie = house.sign_in("vera").await;
    let field = read(&house, &cookie, "/").await;
    for said in [
        "h3 is lost. 4 hosts steady.",
        "tern would not survive what it must.",
        "h3",
        "eider",
    ] {
        assert!(field.contains(said), "“{said}” is not in {field}");
    }
    let part = read(&house, &cookie, "/field/part?cluster=902").await;
    assert!(
        part.contains("tern") && !part.contains("eider keeps"),
        "{part}"
    );
    let load = read(&house, &cookie, "/?colour=load").await;
    assert!(load.contains("h4"), "{load}");
}

#[sqlx::test(migrations = false)]
async fn an_empty_estate_offers_the_next_step_to_those_who_may(pool: PgPool) {
    let house = House::new(&pool, "").await;
    let ada = house.sign_in("ada").await;
    let vera = house.sign_in("vera").await;
    for (path, offer) in [("/", "Look for hosts"), ("/hosts", "Look for hosts")] {
        assert!(read(&house, &ada, path).await.contains(offer), "{path}");
        assert!(!read(&house, &vera, path).await.contains(offer), "{path}");
    }
    let machines = read(&house, &ada, "/machines").await;
    assert!(machines.contains("Virtual machines stand here"));
    let sheet = read(&house, &ada, "/sheet/new-machines").await;
    assert!(sheet.contains("There is no cluster yet"), "{sheet}");
    assert!(
        read(&house, &ada, "/sheet/new-cluster")
            .await
            .contains("Every claimed host is in a cluster")
    );
}

/// If this fails, the first page after signing in is a megabyte where it matters most, and every change sends it again.
#[sqlx::test(migrations = false)]
async fn a_thousand_hosts_fit_on_a_page(pool: PgPool) {
    let mut text = String::new();
    for c in 0..63 {
        let _ = writeln!(text, "cluster c{c}");
        for h in (0..1000).filter(|h| h % 63 == c) {
            let _ = writeln!(text, "host {} 768 cores=64", h + 1);
            for m in 0..20 {
                let id = 2001 + h * 20 + m;
                let _ = writeln!(text, "machine {id} m{id} {} on {}", 8 + m % 4 * 8, h + 1);
            }
        }
    }
    let house = House::new(&pool, &text).await;
    let cookie = house.sign_in("otto").await;
    for path in [
        "/",
        "/hosts",
        "/hosts?from=900",
        "/machines",
        "/?cluster=905",
    ] {
        let (_, page) = house.get(&cookie, path).await;
        assert!(page.len() < 150 * 1024, "{path}: {} bytes", page.len());
    }
    let (_, field) = house.get(&cookie, "/").await;
    assert!(words(&field).contains("smaller machines"));
    let (_, last) = house.get(&cookie, "/hosts?from=900").await;
    assert!(
        words(&last).contains("901–1000 of 1000"),
        "{}",
        words(&last)
    );
}

#[sqlx::test(migrations = false)]
async fn machines_are_filtered_sorted_and_shown_by_the_window(pool: PgPool) {
    let mut text = "cluster eider\nhost 1 4096 cores=512\nhost 2 256".to_owned();
    for n in 1..=1000 {
        let label = if n % 10 == 0 { " label=app:gate" } else { "" };
        let _ = write!(
            text,
            "\nmachine {} m-{n:04} {} off{label}",
            n + 1000,
            1 + n % 7
        );
    }
    text += "\nmachine 5001 db-1 64 on 1\nmachine 5002 gone 8 off deleted";
    let house = House::new(&pool, &text).await;
    let cookie = house.sign_in("otto").await;
    let (_, first) = house.get(&cookie, "/machines").await;
    assert!(
        words(&first).contains("1001 machines, 1 of them on."),
        "{}",
        words(&first)
    );
    let shown = names(&first).len();
    assert!((50..=200).contains(&shown), "{shown} rows at once");
    assert!(first.len() < 150 * 1024, "{} bytes", first.len());
    // The windows together are everything, once.
    let mut all = names(&first);
    let mut page = first;
    while let Some(next) = page.split("href=\"").find(|p| {
        p.split_once("\">")
            .is_some_and(|(_, rest)| rest.starts_with("Next<"))
    }) {
        let link = next
            .split('"')
            .next()
            .unwrap()
            .replace("&#38;", "&")
            .replace("&amp;", "&");
        page = house.get(&cookie, &link).await.1;
        all.extend(names(&page));
        assert!(all.len() <= 1001, "{link} goes round in circles");
    }
    assert_eq!(all.len(), 1001);
    all.dedup();
    assert_eq!(all.len(), 1001, "no machine twice");
    assert!(all.is_sorted(), "by name unless asked otherwise");

    let list =
        async |query: &str| names(&house.get(&cookie, &format!("/machines?{query}")).await.1);
    assert_eq!(list("state=on").await, ["db-1"]);
    assert_eq!(list("state=deleted").await, ["gone"]);
    assert_eq!(list("host=1").await, ["db-1"]);
    assert_eq!(list("q=m-0042").await, ["m-0042"]);
    assert_eq!(
        list("q=02:00:00:00:13:89").await,
        ["db-1"],
        "by MAC: 5001 = 0x1389"
    );
    assert_eq!(list("label=app%3Dgate").await.len(), 100);
    assert_eq!(list("label=app%3Dquay").await, Vec::<String>::new());
    assert_eq!(
        list("sort=memory&down=1").await.first().map(String::as_str),
        Some("db-1")
    );
}

#[sqlx::test(migrations = false)]
async fn one_machine_and_one_host_tell_what_they_are(pool: PgPool) {
    let house = House::new(&pool, ESTATE).await;
    let otto = house.sign_in("otto").await;
    let db = read(&house, &otto, "/machines/7").await;
    for said in [
        "db",
        "on h1",
        "64 GiB",
        "app=tickets",
        "02:00:00:00:00:07",
        "Stop",
        "Delete",
    ] {
        assert!(
            db.replace('\u{a0}', " ").contains(said),
            "“{said}” is not in {db}"
        );
    }
    let gone = read(&house, &otto, "/machines/9").await;
    assert!(
        gone.contains("Bring back") && !gone.contains("Remove for good"),
        "an operator never removes for good"
    );
    let vera = house.sign_in("vera").await;
    let seen = read(&house, &vera, "/machines/7").await;
    assert!(!seen.contains("Delete"), "{seen}");
    let host = read(&house, &vera, "/hosts/1").await;
    for said in ["h1", "Machines on it", "db", "Brattholm", "x86-64-v3"] {
        assert!(host.contains(said), "“{said}” is not in {host}");
    }
    let cluster = read(&house, &vera, "/clusters/901").await;
    assert!(
        cluster.contains("eider") && cluster.contains("h2"),
        "{cluster}"
    );
    for gone in [
        "/machines/77",
        "/hosts/77",
        "/clusters/77",
        "/logbook/runs/77",
        "/nowhere",
    ] {
        let (status, page) = house.get(&vera, gone).await;
        assert_eq!(status, Status::NotFound, "{gone}");
        assert!(words(&page).contains("To the Field"), "{gone}: a way on");
    }
}

#[sqlx::test(migrations = false)]
async fn the_palette_finds_things_and_what_one_may_do(pool: PgPool) {
    let house = House::new(&pool, ESTATE).await;
    let ada = house.sign_in("ada").await;
    let vera = house.sign_in("vera").await;
    let find =
        async |who: &Cookie<'static>, q: &str| read(&house, who, &format!("/find?q={q}")).await;
    assert_eq!(find(&ada, "db").await, "db machine · eider");
    assert!(
        find(&ada, "00:00:08").await.starts_with("web machine"),
        "part of a MAC"
    );
    assert_eq!(find(&ada, "10.0.0.2:").await, "h2 host · 10.0.0.2:7443");
    assert_eq!(find(&ada, "h2").await, "h2 host · eider");
    assert!(
        find(&ada, "tickets")
            .await
            .starts_with("app=tickets label · 1 machine")
    );
    assert!(
        find(&ada, "delete+web")
            .await
            .starts_with("delete web machine · eider")
    );
    assert!(
        find(&ada, "extend+slab")
            .await
            .starts_with("extend slab-951 volume")
    );
    assert!(find(&ada, "edit+h1").await.starts_with("edit h1 host"));
    assert!(
        find(&vera, "delete+web")
            .await
            .contains("Nothing is called")
    );
    assert!(find(&ada, "cluster").await.contains("create a cluster do"));
    assert!(!find(&vera, "cluster").await.contains("create a cluster"));
    assert!(
        find(&vera, "zebra")
            .await
            .contains("Nothing is called “zebra”")
    );
}

#[sqlx::test(migrations = false)]
async fn a_run_keeps_the_assessment_as_it_was_and_the_list_tells_it(pool: PgPool) {
    let house = House::new(&pool, ESTATE).await;
    let otto = house.sign_in("otto").await;
    let token = house.token(&otto).await;
    let body = format!("_csrf={token}&sent=1&ids=8&act=on");
    let (status, to) = house.post(&otto, "/sheet/power", body).await;
    assert_eq!(status, Status::SeeOther, "{to}");
    let run = read(&house, &otto, &to).await;
    for said in [
        "Power on web",
        "otto",
        "Wait until web answers",
        "survives any one host",
    ] {
        assert!(run.contains(said), "“{said}” is not in {run}");
    }
    let list = read(&house, &otto, "/logbook").await;
    assert!(list.contains("Power on web"), "{list}");
    // Nothing carries it out here, so the machine is held by it and a second sheet says so.
    let again = read(&house, &otto, "/sheet/power?act=on&ids=8").await;
    assert!(again.contains("web is held by run-"), "{again}");
    let events = read(&house, &otto, "/logbook/events?q=web&kind=run").await;
    assert!(events.contains("otto"), "{events}");
    assert!(
        read(&house, &otto, "/logbook/events?q=nothing-of-the-kind")
            .await
            .contains("No event fits")
    );
}

#[sqlx::test(migrations = false)]
async fn behind_a_proxy_the_cookie_is_bound_to_the_host_and_never_sent_in_clear(pool: PgPool) {
    let house = House::served(&pool, ESTATE, true).await;
    let answer = house
        .sign_in_with("ada", "tide and time", "same-origin")
        .await;
    assert_eq!(answer.status(), Status::SeeOther);
    let cookie = answer.cookies().get("__Host-zastrugi").unwrap().clone();
    assert_eq!(cookie.secure(), Some(true));
    assert_eq!(cookie.http_only(), Some(true));
    assert_eq!(cookie.path(), Some("/"));
    assert_eq!(cookie.domain(), None);
    assert!(answer.cookies().get("zastrugi").is_none());
    let cookie = cookie.into_owned();
    drop(answer);
    assert_eq!(house.get(&cookie, "/").await.0, Status::Ok);
}

#[sqlx::test(migrations = false)]
async fn one_site_shows_its_own_alone(pool: PgPool) {
    let house = House::new(&pool, ESTATE).await;
    let vera = house.sign_in("vera").await;
    let site = Cookie::new("site", "900");
    let both = async |site: Cookie<'static>, path: &'static str| {
        let request = house.client.get(path).cookie(vera.clone()).cookie(site);
        words(&request.dispatch().await.into_string().await.unwrap())
    };
    assert!(both(site, "/machines").await.contains("db"));
    let elsewhere = Cookie::new("site", "899");
    assert!(!both(elsewhere.clone(), "/machines").await.contains("db"));
    assert!(
        both(elsewhere, "/hosts")
            .await
            .contains("Hosts that Zastrugi looks after stand here")
    );
}

#[sqlx::test(migrations = false)]
async fn a_console_needs_a_ticket_and_a_page_of_ours_and_viewers_only_look(pool: PgPool) {
    let house = House::new(&pool, crate::house::ESTATE).await;
    for (name, types) in [("vera", false), ("otto", true), ("ada", true)] {
        let cookie = house.sign_in(name).await;
        let (status, page) = house.get(&cookie, "/console/machine-7").await;
        assert_eq!(status, Status::Ok);
        assert_eq!(page.contains("data-paste"), types, "{name}");
        assert!(!page.contains("<style") && !page.contains("onclick"));
        let (status, alone) = house.get(&cookie, "/console/machine-7?window=true").await;
        assert_eq!(status, Status::Ok);
        assert!(!alone.contains("class=\"rail\""), "nothing but the console");
        // Hosts are for those who may change them.
        let (_, page) = house.get(&cookie, "/console/host-1").await;
        assert_eq!(page.contains("data-paste"), name == "ada", "{name}");

        let token = house.token(&cookie).await;
        let at = "/console/machine-7/ticket";
        let (status, _) = house.post(&cookie, at, "_csrf=wrong".into()).await;
        assert_eq!(status, Status::Forbidden);
        let (status, said) = house.post(&cookie, at, format!("_csrf={token}")).await;
        assert_eq!(status, Status::Ok, "{said}");
        let gone = "/console/machine-77/ticket";
        let (status, _) = house.post(&cookie, gone, format!("_csrf={token}")).await;
        assert_eq!(status, Status::NotFound);
    }
    let cookie = house.sign_in("ada").await;
    let socket = |origin: &'static str| {
        let path = "/console/machine-7/socket?ticket=made-up";
        let mut request = house.client.get(path).cookie(cookie.clone());
        for (name, value) in [
            ("Host", "here"),
            ("Origin", origin),
            ("Connection", "Upgrade"),
            ("Upgrade", "websocket"),
            ("Sec-WebSocket-Version", "13"),
            ("Sec-WebSocket-Key", "dGhlIHNhbXBsZSBub25jZQ=="),
        ] {
            request.add_header(rocket::http::Header::new(name, value));
        }
        async move { request.dispatch().await.status() }
    };
    assert_eq!(socket("https://elsewhere").await, Status::Forbidden);
    assert_eq!(
        socket("https://here").await,
        Status::Forbidden,
        "no such ticket"
    );
}

/// If this fails, two machines of one name are settled and nobody is told which is which.
#[sqlx::test(migrations = false)]
async fn a_machine_found_under_anothers_name_needs_a_person_until_it_has_one(pool: PgPool) {
    let mut estate = (*testkit::read(ESTATE).view.estate).clone();
    let mut found = (**estate.machines.get(&MachineId(8)).unwrap()).clone();
    found.found_as = Some("db".into());
    found.name = "db-8".into();
    estate.put(Fact::Machine(found.into()));
    let house = House::of(&pool, &estate).await;
    let cookie = house.sign_in("otto").await;
    let (_, field) = house.get(&cookie, "/").await;
    assert!(field.contains("db-8 was found under the name db, which another machine has."));
    let token = house.token(&cookie).await;
    let named = format!(
        "_csrf={token}&sent=1&ids=8&name=web&vcpus=1&memory=16+GiB&kept=16+GiB&max=16+GiB&tier=3&restarts=yes&protected=no&image=&once=&order=&labels=&note="
    );
    let (status, page) = house.post(&cookie, "/sheet/edit-machines", named).await;
    assert_eq!(status, Status::SeeOther, "{page}");
}
