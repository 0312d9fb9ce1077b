//! A recovery plan as a file: JSON with a published schema (`docs/plan.schema.json`). Machines, networks, pairs and sites go by their
//! names, as numbers are of one installation alone.

use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;

/// The schema that a file names; its number grows when an older program can't read what is new.
pub const SCHEMA: &str = "https://zastrugi.example/plan-1.schema.json";
/// The published schema.
pub const SCHEMA_TEXT: &str = include_str!("../../../docs/plan.schema.json");

#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Document {
    #[serde(rename = "$schema")]
    pub schema: String,
    pub name: String,
    /// The pair, and the site from where machines are brought.
    pub pair: String,
    pub from: String,
    pub stages: Vec<Stage>,
    /// By a network of the other site: which of its networks stands for it in a drill.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub drill_networks: BTreeMap<String, String>,
}

#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Stage {
    pub name: String,
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub machines: Vec<String>,
    /// A label expression; empty: whoever is named alone.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub with_labels: String,
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub in_turn: bool,
    pub answers_within_seconds: u64,
    /// What lies between it and the next, in the words of the sheet.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub then: Vec<String>,
}

/// As a person reads it.
///
/// # Errors
/// None that its fields can give; kept, so that nobody relies on that.
pub fn write(document: &Document) -> Result<String, serde_json::Error> {
    serde_json::to_string_pretty(document).map(|text| text + "\n")
}

/// # Errors
/// What is wrong with the text, in words, with its line.
pub fn read(text: &str) -> Result<Document, String> {
    let read: Document = serde_json::from_str(text.trim()).map_err(|e| {
        format!(
            "It can't be read as a recovery plan, at line {}: {e}.",
            e.line()
        )
    })?;
    match read.schema == SCHEMA {
        true => Ok(read),
        false => Err(format!(
            "Its schema is “{}”; {SCHEMA} is read.",
            read.schema
        )),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::fits::fits;
    use proptest::prelude::*;
    use serde_json::Value;

    fn stages() -> impl Strategy<Value = Stage> {
        let names = prop::collection::vec("[a-z]{1,8}", 0..3);
        let lines = prop::collection::vec("[ -~]{1,30}", 0..3);
        (
            "[ -~]{1,20}",
            names,
            "[a-z=]{0,12}",
            any::<bool>(),
            5u64..7200,
            lines,
        )
            .prop_map(
                |(name, machines, with_labels, in_turn, answers_within_seconds, then)| Stage {
                    name,
                    machines,
                    with_labels,
                    in_turn,
                    answers_within_seconds,
                    then,
                },
            )
    }

    proptest! {
        /// If this fails, a plan that was saved is another one when it is read, or does not fit what is published of it.
        #[test]
        fn what_is_written_is_read_again_and_fits_the_schema(
            name in "[ -~]{1,20}",
            stages in prop::collection::vec(stages(), 1..4),
            drill_networks in prop::collection::btree_map("[a-z]{1,8}", "[a-z]{1,8}", 0..3),
        ) {
            let document = Document { schema: SCHEMA.into(), name, pair: "strait".into(), from: "Quayside".into(), stages, drill_networks };
            let schema: Value = serde_json::from_str(SCHEMA_TEXT).unwrap();
            let text = write(&document).unwrap();
            fits(&schema, &serde_json::from_str(&text).unwrap(), "it").unwrap();
            prop_assert_eq!(read(&text), Ok(document));
        }
    }

    #[test]
    fn every_field_is_published() {
        let schema: Value = serde_json::from_str(SCHEMA_TEXT).unwrap();
        let full = Document {
            schema: SCHEMA.into(),
            drill_networks: [("a".into(), "b".into())].into(),
            stages: vec![Stage {
                machines: vec!["db".into()],
                with_labels: "env=prod".into(),
                in_turn: true,
                then: vec!["wait 2 min".into()],
                ..Stage::default()
            }],
            ..Document::default()
        };
        let written: Value = serde_json::from_str(&write(&full).unwrap()).unwrap();
        let keys = |v: &Value| {
            let mut all: Vec<String> = v.as_object().unwrap().keys().cloned().collect();
            all.sort();
            all
        };
        assert_eq!(keys(&schema["properties"]), keys(&written));
        let stage = &schema["properties"]["stages"]["items"]["properties"];
        assert_eq!(keys(stage), keys(&written["stages"][0]));
    }

    #[test]
    fn what_is_none_is_told_with_its_line() {
        for (text, words) in [
            ("", "can't be read"),
            ("{", "line 1"),
            ("{\n \"name\": 1}", "line 2"),
            (
                r#"{"$schema":"x","name":"a","pair":"p","from":"f","stages":[]}"#,
                "Its schema is “x”",
            ),
        ] {
            let said = read(text).unwrap_err();
            assert!(said.contains(words), "{text}: {said}");
        }
    }
}
