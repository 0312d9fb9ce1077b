//! What becomes of what, as a table: what needs a look first, then what is simply taken.

use zastrugi_core::rooms::taking::{Kind, Line, Plan, Verdict};

/// The most lines of one kind that are simply taken and shown.
const MOST: usize = 100;

pub(super) struct Row {
    pub(super) name: String,
    pub(super) verdict: &'static str,
    /// A colour's class, or nothing.
    pub(super) tone: &'static str,
    pub(super) words: String,
    /// What it is for, where that can be chosen.
    pub(super) role: Option<&'static str>,
}

pub(super) struct Group {
    pub(super) title: String,
    pub(super) rows: Vec<Row>,
    /// How many more are taken as they are.
    pub(super) more: usize,
}

fn title(kind: Kind) -> &'static str {
    match kind {
        Kind::Host => "Hosts",
        Kind::Network => "Networks",
        Kind::Volume => "Volumes",
        Kind::Machine => "Machines",
        Kind::Other => "What else runs there",
    }
}

fn tone(verdict: Verdict) -> &'static str {
    match verdict {
        Verdict::AsItIs => "",
        Verdict::Conflicts { stops: true } => "g-stop",
        Verdict::Conflicts { stops: false }
        | Verdict::Renamed
        | Verdict::Differs
        | Verdict::Unknown => "g-mind",
    }
}

pub(super) fn groups(plan: &Plan) -> Vec<Group> {
    let role = |name: &str| {
        plan.networks
            .iter()
            .find(|n| n.name == name)
            .map(|n| n.role.word())
    };
    let group = |kind: Kind| {
        let lines: Vec<&Line> = plan.lines.iter().filter(|l| l.kind == kind).collect();
        let (plain, odd): (Vec<&Line>, Vec<&Line>) =
            lines.iter().partition(|l| l.verdict == Verdict::AsItIs);
        let more = plain.len().saturating_sub(MOST);
        let shown = odd.into_iter().chain(plain.into_iter().take(MOST));
        let rows: Vec<Row> = shown
            .map(|l| Row {
                name: l.name.clone(),
                verdict: l.verdict.word(),
                tone: tone(l.verdict),
                words: l.words.clone(),
                role: role(&l.name).filter(|_| kind == Kind::Network),
            })
            .collect();
        (!rows.is_empty()).then(|| Group {
            title: format!("{} · {}", title(kind), lines.len()),
            rows,
            more,
        })
    };
    Kind::ALL.into_iter().filter_map(group).collect()
}
