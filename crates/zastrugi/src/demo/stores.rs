//! The store of the demo, in a bucket at the other site, and the jobs that copy into it: of machines that hold so little that their
//! first copies are there within two minutes.

use super::{FIRST_PASSWORD, carry_out, history};
use crate::serve::Failed;
use std::sync::Arc;
use uuid::Uuid;
use zastrugi_core::{
    endpoint::{Endpoint, Password},
    estate::Goal,
    evidence::Probe,
    moment::Span,
    rooms::{
        Proposal,
        jobs::{self, Keep},
        stores::{Ask, MakeStore},
    },
};
use zastrugi_drivers::backup::{Bucket, Place, Store};
use zastrugi_engine::{Desk, Viewer};
use zastrugi_formats::backup::Key;
use zastrugi_standins::World;

/// In which bucket it lies.
const BUCKET: &str = "skarholm";
const ACCESS: &str = "zastrugi";
const REGION: &str = "us-east-1";

/// It is made where it lies, and then opened with its key, as one that was there before the manager was.
pub(super) async fn store(desk: &Desk, admin: &Viewer, net: &str) -> Result<Store, Failed> {
    let address = format!("{net}.2.90:9443");
    desk.greet_store(&address).await;
    let book = desk.look().evidence;
    let pin = book
        .manager_pin(&Probe::StoreGreeting(address.clone()))
        .to_owned();
    let other = |e: &dyn std::fmt::Display| Failed::Other(e.to_string());
    let place = Place::Bucket(Bucket {
        endpoint: format!("https://{address}"),
        region: REGION.into(),
        name: BUCKET.into(),
        prefix: String::new(),
        access: ACCESS.into(),
        secret: FIRST_PASSWORD.into(),
        pin: pin.clone(),
    });
    let key = Key::new(
        *Uuid::new_v4()
            .as_bytes()
            .repeat(2)
            .first_chunk()
            .unwrap_or(&[0; 32]),
    );
    let there = Store::create(&place, &key, Uuid::new_v4(), None).await;
    let there = there.map_err(|e| other(&e))?;
    let kept = |text: String| async move {
        let kept = desk.keep_secret(&text).await;
        kept.map(Password::Kept).map_err(Failed::Other)
    };
    let make = MakeStore {
        name: "breakwater".into(),
        site: "Hilltop".into(),
        target: Endpoint {
            address: address.into(),
            pin: pin.into(),
        },
        region: REGION.into(),
        bucket: BUCKET.into(),
        folder: "".into(),
        access: ACCESS.into(),
        lock: "".into(),
        secret: kept(FIRST_PASSWORD.into()).await?,
        export: "".into(),
        key: kept(key.written().to_string()).await?,
    };
    carry_out(desk, admin, Proposal::Stores(Ask::Make(make))).await?;
    Ok(there)
}

/// What the nightly job would have kept of thirty days is written there, and looked through.
pub(super) async fn past(
    desk: &Desk,
    admin: &Viewer,
    (store, world): (&Store, &Arc<World>),
) -> Result<(), Failed> {
    let estate = desk.look().estate;
    let Some(job) = estate.jobs.values().find(|j| j.name == JOBS[0].0) else {
        return Ok(());
    };
    history::points(store, world, &estate, job, desk.now()).await?;
    let Some(into) = job.to.store() else {
        return Ok(());
    };
    let read = Ask::Read {
        store: into,
        job: Some(job.id),
    };
    carry_out(desk, admin, Proposal::Stores(read)).await
}

/// Whatever no ferry leaves without, and is small.
const NIGHTLY: &str = "env=prod and (role=web or app=manifest or app=dns or app=directory or app=gates or app=tides or app=tariffs)";

/// Name, whose machines, when, what stays.
const JOBS: [(&str, &str, &str, &str); 3] = [
    (
        "nightly",
        NIGHTLY,
        "FREQ=DAILY;BYHOUR=22;BYMINUTE=30",
        "7 days, 4 weeks, 12 months",
    ),
    (
        "tickets at noon",
        "app=ticketing and role=web",
        "FREQ=WEEKLY;BYDAY=MO,TU,WE,TH,FR;BYHOUR=12;BYMINUTE=0",
        "last 3, 5 days",
    ),
    (
        "weekend",
        "app=kiosk",
        "FREQ=WEEKLY;BYDAY=SU;BYHOUR=3;BYMINUTE=0",
        "3 weeks",
    ),
];

pub(super) async fn jobs(desk: &Desk, admin: &Viewer) -> Result<(), Failed> {
    for (name, who, rule, keeps) in JOBS {
        let store = desk.look().estate.stores.keys().next().copied();
        let keep = Keep {
            job: None,
            name: name.into(),
            who: who.into(),
            to: store.map(Goal::Store),
            rule: rule.into(),
            zone: "Europe/Oslo".into(),
            keeps: keeps.into(),
            quiet: true,
            proves: Some(Span::days(7)),
            begins: None,
            how: Default::default(),
        };
        carry_out(desk, admin, Proposal::Jobs(jobs::Ask::Keep(keep))).await?;
    }
    Ok(())
}
