//! Stores in buckets with object lock: whoever has the bucket's credentials can hide and overwrite, and takes nothing away.

use crate::backups::{Disks, Server, assert_same, back, copy, server, some_disks};
use futures::TryStreamExt;
use object_store::{
    ClientOptions, ObjectStore, ObjectStoreExt, RetryConfig,
    aws::AmazonS3Builder,
    client::{HttpClient, HttpConnector},
    path::Path as At,
};
use std::{
    collections::BTreeSet,
    net::TcpListener,
    path::Path,
    process::{Child, Command, Stdio},
    time::Duration,
};
use uuid::Uuid;
use zastrugi_drivers::backup::{Bucket, Copied, Deep, Place, Store, StoreFault};
use zastrugi_formats::backup::Key;

const MINUTES: u64 = 20;
const LOCK: Duration = Duration::from_secs(MINUTES * 60);

fn minutes(n: u64) -> Duration {
    Duration::from_secs(n * 60)
}

fn key() -> Key {
    Key::new([5; 32])
}

async fn made(bucket: &Bucket) -> Store {
    let place = Place::Bucket(bucket.clone());
    let made = Store::create(&place, &key(), Uuid::from_u128(1), Some(LOCK)).await;
    made.unwrap()
}

async fn locked(number: u8) -> (Server, Store) {
    let mut server = server(number).await;
    server.bucket.name = "kept".into();
    let store = made(&server.bucket).await;
    (server, store)
}

fn client() -> reqwest::Client {
    // Whoever is first in this process.
    let _ = rustls::crypto::ring::default_provider().install_default();
    let any = reqwest::Client::builder().danger_accept_invalid_certs(true);
    any.build().unwrap()
}

#[derive(Debug)]
struct AnyCertificate;

impl HttpConnector for AnyCertificate {
    fn connect(&self, _: &ClientOptions) -> object_store::Result<HttpClient> {
        Ok(HttpClient::new(client()))
    }
}

/// Whoever has the credentials of the bucket, with a library that is none of ours.
fn thief(bucket: &Bucket) -> impl ObjectStore {
    let built = AmazonS3Builder::new()
        .with_endpoint(&bucket.endpoint)
        .with_region(&bucket.region)
        .with_bucket_name(&bucket.name)
        .with_access_key_id(&bucket.access)
        .with_secret_access_key(&bucket.secret)
        .with_virtual_hosted_style_request(false)
        .with_allow_http(true)
        .with_retry(RetryConfig::default())
        .with_http_connector(AnyCertificate);
    built.build().unwrap()
}

async fn names(thief: &impl ObjectStore) -> Vec<At> {
    let all: Vec<_> = thief.list(None).try_collect().await.unwrap();
    all.into_iter().map(|meta| meta.location).collect()
}

async fn two_points(store: &Store) -> (Disks, Copied, Disks, Copied) {
    let first = some_disks();
    let (a, _) = copy(store, &first, &first.source(1, None)).await.unwrap();
    let mut second = first.clone();
    second.blocks.insert((0, 200), 7);
    second.blocks.remove(&(0, 70));
    let source = second.source(2, Some((&first, a.named)));
    let (b, reads) = copy(store, &second, &source).await.unwrap();
    assert_eq!(reads, 2, "the grains of two changed blocks");
    (first, a, second, b)
}

async fn nothing_goes(bucket: &Bucket) {
    let store = made(bucket).await;
    let (first, a, second, b) = two_points(&store).await;
    assert!(a.locked.is_some() && b.locked >= a.locked);
    let refused = store.expire(&a.named).await;
    assert!(matches!(refused, Err(StoreFault::Locked(_))), "{refused:?}");
    let place = Place::Bucket(bucket.clone());
    let taken = Store::create(&place, &key(), Uuid::from_u128(2), None).await;
    assert_eq!(taken.err(), Some(StoreFault::Taken));

    // Something over everything, then everything gone, as far as a list can tell.
    let thief = thief(bucket);
    let all = names(&thief).await;
    assert!(all.len() > 8, "{all:?}");
    for name in &all {
        thief.put(name, "nothing".into()).await.unwrap();
    }
    for round in ["overwritten", "hidden"] {
        let store = Store::open(&place, &key()).await.unwrap();
        assert_eq!(store.lock(), Some(LOCK), "{round}");
        assert_eq!(store.points(None).await.unwrap().len(), 2, "{round}");
        for (disks, copied) in [(&first, &a), (&second, &b)] {
            let (_, bytes) = back(&store, &copied.named).await;
            assert_same(disks, &bytes);
        }
        let checked = store.check(Deep::Bytes).await.unwrap();
        assert_eq!((checked.points, checked.problems), (2, vec![]), "{round}");
        for name in &all {
            thief.delete(name).await.unwrap();
        }
    }
    assert_eq!(names(&thief).await, vec![]);
    // Somebody says that all of it is void.
    for session in [1, 2] {
        let void = format!("{}/revoked/{}", bucket.prefix, Uuid::from_u128(session));
        thief.put(&At::from(void), "void".into()).await.unwrap();
    }
    let store = Store::open(&place, &key()).await.unwrap();
    assert_eq!(store.points(None).await.unwrap().len(), 2);

    // What is written then goes on from what was there, and a sweep takes nothing.
    let mut third = second.clone();
    third.blocks.insert((1, 20), 3);
    let source = third.source(3, Some((&second, b.named)));
    let (c, reads) = copy(&store, &third, &source).await.unwrap();
    assert_eq!(reads, 1);
    for n in 1..3 {
        let swept = store.sweep(&BTreeSet::new(), n).await.unwrap();
        assert_eq!((swept.gone, swept.condemned), (0, 0), "{swept:?}");
    }
    let (_, bytes) = back(&store, &c.named).await;
    assert_same(&third, &bytes);
}

