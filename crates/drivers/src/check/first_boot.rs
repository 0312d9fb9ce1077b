//! What a guest of the suite is told at its first boot.

use base64::{Engine, prelude::BASE64_STANDARD};
use serde_json::Value;
use uuid::Uuid;
use zastrugi_core::first_boot::Told;
use zastrugi_formats::seed::{files, image};

/// A seed in base64, with a host name and a command that every guest has.
pub(super) fn seed(machine: Uuid) -> String {
    let told = Told {
        host_name: "agent-check".into(),
        commands: vec!["true".into()],
        ..Told::default()
    };
    let image = image(&files(&machine.to_string(), &[], &told, None));
    image.map_or_else(|_| String::new(), |i| BASE64_STANDARD.encode(i))
}

/// Whether it says so of this machine, and of something that was done.
pub(super) fn told(body: &Value, path: &str) -> bool {
    let said = &body["first_boot"];
    let instance = said["instance"].as_str().unwrap_or_default();
    let done = said["done"].as_array().is_some_and(|d| !d.is_empty());
    done && path.ends_with(instance) && !instance.is_empty()
}
