//! Layers of disks against tables that know nothing of layers: what each snapshot holds alone, what folding costs, what is lost.

use proptest::prelude::*;
use roaring::RoaringBitmap;
use std::collections::{BTreeMap, BTreeSet};
use uuid::Uuid;
use zastrugi_core::{
    layers::{Chain, Fold, GRAIN, Layer},
    moment::Span,
    units::{Bytes, Rate},
};

const BLOCKS: u32 = 12;

fn id(n: u64) -> Uuid {
    Uuid::from_u128(u128::from(n))
}

fn bitmap(blocks: impl IntoIterator<Item = u32>) -> RoaringBitmap {
    blocks.into_iter().collect()
}

fn layer(parent: Option<u64>, snapshot: Option<u64>, blocks: &[u32]) -> Layer {
    Layer {
        parent,
        snapshot: snapshot.map(id),
        disks: vec![bitmap(blocks.iter().copied())],
    }
}

fn blocks(n: u64) -> Bytes {
    GRAIN.times(n)
}

/// Any tree of up to seven layers: each lies on an earlier one; all but the last have a name or not.
fn chains() -> impl Strategy<Value = Chain> {
    let one = (
        any::<u64>(),
        any::<bool>(),
        prop::collection::btree_set(0..BLOCKS, 0..8),
    );
    prop::collection::vec(one, 1..7).prop_map(|all| {
        let last = u64::try_from(all.len()).unwrap() - 1;
        let layers = all
            .into_iter()
            .enumerate()
            .map(|(n, (parent, named, blocks))| {
                let n = u64::try_from(n).unwrap();
                let parent = n.checked_sub(1).map(|most| parent % (most + 1));
                let name = (named && n != last).then_some(n);
                let blocks: Vec<u32> = blocks.into_iter().collect();
                (n, layer(parent, name, &blocks))
            });
        Chain {
            layers: layers.collect(),
            current: last,
        }
    })
}

/// Which layer each block is read from, seen from one of them.
fn seen(chain: &Chain, from: u64) -> BTreeMap<u32, u64> {
    let mut found = BTreeMap::new();
    for at in chain.path(from) {
        for block in &chain.layers[&at].disks[0] {
            found.entry(block).or_insert(at);
        }
    }
    found
}

/// What can be read at all: the snapshots, and where the machine stands.
fn readers(chain: &Chain) -> Vec<u64> {
    let named = chain.layers.iter().filter(|(_, l)| l.snapshot.is_some());
    named.map(|(n, _)| *n).chain([chain.current]).collect()
}

proptest! {
    /// If this fails, the page says that deleting a snapshot frees what others still read, or less than it does.
    #[test]
    fn what_a_snapshot_holds_alone_is_what_nobody_else_reads(chain in chains()) {
        // Layers that are there for nobody are folded away first, as devices do.
        let mut chain = chain;
        chain.forget(&BTreeSet::new());
        let named: Vec<(u64, Uuid)> = chain.layers.iter().filter_map(|(n, l)| Some((*n, l.snapshot?))).collect();
        for (layer, snapshot) in named {
            let mut alone: BTreeSet<u32> = chain.layers[&layer].disks[0].iter().collect();
            for reader in readers(&chain).into_iter().filter(|r| *r != layer) {
                let read = seen(&chain, reader).into_iter().filter(|(_, from)| *from == layer);
                for (block, _) in read {
                    alone.remove(&block);
                }
            }
            prop_assert_eq!(chain.only(snapshot), blocks(u64::try_from(alone.len()).unwrap()));
        }
    }

    /// If this fails, deleting snapshots loses blocks of others, or room is promised that does not come back.
    #[test]
    fn folding_keeps_what_others_read_and_frees_what_it_says(chain in chains(), which in any::<u8>()) {
        let named: Vec<Uuid> = chain.layers.values().filter_map(|l| l.snapshot).collect();
        let gone: BTreeSet<Uuid> = named.iter().enumerate().filter(|(n, _)| which >> n & 1 == 1).map(|(_, s)| *s).collect();
        let mut then = chain.clone();
        let fold = then.forget(&gone);
        for (n, old) in &chain.layers {
            let stays = *n == chain.current || old.snapshot.is_some_and(|s| !gone.contains(&s));
            if !stays {
                continue;
            }
            let before: BTreeSet<u32> = seen(&chain, *n).into_keys().collect();
            let after: BTreeSet<u32> = seen(&then, *n).into_keys().collect();
            prop_assert_eq!(before, after, "layer {}", n);
        }
        let sum = |c: &Chain| c.layers.keys().map(|n| c.held(*n)).sum::<Bytes>();
        prop_assert_eq!(fold.freed, sum(&chain).less(sum(&then)));
        // Whatever stays is named, current, or has several on it.
        let mut stay = 0;
        for (n, l) in &then.layers {
            if *n != then.current && l.snapshot.is_none() {
                prop_assert!(then.children(*n).count() > 1);
                stay += 1;
            }
        }
        prop_assert_eq!(fold.stay, stay);
        // Never more copied than copying every layer once in the dearer direction.
        let all = sum(&chain);
        prop_assert!(fold.copied() <= all.times(u64::try_from(chain.layers.len()).unwrap()));
    }

    /// If this fails, somebody goes back who was told that less is lost.
    #[test]
    fn what_is_lost_is_each_block_that_is_read_otherwise(chain in chains()) {
        let targets: Vec<(u64, Uuid)> = chain.layers.iter().filter_map(|(n, l)| Some((*n, l.snapshot?))).collect();
        for (layer, snapshot) in targets {
            let kept: BTreeSet<u64> = chain.path(layer).into_iter().collect();
            let lost = seen(&chain, chain.current).into_values().filter(|from| !kept.contains(from)).count();
            prop_assert_eq!(chain.since(snapshot), blocks(u64::try_from(lost).unwrap()));
            let mut then = chain.clone();
            let before: BTreeSet<u32> = seen(&chain, layer).into_keys().collect();
            prop_assert!(then.go_back(snapshot).is_some());
            let after: BTreeSet<u32> = seen(&then, then.current).into_keys().collect();
            prop_assert_eq!(before, after);
            for other in chain.layers.values().filter_map(|l| l.snapshot) {
                prop_assert!(then.of(other).is_some(), "no snapshot goes with it");
            }
        }
    }
}

