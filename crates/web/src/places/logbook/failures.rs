//! Failures: the list of them, and the story of one, from the last that was heard to the last machine that is back.

use super::axis::{Axis, after};
use crate::frame::{
    AtDesk, Page, Problem, Signed, ago, glyph, page as whole, part, sheet::render, time,
};
use askama::Template;
use rocket::get;
use zastrugi_core::{
    estate::{Act as Fence, Failure, FailureStage, Restarted, Sort},
    ids::FailureId,
    moment::Span,
    permits::Act,
    view::View,
};

struct Row {
    id: u64,
    glyph: String,
    word: &'static str,
    host: String,
    cluster: String,
    machines: String,
    began: String,
    took: String,
}

#[derive(Template)]
#[template(path = "places/logbook/failures.html")]
struct Failures {
    rows: Vec<Row>,
}

fn state(failure: &Failure) -> (&'static str, &'static str) {
    match &failure.stage {
        FailureStage::CutOff => ("mind", "cut off"),
        FailureStage::Ails => ("mind", "ails"),
        FailureStage::Judged(
            Fence::Prove | Fence::SwitchOff | Fence::Withdraw | Fence::Tell | Fence::AwaitWatchdog,
        ) => ("running", "being fenced"),
        FailureStage::Judged(Fence::AskPerson) | FailureStage::Waits(_) => {
            ("needs you", "needs you")
        }
        FailureStage::Fenced
            if failure
                .left()
                .any(|m| !m.why.is_empty() && m.started.is_none()) =>
        {
            ("mind", "some stay off")
        }
        FailureStage::Fenced => ("running", "being restarted"),
        FailureStage::Over => ("done", "over"),
    }
}

/// `5 of 6 are up`
fn counted(failure: &Failure) -> String {
    let up = failure.machines.iter().filter(|m| m.up.is_some()).count();
    match (failure.machines.len(), up) {
        (0, _) => "none was on it".into(),
        (all, 0) if failure.stage == FailureStage::CutOff => format!("{all} go on"),
        (all, 0) if failure.ailed && failure.is_open() => format!("{all} lack something"),
        (all, 0) if failure.ailed => format!("{all} go on"),
        (all, up) => format!("{up} of {all} are up"),
    }
}

fn cluster(view: &View, failure: &Failure) -> String {
    let found = view.estate.clusters.get(&failure.cluster);
    found.map_or_else(String::new, |c| c.name.clone())
}

fn took(failure: &Failure) -> String {
    failure
        .took()
        .map_or_else(String::new, |(_, last)| exact(last))
}

fn list(desk: &AtDesk) -> Failures {
    let (view, now) = (desk.look(), desk.now());
    let all = view.estate.failures.values().rev();
    let rows = all.map(|f| {
        let (shape, word) = state(f);
        Row {
            id: f.id.0,
            glyph: glyph(shape),
            word,
            host: f.name.clone(),
            cluster: cluster(&view, f),
            machines: counted(f),
            began: ago(now, f.since),
            took: took(f),
        }
    });
    Failures {
        rows: rows.collect(),
    }
}

/// To the second: these are set beside each other.
fn exact(span: Span) -> String {
    after((span.0 + 500) / 1000)
}

#[get("/logbook/failures")]
pub(super) async fn show_all(signed: Signed, desk: &AtDesk) -> Page {
    whole(&signed, desk, "logbook", "Failures", &list(desk))
}
#[get("/logbook/failures/part")]
pub(super) async fn list_part(_signed: Signed, desk: &AtDesk) -> Page {
    part(&list(desk))
}

struct Told {
    at: String,
    sort: &'static str,
    text: String,
}

struct MachineRow {
    id: u64,
    name: String,
    tier: u8,
    glyph: String,
    word: String,
    to: Option<(u64, String)>,
    after: String,
}

