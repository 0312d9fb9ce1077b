//! Machines whose networks have no link where they run are moved away while they run, by a run like any other. That they shall be
//! is the guard's verdict; this only begins it.

use super::office::Office;
use crate::{
    desk::{By, Wish, start_as},
    shared::now,
};
use std::{collections::BTreeMap, time::Duration};
use tokio::time::sleep;
use zastrugi_core::{
    estate::{FailureStage, Lack},
    guard::Note,
    ids::{FailureId, MachineId, RunId, draw_uuid},
    moment::{Moment, Span},
    permits::{Permits, Role, Who},
    rooms::{Event, Proposal, moving, recovery},
    runs::Object,
};

const LOOK: Duration = Duration::from_secs(2);
/// What could not be moved is tried again after this long.
const AGAIN: Span = Span::mins(5);

pub(super) async fn move_away(office: Office) {
    let mut tried: BTreeMap<FailureId, Moment> = BTreeMap::new();
    loop {
        sleep(LOOK).await;
        for (failure, machines) in to_move(&office) {
            if tried
                .get(&failure)
                .is_some_and(|at| now().since(*at) < AGAIN)
            {
                continue;
            }
            let first = tried.insert(failure, now()).is_none();
            let words = all_or_each(&office, failure, &machines).await;
            if first {
                say(&office, failure, words).await;
            }
        }
    }
}

/// All of them in one run; where that can't be, each that can. Answers what became of it.
async fn all_or_each(office: &Office, failure: FailureId, machines: &[MachineId]) -> String {
    let why = match begin(office, failure, machines.to_vec()).await {
        Ok(_) => return format!("a run moves {} of its machines away", machines.len()),
        Err(why) => why,
    };
    let mut left = machines.len();
    if left > 1 {
        for machine in machines {
            left -= usize::from(begin(office, failure, vec![*machine]).await.is_ok());
        }
    }
    let why = why.trim_end_matches('.');
    let all = machines.len();
    match left {
        0 => format!("{all} runs move its machines away, one each"),
        left => format!("{left} of {all} machines can't be moved away: {why}"),
    }
}

async fn say(office: &Office, failure: FailureId, words: String) {
    office
        .append(move |sight| {
            let found = sight.view.estate.failures.get(&failure);
            let noted = found.map(|f| recovery::Event::Noted {
                failure,
                at: sight.at,
                note: Note::Said {
                    host: f.host,
                    words: words.clone(),
                },
            });
            noted.map(Event::Recovery).into_iter().collect()
        })
        .await;
}

/// What lacks its networks, by the failure that says so; what a run holds already is left to it.
fn to_move(office: &Office) -> Vec<(FailureId, Vec<MachineId>)> {
    let view = office.shared.view();
    let open = view.estate.failures.values();
    let open = open.filter(|f| f.is_open() && f.stage == FailureStage::Ails);
    let all = open.map(|f| {
        let on = view.estate.machines_on(f.host);
        let lack = on.filter(|m| {
            view.estate.lacks(m) == Some(Lack::Networks) && !view.runs.holds(Object::Machine(m.id))
        });
        (f.id, lack.map(|m| m.id).collect::<Vec<_>>())
    });
    all.filter(|(_, machines)| !machines.is_empty()).collect()
}

async fn begin(
    office: &Office,
    failure: FailureId,
    machines: Vec<MachineId>,
) -> Result<RunId, String> {
    let (count, first) = (machines.len(), machines.first().map_or(0, |m| m.0));
    let round = now().0.unsigned_abs() / AGAIN.0;
    let ask = moving::Move {
        machines,
        to: None,
        disks: None,
        slow: true,
        force: false,
        wire: false,
    };
    let wish = Wish {
        who: Who::itself(),
        by: By::Itself,
        permits: Permits::of(Role::Admin),
        ask: Proposal::Moving(moving::Ask::Move(ask)),
        seen: None,
        request: draw_uuid(failure.0, round, LEAVING ^ first ^ ((count as u64) << 48)),
    };
    let begun = start_as(&office.shared, &office.scribe, wish).await;
    tracing::info!(
        ok = begun.is_ok(),
        count,
        "machines without networks are moved away"
    );
    begun.map_err(|error| error.to_string())
}

/// Sets these requests apart from all others that are drawn.
const LEAVING: u64 = 0x6c65_6176_696e_6721;
