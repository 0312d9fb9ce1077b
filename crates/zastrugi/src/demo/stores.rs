//! The store of the demo, in a bucket at the other site, and the jobs that copy into it. Nothing is in it: its machines hold too much
//! to be copied while somebody looks around for the first time.

use super::{FIRST_PASSWORD, carry_out};
use crate::serve::Failed;
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
use zastrugi_engine::{Desk, Viewer};

pub(super) async fn store(desk: &Desk, admin: &Viewer, net: &str) -> Result<(), Failed> {
    let address = format!("{net}.2.90:9443");
    desk.greet_store(&address).await;
    let book = desk.look().evidence;
    let pin = book
        .manager_pin(&Probe::StoreGreeting(address.clone()))
        .to_owned();
    let secret = desk
        .keep_secret(FIRST_PASSWORD)
        .await
        .map_err(Failed::Other)?;
    let make = MakeStore {
        name: "breakwater".into(),
        site: "Hilltop".into(),
        target: Endpoint {
            address: address.into(),
            pin: pin.into(),
        },
        region: "us-east-1".into(),
        bucket: "skarholm".into(),
        folder: "".into(),
        access: "zastrugi".into(),
        secret: Password::Kept(secret),
    };
    carry_out(desk, admin, Proposal::Stores(Ask::Make(make))).await
}

/// Name, whose machines, when, what stays.
const JOBS: [(&str, &str, &str, &str); 3] = [
    (
        "nightly",
        "env=prod",
        "FREQ=DAILY;BYHOUR=22;BYMINUTE=30",
        "7 days, 4 weeks, 12 months",
    ),
    (
        "tickets at noon",
        "env=prod and app=ticketing",
        "FREQ=WEEKLY;BYDAY=MO,TU,WE,TH,FR;BYHOUR=12;BYMINUTE=0",
        "last 3, 5 days",
    ),
    (
        "weekend",
        "env=test or env=staging",
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
        };
        carry_out(desk, admin, Proposal::Jobs(jobs::Ask::Keep(keep))).await?;
    }
    Ok(())
}
