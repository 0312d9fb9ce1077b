//! The host agent's protocol, version 1: JSON over HTTPS. It is described in `docs/agent-api.json`; anybody who writes an
//! agent can try it with [`crate::check`].

mod client;
mod measured;
mod wire;

pub(crate) use client::{
    Agent, Blocks, Card, Cards, Claimed, Delivered, FollowedDisk, Following, Installed, NewShared,
    Placing, Seen, SnapshotWish, Stamp, Told, WireBlocks, boot, greet, greet_installed, record,
    segment,
};
pub use client::{KeptScreen, Sample};
pub(crate) use measured::{WireCopy, WireMove};
pub(crate) use wire::snapshots::WireTaken;
pub(crate) use wire::{Changed, Machine, WireAsOf, WireCopying, limited};

/// Layers as an agent sent them.
pub(crate) fn wire_layers(said: serde_json::Value) -> Result<zastrugi_core::layers::Chain, String> {
    let read: wire::snapshots::WireLayers =
        serde_json::from_value(said).map_err(|e| e.to_string())?;
    read.read()
}

pub(crate) fn read_path(path: wire::WirePath) -> zastrugi_core::estate::Path {
    path.read()
}
