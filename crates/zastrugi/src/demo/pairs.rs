//! The pair of the demo, and the job that replicates the ticket shops over it: they hold little, so that their replicas are at the
//! other site soon after the start.

use super::carry_out;
use crate::serve::Failed;
use std::sync::Arc;
use uuid::Uuid;
use zastrugi_core::{
    estate::{Estate, Goal, Host, Way},
    ids::{HostId, SiteId},
    moment::Span,
    pairing,
    rooms::{
        Proposal,
        backups::JobRun,
        jobs,
        pairs::{Ask, Keep, KeepEnd},
        plans, replicating,
    },
};
use zastrugi_engine::{Desk, Viewer};

/// How much of the line is taken while people work.
const CAP: &str = "80 MiB/s; Mo-Fr 06:00-20:00 30 MiB/s";
const ZONE: &str = "Europe/Oslo";

fn end(estate: &Estate, site: SiteId) -> KeepEnd {
    let mut hosts: Vec<&Arc<Host>> = estate.hosts.values().filter(|h| h.site == site).collect();
    hosts.sort_by(|a, b| a.name.cmp(&b.name));
    let carriers = hosts.iter().take(3).map(|h| h.id);
    KeepEnd {
        site: Some(site),
        carriers: carriers.collect::<Vec<HostId>>(),
        network: None,
        cap: CAP.into(),
    }
}

pub(super) async fn pair(desk: &Desk, admin: &Viewer) -> Result<(), Failed> {
    let estate = desk.look().estate;
    let site = |name: &str| estate.site_named(name).map(|s| s.id);
    let (Some(here), Some(there)) = (site("Quayside"), site("Hilltop")) else {
        return Ok(());
    };
    let keep = Keep {
        pair: None,
        name: "strait".into(),
        ends: [end(&estate, here), end(&estate, there)],
        zone: ZONE.into(),
        squeezed: true,
        clusters: "Eider = Fulmar".into(),
        volumes: "".into(),
        networks: "crew = crew\ntickets = tickets".into(),
    };
    carry_out(desk, admin, Proposal::Pairs(Ask::Keep(Box::new(keep)))).await?;
    let estate = desk.look().estate;
    let Some(pair) = estate.pair_named("strait") else {
        return Ok(());
    };
    let probes = pairing::probes(&estate, &pair.ends);
    desk.try_ends(probes).await;
    let way = Way {
        pair: pair.id,
        from: here,
    };
    let job = jobs::Keep {
        job: None,
        name: "tickets to Hilltop".into(),
        who: "app=ticketing and role=web".into(),
        to: Some(Goal::Over(way)),
        rule: "FREQ=HOURLY;BYMINUTE=0".into(),
        zone: ZONE.into(),
        keeps: "last 2, 12 hours, 5 days".into(),
        quiet: true,
        proves: None,
        begins: None,
        how: Default::default(),
    };
    carry_out(desk, admin, Proposal::Jobs(jobs::Ask::Keep(job))).await?;
    plan(desk, admin, way).await
}

/// The ticket shops at the other site: one first, and when that sells, all.
async fn plan(desk: &Desk, admin: &Viewer, way: Way) -> Result<(), Failed> {
    let stage = |row, name: &str, named: &str, who: &str, then: &str| plans::KeepStage {
        row,
        name: name.into(),
        named: named.into(),
        who: who.into(),
        in_turn: false,
        limit: Span::mins(5),
        then: then.into(),
    };
    let stages = vec![
        stage(
            0,
            "first shop",
            "ticketing-web-1",
            "",
            "wait 5 s\nconfirm the first shop sells a ticket for tomorrow",
        ),
        stage(1, "all shops", "", "app=ticketing and role=web", ""),
    ];
    let keep = plans::Keep {
        plan: None,
        name: "ticket shops".into(),
        way: Some(way),
        stages,
        drills: "crew = drill-crew\ntickets = drill-tickets".into(),
    };
    let ask = Proposal::Plans(plans::Ask::Keep(Box::new(keep)));
    carry_out(desk, admin, ask).await
}

/// The first copies go over while somebody looks around.
pub(super) async fn first(desk: &Desk, admin: &Viewer) -> Result<(), Failed> {
    let estate = desk.look().estate;
    let over = estate.jobs.values().find(|j| j.to.way().is_some());
    let Some(job) = over else { return Ok(()) };
    let run = JobRun {
        job: job.id,
        by_hand: true,
    };
    let ask = Proposal::Replicating(replicating::Ask::Job(run));
    desk.start(admin, ask, None, Uuid::new_v4())
        .await
        .map_err(|e| Failed::Other(e.to_string()))?;
    Ok(())
}
