//! Text that people and devices give: what may stand in it, how long it is, and what looks like what.
//!
//! A [`Line`] or [`Note`] never holds what a database refuses, a terminal obeys, or a reader can't see: no control
//! characters, no marks that turn the direction of what stands beside them, nothing invisible; and it is normalised
//! (NFC, Unicode Annex 15), so that what reads alike is alike. Edges ask [`Line::read`] and say why not; what is there
//! already (stored, or told by a device) is cleaned by `From`.

use crate::limits::{self, Limit};
use serde::{Deserialize, Serialize};
use std::{borrow::Borrow, fmt, ops::Deref};
use unicode_normalization::UnicodeNormalization;

/// Turns the direction of text, or is not seen at all (Unicode Annex 9; general categories Cf and Zl, Zp).
fn unseen(c: char) -> bool {
    matches!(c,
        '\u{ad}' | '\u{61c}' | '\u{180e}' | '\u{200b}'..='\u{200f}' | '\u{2028}'..='\u{202e}'
        | '\u{2060}'..='\u{206f}' | '\u{feff}' | '\u{fff9}'..='\u{fffb}' | '\u{e0000}'..='\u{e0fff}')
}

/// How a character that can't be seen is written for people.
fn code(c: char) -> String {
    format!("U+{:04X}", u32::from(c))
}

/// What is wrong with a character of a text; `lines`: whether it may have several.
fn wrong(c: char, lines: bool) -> Option<String> {
    match c {
        '\n' | '\r' if lines => None,
        '\t' if lines => None,
        '\n' | '\r' => Some("This is one line; there is a line break in it.".into()),
        c if c.is_control() => Some(format!(
            "There is a control character ({}) in it; take it out.",
            code(c)
        )),
        c if unseen(c) => Some(format!(
            "There is a character in it that can't be seen ({}); take it out.",
            code(c)
        )),
        _ => None,
    }
}

/// Whether a text may stand here.
///
/// # Errors
/// Words for whoever typed it.
pub fn check(text: &str, limit: &Limit, lines: bool) -> Result<(), String> {
    if let Some(words) = text.chars().find_map(|c| wrong(c, lines)) {
        return Err(words);
    }
    // No text is shorter in bytes than in characters: most needn't be counted.
    if text.len() > limit.most {
        limit.check(text.chars().count())?;
    }
    Ok(())
}

/// The text as it may stand: what can't is left out, line breaks of a line become blanks, and it is cut at the limit.
pub fn cleaned(text: &str, limit: &Limit, lines: bool) -> String {
    let kept = text.chars().filter_map(|c| match c {
        '\r' => None,
        '\n' | '\t' if !lines => Some(' '),
        c if wrong(c, lines).is_some() => None,
        c => Some(c),
    });
    kept.nfc().take(limit.most).collect()
}

