//! Pages through Rocket's local client: guards, forms, words.
#![expect(clippy::unwrap_used, reason = "tests fail loudly")]

mod beneath;
mod building;
mod door;
mod failures;
mod flows;
mod forms;
mod front;
mod headroom;
mod hostile;
mod house;
mod inside;
mod markup;
mod matrix;
mod pages;
mod pairs;
mod plans;
mod proofs;
mod protect;
mod settings;
mod stores;
mod two;
