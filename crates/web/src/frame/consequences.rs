//! The right-hand side of every sheet: what the core computed, made ready to be shown.

use super::glyph;
use askama::Template;
use std::collections::BTreeMap;
use zastrugi_core::rooms::{leaving, maintenance, moving};
use zastrugi_core::{
    finding::{Finding, Offer, Severity},
    migration::Course,
    road::{self, Bar, Fill, Listed, Outlook},
    rooms::{Assessment, Plan, PlannedStep, Step},
    runs::Run,
    units::Bytes,
};

/// A word about a field that can't be read.
pub(crate) type Wrong = (String, String);

pub(crate) struct FindingView {
    word: &'static str,
    glyph: String,
    text: String,
    because: String,
    remedy: String,
    /// Other sheets that would mend it: where, and what they do.
    offers: Vec<(String, &'static str)>,
    field: String,
}

struct FillView {
    name: String,
    before: u64,
    after: u64,
    /// What stays in any case.
    stays: u64,
    words: String,
}

pub(crate) struct BarView {
    group: &'static str,
    count: usize,
    from: u64,
    width: u64,
    words: String,
    /// Where and how wide it was as it went.
    was: Option<(u64, u64, String)>,
}

#[derive(Template)]
#[template(path = "frame/consequences.html")]
pub(crate) struct Consequences {
    errors: String,
    /// What the button says, which follows what was typed.
    run: String,
    revision: String,
    stops: usize,
    findings: Vec<FindingView>,
    /// Those of a selection that stop the others: what it says, and the sheet without them.
    out: Option<(String, String)>,
    clear: Vec<FindingView>,
    /// What the clear checks were about.
    clear_words: String,
    /// What comes into being, where it is more than one.
    listed: Vec<Listed>,
    interrupted: Vec<String>,
    outlooks: Vec<Outlook>,
    fills: Vec<FillView>,
    more_fills: usize,
    refused: Vec<(String, String)>,
    /// The first moves, drawn.
    rounds: Vec<String>,
    /// What goes over the line in all, where several are moved.
    over: Option<String>,
    /// The others: title, and what they take.
    moves: Vec<(String, String)>,
    bars: Vec<BarView>,
    steps: usize,
    time: String,
    /// How long it really took.
    took: Option<String>,
    seen: String,
    /// Shown for something that is only looked at, such as a run's record.
    past: bool,
}

fn finding(f: &Finding) -> FindingView {
    FindingView {
        word: f.severity.word(),
        glyph: glyph(f.severity.word()),
        text: f.text.clone(),
        because: f.evidence.clone(),
        remedy: f.remedy.clone().unwrap_or_default(),
        offers: f.offers.iter().map(offer).collect(),
        field: f.field.clone().unwrap_or_default(),
    }
}

/// The sheet that an offer means.
fn offer(offer: &Offer) -> (String, &'static str) {
    match offer {
        Offer::Stop(machine) => (
            format!("/sheet/power?act=stop&ids={}", machine.0),
            "Stop it",
        ),
        Offer::MoveDisks(machine) => (
            format!("/sheet/move?stay=on&ids={}", machine.0),
            "Move its disks",
        ),
        Offer::TakeOut(machine) => {
            let link = format!("/sheet/edit-machines?ids={}&image=", machine.0);
            (link, "Take the image out of its drive")
        }
        Offer::Empty(host) => (
            format!("/sheet/maintenance?ids={}", host.0),
            "Take it out of service",
        ),
        Offer::MoveThenGrow {
            machine,
            vcpus,
            memory,
            kept,
        } => {
            let plain = |b: &Bytes| b.to_string().replace('\u{a0}', "+");
            let link = format!(
                "/sheet/move-and-grow?ids={}&vcpus={vcpus}&memory={}&kept={}",
                machine.0,
                plain(memory),
                plain(kept)
            );
            (link, "Move it there, then grow")
        }
        Offer::Rules(cluster) => (
            format!("/clusters/{}#rules", cluster.0),
            "Look at the rules",
        ),
    }
}

/// Widths out of 230.
fn fill(f: &Fill) -> FillView {
    let scale = |b: Bytes| zastrugi_core::units::round(b.share_of(f.installed) * 230.0).min(230);
    let gib = |b: Bytes| format!("{:.0}", b.in_gib());
    let (before, after) = (scale(f.before), scale(f.after));
    FillView {
        name: f.name.clone(),
        before,
        after,
        stays: before.min(after),
        words: format!("{} → {} GiB", gib(f.before), gib(f.after)),
    }
}

/// Bars as foretold and, beside each, as it went.
fn bars(bars: &[Bar], went: &[Bar]) -> Vec<BarView> {
    let whole = bars.iter().chain(went).map(|b| b.to.0).max();
    let whole = whole.unwrap_or(1).max(1);
    let scale = |ms: u64| ms.saturating_mul(280) / whole;
    let width = |b: &Bar| scale(b.to.0.saturating_sub(b.from.0)).max(7);
    let was = |group| {
        let bar = went.iter().find(|b| b.group == group)?;
        Some((scale(bar.from.0), width(bar), bar.to.to_string()))
    };
    bars.iter()
        .map(|b| BarView {
            group: b.group,
            count: b.steps,
            from: scale(b.from.0),
            width: width(b),
            words: b.to.to_string(),
            was: was(b.group),
        })
        .collect()
}

/// Moves that are drawn; the others are told in a line each.
const DRAWN: usize = 3;
const TOLD: usize = 60;

fn courses(steps: &[PlannedStep]) -> impl Iterator<Item = (&PlannedStep, &Course)> {
    steps.iter().filter_map(|planned| match &planned.step {
        Step::Moving(moving::Step::Move { foretold, .. })
        | Step::Maintenance(maintenance::Step::Move(moving::Step::Move { foretold, .. }))
        | Step::Leaving(leaving::Step::Move(moving::Step::Move { foretold, .. })) => {
            Some((planned, &**foretold))
        }
        _ => None,
    })
}

fn rounds(steps: &[PlannedStep]) -> Vec<String> {
    let drawn = courses(steps).take(DRAWN);
    drawn
        .filter(|(_, course)| !course.rounds.is_empty())
        .map(|(planned, course)| {
            super::sheet::render(&super::rounds::Rounds::new(
                &planned.title,
                Some(course),
                None,
            ))
        })
        .collect()
}

fn over(steps: &[PlannedStep]) -> Option<String> {
    let (mut n, mut bytes) = (0, Bytes::ZERO);
    for (_, course) in courses(steps) {
        n += 1;
        bytes += course.total;
    }
    (n > 1).then(|| format!("{n} machines, {bytes} in all"))
}

fn moves(steps: &[PlannedStep]) -> Vec<(String, String)> {
    courses(steps)
        .skip(DRAWN)
        .take(TOLD)
        .map(|(planned, course)| {
            let words = format!("{}, still for {}", course.time(), course.stands_still());
            (planned.title.clone(), words)
        })
        .collect()
}

/// Who of a selection (identifier, name) stops the others, and who is ready.
pub(crate) fn who_stops(
    assessment: &Assessment,
    selected: &[(u64, String)],
) -> (Vec<String>, Vec<u64>) {
    let stopped: std::collections::BTreeSet<&str> = assessment
        .findings()
        .iter()
        .filter(|f| f.stops())
        .map(|f| f.subject.as_str())
        .collect();
    let (mut out, mut ready) = (Vec::new(), Vec::new());
    for (id, name) in selected {
        if stopped.contains(name.as_str()) {
            out.push(name.clone());
        } else {
            ready.push(*id);
        }
    }
    (out, ready)
}

const MOST_FILLS: usize = 8;

impl Consequences {
    /// With a way to go on without those that stop the others.
    pub(crate) fn without(mut self, out: Option<(String, String)>) -> Self {
        self.out = out;
        self
    }
    pub(crate) fn new(assessment: &Assessment, wrong: &[Wrong], run: &str) -> Self {
        let mut errors: BTreeMap<&str, &str> = BTreeMap::new();
        for f in assessment.findings().iter().filter(|f| f.stops()) {
            if let Some(field) = &f.field {
                errors.entry(field).or_insert(&f.text);
            }
        }
        errors.extend(
            wrong
                .iter()
                .map(|(field, words)| (field.as_str(), words.as_str())),
        );
        let unread = wrong.iter().map(|(field, words)| FindingView {
            word: Severity::Stop.word(),
            glyph: glyph("stop"),
            text: words.clone(),
            because: String::new(),
            remedy: String::new(),
            offers: vec![],
            field: field.clone(),
        });
        // What can't be read was not what was judged there: it is said once, and nothing is said of it besides.
        let judged = |f: &&Finding| {
            let field = f.field.as_deref();
            !wrong.iter().any(|(unread, _)| field == Some(unread))
        };
        let open: Vec<&Finding> = assessment
            .findings()
            .iter()
            .filter(|f| f.severity > Severity::Clear)
            .filter(judged)
            .collect();
        let stops = open.iter().filter(|f| f.stops()).count() + wrong.len();
        Consequences {
            errors: serde_json::to_string(&errors).unwrap_or_default(),
            run: run.to_owned(),
            revision: assessment.revision().to_string(),
            stops,
            findings: unread.chain(open.into_iter().map(finding)).collect(),
            out: None,
            clear_words: clear_words(assessment.findings()),
            clear: clear(assessment.findings()),
            listed: match assessment.listed() {
                [one] if one.host_name.is_empty() => vec![],
                all => all.to_vec(),
            },
            interrupted: assessment
                .interrupted()
                .iter()
                .map(|(_, name)| name.clone())
                .collect(),
            outlooks: assessment.outlooks().to_vec(),
            fills: assessment
                .fills()
                .iter()
                .take(MOST_FILLS)
                .map(fill)
                .collect(),
            more_fills: assessment.fills().len().saturating_sub(MOST_FILLS),
            refused: assessment.refused().to_vec(),
            rounds: rounds(assessment.steps()),
            over: over(assessment.steps()),
            moves: moves(assessment.steps()),
            bars: bars(&assessment.bars(), &[]),
            took: None,
            steps: assessment.steps().len(),
            time: assessment.time().to_string(),
            seen: serde_json::to_string(&assessment.seen()).unwrap_or_default(),
            past: false,
        }
    }

