//! Pages through Rocket's local client: guards, forms, words.

mod forms;
mod house;
mod matrix;
