//! Core's tests from outside: fixtures as text, findings as words, properties against independent reasoning.
#![expect(clippy::unwrap_used, clippy::panic, reason = "tests fail loudly")]

mod archives;
mod assessing;
mod backups;
mod balancing;
mod bare;
mod building;
mod cards;
mod coming_back;
mod console_locks;
mod copying;
mod correcting;
mod disks;
mod drilling;
mod expressions;
mod facts;
mod failing;
mod failover;
mod fencing;
mod firmware;
mod first_boot;
mod fitting;
mod flowing;
mod foretelling;
mod growing;
mod guarding;
mod handover;
mod hardware;
mod headroom;
mod hostile;
mod images;
mod jobs;
mod jobs_habits;
mod keeping;
mod kept_up;
mod layering;
mod leaving;
mod letting;
mod limits;
mod locking;
mod maintenance;
mod moving;
mod naming;
mod networking;
mod observing;
mod opened;
mod outages;
mod packing;
mod pairs;
mod placing;
mod plans;
mod pledges;
mod pooling;
mod pools;
mod providing;
mod proving;
mod records;
mod recounted;
mod refreshing;
mod replicas;
mod replicas_proven;
mod restoring;
mod rules;
mod running;
mod schedules;
mod sharing;
mod sheets;
mod sizing;
mod snapping;
mod storing;
mod taking;
mod telling;
mod timing;
mod together;
mod unusual;
mod upgrading;

use zastrugi_core::{
    finding::Severity,
    rooms::{Assessment, Proposal, assess},
    testkit::Small,
};

/// The findings worse than clear, worst first, as `stop: …` lines.
fn worse(assessment: &Assessment) -> Vec<String> {
    let open = assessment
        .findings()
        .iter()
        .filter(|f| f.severity > Severity::Clear);
    open.map(|f| format!("{}: {}", f.severity.word(), f.text))
        .collect()
}

fn put(small: &Small, ask: &Proposal) -> Assessment {
    assess(&small.view, &small.permits, ask, small.now)
}
