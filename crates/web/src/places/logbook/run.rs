//! One run: its steps, live, and the assessment as it was. An old run's page is the same page.

use crate::frame::{
    AtDesk, Fields, Page, Problem, Signed, consequences::Consequences, glyph, page as whole, part,
    sheet::render, words::run_glyph,
};
use askama::Template;
use rocket::{get, post, response::Redirect};
use zastrugi_core::{
    ids::RunId,
    rooms::Plan,
    runs::{Phase, Run, RunState, StepState},
    view::View,
};
use zastrugi_engine::Resolve;

struct StepView {
    glyph: String,
    word: String,
    title: String,
    said: String,
    remedy: String,
    took: String,
    attempts: u32,
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
    steps: Vec<StepView>,
    hidden: usize,
    open: bool,
    needs_you: bool,
    may_answer: bool,
    consequences: String,
    csrf: String,
}

/// A run of a hundred machines has hundreds of steps; those that are not done come first.
const MOST: usize = 120;

fn step_view(state: &StepState, title: &str, said: &str) -> StepView {
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
    }
}

fn steps(view: &View, run: &Run, plan: &Plan) -> (Vec<StepView>, usize) {
    let many = plan.steps.len() > MOST;
    // What failed and what is under way comes before what waits.
    let rank = |s: &StepState| match s.phase {
        Phase::Failed => 0,
        Phase::Running => 1,
        Phase::Queued { .. } => 2,
        Phase::Waiting | Phase::Skipped => 3,
        Phase::Done => 4,
    };
    let mut all: Vec<usize> = (0..plan.steps.len()).collect();
    if many {
        all.sort_by_key(|n| run.step(*n).map_or(4, rank));
    }
    let shown = all.iter().take(MOST).filter_map(|n| {
        let (state, planned) = run.step(*n).zip(plan.steps.get(*n))?;
        let running = state.phase == Phase::Running;
        let said = if running {
            view.said(run, *n)
        } else {
            &state.said
        };
        Some(step_view(state, &planned.title, said))
    });
    let shown: Vec<_> = shown.collect();
    let hidden = plan.steps.len() - shown.len();
    (shown, hidden)
}

async fn build(signed: &Signed, desk: &AtDesk, id: u64) -> Result<RunPage, Problem> {
    let (run, plan) = desk
        .run(RunId(id))
        .await?
        .ok_or_else(|| Problem::not_found("This run"))?;
    let (steps, hidden) = steps(&desk.look(), &run, &plan);
    let (done, all) = run.progress();
    let lead = match run.ended {
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
    Ok(RunPage {
        id,
        title: run.title.clone(),
        glyph: run_glyph(run.state),
        word: run.state.word(),
        lead: format!("{lead} {done} of {} steps are done.", all),
        share: done * 600 / all.max(1),
        steps,
        hidden,
        open: run.state.open() && run.state != RunState::Cancelling,
        needs_you: run.state == RunState::NeedsYou,
        may_answer: plan.ask.allowed(&signed.viewer.permits()),
        consequences: render(&Consequences::of_plan(&plan)),
        csrf: signed.csrf.clone(),
    })
}

#[get("/logbook/runs/<id>")]
pub(crate) async fn show(signed: Signed, desk: &AtDesk, id: u64) -> Page {
    let body = build(&signed, desk, id).await?;
    let title = body.title.clone();
    whole(&signed, desk, "logbook", &title, &body)
}

#[get("/logbook/runs/<id>/part")]
pub(crate) async fn run_part(signed: Signed, desk: &AtDesk, id: u64) -> Page {
    part(&build(&signed, desk, id).await?)
}

#[post("/logbook/runs/<id>", data = "<fields>")]
pub(crate) async fn answer(
    signed: Signed,
    desk: &AtDesk,
    id: u64,
    fields: Fields,
) -> Result<Redirect, Problem> {
    let said = match fields.get("answer") {
        "cancel" => Resolve::Cancel,
        "retry" => Resolve::Retry,
        _ => return Err(Problem::not_found("This answer")),
    };
    desk.answer(&signed.viewer, RunId(id), said).await?;
    Ok(Redirect::to(format!("/logbook/runs/{id}")))
}
