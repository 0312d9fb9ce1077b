//! Sweeps while others write: in whatever order the calls of writers, of sweeps and of whoever lets points go reach a store, and
//! wherever each of them is cut off, every point that was published is whole, and what nobody needs goes in the end.

use crate::backups::{Disks, assert_same, back, copy, some_disks};
use async_trait::async_trait;
use futures::{StreamExt, stream::BoxStream};
use object_store::{
    CopyOptions, GetOptions, GetResult, ListResult, MultipartUpload, ObjectMeta, ObjectStore,
    PutMultipartOptions, PutOptions, PutPayload, PutResult, Result, memory::InMemory, path::Path,
};
use proptest::prelude::*;
use std::{
    collections::BTreeSet,
    fmt,
    sync::{Arc, Mutex},
    time::Duration,
};
use tokio::time::{sleep, timeout};
use uuid::Uuid;
use zastrugi_drivers::backup::{Deep, Store, StoreFault};
use zastrugi_formats::backup::{Key, Named};

/// A store whose calls take as long as chance says, before they do what they do and after it; in time that is not real.
#[derive(Debug)]
struct Late {
    inner: Arc<InMemory>,
    chance: Arc<Mutex<u64>>,
}

impl Late {
    fn wait(&self) -> Duration {
        let mut x = self.chance.lock().unwrap();
        *x ^= *x << 13;
        *x ^= *x >> 7;
        *x ^= *x << 17;
        Duration::from_millis(*x % 40)
    }
}

impl fmt::Display for Late {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("late")
    }
}

#[async_trait]
impl ObjectStore for Late {
    async fn put_opts(&self, at: &Path, load: PutPayload, opts: PutOptions) -> Result<PutResult> {
        sleep(self.wait()).await;
        let said = self.inner.put_opts(at, load, opts).await;
        sleep(self.wait()).await;
        said
    }
    async fn put_multipart_opts(
        &self,
        at: &Path,
        opts: PutMultipartOptions,
    ) -> Result<Box<dyn MultipartUpload>> {
        self.inner.put_multipart_opts(at, opts).await
    }
    async fn get_opts(&self, at: &Path, options: GetOptions) -> Result<GetResult> {
        sleep(self.wait()).await;
        let said = self.inner.get_opts(at, options).await;
        sleep(self.wait()).await;
        said
    }
    fn delete_stream(
        &self,
        at: BoxStream<'static, Result<Path>>,
    ) -> BoxStream<'static, Result<Path>> {
        let wait = self.wait();
        let at = at.then(move |p| async move {
            sleep(wait).await;
            p
        });
        self.inner.delete_stream(at.boxed())
    }
    fn list(&self, prefix: Option<&Path>) -> BoxStream<'static, Result<ObjectMeta>> {
        let (inner, prefix, before, after) = (
            self.inner.clone(),
            prefix.cloned(),
            self.wait(),
            self.wait(),
        );
        let all = async move {
            sleep(before).await;
            let all: Vec<_> = inner.list(prefix.as_ref()).collect().await;
            sleep(after).await;
            futures::stream::iter(all)
        };
        futures::stream::once(all).flatten().boxed()
    }
    async fn list_with_delimiter(&self, prefix: Option<&Path>) -> Result<ListResult> {
        self.inner.list_with_delimiter(prefix).await
    }
    async fn copy_opts(&self, from: &Path, to: &Path, options: CopyOptions) -> Result<()> {
        self.inner.copy_opts(from, to, options).await
    }
}

/// What a manager knows: states that are held fast, and points that are there.
#[derive(Default)]
struct Known {
    live: BTreeSet<Uuid>,
    points: Vec<(Disks, Named)>,
}

/// What one machine goes through: what is written before each copy, after how long the copy is cut off, and whether somebody goes on
/// with it then.
type Turn = (Vec<(u64, u8)>, Option<u64>, bool);

async fn machine(store: &Store, known: &Mutex<Known>, of: u128, turns: &[Turn]) {
    let mut disks = some_disks();
    let mut last: Option<(Disks, Named)> = None;
    for (n, (writes, cut, again)) in (1u128..).zip(turns) {
        for (block, value) in writes {
            disks.blocks.insert((0, *block), *value);
        }
        let mut source = disks.source(of * 100 + n, last.as_ref().map(|(d, named)| (d, *named)));
        source.machine.uuid = Uuid::from_u128(of);
        known.lock().unwrap().live.insert(source.session);
        let first = match cut {
            Some(after) => timeout(Duration::from_millis(*after), copy(store, &disks, &source))
                .await
                .ok(),
            None => Some(copy(store, &disks, &source).await),
        };
        let said = match first {
            Some(said) => Some(said),
            None if *again => Some(copy(store, &disks, &source).await),
            None => None,
        };
        // Its mark is released: nobody goes on with it.
        let mut known = known.lock().unwrap();
        known.live.remove(&source.session);
        match said {
            Some(Ok((copied, _))) => {
                known.points.push((disks.clone(), copied.named));
                last = Some((disks.clone(), copied.named));
            }
            Some(Err(why)) => assert_eq!(
                why,
                StoreFault::Revoked,
                "only a state that was gone is void"
            ),
            None => {}
        }
    }
}

