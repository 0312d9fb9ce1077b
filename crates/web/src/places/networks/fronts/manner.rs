//! How connections are passed on, as a sheet has it.

use crate::frame::{Fields, consequences::Wrong};
use zastrugi_core::{
    estate::{Check, Health, Manner, Method, Protocol, Sticks},
    moment::Span,
};

/// (value, words, whether it is chosen)
pub(super) type Choice = (String, String, bool);

pub(super) struct MannerFields {
    pub(super) protocols: Vec<Choice>,
    pub(super) methods: Vec<Choice>,
    pub(super) sticks: Vec<Choice>,
    /// Health is asked by a path.
    pub(super) asks: bool,
    pub(super) path: String,
    pub(super) status: String,
    pub(super) text: String,
    pub(super) every: String,
    pub(super) falls: String,
    pub(super) rises: String,
    pub(super) drain: String,
}

/// A number that was typed; words beside its field where it is none.
pub(super) fn number<T: std::str::FromStr + Default>(
    typed: &str,
    field: &str,
    wrong: &mut Vec<Wrong>,
) -> T {
    typed.trim().parse().unwrap_or_else(|_| {
        wrong.push((
            field.to_owned(),
            format!("“{typed}” is no number that fits here."),
        ));
        T::default()
    })
}

/// The one of its words that was chosen, else what is so now.
fn one_of<T: Copy>(
    fields: &Fields,
    name: &str,
    all: &[T],
    now: T,
    word: impl Fn(T) -> &'static str,
) -> T {
    let typed = fields.or(name, word(now));
    all.iter()
        .copied()
        .find(|v| word(*v) == typed)
        .unwrap_or(now)
}

fn choice<T: Copy + PartialEq>(all: &[T], now: T, word: impl Fn(T) -> &'static str) -> Vec<Choice> {
    let one = |v: &T| (word(*v).to_owned(), word(*v).to_owned(), *v == now);
    all.iter().map(one).collect()
}

/// `was`: how it is until now.
pub(super) fn read(
    fields: &Fields,
    was: Option<&Manner>,
    wrong: &mut Vec<Wrong>,
) -> (Manner, MannerFields) {
    let protocol = one_of(
        fields,
        "protocol",
        &Protocol::ALL,
        was.map_or(Protocol::Http, |m| m.protocol),
        Protocol::word,
    );
    let usual = was.cloned().unwrap_or_else(|| Manner::usual(protocol));
    let method = one_of(fields, "method", &Method::ALL, usual.method, Method::word);
    let sticks = one_of(fields, "sticks", &Sticks::ALL, usual.sticks, Sticks::word);
    let (usual_path, usual_status, usual_text) = match &usual.health.check {
        Check::Tcp => ("/".to_owned(), 200, String::new()),
        Check::Http { path, status, text } => (path.to_string(), *status, text.to_string()),
    };
    let asked = if usual.health.check == Check::Tcp {
        "tcp"
    } else {
        "path"
    };
    let secs = |span: Span| (span.0 / 1000).to_string();
    let typed = MannerFields {
        protocols: choice(&Protocol::ALL, protocol, Protocol::word),
        methods: choice(&Method::ALL, method, Method::word),
        sticks: choice(&Sticks::ALL, sticks, Sticks::word),
        asks: fields.or("check", asked) == "path",
        path: fields.or("path", &usual_path),
        status: fields.or("status", &usual_status.to_string()),
        text: fields.or("text", &usual_text),
        every: fields.or("every", &secs(usual.health.every)),
        falls: fields.or("falls", &usual.health.falls.to_string()),
        rises: fields.or("rises", &usual.health.rises.to_string()),
        drain: fields.or("drain", &secs(usual.drain)),
    };
    let check = match typed.asks {
        false => Check::Tcp,
        true => Check::Http {
            path: (&typed.path).into(),
            status: number(&typed.status, "status", wrong),
            text: (&typed.text).into(),
        },
    };
    let manner = Manner {
        protocol,
        method,
        sticks,
        health: Health {
            check,
            every: Span::secs(number(&typed.every, "every", wrong)),
            falls: number(&typed.falls, "falls", wrong),
            rises: number(&typed.rises, "rises", wrong),
        },
        drain: Span::secs(number(&typed.drain, "drain", wrong)),
    };
    (manner, typed)
}
