//! Branch and bound with a limit on its nodes: is there a place for all, and else what is the most?

use super::{
    Job, Proof, State, TIERS,
    greedy::{Way, order},
    tier, value,
};

/// Every piece in its bin if the search finds that; and what it rests on if not.
pub(super) fn all(job: &Job) -> (Option<State>, Proof) {
    let mut state = State::new(job);
    let order = order(job, &state, Way::Choosy);
    let mut nodes = 0;
    let slack = slack(job);
    match place(job, &mut state, &order, &mut nodes, slack) {
        Some(true) => (Some(state), Proof::Witness),
        Some(false) => (None, Proof::Exhausted { nodes }),
        None => (None, Proof::Undecided { nodes }),
    }
}

/// What may be left unused in each dimension if all shall be placed.
fn slack(job: &Job) -> Vec<u64> {
    (0..job.dimensions)
        .map(|d| {
            let free = super::sum(job.bins.iter().map(|b| b.room[d]));
            let needed = super::sum(job.pieces.iter().map(|p| p.needs[d]));
            free.saturating_sub(needed)
        })
        .collect()
}

/// None when the limit is reached.
fn place(
    job: &Job,
    state: &mut State,
    rest: &[usize],
    nodes: &mut u32,
    slack: Vec<u64>,
) -> Option<bool> {
    // The piece with the fewest ways next: what fits nowhere ends this branch at once.
    let mut next: Option<(usize, usize)> = None;
    for (i, piece) in rest.iter().enumerate() {
        let ways = (0..job.bins.len())
            .filter(|bin| state.takes(job, *piece, *bin))
            .count();
        if next.is_none_or(|(_, least)| ways < least) {
            next = Some((i, ways));
        }
        if ways == 0 {
            return Some(false);
        }
        if ways == 1 {
            break;
        }
    }
    let Some((i, _)) = next else {
        return Some(true);
    };
    if wasted(job, state, rest)
        .iter()
        .zip(&slack)
        .any(|(w, s)| w > s)
    {
        return Some(false);
    }
    let piece = rest[i];
    let left: Vec<usize> = rest.iter().copied().filter(|p| *p != piece).collect();
    let mut tried: Vec<usize> = Vec::new();
    for bin in 0..job.bins.len() {
        if !state.takes(job, piece, bin) || tried.iter().any(|t| state.same(job, *t, bin)) {
            continue;
        }
        tried.push(bin);
        *nodes += 1;
        if *nodes > job.limit {
            return None;
        }
        state.put(job, piece, bin);
        let found = place(job, state, &left, nodes, slack.clone());
        if found != Some(false) {
            return found;
        }
        state.take(job, piece);
    }
    Some(false)
}

/// Room that no piece which is left can use: a bin in which none of them fits is lost whole.
fn wasted(job: &Job, state: &State, rest: &[usize]) -> Vec<u64> {
    let mut wasted = vec![0u64; job.dimensions];
    for bin in 0..job.bins.len() {
        if rest.iter().any(|p| state.takes(job, *p, bin)) {
            continue;
        }
        for (d, w) in wasted.iter_mut().enumerate() {
            *w = w.saturating_add(state.room[bin][d]);
        }
    }
    wasted
}

/// Improves `best` to the most by tiers, as far as the limit allows.
pub(super) fn most(job: &Job, best: State) -> State {
    let mut order: Vec<usize> = order(job, &State::new(job), Way::Tiers);
    order.sort_by_key(|p| job.pieces[*p].tier);
    let mut search = Most {
        job,
        suffix: suffixes(job, &order),
        order,
        value: value(job, &best.at),
        best,
        nodes: 0,
    };
    let mut state = State::new(job);
    search.go(&mut state, 0, &mut vec![(0, 0); TIERS]);
    search.best
}

/// What the pieces from each position on would add if all were placed.
fn suffixes(job: &Job, order: &[usize]) -> Vec<Vec<(u64, u64)>> {
    let mut all = vec![vec![(0, 0); TIERS]];
    for piece in order.iter().rev() {
        let mut next = all.last().cloned().unwrap_or_default();
        let piece = &job.pieces[*piece];
        next[tier(piece)].0 += piece.count;
        next[tier(piece)].1 += piece.kept;
        all.push(next);
    }
    all.reverse();
    all
}

struct Most<'a> {
    job: &'a Job,
    order: Vec<usize>,
    suffix: Vec<Vec<(u64, u64)>>,
    best: State,
    value: Vec<(u64, u64)>,
    nodes: u32,
}

impl Most<'_> {
    fn go(&mut self, state: &mut State, at: usize, now: &mut Vec<(u64, u64)>) {
        if self.nodes > self.job.limit {
            return;
        }
        if *now > self.value {
            self.value.clone_from(now);
            self.best = state.clone();
        }
        let Some(piece) = self.order.get(at).copied() else {
            return;
        };
        if !self.can_beat(state, at, now) {
            return;
        }
        let mut tried: Vec<usize> = Vec::new();
        for bin in 0..self.job.bins.len() {
            if !state.takes(self.job, piece, bin)
                || tried.iter().any(|t| state.same(self.job, *t, bin))
            {
                continue;
            }
            tried.push(bin);
            self.nodes += 1;
            let (t, p) = (tier(&self.job.pieces[piece]), &self.job.pieces[piece]);
            state.put(self.job, piece, bin);
            now[t].0 += p.count;
            now[t].1 += p.kept;
            self.go(state, at + 1, now);
            now[t].0 -= p.count;
            now[t].1 -= p.kept;
            state.take(self.job, piece);
        }
        self.nodes += 1;
        self.go(state, at + 1, now);
    }

    /// Whether what is left could lead to more than the best, if the room of all bins were one.
    fn can_beat(&self, state: &State, at: usize, now: &[(u64, u64)]) -> bool {
        let whole: Vec<(u64, u64)> = now
            .iter()
            .zip(&self.suffix[at])
            .map(|(n, s)| (n.0 + s.0, n.1 + s.1))
            .collect();
        if whole <= self.value {
            return false;
        }
        // The first tier that has pieces left: how many of them at most, the smallest first, and how much memory.
        let Some(t) = self.suffix[at].iter().position(|s| s.0 > 0) else {
            return false;
        };
        let mut bound = whole;
        let (count, kept) = self.most_of(state, at, t);
        bound[t] = (now[t].0 + count, now[t].1 + kept);
        bound > self.value
    }

    /// The most pieces of a tier, and the most memory, that the summed room could take.
    fn most_of(&self, state: &State, at: usize, t: usize) -> (u64, u64) {
        let left = self.order[at..].iter().map(|p| &self.job.pieces[*p]);
        let of_tier: Vec<_> = left.filter(|p| tier(p) == t).collect();
        let mut count = u64::MAX;
        for d in 0..self.job.dimensions {
            let mut needs: Vec<(u64, u64)> =
                of_tier.iter().map(|p| (p.needs[d], p.count)).collect();
            needs.sort_unstable();
            let mut free = super::sum(state.room.iter().map(|r| r[d]));
            let mut taken = 0;
            for (need, machines) in needs {
                if need > free {
                    break;
                }
                free -= need;
                taken += machines;
            }
            count = count.min(taken);
        }
        // Always-kept memory takes at least as much room, in the same unit.
        let free = super::sum(state.room.iter().map(|r| r[0]));
        let kept: u64 = of_tier.iter().map(|p| p.kept).sum();
        (count, kept.min(free))
    }
}
