//! What recovery points need by themselves: those that a job made are proven, what a proof left is cleared, and those go whose time is
//! over. A loop of its own: a store that is silent holds up nothing else that is due.

use super::{
    office::Office,
    scheduled::{Due, Tried},
};
use crate::{evidence, shared::now};
use std::{collections::BTreeSet, time::Duration};
use tokio::time::sleep;
use zastrugi_core::{
    estate::{AnyPoint, Estate},
    evidence::Probe,
    ids::{JobId, draw_uuid},
    moment::Moment,
    rooms::{
        Proposal,
        answers::LIMIT,
        jobs::PROVEN_AT_ONCE,
        proving::{self, ProvePoint},
        stores,
    },
    runs::Object,
    view::View,
};

/// It changes seldom.
const LOOK: Duration = Duration::from_secs(5);
/// What was begun and is still there after so long, in milliseconds, is tried once more.
const ONCE_MORE: u64 = 600_000;

fn over(estate: &Estate, now: Moment) -> impl Iterator<Item = Due> {
    let stores = estate.stores.values();
    let over = stores.filter(move |s| estate.over(s.id, now).next().is_some());
    over.map(move |s| Due {
        name: s.name.clone(),
        ask: Proposal::Stores(stores::Ask::Over { store: s.id }),
        request: draw_uuid(s.id.0, now.0.unsigned_abs() / ONCE_MORE, OVER),
    })
}

/// What earlier proofs left, points whose time is over, and those that are to be proven, as many as may be at a time. What these hold is asked of their stores
/// first.
async fn due(office: &Office, tried: &mut Tried) -> Vec<Due> {
    let view = office.shared.view();
    let estate = &view.estate;
    let left = estate
        .proving()
        .filter(|m| view.runs.about(Object::Machine(m.id)).is_empty());
    let mut all: Vec<Due> = left
        .map(|m| Due {
            name: m.name.clone(),
            ask: Proposal::Proving(proving::Ask::Clear {
                machines: vec![m.id],
            }),
            // What could not be cleared is tried again.
            request: draw_uuid(m.id.0, now().0.unsigned_abs() / ONCE_MORE, LEFT),
        })
        .chain(over(estate, now()))
        .collect();
    let mut owed = estate.to_prove(now());
    owed.retain(|(job, at)| !awaits_its_group(&view, *job, *at));
    let request = |at: &AnyPoint| {
        // Of a group always the same, whichever of it is owed.
        let all = estate.of_one_instant(*at);
        let at = all.iter().min().unwrap_or(at);
        let place = match at {
            AnyPoint::Stored(at) => at.store.0,
            AnyPoint::Replicated { replica, .. } => replica.0,
        };
        draw_uuid(place, at.session().as_u64_pair().1, PROVE)
    };
    let wanted = owed.iter().map(|(_, at)| request(at));
    tried.only(&wanted.chain(all.iter().map(|d| d.request)).collect());
    // A proof that somebody gave up is not begun again by itself; that of the next point is.
    let next = owed
        .into_iter()
        .filter(|(_, at)| tried.is_new(&request(at)));
    let next = fitting(estate, next.map(|(_, at)| at));
    let each = next.iter().flat_map(|at| estate.of_one_instant(*at));
    let each = each.filter_map(|at| at.stored().map(Probe::Point));
    evidence::ask_missing(&office.shared, each.collect()).await;
    all.extend(next.into_iter().map(|at| Due {
        name: at.words(estate),
        ask: Proposal::Proving(proving::Ask::Point(ProvePoint {
            point: Some(at),
            cluster: None,
            limit: LIMIT,
            together: true,
        })),
        request: request(&at),
    }));
    all
}

/// A point of one instant with others, while copies of its job go on: theirs may be among them, and they are to be proven together.
fn awaits_its_group(view: &View, job: JobId, at: AnyPoint) -> bool {
    let of_group = at.found(&view.estate).is_ok_and(|p| p.group.is_some());
    of_group && !view.runs.about(Object::Job(job)).is_empty()
}

/// As many as may be proven at a time, with what is proven already; a group counts as many as it has, and where it is larger than that
/// it waits until nothing else is proven. None that is on its way with another of its group.
fn fitting(estate: &Estate, owed: impl Iterator<Item = AnyPoint>) -> Vec<AnyPoint> {
    let most = usize::try_from(PROVEN_AT_ONCE).unwrap_or(1);
    let mut goes: BTreeSet<AnyPoint> = estate
        .proving()
        .filter_map(|m| m.proves.as_deref().copied())
        .collect();
    let mut count = estate.proving().count();
    let mut next = Vec::new();
    for at in owed {
        let group = estate.of_one_instant(at);
        if group.iter().any(|other| goes.contains(other)) {
            continue;
        }
        if count > 0 && count + group.len() > most {
            break;
        }
        count += group.len();
        goes.extend(group);
        next.push(at);
    }
    next
}

pub(super) async fn take(office: Office) {
    let mut tried = Tried::default();
    loop {
        sleep(LOOK).await;
        let due = due(&office, &mut tried).await;
        tried.begin(&office, due).await;
    }
}

/// Sets these requests apart from all others that are drawn.
const PROVE: u64 = 0x7072_6f76_656e_2121;
const LEFT: u64 = 0x6c65_6674_206f_7665;
const OVER: u64 = 0x7469_6d65_206f_7665;
