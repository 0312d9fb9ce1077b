//! A placement in the making.

use super::{Job, Packing, Proof};
use std::collections::BTreeSet;

/// Kinds of room at most.
pub const DIMENSIONS: usize = 5;
/// So much in each dimension.
pub type Amount = [u64; DIMENSIONS];

/// Something that takes pieces.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Bin {
    /// What is free.
    pub room: Amount,
    /// Groups of which one is there already.
    pub groups: BTreeSet<u32>,
}

/// Something that is placed whole.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Piece {
    pub needs: Amount,
    /// 1 comes first.
    pub tier: u8,
    /// Machines in it.
    pub count: u64,
    /// Always-kept memory, in bytes.
    pub kept: u64,
    /// Never two pieces of one group in one bin.
    pub groups: Vec<u32>,
    /// The bins that may take it; none: all.
    pub only: Option<Vec<bool>>,
}

#[derive(Debug, Clone)]
pub(super) struct State {
    pub(super) room: Vec<Amount>,
    groups: Vec<Vec<u32>>,
    pub(super) at: Vec<Option<usize>>,
}

impl State {
    pub(super) fn new(job: &Job) -> State {
        State {
            room: job.bins.iter().map(|b| b.room).collect(),
            groups: job
                .bins
                .iter()
                .map(|b| b.groups.iter().copied().collect())
                .collect(),
            at: vec![None; job.pieces.len()],
        }
    }
    /// May be there, whatever room there is.
    pub(super) fn may(&self, job: &Job, piece: usize, bin: usize) -> bool {
        let p = &job.pieces[piece];
        p.only.as_ref().is_none_or(|only| only[bin])
            && p.groups.iter().all(|g| !self.groups[bin].contains(g))
    }
    pub(super) fn has_room(&self, job: &Job, piece: usize, bin: usize) -> bool {
        let (needs, room) = (&job.pieces[piece].needs, &self.room[bin]);
        (0..job.dimensions).all(|d| needs[d] <= room[d])
    }
    pub(super) fn takes(&self, job: &Job, piece: usize, bin: usize) -> bool {
        self.has_room(job, piece, bin) && self.may(job, piece, bin)
    }
    pub(super) fn put(&mut self, job: &Job, piece: usize, bin: usize) {
        let p = &job.pieces[piece];
        for d in 0..job.dimensions {
            self.room[bin][d] -= p.needs[d];
        }
        self.groups[bin].extend(&p.groups);
        self.at[piece] = Some(bin);
    }
    pub(super) fn take(&mut self, job: &Job, piece: usize) -> Option<usize> {
        let bin = self.at[piece].take()?;
        let p = &job.pieces[piece];
        for d in 0..job.dimensions {
            self.room[bin][d] += p.needs[d];
        }
        for group in &p.groups {
            if let Some(i) = self.groups[bin].iter().rposition(|g| g == group) {
                self.groups[bin].swap_remove(i);
            }
        }
        Some(bin)
    }
    pub(super) fn all(&self) -> bool {
        self.at.iter().all(Option::is_some)
    }
    pub(super) fn packing(self, proof: Proof) -> Packing {
        Packing { at: self.at, proof }
    }
    /// Two bins in the same state take the same pieces: trying one is enough.
    pub(super) fn same(&self, job: &Job, a: usize, b: usize) -> bool {
        let only = |p: &super::Piece| p.only.as_ref().is_none_or(|o| o[a] == o[b]);
        self.room[a][..job.dimensions] == self.room[b][..job.dimensions]
            && self.groups[a] == self.groups[b]
            && job.pieces.iter().all(only)
    }
}
