//! Rules for where machines may be: the list on the cluster's page, with what is broken and the moves that would heal it,
//! and the sheet for one of them.

use crate::frame::{
    Fields,
    sheet::{Filled, render},
};
use askama::Template;
use zastrugi_core::rooms::edits;
use zastrugi_core::{
    availability::broken,
    estate::{Cluster, PlaceRule, RuleKind, Where, Who},
    ids::ClusterId,
    rooms::Proposal,
    rooms::edits::{Set, Target},
    view::View,
};

struct RuleView {
    name: String,
    kind: &'static str,
    strength: &'static str,
    who: String,
    to: String,
}

struct BrokenView {
    rule: String,
    glyph: &'static str,
    words: String,
    heal: Option<(String, String)>,
}

#[derive(Template)]
#[template(path = "places/clusters/rules.html")]
struct Section {
    id: u64,
    rules: Vec<RuleView>,
    broken: Vec<BrokenView>,
    may: bool,
    may_machines: bool,
}

pub(super) fn section(view: &View, cluster: &Cluster, may: bool, may_machines: bool) -> String {
    let estate = &view.estate;
    let row = |r: &PlaceRule| RuleView {
        name: (&r.name).into(),
        kind: r.kind_word(),
        strength: r.strength(),
        who: r.who.words(estate),
        to: match &r.kind {
            RuleKind::Pinned(to) => to.words(estate),
            _ => String::new(),
        },
    };
    let heal = |(m, h)| {
        let machine = estate.machines.get(&m)?;
        let host = estate.hosts.get(&h)?;
        let words = format!("Move {} to {}", machine.name, host.name);
        Some((
            format!("/sheet/move?ids={}&to={}", machine.id.0, host.id.0),
            words,
        ))
    };
    let found = broken(view, cluster).into_iter().map(|b| BrokenView {
        rule: b.rule,
        glyph: if b.required { "stop" } else { "mind" },
        words: b.words,
        heal: b.heal.and_then(heal),
    });
    render(&Section {
        id: cluster.id.0,
        rules: cluster.rules.iter().map(row).collect(),
        broken: found.collect(),
        may,
        may_machines,
    })
}

#[derive(Template)]
#[template(path = "places/clusters/rule.html")]
struct RuleFields {
    id: u64,
    was: String,
    name: String,
    kind: String,
    who: String,
    to: String,
    required: bool,
    remove: bool,
}

pub(crate) fn fill(view: &View, fields: &Fields) -> Filled {
    let estate = &view.estate;
    let id = fields
        .ids::<ClusterId>("ids")
        .first()
        .copied()
        .unwrap_or(ClusterId(0));
    let cluster = estate.clusters.get(&id);
    let rules = cluster.map(|c| c.rules.clone()).unwrap_or_default();
    let was_name = fields.get("was").to_owned();
    let was = rules.iter().find(|r| r.name == was_name);
    let (who_was, to_was) = was.map_or_else(Default::default, |r| typed(view, r));
    let shown = RuleFields {
        id: id.0,
        name: fields.or("name", was.map_or("", |r| r.name.as_str())),
        kind: fields.or("kind", was.map_or("apart", PlaceRule::kind_word)),
        who: fields.or("machines", &who_was),
        to: fields.or("hosts", &to_was),
        required: fields.ticked("required", was.is_none_or(|r| r.required)),
        remove: fields.ticked("remove", false),
        was: was_name.clone(),
    };
    let mut wrong = Vec::new();
    if was.is_none() && !was_name.is_empty() {
        let text =
            format!("There is no rule “{was_name}” any more: somebody dropped or renamed it.");
        wrong.push(("name".into(), text));
    }
    let mut all: Vec<PlaceRule> = rules
        .iter()
        .filter(|r| r.name != was_name)
        .cloned()
        .collect();
    if !shown.remove {
        all.push(read(view, &shown, &mut wrong));
    }
    let sets = if all == rules {
        vec![]
    } else {
        vec![Set::Rules(all)]
    };
    let title = if was.is_some() {
        format!("Rule “{was_name}”")
    } else {
        "New rule".into()
    };
    let cluster_name = cluster.map_or("", |c| c.name.as_str());
    Filled {
        title,
        lead: format!(
            "Where machines of {cluster_name} may be. Nothing moves by itself because of it."
        ),
        run: format!(
            "Run: {} this rule",
            if shown.remove { "drop" } else { "keep" }
        ),
        danger: shown.remove,
        back: format!("/clusters/{}", id.0),
        fields: render(&shown),
        ask: Proposal::Edits(edits::Ask::Edit {
            targets: vec![Target::Cluster(id)],
            sets,
        }),
        wrong,
    }
}

/// A rule's machines and hosts as they would be typed: names, or `label:key=value`.
fn typed(view: &View, rule: &PlaceRule) -> (String, String) {
    let who = match &rule.who {
        Who::Label(label) => format!("label:{label}"),
        Who::Machines(_) => rule.who.words(&view.estate),
    };
    let to = match &rule.kind {
        RuleKind::Pinned(Where::Label(label)) => format!("label:{label}"),
        RuleKind::Pinned(to) => to.words(&view.estate),
        _ => String::new(),
    };
    (who, to)
}

fn read(view: &View, shown: &RuleFields, wrong: &mut Vec<(String, String)>) -> PlaceRule {
    let words = |text: &str| {
        let parts = text
            .split([',', ' ', '\n'])
            .map(str::trim)
            .filter(|w| !w.is_empty());
        parts.map(str::to_owned).collect::<Vec<_>>()
    };
    let mut gone = |field: &str, what: &str, name: &str| {
        wrong.push((field.to_owned(), format!("There is no {what} {name}.")));
    };
    let who = match shown.who.trim().strip_prefix("label:") {
        Some(label) => Who::Label(label.trim().into()),
        None => Who::Machines(
            words(&shown.who)
                .iter()
                .filter_map(|name| {
                    let found = view.estate.machine_named(name).map(|m| m.id);
                    if found.is_none() {
                        gone("machines", "machine", name);
                    }
                    found
                })
                .collect(),
        ),
    };
    let kind = match shown.kind.as_str() {
        "together" => RuleKind::Together,
        "pinned" => RuleKind::Pinned(match shown.to.trim().strip_prefix("label:") {
            Some(label) => Where::Label(label.trim().to_owned()),
            None => Where::Hosts(
                words(&shown.to)
                    .iter()
                    .filter_map(|name| {
                        let found = view.estate.host_named(name).map(|h| h.id);
                        if found.is_none() {
                            gone("hosts", "host", name);
                        }
                        found
                    })
                    .collect(),
            ),
        }),
        _ => RuleKind::Apart,
    };
    PlaceRule {
        name: shown.name.trim().into(),
        kind,
        who,
        required: shown.required,
    }
}
