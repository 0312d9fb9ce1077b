//! Backup stores: what is copied comes back as it was, whatever breaks it off; what is damaged is found and never believed.

use futures::future::BoxFuture;
use proptest::prelude::*;
use roaring::RoaringBitmap;
use std::{
    collections::{BTreeMap, BTreeSet},
    path::Path,
    sync::atomic::{AtomicUsize, Ordering},
};
use uuid::Uuid;
use zastrugi_drivers::backup::{
    Bucket, Copied, Deep, Extents, Place, Progress, Source, SourceDisk, Store, StoreFault,
};
use zastrugi_formats::backup::{Consistency, GRAIN, Key, Machine, Manifest, Named};
use zastrugi_standins::{Fault, FaultKind, Scenario, Settings, Standins};

const BLOCK: u64 = 64 << 10;

/// A machine's disks in memory: blocks of 64 KiB, each of one byte over and over; what is missing is zeros.
#[derive(Clone, Default)]
pub(crate) struct Disks {
    pub(crate) sizes: Vec<u64>,
    pub(crate) blocks: BTreeMap<(usize, u64), u8>,
    /// After so many reads it breaks.
    pub(crate) breaks: Option<usize>,
}

struct Reading<'a> {
    disks: &'a Disks,
    reads: AtomicUsize,
}

impl Extents for Reading<'_> {
    fn read(
        &self,
        disk: usize,
        at: u64,
        length: u64,
    ) -> BoxFuture<'_, Result<Vec<u8>, StoreFault>> {
        let n = self.reads.fetch_add(1, Ordering::Relaxed);
        let read = match self.disks.breaks.is_some_and(|most| n >= most) {
            true => Err(StoreFault::Source("the line broke".into())),
            false => Ok(self.disks.bytes(disk, at, length)),
        };
        Box::pin(async move { read })
    }
}

impl Disks {
    fn bytes(&self, disk: usize, at: u64, length: u64) -> Vec<u8> {
        let mut all = Vec::with_capacity(usize::try_from(length).unwrap());
        while (all.len() as u64) < length {
            let block = (at + all.len() as u64) / BLOCK;
            let fill = self.blocks.get(&(disk, block)).copied().unwrap_or(0);
            let left = (length - all.len() as u64).min(BLOCK);
            all.resize(all.len() + usize::try_from(left).unwrap(), fill);
        }
        all
    }
    fn held(&self, disk: usize) -> RoaringBitmap {
        let of = self.blocks.keys().filter(|(d, _)| *d == disk);
        of.map(|(_, b)| u32::try_from(*b).unwrap()).collect()
    }
    fn changed(&self, disk: usize, since: &Disks) -> RoaringBitmap {
        let of = |all: &Disks| {
            all.blocks
                .iter()
                .filter(|((d, _), _)| *d == disk)
                .map(|((_, b), v)| (*b, *v))
                .collect::<BTreeSet<_>>()
        };
        let (now, then) = (of(self), of(since));
        now.symmetric_difference(&then)
            .map(|(b, _)| u32::try_from(*b).unwrap())
            .collect()
    }
    pub(crate) fn source(&self, n: u128, parent: Option<(&Disks, Named)>) -> Source {
        let disk = |(d, size): (usize, &u64)| SourceDisk {
            key: Uuid::from_u128(d as u128 + 1),
            size: *size,
            held: self.held(d),
            changed: parent.map(|(then, _)| self.changed(d, then)),
        };
        Source {
            session: Uuid::from_u128(n),
            instant: 1_000 * u64::try_from(n).unwrap(),
            consistency: Consistency::Crash,
            machine: Machine {
                uuid: Uuid::from_u128(77),
                name: "basalt-01".into(),
                vcpus: 2,
                memory: 4 << 30,
                firmware: "uefi".into(),
                cards: vec![],
                labels: vec![],
                note: String::new(),
            },
            disks: self.sizes.iter().enumerate().map(disk).collect(),
            parent: parent.map(|(_, named)| named),
        }
    }
}

pub(crate) async fn copy(
    store: &Store,
    disks: &Disks,
    source: &Source,
) -> Result<(Copied, usize), StoreFault> {
    let reading = Reading {
        disks,
        reads: AtomicUsize::new(0),
    };
    let copied = store.copy(source, &reading, &Progress::default()).await?;
    Ok((copied, reading.reads.into_inner()))
}

