//! The front, over real sockets: who sends slowly, halves or too much stops nobody else.

use crate::house::{ESTATE, House};
use rocket::http::Cookie;
use sqlx::PgPool;
use std::{net::SocketAddr, time::Duration};
use tokio::{
    io::{AsyncReadExt, AsyncWriteExt},
    net::TcpStream,
};
use zastrugi_web::{Pace, WebSettings};

fn paced(pace: Pace) -> WebSettings {
    WebSettings {
        pace,
        ..WebSettings::default()
    }
}

fn hasty() -> Pace {
    Pace {
        head: Duration::from_millis(300),
        idle: Duration::from_millis(300),
        grace: Duration::from_millis(300),
        write: Duration::from_millis(300),
        ..Pace::default()
    }
}

async fn sent(at: SocketAddr, text: &str) -> TcpStream {
    let mut stream = TcpStream::connect(at).await.unwrap();
    stream.write_all(text.as_bytes()).await.unwrap();
    stream
}

/// Everything until the other side ends it.
async fn rest(stream: &mut TcpStream) -> String {
    let mut all = Vec::new();
    // A reset is an end, too.
    let _ = stream.read_to_end(&mut all).await;
    String::from_utf8_lossy(&all).into_owned()
}

async fn ask(at: SocketAddr, text: &str) -> String {
    rest(&mut sent(at, text).await).await
}

fn get(path: &str, cookie: &Cookie<'_>) -> String {
    format!(
        "GET {path} HTTP/1.1\r\nHost: x\r\nCookie: {}={}\r\nConnection: close\r\n\r\n",
        cookie.name(),
        cookie.value()
    )
}

#[sqlx::test(migrations = false)]
async fn half_requests_take_nobodys_place(pool: PgPool) {
    let house = House::new(&pool, ESTATE).await;
    let cookie = house.sign_in("vera").await;
    let pace = Pace {
        connections: 40,
        kept_room: 10,
        per_address: 1000,
        ..Pace::default()
    };
    let at = house.open(paced(pace)).await;
    let mut halves = Vec::new();
    for _ in 0..200 {
        halves.push(sent(at, "GET / HTTP/1.1\r\nHost: x\r\nCookie: ").await);
    }
    for _ in 0..20 {
        let page = ask(at, &get("/machines", &cookie)).await;
        assert!(page.starts_with("HTTP/1.1 200"), "{page:.60}");
    }
    // The oldest have been ended to make room, not the newest.
    assert_eq!(rest(&mut halves.remove(0)).await, "");
}

#[sqlx::test(migrations = false)]
async fn an_unfinished_head_or_body_is_ended(pool: PgPool) {
    let house = House::new(&pool, ESTATE).await;
    let at = house.open(paced(hasty())).await;
    let half = ask(at, "GET / HTTP/1.1\r\nHost: x\r\n").await;
    assert!(!half.contains("200 OK"), "{half}");
    let post = "POST /sign-in HTTP/1.1\r\nHost: x\r\nContent-Type: application/x-www-form-urlencoded\r\nSec-Fetch-Site: same-origin\r\n";
    for length in ["Content-Length: 60\r\n", "Transfer-Encoding: chunked\r\n"] {
        let said = ask(at, &format!("{post}{length}\r\n4\r\nname")).await;
        assert!(said.starts_with("HTTP/1.1 4"), "{length}: {said:.80}");
        assert!(
            said.contains("too slowly") || said.contains("Sign in") || said.contains("broke off"),
            "{said}"
        );
    }
}

#[sqlx::test(migrations = false)]
async fn a_body_that_trickles_is_ended_although_it_never_pauses(pool: PgPool) {
    let house = House::new(&pool, ESTATE).await;
    let at = house.open(paced(hasty())).await;
    let mut stream = sent(
        at,
        "POST /sign-in HTTP/1.1\r\nHost: x\r\nContent-Length: 60000\r\n\r\n",
    )
    .await;
    // A byte every 50 ms would take 50 minutes.
    let mut sent = 0;
    while sent < 2000 && stream.write_all(b"x").await.is_ok() {
        sent += 1;
        tokio::time::sleep(Duration::from_millis(50)).await;
    }
    assert!(sent < 2000, "it was ended");
}

