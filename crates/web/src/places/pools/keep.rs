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

/// What was typed, or what there was before.
struct Typed {
    shown: KeepFields,
    ask: Keep,
}

/// Template and cluster, with what follows from them.
struct Home<'a> {
    template: TemplateId,
    version: Option<&'a Version>,
    cluster: ClusterId,
    networks: Vec<(u64, String)>,
}

fn home<'a>(
    view: &'a View,
    fields: &Fields,
    had: Option<&SparePool>,
    first: Option<u64>,
) -> Home<'a> {
    let estate = &view.estate;
    let first = had.map(|p| p.template.0).or(first).unwrap_or(0);
    let typed = fields.or("template", &first.to_string());
    let template = TemplateId(typed.parse().unwrap_or(0));
    let version = estate.templates.get(&template).and_then(|t| t.newest());
    let lies = version.and_then(|v| estate.volumes.get(&v.volume)?.cluster);
    let usual = had.map(|p| p.cluster).or(lies).map_or(0, |c| c.0);
    let cluster = ClusterId(
        fields
            .or("cluster", &usual.to_string())
            .parse()
            .unwrap_or(0),
    );
    let all = estate.networks_of(cluster).into_iter();
    let guests = all.filter(|n| n.role == NetRole::Guest && n.ready);
    Home {
        template,
        version,
        cluster,
        networks: guests.map(|n| (n.id.0, n.name.clone())).collect(),
    }
}

/// How large each is: as before, as the version, else small.
fn sizes(
    fields: &Fields,
    had: Option<&SparePool>,
    version: Option<&Version>,
    wrong: &mut Vec<Wrong>,
) -> ((String, u32), (String, Bytes)) {
    let vcpus = had
        .map(|p| p.vcpus)
        .or(version.map(|v| v.vcpus))
        .unwrap_or(2);
    let memory = had.map(|p| p.memory).or(version.map(|v| v.memory));
    (
        number(fields, "vcpus", vcpus, wrong),
        size(fields, memory.unwrap_or(Bytes::gib(4)), wrong),
    )
}

fn typed(
    view: &View,
    fields: &Fields,
    of: Option<SparePoolId>,
    had: Option<&SparePool>,
    wrong: &mut Vec<Wrong>,
) -> Typed {
    let estate = &view.estate;
    let mut templates: Vec<(u64, String)> = estate
        .templates
        .values()
        .map(|t| (t.id.0, t.name.clone()))
        .collect();
    templates.sort_by(|a, b| a.1.cmp(&b.1));
    let home = home(view, fields, had, templates.first().map(|t| t.0));
    let network = usual(had, home.version, &home.networks).to_string();
    let network: u64 = fields.or("network", &network).parse().unwrap_or(0);
    let (spare_text, spare) = number(fields, "spare", had.map_or(2, |p| p.spare), wrong);
    let (most_text, most) = number(fields, "most", had.map_or(10, |p| p.most), wrong);
    let ((vcpus_text, vcpus), (memory_text, memory)) = sizes(fields, had, home.version, wrong);
    let document = had.and_then(|p| p.document).map_or(0, |d| d.0);
    let document: u64 = fields
        .or("document", &document.to_string())
        .parse()
        .unwrap_or(0);
    let name = fields.or("name", had.map_or("", |p| &p.name));
    let pattern = fields.or("pattern", had.map_or("", |p| &p.pattern));
    let full = had.is_some_and(|p| !p.dependent);
    let dependent = fields.or("how", if full { "full" } else { "dependent" }) == "dependent";
    let ends_off = fields.ticked("ends_off", had.is_some_and(|p| p.ends_off));
    let ask = Keep {
        pool: of,
        name: name.as_str().into(),
        template: Some(home.template).filter(|t| t.0 > 0),
        cluster: Some(home.cluster).filter(|c| c.0 > 0),
        pattern: pattern.as_str().into(),
        spare,
        most,
        vcpus,
        memory,
        dependent,
        networks: vec![Some(network).filter(|n| *n > 0).map(NetworkId)],
        document: Some(document).filter(|d| *d > 0).map(FirstBootId),
        ends_off,
    };
    let shown = KeepFields {
        of: of.map_or_else(String::new, |id| id.0.to_string()),
        name,
        template: home.template.0,
        templates,
        cluster: home.cluster.0,
        clusters: estate
            .clusters
            .values()
            .map(|c| (c.id.0, c.name.clone()))
            .collect(),
        pattern,
        spare: spare_text,
        most: most_text,
        vcpus: vcpus_text,
        memory: memory_text,
        dependent,
        network,
        networks: home.networks,
        document,
        documents: super::super::first_boot::choices(view),
        ends_off,
    };
    Typed { shown, ask }
}

pub(crate) fn fill(view: &View, fields: &Fields) -> Filled {
    let mut wrong = Vec::new();
    let of = fields.get("of").parse().ok().map(SparePoolId);
    let had = of
        .and_then(|id| view.estate.spare_pools.get(&id))
        .map(|p| &**p);
    let Typed { shown, ask } = typed(view, fields, of, had, &mut wrong);
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
        fields: render(&shown),
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
