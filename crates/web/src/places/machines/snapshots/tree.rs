//! The tree of a machine's snapshots: newest first, with lanes for what lies on what, and where the machine stands now.

use askama::Template;
use uuid::Uuid;
use zastrugi_core::{
    estate::{Machine, Snapshot},
    layers::{Chain, SLOWER},
    moment::{Moment, Span},
    rooms::snapshots::layers,
    units::Bytes,
    view::View,
};

#[derive(Template)]
#[template(path = "places/machines/snapshots/tree.html")]
pub(in crate::places::machines) struct Tree {
    id: u64,
    rows: Vec<Row>,
    sentence: String,
    /// What is worth a thought.
    minds: Vec<String>,
    may: bool,
}

/// One that is so old, and ends at no time, is said.
const OLD: Span = Span::days(30);
/// Reads that take longer by more hundredths.
const SLOW: usize = 10;

struct Row {
    lane: Lanes,
    /// None: where the machine stands now.
    uuid: Option<Uuid>,
    name: String,
    said: String,
    taken: String,
    /// What is free again at once when it goes, or what was written since.
    size: String,
    ends: String,
}

/// What is drawn beside a row, in pixels from the left.
struct Lanes {
    width: u32,
    /// Lines that come from above to the row's own point.
    joins: Vec<u32>,
    /// Lines that pass.
    pass: Vec<u32>,
    at: u32,
    /// Something lies on it; it lies on something.
    above: bool,
    below: bool,
    now: bool,
}

const STEP: u32 = 18;

fn x(lane: usize) -> u32 {
    12 + STEP * u32::try_from(lane).unwrap_or(0)
}

/// A point of the tree: itself, and what it lies on.
struct Point<'a> {
    own: Option<&'a Snapshot>,
    parent: Option<Uuid>,
}

