//! Packing against brute force and a naive checker: never a wrong “all”, and as much as there can be.

use proptest::prelude::*;
use std::collections::BTreeSet;
use zastrugi_core::packing::{Amount, Bin, Job, Packing, Piece, Proof, pack, value};

fn amount(memory: u64, cpu: u64) -> Amount {
    [memory, 0, cpu, 0, 0]
}

/// Checked by nothing but the definition: room in every dimension, groups apart, and only where it may be.
fn assert_valid(job: &Job, packing: &Packing) {
    for (n, bin) in job.bins.iter().enumerate() {
        let there: Vec<usize> = (0..job.pieces.len())
            .filter(|p| packing.at[*p] == Some(n))
            .collect();
        for d in 0..job.dimensions {
            let used: u64 = there.iter().map(|p| job.pieces[*p].needs[d]).sum();
            assert!(used <= bin.room[d], "bin {n} overflows in {d}");
        }
        let mut groups = bin.groups.clone();
        for piece in there {
            let piece = &job.pieces[piece];
            assert!(
                piece.groups.iter().all(|g| groups.insert(*g)),
                "two of a group in bin {n}"
            );
            assert!(
                piece.only.as_ref().is_none_or(|only| only[n]),
                "not allowed in bin {n}"
            );
        }
    }
    assert_eq!(packing.proof.all(), packing.at.iter().all(Option::is_some));
}

/// The best value over every assignment there is.
fn brute(job: &Job) -> Vec<(u64, u64)> {
    fn go(job: &Job, at: &mut Vec<Option<usize>>, best: &mut Vec<(u64, u64)>) {
        if at.len() == job.pieces.len() {
            let now = value(job, at);
            if now > *best {
                *best = now;
            }
            return;
        }
        let piece = at.len();
        for bin in 0..job.bins.len() {
            at.push(Some(bin));
            if fits(job, at, bin, piece) {
                go(job, at, best);
            }
            at.pop();
        }
        at.push(None);
        go(job, at, best);
        at.pop();
    }
    fn fits(job: &Job, at: &[Option<usize>], bin: usize, piece: usize) -> bool {
        let there = || (0..at.len()).filter(|p| at[*p] == Some(bin));
        let room = (0..job.dimensions)
            .all(|d| there().map(|p| job.pieces[p].needs[d]).sum::<u64>() <= job.bins[bin].room[d]);
        let mut groups = job.bins[bin].groups.clone();
        let apart = there().all(|p| job.pieces[p].groups.iter().all(|g| groups.insert(*g)));
        room && apart && job.pieces[piece].only.as_ref().is_none_or(|only| only[bin])
    }
    let mut best = vec![(0, 0); 5];
    go(job, &mut Vec::new(), &mut best);
    best
}

fn jobs() -> impl Strategy<Value = Job> {
    let bin = (0u64..40, 0u64..16, proptest::option::of(0u32..3)).prop_map(|(m, c, g)| Bin {
        room: amount(m, c),
        groups: g.into_iter().collect::<BTreeSet<_>>(),
    });
    let piece = (
        1u64..20,
        1u64..8,
        1u8..4,
        proptest::option::weighted(0.3, 0u32..3),
        any::<u8>(),
    );
    let piece = piece.prop_map(|(m, c, tier, group, only)| Piece {
        needs: amount(m, c),
        tier,
        count: 1,
        kept: m,
        groups: group.into_iter().collect(),
        // A quarter may not be everywhere.
        only: (only < 64).then(|| (0..3).map(|b| only >> b & 1 == 1).collect()),
    });
    (
        prop::collection::vec(bin, 3),
        prop::collection::vec(piece, 0..7),
    )
        .prop_map(|(bins, pieces)| Job {
            bins,
            pieces,
            dimensions: 3,
            limit: 200_000,
        })
}

proptest! {
    #[test]
    fn it_places_exactly_as_much_as_brute_force(job in jobs()) {
        let packing = pack(&job);
        assert_valid(&job, &packing);
        prop_assert!(packing.proof.decided());
        prop_assert_eq!(value(&job, &packing.at), brute(&job));
    }

    #[test]
    fn another_bin_never_takes_anything_away(job in jobs(), memory in 0u64..40, cpu in 0u64..16) {
        let before = value(&job, &pack(&job).at);
        let mut more = job.clone();
        more.bins.push(Bin { room: amount(memory, cpu), groups: BTreeSet::new() });
        more.pieces.iter_mut().filter_map(|p| p.only.as_mut()).for_each(|only| only.push(false));
        prop_assert!(value(&more, &pack(&more).at) >= before);
    }

    #[test]
    fn the_order_of_what_is_asked_does_not_matter(job in jobs()) {
        let mut turned = job.clone();
        turned.pieces.reverse();
        prop_assert_eq!(value(&job, &pack(&job).at), value(&turned, &pack(&turned).at));
        prop_assert_eq!(pack(&job).proof.all(), pack(&turned).proof.all());
    }

    #[test]
    fn a_small_limit_never_says_all_without_a_witness(job in jobs(), limit in 0u32..20) {
        let packing = pack(&Job { limit, ..job.clone() });
        assert_valid(&job, &packing);
        // What is said to be impossible is impossible.
        if packing.proof.decided() && !packing.proof.all() {
            prop_assert!(!pack(&job).proof.all());
        }
    }
}

#[test]
fn room_is_made_where_a_greedy_fit_finds_none() {
    // 6 and 4 leave no room for 5 and 5 unless 6+4 share a bin.
    let piece = |m| Piece {
        needs: amount(m, 1),
        tier: 1,
        count: 1,
        kept: m,
        ..Piece::default()
    };
    let bin = || Bin {
        room: amount(10, 9),
        groups: BTreeSet::new(),
    };
    let job = Job {
        bins: vec![bin(), bin()],
        pieces: [5, 6, 5, 4].map(piece).to_vec(),
        dimensions: 3,
        limit: 1000,
    };
    assert_eq!(pack(&job).proof, Proof::Witness);
}

#[test]
fn why_not_is_said() {
    let piece = |m| Piece {
        needs: amount(m, 1),
        tier: 1,
        count: 1,
        kept: m,
        ..Piece::default()
    };
    let bin = |m| Bin {
        room: amount(m, 9),
        groups: BTreeSet::new(),
    };
    let of = |bins: &[u64], pieces: &[u64]| {
        let job = Job {
            bins: bins.iter().map(|m| bin(*m)).collect(),
            pieces: pieces.iter().map(|m| piece(*m)).collect(),
            dimensions: 3,
            limit: 1000,
        };
        pack(&job).proof
    };
    assert_eq!(of(&[10, 10], &[11]), Proof::Nowhere { piece: 0 });
    assert_eq!(
        of(&[10, 10], &[9, 9, 3]),
        Proof::Aggregate {
            dimension: 0,
            needed: 21,
            free: 20
        }
    );
    assert!(matches!(of(&[10, 10], &[6, 6, 6]), Proof::Exhausted { .. }));
}
