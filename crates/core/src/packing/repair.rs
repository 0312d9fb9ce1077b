//! Makes room by ejection chains: a piece goes where another was, which goes where a third was, at most three deep.

use super::{
    Job, State,
    greedy::{Way, choose, order, weights},
};

const DEPTH: usize = 3;
/// Steps of all chains of one repair.
const WORK: u32 = 4000;

/// Places what is left over, higher tiers first, without losing anything that is placed.
pub(super) fn fill(job: &Job, state: &mut State) {
    if state.all() {
        return;
    }
    let weights = weights(job);
    let mut work = WORK;
    for piece in order(job, state, Way::Tiers) {
        if state.at[piece].is_some() {
            continue;
        }
        if let Some(bin) = choose(job, state, &weights, piece, Way::Tight) {
            state.put(job, piece, bin);
        } else {
            let mut moved = vec![piece];
            insert(job, state, piece, DEPTH, &mut moved, &mut work);
        }
    }
}

/// Puts a piece somewhere by moving another away; true when it is in. What doesn't succeed is undone.
fn insert(
    job: &Job,
    state: &mut State,
    piece: usize,
    depth: usize,
    moved: &mut Vec<usize>,
    work: &mut u32,
) -> bool {
    for bin in 0..job.bins.len() {
        if *work == 0 {
            return false;
        }
        *work -= 1;
        if state.takes(job, piece, bin) {
            state.put(job, piece, bin);
            return true;
        }
    }
    if depth == 0 {
        return false;
    }
    for other in 0..job.pieces.len() {
        let Some(bin) = state.at[other].filter(|_| !moved.contains(&other)) else {
            continue;
        };
        if *work == 0 {
            return false;
        }
        *work -= 1;
        state.take(job, other);
        if state.takes(job, piece, bin) {
            state.put(job, piece, bin);
            moved.push(other);
            if insert(job, state, other, depth - 1, moved, work) {
                return true;
            }
            moved.pop();
            state.take(job, piece);
        }
        state.put(job, other, bin);
    }
    false
}
