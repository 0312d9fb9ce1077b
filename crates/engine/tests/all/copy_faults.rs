//! What goes wrong around copies and snapshots: a volume without room, a version that can't be reached, a name that is taken.

use crate::{
    lab::{Lab, eventually},
    snapshots::{forget, take},
    templates::{copies, make, of},
};
use sqlx::PgPool;
use zastrugi_core::{
    estate::Provisioning,
    finding::Severity,
    rooms::{
        Proposal,
        machines::{self, NewDisk},
        snapshots::{Quiet, Which},
    },
    units::Bytes,
};
use zastrugi_store::testkit::url;

fn stops(lab: &Lab, ask: &Proposal) -> Vec<String> {
    let said = lab.desk.assess(&lab.admin, ask);
    let all = said.findings().iter();
    all.filter(|f| f.severity == Severity::Stop)
        .map(|f| f.text.clone())
        .collect()
}

/// If this fails, a deletion that needs room halts every machine on a volume that is nearly full.
#[sqlx::test(migrations = false)]
async fn a_deletion_that_needs_room_is_refused_until_there_is_some(pool: PgPool) {
    let lab = Lab::at_speed(&url(&pool), 2, 20.0).await;
    lab.ready().await;
    lab.done(lab.create("m", 1, true)).await;
    let m = lab.machine("m");
    for name in ["a", "b"] {
        lab.standins.world.write("m", 600 << 20);
        lab.done(take(m, name, |t| t.quiet = Quiet::No)).await;
    }
    lab.standins.world.write("m", 600 << 20);
    lab.desk.ask_for_layers(&[m]).await;
    let all = forget(m, Which::All);
    assert!(stops(&lab, &all).is_empty(), "{:?}", stops(&lab, &all));
    // Somebody else takes all but a little.
    let mut ask = lab.create("big", 1, false);
    let volume = lab.estate().machines[&m].disks[0].volume;
    let free = lab.estate().volumes[&volume].free();
    if let Proposal::Machines(machines::Ask::Create(create)) = &mut ask {
        create.volume = Some(volume);
        create.disks = vec![NewDisk {
            size: Bytes(free.0 - (32 << 20)),
            provisioning: Provisioning::Thick,
        }];
    }
    lab.done(ask).await;
    let full = || lab.estate().volumes[&volume].free() < Bytes::mib(64);
    eventually("the volume is nearly full", full).await;
    lab.desk.ask_for_layers(&[m]).await;
    let refused = stops(&lab, &all);
    assert!(!refused.is_empty(), "it needs room that is not there");
    let machines = vec![lab.machine("big")];
    lab.done(Proposal::Machines(machines::Ask::Delete {
        machines: machines.clone(),
    }))
    .await;
    let typed = "big".into();
    lab.done(Proposal::Machines(machines::Ask::Purge { machines, typed }))
        .await;
    eventually("there is room again", || !full()).await;
    lab.desk.ask_for_layers(&[m]).await;
    lab.done(all).await;
    assert!(lab.estate().machines[&m].snapshots.is_empty());
}

/// If this fails, a hundred copies begin and the thirty-seventh finds out that its name is taken.
#[sqlx::test(migrations = false)]
async fn a_name_that_is_taken_is_named_before_anything_is_made(pool: PgPool) {
    let lab = Lab::at_speed(&url(&pool), 2, 40.0).await;
    lab.ready().await;
    lab.done(lab.create("m", 1, false)).await;
    lab.done(make(lab.machine("m"), "base", None)).await;
    lab.done(lab.create("berth-037", 1, false)).await;
    let ask = copies(&lab, "berth-{001}", 100, of(&lab, "base"), true);
    let refused = stops(&lab, &ask);
    assert!(
        refused.iter().any(|t| t.contains("berth-037")),
        "{refused:?}"
    );
    let begun = lab
        .desk
        .start(&lab.admin, ask, None, uuid::Uuid::new_v4())
        .await;
    assert!(begun.is_err());
    let made = |name: &str| lab.estate().machine_named(name).is_some();
    assert!(!made("berth-001") && !made("berth-036"), "nothing is made");
}