/// What comes out of the store, as files.
pub(crate) async fn back(store: &Store, named: &Named) -> (Manifest, Vec<Vec<u8>>) {
    let manifest = store.manifest(named).await.unwrap();
    let out = tempfile::tempdir().unwrap();
    let made = store.restore(&manifest, out.path()).await.unwrap();
    let disks = made
        .iter()
        .filter(|p| p.extension().is_some_and(|e| e == "raw"));
    let bytes = disks.map(|p| std::fs::read(p).unwrap()).collect();
    (manifest, bytes)
}

pub(crate) fn assert_same(disks: &Disks, back: &[Vec<u8>]) {
    assert_eq!(back.len(), disks.sizes.len());
    for (d, bytes) in back.iter().enumerate() {
        assert!(
            *bytes == disks.bytes(d, 0, disks.sizes[d]),
            "disk {d} came back otherwise"
        );
    }
}

async fn folder() -> (tempfile::TempDir, Store) {
    let dir = tempfile::tempdir().unwrap();
    let store = Store::create(
        &Place::Folder(dir.path().into()),
        &Key::new([5; 32]),
        Uuid::from_u128(1),
        None,
    )
    .await
    .unwrap();
    (dir, store)
}

pub(crate) fn some_disks() -> Disks {
    let mut disks = Disks {
        sizes: vec![5 * GRAIN + 3 * BLOCK, 2 * GRAIN],
        ..Disks::default()
    };
    for (d, b, v) in [
        (0, 0, 1),
        (0, 1, 2),
        (0, 70, 3),
        (0, 322, 4),
        (1, 5, 1),
        (1, 64, 9),
    ] {
        disks.blocks.insert((d, b), v);
    }
    disks
}

/// If this fails, a store says that it has a machine and gives back another.
#[tokio::test]
async fn what_is_copied_comes_back_and_only_what_changed_is_read() {
    let (_dir, store) = folder().await;
    let first = some_disks();
    let (copied, reads) = copy(&store, &first, &first.source(1, None)).await.unwrap();
    // Grains 0, 1 and 5 of the first, 0 and 1 of the second: the others hold nothing.
    assert_eq!(reads, 5);
    assert_eq!(copied.measured.read, 4 * GRAIN + 3 * BLOCK);
    let (manifest, bytes) = back(&store, &copied.named).await;
    assert_same(&first, &bytes);
    assert_eq!(
        (manifest.parent, manifest.machine.name.as_str()),
        (None, "basalt-01")
    );

    let mut second = first.clone();
    second.blocks.insert((0, 200), 7);
    second.blocks.remove(&(0, 70));
    let source = second.source(2, Some((&first, copied.named)));
    let (next, reads) = copy(&store, &second, &source).await.unwrap();
    assert_eq!(reads, 2, "the grains of two changed blocks");
    let (manifest, bytes) = back(&store, &next.named).await;
    assert_same(&second, &bytes);
    assert_eq!(manifest.parent, Some(Uuid::from_u128(1)));
    let (_, bytes) = back(&store, &copied.named).await;
    assert_same(&first, &bytes);

    // The same once more: it is there, nothing is read, and what is told is the same.
    let (again, reads) = copy(&store, &second, &source).await.unwrap();
    assert_eq!((again, reads), (next, 0));
    let points: Vec<u64> = store
        .points(None)
        .await
        .unwrap()
        .iter()
        .map(|e| e.named.instant)
        .collect();
    assert_eq!(points, [1_000, 2_000]);
}

/// If this fails, equal bytes take room twice, or a bitmap that is lost makes a whole copy.
#[tokio::test]
async fn equal_bytes_are_stored_once_and_without_a_bitmap_they_are_compared() {
    let (_dir, store) = folder().await;
    let first = some_disks();
    let (copied, _) = copy(&store, &first, &first.source(1, None)).await.unwrap();
    let mut second = first.clone();
    second.blocks.insert((1, 6), 8);
    second.blocks.remove(&(0, 322));
    let mut source = second.source(2, Some((&first, copied.named)));
    source.disks.iter_mut().for_each(|d| d.changed = None);
    let (next, reads) = copy(&store, &second, &source).await.unwrap();
    assert_eq!(reads, 5, "everything that holds something, or did");
    assert_eq!(next.measured.fresh, GRAIN, "one grain is other than it was");
    let (_, bytes) = back(&store, &next.named).await;
    assert_same(&second, &bytes);

    // Another machine with the same on its disks.
    let mut twin = first.source(3, None);
    twin.machine.uuid = Uuid::from_u128(78);
    let (copied, _) = copy(&store, &first, &twin).await.unwrap();
    assert_eq!((copied.measured.fresh, copied.measured.stored), (0, 0));
}

