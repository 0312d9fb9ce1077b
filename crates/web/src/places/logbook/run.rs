//! One run: its steps, live, and the assessment as it was. An old run's page is the same page.

use super::{
    correct::{self, Forms, Refused},
    lanes::Lanes,
};
use crate::frame::{
    AtDesk, Fields, Page, Problem, Signed, consequences::Consequences, glyph, page as whole, part,
    sheet::render, words::run_glyph,
};
use askama::Template;
use rocket::{
    get,
    http::Status,
    post,
    response::{Redirect, content::RawHtml},
};
use std::collections::BTreeSet;
use zastrugi_core::{
    ids::RunId,
    road::{Work, may_be_left},
    rooms::Plan,
    runs::{Object, Phase, Run, RunState, StepState},
    view::View,
};
use zastrugi_engine::{AnswerError, Resolve};

struct StepView {
    /// In the plan: the row of a step keeps who it is wherever it comes to stand.
    at: usize,
    glyph: String,
    word: String,
    title: String,
    said: String,
    remedy: String,
    took: String,
    attempts: u32,
    /// What it was given, where that can be corrected.
    form: String,
}

#[derive(Template)]
#[template(path = "places/logbook/run.html")]
struct RunPage {
    id: u64,
    title: String,
    glyph: String,
    word: &'static str,
    lead: String,
    share: usize,
    /// By host, where that says more.
    lanes: Option<String>,
    steps: Vec<StepView>,
    groups: Vec<Group>,
    /// Nothing was asked of any device.
    at_once: bool,
    touches: Vec<(String, String)>,
    more: usize,
    open: bool,
    needs_you: bool,
    /// All that failed may be left as it is.
    leaves: bool,
    may_answer: bool,
    consequences: String,
    csrf: String,
    /// What was typed waits for whoever typed it: the page stands still.
    still: bool,
}

/// All steps that do the same, in a run that has many.
struct Group {
    name: &'static str,
    glyph: String,
    words: String,
    open: bool,
    steps: Vec<StepView>,
    hidden: usize,
}

/// Up to so many steps stand one below the other; more are grouped.
const PLAIN: usize = 40;
/// Steps of one group that are listed.
const LISTED: usize = 100;
/// And of one in which nothing is under way; in a large run also beside what failed.
const QUIET: usize = 12;
/// A run of more steps is large: what each host does now stands in its lane.
const LARGE: usize = 300;
/// Things that it touches that are named.
const NAMED: usize = 12;

fn step_view(at: usize, state: &StepState, title: &str, said: &str, form: String) -> StepView {
    let (word, shape) = match state.phase {
        Phase::Waiting => ("waiting".to_owned(), "waiting"),
        Phase::Queued { behind, .. } => (format!("waits for {behind}"), "mind"),
        Phase::Running => ("running".to_owned(), "running"),
        Phase::Done => ("done".to_owned(), "done"),
        // Nobody knows that it failed: its device fell silent.
        Phase::Failed if !state.tail.is_none() => ("silent".to_owned(), "unchecked"),
        Phase::Failed => ("failed".to_owned(), "failed"),
        Phase::Skipped => ("left out".to_owned(), "skipped"),
    };
    let took = state
        .began
        .zip(state.ended)
        .map_or_else(String::new, |(from, to)| to.since(from).to_string());
    StepView {
        at,
        glyph: glyph(shape),
        word,
        title: title.to_owned(),
        said: said.to_owned(),
        remedy: state
            .fault
            .as_ref()
            .filter(|_| state.phase == Phase::Failed)
            .map_or_else(String::new, |f| f.remedy.clone()),
        took,
        attempts: state.attempt,
        form,
    }
}

/// What failed and what is under way comes before what waits and what is done.
fn rank(phase: &Phase) -> u8 {
    match phase {
        Phase::Failed => 0,
        Phase::Running => 1,
        Phase::Queued { .. } => 2,
        Phase::Waiting | Phase::Skipped => 3,
        Phase::Done => 4,
    }
}

/// Whose steps are shown.
struct Shown<'a> {
    view: &'a View,
    run: &'a Run,
    plan: &'a Plan,
    forms: Forms<'a>,
}

