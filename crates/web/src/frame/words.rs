//! States and times in words and shapes.

use askama::Template;
use std::fmt;
use zastrugi_core::{
    estate::{Condition, Estate, Host, Machine, MachineState, Maintenance},
    moment::Moment,
    runs::RunState,
};

/// A state's shape, and the class that colours it.
#[derive(Template, Clone, Copy)]
#[template(path = "frame/glyph.html")]
pub(crate) struct Glyph {
    pub(crate) class: &'static str,
    pub(crate) shape: &'static str,
}

impl Glyph {
    pub(crate) fn of(state: &'static str) -> Glyph {
        let shape = match state {
            "clear" | "done" => "steady",
            "needs you" => "mind",
            "failed" | "down" => "stop",
            "running" | "stopping" => "busy",
            "cancelled" | "waiting" | "skipped" => "resting",
            "unchecked" => "unknown",
            other => other,
        };
        let class = if state == "needs you" { "needs" } else { state };
        Glyph { class, shape }
    }
}

/// An inline glyph; a word always stands beside it.
pub(crate) fn glyph(state: &'static str) -> String {
    super::sheet::render(&Glyph::of(state))
}

/// A measure in a picture: to a tenth, as short as it can be said.
#[derive(Debug, Clone, Copy, PartialEq)]
pub(crate) struct Px(pub(crate) f64);

impl fmt::Display for Px {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let tenths = (self.0 * 10.0).round() / 10.0;
        write!(f, "{tenths}")
    }
}

impl askama::filters::HtmlSafe for Px {}

/// A host's glyph and word.
pub(crate) fn host_state(estate: &Estate, host: &Host) -> (&'static str, String) {
    if let Some(maintenance) = &host.maintenance {
        return in_maintenance(host, maintenance);
    }
    match &host.condition {
        Condition::Steady => match host.lost_paths() {
            (0, 0) if estate.unmounted(host) == 1 => ("mind", "1 volume not mounted".into()),
            (0, 0) if estate.unmounted(host) > 1 => (
                "mind",
                format!("{} volumes not mounted", estate.unmounted(host)),
            ),
            (0, 0) => ("steady", "steady".into()),
            (0, 1) => ("mind", "fewer paths to 1 volume".into()),
            (0, n) => ("mind", format!("fewer paths to {n} volumes")),
            (1, _) => ("mind", "1 volume out of reach".into()),
            (n, _) => ("mind", format!("{n} volumes out of reach")),
        },
        Condition::Claiming => ("busy", "being claimed".into()),
        Condition::Hangs { .. } => ("down", "answers nothing".into()),
        Condition::Lost { .. } => ("down", "down".into()),
        Condition::Stranger { .. } => ("down", "certificate changed".into()),
        Condition::Off { .. } => ("down", "off".into()),
        Condition::ShutOut { .. } => ("down", "shut out of its storage".into()),
    }
}

/// What a host in maintenance does is expected, as long as nothing is on it.
fn in_maintenance(host: &Host, maintenance: &Maintenance) -> (&'static str, String) {
    let glyph = match &host.condition {
        Condition::Steady if maintenance.empty => "resting",
        Condition::Steady => "busy",
        _ if maintenance.empty => "resting",
        _ => "down",
    };
    let also = match &host.condition {
        Condition::Steady | Condition::Claiming => "",
        Condition::Hangs { .. } => ", answers nothing",
        Condition::Lost { .. } => ", silent",
        Condition::Stranger { .. } => ", certificate changed",
        Condition::Off { .. } => ", off",
        Condition::ShutOut { .. } => ", shut out of its storage",
    };
    (glyph, format!("in maintenance{also}"))
}

/// A state in words, with the moment since which it is so: the browser puts it into the person's zone.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord)]
pub(crate) struct Word {
    text: String,
    since: Option<Moment>,
    after: &'static str,
}

impl From<String> for Word {
    fn from(text: String) -> Self {
        Word {
            text,
            since: None,
            after: "",
        }
    }
}

impl From<&str> for Word {
    fn from(text: &str) -> Self {
        text.to_owned().into()
    }
}

impl fmt::Display for Word {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let text =
            askama::filters::escape(&self.text, askama::filters::Html).map_err(|_| fmt::Error)?;
        write!(f, "{text}")?;
        if let Some(since) = self.since {
            write!(f, " since {}", time(since))?;
        }
        f.write_str(self.after)
    }
}

impl askama::filters::HtmlSafe for Word {}

/// A machine's glyph and word; unknown where its host is silent.
pub(crate) fn machine_state(machine: &Machine, host: Option<&Host>) -> (&'static str, Word) {
    if machine.deleted.is_some() {
        let left_over = machine.state == MachineState::Planned;
        let word = if left_over { "perhaps made" } else { "deleted" };
        return ("resting", word.into());
    }
    let silent = host
        .and_then(Host::silent_since)
        .filter(|_| !machine.is_off());
    if let Some(since) = silent {
        let word = Word {
            since: Some(since),
            ..Word::from("unknown")
        };
        return ("unknown", word);
    }
    if let Some(fell) = &machine.fell {
        let word = Word {
            since: Some(fell.at),
            after: ", should be on",
            ..Word::from("off")
        };
        return ("down", word);
    }
    match &machine.state {
        MachineState::Planned => ("busy", "being made".into()),
        MachineState::Off if machine.replica.is_some() => ("resting", "replica".into()),
        MachineState::Off => ("resting", "off".into()),
        MachineState::Starting(phase) => ("busy", format!("starting · {phase}").into()),
        MachineState::Running { guest: true } => ("steady", "steady".into()),
        MachineState::Running { guest: false } => ("mind", "on, agent silent".into()),
        MachineState::Stopping => ("busy", "stopping".into()),
        MachineState::Paused(why) => ("mind", format!("paused · {why}").into()),
    }
}

pub(crate) fn run_glyph(state: RunState) -> String {
    glyph(state.word())
}

/// A time for the page: in UTC here, turned into the person's zone by the browser.
pub(crate) fn time(at: Moment) -> String {
    let utc = time::OffsetDateTime::from_unix_timestamp_nanos(i128::from(at.0) * 1_000_000).ok();
    let text = utc.map_or_else(String::new, |t| {
        let (date, clock) = (t.date(), t.time());
        format!(
            "{date} {:02}:{:02}:{:02} UTC",
            clock.hour(),
            clock.minute(),
            clock.second()
        )
    });
    format!(r#"<time data-ms="{}">{text}</time>"#, at.0)
}

/// How long ago, in words.
pub(crate) fn ago(now: Moment, at: Moment) -> String {
    let span = now.since(at);
    if span.0 < 2000 {
        "just now".into()
    } else {
        format!("{span} ago")
    }
}
