//! One host.

use super::{beneath::Beneath, look::grouped};
use crate::frame::sheet::render;
use crate::frame::{
    AtDesk, Page, Problem, Signed, Word, host_state, machine_state, page as whole, part, time,
};
use crate::places::{
    clusters::keepers,
    logbook::lately::{Line, lately},
};
use askama::Template;
use rocket::get;
use std::sync::Arc;
use zastrugi_core::{
    estate::{Condition, Estate, Host, Maintenance, Means},
    ids::HostId,
    moment::Moment,
    permits::Act,
    placement::Ledger,
    units::Bytes,
    view::View,
};

struct MachineRow {
    id: u64,
    name: String,
    glyph: &'static str,
    word: Word,
    held: String,
    vcpus: u32,
    tier: u8,
}

/// Of a host in maintenance: what a person must know of it.
struct Care {
    reason: String,
    since: String,
    until: Option<String>,
    run: u64,
    /// What is still on it.
    left: usize,
    had: usize,
}

#[derive(Template)]
#[template(path = "places/hosts/page.html")]
struct HostPage {
    id: u64,
    name: String,
    glyph: &'static str,
    word: String,
    lead: String,
    gone: bool,
    care: Option<Care>,
    /// Its last failure: where its story is, and whether that is over.
    story: Option<(u64, bool)>,
    /// Machines that went down with it, how many and which, for the sheet that starts them.
    fallen: (usize, String),
    facts: Vec<(&'static str, String)>,
    mono: Vec<(&'static str, String)>,
    machines: Vec<MachineRow>,
    labels: Vec<String>,
    /// In no cluster, and answering.
    loose: bool,
    member: bool,
    may_clusters: bool,
    beneath: String,
    events: Vec<Line>,
    note: String,
    may_hosts: bool,
    may_machines: bool,
}

async fn build(signed: &Signed, desk: &AtDesk, id: u64) -> Result<HostPage, Problem> {
    let view = desk.look();
    let estate = &view.estate;
    let host = estate
        .hosts
        .get(&HostId(id))
        .ok_or_else(|| Problem::not_found("This host"))?;
    let ledger = Ledger::of(&view, [host.clone()], &Default::default());
    let row = ledger.row(host.id);
    let taken = row
        .map(zastrugi_core::placement::Account::taken)
        .unwrap_or_default();
    let (glyph, word) = host_state(estate, host);
    let mut machines: Vec<_> = estate.machines_on(host.id).cloned().collect();
    machines.sort_by(|a, b| a.name.cmp(&b.name));
    let fallen: Vec<_> = estate
        .machines_fallen_from(host.id)
        .map(|m| m.id.0)
        .collect();
    let lead = lead(estate, host, desk.now(), machines.len(), taken);
    let care = host.maintenance.as_deref().map(|m| care(estate, host, m));
    let events = lately(desk, &host.id.to_string()).await?;
    Ok(HostPage {
        care,
        id,
        name: host.name.clone(),
        glyph,
        word,
        lead,
        gone: host.is_gone(),
        story: estate
            .failures
            .values()
            .rev()
            .find(|f| f.host == host.id)
            .map(|f| (f.id.0, !f.is_open())),
        fallen: (fallen.len(), crate::frame::fields::joined(fallen)),
        facts: facts(&view, host, desk.now()),
        mono: identity(host),
        machines: machines
            .iter()
            .map(|m| {
                let (glyph, word) = machine_state(m, Some(host));
                MachineRow {
                    id: m.id.0,
                    name: m.name.clone(),
                    glyph,
                    word,
                    held: m.held().to_string(),
                    vcpus: m.vcpus,
                    tier: m.tier,
                }
            })
            .collect(),
        labels: host.label_words().collect(),
        loose: host.cluster.is_none() && host.accepts_work(),
        member: host.cluster.is_some(),
        may_clusters: signed.may(Act::Clusters),
        beneath: render(&Beneath::of(&view, host, signed.may(Act::Storage))),
        events,
        note: host.note.clone(),
        may_hosts: signed.may(Act::Hosts),
        may_machines: signed.may(Act::Machines),
    })
}

/// What matters of it now, in a sentence.
fn lead(estate: &Estate, host: &Host, now: Moment, machines: usize, taken: Bytes) -> String {
    match &host.condition {
        Condition::Lost { why, since } => format!(
            "It has not answered for {}: {why}. Whether the {} on it run is unknown. Once it is proved off, they {}.",
            now.since(*since),
            count(machines),
            elsewhere(estate, host)
        ),
        Condition::Hangs { why, since } => format!(
            "For {} it has answered nothing that it was asked: {why}. It still reports, so what runs on it is known and runs on; nothing can be changed on it.",
            now.since(*since)
        ),
        Condition::Stranger { .. } => "It shows another certificate than the pinned one; no orders go there. If it was installed anew, hand it back and claim it again.".into(),
        Condition::ShutOut { since, proof } => format!("It has written nothing for {}: {proof}. It may still have power.", now.since(*since)),
        Condition::Off { since, proof } => format!("It has been off for {}: {proof}.", now.since(*since)),
        Condition::Steady if host.maintenance.is_some() => "Nothing is put there until it is back in service.".into(),
        Condition::Steady | Condition::Claiming => format!("{} {} on it; {:.0} of {:.0} GiB are held.", count(machines), if machines == 1 { "is" } else { "are" }, taken.in_gib(), host.hardware.memory.in_gib()),
    }
}

fn care(estate: &Estate, host: &Host, maintenance: &Maintenance) -> Care {
    let on = estate.machines_on(host.id).filter(|m| !m.is_off());
    Care {
        reason: maintenance.reason.to_string(),
        since: time(maintenance.since),
        until: maintenance.until.map(time),
        run: maintenance.run.0,
        left: on.count(),
        had: maintenance.had.len(),
    }
}

/// Who starts its machines elsewhere.
fn elsewhere(estate: &Estate, host: &Host) -> &'static str {
    let cluster = host.cluster.and_then(|c| estate.clusters.get(&c));
    if cluster.is_some_and(|c| c.recovers) {
        "start elsewhere by themselves"
    } else {
        "can be started elsewhere"
    }
}

fn count(machines: usize) -> String {
    match machines {
        1 => "1 machine".into(),
        n => format!("{n} machines"),
    }
}

#[get("/hosts/<id>", rank = 3)]
pub(crate) async fn show(signed: Signed, desk: &AtDesk, id: u64) -> Page {
    let body = build(&signed, desk, id).await?;
    let title = body.name.clone();
    whole(&signed, desk, "hosts", &title, &body)
}

#[get("/hosts/<id>/part")]
pub(crate) async fn page_part(signed: Signed, desk: &AtDesk, id: u64) -> Page {
    part(&build(&signed, desk, id).await?)
}

/// What the host is and has, in words.
fn name_in_dns(estate: &Estate, host: &Host) -> String {
    match host.entered.as_deref() {
        Some(entered) if entered.back => entered.name.clone(),
        Some(entered) => format!("{}, to which its address does not lead back", entered.name),
        None if estate.host_name_due(host).is_some() => "not entered yet".into(),
        None => "none".into(),
    }
}

fn facts(view: &View, host: &Arc<Host>, now: Moment) -> Vec<(&'static str, String)> {
    let estate = &view.estate;
    let hw = &host.hardware;
    let load = view.host_uses(host);
    let ledger = Ledger::of(view, [host.clone()], &Default::default());
    let row = ledger.row(host.id);
    let cluster = host
        .cluster
        .and_then(|c| estate.clusters.get(&c))
        .map_or("no cluster", |c| c.name.as_str());
    let cpu = load.map_or_else(
        || "not measured".to_owned(),
        |l| {
            format!(
                "{} of {} ({:.0} %)",
                l.cpu,
                hw.cpu_capacity(),
                l.cpu.share_of(hw.cpu_capacity()) * 100.0
            )
        },
    );
    vec![
        ("Cluster", cluster.to_owned()),
        (
            "Site",
            estate
                .sites
                .get(&host.site)
                .map_or_else(String::new, |s| s.name.clone()),
        ),
        ("Name in DNS", name_in_dns(estate, host)),
        ("Rack, chassis, feed", domains(host)),
        ("Hardware", format!("{} {}", hw.maker, hw.model)),
        (
            "CPU",
            format!(
                "{} {} · {} sockets, {} cores, {} threads · {}",
                hw.cpu.maker,
                hw.cpu.model,
                hw.cpu.sockets,
                hw.cpu.cores,
                hw.cpu.threads,
                hw.cpu.level
            ),
        ),
        ("CPU now", cpu),
        (
            "Memory",
            match row.filter(|_| host.takes_machines()) {
                Some(row) => format!(
                    "{} installed, {} for the host itself, {} free for machines",
                    hw.memory,
                    host.reserve(),
                    row.free()
                ),
                None => format!("{} installed; nothing can be put there now", hw.memory),
            },
        ),
        ("Fenced by", fenced_by(estate, host, now)),
        (
            "Keepers",
            keepers::on_host(estate, host).unwrap_or_else(|| "none".into()),
        ),
        ("NUMA nodes", hw.numa_nodes.to_string()),
        ("Software", host.software.clone()),
        (
            "Virtual hardware",
            format!("up to version {}", hw.virtual_hardware),
        ),
    ]
}

/// By what it can be proved to write nothing, and what is known of that.
fn fenced_by(estate: &Estate, host: &Host, now: Moment) -> String {
    let means: Vec<_> = estate.means(host).into_iter().map(Means::words).collect();
    let first = match means.as_slice() {
        [] => "nothing: it takes a person".to_owned(),
        all => all.join(", then "),
    };
    match (host.untested(now), &host.fencing) {
        (Some(why), _) => format!("{first}; {why}"),
        (None, Some(test)) => format!("{first}; tested {} ago: {}", now.since(test.at), test.said),
        (None, None) => first,
    }
}

/// What fails together with others.
fn domains(host: &Host) -> String {
    let said = Host::DOMAINS.map(|kind| host.labels.get(kind).map_or("–", String::as_str));
    said.join(" · ")
}

/// How to reach it and tell it from others.
fn identity(host: &Host) -> Vec<(&'static str, String)> {
    let hw = &host.hardware;
    vec![
        ("Agent", host.access.address.clone()),
        ("Fingerprint", grouped(&host.access.pin)),
        (
            "Controller",
            host.bmc
                .as_ref()
                .map_or_else(|| "none".into(), |b| b.address.clone()),
        ),
        ("Serial", hw.serial.clone()),
    ]
}