/// If this fails, a run that was broken off begins again from the start, or ends with a point that is not whole.
#[tokio::test]
async fn a_copy_that_breaks_goes_on_where_it_was() {
    let mut whole = Disks {
        sizes: vec![50 * GRAIN],
        ..Disks::default()
    };
    for grain in 0..40u64 {
        whole.blocks.insert(
            (0, grain * 64 + grain % 64),
            u8::try_from(grain % 250 + 1).unwrap(),
        );
    }
    for breaks in [0, 31, 32, 39] {
        let (dir, store) = folder().await;
        let broken = Disks {
            breaks: Some(breaks),
            ..whole.clone()
        };
        let source = whole.source(1, None);
        let why = copy(&store, &broken, &source).await.unwrap_err();
        assert_eq!(why, StoreFault::Source("the line broke".into()));
        assert!(
            store.points(None).await.unwrap().is_empty(),
            "no half point"
        );
        let (copied, reads) = copy(&store, &whole, &source).await.unwrap();
        assert_eq!(reads, 40 - breaks / 32 * 32, "broken after {breaks}");
        assert_eq!(copied.measured.read, 40 * GRAIN);
        let (_, bytes) = back(&store, &copied.named).await;
        assert_same(&whole, &bytes);
        let left: Vec<_> = std::fs::read_dir(dir.path().join("sessions"))
            .unwrap()
            .collect();
        assert!(left.is_empty(), "its session ended");
        let checked = store.check(Deep::Bytes).await.unwrap();
        assert!(checked.problems.is_empty(), "{:?}", checked.problems);
    }
}

/// If this fails, a copy that broke and goes on after another point was published in between has what was on the disk before that.
#[tokio::test]
async fn one_that_goes_on_against_another_point_than_before_begins_anew() {
    let (_dir, store) = folder().await;
    let mut first = Disks {
        sizes: vec![80 * GRAIN],
        ..Disks::default()
    };
    for grain in 0..40u64 {
        first.blocks.insert((0, grain * 64), 1);
    }
    let (zero, _) = copy(&store, &first, &first.source(1, None)).await.unwrap();
    // Between the two, what lies at the end changes; afterwards what lies before it.
    let mut second = first.clone();
    second.blocks.insert((0, 39 * 64), 2);
    let mut third = second.clone();
    for grain in 0..35u64 {
        third.blocks.insert((0, grain * 64), 3);
    }
    let broken = Disks {
        breaks: Some(33),
        ..third.clone()
    };
    let against_first = third.source(3, Some((&first, zero.named)));
    copy(&store, &broken, &against_first).await.unwrap_err();
    let (one, _) = copy(
        &store,
        &second,
        &second.source(2, Some((&first, zero.named))),
    )
    .await
    .unwrap();
    let against_second = third.source(3, Some((&second, one.named)));
    let (copied, _) = copy(&store, &third, &against_second).await.unwrap();
    let (manifest, bytes) = back(&store, &copied.named).await;
    assert_same(&third, &bytes);
    assert_eq!(manifest.parent, Some(Uuid::from_u128(2)));
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 16, ..ProptestConfig::default() })]
    /// If this fails, some history of writes, broken copies, lost bitmaps, and disks that grow or shrink gives back other bytes than were
    /// on the disk at the mark. Held against the disks themselves.
    #[test]
    fn every_point_of_a_history_comes_back(
        turns in proptest::collection::vec(
            (proptest::collection::vec((0usize..2, 0u64..400, 0u8..4), 0..12), proptest::option::of(0usize..4), any::<bool>(), 3u64..7),
            1..6,
        )
    ) {
        let runtime = tokio::runtime::Builder::new_multi_thread().worker_threads(2).enable_all().build().unwrap();
        runtime.block_on(async {
            let (_dir, store) = folder().await;
            let mut disks = Disks { sizes: vec![5 * GRAIN, 2 * GRAIN + BLOCK], ..Disks::default() };
            let mut kept: Vec<(Disks, Named)> = vec![];
            for (n, (writes, breaks, lost, size)) in (1..).zip(turns) {
                disks.sizes[0] = size * GRAIN - BLOCK;
                for (d, b, v) in writes {
                    match v {
                        0 => { disks.blocks.remove(&(d, b)); }
                        v => { disks.blocks.insert((d, b), v); }
                    }
                }
                let sizes = disks.sizes.clone();
                disks.blocks.retain(|(d, b), _| b * BLOCK < sizes[*d]);
                let parent = kept.last().map(|(then, named)| (then, *named));
                let mut source = disks.source(n, parent);
                if lost {
                    source.disks.iter_mut().for_each(|d| d.changed = None);
                }
                if breaks.is_some() {
                    drop(copy(&store, &Disks { breaks, ..disks.clone() }, &source).await);
                }
                let (copied, _) = copy(&store, &disks, &source).await.unwrap();
                kept.push((disks.clone(), copied.named));
            }
            for (disks, named) in &kept {
                let (_, bytes) = back(&store, named).await;
                assert_same(disks, &bytes);
            }
            let checked = store.check(Deep::Bytes).await.unwrap();
            assert_eq!((checked.points, checked.problems), (kept.len(), vec![]));
        });
    }
}

