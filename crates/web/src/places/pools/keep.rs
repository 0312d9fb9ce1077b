//! The sheets that keep a pool, change it, and keep it no more.

use crate::frame::{
    Fields,
    consequences::Wrong,
    fields::whole,
    sheet::{Filled, render},
};
use askama::Template;
use zastrugi_core::{
    estate::{NetRole, SparePool, Version},
    ids::{ClusterId, FirstBootId, NetworkId, SparePoolId, TemplateId},
    rooms::{
        Proposal,
        spares::{Ask, Keep},
    },
    units::Bytes,
    view::View,
};

#[derive(Template)]
#[template(path = "places/pools/keep.html")]
struct KeepFields {
    of: String,
    name: String,
    template: u64,
    templates: Vec<(u64, String)>,
    cluster: u64,
    clusters: Vec<(u64, String)>,
    pattern: String,
    spare: String,
    most: String,
    vcpus: String,
    memory: String,
    dependent: bool,
    network: u64,
    networks: Vec<(u64, String)>,
    document: u64,
    documents: Vec<(u64, String)>,
    ends_off: bool,
}

fn plain(bytes: Bytes) -> String {
    bytes.to_string().replace('\u{a0}', " ")
}

/// A whole number; what can't be read is said at the field.
fn number(fields: &Fields, name: &str, otherwise: u32, wrong: &mut Vec<Wrong>) -> (String, u32) {
    let typed = fields.or(name, &otherwise.to_string());
    let read = whole(&typed).unwrap_or_else(|words| {
        wrong.push((name.to_owned(), words));
        otherwise
    });
    (typed, read)
}

fn size(fields: &Fields, otherwise: Bytes, wrong: &mut Vec<Wrong>) -> (String, Bytes) {
    let typed = fields.or("memory", &plain(otherwise));
    let read = Bytes::parse(&typed).unwrap_or_else(|words| {
        wrong.push(("memory".to_owned(), words));
        otherwise
    });
    (typed, read)
}

/// The network of the first card that the template had, where the cluster has it.
fn usual(had: Option<&SparePool>, version: Option<&Version>, networks: &[(u64, String)]) -> u64 {
    let first = had
        .map(|p| p.networks.first())
        .unwrap_or_else(|| version.and_then(|v| v.cards.first()));
    let known = first
        .copied()
        .flatten()
        .filter(|n| networks.iter().any(|(id, _)| *id == n.0));
    known.map_or_else(
        || {
            if had.is_some() {
                0
            } else {
                networks.first().map_or(0, |n| n.0)
            }
        },
        |n| n.0,
    )
}

