//! What the demo's machines are promised, and what somebody changed at an array behind it all.

use crate::serve::Failed;
use std::{collections::BTreeSet, time::Duration};
use uuid::Uuid;
use zastrugi_core::{
    estate::{Away, Clauses, Estate, Offers, Point, Taker},
    moment::Span,
    rooms::{
        Proposal,
        pledges::{Ask, Keep},
    },
};
use zastrugi_engine::{Desk, Viewer};
use zastrugi_standins::{Class, Every, World};

fn by_array(minutes: u64) -> Option<Point> {
    Some(Point {
        every: Span::mins(minutes),
        taker: Taker::Array,
        quiet: false,
    })
}

/// (name, to whom, what, note)
fn all(estate: &Estate) -> [(&'static str, &'static str, Clauses, &'static str); 5] {
    let hilltop = estate.site_named("Hilltop").map(|s| s.id);
    let copy = |minutes| {
        Some(Away {
            site: hilltop,
            age: Span::mins(minutes),
        })
    };
    let everyday = Clauses {
        storage: Some(Offers {
            qualities: BTreeSet::new(),
            latency_us: None,
            spare: Some(1),
        }),
        point: by_array(2880),
        ..Clauses::default()
    };
    let sailings = Clauses {
        storage: Some(Offers {
            qualities: BTreeSet::new(),
            latency_us: Some(500),
            spare: Some(2),
        }),
        point: by_array(240),
        kept: Some(Span::days(2)),
        remote: copy(60),
        tier: Some(2),
        ..Clauses::default()
    };
    let people = Clauses {
        remote: copy(15),
        ..Clauses::default()
    };
    let records = Clauses {
        point: by_array(2880),
        kept: Some(Span::days(2)),
        ..Clauses::default()
    };
    let shops = Clauses {
        kept: Some(Span::days(21)),
        back: Some(Span::mins(15)),
        ..Clauses::default()
    };
    [
        (
            "shops",
            "app=ticketing and role=web",
            shops,
            "Rebuilt within a quarter of an hour, from any night of three weeks.",
        ),
        (
            "everyday",
            "not (env=test or env=staging or kind=template)",
            everyday,
            "Whatever somebody works with.",
        ),
        (
            "sailings",
            "env=prod and (app=ticketing or app=manifest or app=berths or app=stowage)",
            sailings,
            "No ferry leaves without these.",
        ),
        (
            "people",
            "owner=people",
            people,
            "Wages and rosters are entered by hand: nobody types them twice.",
        ),
        (
            "records",
            "app=logs or app=cctv",
            records,
            "Asked for by the harbour office.",
        ),
    ]
}

pub(super) async fn make(desk: &Desk, admin: &Viewer) -> Result<(), Failed> {
    for (name, to, clauses, note) in all(&desk.look().estate) {
        let keep = Keep {
            pledge: None,
            name: name.into(),
            note: note.into(),
            to: to.into(),
            clauses,
        };
        let ask = Proposal::Pledges(Ask::Keep(Box::new(keep)));
        let begun = desk.start(admin, ask, None, Uuid::new_v4()).await;
        begun.map_err(|e| Failed::Other(e.to_string()))?;
    }
    Ok(())
}

/// Somebody makes the array take snapshots of the bulk volume once a week, after it was read that they come daily.
pub(super) async fn drift(desk: &Desk, devices: &World) {
    for _ in 0..100 {
        let estate = desk.look().estate;
        let array = estate.array_named("basalt");
        let bulk = estate.volumes.values().find(|v| v.name == "basalt-bulk");
        if array
            .zip(bulk)
            .is_some_and(|(a, v)| a.served.contains_key(&v.id))
        {
            break;
        }
        tokio::time::sleep(Duration::from_millis(200)).await;
    }
    let weekly = Class {
        name: "bulk".into(),
        latency_us: Some(6000),
        spare: Some(2),
        snapshots: Some(Every {
            every: "P7D".into(),
            keep: "P14D".into(),
        }),
        remote: None,
        group: None,
    };
    devices.class("basalt", "bulk", weekly);
}
