//! A sweep of a store with a million chunks: listed, marked by what points need, condemned; and the next one, which deletes. In memory, so
//! that it is our own time.
#![expect(
    clippy::unwrap_used,
    clippy::print_stdout,
    reason = "a benchmark fails loudly and says what it measured"
)]

use object_store::{ObjectStoreExt, memory::InMemory, path::Path};
use std::{collections::BTreeSet, sync::Arc, time::Instant};
use uuid::Uuid;
use zastrugi_drivers::backup::{SCOPE, Store};
use zastrugi_formats::backup::{
    ChunkId, ChunkRef, Consistency, Disk, FORMAT, GRAIN, Key, Kind, Machine, Manifest, Measured,
    Named, PAGE, Page, PageAt, chunk_name,
};

const CHUNKS: u64 = 1_000_000;
/// Of a hundred so many are needed by nobody.
const LOOSE: u64 = 5;
const MACHINES: u64 = 50;

fn chunk(n: u64) -> ChunkRef {
    let mut id = [0; 32];
    id[..8].copy_from_slice(&n.wrapping_mul(0x9e37_79b9_7f4a_7c15).to_le_bytes());
    id[8..16].copy_from_slice(&n.to_le_bytes());
    ChunkRef {
        id: ChunkId(id),
        suffix: 0,
    }
}

fn manifest(
    (store, m): (Uuid, u64),
    named: &Named,
    (chunks, pages): (u64, Vec<PageAt>),
) -> Manifest {
    Manifest {
        format: FORMAT.into(),
        store,
        scope: SCOPE.into(),
        session: named.session,
        parent: None,
        instant: named.instant,
        consistency: Consistency::Quiet,
        machine: Machine {
            uuid: named.machine,
            name: format!("m{m}"),
            vcpus: 1,
            memory: 1,
            firmware: "uefi".into(),
            cards: vec![],
            labels: vec![],
            note: String::new(),
        },
        disks: vec![Disk {
            key: named.machine,
            size: chunks * GRAIN,
            pages,
        }],
        locked: None,
        measured: Measured::default(),
    }
}

#[tokio::main]
async fn main() {
    let objects = Arc::new(InMemory::new());
    let key = Key::new([5; 32]);
    let id = Uuid::from_u128(1);
    let store = Store::create_in(objects.clone(), &key, id).await.unwrap();
    let sealer = key.sealer(SCOPE);
    let put = async |name: &str, bytes: Vec<u8>| {
        objects.put(&Path::from(name), bytes.into()).await.unwrap();
    };
    for n in 0..CHUNKS {
        put(&chunk_name(&chunk(n)), vec![0]).await;
    }
    let needed = CHUNKS * (100 - LOOSE) / 100;
    let each = needed / MACHINES;
    for m in 0..MACHINES {
        let mut pages = Vec::new();
        for (at, first) in (m * each..(m + 1) * each)
            .step_by(usize::try_from(PAGE).unwrap())
            .enumerate()
        {
            let last = (first + PAGE).min((m + 1) * each);
            let entries = (first..last)
                .zip(0u16..)
                .map(|(n, place)| (place, chunk(n)));
            let plain = Page(entries.collect()).bytes();
            let own = ChunkRef {
                id: sealer.name(&plain),
                suffix: 0,
            };
            let name = chunk_name(&own);
            put(
                &name,
                sealer.seal(Kind::Page, &name, &[7; 32], &plain).unwrap(),
            )
            .await;
            pages.push(PageAt::new(at as u64, own));
        }
        let machine = Uuid::from_u128(u128::from(m) + 100);
        let named = Named {
            machine,
            instant: 1_000 + m,
            session: Uuid::from_u128(u128::from(m) + 900),
        };
        let manifest = manifest((id, m), &named, (each, pages));
        let name = named.path();
        put(
            &name,
            sealer
                .seal(Kind::Manifest, &name, &[8; 32], &manifest.bytes().unwrap())
                .unwrap(),
        )
        .await;
    }
    println!("{CHUNKS} chunks, {MACHINES} points, {LOOSE} of 100 chunks needed by nobody");
    for (n, what) in [(1, "first"), (2, "second")] {
        let began = Instant::now();
        let swept = store.sweep(&BTreeSet::new(), n).await.unwrap();
        println!(
            "{what} sweep: {:.1} s; {} went, {} are condemned",
            began.elapsed().as_secs_f64(),
            swept.gone,
            swept.condemned
        );
    }
}
