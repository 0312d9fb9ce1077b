//! The report of a plan that was carried out as CSV: a line for each stage, each machine, and what lay between stages.

use super::passage::{Answered, answered};
use crate::frame::{AtDesk, Problem, Signed};
use rocket::{get, http::ContentType};
use zastrugi_core::{
    estate::{Arrived, Between, Passage, Passed},
    ids::PassageId,
    moment::Span,
};

const HEAD: [&str; 13] = [
    "plan",
    "edition",
    "stage",
    "what",
    "name",
    "as of (UTC)",
    "foretold (s)",
    "took (s)",
    "host",
    "equal extents",
    "came",
    "by",
    "said",
];

/// What a line says beyond its stage.
#[derive(Default)]
struct Row {
    what: &'static str,
    name: String,
    taken: String,
    foretold: Option<Span>,
    took: Option<Span>,
    host: String,
    equal: String,
    came: &'static str,
    by: String,
    said: String,
}

fn secs(span: Option<Span>) -> String {
    span.map_or_else(String::new, |s| format!("{:.1}", s.0 as f64 / 1000.0))
}

fn came(good: Option<bool>) -> &'static str {
    match good {
        Some(true) => "well",
        Some(false) => "not well",
        None => "not tried",
    }
}

impl Row {
    fn of_stage(s: &Passed) -> Row {
        Row {
            what: "stage",
            foretold: Some(s.foretold),
            took: s.took(),
            ..Row::default()
        }
    }
    fn of_machine(m: &Arrived) -> Row {
        Row {
            what: "machine",
            name: m.name.clone(),
            taken: zastrugi_formats::csv::utc(m.taken.0),
            took: m.booted,
            host: m.host.clone(),
            equal: m.equal.map_or_else(String::new, |e| e.extents.to_string()),
            came: came(m.good),
            said: m.said.clone(),
            ..Row::default()
        }
    }
    fn of_left_out(name: &str) -> Row {
        Row {
            what: "machine",
            name: name.to_owned(),
            came: came(None),
            said: "left out: nothing of it could be booted".into(),
            ..Row::default()
        }
    }
    fn of_between(b: &Between, who: &Answered) -> Row {
        Row {
            what: if b.asks && (!b.holds || b.began.is_some()) {
                "asked"
            } else {
                "between"
            },
            name: b.words.clone(),
            took: b.began.zip(b.ended).map(|(from, to)| to.since(from)),
            came: came(b.good),
            by: who.get(&b.mark).cloned().unwrap_or_default(),
            said: b.said.clone(),
            ..Row::default()
        }
    }
    fn cells(self, passage: &Passage, stage: &str) -> [String; 13] {
        [
            passage.name.clone(),
            passage.edition.to_string(),
            stage.to_owned(),
            self.what.to_owned(),
            self.name,
            self.taken,
            secs(self.foretold),
            secs(self.took),
            self.host,
            self.equal,
            self.came.to_owned(),
            self.by,
            self.said,
        ]
    }
}

#[get("/protect/passages/<id>/report.csv")]
pub(crate) async fn csv(
    _signed: Signed,
    desk: &AtDesk,
    id: u64,
) -> Result<(ContentType, String), Problem> {
    let estate = desk.look().estate;
    let gone = || Problem::not_found("This report");
    let passage = estate.passages.get(&PassageId(id)).ok_or_else(gone)?;
    let who = answered(desk, passage).await?;
    let rows = passage.stages.iter().flat_map(|s| {
        let machines = s.machines.iter().map(Row::of_machine);
        let left = s.left_out.iter().map(|name| Row::of_left_out(name));
        let between = s.then.iter().map(|b| Row::of_between(b, &who));
        let all = std::iter::once(Row::of_stage(s))
            .chain(machines)
            .chain(left)
            .chain(between);
        all.map(|r| r.cells(passage, &s.name)).collect::<Vec<_>>()
    });
    Ok((ContentType::CSV, zastrugi_formats::csv::write(HEAD, rows)))
}
