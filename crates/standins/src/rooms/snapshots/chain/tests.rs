//! Layers as guests write to them: what folding copies and frees, and what is seen through them.

use super::*;

/// What a disk holds, block by block: a plain table that knows nothing of layers.
type Model = BTreeMap<u32, u64>;

fn seen(chain: &Chain, layer: u64) -> Model {
    model(&chain.seen_from(layer)[0])
}

fn seen_of(chain: &Chain, disk: usize) -> Model {
    model(&chain.seen_from(chain.current)[disk])
}

fn model(written: &Written) -> Model {
    let all = written.writings();
    all.flat_map(|(n, blocks)| blocks.iter().map(move |b| (b, n)))
        .collect()
}

struct Draw(u64);
impl Draw {
    fn below(&mut self, n: u64) -> u64 {
        self.0 ^= self.0 << 13;
        self.0 ^= self.0 >> 7;
        self.0 ^= self.0 << 17;
        self.0 % n
    }
}

fn disk(blocks: u64, thick: bool) -> Disk {
    Disk {
        key: uuid::Uuid::nil(),
        size: blocks * GRAIN,
        thick,
        written: blocks / 2 * GRAIN,
        lock: 0,
    }
}

fn snapshot(name: &str) -> Snapshot {
    Snapshot {
        layer: 0,
        name: name.into(),
        note: String::new(),
        taken: 0,
        quiet: false,
        off: false,
        memory: None,
        still: 0,
    }
}

/// If this fails, deleting a snapshot or going back to one gives a machine other bytes than it had.
#[test]
fn whatever_is_taken_deleted_and_gone_back_to_each_state_keeps_its_bytes() {
    for seed in 1..200 {
        let mut draw = Draw(seed * 7919);
        let mut chain = Chain::of(&[disk(64, seed % 3 == 0)], seed, 0);
        let mut now = seen(&chain, 0);
        let mut kept: BTreeMap<String, Model> = BTreeMap::new();
        for n in 0..30 {
            match draw.below(6) {
                0 | 1 => {
                    let mut blocks = RoaringBitmap::new();
                    for _ in 0..=draw.below(8) {
                        blocks.insert(u32::try_from(draw.below(64)).unwrap());
                    }
                    chain.put(0, &blocks);
                    now.extend(blocks.iter().map(|b| (b, chain.current)));
                }
                2 | 3 => {
                    let id = format!("s{n}");
                    chain.take(&id, snapshot(&id));
                    kept.insert(id, now.clone());
                }
                4 if !kept.is_empty() => {
                    let at = usize::try_from(draw.below(kept.len() as u64)).unwrap();
                    let id = kept.keys().nth(at).unwrap().clone();
                    let work = chain.work(std::slice::from_ref(&id));
                    let before = chain.bytes();
                    chain.forget(std::slice::from_ref(&id));
                    kept.remove(&id);
                    assert!(chain.bytes() <= before, "deleting needs no room at its end");
                    assert!(work.still + work.moving <= 64 * 30, "{work:?}");
                }
                5 if !kept.is_empty() => {
                    let at = usize::try_from(draw.below(kept.len() as u64)).unwrap();
                    let (id, then) = kept.iter().nth(at).unwrap();
                    assert!(chain.go_back(id));
                    now = then.clone();
                }
                _ => {}
            }
            assert_eq!(seen(&chain, chain.current), now, "seed {seed}, step {n}");
            for (id, then) in &kept {
                let layer = chain.snapshots[id].layer;
                assert_eq!(seen(&chain, layer), *then, "seed {seed}, step {n}, {id}");
            }
        }
    }
}

/// If this fails, a guest that writes for long is not followed, or all of its writing hits the same blocks.
#[test]
fn a_guest_writes_mostly_to_the_same_part_and_seldom_anywhere() {
    let mut chain = Chain::of(&[disk(20_000, false)], 11, 0);
    chain.take("a", snapshot("a"));
    chain.writes(100 * GRAIN, 1_000);
    let after = |chain: &Chain| chain.layers[&chain.current].len();
    let few = after(&chain);
    assert!((90..=100).contains(&few), "{few} blocks of 100 written");
    chain.writes(100_000 * GRAIN, 2_000);
    let many = after(&chain);
    assert!(
        many > 9_000 && many <= 10_000,
        "{many}: it stays within what it holds"
    );
    assert_eq!(chain.due(GRAIN, 2_000, 1), 0, "all until now was followed");
    assert_eq!(chain.due(GRAIN, 4_000, 1), 2 * GRAIN);
}

