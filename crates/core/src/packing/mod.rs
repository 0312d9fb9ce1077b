//! Packing: which of these machines find room on those hosts?   Start at [`pack`].
//!
//! Plain numbers, no estate: what is wanted is a [`Job`] of pieces and bins with amounts in several dimensions. The answer
//! carries a witness (who goes where) or says why not all fit: by an aggregate bound, by a piece that fits nowhere, because
//! every way was tried, or *undecided* within the work limit.
//!
//! Vector bin packing is NP-hard. `greedy` orders by dominant share and fits best by dot product (Panigrahy, Talwar, Uyeda
//! and Wieder 2011, *Heuristics for Vector Bin Packing*); `repair` makes room by ejection chains; `search` is a branch and
//! bound with a limit on its nodes. The most are placed in tier 1, then in tier 2, and so on; among as many, the most
//! always-kept memory.

mod greedy;
mod repair;
mod search;
mod state;

pub use state::{Amount, Bin, DIMENSIONS, Piece};

use state::State;
use std::cmp::Ordering;

/// What shall be packed.
#[derive(Debug, Clone, Default)]
pub struct Job {
    pub bins: Vec<Bin>,
    pub pieces: Vec<Piece>,
    /// Only the first so many dimensions count.
    pub dimensions: usize,
    /// Nodes that the search may visit.
    pub limit: u32,
}

/// Why not every piece was placed.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Proof {
    /// All are placed: the placement is the witness.
    Witness,
    /// All that is needed in this dimension is more than all that is free.
    Aggregate {
        dimension: usize,
        needed: u64,
        free: u64,
    },
    /// This piece fits into no bin, even alone.
    Nowhere { piece: usize },
    /// Every way was tried: so many nodes.
    Exhausted { nodes: u32 },
    /// The work limit was reached; no way was found, and none excluded.
    Undecided { nodes: u32 },
}

impl Proof {
    pub fn all(&self) -> bool {
        *self == Proof::Witness
    }
    pub fn decided(&self) -> bool {
        !matches!(self, Proof::Undecided { .. })
    }
}

/// Who goes where.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Packing {
    /// The bin of each piece.
    pub at: Vec<Option<usize>>,
    pub proof: Proof,
}

/// Places as many as it can find room for, higher tiers first. The same job always has the same answer.
pub fn pack(job: &Job) -> Packing {
    let mut best = State::new(job);
    let bound = bounds(job, &best);
    for way in greedy::WAYS {
        let mut state = State::new(job);
        greedy::fill(job, &mut state, *way);
        repair::fill(job, &mut state);
        if state.all() {
            return state.packing(Proof::Witness);
        }
        best = better(job, best, state);
    }
    let proof = match bound {
        Some(proof) => proof,
        None => match search::all(job) {
            (Some(state), proof) => return state.packing(proof),
            (None, proof) => proof,
        },
    };
    search::most(job, best).packing(proof)
}

fn better(job: &Job, a: State, b: State) -> State {
    match value(job, &a.at).cmp(&value(job, &b.at)) {
        Ordering::Less => b,
        _ => a,
    }
}

/// How good a placement is: for each tier, how many and how much always-kept memory.
pub fn value(job: &Job, at: &[Option<usize>]) -> Vec<(u64, u64)> {
    let mut tiers = vec![(0, 0); TIERS];
    for (piece, _) in job.pieces.iter().zip(at).filter(|(_, at)| at.is_some()) {
        let tier = &mut tiers[tier(piece)];
        tier.0 += piece.count;
        tier.1 += piece.kept;
    }
    tiers
}

/// Tiers go from 1 to 4; what is beyond counts as the last.
const TIERS: usize = 5;

fn tier(piece: &Piece) -> usize {
    usize::from(piece.tier).clamp(1, TIERS) - 1
}

/// What can be said without trying.
fn bounds(job: &Job, empty: &State) -> Option<Proof> {
    let alone = |piece: &usize| (0..job.bins.len()).any(|bin| empty.takes(job, *piece, bin));
    if let Some(piece) = (0..job.pieces.len()).find(|p| !alone(p)) {
        return Some(Proof::Nowhere { piece });
    }
    (0..job.dimensions).find_map(|dimension| {
        let needed: u64 = sum(job.pieces.iter().map(|p| p.needs[dimension]));
        let free: u64 = sum(job.bins.iter().map(|b| b.room[dimension]));
        (needed > free).then_some(Proof::Aggregate {
            dimension,
            needed,
            free,
        })
    })
}

fn sum(all: impl Iterator<Item = u64>) -> u64 {
    all.fold(0, u64::saturating_add)
}
