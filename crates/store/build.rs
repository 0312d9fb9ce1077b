//! `migrate!` does not notice a new migration file by itself.
fn main() {
    println!("cargo::rerun-if-changed=migrations");
}