#[derive(Template)]
#[template(path = "places/logbook/story.html")]
struct Story {
    id: u64,
    host: u64,
    title: String,
    glyph: String,
    word: &'static str,
    lead: String,
    axis: String,
    facts: Vec<(&'static str, String)>,
    told: Vec<Told>,
    machines: Vec<MachineRow>,
    /// What a person can do: link and words.
    acts: Vec<(String, &'static str)>,
}

fn lead(failure: &Failure) -> String {
    let machines = counted(failure);
    match &failure.stage {
        FailureStage::CutOff => "Its agent is not heard, and its lease is renewed: its machines go on. Nothing is started elsewhere.".into(),
        FailureStage::Ails => "It is alive, and machines on it lack their volume or their networks: those start elsewhere once they are ended here, or are moved away.".into(),
        FailureStage::Judged(Fence::AwaitWatchdog) => "Nobody can tell it anything. Its watchdog resets it when its lease has run out; then its machines start elsewhere.".into(),
        FailureStage::Judged(Fence::Tell) => "Nobody reaches it, and nobody reaches its machines. It is told through its lease to end them; once that says that it did, they start elsewhere.".into(),
        FailureStage::Judged(Fence::Withdraw) => "Its controller is no help. Its arrays take away what it reaches; once they say so, its machines start elsewhere.".into(),
        FailureStage::Judged(Fence::AskPerson) => "Nothing proves that it is off, so nothing is started elsewhere.".into(),
        FailureStage::Judged(Fence::Prove | Fence::SwitchOff) => "It is being proved off; then its machines start elsewhere.".into(),
        FailureStage::Waits(why) => format!("Nothing is started elsewhere until somebody acts: {why}."),
        FailureStage::Fenced => format!("It runs nothing any more. Of its machines, {machines}."),
        FailureStage::Over if failure.ailed && failure.machines.iter().all(|m| m.up.is_none()) => "It is over; none of its machines had to be ended.".into(),
        FailureStage::Over if failure.machines.iter().all(|m| m.up.is_none()) => "It is over; no machine had to be started elsewhere.".into(),
        FailureStage::Over => format!("It is over. Of its machines, {machines}."),
    }
}

fn sort(sort: Sort) -> &'static str {
    match sort {
        Sort::Signal => "heard",
        Sort::Verdict => "verdict",
        Sort::Fencing => "fencing",
        Sort::Restart => "restart",
    }
}

fn machine(view: &View, failure: &Failure, m: &Restarted) -> MachineRow {
    let now = view.estate.machines.get(&m.machine);
    let left = now.is_some_and(|m| m.host != Some(failure.host) && !m.is_off());
    let (shape, word) = match (m.up, m.started) {
        (Some(_), _) => ("done", "up".to_owned()),
        (None, Some(_)) if m.why.is_empty() => ("running", "starts".to_owned()),
        _ if !m.why.is_empty() => ("mind", m.why.clone()),
        _ if matches!(failure.stage, FailureStage::CutOff) => ("steady", "goes on".to_owned()),
        _ if failure.ailed && left => ("done", "was moved".to_owned()),
        _ if failure.ailed && failure.is_open() => ("mind", "lacks something".to_owned()),
        _ if failure.ailed => ("steady", "goes on".to_owned()),
        _ => ("waiting", "waits".to_owned()),
    };
    let to =
        m.to.or(now.filter(|_| failure.ailed && left).and_then(|m| m.host));
    let to = to.and_then(|h| view.estate.hosts.get(&h));
    MachineRow {
        id: m.machine.0,
        name: m.name.clone(),
        tier: m.tier,
        glyph: glyph(shape),
        word,
        to: to.map(|h| (h.id.0, h.name.clone())),
        after: m
            .up
            .map_or_else(String::new, |at| exact(at.since(failure.since))),
    }
}

fn facts(failure: &Failure) -> Vec<(&'static str, String)> {
    let mut facts = Vec::new();
    if let Some(at) = failure.fenced {
        facts.push(("Proved after", exact(at.since(failure.since))));
    }
    if let Some((first, last)) = failure.took() {
        facts.push(("First machine up after", exact(first)));
        facts.push(("Last machine up after", exact(last)));
    }
    if let Some(foretold) = failure.foretold.filter(|f| f.0 > 0) {
        facts.push(("Foretold for the last", exact(foretold)));
    }
    facts
}

fn acts(signed: &Signed, failure: &Failure) -> Vec<(String, &'static str)> {
    let host = failure.host.0;
    let mut acts = Vec::new();
    if failure.waits().is_some() && signed.may(Act::Hosts) {
        acts.push((
            format!("/sheet/host-power?act=off&ids={host}"),
            "Switch it off",
        ));
        acts.push((
            format!("/sheet/host-power?act=declare&ids={host}"),
            "Declare it off",
        ));
    }
    let left = failure
        .left()
        .filter(|m| !m.why.is_empty() && failure.is_open());
    let left: Vec<String> = left.map(|m| m.machine.0.to_string()).collect();
    if !left.is_empty() && failure.fenced.is_some() && signed.may(Act::Machines) {
        acts.push((
            format!("/sheet/power?act=on&ids={}", left.join(",")),
            "Start by hand",
        ));
    }
    acts
}

fn story(signed: &Signed, desk: &AtDesk, id: u64) -> Result<Story, Problem> {
    let (view, now) = (desk.look(), desk.now());
    let failure = view.estate.failures.get(&FailureId(id));
    let failure = failure.ok_or_else(|| Problem::not_found("This failure"))?;
    let (shape, word) = state(failure);
    Ok(Story {
        id,
        host: failure.host.0,
        title: match failure.ailed {
            true => format!("{} could not serve its machines", failure.name),
            false => format!("{} failed", failure.name),
        },
        glyph: glyph(shape),
        word,
        lead: lead(failure),
        axis: render(&Axis::of(failure, now)),
        facts: facts(failure),
        told: failure
            .lines
            .iter()
            .map(|l| Told {
                at: time(l.at),
                sort: sort(l.sort),
                text: l.text.clone(),
            })
            .collect(),
        machines: failure
            .machines
            .iter()
            .map(|m| machine(&view, failure, m))
            .collect(),
        acts: acts(signed, failure),
    })
}

#[get("/logbook/failures/<id>", rank = 3)]
pub(super) async fn show(signed: Signed, desk: &AtDesk, id: u64) -> Page {
    let story = story(&signed, desk, id)?;
    let title = story.title.clone();
    whole(&signed, desk, "logbook", &title, &story)
}
#[get("/logbook/failures/<id>/part")]
pub(super) async fn story_part(signed: Signed, desk: &AtDesk, id: u64) -> Page {
    part(&story(&signed, desk, id)?)
}
