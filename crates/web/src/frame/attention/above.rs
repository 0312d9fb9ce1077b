//! What needs a person above the estate: the manager itself, and whoever stands by for it.

use super::Need;
use zastrugi_engine::{Desk, Link};

/// What it follows from.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) struct Above {
    /// Why no orders are given.
    held: Option<String>,
    /// Why nothing is begun by itself.
    automation: Option<String>,
    /// Stand-bys that do not follow, and whether they are to be invited again.
    lame: Vec<(String, bool)>,
}

impl Above {
    pub(super) fn of(desk: &Desk) -> Above {
        let standing = desk.standing();
        let lame = standing.stand_bys.iter().filter_map(|s| match s.link {
            Link::Away => Some((s.name.clone(), false)),
            Link::Lost => Some((s.name.clone(), true)),
            Link::Follows | Link::Expected => None,
        });
        Above {
            held: desk.health().held,
            automation: desk.automation_held(),
            lame: lame.collect(),
        }
    }

    pub(super) fn needs(&self) -> Vec<Need> {
        let held = self.held.as_deref().map(orders_held);
        let automation = self.automation.as_deref().map(nothing_by_itself);
        let lame = self.lame.iter().map(|(name, lost)| away(name, *lost));
        held.into_iter().chain(automation).chain(lame).collect()
    }
}

/// Nothing is ordered from any device.
fn orders_held(why: &str) -> Need {
    Need {
        glyph: "down",
        text: "All orders are held.".into(),
        since: None,
        link: "/settings#history".into(),
        link_words: "Look, then release",
        detail: why.to_owned(),
    }
}

fn nothing_by_itself(why: &str) -> Need {
    Need {
        glyph: "down",
        text: "Nothing is begun by itself.".into(),
        since: None,
        link: "/settings/stand-by".into(),
        link_words: "Look, then let it go",
        detail: why.to_owned(),
    }
}

fn away(name: &str, lost: bool) -> Need {
    let detail = match lost {
        true => "It was away for longer than is kept for it.",
        false => "When this site is gone, what it has not received is lost.",
    };
    Need {
        glyph: "mind",
        text: format!("The stand-by {name} does not follow."),
        since: None,
        link: "/settings/stand-by".into(),
        link_words: "Look at it",
        detail: detail.into(),
    }
}