macro_rules! text_type {
    ($(#[$doc:meta])* $name:ident, $limit:expr, $lines:expr) => {
        $(#[$doc])*
        #[derive(Debug, Clone, Default, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
        #[serde(from = "String")]
        pub struct $name(String);

        impl $name {
            /// # Errors
            /// Words for whoever typed it.
            pub fn read(text: &str) -> Result<Self, String> {
                check(text, &$limit, $lines).map(|()| text.into())
            }
            pub fn as_str(&self) -> &str {
                &self.0
            }
        }
        impl From<&str> for $name {
            fn from(text: &str) -> Self {
                $name(cleaned(text, &$limit, $lines))
            }
        }
        impl From<String> for $name {
            fn from(text: String) -> Self {
                text.as_str().into()
            }
        }
        impl From<&String> for $name {
            fn from(text: &String) -> Self {
                text.as_str().into()
            }
        }
        impl From<$name> for String {
            fn from(text: $name) -> Self {
                text.0
            }
        }
        impl From<&$name> for String {
            fn from(text: &$name) -> Self {
                text.0.clone()
            }
        }
        impl PartialEq<$name> for String {
            fn eq(&self, other: &$name) -> bool {
                *self == other.0
            }
        }
        impl Deref for $name {
            type Target = str;
            fn deref(&self) -> &str {
                &self.0
            }
        }
        impl Borrow<str> for $name {
            fn borrow(&self) -> &str {
                &self.0
            }
        }
        impl AsRef<str> for $name {
            fn as_ref(&self) -> &str {
                &self.0
            }
        }
        impl fmt::Display for $name {
            fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
                f.write_str(&self.0)
            }
        }
        impl PartialEq<str> for $name {
            fn eq(&self, other: &str) -> bool {
                self.0 == other
            }
        }
        impl PartialEq<&str> for $name {
            fn eq(&self, other: &&str) -> bool {
                self.0 == *other
            }
        }
        impl PartialEq<String> for $name {
            fn eq(&self, other: &String) -> bool {
                self.0 == *other
            }
        }
    };
}

text_type!(
    /// One line, of at most [`limits::LINE`].
    Line,
    limits::LINE,
    false
);
text_type!(
    /// Several lines, of at most [`limits::NOTE`].
    Note,
    limits::NOTE,
    true
);

text_type!(
    /// A list, a thing on each line, of at most [`limits::LIST`].
    Lines,
    limits::LIST,
    true
);

/// What a device says: a line, cut at [`limits::DEVICE_WORDS`].
pub fn said(text: &str) -> String {
    cleaned(text, &limits::DEVICE_WORDS, true)
}

/// Whether two names are taken for each other by whoever reads them: equal but for case, or confusable (Unicode Technical
/// Standard 39, section 4).
pub fn looks_like(one: &str, other: &str) -> bool {
    let skeleton = |name: &str| unicode_security::skeleton(name).collect::<String>();
    // A zero is taken for a capital O, which is a small one but for its case.
    let shape = |name: &str| skeleton(&name.to_lowercase()).to_lowercase();
    // A capital I is taken for a small l only as it is typed.
    shape(one) == shape(other) || skeleton(one) == skeleton(other)
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn what_cannot_be_seen_or_stored_is_refused_with_its_code() {
        for (text, words) in [
            ("a\0b", "control character (U+0000)"),
            ("a\u{1b}[2J", "control character (U+001B)"),
            ("pay\u{202e}llor", "can't be seen (U+202E)"),
            ("a\u{200b}b", "can't be seen (U+200B)"),
            ("two\nlines", "line break"),
            (&"x".repeat(201), "201 characters; at most 200"),
        ] {
            let said = Line::read(text).unwrap_err();
            assert!(said.contains(words), "{text:?}: {said}");
        }
        assert_eq!(Line::read("Ærø 東京 🚢").unwrap(), "Ærø 東京 🚢");
        assert_eq!(Note::read("two\nlines").unwrap(), "two\nlines");
    }

    #[test]
    fn what_reads_alike_is_alike() {
        assert_eq!(Line::from("cafe\u{301}"), Line::from("caf\u{e9}"));
        for (one, other) in [
            ("duty.admin", "Duty.Admin"),
            ("duty.admin", "duty.аdmin"),
            ("zastrugi", "zastrugI"),
            ("pilot", "pi1ot"),
            ("otto", "0tto"),
        ] {
            assert!(looks_like(one, other), "{one} {other}");
        }
        assert!(!looks_like("duty.admin", "duty.admins"));
        assert!(!looks_like("vera", "vara"));
    }

    proptest! {
        #[test]
        fn cleaned_text_passes_its_own_check_and_cleaning_again_changes_nothing(text in any::<String>()) {
            let line = Line::from(text.as_str());
            prop_assert!(Line::read(&line).is_ok(), "{line:?}");
            prop_assert_eq!(Line::from(line.as_str()), line.clone());
            let note = Note::from(text.as_str());
            prop_assert!(Note::read(&note).is_ok());
            prop_assert!(!said(&text).contains('\0'));
        }

        #[test]
        fn what_is_read_is_kept_letter_by_letter(text in "[a-zA-Z0-9 .,:/=-]{0,200}") {
            prop_assert_eq!(Line::read(&text).unwrap(), text);
        }
    }
}
