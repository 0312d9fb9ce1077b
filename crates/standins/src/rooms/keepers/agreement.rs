//! What keepers agree by, as it stands on a volume: who may decide, who does, and the journal of what was decided.

use serde::{Deserialize, Serialize};
use serde_json::Value;
use std::collections::BTreeSet;

/// Lines of the journal that are kept.
const KEPT: usize = 10_000;

/// Who decides, as a counter that whoever reads it sees change.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
pub(crate) struct Held {
    /// Higher with each change of the holder; none of a lower one is obeyed.
    pub(crate) token: u64,
    pub(crate) holder: Option<String>,
    pub(crate) counter: u64,
    /// How many hosts the holder hears.
    #[serde(default)]
    pub(crate) hears: u64,
}

#[derive(Debug, Clone, Default, Serialize, Deserialize)]
pub(crate) struct Agreement {
    /// Names of those who may decide.
    pub(crate) members: BTreeSet<String>,
    pub(crate) held: Held,
    /// The index of the last line.
    #[serde(default)]
    pub(crate) last: u64,
    #[serde(default)]
    pub(crate) lines: Vec<Value>,
}

/// A renewal or a change of the holder.
#[derive(Debug, Clone, Deserialize)]
pub(crate) struct Change {
    /// As it was read.
    token: u64,
    counter: u64,
    to: Held,
}

/// What is added to the journal.
#[derive(Debug, Clone, Deserialize)]
pub(crate) struct Added {
    token: u64,
    holder: String,
    line: Value,
}

impl Agreement {
    /// Compare and set. Answers whether it is so now.
    pub(crate) fn change(&mut self, change: &Change) -> Result<bool, String> {
        let named = |holder: &String| self.members.contains(holder);
        if let Some(stranger) = change.to.holder.as_ref().filter(|h| !named(h)) {
            return Err(format!("{stranger} is not named here."));
        }
        let same = (self.held.token, self.held.counter) == (change.token, change.counter);
        let goes_on = change.to.token > self.held.token
            || change.to.token == self.held.token
                && change.to.counter > self.held.counter
                && (change.to.holder == self.held.holder || change.to.holder.is_none());
        if same && goes_on {
            self.held = change.to.clone();
        }
        Ok(same && goes_on)
    }

    /// Adds a line if whoever writes it decides; one that is there already is no other.
    pub(crate) fn add(&mut self, index: u64, added: Added) -> Result<(), String> {
        if self.held.token != added.token || self.held.holder.as_deref() != Some(&added.holder) {
            return Err(format!("{} does not decide any more.", added.holder));
        }
        let at = |i: u64| self.lines.iter().find(|l| l["index"] == i);
        if index <= self.last {
            return match at(index) {
                Some(line) if *line == added.line => Ok(()),
                _ => Err(format!("Line {index} is another one.")),
            };
        }
        if index != self.last + 1 || added.line["index"] != index {
            return Err(format!("The next line is {}.", self.last + 1));
        }
        self.last = index;
        self.lines.push(added.line);
        let old = self.lines.len().saturating_sub(KEPT);
        self.lines.drain(..old);
        Ok(())
    }

    /// At most 500 lines after this one.
    pub(crate) fn after(&self, index: u64) -> Vec<Value> {
        let later = |l: &&Value| l["index"].as_u64().is_some_and(|i| i > index);
        self.lines.iter().filter(later).take(500).cloned().collect()
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use serde_json::json;

    fn change(token: u64, counter: u64, to: (u64, &str, u64)) -> Change {
        Change {
            token,
            counter,
            to: Held {
                token: to.0,
                holder: Some(to.1.to_owned()),
                counter: to.2,
                hears: 3,
            },
        }
    }

    fn agreement() -> Agreement {
        Agreement {
            members: ["a".to_owned(), "b".to_owned()].into(),
            ..Agreement::default()
        }
    }

    /// If this fails, two keepers decide for one cluster.
    #[test]
    fn of_two_who_take_it_at_once_one_has_it() {
        let mut one = agreement();
        assert!(one.change(&change(0, 0, (1, "a", 1))).unwrap());
        assert!(
            !one.change(&change(0, 0, (1, "b", 1))).unwrap(),
            "b read it before"
        );
        assert!(
            one.change(&change(1, 1, (1, "a", 2))).unwrap(),
            "it is renewed"
        );
        assert!(
            !one.change(&change(1, 2, (1, "b", 3))).unwrap(),
            "not without a token of its own"
        );
        assert!(one.change(&change(1, 2, (2, "b", 3))).unwrap());
        assert!(
            !one.change(&change(1, 2, (1, "a", 3))).unwrap(),
            "a was late"
        );
        assert!(one.change(&change(2, 3, (3, "stranger", 4))).is_err());
    }

    /// If this fails, a keeper that was deposed decides on, or a lost answer writes a line twice.
    #[test]
    fn the_journal_takes_lines_of_who_decides_each_once() {
        let mut one = agreement();
        assert!(one.change(&change(0, 0, (1, "a", 1))).unwrap());
        let line = |index: u64, text: &str| Added {
            token: 1,
            holder: "a".into(),
            line: json!({"index": index, "told": text}),
        };
        one.add(1, line(1, "x")).unwrap();
        one.add(1, line(1, "x")).unwrap();
        assert!(one.add(1, line(1, "y")).is_err());
        assert!(one.add(3, line(3, "y")).is_err(), "a gap");
        one.add(2, line(2, "y")).unwrap();
        assert_eq!(one.after(1).len(), 1);
        assert!(one.change(&change(1, 1, (2, "b", 2))).unwrap());
        assert!(one.add(3, line(3, "z")).is_err(), "b decides");
    }
}
