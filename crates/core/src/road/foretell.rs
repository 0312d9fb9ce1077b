//! When each step of a plan will begin and end: what it waits for, how long such steps take here, and how many calls a
//! device is given at once.

use super::{PlannedStep, Work};
use crate::{
    moment::Span,
    runs::{LANES, Object},
    view::View,
};
use serde::{Deserialize, Serialize};
use std::{
    cmp::Reverse,
    collections::{BTreeMap, BinaryHeap},
};

/// From the end of a step to the beginning of those behind it: its result is written, theirs are granted and ordered.
const BETWEEN: Span = Span::millis(40);

/// How long a step takes, and what that rests on.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Length {
    /// One call to its device; what such calls took here takes this one's place.
    Call(Span),
    /// Something goes on elsewhere and is looked at now and then, beside all calls; likewise.
    Wait(Span),
    /// Computed for this very step, from sizes, rates or limits: nothing else takes its place.
    Computed(Span),
}

impl Length {
    pub fn span(self) -> Span {
        match self {
            Length::Call(span) | Length::Wait(span) | Length::Computed(span) => span,
        }
    }
}

/// When a step is foretold to begin and to end, from the beginning of the run.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize)]
pub struct When {
    pub from: Span,
    pub to: Span,
}

/// Fills in when each step is, and answers when all are through. O(n log n) in the number of steps.
///
/// Who is ready first goes first, as orders are taken; a device has [`LANES`].
pub(super) fn foretell<S: Work>(view: &View, steps: &mut [PlannedStep<S>]) -> Span {
    let mut behind: Vec<Vec<usize>> = vec![Vec::new(); steps.len()];
    let mut open: Vec<usize> = Vec::with_capacity(steps.len());
    for (n, step) in steps.iter().enumerate() {
        let before = step.after.iter().chain(&step.turn).filter(|b| **b < n);
        open.push(before.clone().count());
        before.for_each(|b| behind[*b].push(n));
    }
    let mut ready: BinaryHeap<Reverse<(Span, usize)>> = open
        .iter()
        .enumerate()
        .filter(|(_, before)| **before == 0)
        .map(|(n, _)| Reverse((Span(0), n)))
        .collect();
    let mut earliest = vec![Span(0); steps.len()];
    let mut lanes: BTreeMap<Object, [Span; LANES]> = BTreeMap::new();
    let mut last = Span(0);
    while let Some(Reverse((at, n))) = ready.pop() {
        let when = place(view, &mut lanes, &steps[n].step, at);
        steps[n].when = when;
        last = last.max(when.to);
        for next in &behind[n] {
            earliest[*next] = earliest[*next].max(when.to.plus(BETWEEN));
            open[*next] -= 1;
            if open[*next] == 0 {
                ready.push(Reverse((earliest[*next], *next)));
            }
        }
    }
    last
}

fn place<S: Work>(
    view: &View,
    lanes: &mut BTreeMap<Object, [Span; LANES]>,
    step: &S,
    at: Span,
) -> When {
    let length = step.length();
    let kind = step.group();
    let until = |from: Span, takes: Span| When {
        from,
        to: from.plus(takes),
    };
    match (length, step.device(&view.estate)) {
        (Length::Computed(span), _) => until(at, span),
        (Length::Wait(span), _) | (Length::Call(span), None) => {
            until(at, view.pace.expect(kind, span))
        }
        (Length::Call(span), Some(device)) => {
            let takes = view.pace.expect(kind, span);
            let all = lanes.entry(device).or_default();
            let first = all.iter_mut().min();
            let from = first.as_deref().map_or(at, |free| at.max(*free));
            let when = until(from, takes);
            if let Some(lane) = first {
                *lane = when.to;
            }
            when
        }
    }
}