async fn sweeps(store: &Store, known: &Mutex<Known>, cuts: &[Option<u64>], expires: bool) {
    for (n, cut) in (1u64..).zip(cuts) {
        sleep(Duration::from_millis(300)).await;
        if expires {
            let gone = {
                let mut known = known.lock().unwrap();
                (known.points.len() > 2).then(|| known.points.remove(0).1)
            };
            if let Some(gone) = gone {
                store.expire(&gone).await.unwrap();
            }
        }
        let live = known.lock().unwrap().live.clone();
        let sweep = store.sweep(&live, n * 1000);
        match cut {
            Some(after) => drop(timeout(Duration::from_millis(*after), sweep).await),
            None => drop(sweep.await.unwrap()),
        }
    }
}

fn turns() -> impl Strategy<Value = Vec<Turn>> {
    let writes = proptest::collection::vec((0u64..320, 1u8..6), 0..5);
    proptest::collection::vec(
        (writes, proptest::option::of(0u64..900), any::<bool>()),
        1..6,
    )
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 24, ..ProptestConfig::default() })]
    /// If this fails, a chunk that a point needs is swept away under it, or a store grows for ever.
    #[test]
    fn no_chunk_that_a_point_needs_goes(
        chance in 1u64..,
        one in turns(),
        two in turns(),
        cuts in proptest::collection::vec(proptest::option::weighted(0.3, 0u64..1500), 1..7),
        other in proptest::collection::vec(proptest::option::weighted(0.3, 0u64..1500), 0..4),
    ) {
        let runtime = tokio::runtime::Builder::new_current_thread().enable_all().start_paused(true).build().unwrap();
        runtime.block_on(async {
            let late = Late { inner: Arc::default(), chance: Arc::new(Mutex::new(chance)) };
            let store = Store::create_in(Arc::new(late), &Key::new([5; 32]), Uuid::from_u128(1)).await.unwrap();
            let known = Mutex::new(Known::default());
            tokio::join!(
                machine(&store, &known, 1, &one),
                machine(&store, &known, 2, &two),
                sweeps(&store, &known, &cuts, true),
                sweeps(&store, &known, &other, false),
            );
            let known = known.into_inner().unwrap();
            for n in 1..5u64 {
                store.sweep(&BTreeSet::new(), 1_000_000 + n).await.unwrap();
                let checked = store.check(Deep::Bytes).await.unwrap();
                assert_eq!(checked.problems, [], "after sweep {n}");
            }
            for (disks, named) in &known.points {
                let (_, bytes) = back(&store, named).await;
                assert_same(disks, &bytes);
            }
            let checked = store.check(Deep::Names).await.unwrap();
            assert_eq!(checked.loose, 0, "what nobody needs goes in the end");
        });
    }
}

/// If this fails, a copy that was given up and voided says that it is there, or what it stored is never taken away.
#[tokio::test]
async fn a_session_that_nobody_goes_on_with_never_counts() {
    let store = Store::create_in(
        Arc::new(InMemory::new()),
        &Key::new([5; 32]),
        Uuid::from_u128(1),
    )
    .await
    .unwrap();
    let disks = some_disks();
    let source = disks.source(1, None);
    let broken = Disks {
        breaks: Some(3),
        ..disks.clone()
    };
    copy(&store, &broken, &source).await.unwrap_err();
    let none = BTreeSet::new();
    let live = BTreeSet::from([source.session]);
    let swept = store.sweep(&live, 1).await.unwrap();
    assert!(swept.condemned > 0 && swept.gone == 0, "{swept:?}");
    let swept = store.sweep(&live, 2).await.unwrap();
    assert_eq!(
        (swept.gone, swept.waits),
        (0, 1),
        "somebody may still go on with it"
    );
    let swept = store.sweep(&none, 3).await.unwrap();
    assert!(swept.gone > 0 && swept.freed > 0, "{swept:?}");
    assert_eq!(
        copy(&store, &disks, &source).await.unwrap_err(),
        StoreFault::Revoked
    );
    assert!(store.points(None).await.unwrap().is_empty());
    let (copied, _) = copy(&store, &disks, &disks.source(2, None)).await.unwrap();
    let (_, bytes) = back(&store, &copied.named).await;
    assert_same(&disks, &bytes);
}

/// If this fails, points that go free nothing, or take what others need with them.
#[tokio::test]
async fn what_only_an_expired_point_needed_goes_at_the_second_sweep() {
    let store = Store::create_in(
        Arc::new(InMemory::new()),
        &Key::new([5; 32]),
        Uuid::from_u128(1),
    )
    .await
    .unwrap();
    let first = some_disks();
    let (one, _) = copy(&store, &first, &first.source(1, None)).await.unwrap();
    let mut second = first.clone();
    second.blocks.insert((0, 0), 99);
    let (two, _) = copy(
        &store,
        &second,
        &second.source(2, Some((&first, one.named))),
    )
    .await
    .unwrap();
    store.expire(&one.named).await.unwrap();
    let none = BTreeSet::new();
    let swept = store.sweep(&none, 1).await.unwrap();
    assert_eq!(
        (swept.gone, swept.condemned),
        (0, 2),
        "a chunk and its page: {swept:?}"
    );
    let swept = store.sweep(&none, 2).await.unwrap();
    assert_eq!((swept.gone, swept.condemned), (2, 0), "{swept:?}");
    let (_, bytes) = back(&store, &two.named).await;
    assert_same(&second, &bytes);
    assert_eq!(store.check(Deep::Bytes).await.unwrap().loose, 0);
}
