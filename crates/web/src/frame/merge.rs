//! Two people at one sheet: what each changed against what it showed them is theirs; where both changed the same, the later
//! one is shown what the earlier one did, and confirms.

use super::{Fields, consequences::Wrong};
use std::collections::BTreeMap;

/// Fields as they count, and where somebody else changed the same meanwhile.
pub(super) struct Merged {
    pub(super) fields: Fields,
    pub(super) clashes: Vec<Wrong>,
}

/// How a field's text is taken apart: its parts are changed one by one.
#[derive(Clone, Copy)]
enum Parts {
    /// As one.
    Whole,
    /// Words, by what stands before `=`.
    Words,
    /// Lines of CSV, by their first cell.
    Lines,
    /// Numbers.
    Picks,
}

fn parts(name: &str) -> Parts {
    match name {
        "labels" | "qualities" => Parts::Words,
        "reserved" | "rows" => Parts::Lines,
        "host" => Parts::Picks,
        _ => Parts::Whole,
    }
}

/// `mine` was typed over what `base` showed; by now it would show `now`.
pub(super) fn merge(base: &Fields, mine: &Fields, now: &[(String, String)]) -> Merged {
    let mut fields = mine.clone();
    let mut clashes = Vec::new();
    for (name, now) in now {
        let now = &*now.trim().replace("\r\n", "\n");
        let base = together(base, name);
        let typed = together(mine, name);
        let (value, clash) = match parts(name) {
            Parts::Whole => whole(&base, &typed, now),
            kind => by_parts(kind, &base, &typed, now),
        };
        if let Some(words) = clash {
            clashes.push((name.clone(), words));
        }
        if value != typed {
            fields.set(name, (!value.is_empty() || mine.has(name)).then_some(value));
        }
    }
    Merged { fields, clashes }
}

/// A field's value; of several with one name all of them.
fn together(fields: &Fields, name: &str) -> String {
    let all: Vec<&str> = fields.all(name).collect();
    match parts(name) {
        Parts::Picks => all.join(","),
        _ => all
            .last()
            .copied()
            .unwrap_or_default()
            .replace("\r\n", "\n"),
    }
}

fn said(value: &str) -> String {
    match value {
        "" => "empty".into(),
        super::fields::TICKED => "ticked".into(),
        value => format!("“{}”", value.chars().take(60).collect::<String>()),
    }
}

fn whole(base: &str, mine: &str, now: &str) -> (String, Option<String>) {
    if mine == base {
        return (now.to_owned(), None);
    }
    let clash = now != base && now != mine;
    let words = || {
        format!(
            "Meanwhile somebody made it {}; it was {} when you looked. Run again to put yours in its place.",
            said(now),
            said(base)
        )
    };
    (mine.to_owned(), clash.then(words))
}

fn apart(kind: Parts, text: &str) -> BTreeMap<String, String> {
    let items: Vec<&str> = match kind {
        Parts::Words => text.split([' ', ',', '\n']).collect(),
        Parts::Picks => text.split(',').collect(),
        Parts::Lines | Parts::Whole => text.lines().collect(),
    };
    let item = |i: &str| {
        let i = i.trim();
        let key = match kind {
            Parts::Words => i.split('=').next(),
            Parts::Lines => i.split([',', ';', '\t']).next(),
            Parts::Picks | Parts::Whole => Some(i),
        };
        (key.unwrap_or(i).trim().to_owned(), i.to_owned())
    };
    items
        .into_iter()
        .map(item)
        .filter(|(key, _)| !key.is_empty())
        .collect()
}

