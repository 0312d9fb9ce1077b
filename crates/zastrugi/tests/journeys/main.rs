//! Whole processes and a real browser: killed at every boundary, and from bare hosts to a running machine.
#![expect(clippy::unwrap_used, reason = "tests fail loudly")]

mod agent_check;
mod beneath;
mod browser;
mod building;
mod demo;
mod drill;
mod first_day;
mod headroom;
mod joining;
mod keeper;
mod kept;
mod killed;
mod later;
mod logs;
mod many;
mod moving;
mod packed;
mod recovery;
mod road;
mod standing;
mod stored;
mod tabs;
mod taking;
mod world;