fn step(shown: &Shown<'_>, n: usize) -> Option<StepView> {
    let (state, planned) = shown.run.step(n).zip(shown.plan.steps.get(n))?;
    let said = if state.phase == Phase::Running {
        shown.view.said(shown.run, n)
    } else {
        &state.said
    };
    Some(step_view(n, state, &planned.title, said, shown.forms.at(n)))
}

/// The steps as they stand, where there are few.
fn steps(shown: &Shown<'_>) -> Vec<StepView> {
    let all = shown.plan.steps.len();
    if all > PLAIN {
        return vec![];
    }
    (0..all).filter_map(|n| step(shown, n)).collect()
}

/// Else by what they do, in the order of the plan.
fn groups(shown: &Shown<'_>) -> Vec<Group> {
    let plan = shown.plan;
    if plan.steps.len() <= PLAIN {
        return vec![];
    }
    let mut all: Vec<(&'static str, Vec<usize>)> = Vec::new();
    for (n, planned) in plan.steps.iter().enumerate() {
        let name = planned.step.group();
        match all.iter_mut().find(|(known, _)| *known == name) {
            Some((_, steps)) => steps.push(n),
            None => all.push((name, vec![n])),
        }
    }
    all.into_iter()
        .map(|(name, steps)| group(shown, name, steps))
        .collect()
}

fn group(shown: &Shown<'_>, name: &'static str, mut steps: Vec<usize>) -> Group {
    let phase = |n: usize| shown.run.step(n).map_or(4, |s| rank(&s.phase));
    let count = |wanted: u8| steps.iter().filter(|n| phase(**n) == wanted).count();
    let (failed, running, done) = (count(0), count(1), count(4));
    let mut words = format!("{done} of {} done", steps.len());
    if running > 0 {
        words.push_str(&format!(", {running} running"));
    }
    if failed > 0 {
        words.push_str(&format!(", {failed} failed"));
    }
    let shape = match (failed, running) {
        (1.., _) => "failed",
        (_, 1..) => "running",
        _ if done == steps.len() => "done",
        _ => "waiting",
    };
    steps.sort_by_key(|n| phase(*n));
    // What is through, or has not begun, is looked at by few.
    let listed = match (failed, running) {
        (0, 0) => QUIET,
        _ if shown.run.tally.all() > LARGE => (failed + QUIET).min(LISTED),
        _ => LISTED,
    };
    let hidden = steps.len().saturating_sub(listed);
    Group {
        name,
        glyph: glyph(shape),
        words,
        open: failed > 0,
        steps: steps
            .into_iter()
            .take(listed)
            .filter_map(|n| step(shown, n))
            .collect(),
        hidden,
    }
}

/// What it touches and has a page: link and name; and how many more.
fn touches(view: &View, plan: &Plan) -> (Vec<(String, String)>, usize) {
    let estate = &view.estate;
    let objects: BTreeSet<Object> = plan.steps.iter().flat_map(|p| p.step.about()).collect();
    let mut all: Vec<(String, String)> = objects
        .into_iter()
        .filter(|o| o.exists(estate))
        .filter_map(|o| Some((page_of(o)?, o.name(estate))))
        .collect();
    let more = all.len().saturating_sub(NAMED);
    all.truncate(NAMED);
    (all, more)
}

fn page_of(object: Object) -> Option<String> {
    Some(match object {
        Object::Host(id) | Object::Controller(id) => format!("/hosts/{}", id.0),
        Object::Cluster(id) => format!("/clusters/{}", id.0),
        Object::Machine(id) => format!("/machines/{}", id.0),
        Object::Volume(id) => format!("/storage/volumes/{}", id.0),
        Object::Array(id) => format!("/storage/arrays/{}", id.0),
        Object::Network(id) => format!("/networks/{}", id.0),
        Object::Image(id) => format!("/storage/images/{}", id.0),
        Object::Front(id) => format!("/fronts/{}", id.0),
        Object::Template(id) => format!("/templates/{}", id.0),
        Object::FirstBoot(id) => format!("/first-boot/{}", id.0),
        Object::SparePool(id) => format!("/pools/{}", id.0),
        Object::Schedule(_) => "/schedules".to_owned(),
        Object::Job(id) => format!("/protect/jobs/{}", id.0),
        Object::Plan(id) => format!("/protect/plans/{}", id.0),
        Object::Pair(id) => format!("/protect/pairs/{}", id.0),
        Object::Pledge(id) => format!("/protect/pledges/{}", id.0),
        Object::Store(id) => format!("/protect/stores/{}", id.0),
        Object::Switch(_) | Object::Balancer(_) => return None,
    })
}

async fn build(
    signed: &Signed,
    desk: &AtDesk,
    id: u64,
    refused: Option<&Refused>,
) -> Result<RunPage, Problem> {
    let (run, plan) = desk
        .run(RunId(id))
        .await?
        .ok_or_else(|| Problem::not_found("This run"))?;
    let view = desk.look();
    let (touches, more) = touches(&view, &plan);
    let (done, all) = run.progress();
    let lead = match run.ended {
        Some(_) if all == 0 => format!("{} did it, at once.", run.by.name),
        Some(end) => format!(
            "{} began it; it took {}.",
            run.by.name,
            end.since(run.began)
        ),
        None => format!(
            "{} began it {}.",
            run.by.name,
            crate::frame::ago(desk.now(), run.began)
        ),
    };
    let may_answer = plan.ask.allowed(&signed.viewer.permits());
    let forms = match may_answer {
        true => Forms::of(&view, &run, &plan, &signed.csrf, refused),
        false => Forms::none(),
    };
    let shown = Shown {
        view: &view,
        run: &run,
        plan: &plan,
        forms,
    };
    Ok(RunPage {
        id,
        title: run.title.clone(),
        glyph: run_glyph(run.state),
        word: run.state.word(),
        lead: match all {
            0 => lead,
            all => format!("{lead} {done} of {all} steps are done."),
        },
        share: (done * 600).checked_div(all).unwrap_or(600),
        lanes: Lanes::of(&view, &run, &plan, desk.now()).map(|l| render(&l)),
        steps: steps(&shown),
        groups: groups(&shown),
        at_once: plan.steps.is_empty(),
        touches,
        more,
        open: run.state.open() && run.state != RunState::Cancelling,
        needs_you: run.state == RunState::NeedsYou,
        leaves: run.state == RunState::NeedsYou && may_be_left(&run, &plan),
        may_answer,
        consequences: render(&Consequences::of_plan(&plan, &run)),
        csrf: signed.csrf.clone(),
        still: refused.is_some(),
    })
}

#[get("/logbook/runs/<id>")]
pub(crate) async fn show(signed: Signed, desk: &AtDesk, id: u64) -> Page {
    let body = build(&signed, desk, id, None).await?;
    let title = body.title.clone();
    whole(&signed, desk, "logbook", &title, &body)
}

#[get("/logbook/runs/<id>/part")]
pub(crate) async fn run_part(signed: Signed, desk: &AtDesk, id: u64) -> Page {
    part(&build(&signed, desk, id, None).await?)
}

/// Where it goes on, or the page with what was typed and what is wrong with it.
type Answered = Result<Redirect, (Status, RawHtml<String>)>;

#[post("/logbook/runs/<id>", data = "<fields>")]
pub(crate) async fn answer(
    signed: Signed,
    desk: &AtDesk,
    id: u64,
    fields: Fields,
) -> Result<Answered, Problem> {
    let said = match fields.get("answer") {
        "cancel" => Resolve::Cancel,
        "retry" => Resolve::Retry,
        "pass-over" => Resolve::PassOver,
        "correct" => {
            let correction = correct::read(&fields);
            Resolve::Correct(correction.ok_or_else(|| Problem::not_found("This step"))?)
        }
        _ => return Err(Problem::not_found("This answer")),
    };
    match desk.answer(&signed.viewer, RunId(id), said.clone()).await {
        Err(AnswerError::Wrong(found)) if !found.is_empty() => {
            let Resolve::Correct(correction) = said else {
                return Err(Problem::not_found("This answer"));
            };
            let refused = Refused { correction, found };
            let body = build(&signed, desk, id, Some(&refused)).await?;
            let page = whole(&signed, desk, "logbook", &body.title.clone(), &body)?;
            Ok(Err((Status::UnprocessableEntity, page)))
        }
        answered => {
            answered?;
            Ok(Ok(Redirect::to(format!("/logbook/runs/{id}"))))
        }
    }
}
