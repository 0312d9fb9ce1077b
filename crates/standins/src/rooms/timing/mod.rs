//! Time sources: NTP (RFC 5905, sections 7.3 and 14) over UDP, server mode only, and how they go wrong.

use crate::{
    rooms::hosts::host::Host,
    world::{State, World},
};
use serde::{Deserialize, Serialize};
use std::{
    io,
    sync::Arc,
    time::{SystemTime, UNIX_EPOCH},
};
use tokio::{net::UdpSocket, task::JoinSet};

#[derive(Debug, Clone, Serialize, Deserialize)]
pub(crate) struct TimeSource {
    pub(crate) name: String,
    /// `ip:port`
    pub(crate) address: String,
    /// How far from the right time it is.
    #[serde(default)]
    pub(crate) offset_ms: i64,
    #[serde(default)]
    pub(crate) silent: bool,
}

/// A packet without extensions, in bytes.
const PACKET: usize = 48;
/// Seconds from 1900, where NTP begins, to 1970.
const EPOCH: u64 = 2_208_988_800;
/// What a host is off that nobody tells the time.
pub(crate) const ADRIFT_MS: i64 = 740;

pub(crate) async fn serve(tasks: &mut JoinSet<()>, world: &Arc<World>) -> io::Result<()> {
    let all: Vec<TimeSource> = world.lock().sources.values().cloned().collect();
    for source in all {
        let socket = UdpSocket::bind(&source.address).await?;
        let world = world.clone();
        tasks.spawn(async move {
            let mut asked = [0; 512];
            while let Ok((n, from)) = socket.recv_from(&mut asked).await {
                let state = world.lock().sources.get(&source.name).cloned();
                let Some(state) = state.filter(|s| !s.silent && n >= PACKET) else {
                    continue;
                };
                if let Some(said) = answer(&asked[..PACKET], stamp(state.offset_ms)) {
                    // Who does not hear it asks again.
                    drop(socket.send_to(&said, from).await);
                }
            }
        });
    }
    Ok(())
}

/// Now and so many milliseconds, as an NTP timestamp: seconds since 1900 in the upper half, their fraction in the lower.
fn stamp(offset_ms: i64) -> u64 {
    let now = SystemTime::now()
        .duration_since(UNIX_EPOCH)
        .unwrap_or_default();
    let ms = i64::try_from(now.as_millis()).unwrap_or(i64::MAX);
    let ms = u64::try_from(ms.saturating_add(offset_ms)).unwrap_or(0);
    let fraction = ((ms % 1000) << 32) / 1000;
    ((ms / 1000 + EPOCH) << 32) | fraction
}

/// What a server of stratum 2 says to a client; none to anybody else.
fn answer(asked: &[u8], now: u64) -> Option<[u8; PACKET]> {
    let (version, mode) = ((asked[0] >> 3) & 7, asked[0] & 7);
    if mode != 3 || !(1..=4).contains(&version) {
        return None;
    }
    let mut said = [0; PACKET];
    said[0] = (version << 3) | 4;
    // Stratum, the client's poll, a precision of 2⁻²⁰ s.
    (said[1], said[2], said[3]) = (2, asked[2], 0xec);
    said[12..16].copy_from_slice(b"TIDE");
    let now = now.to_be_bytes();
    said[16..24].copy_from_slice(&now);
    // What it sent comes back as the origin: the client knows its own packet by it.
    said[24..32].copy_from_slice(&asked[40..48]);
    said[32..40].copy_from_slice(&now);
    said[40..48].copy_from_slice(&now);
    Some(said)
}

impl State {
    /// How far a host's clock is off: as far as the first of its sources that answers, else as far as it drifted.
    pub(crate) fn clock_of(&self, host: &Host) -> i64 {
        let told = host.time.iter().find_map(|at| {
            let mut all = self.sources.values();
            all.find(|s| s.address == *at && !s.silent)
        });
        told.map_or(host.clock_offset_ms, |source| source.offset_ms)
    }
}

impl World {
    /// Sets a time source wrong by so much, or right.
    pub fn time_off(&self, name: &str, offset_ms: i64) {
        self.at_source(name, |s| s.offset_ms = offset_ms);
    }
    /// A time source that answers nobody.
    pub fn time_silent(&self, name: &str, silent: bool) {
        self.at_source(name, |s| s.silent = silent);
    }
    fn at_source(&self, name: &str, change: impl FnOnce(&mut TimeSource)) {
        let mut state = self.lock();
        if let Some(source) = state.sources.get_mut(name) {
            change(source);
        }
        self.save_source(&state, name);
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn only_clients_are_answered_and_they_know_their_own_packet() {
        let mut asked = [0; PACKET];
        assert_eq!(answer(&asked, 7), None);
        asked[0] = (4 << 3) | 3;
        asked[40..48].copy_from_slice(b"my stamp");
        let said = answer(&asked, 7).unwrap();
        assert_eq!(said[0] & 7, 4, "a server's word");
        assert_eq!(&said[24..32], b"my stamp");
        assert_eq!(said[40..48], 7u64.to_be_bytes());
    }
}