#[sqlx::test(migrations = false)]
async fn a_request_names_one_host(pool: PgPool) {
    let house = House::new(&pool, ESTATE).await;
    let at = house.open(WebSettings::default()).await;
    for hosts in ["", "Host: a\r\nHost: b\r\n"] {
        let said = ask(
            at,
            &format!("GET /sign-in HTTP/1.1\r\n{hosts}Connection: close\r\n\r\n"),
        )
        .await;
        assert!(said.starts_with("HTTP/1.1 400"), "{hosts:?}: {said:.60}");
    }
    let one = ask(
        at,
        "GET /sign-in HTTP/1.1\r\nHost: a\r\nConnection: close\r\n\r\n",
    )
    .await;
    assert!(one.starts_with("HTTP/1.1 200"), "{one:.60}");
    assert!(
        !one.contains("x-zastrugi"),
        "what passes between the two is not shown"
    );
}

#[sqlx::test(migrations = false)]
async fn a_head_that_is_too_long_is_refused(pool: PgPool) {
    let house = House::new(&pool, ESTATE).await;
    let at = house.open(WebSettings::default()).await;
    let long = "x".repeat(200_000);
    let headers: String = (0..100).map(|n| format!("X-{n}: a\r\n")).collect();
    for bad in [format!("Cookie: {long}\r\n"), headers] {
        let said = ask(
            at,
            &format!("GET /sign-in HTTP/1.1\r\nHost: a\r\n{bad}\r\n"),
        )
        .await;
        assert!(
            said.is_empty() || said.starts_with("HTTP/1.1 431"),
            "{said:.60}"
        );
    }
}

#[sqlx::test(migrations = false)]
async fn who_takes_nothing_of_what_is_sent_is_ended(pool: PgPool) {
    let house = House::new(&pool, ESTATE).await;
    let cookie = house.sign_in("vera").await;
    let at = house.open(paced(hasty())).await;
    let page = ask(at, &get("/", &cookie)).await;
    let script = page
        .split("src=\"")
        .nth(1)
        .unwrap()
        .split('"')
        .next()
        .unwrap();
    let one = format!("GET {script} HTTP/1.1\r\nHost: x\r\n\r\n");
    let length = ask(at, &get(script, &cookie)).await.len();
    let many = 40_000_000 / length;
    let mut stream = sent(at, &one.repeat(many)).await;
    tokio::time::sleep(Duration::from_secs(2)).await;
    let taken = rest(&mut stream).await.len();
    assert!(
        taken < many * length / 2,
        "{taken} bytes of {many} answers had been kept for it"
    );
}

#[sqlx::test(migrations = false)]
async fn an_address_is_the_connections_whatever_a_header_says(pool: PgPool) {
    let house = House::new(&pool, ESTATE).await;
    let guess = |n: usize, header: &str| {
        let body = "name=ada&password=guess";
        format!(
            "POST /sign-in HTTP/1.1\r\nHost: x\r\nSec-Fetch-Site: same-origin\r\n{header}: 192.0.2.{n}\r\nContent-Type: application/x-www-form-urlencoded\r\nContent-Length: {}\r\nConnection: close\r\n\r\n{body}",
            body.len()
        )
    };
    let at = house.open(WebSettings::default()).await;
    for (n, header) in [
        "X-Forwarded-For",
        "X-Real-IP",
        "X-Zastrugi-Client",
        "Forwarded",
        "X-Forwarded-For",
    ]
    .into_iter()
    .enumerate()
    {
        let said = ask(at, &guess(n, header)).await;
        assert!(said.starts_with("HTTP/1.1 401"), "{said:.60}");
    }
    let cookie = house.sign_in("vera").await;
    let (_, told) = house.get(&cookie, "/logbook/events.csv").await;
    assert!(
        told.contains("A sign-in as ada from 127.0.0.1 was refused"),
        "{told}"
    );
    assert!(!told.contains("192.0.2."), "{told}");
    assert!(
        told.contains("refused, 3 times of late"),
        "they count as one: {told}"
    );
}

