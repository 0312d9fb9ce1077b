//! Names of machines and hosts: what is allowed, and how a pattern becomes many names.

use crate::limits;

/// Checks one name as a DNS label (RFC 1123, section 2.1).
///
/// # Errors
/// Words for the person who typed it.
pub fn check(name: &str) -> Result<(), String> {
    let bad = name
        .chars()
        .find(|c| !(c.is_ascii_lowercase() || c.is_ascii_digit() || *c == '-'));
    match bad {
        _ if name.is_empty() => Err("A name is missing.".into()),
        Some(' ') => Err("A name has no spaces; use hyphens.".into()),
        Some(c) if c.is_ascii_uppercase() => Err("Names are in lower case.".into()),
        Some(c) => Err(format!(
            "“{c}” can't stand in a name; letters a–z, digits and hyphens can."
        )),
        None if name.len() > limits::NAME.most => Err(format!(
            "{} characters; a name has at most {}.",
            name.len(),
            limits::NAME.most
        )),
        None if name.starts_with('-') || name.ends_with('-') => {
            Err("A name neither begins nor ends with a hyphen.".into())
        }
        None => Ok(()),
    }
}

/// The names that `pattern` gives for `count` machines.
///
/// `{01}` stands for a running number that starts there and keeps its width; without it several machines get
/// `-1`, `-2` … behind the name, and a single one the name as it is.
///
/// # Errors
/// Words for the person who typed it.
pub fn spread(pattern: &str, count: u32) -> Result<Vec<String>, String> {
    if count == 0 {
        return Err("At least one machine.".into());
    }
    if !may_be_made(count) {
        return Err(format!(
            "At most {} machines at once; you asked for {count}.",
            limits::AT_ONCE.most
        ));
    }
    let (head, width, first, tail) = match (pattern.find('{'), pattern.find('}')) {
        (None, None) if count == 1 => return check(pattern).map(|()| vec![pattern.to_owned()]),
        (None, None) => (format!("{pattern}-"), 1, 1, ""),
        (Some(open), Some(close)) if open < close => {
            let number = &pattern[open + 1..close];
            let first: u32 = number
                .parse()
                .ok()
                .filter(|_| number.len() <= 6)
                .ok_or("Between the braces stands the first number, such as {01}.")?;
            (
                pattern[..open].to_owned(),
                number.len(),
                first,
                &pattern[close + 1..],
            )
        }
        _ => return Err("A brace is open; write the first number in braces, such as {01}.".into()),
    };
    let names: Vec<String> = (first..first.saturating_add(count))
        .map(|n| format!("{head}{n:0width$}{tail}"))
        .collect();
    names
        .iter()
        .try_for_each(|name| check(name))
        .map(|()| names)
}

/// Whether one proposal may make so many machines.
pub fn may_be_made(count: u32) -> bool {
    count > 0 && usize::try_from(count).is_ok_and(|n| limits::AT_ONCE.check(n).is_ok())
}

/// Checks the labels that one thing will have: their names, their values, and how many they are.
///
/// # Errors
/// Words for the person who typed them.
pub fn check_labels<'a>(
    labels: impl IntoIterator<Item = (&'a str, &'a str)>,
) -> Result<(), String> {
    let mut count = 0;
    for (key, value) in labels {
        check_label(key)?;
        let length = value.chars().count();
        if length > limits::LABEL_VALUE.most {
            return Err(format!(
                "The value of {key} has {length} characters; {} are taken.",
                limits::LABEL_VALUE.most
            ));
        }
        count += 1;
    }
    limits::LABELS.check(count)
}

/// Checks a label's key: up to 40 of letters, digits, `-`, `_`, `.`, `/`.
///
/// # Errors
/// Words for the person who typed it.
pub fn check_label(key: &str) -> Result<(), String> {
    check_word(key, "label's name")
}

/// Checks a word by the same rule; `what` it is, as in *a label's name*.
///
/// # Errors
/// Words for the person who typed it.
pub fn check_word(word: &str, what: &str) -> Result<(), String> {
    if word.is_empty() {
        return Err(format!("A {what} is missing."));
    }
    let most = limits::LABEL_KEY.most;
    if word.chars().count() > most {
        return Err(format!("A {what} has at most {most} characters."));
    }
    let odd = |c: &char| !(c.is_alphanumeric() || "-_./".contains(*c));
    match word.chars().find(odd) {
        Some(c) => Err(format!("“{c}” can't stand in a {what}.")),
        None => Ok(()),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_pattern_keeps_its_width_and_start() {
        assert_eq!(
            spread("stowage-{08}", 3).unwrap(),
            ["stowage-08", "stowage-09", "stowage-10"]
        );
        assert_eq!(spread("gate", 2).unwrap(), ["gate-1", "gate-2"]);
        assert_eq!(spread("gate", 1).unwrap(), ["gate"]);
    }

    #[test]
    fn wrong_patterns_say_what_to_do() {
        for (pattern, count, word) in [
            ("gate", 0, "At least one"),
            ("gate", 101, "At most 100"),
            ("Gate", 1, "lower case"),
            ("gate {1}", 1, "spaces"),
            ("gate-{x}", 1, "first number"),
            ("gate-{1", 1, "brace"),
            ("-gate", 1, "hyphen"),
            ("", 1, "missing"),
        ] {
            let said = spread(pattern, count).unwrap_err();
            assert!(said.contains(word), "{pattern}: {said}");
        }
        assert!(spread(&"a".repeat(64), 1).is_err());
    }
}
