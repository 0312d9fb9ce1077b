//! The host agent's protocol, version 1: JSON over HTTPS. It is described in `docs/agent-api.json`; anybody who writes an
//! agent can try it with [`crate::check`].

mod client;
mod measured;
mod wire;

pub(crate) use client::{
    Agent, Cards, Claimed, Installed, Seen, Stamp, Told, boot, greet, greet_installed, segment,
};
pub use client::{KeptScreen, Sample};
pub(crate) use measured::{WireCopy, WireMove};
pub(crate) use wire::{Machine, WireAsOf, limited};

pub(crate) fn read_path(path: wire::WirePath) -> zastrugi_core::estate::Path {
    path.read()
}
