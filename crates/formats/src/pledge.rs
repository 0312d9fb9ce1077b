//! A pledge as a file: JSON with a published schema (`docs/pledge.schema.json`). Times are in minutes; sites go by their names, as
//! numbers are of one installation alone.

use serde::{Deserialize, Serialize};

/// The schema that a file names; its number grows when an older program can't read what is new.
pub const SCHEMA: &str = "https://zastrugi.example/pledge-1.schema.json";
/// The published schema.
pub const SCHEMA_TEXT: &str = include_str!("../../../docs/pledge.schema.json");

#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Document {
    #[serde(rename = "$schema")]
    pub schema: String,
    pub name: String,
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub note: String,
    /// A label expression; empty: it is given by hand.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub to: String,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub storage: Option<Storage>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub recovery_point: Option<RecoveryPoint>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub kept_for_minutes: Option<u64>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub copy_elsewhere: Option<CopyElsewhere>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub proven_every_minutes: Option<u64>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub back_within_minutes: Option<u64>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub restart_tier: Option<u8>,
}

#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Storage {
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub qualities: Vec<String>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub latency_us: Option<u32>,
    /// So many drives or copies may be lost.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub spare: Option<u8>,
}

#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct RecoveryPoint {
    pub every_minutes: u64,
    /// Whose points count: `any`, `snapshot` or `array`.
    pub by: String,
    #[serde(default)]
    pub quiet: bool,
}

#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct CopyElsewhere {
    pub age_minutes: u64,
    /// Empty: any other site.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub site: String,
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
    let read: Document = serde_json::from_str(text.trim())
        .map_err(|e| format!("It can't be read as a pledge, at line {}: {e}.", e.line()))?;
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
    use serde_json::Value;

    fn full() -> Document {
        Document {
            schema: SCHEMA.into(),
            name: "sailings".into(),
            note: "No ferry leaves without these.".into(),
            to: "env=prod and app=ticketing".into(),
            storage: Some(Storage {
                qualities: vec!["mirrored".into()],
                latency_us: Some(500),
                spare: Some(2),
            }),
            recovery_point: Some(RecoveryPoint {
                every_minutes: 240,
                by: "array".into(),
                quiet: false,
            }),
            kept_for_minutes: Some(2880),
            copy_elsewhere: Some(CopyElsewhere {
                age_minutes: 60,
                site: "Hilltop".into(),
            }),
            proven_every_minutes: Some(10_080),
            back_within_minutes: Some(30),
            restart_tier: Some(2),
        }
    }

    /// If this fails, a pledge that was saved is another one when it is read, or does not fit what is published of it.
    #[test]
    fn what_is_written_is_read_again_and_fits_the_schema() {
        let schema: Value = serde_json::from_str(SCHEMA_TEXT).unwrap();
        let least = Document {
            schema: SCHEMA.into(),
            name: "least".into(),
            ..Document::default()
        };
        for document in [full(), least] {
            let text = write(&document).unwrap();
            assert_eq!(read(&text), Ok(document));
            fits(&schema, &serde_json::from_str(&text).unwrap(), "it").unwrap();
        }
        let named: Vec<&String> = schema["properties"].as_object().unwrap().keys().collect();
        let written: Value = serde_json::from_str(&write(&full()).unwrap()).unwrap();
        let mut own: Vec<&String> = written.as_object().unwrap().keys().collect();
        own.sort();
        let mut sorted = named;
        sorted.sort();
        assert_eq!(sorted, own, "every field is published");
    }

    #[test]
    fn what_is_none_is_told_with_its_line() {
        for (text, words) in [
            ("", "can't be read"),
            ("{\"name\": \"x\"}", "$schema"),
            ("{\"$schema\": \"other\", \"name\": \"x\"}", "is read"),
            (
                "{\n\"$schema\": \"x\",\n\"name\": \"x\", \"nmae\": 1}",
                "line 3",
            ),
        ] {
            let said = read(text).unwrap_err();
            assert!(said.contains(words), "{text}: {said}");
        }
    }
}