#[sqlx::test(migrations = false)]
async fn one_person_has_eight_streams_and_others_have_theirs(pool: PgPool) {
    let house = House::new(&pool, ESTATE).await;
    let (vera, otto) = (house.sign_in("vera").await, house.sign_in("otto").await);
    let at = house.open(WebSettings::default()).await;
    let listen = async |cookie: &Cookie<'_>| {
        let mut stream = sent(at, &get("/live", cookie)).await;
        let mut told: Vec<u8> = Vec::new();
        let mut some = [0; 4096];
        // Until it says hello, or ends.
        while let Ok(n @ 1..) = stream.read(&mut some).await {
            told.extend(&some[..n]);
            if told.windows(5).any(|w| w == b"hello") {
                return Some(stream);
            }
        }
        None
    };
    let mut open = Vec::new();
    for _ in 0..8 {
        open.push(listen(&vera).await.unwrap());
    }
    assert!(listen(&vera).await.is_none(), "the ninth ends at once");
    assert!(listen(&otto).await.is_some(), "nobody else's count");
    // A stream outlives the time limits of requests, and its place is free when it is closed.
    drop(open);
    for n in 0.. {
        if listen(&vera).await.is_some() {
            break;
        }
        assert!(n < 300, "the places are never free again");
        tokio::time::sleep(Duration::from_millis(100)).await;
    }
}

#[sqlx::test(migrations = false)]
async fn a_console_comes_through_the_front_and_a_message_too_long_ends_it(pool: PgPool) {
    let house = House::new(&pool, ESTATE).await;
    let cookie = house.sign_in("otto").await;
    let token = house.token(&cookie).await;
    let at = house.open(paced(hasty())).await;
    let (status, ticket) = house
        .post(
            &cookie,
            "/console/machine-7/ticket",
            format!("_csrf={token}"),
        )
        .await;
    assert_eq!(status, rocket::http::Status::Ok, "{ticket}");
    let ticket = ticket.split('"').nth(3).unwrap().to_owned();
    let ask = format!(
        "GET /console/machine-7/socket?ticket={ticket} HTTP/1.1\r\nHost: x\r\nOrigin: http://x\r\nCookie: {}={}\r\nConnection: Upgrade\r\nUpgrade: websocket\r\nSec-WebSocket-Version: 13\r\nSec-WebSocket-Key: dGhlIHNhbXBsZSBub25jZQ==\r\n\r\n",
        cookie.name(),
        cookie.value()
    );
    let mut socket = sent(at, &ask).await;
    let mut some = [0; 8192];
    let n = socket.read(&mut some).await.unwrap();
    assert!(
        some[..n].starts_with(b"HTTP/1.1 101"),
        "{}",
        String::from_utf8_lossy(&some[..n])
    );
    // It is open for longer than any request may take.
    tokio::time::sleep(hasty().head * 4).await;
    // A text of 1 MiB, masked (RFC 6455, section 5.2).
    let mut frame = vec![0x81, 0xff];
    frame.extend((1u64 << 20).to_be_bytes());
    frame.extend([0; 4]);
    frame.extend(vec![b'x'; 1 << 20]);
    let _ = socket.write_all(&frame).await;
    // Whatever it was told before, it ends now.
    rest(&mut socket).await;
}

#[sqlx::test(migrations = false)]
async fn a_piece_of_a_file_that_stands_still_is_ended(pool: PgPool) {
    let house = House::new(&pool, ESTATE).await;
    let cookie = house.sign_in("ada").await;
    let token = house.token(&cookie).await;
    let at = house.open(paced(hasty())).await;
    let put = |length: usize| {
        format!(
            "PUT /storage/images/7/bytes?from=0 HTTP/1.1\r\nHost: x\r\nSec-Fetch-Site: same-origin\r\nX-CSRF-Token: {token}\r\nCookie: {}={}\r\nContent-Length: {length}\r\n\r\n{}",
            cookie.name(),
            cookie.value(),
            "x".repeat(20_000)
        )
    };
    let said = ask(at, &put(4 << 20)).await;
    assert!(
        !said.contains(" 200 ") && !said.contains("received"),
        "{said:.200}"
    );
    // A piece that is too large is refused without being read to its end.
    let said = ask(at, &put(64 << 20)).await;
    assert!(!said.contains(" 200 "), "{said:.200}");
    let page = ask(at, &get("/machines", &cookie)).await;
    assert!(page.starts_with("HTTP/1.1 200"), "{page:.60}");
}
