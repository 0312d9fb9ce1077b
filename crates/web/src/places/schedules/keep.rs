//! The sheets that keep a schedule, pause it, and remove it.

use crate::frame::{
    Fields,
    consequences::Wrong,
    fields::minutes_to_choose,
    sheet::{Filled, render},
};
use askama::Template;
use zastrugi_core::{
    ids::ScheduleId,
    moment::Span,
    rooms::{
        Proposal,
        schedules::{Ask, Keep},
    },
    view::View,
};

/// Minutes that can be chosen.
const EVERY: [u64; 9] = [15, 30, 60, 120, 240, 360, 720, 1440, 10_080];
const KEEPS: [u64; 11] = [
    60, 240, 720, 1440, 2880, 4320, 7200, 10_080, 20_160, 30_240, 43_200,
];

#[derive(Template)]
#[template(path = "places/schedules/keep.html")]
struct KeepFields {
    of: String,
    name: String,
    label: String,
    every: u64,
    everies: Vec<(u64, String)>,
    keeps: u64,
    kept: Vec<(u64, String)>,
    at: String,
}

/// `22:00`, as minutes of the day.
fn minute(text: &str, wrong: &mut Vec<Wrong>) -> Option<u16> {
    let text = text.trim();
    if text.is_empty() {
        return None;
    }
    let read = || {
        let (hour, minute) = text.split_once(':')?;
        let (hour, minute): (u16, u16) = (hour.parse().ok()?, minute.parse().ok()?);
        (hour < 24 && minute < 60).then_some(hour * 60 + minute)
    };
    let found = read();
    if found.is_none() {
        wrong.push((
            "at".to_owned(),
            format!("“{text}” is no time of the day; write it as 22:00."),
        ));
    }
    found
}

pub(crate) fn fill(view: &View, fields: &Fields) -> Filled {
    let mut wrong = Vec::new();
    let of = fields.get("of").parse().ok().map(ScheduleId);
    let had = of.and_then(|id| view.estate.schedules.get(&id));
    let minutes = |span: Span| span.0 / 60_000;
    let every = fields
        .or("every", &had.map_or(1440, |s| minutes(s.every)).to_string())
        .parse()
        .unwrap_or(1440);
    let keeps = fields
        .or(
            "keeps",
            &had.map_or(10_080, |s| minutes(s.keeps)).to_string(),
        )
        .parse()
        .unwrap_or(10_080);
    let usual = had.map_or_else(String::new, |s| {
        format!("{:02}:{:02}", s.minute() / 60, s.minute() % 60)
    });
    let at = fields.or("at", &usual);
    let name = fields.or("name", had.map_or("", |s| &s.name));
    let label = fields.or("label", had.map_or("", |s| &s.label));
    let ask = Keep {
        schedule: of,
        name: name.as_str().into(),
        label: label.as_str().into(),
        every: Span::mins(every),
        keeps: Span::mins(keeps),
        at: minute(&at, &mut wrong),
    };
    Filled {
        title: had.map_or_else(
            || "Take snapshots by a schedule".into(),
            |s| format!("Change the schedule of {}", s.name),
        ),
        lead: "Of every machine that has the label when one is due.".into(),
        run: if had.is_some() {
            "Run: change it"
        } else {
            "Run: keep it"
        }
        .into(),
        danger: false,
        back: "/schedules".into(),
        fields: render(&KeepFields {
            of: of.map_or_else(String::new, |id| id.0.to_string()),
            name,
            label,
            every,
            everies: minutes_to_choose(&EVERY, every),
            keeps,
            kept: minutes_to_choose(&KEEPS, keeps),
            at,
        }),
        ask: Proposal::Schedules(Ask::Keep(ask)),
        wrong,
    }
}

#[derive(Template)]
#[template(
    source = r#"<input type="hidden" name="id" value="{{ id }}"><fieldset><legend class="legend">Schedule</legend><div class="field" id="f-schedule" data-field="schedule"><p><span class="chip">{{ name }}</span></p><span class="wrong" role="alert"></span></div></fieldset>"#,
    ext = "html"
)]
struct OneField {
    id: u64,
    name: String,
}

fn chosen(view: &View, fields: &Fields) -> (ScheduleId, String, bool) {
    let id = ScheduleId(fields.get("id").parse().unwrap_or(0));
    let found = view.estate.schedules.get(&id);
    let name = found.map_or_else(|| id.to_string(), |s| s.name.clone());
    (id, name, found.is_some_and(|s| s.paused))
}

pub(crate) fn pause(view: &View, fields: &Fields) -> Filled {
    let (id, name, paused) = chosen(view, fields);
    let (title, run) = match paused {
        true => (format!("Take snapshots {name} again"), "Run: go on"),
        false => (format!("Pause snapshots {name}"), "Run: pause"),
    };
    Filled {
        title,
        lead: "Those that are there stay until their end.".into(),
        run: run.into(),
        danger: false,
        back: "/schedules".into(),
        fields: render(&OneField { id: id.0, name }),
        ask: Proposal::Schedules(Ask::Pause {
            schedule: id,
            paused: !paused,
        }),
        wrong: vec![],
    }
}

pub(crate) fn remove(view: &View, fields: &Fields) -> Filled {
    let (id, name, _) = chosen(view, fields);
    Filled {
        title: format!("Remove the schedule of {name}"),
        lead: "No more are taken; those that are there stay until their end.".into(),
        run: "Run: remove it".into(),
        danger: true,
        back: "/schedules".into(),
        fields: render(&OneField { id: id.0, name }),
        ask: Proposal::Schedules(Ask::Remove { schedule: id }),
        wrong: vec![],
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// If this fails, snapshots are taken in the middle of the working day instead of at night.
    #[test]
    fn a_time_of_the_day_is_read_or_said_to_be_none() {
        let read = |text: &str| {
            let mut wrong = Vec::new();
            (minute(text, &mut wrong), wrong.len())
        };
        assert_eq!(read("22:05"), (Some(1325), 0));
        assert_eq!(read(" "), (None, 0));
        for odd in ["24:00", "7", "10:60", "ten", "-1:00"] {
            assert_eq!(read(odd), (None, 1), "{odd}");
        }
    }
}
