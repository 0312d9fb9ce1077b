//! Connections to a front, passed on to its members: TCP byte by byte, HTTP one request at a time.

use super::{
    Config, Service,
    live::{Live, held},
};
use crate::{rooms::machines::guest::hash, world::World};
use rustls::pki_types::{CertificateDer, PrivateKeyDer, pem::PemObject};
use std::{
    net::{IpAddr, SocketAddr},
    sync::Arc,
    time::Duration,
};
use tokio::{
    io::{AsyncRead, AsyncReadExt, AsyncWrite, AsyncWriteExt},
    net::{TcpListener, TcpStream},
    task::JoinSet,
    time::timeout,
};
use tokio_rustls::TlsAcceptor;

/// How often it is looked whether a connection may go on.
const LOOK: Duration = Duration::from_millis(50);
/// The most of a request's head that is read.
const HEAD: usize = 16 << 10;
const COOKIE: &str = "member=";

/// A connection, within TLS or not.
trait Both: AsyncRead + AsyncWrite + Unpin + Send {}
impl<T: AsyncRead + AsyncWrite + Unpin + Send> Both for T {}

/// What a guest answers to a request.
pub(crate) fn answer(name: &str, path: &str) -> (u16, String) {
    match path {
        "/missing" => (404, "nothing is here\n".into()),
        _ => (200, format!("{name} is well\n")),
    }
}

pub(super) async fn accept(world: Arc<World>, live: Arc<Live>, listener: TcpListener) {
    let mut connections = JoinSet::new();
    loop {
        while connections.try_join_next().is_some() {}
        let Ok((stream, peer)) = listener.accept().await else {
            tokio::time::sleep(LOOK).await;
            continue;
        };
        connections.spawn(pass(world.clone(), live.clone(), stream, peer));
    }
}

/// What TLS is ended with; none where it does not end here.
///
/// # Errors
/// Words where certificate and key are no pair.
pub(super) fn acceptor(config: &Config) -> Result<Option<TlsAcceptor>, String> {
    if config.protocol != "https" {
        return Ok(None);
    }
    let (Some(certificate), Some(key)) = (&config.certificate, &config.key) else {
        return Err("HTTPS needs a certificate and its key.".into());
    };
    let chain: Result<Vec<_>, _> = CertificateDer::pem_slice_iter(certificate.as_bytes()).collect();
    let chain = chain.map_err(|_| "The certificate can't be read.".to_owned())?;
    let key = PrivateKeyDer::from_pem_slice(key.as_bytes());
    let key = key.map_err(|_| "The private key can't be read.".to_owned())?;
    let pair = rustls::ServerConfig::builder_with_provider(Arc::new(
        rustls::crypto::ring::default_provider(),
    ))
    .with_safe_default_protocol_versions()
    .map_err(|e| e.to_string())?
    .with_no_client_auth()
    .with_single_cert(chain, key);
    let pair =
        pair.map_err(|_| "The private key does not belong to the certificate.".to_owned())?;
    Ok(Some(TlsAcceptor::from(Arc::new(pair))))
}

async fn pass(world: Arc<World>, live: Arc<Live>, stream: TcpStream, peer: SocketAddr) {
    let config = held(&live.config).clone();
    match acceptor(&config) {
        Ok(Some(tls)) => {
            if let Ok(stream) = tls.accept(stream).await {
                carry(&world, &live, stream, peer).await;
            }
        }
        Ok(None) => carry(&world, &live, stream, peer).await,
        Err(_) => {}
    }
}

async fn carry(world: &World, live: &Live, mut stream: impl Both, peer: SocketAddr) {
    let http = held(&live.config).protocol != "tcp";
    let head = match http {
        true => head_of(&mut stream).await,
        false => String::new(),
    };
    let Some((at, name)) = choose(live, peer.ip(), &head) else {
        if http {
            drop(stream.write_all(b"HTTP/1.1 503 Service Unavailable\r\ncontent-length: 0\r\nconnection: close\r\n\r\n").await);
        }
        return;
    };
    let Ok(address) = at.parse::<SocketAddr>() else {
        return;
    };
    live.opens(&at);
    if http {
        request(world, live, &mut stream, (&head, &name), address.ip()).await;
    } else {
        echo(world, live, &mut stream, &at, address.ip()).await;
    }
    live.closes(&at);
}