pub(crate) fn fill(view: &View, fields: &Fields) -> Filled {
    let estate = &view.estate;
    let mut wrong = Vec::new();
    let of = fields.get("of").parse().ok().map(SparePoolId);
    let had = of.and_then(|id| estate.spare_pools.get(&id)).map(|p| &**p);
    let mut templates: Vec<(u64, String)> = estate
        .templates
        .values()
        .map(|t| (t.id.0, t.name.clone()))
        .collect();
    templates.sort_by(|a, b| a.1.cmp(&b.1));
    let first = had
        .map(|p| p.template.0)
        .or(templates.first().map(|t| t.0))
        .unwrap_or(0);
    let template = TemplateId(
        fields
            .or("template", &first.to_string())
            .parse()
            .unwrap_or(0),
    );
    let version = estate.templates.get(&template).and_then(|t| t.newest());
    let home = version.and_then(|v| estate.volumes.get(&v.volume)?.cluster);
    let clusters: Vec<(u64, String)> = estate
        .clusters
        .values()
        .map(|c| (c.id.0, c.name.clone()))
        .collect();
    let cluster = had.map(|p| p.cluster).or(home).map_or(0, |c| c.0);
    let cluster = ClusterId(
        fields
            .or("cluster", &cluster.to_string())
            .parse()
            .unwrap_or(0),
    );
    let all = estate
        .networks_of(cluster)
        .into_iter()
        .filter(|n| n.role == NetRole::Guest && n.ready);
    let networks: Vec<(u64, String)> = all.map(|n| (n.id.0, n.name.clone())).collect();
    let network: u64 = fields
        .or("network", &usual(had, version, &networks).to_string())
        .parse()
        .unwrap_or(0);
    let (spare_text, spare) = number(fields, "spare", had.map_or(2, |p| p.spare), &mut wrong);
    let (most_text, most) = number(fields, "most", had.map_or(10, |p| p.most), &mut wrong);
    let (vcpus_text, vcpus) = number(
        fields,
        "vcpus",
        had.map_or_else(|| version.map_or(2, |v| v.vcpus), |p| p.vcpus),
        &mut wrong,
    );
    let (memory_text, memory) = size(
        fields,
        had.map_or_else(|| version.map_or(Bytes::gib(4), |v| v.memory), |p| p.memory),
        &mut wrong,
    );
    let name = fields.or("name", had.map_or("", |p| &p.name));
    let pattern = fields.or("pattern", had.map_or("", |p| &p.pattern));
    let document = had.and_then(|p| p.document).map_or(0, |d| d.0);
    let document: u64 = fields
        .or("document", &document.to_string())
        .parse()
        .unwrap_or(0);
    let ask = Keep {
        pool: of,
        name: name.as_str().into(),
        template: Some(template).filter(|t| t.0 > 0),
        cluster: Some(cluster).filter(|c| c.0 > 0),
        pattern: pattern.as_str().into(),
        spare,
        most,
        vcpus,
        memory,
        dependent: fields.or(
            "how",
            if had.is_none_or(|p| p.dependent) {
                "dependent"
            } else {
                "full"
            },
        ) == "dependent",
        networks: vec![Some(network).filter(|n| *n > 0).map(NetworkId)],
        document: Some(document).filter(|d| *d > 0).map(FirstBootId),
        ends_off: fields.ticked("ends_off", had.is_some_and(|p| p.ends_off)),
    };
    Filled {
        title: had.map_or_else(
            || "Keep a pool".into(),
            |p| format!("Change pool {}", p.name),
        ),
        lead: "Machines of a template that run already when somebody needs one.".into(),
        run: if had.is_some() {
            "Run: change it"
        } else {
            "Run: keep it"
        }
        .into(),
        danger: false,
        back: of.map_or_else(|| "/pools".into(), |id| format!("/pools/{}", id.0)),
        fields: render(&KeepFields {
            of: of.map_or_else(String::new, |id| id.0.to_string()),
            name,
            template: template.0,
            templates,
            cluster: cluster.0,
            clusters,
            pattern,
            spare: spare_text,
            most: most_text,
            vcpus: vcpus_text,
            memory: memory_text,
            dependent: ask.dependent,
            network,
            networks,
            document,
            documents: super::super::first_boot::choices(view),
            ends_off: ask.ends_off,
        }),
        ask: Proposal::Spares(Ask::Keep(Box::new(ask))),
        wrong,
    }
}

#[derive(Template)]
#[template(
    source = r#"<input type="hidden" name="id" value="{{ id }}"><fieldset><legend class="legend">Pool</legend><div class="field" id="f-pool" data-field="pool"><p><span class="chip">{{ name }}</span></p><span class="wrong" role="alert"></span></div></fieldset>"#,
    ext = "html"
)]
struct EndFields {
    id: u64,
    name: String,
}

pub(crate) fn end(view: &View, fields: &Fields) -> Filled {
    let id = SparePoolId(fields.get("id").parse().unwrap_or(0));
    let pool = view.estate.spare_pools.get(&id);
    let name = pool.map_or_else(|| id.to_string(), |p| p.name.clone());
    Filled {
        title: format!("Keep pool {name} no more"),
        lead: "Machines that people have stay.".into(),
        run: "Run: keep it no more".into(),
        danger: true,
        back: format!("/pools/{}", id.0),
        fields: render(&EndFields { id: id.0, name }),
        ask: Proposal::Spares(Ask::End { pool: id }),
        wrong: vec![],
    }
}