/// Lanes from the newest to the oldest: each waits for the snapshot that its own lies on.
fn lanes(points: &[Point<'_>]) -> Vec<Lanes> {
    let mut open: Vec<Option<Uuid>> = Vec::new();
    let mut drawn = Vec::new();
    for point in points {
        let uuid = point.own.map(|s| s.uuid);
        let waits = |lane: &Option<Uuid>| uuid.is_some() && *lane == uuid;
        let mine: Vec<usize> = (0..open.len()).filter(|n| waits(&open[*n])).collect();
        let at = match mine.first() {
            Some(lane) => *lane,
            None => match open.iter().position(Option::is_none) {
                Some(free) => free,
                None => {
                    open.push(None);
                    open.len() - 1
                }
            },
        };
        let joins = mine.iter().skip(1).map(|l| x(*l)).collect();
        let pass = (0..open.len())
            .filter(|n| *n != at && open[*n].is_some() && !mine.contains(n))
            .map(x)
            .collect();
        for lane in &mine {
            open[*lane] = None;
        }
        open[at] = point.parent;
        drawn.push(Lanes {
            width: 0,
            joins,
            pass,
            at: x(at),
            above: !mine.is_empty(),
            below: point.parent.is_some(),
            now: point.own.is_none(),
        });
    }
    let width = x(open.len().max(1));
    drawn.iter_mut().for_each(|l| l.width = width);
    drawn
}

impl Tree {
    pub(in crate::places::machines) fn of(
        view: &View,
        machine: &Machine,
        now: Moment,
        may: bool,
    ) -> Tree {
        let all = &machine.snapshots;
        let chain = layers(view, machine, now);
        let mut points = vec![Point {
            own: None,
            parent: all.rests_on,
        }];
        points.extend(all.all.iter().rev().map(|s| Point {
            own: Some(s),
            parent: s.parent,
        }));
        let drawn = lanes(&points);
        let rows = points
            .iter()
            .zip(drawn)
            .map(|(point, lane)| match point.own {
                Some(snapshot) => row(snapshot, lane, chain, now),
                None => standing(machine, lane, chain),
            });
        Tree {
            id: machine.id.0,
            rows: if all.is_empty() {
                vec![]
            } else {
                rows.collect()
            },
            sentence: sentence(machine, chain),
            minds: minds(machine, now),
            may: may && !machine.is_node(),
        }
    }
}

fn row(snapshot: &Snapshot, lane: Lanes, chain: Option<&Chain>, now: Moment) -> Row {
    let alone = |c: &Chain| c.only(snapshot.uuid) + snapshot.memory.unwrap_or(Bytes::ZERO);
    let note = match snapshot.note.as_str() {
        "" => String::new(),
        note => format!(" · {note}"),
    };
    Row {
        lane,
        uuid: Some(snapshot.uuid),
        name: snapshot.name.clone(),
        said: format!("{}{note}", snapshot.consistent.word()),
        taken: format!("{} ago", now.since(snapshot.taken)),
        size: chain.map_or_else(|| "not read".into(), |c| alone(c).to_string()),
        ends: match snapshot.ends {
            None => "until somebody deletes it".into(),
            Some(at) if at <= now => "due to be deleted".into(),
            Some(at) => format!("for another {}", at.since(now)),
        },
    }
}

fn standing(machine: &Machine, lane: Lanes, chain: Option<&Chain>) -> Row {
    let written = chain.map_or_else(String::new, |c| {
        format!("{} written since", c.held(c.current))
    });
    Row {
        lane,
        uuid: None,
        name: "Now".into(),
        said: match machine.is_off() {
            true => "off".into(),
            false => "running on from here".into(),
        },
        taken: String::new(),
        size: written,
        ends: String::new(),
    }
}

fn minds(machine: &Machine, now: Moment) -> Vec<String> {
    let all = machine.snapshots.all.iter();
    let old: Vec<&str> = all
        .filter(|s| s.ends.is_none() && now.since(s.taken) > OLD)
        .map(|s| s.name.as_str())
        .collect();
    let mut minds = Vec::new();
    match old.as_slice() {
        [] => {}
        [one] => minds.push(format!(
            "“{one}” is more than a month old and stays until somebody deletes it."
        )),
        [.., _] => minds.push(format!(
            "{} of them are more than a month old and stay until somebody deletes them.",
            old.len()
        )),
    }
    let slower = machine.snapshots.depth() * SLOWER;
    if slower > SLOW {
        minds.push(format!("Its reads take about {slower} % longer."));
    }
    minds
}

fn sentence(machine: &Machine, chain: Option<&Chain>) -> String {
    let all = &machine.snapshots.all;
    let memory: Bytes = all.iter().filter_map(|s| s.memory).sum();
    if machine.is_node() && all.is_empty() {
        return "None can be taken while it shares a disk with other machines.".into();
    }
    let Some(chain) = chain else {
        return match all.len() {
            0 => "None. One is a state that it can go back to; it is no backup, for it lies on the same volume.".into(),
            1 => "One.".into(),
            n => format!("{n} of them."),
        };
    };
    let above = chain.layers.iter().filter(|(_, l)| l.parent.is_some());
    let room: Bytes = above.map(|(n, _)| chain.held(*n)).sum();
    let depth = chain.depth() - 1;
    let count = match all.len() {
        1 => "One".to_owned(),
        n => format!("{n} of them"),
    };
    let slower = match depth {
        0 => String::new(),
        depth => format!("; its reads take about {} % longer", depth * SLOWER),
    };
    format!(
        "{count}; what was written since the first takes {}{slower}.",
        room + memory
    )
}

#[cfg(test)]
mod tests {
    use super::*;
    use zastrugi_core::estate::Consistent;

    fn snapshot(n: u128, parent: Option<u128>) -> Snapshot {
        Snapshot {
            uuid: Uuid::from_u128(n),
            name: n.to_string(),
            note: String::new(),
            taken: Moment(0),
            parent: parent.map(Uuid::from_u128),
            consistent: Consistent::Crash,
            memory: None,
            disks: None,
            ends: None,
        }
    }

    /// If this fails, the picture shows a snapshot on one that it does not lie on.
    #[test]
    fn each_point_stands_in_the_lane_of_what_lies_on_it() {
        // 1 ← 2 ← 3, and 4 on 1 with the machine on it.
        let all =
            [(4, Some(1)), (3, Some(2)), (2, Some(1)), (1, None)].map(|(n, p)| snapshot(n, p));
        let mut points = vec![Point {
            own: None,
            parent: Some(Uuid::from_u128(4)),
        }];
        points.extend(all.iter().map(|s| Point {
            own: Some(s),
            parent: s.parent,
        }));
        let drawn = lanes(&points);
        let at: Vec<u32> = drawn.iter().map(|l| l.at).collect();
        assert_eq!(at, [12, 12, 30, 30, 12]);
        assert_eq!(drawn[4].joins, [30], "the other branch comes to the first");
        assert_eq!(drawn[2].pass, [12]);
        let ends: Vec<(bool, bool)> = drawn.iter().map(|l| (l.above, l.below)).collect();
        assert_eq!(
            ends,
            [
                (false, true),
                (true, true),
                (false, true),
                (true, true),
                (true, false)
            ]
        );
    }
}
