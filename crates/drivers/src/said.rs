//! What devices say, read so that no word of theirs harms: texts are cut, and what can't be seen or stored leaves
//! (`core::text`), wherever they stand in an answer.

use serde::de::{DeserializeOwned, Error as _};
use serde_json::{Error, Value};
use zastrugi_core::{limits, text};

/// How deep an answer may go.
const DEPTH: usize = 64;

/// Reads an answer.
///
/// # Errors
/// When it is no JSON, is deeper than 64, or isn't what `T` needs.
pub(crate) fn read<T: DeserializeOwned>(bytes: &[u8]) -> Result<T, Error> {
    if plain(bytes)? {
        return serde_json::from_slice(bytes);
    }
    let mut value: Value = serde_json::from_slice(bytes)?;
    clean(&mut value);
    serde_json::from_value(value)
}

/// Whether there is nothing to clean: no escapes, only ASCII, no long texts. Most answers are so, and are read once.
fn plain(bytes: &[u8]) -> Result<bool, Error> {
    let (mut depth, mut inside, mut length) = (0usize, false, 0usize);
    let mut plain = true;
    let mut escaped = false;
    for byte in bytes {
        if inside {
            length += 1;
            match byte {
                _ if escaped => escaped = false,
                b'\\' => {
                    escaped = true;
                    plain = false;
                }
                b'"' => {
                    inside = false;
                    plain &= length <= limits::DEVICE_WORDS.most;
                }
                byte => plain &= byte.is_ascii(),
            }
            continue;
        }
        match byte {
            b'"' => (inside, length) = (true, 0),
            b'{' | b'[' => depth += 1,
            b'}' | b']' => depth = depth.saturating_sub(1),
            _ => {}
        }
        if depth > DEPTH {
            return Err(Error::custom("it is too deep"));
        }
    }
    Ok(plain)
}

fn clean(value: &mut Value) {
    match value {
        Value::String(said) => *said = text::said(said),
        Value::Array(all) => all.iter_mut().for_each(clean),
        Value::Object(all) => {
            let odd = |key: &&String| text::said(key) != **key;
            let odd: Vec<String> = all.keys().filter(odd).cloned().collect();
            for key in odd {
                if let Some(value) = all.remove(&key) {
                    all.insert(text::said(&key), value);
                }
            }
            all.values_mut().for_each(clean);
        }
        Value::Null | Value::Bool(_) | Value::Number(_) => {}
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use serde_json::json;

    #[test]
    fn what_cannot_be_stored_or_seen_leaves_wherever_it_stands() {
        let said = br#"{"na\u0000me": "pay\u202ellor\u0000", "list": ["\u001b[2J", "two\nlines"], "n": 7}"#;
        let read: Value = read(said).unwrap();
        assert_eq!(
            read,
            json!({"name": "payllor", "list": ["[2J", "two\nlines"], "n": 7})
        );
        let long = json!({"name": "x".repeat(200_000)}).to_string();
        let read: Value = super::read(long.as_bytes()).unwrap();
        assert_eq!(read["name"].as_str().unwrap().len(), 2000);
    }

    #[test]
    fn an_answer_without_end_or_bottom_is_refused() {
        for bad in [
            "[".repeat(100_000),
            "{\"a\":".repeat(100),
            "[1,".into(),
            "".into(),
        ] {
            assert!(read::<Value>(bad.as_bytes()).is_err(), "{bad:.20}");
        }
    }

    fn json_values() -> impl Strategy<Value = Value> {
        let leaf = prop_oneof![
            any::<i64>().prop_map(Value::from),
            any::<String>().prop_map(Value::from)
        ];
        leaf.prop_recursive(4, 32, 4, |inner| {
            prop_oneof![
                prop::collection::vec(inner.clone(), 0..4).prop_map(Value::from),
                prop::collection::hash_map(any::<String>(), inner, 0..4)
                    .prop_map(|m| Value::Object(m.into_iter().collect())),
            ]
        })
    }
    fn harmless(value: &Value) -> bool {
        match value {
            Value::String(said) => text::said(said) == *said,
            Value::Array(all) => all.iter().all(harmless),
            Value::Object(all) => all.iter().all(|(k, v)| text::said(k) == *k && harmless(v)),
            _ => true,
        }
    }

    proptest! {
        #[test]
        fn whatever_a_device_says_no_text_harms(value in json_values()) {
            let read: Value = read(value.to_string().as_bytes()).unwrap();
            prop_assert!(harmless(&read), "{read}");
        }

        #[test]
        fn no_bytes_end_the_reader(bytes in prop::collection::vec(any::<u8>(), 0..400)) {
            let _ = read::<Value>(&bytes);
        }
    }
}
