//! What a guest shows and takes: its terminal and its screen.

pub(crate) mod calls;
pub(crate) mod screen;
pub(crate) mod screens;
pub(crate) mod terminal;