/// If this fails, a disk that is detached and attached elsewhere holds other bytes there, or is mixed with what is written later.
#[test]
fn a_disk_takes_its_bytes_with_it_to_another_machine() {
    let mut from = Chain::of(&[disk(8, false), disk(8, false)], 3, 0);
    from.take("a", snapshot("a"));
    from.put(1, &RoaringBitmap::from_iter([1, 6]));
    from.forget(&["a".to_owned()]);
    let mut to = Chain::of(&[disk(4, false)], 5, 0);
    to.take("b", snapshot("b"));
    let was = seen_of(&from, 1);
    assert_eq!(was, Model::from([(0, 0), (1, 1), (2, 0), (3, 0), (6, 1)]));
    let content = from.take_out(1);
    assert_eq!(from.seen_from(from.current).len(), 1);
    to.put_in(content);
    assert_eq!(seen_of(&to, 1), was);
    to.put(1, &RoaringBitmap::from_iter([0]));
    let then = seen_of(&to, 1);
    assert!(then[&0] > 1 && then[&6] == 1, "{then:?}");
    assert_eq!(to.disks_of(0), 1, "the snapshot holds what was there then");
    to.forget(&["b".to_owned()]);
    assert_eq!(
        seen_of(&to, 1),
        then,
        "folding keeps a disk that came later"
    );
    assert_eq!(to.alone(), None);
}

#[test]
fn who_has_no_snapshot_any_more_takes_what_it_holds() {
    let mut chain = Chain::of(&[disk(100, false)], 3, 0);
    chain.take("a", snapshot("a"));
    assert_eq!(chain.alone(), None);
    chain.writes(10 * GRAIN, 1);
    chain.grows(5 * GRAIN, 100 * GRAIN);
    chain.forget(&["a".to_owned()]);
    assert_eq!(chain.alone(), Some(vec![55 * GRAIN]));
}

/// If this fails, a machine that is put back holds something else than it held, or what a snapshot of it holds is changed.
#[test]
fn what_is_laid_over_is_all_that_is_seen_and_what_lies_beneath_stays() {
    let disk = Disk {
        key: uuid::Uuid::nil(),
        size: 64 * GRAIN,
        thick: false,
        written: 0,
        lock: 0,
    };
    let mut wanted = Written::default();
    wanted.put(3, &[1, 2, 9].into_iter().collect());
    wanted.put(900, &[4].into_iter().collect());
    for snapshots in 0..3 {
        let mut chain = Chain::of(&[disk], 7, 0);
        let mut now = Written::default();
        now.put(3, &[1, 5].into_iter().collect());
        now.put(8, &[2, 6].into_iter().collect());
        chain.lay_over(0, now.clone(), &disk);
        for n in 0..snapshots {
            chain.take(&format!("s{n}"), snapshot("s"));
        }
        let before: Vec<_> = (0..snapshots)
            .map(|n| chain.seen_from(chain.snapshots[&format!("s{n}")].layer))
            .collect();
        chain.lay_over(0, wanted.clone(), &disk);
        let seen = chain.seen_from(chain.current).swap_remove(0);
        let held: Vec<_> = seen
            .writings()
            .filter(|(n, _)| *n != ZEROS)
            .map(|(n, b)| (n, b.clone()))
            .collect();
        let asked: Vec<_> = wanted.writings().map(|(n, b)| (n, b.clone())).collect();
        assert_eq!(held, asked, "with {snapshots} snapshots");
        let zeros: Vec<u32> = seen
            .writings()
            .filter(|(n, _)| *n == ZEROS)
            .flat_map(|(_, b)| b.iter().collect::<Vec<_>>())
            .collect();
        let expected: &[u32] = if snapshots == 0 { &[] } else { &[5, 6] };
        assert_eq!(zeros, expected);
        for (n, was) in before.into_iter().enumerate() {
            let layer = chain.snapshots[&format!("s{n}")].layer;
            assert_eq!(chain.seen_from(layer), was);
        }
    }
}