    /// The assessment as it was when a run began.
    pub(crate) fn of_plan(plan: &Plan, run: &Run) -> Self {
        Consequences {
            listed: vec![],
            out: None,
            errors: "{}".into(),
            run: String::new(),
            revision: plan.revision.to_string(),
            stops: 0,
            findings: plan
                .findings
                .iter()
                .filter(|f| f.severity > Severity::Clear)
                .map(finding)
                .collect(),
            clear_words: clear_words(&plan.findings),
            clear: clear(&plan.findings),
            interrupted: vec![],
            outlooks: vec![],
            fills: plan.fills.iter().take(MOST_FILLS).map(fill).collect(),
            more_fills: plan.fills.len().saturating_sub(MOST_FILLS),
            refused: vec![],
            rounds: rounds(&plan.steps),
            over: over(&plan.steps),
            moves: moves(&plan.steps),
            bars: bars(&road::bars(&plan.steps), &road::went(&plan.steps, run)),
            took: run.ended.map(|end| end.since(run.began).to_string()),
            steps: plan.steps.len(),
            time: plan.time.to_string(),
            seen: String::new(),
            past: true,
        }
    }
}

fn clear_words(findings: &[Finding]) -> String {
    let clear = findings.iter().filter(|f| f.severity == Severity::Clear);
    let mut words: Vec<&str> = clear.map(|f| f.rule.word()).collect();
    words.sort_unstable();
    words.dedup();
    words.join(", ")
}

fn clear(findings: &[Finding]) -> Vec<FindingView> {
    findings
        .iter()
        .filter(|f| f.severity == Severity::Clear)
        .map(finding)
        .collect()
}
