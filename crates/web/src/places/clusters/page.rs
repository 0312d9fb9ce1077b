//! One cluster, and the sheet to edit it.

use super::{headroom, keepers, kind, naming, rule};
use crate::frame::{
    AtDesk, Fields, Page, Problem, Signed, host_state, page as whole, part,
    sheet::{Filled, render},
};
use askama::Template;
use rocket::{get, http::ContentType};
use zastrugi_core::rooms::edits;
use zastrugi_core::{
    availability::Survival,
    estate::{Cluster, ClusterKind, Demand, Host, Machine},
    ids::ClusterId,
    permits::Act,
    placement::{Account, Ledger},
    rooms::Proposal,
    rooms::edits::{Set, Target},
    units::Bytes,
    view::View,
};

struct HostRow {
    id: u64,
    name: String,
    glyph: &'static str,
    word: String,
    machines: usize,
    memory: String,
    software: String,
}

#[derive(Template)]
#[template(path = "places/clusters/page.html")]
struct ClusterPage {
    id: u64,
    name: String,
    lead: String,
    facts: Vec<(&'static str, String)>,
    hosts: Vec<HostRow>,
    headroom: String,
    rules: String,
    note: String,
    may_clusters: bool,
    may_machines: bool,
}

fn build(signed: &Signed, desk: &AtDesk, id: u64) -> Result<ClusterPage, Problem> {
    let view = desk.look();
    let estate = &view.estate;
    let cluster = estate
        .clusters
        .get(&ClusterId(id))
        .ok_or_else(|| Problem::not_found("This cluster"))?;
    let mut hosts: Vec<_> = estate.hosts_in(cluster.id).cloned().collect();
    hosts.sort_by(|a, b| a.name.cmp(&b.name));
    let ledger = Ledger::of(&view, hosts.clone(), &Default::default());
    let (revision, all) = desk.headrooms();
    let known = all.get(&cluster.id);
    let sentence = known.map_or(String::new(), |k| format!("It {}.", k.whole().sentence()));
    let state = if cluster.ready {
        ""
    } else {
        "It is still being made. "
    };
    Ok(ClusterPage {
        id,
        name: cluster.name.clone(),
        lead: format!("{state}{sentence}"),
        headroom: known.map_or_else(String::new, |k| {
            headroom::section(estate, id, (revision, desk.now()), k)
        }),
        facts: facts(&view, cluster, known.map(|k| &k.answer)),
        rules: rule::section(
            &view,
            cluster,
            signed.may(Act::Clusters),
            signed.may(Act::Machines),
        ),
        hosts: hosts.iter().map(|h| host_row(&view, &ledger, h)).collect(),
        note: cluster.note.clone(),
        may_clusters: signed.may(Act::Clusters),
        may_machines: signed.may(Act::Machines),
    })
}

/// What the cluster is, in words.
fn facts(view: &View, cluster: &Cluster, answer: Option<&Survival>) -> Vec<(&'static str, String)> {
    let estate = &view.estate;
    let volumes = estate.volumes_of(cluster);
    let promised: Bytes = volumes.iter().map(|v| v.promised(estate)).sum();
    let deleted: Bytes = estate
        .machines_in(cluster.id)
        .filter(|m| m.deleted.is_some())
        .map(|m| Machine::disk_total(m))
        .sum();
    let demand = match (cluster.demand.asks(), cluster.demand.enforced) {
        (false, _) => "none".to_owned(),
        (true, true) => format!("{}, enforced", cluster.demand.words()),
        (true, false) => format!("{}, advised", cluster.demand.words()),
    };
    let comes_back = if cluster.recovers {
        "start elsewhere by themselves"
    } else {
        "wait for a person"
    };
    vec![
        ("Machines of a failed host", comes_back.to_owned()),
        ("Keepers", keepers::words(estate, cluster)),
        ("Names in DNS", naming::words(estate, cluster)),
        (
            "Site",
            estate
                .sites
                .get(&cluster.site)
                .map_or_else(String::new, |s| s.name.clone()),
        ),
        (
            "CPU",
            format!("{} · {}", cluster.cpu_maker, cluster.cpu_level),
        ),
        ("Kind", cluster.kind.word().to_owned()),
        ("Must survive", demand),
        (
            "Restarted elsewhere",
            answer.map_or_else(String::new, headroom::protected),
        ),
        ("Machines", estate.count_in(cluster.id).to_string()),
        (
            "Volumes",
            if volumes.is_empty() {
                "none yet; connect one under Storage".into()
            } else {
                volumes
                    .iter()
                    .map(|v| format!("{} · {} of {} used", v.name, v.used, v.capacity))
                    .collect::<Vec<_>>()
                    .join(", ")
            },
        ),
        (
            "Disks promised",
            format!("{promised}, {deleted} of it by deleted machines"),
        ),
    ]
}

#[get("/clusters/<id>")]
pub(crate) fn show(signed: Signed, desk: &AtDesk, id: u64) -> Page {
    let body = build(&signed, desk, id)?;
    let title = body.name.clone();
    whole(&signed, desk, "hosts", &title, &body)
}
#[get("/clusters/<id>/part")]
pub(crate) fn page_part(signed: Signed, desk: &AtDesk, id: u64) -> Page {
    part(&build(&signed, desk, id)?)
}

/// The cluster as a file, without secrets, for `zastrugi compute --estate`.
#[get("/clusters/<id>/estate.json")]
pub(crate) fn save(
    _signed: Signed,
    desk: &AtDesk,
    id: u64,
) -> Result<(ContentType, String), Problem> {
    let view = desk.look();
    if !view.estate.clusters.contains_key(&ClusterId(id)) {
        return Err(Problem::not_found("This cluster"));
    }
    let text = zastrugi_formats::estate::write(&view, ClusterId(id));
    let text = text.map_err(|_| Problem::not_found("A file of this cluster"))?;
    Ok((ContentType::JSON, text))
}

#[derive(Template)]
#[template(path = "places/clusters/page_edit_fields.html")]
struct EditFields {
    id: u64,
    name: String,
    failures: u32,
    /// Fault domains of which any one must be survivable.
    domains: Vec<(&'static str, bool)>,
    kind: String,
    enforced: bool,
    recovers: bool,
    note: String,
}

pub(crate) fn edit(view: &View, fields: &Fields) -> Filled {
    let id = fields
        .ids::<ClusterId>("ids")
        .first()
        .copied()
        .unwrap_or(ClusterId(0));
    let was = view.estate.clusters.get(&id);
    let was_demand = was.map_or(
        Demand {
            failures: 1,
            domains: [false; 3],
            enforced: false,
        },
        |c| c.demand,
    );
    let was_name = was.map_or_else(String::new, |c| c.name.clone());
    let was_note = was.map_or_else(String::new, |c| c.note.clone());
    let (name, note) = (fields.or("name", &was_name), fields.or("note", &was_note));
    let failures = fields.or("failures", &was_demand.failures.to_string());
    let failures = failures.parse().unwrap_or(was_demand.failures);
    let was_kind = was.map_or(ClusterKind::OneSite, |c| c.kind);
    let kind = kind::chosen(fields, was_kind);
    let enforced = fields.ticked("enforced", was_demand.enforced);
    let domains = Host::DOMAINS.map(|kind| {
        let was = was_demand.kinds().any(|k| k == kind);
        fields.ticked(kind, was)
    });
    let demand = Demand {
        failures,
        domains,
        enforced,
    };
    let recovers = fields.ticked("recovers", was.is_none_or(|c| c.recovers));
    let mut sets = Vec::new();
    if was.is_some_and(|c| c.recovers != recovers) {
        sets.push(Set::Recovers(recovers));
    }
    if name != was_name {
        sets.push(Set::Name((&name).into()));
    }
    if demand != was_demand {
        sets.push(Set::Demand(demand));
    }
    if kind != was_kind {
        sets.push(Set::Kind(kind));
    }
    if note != was_note {
        sets.push(Set::Note((&note).into()));
    }
    Filled {
        title: format!("Edit {was_name}"),
        lead: "What the cluster is called and what it must survive.".into(),
        run: "Run: change it".into(),
        danger: false,
        back: format!("/clusters/{}", id.0),
        fields: render(&EditFields {
            id: id.0,
            name,
            failures,
            domains: Host::DOMAINS.into_iter().zip(domains).collect(),
            kind: kind::field(kind, &ClusterKind::ALL),
            enforced,
            recovers,
            note,
        }),
        ask: Proposal::Edits(edits::Ask::Edit {
            targets: vec![Target::Cluster(id)],
            sets,
        }),
        wrong: vec![],
    }
}

fn host_row(view: &View, ledger: &Ledger, h: &Host) -> HostRow {
    let (glyph, word) = host_state(&view.estate, h);
    let taken = ledger.row(h.id).map(Account::taken).unwrap_or_default();
    HostRow {
        id: h.id.0,
        name: h.name.clone(),
        glyph,
        word,
        machines: view.estate.machines_on(h.id).count(),
        memory: format!(
            "{:.0} / {:.0} GiB",
            taken.in_gib(),
            h.hardware.memory.in_gib()
        ),
        software: h.software.clone(),
    }
}