async fn head_of(stream: &mut impl Both) -> String {
    let mut all = Vec::new();
    let mut some = [0; 2048];
    while all.len() < HEAD && !all.windows(4).any(|w| w == b"\r\n\r\n") {
        match timeout(Duration::from_secs(5), stream.read(&mut some)).await {
            Ok(Ok(n @ 1..)) => all.extend_from_slice(&some[..n]),
            _ => break,
        }
    }
    String::from_utf8_lossy(&all).into_owned()
}

/// The member that gets it: `address:port` and its name.
fn choose(live: &Live, peer: IpAddr, head: &str) -> Option<(String, String)> {
    let serving = live.serving();
    let (method, persistence) = {
        let config = held(&live.config);
        (config.method.clone(), config.persistence.clone())
    };
    let known = head
        .lines()
        .find_map(|l| l.split_once(COOKIE))
        .map(|(_, v)| v.split(';').next().unwrap_or(v).trim().to_owned());
    if persistence == "cookie"
        && let Some((at, name, _)) =
            known.and_then(|k| serving.iter().find(|(_, name, _)| *name == k))
    {
        return Some((at.clone(), name.clone()));
    }
    let n = serving.len().max(1);
    let by_source =
        usize::try_from(hash(&peer.to_string()) % u64::try_from(n).unwrap_or(1)).unwrap_or(0);
    let pick = match (persistence.as_str(), method.as_str()) {
        ("source", _) | (_, "source") => serving.get(by_source),
        (_, "least-connections") => serving.iter().min_by_key(|(.., open)| *open),
        _ => serving.get(live.next_turn() % n),
    };
    pick.map(|(at, name, _)| (at.clone(), name.clone()))
}

fn service(world: &World, address: IpAddr) -> Service {
    let now = world.now();
    world.lock().service_at(address, now)
}

/// One request, answered by the guest behind the member.
async fn request(
    world: &World,
    live: &Live,
    stream: &mut impl Both,
    (head, name): (&str, &str),
    address: IpAddr,
) {
    let path = head.split_whitespace().nth(1).unwrap_or("/").to_owned();
    let (status, text) = match service(world, address) {
        Service::Answers(guest) => answer(&guest, &path),
        Service::Hangs => {
            tokio::time::sleep(Duration::from_secs(5)).await;
            (504, String::new())
        }
        Service::Nobody => (502, String::new()),
    };
    let cookie = match held(&live.config).persistence.as_str() {
        "cookie" => format!("set-cookie: {COOKIE}{name}; Path=/; HttpOnly\r\n"),
        _ => String::new(),
    };
    let said = format!(
        "HTTP/1.1 {status} \r\ncontent-type: text/plain\r\ncontent-length: {}\r\n{cookie}connection: close\r\n\r\n{text}",
        text.len()
    );
    drop(stream.write_all(said.as_bytes()).await);
    drop(stream.shutdown().await);
}

/// The guest says who it is, and from then on says everything again that it hears; until one end goes, or time is up.
async fn echo(world: &World, live: &Live, stream: &mut impl Both, at: &str, address: IpAddr) {
    let mut greeted = false;
    let mut some = [0; 4096];
    loop {
        let service = service(world, address);
        if service == Service::Nobody || live.is_over(at, world.now()) {
            return;
        }
        if let Service::Answers(name) = &service {
            if !greeted
                && stream
                    .write_all(format!("{name}\n").as_bytes())
                    .await
                    .is_err()
            {
                return;
            }
            greeted = true;
            match timeout(LOOK, stream.read(&mut some)).await {
                Ok(Ok(n @ 1..)) if stream.write_all(&some[..n]).await.is_ok() => {}
                Ok(_) => return,
                Err(_) => {}
            }
        } else {
            tokio::time::sleep(LOOK).await;
        }
    }
}
