//! One pass: pieces in an order, each into the bin that a score prefers.

use super::{Job, State};
use std::cmp::Reverse;

/// An order and a score.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Way {
    /// By tier, then dominant share descending; best fit by dot product.
    Tiers,
    /// Dominant share descending over all tiers; best fit by dot product.
    Share,
    /// The same, into the bin that is left with least.
    Tight,
    /// Few ways first, then share; left with least.
    Choosy,
}

pub(super) const WAYS: &[Way] = &[Way::Share, Way::Tight, Way::Choosy, Way::Tiers];

/// What one unit of each dimension counts: its share of all that is free.
pub(super) fn weights(job: &Job) -> Vec<f64> {
    (0..job.dimensions)
        .map(|d| {
            let free: f64 = job.bins.iter().map(|b| b.room[d] as f64).sum();
            1.0 / free.max(1.0)
        })
        .collect()
}

fn share(job: &Job, weights: &[f64], piece: usize) -> f64 {
    let needs = &job.pieces[piece].needs;
    let shares = weights.iter().zip(needs).map(|(w, n)| w * *n as f64);
    shares.fold(0.0, f64::max)
}

pub(super) fn order(job: &Job, state: &State, way: Way) -> Vec<usize> {
    let weights = weights(job);
    let mut all: Vec<usize> = (0..job.pieces.len()).collect();
    let shares: Vec<f64> = all.iter().map(|p| share(job, &weights, *p)).collect();
    let by_share = |a: &usize, b: &usize| shares[*b].total_cmp(&shares[*a]).then(a.cmp(b));
    match way {
        Way::Tiers => all.sort_by(|a, b| {
            let tier = |p: &usize| job.pieces[*p].tier;
            tier(a).cmp(&tier(b)).then_with(|| by_share(a, b))
        }),
        Way::Share | Way::Tight => all.sort_by(by_share),
        Way::Choosy => {
            let ways = |p: &usize| {
                (0..job.bins.len())
                    .filter(|b| state.takes(job, *p, *b))
                    .count()
            };
            let ways: Vec<usize> = all.iter().map(ways).collect();
            all.sort_by(|a, b| ways[*a].cmp(&ways[*b]).then_with(|| by_share(a, b)));
        }
    }
    all
}

pub(super) fn fill(job: &Job, state: &mut State, way: Way) {
    let weights = weights(job);
    for piece in order(job, state, way) {
        if let Some(bin) = choose(job, state, &weights, piece, way) {
            state.put(job, piece, bin);
        }
    }
}

/// The bin that the score prefers; ties go to the first.
pub(super) fn choose(
    job: &Job,
    state: &State,
    weights: &[f64],
    piece: usize,
    way: Way,
) -> Option<usize> {
    let needs = &job.pieces[piece].needs;
    let fitting = (0..job.bins.len()).filter(|bin| state.takes(job, piece, *bin));
    let score = |bin: &usize| {
        let room = &state.room[*bin];
        let mut score = 0.0;
        for (d, weight) in weights.iter().enumerate() {
            let (need, free) = (needs[d] as f64 * weight, room[d] as f64 * weight);
            score += match way {
                Way::Tiers | Way::Share => need * free,
                Way::Tight | Way::Choosy => need - free,
            };
        }
        score
    };
    let best = fitting.map(|bin| (score(&bin), Reverse(bin)));
    best.max_by(|a, b| a.0.total_cmp(&b.0).then(a.1.cmp(&b.1)))
        .map(|(_, Reverse(bin))| bin)
}
