//! What all pages have in common.

pub(crate) mod assets;
pub(crate) mod attention;
pub(crate) mod climate;
pub(crate) mod consequences;
mod console;
pub(crate) mod fields;
pub(crate) mod find;
pub(crate) mod headers;
pub(crate) mod live;
pub(crate) mod media;
mod merge;
pub(crate) mod problem;
pub(crate) mod rounds;
pub(crate) mod saved;
mod screen;
mod seats;
pub(crate) mod server;
pub(crate) mod sheet;
pub(crate) mod shell;
pub(crate) mod viewer;
pub(crate) mod way;
mod window;
pub(crate) mod words;

pub(crate) use fields::{Fields, Query};
pub(crate) use problem::Problem;
pub(crate) use shell::{Page, page, part};
pub(crate) use viewer::Signed;
pub(crate) use window::Window;
pub(crate) use words::{Glyph, Px, Word, ago, glyph, host_state, machine_state, time};

use rocket::State;
use zastrugi_engine::Desk;

/// The desk as routes get it.
pub(crate) type AtDesk = State<Desk>;
