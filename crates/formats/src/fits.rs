//! Whether what is written fits the schema that is published for it.

use serde_json::{Value, json};

/// The part of JSON Schema (2020-12) that ours uses, by its own text.
pub(crate) fn fits(schema: &Value, value: &Value, at: &str) -> Result<(), String> {
    let kind = match value {
        Value::Null => "null",
        Value::Bool(_) => "boolean",
        Value::Number(_) => "integer",
        Value::String(_) => "string",
        Value::Array(_) => "array",
        Value::Object(_) => "object",
    };
    let allowed = match &schema["type"] {
        Value::Array(all) => all.clone(),
        one => vec![one.clone()],
    };
    if !schema["type"].is_null() && !allowed.contains(&json!(kind)) {
        return Err(format!("{at} is {kind}"));
    }
    if let Some(only) = schema.get("const").filter(|c| *c != value) {
        return Err(format!("{at} is not {only}"));
    }
    if let Some(some) = schema["enum"].as_array().filter(|all| !all.contains(value)) {
        return Err(format!("{at} is none of {some:?}"));
    }
    if let (Some(n), Some(least)) = (value.as_i64(), schema["minimum"].as_i64())
        && n < least
    {
        return Err(format!("{at} is below {least}"));
    }
    if let (Some(n), Some(most)) = (value.as_i64(), schema["maximum"].as_i64())
        && n > most
    {
        return Err(format!("{at} is above {most}"));
    }
    for (i, item) in value.as_array().into_iter().flatten().enumerate() {
        fits(&schema["items"], item, &format!("{at}[{i}]"))?;
    }
    if let Some(fields) = value.as_object() {
        for needed in schema["required"].as_array().into_iter().flatten() {
            let needed = needed.as_str().unwrap();
            if !fields.contains_key(needed) {
                return Err(format!("{at} has no {needed}"));
            }
        }
        for (name, field) in fields {
            let other = schema.get("additionalProperties").filter(|o| o.is_object());
            let known = schema["properties"].get(name).or(other);
            let known = known.ok_or_else(|| format!("{at} has {name}"))?;
            fits(known, field, &format!("{at}.{name}"))?;
        }
    }
    Ok(())
}
