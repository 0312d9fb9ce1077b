//! Which labels something must have: `env=prod and not (tier=test or scratch)`.
//!
//! A key alone means whoever has the label, whatever its value; `key=value` means that value, which stands in double quotes
//! where it has blanks or parentheses. `not` binds more tightly than `and`, `and` more tightly than `or`.

use crate::{limits, names};
use serde::{Deserialize, Serialize};
use std::{collections::BTreeMap, fmt};

/// So deep parentheses and `not` may lie in each other.
const DEEPEST: usize = 16;

#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(try_from = "String", into = "String")]
pub enum Expression {
    /// Has the label, with any value.
    Key(String),
    /// Has the label with this value.
    Is(String, String),
    Not(Box<Expression>),
    /// At least two, none of them such a list itself.
    All(Vec<Expression>),
    /// At least two, none of them such a list itself.
    Any(Vec<Expression>),
}

impl Expression {
    /// # Errors
    /// Words for whoever typed it.
    pub fn read(text: &str) -> Result<Expression, String> {
        let words = words(text)?;
        limits::TERMS.check(
            words
                .iter()
                .filter(|w| matches!(w, Word::Label(..)))
                .count(),
        )?;
        let mut reader = Reader {
            words: &words,
            at: 0,
            depth: 0,
        };
        let read = reader.any()?;
        match reader.peek() {
            None => Ok(read),
            Some(word) => Err(format!(
                "Between what stands before {word} and {word} belongs “and” or “or”."
            )),
        }
    }

    /// Whether something with these labels is meant.
    pub fn fits(&self, labels: &BTreeMap<String, String>) -> bool {
        match self {
            Expression::Key(key) => labels.contains_key(key),
            Expression::Is(key, value) => labels.get(key) == Some(value),
            Expression::Not(inner) => !inner.fits(labels),
            Expression::All(all) => all.iter().all(|e| e.fits(labels)),
            Expression::Any(all) => all.iter().any(|e| e.fits(labels)),
        }
    }

    /// How tightly it holds together what is in it.
    fn tight(&self) -> u8 {
        match self {
            Expression::Any(_) => 0,
            Expression::All(_) => 1,
            Expression::Key(_) | Expression::Is(..) | Expression::Not(_) => 2,
        }
    }

    fn inside(&self, f: &mut fmt::Formatter<'_>, tight: u8) -> fmt::Result {
        match self.tight() < tight {
            true => write!(f, "({self})"),
            false => write!(f, "{self}"),
        }
    }
}

impl fmt::Display for Expression {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let joined = |f: &mut fmt::Formatter<'_>, all: &[Expression], word: &str, tight: u8| {
            all.iter().enumerate().try_for_each(|(n, e)| {
                if n > 0 {
                    write!(f, " {word} ")?;
                }
                e.inside(f, tight)
            })
        };
        match self {
            Expression::Key(key) => f.write_str(key),
            Expression::Is(key, value) if plain(value) => write!(f, "{key}={value}"),
            Expression::Is(key, value) => write!(f, "{key}=\"{value}\""),
            Expression::Not(inner) => {
                f.write_str("not ")?;
                inner.inside(f, 2)
            }
            Expression::All(all) => joined(f, all, "and", 2),
            Expression::Any(all) => joined(f, all, "or", 1),
        }
    }
}

impl TryFrom<String> for Expression {
    type Error = String;
    fn try_from(text: String) -> Result<Self, String> {
        Expression::read(&text)
    }
}

impl From<Expression> for String {
    fn from(e: Expression) -> String {
        e.to_string()
    }
}

/// A value that needs no quotes.
fn plain(value: &str) -> bool {
    !value.is_empty() && !value.contains(|c: char| c.is_whitespace() || "()\"=".contains(c))
}

#[derive(Debug, PartialEq)]
enum Word {
    Open,
    Close,
    And,
    Or,
    Not,
    Label(String, Option<String>),
}

impl fmt::Display for Word {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Word::Open => f.write_str("“(”"),
            Word::Close => f.write_str("“)”"),
            Word::And => f.write_str("“and”"),
            Word::Or => f.write_str("“or”"),
            Word::Not => f.write_str("“not”"),
            Word::Label(key, None) => write!(f, "“{key}”"),
            Word::Label(key, Some(value)) => write!(f, "“{key}={value}”"),
        }
    }
}

fn words(text: &str) -> Result<Vec<Word>, String> {
    let mut rest = text.trim_start();
    let mut all = Vec::new();
    while !rest.is_empty() {
        let (word, behind) = word(rest)?;
        all.push(word);
        rest = behind.trim_start();
    }
    match all.is_empty() {
        true => Err("Say which labels: env=prod, or env=prod and not tier=test.".into()),
        false => Ok(all),
    }
}