/// The example of the rules by hand: `|k| = 6`, `|c| = 3`, two in both.
#[test]
fn the_cheaper_of_two_directions_is_taken() {
    let chain = |under: &[u32], over: &[u32]| Chain {
        layers: [
            (0, layer(None, Some(1), under)),
            (1, layer(Some(0), Some(2), over)),
            (2, layer(Some(1), None, &[])),
        ]
        .into(),
        current: 2,
    };
    let gone = BTreeSet::from([id(1)]);
    // Up: 4 blocks of k that are not in c; down: 3 of c.
    let fold = chain(&[0, 1, 2, 3, 4, 5], &[4, 5, 6]).forget(&gone);
    assert_eq!((fold.still, fold.moving), (blocks(3), Bytes::ZERO), "down");
    assert_eq!(fold.peak, blocks(1), "one block of c has no place in k yet");
    assert_eq!(fold.freed, blocks(2));
    // Up: 1 block; down: 5.
    let fold = chain(&[0, 1], &[1, 2, 3, 4, 5]).forget(&gone);
    assert_eq!(
        (fold.still, fold.peak, fold.freed),
        (blocks(1), blocks(1), blocks(1)),
        "up"
    );
    // What the guest writes into is copied again where it goes down.
    let mut last = chain(&[0, 1, 2, 3, 4, 5], &[0]);
    last.layers.get_mut(&2).unwrap().disks[0] = bitmap([0]);
    let fold = last.forget(&BTreeSet::from([id(1), id(2)]));
    assert_eq!((fold.still, fold.moving), (blocks(1), blocks(1)));
    assert_eq!(fold.freed, blocks(2));
}

#[test]
fn a_fold_ends_only_if_less_is_written_than_copied() {
    let fold = Fold {
        still: Bytes::gib(1),
        moving: Bytes::gib(2),
        ..Fold::default()
    };
    let (copy, half) = (Rate(1 << 30), Rate(1 << 29));
    assert_eq!(fold.time(copy, Rate(0)), Some(Span::secs(3)));
    assert_eq!(
        fold.time(copy, half),
        Some(Span::secs(5)),
        "2 GiB / (1 − ½) and 1 GiB / 1"
    );
    assert_eq!(fold.time(copy, copy), None);
    assert_eq!(fold.time(Rate(0), Rate(0)), None);
    let up = Fold {
        moving: Bytes::ZERO,
        ..fold
    };
    assert_eq!(
        up.time(copy, copy),
        Some(Span::secs(1)),
        "what is copied up is not written to"
    );
    assert_eq!(Fold::default().time(Rate(0), copy), Some(Span(0)));
}

/// If this fails, a layer on which several snapshots lie goes with the first of them.
#[test]
fn a_layer_with_several_on_it_stays_until_one_is_left() {
    let mut chain = Chain {
        layers: [
            (0, layer(None, Some(1), &[0, 1, 2])),
            (1, layer(Some(0), Some(2), &[1])),
            (2, layer(Some(0), None, &[2])),
        ]
        .into(),
        current: 2,
    };
    let fold = chain.forget(&BTreeSet::from([id(1)]));
    assert_eq!(
        (fold.stay, fold.freed, fold.copied()),
        (1, Bytes::ZERO, Bytes::ZERO)
    );
    let fold = chain.forget(&BTreeSet::from([id(2)]));
    assert_eq!(fold.stay, 0);
    assert_eq!(fold.freed, blocks(2), "its own, and what was written over");
    assert_eq!(chain.layers.len(), 1);
}

#[test]
fn a_chain_that_runs_in_a_circle_ends() {
    let chain = Chain {
        layers: [
            (0, layer(Some(1), None, &[])),
            (1, layer(Some(0), None, &[])),
        ]
        .into(),
        current: 0,
    };
    assert_eq!(chain.depth(), 2);
}