fn files(dir: &Path) -> Vec<std::path::PathBuf> {
    let mut all = vec![];
    let mut next = vec![dir.to_path_buf()];
    while let Some(at) = next.pop() {
        for entry in std::fs::read_dir(at).unwrap() {
            let path = entry.unwrap().path();
            if path.is_dir() {
                next.push(path)
            } else {
                all.push(path)
            }
        }
    }
    all.sort();
    all
}

/// If this fails, a store whose bytes were changed restores something else, or is said to be whole.
#[tokio::test]
async fn every_damage_is_found_and_nothing_damaged_is_restored() {
    let disks = some_disks();
    let (dir, store) = folder().await;
    let (copied, _) = copy(&store, &disks, &disks.source(1, None)).await.unwrap();
    let all: Vec<_> = files(dir.path())
        .into_iter()
        .filter(|p| !p.ends_with("store.json"))
        .collect();
    assert!(all.len() >= 8, "{all:?}");
    for path in &all {
        let right = std::fs::read(path).unwrap();
        let mut wrong = right.clone();
        let at = wrong.len() / 2;
        wrong[at] ^= 4;
        for (spoilt, deep) in [(Some(wrong), Deep::Bytes), (None, Deep::Names)] {
            match &spoilt {
                Some(bytes) => std::fs::write(path, bytes).unwrap(),
                None => std::fs::remove_file(path).unwrap(),
            }
            let checked = store.check(deep).await.unwrap();
            let manifest = store.manifest(&copied.named).await;
            // A point whose manifest is gone is no point.
            let gone = checked.points == 0 && manifest.is_err();
            assert!(
                gone || checked.problems.len() == 1,
                "{}: {checked:?}",
                path.display()
            );
            if let Ok(manifest) = manifest {
                let out = tempfile::tempdir().unwrap();
                let why = store.restore(&manifest, out.path()).await.unwrap_err();
                assert!(
                    matches!(why, StoreFault::Damaged { .. } | StoreFault::Gone(_)),
                    "{why}"
                );
            }
            std::fs::write(path, &right).unwrap();
        }
    }
    assert!(store.check(Deep::Bytes).await.unwrap().problems.is_empty());
}

#[tokio::test]
async fn a_store_is_made_once_and_opened_by_its_own_key() {
    let (dir, store) = folder().await;
    let place = Place::Folder(dir.path().into());
    let again = Store::create(&place, &Key::new([5; 32]), Uuid::from_u128(2), None).await;
    assert_eq!(again.err(), Some(StoreFault::Taken));
    let other = Store::open(&place, &Key::new([6; 32])).await;
    assert_eq!(other.err(), Some(StoreFault::Key));
    assert_eq!(Store::at(&place).await, Ok(store.id()));
    let empty = tempfile::tempdir().unwrap();
    let none = Store::open(&Place::Folder(empty.path().into()), &Key::new([5; 32])).await;
    assert_eq!(none.err(), Some(StoreFault::NoStore));
    let nowhere = Store::open(&Place::Folder(empty.path().join("x")), &Key::new([5; 32])).await;
    assert!(matches!(nowhere.err(), Some(StoreFault::Gone(_))));
}

pub(crate) struct Server {
    pub(crate) standins: Standins,
    pub(crate) bucket: Bucket,
    _dir: tempfile::TempDir,
}