fn word(text: &str) -> Result<(Word, &str), String> {
    if let Some(rest) = text.strip_prefix('(') {
        return Ok((Word::Open, rest));
    }
    if let Some(rest) = text.strip_prefix(')') {
        return Ok((Word::Close, rest));
    }
    let ends = |c: char| c.is_whitespace() || "()".contains(c);
    let end = text.find(ends).unwrap_or(text.len());
    let equals = text.find('=').filter(|at| *at < end);
    let Some(equals) = equals else {
        let (word, rest) = text.split_at(end);
        let read = match word.to_ascii_lowercase().as_str() {
            "and" => Word::And,
            "or" => Word::Or,
            "not" => Word::Not,
            _ => Word::Label(key(word)?, None),
        };
        return Ok((read, rest));
    };
    let (name, behind) = (key(&text[..equals])?, &text[equals + 1..]);
    let (value, rest) = match behind.strip_prefix('"') {
        Some(quoted) => quoted.split_once('"').ok_or_else(|| {
            format!("The value of {name} begins with a quotation mark and has none at its end.")
        })?,
        None => behind.split_at(behind.find(ends).unwrap_or(behind.len())),
    };
    if value.is_empty() && !behind.starts_with('"') {
        return Err(format!(
            "Behind {name}= a value is missing; {name} alone means any value."
        ));
    }
    if !behind.starts_with('"') && !plain(value) {
        return Err(format!(
            "The value of {name} has a sign in it that must stand between quotation marks."
        ));
    }
    let length = value.chars().count();
    if length > limits::LABEL_VALUE.most {
        return Err(format!(
            "The value of {name} has {length} characters; labels have at most {}.",
            limits::LABEL_VALUE.most
        ));
    }
    Ok((Word::Label(name, Some(value.to_owned())), rest))
}

fn key(text: &str) -> Result<String, String> {
    names::check_label(text).map(|()| text.to_owned())
}

struct Reader<'a> {
    words: &'a [Word],
    at: usize,
    depth: usize,
}

impl Reader<'_> {
    fn peek(&self) -> Option<&Word> {
        self.words.get(self.at)
    }
    fn take(&mut self, wanted: &Word) -> bool {
        let there = self.peek() == Some(wanted);
        self.at += usize::from(there);
        there
    }
    fn any(&mut self) -> Result<Expression, String> {
        let mut all = vec![self.all()?];
        while self.take(&Word::Or) {
            all.push(self.all()?);
        }
        Ok(flat(all, Expression::Any, |e| match e {
            Expression::Any(inner) => Ok(inner),
            other => Err(other),
        }))
    }
    fn all(&mut self) -> Result<Expression, String> {
        let mut all = vec![self.one()?];
        while self.take(&Word::And) {
            all.push(self.one()?);
        }
        Ok(flat(all, Expression::All, |e| match e {
            Expression::All(inner) => Ok(inner),
            other => Err(other),
        }))
    }
    fn one(&mut self) -> Result<Expression, String> {
        self.depth += 1;
        if self.depth > DEEPEST {
            return Err(format!(
                "Parentheses lie at most {DEEPEST} deep in each other."
            ));
        }
        let word = self.words.get(self.at);
        self.at += 1;
        let read = match word {
            Some(Word::Label(key, None)) => Expression::Key(key.clone()),
            Some(Word::Label(key, Some(value))) => Expression::Is(key.clone(), value.clone()),
            Some(Word::Not) => Expression::Not(Box::new(self.one()?)),
            Some(Word::Open) => {
                let inner = self.any()?;
                if !self.take(&Word::Close) {
                    return Err("A parenthesis is opened and not closed.".into());
                }
                inner
            }
            Some(other) => return Err(format!("Before {other} a label is missing.")),
            None => return Err("A label is missing at the end.".into()),
        };
        self.depth -= 1;
        Ok(read)
    }
}

/// Lists in lists of the same kind are one list.
fn flat(
    all: Vec<Expression>,
    make: fn(Vec<Expression>) -> Expression,
    open: fn(Expression) -> Result<Vec<Expression>, Expression>,
) -> Expression {
    let mut out = Vec::new();
    for e in all {
        match open(e) {
            Ok(inner) => out.extend(inner),
            Err(e) => out.push(e),
        }
    }
    match <[Expression; 1]>::try_from(out) {
        Ok([one]) => one,
        Err(out) => make(out),
    }
}
