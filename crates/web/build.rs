//! Embeds what `assets/build.mjs` made, so that the binary carries its own fonts, styles and scripts.
use std::{collections::BTreeMap, env, fmt::Write, fs, path::Path};

fn main() {
    let dist = Path::new(&env::var("CARGO_MANIFEST_DIR").unwrap_or_default()).join("assets/dist");
    println!("cargo::rerun-if-changed={}", dist.display());
    let Ok(manifest) = fs::read_to_string(dist.join("manifest.json")) else {
        println!(
            "cargo::error=The pages' styles and scripts are not built yet: run `cargo xtask assets` first."
        );
        return;
    };
    let files: BTreeMap<String, String> = serde_json::from_str(&manifest).unwrap_or_default();
    let mut table = String::from("pub(crate) static FILES: &[File] = &[\n");
    for (name, hashed) in &files {
        let path = dist.join(hashed);
        let packed = dist.join(format!("{hashed}.br"));
        let packed = if packed.exists() {
            format!("Some(include_bytes!({packed:?}))")
        } else {
            "None".to_owned()
        };
        let _ = writeln!(
            table,
            "File {{ name: {name:?}, hashed: {hashed:?}, bytes: include_bytes!({path:?}), packed: {packed} }},"
        );
    }
    table.push_str("];\n");
    let out = Path::new(&env::var("OUT_DIR").unwrap_or_default()).join("files.rs");
    if let Err(error) = fs::write(out, table) {
        println!("cargo::error={error}");
    }
}