pub(crate) async fn server(number: u8) -> Server {
    let dir = tempfile::tempdir().unwrap();
    let text = r#"{"hosts": [], "volumes": [], "buckets": {"breakwater": {"address": "3.90", "access": "zastrugi", "secret": "first-light", "buckets": ["points"], "locked": ["kept"]}}}"#;
    let scenario: Scenario = serde_json::from_str(text).unwrap();
    let standins = Standins::start(Settings {
        dir: dir.path().into(),
        scenario,
        net: format!("127.{number}"),
        speed: 20.0,
        control: "127.0.0.1:0".parse().unwrap(),
        control_token: "bench".into(),
        announce: None,
    });
    let standins = standins.await.unwrap();
    let (address, pin) = standins.world.bucket_server("breakwater").unwrap();
    let bucket = Bucket {
        endpoint: format!("https://{address}"),
        region: "us-east-1".into(),
        name: "points".into(),
        prefix: "hill".into(),
        access: "zastrugi".into(),
        secret: "first-light".into(),
        pin,
    };
    Server {
        standins,
        bucket,
        _dir: dir,
    }
}

/// Against a server that nobody here wrote.
#[tokio::test]
async fn a_bucket_over_tls_keeps_what_a_folder_keeps() {
    let server = server(171).await;
    let key = Key::new([5; 32]);
    let place = Place::Bucket(server.bucket.clone());
    let none = Store::open(&place, &key).await;
    assert_eq!(none.err(), Some(StoreFault::NoStore));
    let store = Store::create(&place, &key, Uuid::from_u128(1), None)
        .await
        .unwrap();
    assert_eq!(
        Store::create(&place, &key, Uuid::from_u128(2), None)
            .await
            .err(),
        Some(StoreFault::Taken)
    );
    let disks = some_disks();
    let (copied, _) = copy(&store, &disks, &disks.source(1, None)).await.unwrap();
    let (_, bytes) = back(&store, &copied.named).await;
    assert_same(&disks, &bytes);
    let checked = store.check(Deep::Bytes).await.unwrap();
    assert_eq!((checked.points, checked.problems.len()), (1, 0));

    let with = |change: fn(&mut Bucket)| {
        let mut bucket = server.bucket.clone();
        change(&mut bucket);
        Place::Bucket(bucket)
    };
    for (place, words) in [
        (with(|b| b.secret = "other".into()), "refuses"),
        (with(|b| b.access = "other".into()), "refuses"),
        (with(|b| b.pin = "00".repeat(32)), "does not answer"),
        (with(|b| b.name = "nowhere".into()), "there is no"),
    ] {
        let why = Store::open(&place, &key).await.err().unwrap();
        assert!(why.to_string().contains(words), "{place:?}: {why}");
    }
    server.standins.world.silence_buckets("breakwater", true);
    let why = Store::open(&place, &key).await.err().unwrap();
    assert!(why.passes(), "{why}");
}

/// If this fails, a server that is full, answers nonsense or loses an answer makes a point that is not whole.
#[tokio::test]
async fn a_server_that_is_full_or_lies_is_told_of_and_the_copy_goes_on_later() {
    let server = server(172).await;
    let store = Store::create(
        &Place::Bucket(server.bucket.clone()),
        &Key::new([5; 32]),
        Uuid::from_u128(1),
        None,
    )
    .await
    .unwrap();
    let disks = some_disks();
    let source = disks.source(1, None);
    server.standins.world.fill_buckets("breakwater", true);
    let why = copy(&store, &disks, &source).await.unwrap_err();
    assert!(matches!(why, StoreFault::Full(_)), "{why:?}");
    server.standins.world.fill_buckets("breakwater", false);
    let (copied, _) = copy(&store, &disks, &source).await.unwrap();

    let breaks = |call: &str, kind| {
        server.standins.world.add_fault(Fault {
            device: "breakwater".into(),
            call: call.into(),
            kind,
            times: 1,
        });
    };
    let manifest = store.manifest(&copied.named).await.unwrap();
    for kind in [FaultKind::Garbage, FaultKind::Twice] {
        breaks("GET /points/hill/chunks", kind);
        let out = tempfile::tempdir().unwrap();
        let why = store.restore(&manifest, out.path()).await.unwrap_err();
        assert!(
            matches!(why, StoreFault::Damaged { .. } | StoreFault::Silent(_)),
            "{kind:?}: {why}"
        );
    }
    // A write whose answer is lost is written again.
    breaks("PUT /points/hill/chunks", FaultKind::Drop);
    let mut second = disks.clone();
    second.blocks.insert((1, 100), 3);
    let source = second.source(2, Some((&disks, copied.named)));
    let next = match copy(&store, &second, &source).await {
        Ok((next, _)) => next,
        Err(_) => copy(&store, &second, &source).await.unwrap().0,
    };
    let (_, bytes) = back(&store, &next.named).await;
    assert_same(&second, &bytes);
    assert!(store.check(Deep::Bytes).await.unwrap().problems.is_empty());
}