/// If this fails, whoever breaks in takes the copies with the machines, though their store is called locked.
#[tokio::test]
async fn what_is_locked_stays_whatever_somebody_does_with_the_bucket() {
    let mut server = server(183).await;
    server.bucket.name = "kept".into();
    nothing_goes(&server.bucket).await;
}

struct Moto(Child);

impl Drop for Moto {
    fn drop(&mut self) {
        let _ = self.0.kill();
        let _ = self.0.wait();
    }
}

/// `cargo xtask test` installs it; where it could not, it says so itself, and to this test. None: then.
async fn moto() -> Option<(Moto, Bucket)> {
    let program = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../target/moto/bin/moto_server");
    if !program.exists() && std::env::var_os("WITHOUT_MOTO").is_some() {
        return None;
    }
    assert!(
        program.exists(),
        "{} is missing; `cargo xtask moto` installs it",
        program.display()
    );
    let port = {
        let free = TcpListener::bind("127.0.0.1:0").unwrap();
        free.local_addr().unwrap().port()
    };
    let child = Command::new(program)
        .args(["-H", "127.0.0.1", "-p", &port.to_string()])
        .stdout(Stdio::null())
        .stderr(Stdio::null())
        .spawn();
    let mut moto = Moto(child.unwrap());
    let bucket = Bucket {
        endpoint: format!("http://127.0.0.1:{port}"),
        region: "us-east-1".into(),
        name: "kept".into(),
        prefix: "hill".into(),
        access: "zastrugi".into(),
        secret: "first-light".into(),
        pin: "0".repeat(64),
    };
    for (name, locks) in [("kept", true), ("open", false)] {
        let url = format!("{}/{name}", bucket.endpoint);
        loop {
            let make = client().put(&url);
            let make = match locks {
                true => make.header("x-amz-bucket-object-lock-enabled", "true"),
                false => make,
            };
            match make.send().await {
                Ok(answer) if answer.status().is_success() => break,
                Ok(answer) => panic!("{}", answer.text().await.unwrap()),
                Err(_) => {
                    assert_eq!(moto.0.try_wait().unwrap(), None, "it ended");
                    tokio::time::sleep(Duration::from_millis(100)).await;
                }
            }
        }
    }
    Some((moto, bucket))
}

/// The same at a server that nobody here wrote: else our own is proven by our own.
#[tokio::test]
async fn what_is_locked_stays_at_a_server_that_nobody_here_wrote() {
    let Some((_moto, bucket)) = moto().await else {
        return;
    };
    nothing_goes(&bucket).await;
    let open = Bucket {
        name: "open".into(),
        ..bucket
    };
    let place = Place::Bucket(open);
    let why = Store::create(&place, &key(), Uuid::from_u128(1), Some(LOCK)).await;
    let Some(StoreFault::Refused(said)) = why.err() else {
        panic!("it was made")
    };
    assert!(said.contains("no object lock"), "{said}");
}

/// If this fails, a store that can lock nothing is called locked.
#[tokio::test]
async fn where_nothing_can_be_locked_no_store_is_made() {
    let server = server(184).await;
    let folder = tempfile::tempdir().unwrap();
    let places = [
        (Place::Bucket(server.bucket.clone()), "no object lock"),
        (
            Place::Folder(folder.path().into()),
            "only what is in a bucket",
        ),
    ];
    for (place, words) in places {
        let why = Store::create(&place, &key(), Uuid::from_u128(1), Some(LOCK)).await;
        let why = why.err().unwrap();
        assert!(
            matches!(&why, StoreFault::Refused(said) if said.contains(words)),
            "{why:?}"
        );
        assert_eq!(Store::at(&place).await, Err(StoreFault::NoStore));
    }
    // A clock that is wrong by years would lock for years, and nobody could take that back.
    let mut bucket = server.bucket.clone();
    bucket.name = "kept".into();
    server
        .standins
        .world
        .forward_buckets("breakwater", minutes(61));
    let why = Store::create(
        &Place::Bucket(bucket),
        &key(),
        Uuid::from_u128(1),
        Some(LOCK),
    )
    .await;
    assert!(matches!(why.err(), Some(StoreFault::Clock(_))));
}