fn by_parts(kind: Parts, base: &str, mine: &str, now: &str) -> (String, Option<String>) {
    if mine == base {
        return (now.to_owned(), None);
    }
    let (was, typed, current) = (apart(kind, base), apart(kind, mine), apart(kind, now));
    // What nobody else touched stays as it was typed, with its order and its mistakes.
    if was == current {
        return (mine.to_owned(), None);
    }
    if typed == was {
        return (now.to_owned(), None);
    }
    let mut then = current.clone();
    let mut clash = Vec::new();
    let keys: std::collections::BTreeSet<&String> = was.keys().chain(typed.keys()).collect();
    for key in keys {
        let (before, my) = (was.get(key), typed.get(key));
        if before == my {
            continue;
        }
        let theirs = current.get(key);
        if theirs != before && theirs != my {
            clash.push(said(theirs.map_or("", String::as_str)));
        }
        match my {
            Some(item) => then.insert(key.clone(), item.clone()),
            None => then.remove(key),
        };
    }
    let glue = match kind {
        Parts::Words => " ",
        Parts::Picks => ",",
        Parts::Lines | Parts::Whole => "\n",
    };
    let text = then.into_values().collect::<Vec<_>>().join(glue);
    let words = || {
        format!(
            "Meanwhile somebody changed the same: it is {} now. Run again to put yours in its place.",
            clash.join(", ")
        )
    };
    (text, (!clash.is_empty()).then(words))
}

#[cfg(test)]
mod tests {
    use super::*;

    fn merged(base: &str, mine: &str, now: &str) -> (String, Vec<String>) {
        let now = Fields::parse(now);
        let now: Vec<_> = now.pairs().cloned().collect();
        let merged = merge(&Fields::parse(base), &Fields::parse(mine), &now);
        let pairs: Vec<String> = merged
            .fields
            .pairs()
            .map(|(n, v)| format!("{n}={v}"))
            .collect();
        (
            pairs.join("&"),
            merged.clashes.into_iter().map(|(field, _)| field).collect(),
        )
    }

    /// If this fails, whoever presses Run last undoes what another did meanwhile.
    #[test]
    fn two_who_change_different_things_both_win() {
        let (then, clashes) = merged("name=db&note=a", "name=db&note=mine", "name=theirs&note=a");
        assert_eq!((then.as_str(), clashes.len()), ("note=mine&name=theirs", 0));
        let (then, clashes) = merged(
            "labels=a+b%3D1",
            "labels=a+b%3D1+mine",
            "labels=a+b%3D2+theirs",
        );
        assert_eq!(
            (then.as_str(), clashes.len()),
            ("labels=a b=2 mine theirs", 0)
        );
        let (then, clashes) = merged("labels=a+b", "labels=b", "labels=a+b+c");
        assert_eq!(
            (then.as_str(), clashes.len()),
            ("labels=b c", 0),
            "what I took away stays away"
        );
        let (then, _) = merged("host=1,2", "host=1&host=2&host=3", "host=2");
        assert_eq!(then, "host=2,3");
    }

    #[test]
    fn the_same_thing_is_the_later_ones_to_confirm() {
        let (then, clashes) = merged("name=db", "name=mine", "name=theirs");
        assert_eq!(
            (then.as_str(), clashes),
            ("name=mine", vec!["name".to_owned()])
        );
        let (_, clashes) = merged("name=db", "name=same", "name=same");
        assert!(clashes.is_empty(), "both meant the same");
        let (then, clashes) = merged(
            "reserved=10.0.0.1,a",
            "reserved=10.0.0.1,mine",
            "reserved=10.0.0.1,theirs",
        );
        assert_eq!(
            (then.as_str(), clashes.len()),
            ("reserved=10.0.0.1,mine", 1)
        );
        let (then, clashes) = merged("required=on", "name=x", "required=on");
        assert_eq!(
            (then.as_str(), clashes.len()),
            ("name=x", 0),
            "I took the tick away"
        );
    }

    proptest::proptest! {
        /// Nobody else there: what was typed is what counts. Nothing typed: what is there now counts.
        #[test]
        fn alone_it_is_what_was_typed(base in "[a-c=, ]{0,12}", mine in "[a-c=, ]{0,12}", name in "labels|name|reserved|host") {
            let pairs = |v: &str| Fields::from(vec![(name.clone(), v.to_owned())]);
            let now = |v: &str| vec![(name.clone(), pairs(v).get(&name).to_owned())];
            let alone = merge(&pairs(&base), &pairs(&mine), &now(&base));
            proptest::prop_assert!(alone.clashes.is_empty());
            proptest::prop_assert_eq!(alone.fields.get(&name), mine.trim());
            let idle = merge(&pairs(&base), &pairs(&base), &now(&mine));
            proptest::prop_assert!(idle.clashes.is_empty());
            proptest::prop_assert_eq!(idle.fields.get(&name), mine.trim());
        }
    }
}
