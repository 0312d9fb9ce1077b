//! What a failed step was given, as a form in its run's page: a person corrects it and the run goes on.

use crate::frame::{Fields, sheet::render};
use askama::Template;
use std::collections::BTreeMap;
use zastrugi_core::{
    finding::Finding,
    road::{Correction, Given, Typed, correctable},
    rooms::Plan,
    runs::Run,
    view::View,
};

struct Field {
    name: &'static str,
    label: &'static str,
    value: String,
    wrong: String,
}

#[derive(Template)]
#[template(path = "places/logbook/correct.html")]
struct Form {
    run: u64,
    step: usize,
    csrf: String,
    /// What is wrong and belongs to none of its fields.
    wrong: Vec<String>,
    fields: Vec<Field>,
    /// Other failed steps that were given some of the same.
    others: usize,
    everywhere: bool,
    open: bool,
}

/// What was typed and can't be so.
pub(super) struct Refused {
    pub(super) correction: Correction,
    pub(super) found: Vec<Finding>,
}

/// The correction that a form of this page asks for.
pub(super) fn read(fields: &Fields) -> Option<Correction> {
    let step = fields.get("step").parse().ok()?;
    let typed = fields.under("to:");
    let typed = typed.map(|(field, value)| (field.to_owned(), value.to_owned()));
    Some(Correction {
        step,
        typed: typed.collect::<Typed>(),
        everywhere: fields.has("everywhere"),
    })
}

/// The forms of the failed steps, by step.
pub(super) struct Forms<'a> {
    open: BTreeMap<usize, Vec<Given>>,
    run: u64,
    csrf: &'a str,
    refused: Option<&'a Refused>,
}

impl<'a> Forms<'a> {
    pub(super) fn of(
        view: &View,
        run: &Run,
        plan: &Plan,
        csrf: &'a str,
        refused: Option<&'a Refused>,
    ) -> Self {
        Forms {
            open: correctable(view, plan, run),
            run: run.id.0,
            csrf,
            refused,
        }
    }
    /// For nobody who may answer.
    pub(super) fn none() -> Self {
        Forms {
            open: BTreeMap::new(),
            run: 0,
            csrf: "",
            refused: None,
        }
    }

    pub(super) fn at(&self, step: usize) -> String {
        let Some(given) = self.open.get(&step) else {
            return String::new();
        };
        let refused = self.refused.filter(|r| r.correction.step == step);
        let others = self.open.iter().filter(|(n, theirs)| {
            **n != step && theirs.iter().any(|g| g.shared && given.contains(g))
        });
        let field = |given: &Given| Field {
            name: given.field,
            label: given.label,
            value: refused
                .and_then(|r| r.correction.typed.get(given.field))
                .unwrap_or(&given.now)
                .clone(),
            wrong: refused
                .map_or_else(String::new, |r| words(&r.found, |f| f == Some(given.field))),
        };
        let known = |f: Option<&str>| given.iter().any(|g| Some(g.field) == f);
        let stray = refused.map_or_else(String::new, |r| words(&r.found, |f| !known(f)));
        render(&Form {
            run: self.run,
            step,
            csrf: self.csrf.to_owned(),
            wrong: Some(stray).filter(|s| !s.is_empty()).into_iter().collect(),
            fields: given.iter().map(field).collect(),
            others: others.count(),
            everywhere: refused.is_none_or(|r| r.correction.everywhere),
            open: refused.is_some(),
        })
    }
}

fn words(found: &[Finding], of: impl Fn(Option<&str>) -> bool) -> String {
    let all = found.iter().filter(|f| of(f.field.as_deref()));
    let words: Vec<String> = all
        .map(|f| match &f.remedy {
            Some(remedy) => format!("{} {remedy}", f.text),
            None => f.text.clone(),
        })
        .collect();
    words.join(" ")
}