/// If this fails, a point that is kept loses what it has of an older one, or nothing ever goes.
#[tokio::test]
async fn what_a_point_has_of_others_stays_as_long_as_it_does_and_goes_afterwards() {
    let (server, store) = locked(185).await;
    let forward = |by| server.standins.world.forward_buckets("breakwater", by);
    let (_, a, second, b) = two_points(&store).await;
    let needs = async |copied: &Copied| {
        let manifest = store.manifest(&copied.named).await.unwrap();
        manifest.locked.unwrap()
    };
    let (at_a, at_b) = (needs(&a).await, needs(&b).await);
    assert!(
        at_b.needs <= at_a.needs + 60_000,
        "it has most of the first"
    );

    // What the second has is locked for less than the third must be: it is locked for longer, none of it is read.
    forward(minutes(15));
    let (c, reads) = copy(&store, &second, &second.source(3, Some((&second, b.named))))
        .await
        .unwrap();
    let at_c = needs(&c).await;
    assert_eq!(reads, 0);
    assert!(at_c.needs > at_b.needs && at_c.until > at_b.until);

    // The first two are over; what only the first had goes, what the third has does not.
    forward(minutes(10));
    for copied in [&a, &b] {
        store.expire(&copied.named).await.unwrap();
    }
    let refused = store.expire(&c.named).await;
    assert!(matches!(refused, Err(StoreFault::Locked(_))), "{refused:?}");
    let swept = store.sweep(&BTreeSet::new(), 1).await.unwrap();
    assert_eq!((swept.condemned, swept.locked > 0), (0, true), "{swept:?}");
    forward(minutes(6));
    let swept = store.sweep(&BTreeSet::new(), 2).await.unwrap();
    assert!(swept.condemned > 0 && swept.locked == 0, "{swept:?}");
    let swept = store.sweep(&BTreeSet::new(), 3).await.unwrap();
    assert!(swept.gone > 0 && swept.freed > 0, "{swept:?}");
    let checked = store.check(Deep::Bytes).await.unwrap();
    assert_eq!(
        (checked.points, checked.loose, checked.problems),
        (1, 0, vec![])
    );
    let (_, bytes) = back(&store, &c.named).await;
    assert_same(&second, &bytes);

    // Nobody vouches for what was locked until yesterday: everything is looked at again.
    forward(minutes(20));
    let (d, reads) = copy(&store, &second, &second.source(4, Some((&second, c.named))))
        .await
        .unwrap();
    assert!(reads > 2, "{reads}");
    assert_eq!(d.measured.stored, 0, "it is all there, and locked again");
    assert!(needs(&d).await.until > at_c.needs);
}

/// If this fails, a copy that was broken off begins from nothing, or counts on what is not locked.
#[tokio::test]
async fn a_locked_copy_that_was_broken_off_goes_on() {
    let (server, store) = locked(186).await;
    let mut disks = some_disks();
    disks.sizes[0] = 80 << 22;
    disks
        .blocks
        .extend((0..70).map(|g| ((0, g * 64), u8::try_from(g + 1).unwrap())));
    disks.breaks = Some(40);
    let source = disks.source(1, None);
    let why = copy(&store, &disks, &source).await.err();
    assert_eq!(why, Some(StoreFault::Source("the line broke".into())));
    disks.breaks = None;
    let (copied, reads) = copy(&store, &disks, &source).await.unwrap();
    assert!(reads < 60, "{reads}");
    let (manifest, bytes) = back(&store, &copied.named).await;
    assert_same(&disks, &bytes);
    let locked = manifest.locked.unwrap();
    assert!(locked.needs >= locked.until);
    let checked = store.check(Deep::Bytes).await.unwrap();
    assert_eq!(checked.problems, vec![]);

    // Somebody goes on only when the lock of what was stored is over: it is all looked at again.
    disks.breaks = Some(40);
    let source = disks.source(2, None);
    assert!(copy(&store, &disks, &source).await.is_err());
    let later = minutes(2 * MINUTES);
    server.standins.world.forward_buckets("breakwater", later);
    disks.breaks = None;
    let (copied, again) = copy(&store, &disks, &source).await.unwrap();
    assert!(again > reads + 30, "{again}, {reads}");
    assert_same(&disks, &back(&store, &copied.named).await.1);
}
